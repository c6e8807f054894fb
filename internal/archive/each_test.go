package archive

import (
	"bytes"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// counted counts what is read of an archive.
type counted struct {
	*bytes.Reader
	bytes int64
}

func (c *counted) ReadAt(b []byte, at int64) (int, error) {
	n, err := c.Reader.ReadAt(b, at)
	c.bytes += int64(n)
	return n, err
}

// TestEachReadsAFrameOnce: small entries share a frame, which is not unpacked for each.
func TestEachReadsAFrameOnce(t *testing.T) {
	var file bytes.Buffer
	w, err := NewWriter(t.Context(), &file, Options{})
	require.NoError(t, err)
	for i := range 3000 {
		content := bytes.Repeat(fmt.Appendf(nil, "%d ", i*i), 300)
		if i%3 == 0 { // into the other lane
			content = fmt.Appendf([]byte("\xff\xd8\xff"), "%x", i)
		}
		require.NoError(t, w.AddBytes(Entry{Name: fmt.Sprintf("files/%d.jpg", i), Type: TypeFile, Mode: 0o644}, content))
	}
	_, err = w.Close()
	require.NoError(t, err)
	r := &counted{Reader: bytes.NewReader(file.Bytes())}
	a, err := Open(r, int64(file.Len()))
	require.NoError(t, err)
	opened, seen := r.bytes, 0
	require.NoError(t, a.Each(func(*Entry) bool { return true }, func(e Entry, r io.Reader) error {
		content, err := io.ReadAll(r)
		assert.EqualValues(t, e.Size, len(content))
		seen++
		return err
	}))
	assert.Equal(t, 3000, seen)
	assert.Less(t, r.bytes-opened, 2*int64(file.Len()))
}
