package dump

import (
	"bytes"
	"regexp"
	"slices"
	"strings"

	"hovix/internal/database/sqltext"
)

// lookahead is how much of a dump is kept in view for names and numbers.
const lookahead = 256

// token passes over one token. It reports whether there is more.
func (s *scanner) token() (bool, error) {
	if len(s.buf)-s.i < lookahead {
		if err := s.need(lookahead); err != nil || s.i >= len(s.buf) {
			return false, err
		}
	}
	if s.begin {
		return true, s.statement()
	}
	if s.item {
		if done, err := s.columnName(); done || err != nil {
			return true, err
		}
	}
	b, tell := s.buf, &telling[s.d]
	i := s.i
	for ; i < len(b); i++ {
		if c := b[i]; !tell[c] || (c == '0' || c|0x20 == 'r') && (i > 0 && isWord(b[i-1]) || !s.special(b[i:])) {
			continue
		}
		break
	}
	s.i = i
	if i >= len(b) {
		return true, nil
	}
	if len(b)-i < lookahead {
		if err := s.need(lookahead); err != nil {
			return false, err
		}
	}
	return true, s.mark()
}

// special reports whether text begins like a hexadecimal number or the call in
// which SQLite's dump program writes texts with line breaks.
func (s *scanner) special(text []byte) bool {
	if text[0] == '0' {
		return len(text) > 2 && text[1]|0x20 == 'x'
	}
	return len(text) > 8 && bytes.EqualFold(text[:8], []byte("replace("))
}

// mark passes over a byte that means something, and what belongs to it.
func (s *scanner) mark() error {
	b := s.buf[s.i:]
	switch b[0] {
	case '\'':
		return s.quoted()
	case '"':
		if s.d == MySQL {
			return s.quoted()
		}
		return s.skip(func(t []byte) int { return doubledEnd(t, '"') })
	case '`':
		return s.skip(func(t []byte) int { return doubledEnd(t, '`') })
	case '-':
		if len(b) > 1 && b[1] == '-' && (s.d != MySQL || len(b) < 3 || b[2] <= ' ') {
			return s.skip(lineEnd)
		}
	case '#':
		if s.d == MySQL {
			return s.skip(lineEnd)
		}
	case '/':
		if len(b) > 2 && b[1] == '*' && b[2] != '!' && !(b[2] == 'M' && len(b) > 3 && b[3] == '!') {
			return s.skip(func(t []byte) int { return after(t, "*/", 2) })
		}
	case '$':
		if tag := sqltext.DollarTag(b); s.d == Postgres && tag != nil && (s.i == 0 || !isWord(s.buf[s.i-1])) {
			mark := string(tag)
			return s.skip(func(t []byte) int { return after(t, mark, len(mark)) })
		}
	case '(', ')', ',', ';':
		return s.punctuation(b[0])
	case '0':
		return s.hexNumber()
	case 'r', 'R':
		return s.call()
	}
	s.i++
	return nil
}

func (s *scanner) skip(end func([]byte) int) error {
	n, err := s.find(end)
	s.i += n
	return err
}

func lineEnd(t []byte) int {
	if n := bytes.IndexByte(t, '\n'); n >= 0 {
		return n + 1
	}
	return -1
}

func after(t []byte, mark string, from int) int {
	if len(t) < from {
		return -1
	}
	if n := bytes.Index(t[from:], []byte(mark)); n >= 0 {
		return from + n + len(mark)
	}
	return -1
}

// doubledEnd gives the end of a quoted text in which a quote is doubled.
func doubledEnd(t []byte, quote byte) int {
	for i := 1; ; {
		n := bytes.IndexByte(t[min(i, len(t)):], quote)
		if n < 0 || i+n+1 >= len(t) { // behind the last byte so far another quote may follow
			return -1
		}
		if i += n + 1; t[i] != quote {
			return i
		}
		i++
	}
}

func (s *scanner) punctuation(c byte) error {
	s.i++
	switch c {
	case '(':
		if s.depth++; s.depth == 1 {
			s.column, s.item = 0, s.create
		}
	case ')':
		s.depth = max(0, s.depth-1)
	case ',':
		if s.depth == 1 {
			s.column++
			s.item = s.create
		}
	case ';':
		if s.create && s.table != "" {
			s.columns[s.table] = s.names
		}
		s.begin, s.rows, s.create, s.item, s.depth, s.table, s.names = true, false, false, false, 0, "", nil
	}
	return nil
}

var (
	namePattern = "((?:[\\w$\\x80-\\xff]+|`[^`]*`|\"[^\"]*\"|\\[[^\\]]*\\])(?:\\.(?:[\\w$\\x80-\\xff]+|`[^`]*`|\"[^\"]*\"))?)"
	insertHead  = regexp.MustCompile(`(?is)^(?:INSERT|REPLACE)\s+(?:(?:LOW_PRIORITY|DELAYED|HIGH_PRIORITY|IGNORE|OR\s+\w+)\s+)*INTO\s+` + namePattern + `\s*(\([^()']*\))?\s*(?:OVERRIDING\s+\w+\s+VALUE\s*)?VALUES?\s*`)
	createHead  = regexp.MustCompile(`(?is)^CREATE\s+(?:(?:GLOBAL|LOCAL|TEMPORARY|TEMP|UNLOGGED|OR|REPLACE)\s+)*TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?` + namePattern)
	copyHead    = regexp.MustCompile(`(?is)^COPY\s+` + namePattern + `\s*(\([^()']*\))?\s*FROM\s+stdin\s*[^;]*;[ \t]*\r?\n`)
)

// longestHead is how long the head of a statement may be for its columns to be
// known.
const longestHead = 64 << 10

// statement reads the head of a statement, as far as its table and columns are
// concerned.
func (s *scanner) statement() error {
	for s.i < len(s.buf) && s.buf[s.i] <= ' ' || bytes.HasPrefix(s.buf[s.i:], []byte("\xef\xbb\xbf")) {
		if s.buf[s.i] == 0xef {
			s.i += 2
		}
		s.i++
	}
	if s.i >= len(s.buf) {
		return nil
	}
	if s.comment() {
		return s.mark()
	}
	s.begin = false
	switch s.buf[s.i] {
	case 'I', 'i', 'R', 'r', 'C', 'c':
	default:
		return nil
	}
	if err := s.need(longestHead); err != nil {
		return err
	}
	head := s.buf[s.i:min(len(s.buf), s.i+longestHead)]
	// Most statements begin like the one before.
	if s.head != "" && len(head) > len(s.head) && string(head[:len(s.head)]) == s.head && head[len(s.head)] == '(' {
		s.table, s.names, s.raw, s.rows = s.into.table, s.into.names, s.into.raw, true
		s.i += len(s.head)
		return nil
	}
	if m := insertHead.FindSubmatch(head); m != nil {
		s.table, s.rows = lastName(string(m[1])), true
		if s.names = namesOf(string(m[2])); s.names == nil {
			s.names = s.columns[s.table]
		}
		s.raw = s.rawOf(s.table, s.names)
		s.head, s.into = string(m[0]), insert{s.table, s.names, s.raw}
		s.i += len(m[0])
		return nil
	}
	if m := createHead.FindSubmatch(head); m != nil {
		s.table, s.create = lastName(string(m[1])), true
		s.i += len(m[0])
		return nil
	}
	if m := copyHead.FindSubmatch(head); m != nil && s.d == Postgres {
		s.table, s.rows, s.names = lastName(string(m[1])), true, namesOf(string(m[2]))
		if s.names == nil {
			s.names = s.columns[s.table]
		}
		s.i += len(m[0])
		return s.copyRows()
	}
	return nil
}

// rawOf tells which columns of a table hold bytes; nil: none does.
func (s *scanner) rawOf(table string, names []string) (raw []bool) {
	for i, name := range names {
		if s.raws[Cell{Table: table, Column: name}] {
			if raw == nil {
				raw = make([]bool, len(names))
			}
			raw[i] = true
		}
	}
	return raw
}

// comment reports whether a comment begins here: a statement begins behind it.
func (s *scanner) comment() bool {
	b := s.buf[s.i:]
	return b[0] == '#' && s.d == MySQL || len(b) > 2 && (b[0] == '-' && b[1] == '-' || b[0] == '/' && b[1] == '*' && b[2] != '!' && b[2] != 'M')
}

// notColumns begin what stands in a table's definition besides its columns.
var notColumns = []string{"PRIMARY", "KEY", "UNIQUE", "CONSTRAINT", "INDEX", "FOREIGN", "CHECK", "FULLTEXT", "SPATIAL", "EXCLUDE", "LIKE", "PERIOD"}

var (
	itemName  = regexp.MustCompile(`^\s*` + namePattern)
	bytesType = regexp.MustCompile(`(?i)^\s*(?:tiny|medium|long)?(?:blob|(?:var)?binary)\b`)
)

// columnName reads the name of a column in a table's definition.
func (s *scanner) columnName() (bool, error) {
	s.item = false
	m := itemName.FindSubmatch(s.buf[s.i:min(len(s.buf), s.i+lookahead)])
	if m == nil {
		return false, nil
	}
	name := string(m[1])
	if !slices.Contains(notColumns, strings.ToUpper(name)) {
		s.names = append(s.names, lastName(name))
		if s.d == MySQL && bytesType.Match(s.buf[s.i+len(m[0]):min(len(s.buf), s.i+lookahead)]) {
			s.raws[Cell{Table: s.table, Column: lastName(name)}] = true
		}
	}
	s.i += len(m[0])
	return true, nil
}

// lastName gives the last part of a name, without its quotes.
func lastName(name string) string {
	if i := strings.LastIndexAny(name, "`\"]"); i == len(name)-1 && i > 0 {
		open := strings.LastIndexAny(name[:i], "`\"[")
		return name[open+1 : i]
	}
	return name[strings.LastIndexByte(name, '.')+1:]
}

// namesOf reads a list of columns in parentheses.
func namesOf(list string) (names []string) {
	list = strings.TrimSuffix(strings.TrimPrefix(list, "("), ")")
	if strings.TrimSpace(list) == "" {
		return nil
	}
	for n := range strings.SplitSeq(list, ",") {
		names = append(names, lastName(strings.TrimSpace(n)))
	}
	return names
}
