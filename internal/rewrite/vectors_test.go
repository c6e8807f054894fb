package rewrite

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// vector is one case of testdata/vectors; docs/rewriting.md explains the files.
type vector struct {
	reason        string
	opts          Options
	before, after []byte
	leftovers     []string
	swaps         bool // a second run swaps back
	text, bytes   bool // the value may be of a column of text, of bytes
}

func readVector(t *testing.T, file string) (v vector) {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	head, rest, ok := bytes.Cut(text, []byte("-- before\n"))
	require.True(t, ok, "%s has no part before", file)
	before, after, changed := bytes.Cut(rest, []byte("\n-- after\n"))
	v.before = bytes.TrimSuffix(before, []byte("\n"))
	if v.after = v.before; changed {
		v.before, v.after = before, bytes.TrimSuffix(after, []byte("\n"))
	}
	v.text, v.bytes = true, true
	olds, news := map[string]bool{}, map[string]bool{}
	for line := range strings.Lines(string(head)) {
		key, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), ": ")
		sep := " "
		if key == "text" {
			sep = "|"
		}
		old, to, _ := strings.Cut(value, sep)
		switch key {
		case "reason":
			v.reason = value
		case "map":
			v.opts.Mappings = append(v.opts.Mappings, Mapping{addr(t, old), addr(t, to)})
		case "root":
			v.opts.Roots = append(v.opts.Roots, RootMapping{old, to})
		case "text":
			v.opts.Texts = append(v.opts.Texts, TextMapping{old, to})
		case "option":
			switch value {
			case "bare-hosts":
				v.opts.BareHosts = true
			case "whole-words":
				v.opts.WholeWords = true
			case "repair":
				v.opts.Repair = true
			case "compressed":
				v.opts.Compressed = true
			case "bytes":
				v.text = false
			case "text":
				v.bytes = false
			default:
				t.Fatalf("%s: unknown option %q", file, value)
			}
		case "leftover":
			v.leftovers = append(v.leftovers, value)
		default:
			t.Fatalf("%s: unknown line %q", file, line)
		}
		olds[old], news[to] = true, true
	}
	for to := range news {
		v.swaps = v.swaps || olds[to]
	}
	return v
}

// TestVectors runs the cases that specify the rewriting: the result, byte for
// byte, what is left over, and that a second run changes nothing.
func TestVectors(t *testing.T) {
	files, err := filepath.Glob("testdata/vectors/*.txt")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 200)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txt"), func(t *testing.T) {
			v := readVector(t, file)
			require.NotEmpty(t, v.reason)
			rw, err := New(v.opts)
			require.NoError(t, err)
			if v.text {
				v.check(t, rw.ValueIn)
			}
			if v.bytes {
				v.check(t, rw.BytesIn)
			}
		})
	}
}

// check has a value rewritten, once and again.
func (v *vector) check(t *testing.T, run func(buf, v []byte, t *Tally) ([]byte, bool)) {
	var tally Tally
	in := bytes.Clone(v.before)
	out, changed := run(nil, in, &tally)
	assert.Equal(t, string(v.after), string(out), v.reason)
	assert.Equal(t, !bytes.Equal(v.before, v.after), changed)
	assert.Equal(t, v.before, in, "the input is left alone")
	if !changed && len(in) > 0 {
		assert.Same(t, &in[0], &out[0], "the same bytes come back")
	}
	for r, n := range tally.Leftovers {
		if want := slices.Contains(v.leftovers, Reason(r).String()); v.leftovers != nil {
			assert.Equal(t, want, n > 0, "%v: %d", Reason(r), n)
		}
	}
	if v.swaps {
		return
	}
	var second Tally
	again, changed := run(nil, out, &second)
	assert.False(t, changed, "a second run made %s", again)
}
