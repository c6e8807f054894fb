package ui

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/charmbracelet/lipgloss"
)

// Text from archives, sites, servers and files must not act on a terminal: move its
// cursor, change its title, colour or keys, hide what stands beside it, or turn its
// direction. What could is shown, not sent.

// acts reports whether a character does something to a terminal, or to the text around
// it, without being seen: controls (ECMA-48, C0 and C1), directions (Unicode, UAX #9),
// characters of no width, tags, and other line ends.
func acts(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r <= 0x9f, r == 0xad, r == 0x61c, r == 0x180e, r == 0xfeff, r == 0x2028, r == 0x2029:
		return true
	case r >= 0x200b && r <= 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2060 && r <= 0x206f, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe007f:
		return true
	}
	return false
}

// Neutral gives a text as one line in which nothing acts: what would is written as \n, \x1b,
// \u202e, and bytes that are no UTF-8 as \xff.
func Neutral(s string) string {
	clean := true
	for i, r := range s {
		if acts(r) || r == utf8.RuneError && !strings.HasPrefix(s[i:], "\ufffd") {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case acts(r) && r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		case acts(r) && r < 0x10000:
			fmt.Fprintf(&b, `\u%04x`, r)
		case acts(r):
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			b.WriteString(s[i : i+n])
		}
		i += n
	}
	return b.String()
}

// Styles of our own are put into text as marks that nobody outside can guess, and become
// what a terminal takes only when the text is written.

var marks = struct {
	sync.Mutex
	open, close string
	sequences   map[string]string // mark → sequence
}{open: "\ue000" + nonce(), close: "\ue001", sequences: map[string]string{}}

func nonce() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

// paint puts a style around text.
func paint(style lipgloss.Style, text string) string {
	before, after, ok := strings.Cut(style.Render("x"), "x")
	if !ok || before == "" {
		return text
	}
	return mark(before) + text + mark(after)
}

func mark(sequence string) string {
	m := marks.open + hex.EncodeToString([]byte(sequence)) + marks.close
	marks.Lock()
	defer marks.Unlock()
	marks.sequences[m] = sequence
	return m
}

// each gives the pieces of a text: marks, by their sequences, and what lies between.
func each(s string, piece func(text, sequence string)) {
	for {
		i := strings.Index(s, marks.open)
		if i < 0 {
			break
		}
		n := strings.Index(s[i:], marks.close)
		if n < 0 {
			break
		}
		m := s[i : i+n+len(marks.close)]
		marks.Lock()
		sequence, known := marks.sequences[m]
		marks.Unlock()
		if !known {
			break
		}
		piece(s[:i], sequence)
		s = s[i+len(m):]
	}
	piece(s, "")
}

// finished gives a text as it is written: neutral but for the styles of our own.
func finished(s string) string {
	var b strings.Builder
	each(s, func(text, sequence string) { b.WriteString(Neutral(text) + sequence) })
	return b.String()
}

// width is how many columns a text takes when it is written.
func width(s string) (n int) {
	each(s, func(text, _ string) { n += lipgloss.Width(Neutral(text)) })
	return n
}

// Fprintf writes a line whose format is ours and whose arguments may come from anywhere.
func Fprintf(w io.Writer, format string, args ...any) error {
	safe := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case string:
			safe[i] = finished(v)
		case error:
			safe[i] = finished(v.Error())
		case fmt.Stringer:
			safe[i] = finished(v.String())
		default:
			safe[i] = a
		}
	}
	_, err := fmt.Fprintf(w, format, safe...)
	return err
}

// JSON gives a writer for JSON text, in which characters that act on a terminal are
// written as escapes, which mean the same.
func JSON(w io.Writer) io.Writer { return jsonWriter{w} }

type jsonWriter struct{ w io.Writer }

func (j jsonWriter) Write(b []byte) (int, error) {
	var out strings.Builder
	last := 0
	for i, r := range string(b) {
		if r < 0x7f || !acts(r) {
			continue
		}
		out.Write(b[last:i])
		if r >= 0x10000 {
			hi, lo := (r-0x10000)>>10+0xd800, (r-0x10000)&0x3ff+0xdc00
			fmt.Fprintf(&out, `\u%04x\u%04x`, hi, lo)
		} else {
			fmt.Fprintf(&out, `\u%04x`, r)
		}
		last = i + utf8.RuneLen(r)
	}
	if last == 0 {
		return j.w.Write(b)
	}
	out.Write(b[last:])
	if _, err := io.WriteString(j.w, out.String()); err != nil {
		return 0, err
	}
	return len(b), nil
}
