// Package ui draws what Hovix tells people: titles, fields, tables, what to do
// next, progress. It decides about colour and width by the writer it gets.
package ui

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/charmbracelet/lipgloss"
	"github.com/dustin/go-humanize"
	"golang.org/x/term"
)

// Printer writes people's text to one writer.
type Printer struct {
	w     io.Writer
	width int

	strong, dim, good, warn, bad, accent lipgloss.Style
}

// New returns a Printer for w, with colour if w is a terminal and NO_COLOR is
// not set.
func New(w io.Writer) *Printer {
	r := lipgloss.NewRenderer(w)
	p := &Printer{w: w, width: 100,
		strong: r.NewStyle().Bold(true),
		dim:    r.NewStyle().Faint(true),
		// The terminal's own colours: they suit its background, which to ask for
		// would swallow what people type.
		good:   r.NewStyle().Foreground(lipgloss.Color("2")),
		warn:   r.NewStyle().Foreground(lipgloss.Color("3")),
		bad:    r.NewStyle().Foreground(lipgloss.Color("1")),
		accent: r.NewStyle().Foreground(lipgloss.Color("6")),
	}
	if f, ok := w.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n > 40 {
			p.width = min(n, 120)
		}
	}
	return p
}

// IsTerminal reports whether w is a terminal.
func IsTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Line writes a line as it is.
func (p *Printer) Line(format string, a ...any) { _ = Fprintf(p.w, format+"\n", a...) }

// Title writes a heading with something beside it.
func (p *Printer) Title(what, beside string) {
	line := paint(p.strong, what)
	if beside != "" {
		line += "  " + paint(p.accent, beside)
	}
	_ = Fprintf(p.w, "\n%s\n\n", line)
}

// Section writes the heading of a block.
func (p *Printer) Section(name string) { Fprintf(p.w, "\n  %s\n", paint(p.strong, name)) }

// fieldWidth is the room that names of fields get.
const fieldWidth = 13

// Field writes a name and its value; a value of several lines is aligned.
func (p *Printer) Field(name string, lines ...string) {
	for i, l := range lines {
		label := ""
		if i == 0 {
			label = name
		}
		_ = Fprintf(p.w, "  %s%s%s\n", paint(p.dim, label), strings.Repeat(" ", max(1, fieldWidth-width(label))), l)
	}
}

// Good marks a line as a success.
func (p *Printer) Good(format string, a ...any) {
	_ = Fprintf(p.w, "  %s %s\n", paint(p.good, "✓"), fmt.Sprintf(format, a...))
}

// Warn marks a line as one to look at.
func (p *Printer) Warn(format string, a ...any) {
	_ = Fprintf(p.w, "  %s %s\n", paint(p.warn, "!"), fmt.Sprintf(format, a...))
}

// Bad marks a line as what stands in the way.
func (p *Printer) Bad(format string, a ...any) {
	_ = Fprintf(p.w, "  %s %s\n", paint(p.bad, "✗"), fmt.Sprintf(format, a...))
}

// Mark gives the mark of a line to look at.
func (p *Printer) Mark() string { return paint(p.warn, "!") }

// Dim gives text in the background.
func (p *Printer) Dim(s string) string { return paint(p.dim, s) }

// Strong gives text in the foreground.
func (p *Printer) Strong(s string) string { return paint(p.strong, s) }

// Next ends a result with the commands that come next.
func (p *Printer) Next(commands ...string) {
	_ = Fprintf(p.w, "\n  %s\n", paint(p.dim, "Next"))
	for _, c := range commands {
		_ = Fprintf(p.w, "    %s\n", paint(p.accent, c))
	}
	fmt.Fprintln(p.w)
}

// Table writes rows in columns, indented. Columns whose name is in right are
// set flush right.
func (p *Printer) Table(rows [][]string, right ...int) {
	var widths []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], width(c))
		}
	}
	flush := map[int]bool{}
	for _, i := range right {
		flush[i] = true
	}
	for _, r := range rows {
		var b strings.Builder
		for i, c := range r {
			pad := strings.Repeat(" ", widths[i]-width(c))
			if flush[i] {
				b.WriteString(pad + c)
			} else if i < len(r)-1 {
				b.WriteString(c + pad)
			} else {
				b.WriteString(c)
			}
			b.WriteString("  ")
		}
		_ = Fprintf(p.w, "    %s\n", strings.TrimRight(b.String(), " "))
	}
}

// Short cuts a long text in its middle to n characters.
func Short(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	head := (n - 1) / 3
	return string(r[:head]) + "…" + string(r[len(r)-(n-1-head):])
}

// Bytes gives a size for people.
func Bytes(n int64) string { return humanize.Bytes(uint64(max(0, n))) }

// Count gives a number with its noun: "1 file", "12,345 files".
func Count(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(n) + " " + many
}
