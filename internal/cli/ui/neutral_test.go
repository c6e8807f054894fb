package ui

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/muesli/termenv"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/charmbracelet/lipgloss"
)

func TestNeutral(t *testing.T) {
	for in, want := range map[string]string{
		"Grüße 🚢 日本": "Grüße 🚢 日本", "": "", "a\nb\tc\r": `a\nb\tc\r`, "\x1b]0;evil\x07": `\x1b]0;evil\x07`, "\x1b[2J": `\x1b[2J`, "a\x00b\x7f": `a\x00b\x7f`,
		"\u009b31m": `\x9b31m`, "\xff\xfe ok": `\xff\xfe ok`, "gnp.\u202eexe": `gnp.\u202eexe`, "a\u200bb\ufeffc\u2066d": `a\u200bb\ufeffc\u2066d`, "\U000e0041": `\U000e0041`, "\ufffd": "\ufffd", "\u2028": `\u2028`,
	} {
		assert.Equal(t, want, Neutral(in))
	}
}

// FuzzNeutral: nothing that acts is left, and what does not is as it was.
func FuzzNeutral(f *testing.F) {
	f.Add("a\x1b[31m\u202e")
	f.Add("\xff\xc2\x9b")
	f.Fuzz(func(t *testing.T, s string) {
		out := Neutral(s)
		require.True(t, utf8.ValidString(out))
		require.False(t, strings.ContainsFunc(out, acts), "%q", out)
		require.Equal(t, out, Neutral(out))
	})
}

// TestPrinterSendsItsOwnStylesAlone: whatever texts hold, what reaches a terminal are the
// printer's own sequences.
func TestPrinterSendsItsOwnStylesAlone(t *testing.T) {
	var b bytes.Buffer
	p := New(&b)
	r := lipgloss.NewRenderer(&b)
	r.SetColorProfile(termenv.ANSI)
	p.warn, p.strong, p.dim, p.accent = r.NewStyle().Foreground(lipgloss.Color("3")), r.NewStyle().Bold(true), r.NewStyle().Faint(true), r.NewStyle().Foreground(lipgloss.Color("6"))
	const evil = "x\x1b]8;;http://evil\x07\n  ✓ all is well\u202e"
	p.Title(evil, evil)
	p.Section(evil)
	p.Field(evil, evil, p.Dim(evil))
	p.Line("  %s %d %v", evil, 3, errors.New(evil))
	p.Warn("%s %s", evil, p.Strong(evil))
	p.Table([][]string{{evil, p.Dim(evil)}, {"b", "c"}}, 1)
	p.Next(evil)
	p.Line("%s", marks.open+"1b5b324a"+marks.close) // a mark that was not given out
	out := b.String()
	assert.NotContains(t, out, "\x1b]")
	assert.NotContains(t, out, "\x1b[2J")
	assert.NotContains(t, out, "\u202e")
	assert.NotContains(t, out, "\n  ✓ all")
	assert.Contains(t, out, "\x1b[33m!\x1b[0m", "its own styles are there")
	assert.Equal(t, 13, strings.Count(out, `x\x1b]8;;http://evil\x07\n  ✓ all is well\u202e`))
}

func TestJSONMeansTheSame(t *testing.T) {
	var b bytes.Buffer
	in := map[string]string{"a": "x\u009b31m\u202e\U000e0041 ü \x1b"}
	require.NoError(t, json.NewEncoder(JSON(&b)).Encode(in))
	for _, r := range b.String() {
		assert.False(t, acts(r) && r != '\n', "%q", r)
	}
	var out map[string]string
	require.NoError(t, json.Unmarshal(b.Bytes(), &out))
	assert.Equal(t, in, out)
}
