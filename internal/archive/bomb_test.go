package archive

import (
	"bytes"
	"context"
	"crypto/sha256"
	"runtime"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestIndexThatUnpacksToFarMore: an index of 8 MB that claims to be one of 256 GB is
// refused by its own size, soon and without room for it, though all its sums are right.
func TestIndexThatUnpacksToFarMore(t *testing.T) {
	var out bytes.Buffer
	w, err := NewWriter(t.Context(), &out, Options{})
	require.NoError(t, err)
	require.NoError(t, w.AddBytes(Entry{Name: "a", Type: TypeFile, Mode: 0o644, ModTime: time.Unix(1e9, 0)}, []byte("x")))
	_, err = w.Close()
	require.NoError(t, err)
	sound := out.Bytes()
	tr, err := parseTrailer(sound[len(sound)-trailerSize:])
	require.NoError(t, err)

	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBestCompression), zstd.WithWindowSize(8<<20))
	require.NoError(t, err)
	piece := enc.EncodeAll(make([]byte, 256<<20), nil)
	var index []byte
	for total := 0; total < 256<<30; total += 256 << 20 {
		index = append(index, piece...)
	}
	t.Logf("an index of %d bytes", len(index))
	tr.index = uint64(len(index))
	bomb := append(append([]byte{}, sound[:tr.stream]...), appendSkippable(nil, uint32(len(index))+trailerSize)...)
	bomb = append(bomb, index...)
	h := sha256.New()
	h.Write(index)
	bomb = append(bomb, tr.encode(h)...)

	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	a, err := Open(bytes.NewReader(bomb), int64(len(bomb)))
	require.NoError(t, err)
	assert.Error(t, a.Entries(func(Entry) error { return nil }))
	_, err = Scan(t.Context(), bytes.NewReader(bomb), ScanOptions{}, func(context.Context, Piece) error { return nil })
	require.ErrorIs(t, err, ErrRefused)
	assert.ErrorContains(t, err, "100 times its size")
	runtime.ReadMemStats(&after)
	assert.Less(t, after.Sys-before.Sys, uint64(200<<20), "room")
}
