package restore

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"hovix/internal/archive"
	"hovix/internal/seal"
)

// damaged gives how often a test damages an archive: HOVIX_DAMAGES, or a few times.
func damaged(usual int) int {
	if n, err := strconv.Atoi(os.Getenv("HOVIX_DAMAGES")); err == nil {
		return n
	}
	return usual
}

// TestEveryDamageIsFoundBeforeTheSwitch changes single bytes of an archive and cuts it,
// plain and encrypted: each is found, read as a stream and, where the index can tell,
// at any place; and no restore of such an archive changes its target.
func TestEveryDamageIsFoundBeforeTheSwitch(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	text := make([]byte, 200<<10)
	for i := range text {
		text[i] = byte('a' + rng.IntN(20))
	}
	small := pack(t, sound())
	large := pack(t, insert(insert(sound(), 7, member{name: "files/text", content: string(text)}), 8, member{name: "files/photo.jpg", content: string(text[:50<<10])}))
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	keys := &seal.Keys{Recipients: []age.Recipient{id.Recipient()}, Identities: []age.Identity{id}}
	sealed := func(plain []byte) []byte {
		var b bytes.Buffer
		w, err := keys.Writer(&b)
		require.NoError(t, err)
		_, err = w.Write(plain)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	for name, c := range map[string]struct {
		content []byte
		sealed  bool
		flips   int
	}{
		"small": {small, false, damaged(1500)}, "large": {large, false, damaged(1500) / 10},
		"small, encrypted": {sealed(small), true, damaged(1500)}, "large, encrypted": {sealed(large), true, damaged(1500) / 10},
	} {
		t.Run(name, func(t *testing.T) {
			open := func(b []byte) (io.Reader, error) {
				if !c.sealed {
					return bytes.NewReader(b), nil
				}
				return keys.Reader(bufio.NewReader(bytes.NewReader(b)))
			}
			read := func(b []byte) error {
				in, err := open(b)
				if err == nil {
					_, err = archive.Scan(t.Context(), in, archive.ScanOptions{}, func(context.Context, archive.Piece) error { return nil })
				}
				return err
			}
			require.NoError(t, read(c.content))
			parent := t.TempDir()
			target := filepath.Join(parent, "live")
			require.NoError(t, os.Mkdir(target, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(target, "index.html"), []byte("live"), 0o644))
			before := contents(t, parent)
			try := func(what string, b []byte, restore bool) {
				require.Error(t, read(b), what)
				if !restore {
					return
				}
				in, err := open(b)
				if err == nil {
					_, err = Run(t.Context(), in, 0, options(t, target))
				}
				require.Error(t, err, what)
				require.Equal(t, before, contents(t, parent), what)
			}
			for i := range c.flips {
				at := rng.IntN(len(c.content))
				if i < len(c.content) && len(c.content) <= c.flips { // each byte of a small one
					at = i
				}
				b := bytes.Clone(c.content)
				b[at] ^= byte(1 + rng.IntN(255))
				try(fmt.Sprintf("byte %d changed", at), b, i%25 == 0)
			}
			for i := range max(c.flips/10, 20) {
				at := rng.IntN(len(c.content))
				try(fmt.Sprintf("cut at %d", at), c.content[:at], i%10 == 0)
			}
		})
	}
}
