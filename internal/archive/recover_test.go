package archive

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestRecover tears an archive at many places and goes on with what is whole: the
// result is an archive with all entries, each once.
func TestRecover(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	type file struct {
		name string
		data []byte
	}
	var files []file
	for i := range 44 {
		data := make([]byte, rng.IntN(300<<10))
		if i%20 == 7 {
			data = make([]byte, 5<<20) // of several frames
		}
		name := fmt.Sprintf("files/%02d.txt", i)
		if i%3 == 0 {
			for j := range data {
				data[j] = byte(rng.Uint32())
			}
			name = fmt.Sprintf("files/%02d.jpg", i) // in the other lane
		}
		files = append(files, file{name, data})
	}
	add := func(w *Writer, skip map[string]bool) {
		for _, f := range files {
			if !skip[f.name] {
				require.NoError(t, w.AddBytes(Entry{Name: f.name, Type: TypeFile, Mode: 0o644}, f.data))
			}
		}
	}
	var whole bytes.Buffer
	w, err := NewWriter(t.Context(), &whole, Options{})
	require.NoError(t, err)
	add(w, nil)
	_, err = w.Close()
	require.NoError(t, err)
	recovered := 0
	for at := 0; at <= whole.Len(); at += 1 + whole.Len()/14 {
		torn := append([]byte(nil), whole.Bytes()[:at]...)
		if at%2 == 1 && at > 100 {
			clear(torn[at-50:]) // as after a power loss
		}
		have := map[string]bool{}
		p, err := Recover(t.Context(), bytes.NewReader(torn), func(e *Entry, _ []byte) error { have[e.Name] = true; return nil })
		require.NoError(t, err)
		out := bytes.NewBuffer(append([]byte(nil), torn[:p.Size()]...))
		if p.Size() == 0 {
			clear(have)
		}
		// What lies behind the last whole frame was visited, and is not kept.
		kept := map[string]bool{}
		_, err = Recover(t.Context(), bytes.NewReader(out.Bytes()), func(e *Entry, _ []byte) error { kept[e.Name] = true; return nil })
		require.NoError(t, err)
		assert.Equal(t, kept, have, "only what is kept is visited")
		recovered += len(kept)
		w, err := Resume(t.Context(), out, Options{}, p)
		require.NoError(t, err)
		add(w, kept)
		totals, err := w.Close()
		require.NoError(t, err)
		assert.EqualValues(t, len(files), totals.Entries)
		assert.EqualValues(t, out.Len(), totals.Compressed)
		got := map[string]bool{}
		_, err = Scan(t.Context(), bytes.NewReader(out.Bytes()), ScanOptions{Entry: func(e *Entry) error { got[e.Name] = true; return nil }}, func(context.Context, Piece) error { return nil })
		require.NoError(t, err, "torn at %d", at)
		assert.Len(t, got, len(files))
	}
	assert.Greater(t, recovered, 7*len(files)/2, "much was not written again")
	// An entry that is not to be kept ends it before its frame.
	p, err := Recover(t.Context(), bytes.NewReader(whole.Bytes()), func(e *Entry, _ []byte) error {
		if e.Name == files[40].name {
			return ErrStop
		}
		return nil
	})
	require.NoError(t, err)
	_, err = Recover(t.Context(), io.LimitReader(bytes.NewReader(whole.Bytes()), p.Size()), func(e *Entry, _ []byte) error {
		assert.NotEqual(t, files[40].name, e.Name)
		return nil
	})
	require.NoError(t, err)
}
