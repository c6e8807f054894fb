package serialized

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
)

// ErrAmbiguous says that a broken value can be read in more than one way.
var ErrAmbiguous = errors.New("its lengths can be mended in more than one way")

// maxTries bounds the search for readings of a broken value.
const maxTries = 100_000

// Repair mends the lengths of strings in a value: where a string does not end
// where its length says, it may end at any quote and semicolon behind which the
// value goes on. It returns the mended value if exactly one such reading is
// consistent to the end. The error is ErrAmbiguous if there are several, or a
// *SyntaxError if there is none.
func Repair(v []byte) ([]byte, error) {
	m := mender{parser: parser{v: v}}
	if err := m.run(); err != nil {
		return nil, err
	}
	var out []byte
	copied := 0
	for _, e := range m.found {
		out = append(out, v[copied:e.start]...)
		out = fmt.Appendf(out, "s:%d:", e.end-e.text)
		copied = e.text - 1
	}
	return append(out, v[copied:]...), nil
}

// edit is a string whose length is wrong: s:n:"text";
type edit struct{ start, text, end int }

// choice is a string with a wrong length and where else it may end.
type choice struct {
	edit
	stack []level
	edits int
}

type mender struct {
	parser
	edits   []edit
	choices []choice
	found   []edit
	tries   int
}

// run goes through all readings until a second one is found.
func (m *mender) run() error {
	var first error
	readings := 0
	for {
		err := m.read()
		switch {
		case err == nil:
			if readings++; readings > 1 {
				return ErrAmbiguous
			}
			m.found = slices.Clone(m.edits)
		case first == nil:
			first = err
		}
		if m.tries++; m.tries > maxTries {
			return ErrAmbiguous
		}
		if !m.back() {
			break
		}
	}
	if readings == 0 {
		return first
	}
	return nil
}

// back returns to the last string that may end somewhere else.
func (m *mender) back() bool {
	for len(m.choices) > 0 {
		c := &m.choices[len(m.choices)-1]
		m.stack, m.edits = slices.Clone(c.stack), m.edits[:c.edits]
		if m.end(c) {
			return true
		}
		m.choices = m.choices[:len(m.choices)-1]
	}
	return false
}

// end lets the string of a choice end at the next place that is possible, and
// puts the reader behind it.
func (m *mender) end(c *choice) bool {
	for c.end++; c.end < len(m.v); c.end++ {
		n := bytes.Index(m.v[c.end:], []byte(`";`))
		if n < 0 {
			return false
		}
		c.end += n
		if m.goesOn(c.end + 2) {
			m.i = c.end + 2
			m.edits = append(m.edits, c.edit)
			return true
		}
	}
	return false
}

// goesOn reports whether a value can go on at byte i.
func (m *mender) goesOn(i int) bool {
	if i >= len(m.v) {
		return len(m.stack) == 0
	}
	if len(m.stack) == 0 {
		return bytes.IndexByte([]byte(" \t\r\n"), m.v[i]) >= 0
	}
	if m.stack[len(m.stack)-1].left == 0 {
		return m.v[i] == '}'
	}
	return m.v[i] == 'N' || i+1 < len(m.v) && m.v[i+1] == ':' && bytes.IndexByte([]byte("sibdaOrRCES"), m.v[i]) >= 0
}

// read goes on from where the reader stands to the end of the value.
func (m *mender) read() error {
	if m.i == 0 {
		if err := m.member(false, false); err != nil {
			return err
		}
	}
	for len(m.stack) > 0 {
		top := &m.stack[len(m.stack)-1]
		if top.left == 0 {
			if err := m.expect('}'); err != nil {
				return err
			}
			m.stack = m.stack[:len(m.stack)-1]
			continue
		}
		top.left--
		key := top.left%2 == 1
		if err := m.member(key, key && top.object); err != nil {
			return err
		}
	}
	if len(bytes.TrimLeft(m.v[m.i:], " \t\r\n")) > 0 {
		return m.fail("more bytes after the value")
	}
	return nil
}

// member reads a value as the parser does, but for strings that do not end
// where they should.
func (m *mender) member(key, property bool) error {
	if !bytes.HasPrefix(m.v[min(m.i, len(m.v)):], []byte("s:")) {
		return m.value(key, property)
	}
	start := m.i
	err := m.value(key, property)
	if err == nil {
		return nil
	}
	digits := start + 2
	for digits < len(m.v) && m.v[digits] >= '0' && m.v[digits] <= '9' {
		digits++
	}
	if _, bad := strconv.Atoi(string(m.v[start+2 : digits])); bad != nil || !bytes.HasPrefix(m.v[digits:], []byte(`:"`)) {
		return err
	}
	text := digits + 2
	c := choice{edit: edit{start, text, text - 1}, stack: slices.Clone(m.stack), edits: len(m.edits)}
	if !m.end(&c) {
		return err
	}
	m.choices = append(m.choices, c)
	return nil
}
