package ui

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPrinter(t *testing.T) {
	var b bytes.Buffer
	p := New(&b)
	p.Title("Title", "beside")
	p.Field("Name", "one", "two")
	p.Section("Section")
	p.Table([][]string{{"a", "10 kB"}, {"größer", "2 kB"}}, 1)
	p.Good("all %s", "well")
	p.Warn("look")
	p.Next("hovix survey x")
	assert.Equal(t, "\nTitle  beside\n\n  Name         one\n               two\n\n  Section\n    a       10 kB\n    größer   2 kB\n  ✓ all well\n  ! look\n\n  Next\n    hovix survey x\n\n", b.String())
	assert.NotContains(t, b.String(), "\x1b", "no colour without a terminal")
	assert.False(t, IsTerminal(&b))
	f, err := os.CreateTemp(t.TempDir(), "x")
	require.NoError(t, err)
	assert.False(t, IsTerminal(f))
}

func TestBytesAndShort(t *testing.T) {
	assert.Equal(t, "0 B", Bytes(-1))
	assert.Equal(t, "1.5 kB", Bytes(1500))
	assert.Equal(t, "ü…üüü", Short(strings.Repeat("ü", 20), 5))
}

// TestProgressElsewhere: without a terminal there is a line now and then, and
// none in a short run.
func TestProgressElsewhere(t *testing.T) {
	var b bytes.Buffer
	p := NewProgress(&b)
	p.Phase("Packing", 1000)
	p.Add(500)
	p.Close()
	assert.Empty(t, b.String())
	p = NewProgress(&b)
	p.Phase("Packing", 1000)
	p.said = time.Now().Add(-time.Minute)
	p.Add(500)
	p.Add(100)
	assert.Equal(t, "Packing: 500 B of 1.0 kB\n", b.String())
	p.said = time.Now().Add(-time.Minute)
	p.Phase("Streaming", 0)
	p.Add(7)
	assert.Contains(t, b.String(), "Streaming: 7 B\n")
	p.Pause()
	p.Close()
}
