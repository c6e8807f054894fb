package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// member is an entry with its content.
type member struct {
	Entry
	data []byte
}

func noise(n int) []byte {
	b := make([]byte, n)
	_, _ = rand.NewChaCha8([32]byte{byte(n)}).Read(b)
	return b
}

// sampleMembers covers every kind of entry: small and empty, exactly a block,
// larger than a frame, compressible and not, names in any bytes.
func sampleMembers() []member {
	when := time.Date(2024, 2, 29, 12, 30, 1, 123456789, time.UTC)
	text := bytes.Repeat([]byte("the ferry leaves at ten\n"), 400_000) // 9.6 MB
	ms := []member{
		{Entry{Name: "hovix/manifest.json", Type: TypeFile, Mode: 0o644, ModTime: when}, []byte(`{"format":1}`)},
		{Entry{Name: "files", Type: TypeDir, Mode: 0o755, ModTime: when}, nil},
		{Entry{Name: "files/empty", Type: TypeFile, Mode: 0o600, ModTime: when}, nil},
		{Entry{Name: "files/block", Type: TypeFile, Mode: 0o644, ModTime: when}, bytes.Repeat([]byte("x"), 512)},
		{Entry{Name: "files/large.txt", Type: TypeFile, Mode: 0o644, ModTime: when}, text},
		{Entry{Name: "files/large.jpg", Type: TypeFile, Mode: 0o644, ModTime: when}, noise(2*FrameSize + 17)},
		{Entry{Name: "files/exact", Type: TypeFile, Mode: 0o644, ModTime: when}, noise(FrameSize)},
		{Entry{Name: "files/link", Type: TypeSymlink, Mode: 0o777, ModTime: when, Link: "large.txt"}, nil},
		{Entry{Name: "files/caf\xe9 \xff\x01\n.txt", Type: TypeFile, Mode: 0o755, ModTime: when}, []byte("latin1 name")},
		{Entry{Name: "files/" + strings.Repeat("ü", 120) + ".png", Type: TypeFile, Mode: 0o644, ModTime: when}, noise(70_000)},
	}
	for i := range 50 {
		ms = append(ms, member{Entry{Name: fmt.Sprintf("files/many/%03d.txt", i), Type: TypeFile, Mode: 0o644, ModTime: when}, text[:i*997]})
	}
	return ms
}

func writeArchive(t testing.TB, ms []member) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := NewWriter(t.Context(), &out, Options{})
	require.NoError(t, err)
	for _, m := range ms {
		require.NoError(t, w.AddBytes(m.Entry, m.data), m.Name)
	}
	totals, err := w.Close()
	require.NoError(t, err)
	require.EqualValues(t, len(ms), totals.Entries)
	require.EqualValues(t, out.Len(), totals.Compressed)
	return out.Bytes()
}

// collect scans an archive through a plain pipe and puts its entries together.
func collect(ctx context.Context, r io.Reader) (map[string]member, error) {
	var mu sync.Mutex
	got := map[string]member{}
	_, err := Scan(ctx, struct{ io.Reader }{r}, ScanOptions{Workers: 2}, func(_ context.Context, p Piece) error {
		mu.Lock()
		defer mu.Unlock()
		m, ok := got[p.Entry.Name]
		if !ok {
			m = member{data: make([]byte, p.Entry.Size)}
		}
		copy(m.data[p.Offset:], p.Data)
		if p.Last { // before, other goroutines still set its hash
			m.Entry = *p.Entry
		}
		got[p.Entry.Name] = m
		return nil
	})
	return got, err
}

func TestRoundTrip(t *testing.T) {
	ms := sampleMembers()
	packed := writeArchive(t, ms)
	got, err := collect(t.Context(), bytes.NewReader(packed))
	require.NoError(t, err)
	require.Len(t, got, len(ms))
	a, err := Open(bytes.NewReader(packed), int64(len(packed)))
	require.NoError(t, err)
	for _, m := range ms {
		g := got[m.Name]
		assert.True(t, bytes.Equal(m.data, g.data), m.Name)
		assert.Equal(t, [4]any{m.Type, m.Mode, m.ModTime, m.Link}, [4]any{g.Type, g.Mode, g.ModTime, g.Link}, m.Name)
		assert.Equal(t, sha256.Sum256(m.data), sha256.Sum256(g.data), m.Name)
		direct, err := a.ReadFile(m.Name, 1<<30)
		require.NoError(t, err, m.Name)
		assert.True(t, bytes.Equal(m.data, direct), "random access to %q", m.Name)
	}
	require.NoError(t, a.Entries(func(e Entry) error {
		assert.Equal(t, sha256.Sum256(got[e.Name].data), e.SHA256, "hash in the index of %q", e.Name)
		return nil
	}))
	_, _, err = a.Open("files/none")
	assert.ErrorIs(t, err, ErrNoEntry)
}

// TestStandardTools is the oracle: tar and zstd, who know nothing of Hovix,
// see the same files.
func TestStandardTools(t *testing.T) {
	dir := t.TempDir()
	ms := sampleMembers()
	file := filepath.Join(dir, "site.tar.zst")
	require.NoError(t, os.WriteFile(file, writeArchive(t, ms), 0o600))
	cmd := exec.Command("tar", "--zstd", "-xf", file, "-C", dir)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "tar: %s", out)
	require.Empty(t, string(out), "tar warns of nothing")
	for _, m := range ms {
		path := filepath.Join(dir, m.Name)
		info, err := os.Lstat(path)
		require.NoError(t, err)
		switch m.Type {
		case TypeFile:
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(m.data, data), m.Name)
			assert.Equal(t, os.FileMode(m.Mode), info.Mode(), m.Name)
			assert.True(t, m.ModTime.Equal(info.ModTime()), m.Name)
		case TypeSymlink:
			link, err := os.Readlink(path)
			require.NoError(t, err)
			assert.Equal(t, m.Link, link)
		}
	}
}

// smallArchive is small enough to try every byte of it, and yet has several
// frames, one of them raw.
func smallArchive(t testing.TB) []byte {
	return writeArchive(t, []member{
		{Entry{Name: "hovix/manifest.json", Type: TypeFile, Mode: 0o644}, []byte(`{"format":1}`)},
		{Entry{Name: "files/a.txt", Type: TypeFile, Mode: 0o644}, bytes.Repeat([]byte("water "), 300)},
		{Entry{Name: "files/b.png", Type: TypeFile, Mode: 0o644}, noise(700)},
	})
}

func TestEveryFlippedByteIsFound(t *testing.T) {
	good := smallArchive(t)
	_, err := collect(t.Context(), bytes.NewReader(good))
	require.NoError(t, err)
	for at := range good {
		mask := []byte{1, 0x80, 0xFF, 0x10}[at%4]
		bad := bytes.Clone(good)
		bad[at] ^= mask
		_, err := collect(t.Context(), bytes.NewReader(bad))
		require.Error(t, err, "byte %d xor %x", at, mask)
	}
}

func TestEveryMissingOrExtraByteIsFound(t *testing.T) {
	good := smallArchive(t)
	for at := range good {
		_, err := collect(t.Context(), bytes.NewReader(good[:at]))
		require.Error(t, err, "cut after %d bytes", at)
		if at > 8 {
			require.True(t, errors.Is(err, ErrTruncated), "cut after %d bytes: %v", at, err)
		}
		_, err = Open(bytes.NewReader(good[:at]), int64(at))
		require.Error(t, err, "opening %d bytes", at)
		without := append(bytes.Clone(good[:at]), good[at+1:]...)
		_, err = collect(t.Context(), bytes.NewReader(without))
		require.Error(t, err, "without byte %d", at)
		with := append(append(bytes.Clone(good[:at]), 0), good[at:]...)
		_, err = collect(t.Context(), bytes.NewReader(with))
		require.Error(t, err, "with a byte more at %d", at)
	}
	_, err := collect(t.Context(), bytes.NewReader(append(bytes.Clone(good), 0)))
	require.ErrorIs(t, err, ErrCorrupt, "a byte after the end")
}

func TestLargeEntriesSurviveDamageChecks(t *testing.T) {
	good := writeArchive(t, sampleMembers())
	rnd := rand.New(rand.NewPCG(1, 2))
	for range 60 {
		bad := bytes.Clone(good)
		at := rnd.IntN(len(bad))
		bad[at] ^= byte(1 + rnd.IntN(255))
		_, err := collect(t.Context(), bytes.NewReader(bad))
		require.Error(t, err, "byte %d", at)
	}
}

func TestWhatIsNoArchive(t *testing.T) {
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	same, err := zstd.NewWriter(nil, zstd.WithSingleSegment(true), zstd.WithEncoderCRC(true))
	require.NoError(t, err)
	for name, c := range map[string]struct{ in, want string }{
		"empty":          {"", "an empty file"},
		"web page":       {"\n<!DOCTYPE html><html><body>Sign in</body></html>", "a web page"},
		"json error":     {`{"error":"expired"}`, "a JSON document"},
		"dump":           {"-- dump of a database\nCREATE TABLE x (y int);", "an SQL dump"},
		"other zstd":     {string(enc.EncodeAll([]byte("CREATE TABLE x (y int);"), nil)), "Zstandard data, but without a Hovix archive in it"},
		"zstd like ours": {string(same.EncodeAll([]byte("CREATE TABLE x (y int);"), nil)), "an SQL dump, compressed with Zstandard"},
		"something else": {"\x00\x01\x02garbage", "not a Hovix archive"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := collect(t.Context(), strings.NewReader(c.in))
			require.ErrorIs(t, err, ErrNotArchive)
			assert.ErrorContains(t, err, c.want)
			_, err = Open(strings.NewReader(c.in), int64(len(c.in)))
			require.ErrorIs(t, err, ErrNotArchive)
		})
	}
}

// TestRefusedEntries builds archives whose tar stream holds what no site needs.
func TestRefusedEntries(t *testing.T) {
	for name, h := range map[string]tar.Header{
		"absolute":  {Name: "/etc/passwd", Typeflag: tar.TypeReg, Mode: 0o644},
		"upwards":   {Name: "files/../../x", Typeflag: tar.TypeReg, Mode: 0o644},
		"hard link": {Name: "files/x", Typeflag: tar.TypeLink, Linkname: "files/y", Mode: 0o644},
		"device":    {Name: "files/sda", Typeflag: tar.TypeBlock, Mode: 0o644},
		"fifo":      {Name: "files/pipe", Typeflag: tar.TypeFifo, Mode: 0o644},
		"setuid":    {Name: "files/su", Typeflag: tar.TypeReg, Mode: 0o4755},
		"unclean":   {Name: "files/./x", Typeflag: tar.TypeReg, Mode: 0o644},
	} {
		t.Run(name, func(t *testing.T) {
			var out, raw bytes.Buffer
			w, err := NewWriter(t.Context(), &out, Options{})
			require.NoError(t, err)
			require.NoError(t, tar.NewWriter(&raw).WriteHeader(&h))
			f := w.newFrame()
			f.content = append(f.content, raw.Bytes()...)
			require.NoError(t, w.submit(f))
			_, err = w.Close()
			require.NoError(t, err)
			_, err = collect(t.Context(), &out)
			require.ErrorIs(t, err, ErrRefused)
		})
	}
}

func TestShortInputIsFilledAndSaid(t *testing.T) {
	var out bytes.Buffer
	w, err := NewWriter(t.Context(), &out, Options{})
	require.NoError(t, err)
	short, err := w.Add(Entry{Name: "files/log", Type: TypeFile, Size: 100, Mode: 0o644}, strings.NewReader("only this"))
	require.NoError(t, err)
	assert.EqualValues(t, 91, short)
	_, err = w.Close()
	require.NoError(t, err)
	got, err := collect(t.Context(), &out)
	require.NoError(t, err)
	assert.Equal(t, append([]byte("only this"), make([]byte, 91)...), got["files/log"].data)
}

func TestHandlerErrorAndCancelEndTheScan(t *testing.T) {
	packed := writeArchive(t, sampleMembers())
	boom := errors.New("disk full")
	_, err := Scan(t.Context(), bytes.NewReader(packed), ScanOptions{}, func(context.Context, Piece) error { return boom })
	require.ErrorIs(t, err, boom)
	ctx, cancel := context.WithCancel(t.Context())
	_, err = Scan(ctx, bytes.NewReader(packed), ScanOptions{}, func(context.Context, Piece) error { cancel(); return nil })
	require.ErrorIs(t, err, context.Canceled)
}

func TestWriteErrorIsReturned(t *testing.T) {
	w, err := NewWriter(t.Context(), failingWriter{}, Options{})
	require.NoError(t, err)
	for i := 0; err == nil && i < 100; i++ {
		err = w.AddBytes(Entry{Name: fmt.Sprintf("files/%d", i), Type: TypeFile}, noise(FrameSize/2))
	}
	_, closeErr := w.Close()
	require.ErrorContains(t, closeErr, "no space left")
}

type failingWriter struct{}

func (failingWriter) Write([]byte) (int, error) { return 0, errors.New("no space left on device") }

func FuzzScan(f *testing.F) {
	f.Add(smallArchive(f))
	f.Add([]byte("<html>"))
	f.Add([]byte("\x28\xb5\x2f\xfd\x24\x00"))
	f.Fuzz(func(t *testing.T, in []byte) {
		_, err := collect(t.Context(), bytes.NewReader(in))
		if a, openErr := Open(bytes.NewReader(in), int64(len(in))); openErr == nil && err == nil {
			n := int64(0)
			require.NoError(t, a.Entries(func(Entry) error { n++; return nil }))
			require.Equal(t, a.Totals().Entries, n)
		}
	})
}

func benchmarkWrite(b *testing.B, data []byte, ext string) {
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		w, err := NewWriter(b.Context(), io.Discard, Options{})
		require.NoError(b, err)
		for i := 0; i < len(data); i += 128 << 10 {
			require.NoError(b, w.AddBytes(Entry{Name: fmt.Sprintf("files/%d%s", i, ext), Type: TypeFile}, data[i:min(i+128<<10, len(data))]))
		}
		_, err = w.Close()
		require.NoError(b, err)
	}
}

func BenchmarkWriteText(b *testing.B) {
	var text bytes.Buffer
	rnd := rand.New(rand.NewPCG(3, 4))
	for text.Len() < 32<<20 {
		fmt.Fprintf(&text, "INSERT INTO `page` VALUES (%d,'%x','the ferry leaves at %d');\n", rnd.IntN(1e6), rnd.Uint64(), rnd.IntN(24))
	}
	benchmarkWrite(b, text.Bytes(), ".sql")
}

func BenchmarkWriteIncompressible(b *testing.B) { benchmarkWrite(b, noise(64<<20), ".jpg") }

func BenchmarkScan(b *testing.B) {
	packed := writeArchive(b, sampleMembers())
	b.ReportAllocs()
	var size int64
	for b.Loop() {
		s, err := Scan(b.Context(), bytes.NewReader(packed), ScanOptions{}, nothing)
		require.NoError(b, err)
		size = s.Content
	}
	b.SetBytes(size)
}

// nothing handles pieces by ignoring them.
func nothing(context.Context, Piece) error { return nil }
