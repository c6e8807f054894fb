// Package inflate reads compressed streams by what they begin with.
package inflate

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// maxWindow bounds the memory that a Zstandard stream may ask for, in bytes.
const maxWindow = 128 << 20

// Reader gives what r holds: plain, or compressed with gzip (RFC 1952),
// Zstandard (RFC 8878) or bzip2. size is that of the buffer that can be peeked
// into, in bytes.
func Reader(r io.Reader, size int) (*bufio.Reader, error) {
	raw := bufio.NewReaderSize(r, size)
	kind, err := Compressed(raw)
	if err != nil {
		return nil, err
	}
	var in io.Reader
	switch kind {
	case "gzip":
		in, err = gzip.NewReader(raw)
	case "zstd":
		in, err = zstd.NewReader(raw, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxWindow(maxWindow))
	case "bzip2":
		in = bzip2.NewReader(raw)
	default:
		return raw, nil
	}
	if err != nil {
		return nil, fmt.Errorf("uncompress: %w", err)
	}
	return bufio.NewReaderSize(in, size), nil
}

// Compressed names the compression of what r holds: gzip, zstd, bzip2; "" for
// anything else.
func Compressed(r *bufio.Reader) (string, error) {
	head, err := r.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	for _, k := range []struct{ name, magic string }{{"gzip", "\x1f\x8b"}, {"zstd", "\x28\xb5\x2f\xfd"}, {"bzip2", "BZh"}} {
		if bytes.HasPrefix(head, []byte(k.magic)) {
			return k.name, nil
		}
	}
	return "", nil
}
