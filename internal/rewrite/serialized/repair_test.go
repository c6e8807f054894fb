package serialized_test

import (
	"bytes"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/rewrite/serialized"
)

func TestRepair(t *testing.T) {
	for in, want := range map[string]string{
		`s:5:"longer";`:                               `s:6:"longer";`,
		`a:1:{i:0;s:3:"longer";}`:                     `a:1:{i:0;s:6:"longer";}`,
		`a:2:{s:1:"key";s:9:"x";i:0;N;}`:              `a:2:{s:3:"key";s:1:"x";i:0;N;}`,
		`a:1:{i:0;a:1:{i:0;s:1:"a "quote"; in";}}`:    `a:1:{i:0;a:1:{i:0;s:13:"a "quote"; in";}}`,
		"O:1:\"C\":1:{s:4:\"\x00*\x00a\";s:2:\"b\";}": "O:1:\"C\":1:{s:4:\"\x00*\x00a\";s:1:\"b\";}",
		`a:1:{i:0;s:4:"ab";i:1;s:1:"c";}`:             `a:1:{i:0;s:14:"ab";i:1;s:1:"c";}`, // one member: all of it is one string
		`a:1:{i:0;s:12:"sound";s:3:"";}`:              `a:1:{i:0;s:12:"sound";s:3:"";}`,   // sound: nothing to mend
	} {
		out, err := serialized.Repair([]byte(in))
		require.NoError(t, err, in)
		assert.Equal(t, want, string(out))
		require.NoError(t, serialized.Valid(out))
	}
	for in, ambiguous := range map[string]bool{
		`a:2:{i:0;s:1:"ab";i:1;s:1:"cd";i:2;s:1:"e";}`: true, // the first or the second holds the rest
		`a:1:{i:0;s:99:"x`:                           false,
		`a:2:{i:0;s:7:"a";i:1;s:7:"b";i:1;s:7:"c";}`: true, // either string may hold the middle
		`x`: false,
	} {
		_, err := serialized.Repair([]byte(in))
		require.Error(t, err, in)
		assert.Equal(t, ambiguous, errors.Is(err, serialized.ErrAmbiguous), "%s: %v", in, err)
	}
}

// TestRepairEnds: hostile input ends in bounded time.
func TestRepairEnds(t *testing.T) {
	for _, part := range []string{`s:9:"a";`, `s:9:"a";s:1:"b";`, `";`, `a:1:{`} {
		v := append([]byte(`a:100000:{`), bytes.Repeat([]byte(part), 20_000)...)
		_, err := serialized.Repair(v)
		require.Error(t, err, part)
	}
}

func FuzzRepair(f *testing.F) {
	f.Add([]byte(`a:1:{i:0;s:3:"longer";}`))
	f.Add([]byte(`a:2:{i:0;s:7:"a";i:1;s:7:"b";i:1;s:7:"c";}`))
	f.Fuzz(func(t *testing.T, v []byte) {
		if out, err := serialized.Repair(v); err == nil {
			require.NoError(t, serialized.Valid(out))
		}
	})
}
