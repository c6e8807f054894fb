package archive

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheFormatDocument reads an archive with nothing but what
// docs/archive-format.md says, and with none of the package's own reader.
func TestTheFormatDocument(t *testing.T) {
	ms := sampleMembers()
	packed := writeArchive(t, ms)
	le := binary.LittleEndian
	end := packed[len(packed)-112:]
	require.Equal(t, "HOVIXIDX", string(end[:8]))
	assert.EqualValues(t, 1, le.Uint16(end[8:]))
	assert.Zero(t, le.Uint64(end[8:16])>>16, "flags and volumes")
	stream, indexSize := le.Uint64(end[16:]), le.Uint64(end[24:])
	assert.EqualValues(t, len(ms), le.Uint64(end[32:]))
	head := packed[stream : stream+8]
	assert.EqualValues(t, 0x184D2A5E, le.Uint32(head))
	assert.EqualValues(t, indexSize+112, le.Uint32(head[4:]))
	compressed := packed[stream+8 : stream+8+indexSize]
	sum := sha256.Sum256(append(bytes.Clone(compressed), end[:80]...))
	assert.Equal(t, sum[:], end[80:])
	d, err := zstd.NewReader(nil)
	require.NoError(t, err)
	defer d.Close()
	records, err := d.DecodeAll(compressed, nil)
	require.NoError(t, err)
	sum = sha256.Sum256(records)
	assert.Equal(t, sum[:], end[48:80])

	whole, err := d.DecodeAll(packed[:stream], nil)
	require.NoError(t, err)
	assert.EqualValues(t, len(whole), le.Uint64(end[40:]))
	r := bytes.NewReader(records)
	number := func() int {
		n, err := binary.ReadUvarint(r)
		require.NoError(t, err)
		return int(n)
	}
	text := func() string {
		b := make([]byte, number())
		_, err := io.ReadFull(r, b)
		require.NoError(t, err)
		return string(b)
	}
	var starts []int // of frames in the tar stream
	at, inFile, entries := 0, 0, 0
	for r.Len() > 0 {
		kind, _ := r.ReadByte()
		if kind == 'F' {
			size, content := number(), number()
			starts = append(starts, at)
			at, inFile = at+content, inFile+size
			assert.LessOrEqual(t, content, 4<<20)
			_, err := r.Seek(4, io.SeekCurrent)
			require.NoError(t, err)
			continue
		}
		require.Equal(t, byte('E'), kind)
		entries++
		typeFlag, _ := r.ReadByte()
		name := text()
		back, offset, data, size := number(), number(), number(), number()
		number() // mode
		_, err := binary.ReadVarint(r)
		require.NoError(t, err)
		number() // nanoseconds
		text()   // link
		var want [32]byte
		_, err = io.ReadFull(r, want[:])
		require.NoError(t, err)
		frame := starts[len(starts)-1-back]
		h, err := tar.NewReader(bytes.NewReader(whole[frame+offset:])).Next()
		require.NoError(t, err, name)
		assert.Equal(t, name, strings.TrimSuffix(h.Name, "/"))
		assert.Equal(t, typeFlag, h.Typeflag)
		assert.Equal(t, want, sha256.Sum256(whole[frame+data:frame+data+size]), name)
	}
	assert.EqualValues(t, stream, inFile)
	assert.Equal(t, len(ms), entries)
	assert.Equal(t, make([]byte, 1024), whole[len(whole)-1024:])
}

// TestZstdReadsIt: the reference program accepts every frame, raw ones too.
func TestZstdReadsIt(t *testing.T) {
	packed := writeArchive(t, sampleMembers())
	cmd := exec.Command("zstd", "-q", "-d", "-c")
	cmd.Stdin = bytes.NewReader(packed)
	var out bytes.Buffer
	cmd.Stdout = &out
	if _, err := exec.LookPath("zstd"); err != nil {
		t.Skip("LEFT OUT: the program zstd is not installed")
	}
	require.NoError(t, cmd.Run())
	n := 0
	tr := tar.NewReader(&out)
	for {
		if _, err := tr.Next(); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
		n++
	}
	assert.Equal(t, len(sampleMembers()), n)
}

// TestNobodyElsesFrames: frames that Hovix does not write are refused before
// they are decoded.
func TestNobodyElsesFrames(t *testing.T) {
	content := bytes.Repeat([]byte("x"), 3000)
	for name, opts := range map[string][]zstd.EOption{
		"without checksum": {zstd.WithEncoderCRC(false), zstd.WithSingleSegment(true)},
		"with a window":    {zstd.WithEncoderCRC(true), zstd.WithSingleSegment(false), zstd.WithWindowSize(1 << 10)},
	} {
		enc, err := zstd.NewWriter(nil, opts...)
		require.NoError(t, err)
		_, err = collect(t.Context(), bytes.NewReader(enc.EncodeAll(content, nil)))
		assert.ErrorIs(t, err, ErrNotArchive, name)
	}
	bomb := binary.LittleEndian.AppendUint32(nil, zstdMagic)
	bomb = append(bomb, 3<<6|1<<5|1<<2)
	bomb = binary.LittleEndian.AppendUint64(bomb, 1<<40)
	_, err := collect(t.Context(), bytes.NewReader(append(bomb, make([]byte, 100)...)))
	assert.ErrorContains(t, err, "claims 1099511627776 bytes")
}

func TestVolumesAndNewerFormatsAreToldApart(t *testing.T) {
	good := smallArchive(t)
	for offset, want := range map[int]string{8: "format version 2", 12: "it is volume 2 of 0"} {
		bad := bytes.Clone(good)
		bad[len(bad)-112+offset] = 2
		_, err := Open(bytes.NewReader(bad), int64(len(bad)))
		require.ErrorIs(t, err, ErrNotArchive)
		assert.ErrorContains(t, err, want)
	}
}

func TestFlushKeepsTheOrder(t *testing.T) {
	var out bytes.Buffer
	w, err := NewWriter(t.Context(), &out, Options{Workers: 1})
	require.NoError(t, err)
	var want []string
	for i := range 6 {
		name := fmt.Sprintf("files/%d%s", i, []string{".txt", ".jpg"}[i%2])
		want = append(want, name)
		require.NoError(t, w.AddBytes(Entry{Name: name, Type: TypeFile}, noise(100)))
		require.NoError(t, w.Flush())
	}
	require.Error(t, w.AddBytes(Entry{Name: "../x", Type: TypeFile}, nil))
	_, err = w.Close()
	require.NoError(t, err)
	var got []string
	_, err = Scan(t.Context(), &out, ScanOptions{Entry: func(e *Entry) error { got = append(got, e.Name); return nil }}, nothing)
	require.NoError(t, err)
	assert.Equal(t, want, got)
}
