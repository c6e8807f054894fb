package sqltext

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
)

// Insert is the head of an INSERT statement, INSERT INTO table (columns) VALUES,
// or of PostgreSQL's COPY table (columns) FROM stdin with its rows.
type Insert struct {
	Table   string
	Columns []string // empty if the statement names none
	Bytes   []bool   // by Columns: those of bytes, all of which are shown to a Rewrite; nil: none
	// Begin is told of each row that may be shown to a Rewrite, by the text from its first
	// value on; nil: nobody is.
	Begin  func(row []byte)
	values int // where the rows begin
	end    int // where those of COPY end
	copy   bool
}

// Rewrite is asked for each text or binary literal of an INSERT. raw is the
// literal's inside as it stands, escapes included: enough to look for a word
// without escapes; isBytes says that it is one of bytes, or of a column of such. To change the value, it decodes it by calling value and
// returns the new bytes and true. What value gives is valid during the call, what
// is returned until the next.
type Rewrite func(column int, raw []byte, isBytes bool, value func() ([]byte, error)) ([]byte, bool, error)

// ParseInsert reads the head of an INSERT statement with literal rows, or of
// COPY. Anything else gives an error wrapping ErrRefused.
func ParseInsert(stmt []byte, d Dialect) (*Insert, error) {
	if d == Postgres {
		return parseCopy(stmt)
	}
	l := NewLexer(stmt, d)
	bad := func(t Token) error {
		return fmt.Errorf("%w: an INSERT with literal rows was expected, and %.40q stands at byte %d", ErrRefused, t.Text, t.At)
	}
	for _, w := range []string{"INSERT", "INTO"} {
		if t, err := l.Skip(); err != nil || !t.Is(w) {
			return nil, bad(t)
		}
	}
	ins := &Insert{}
	t, err := l.Skip()
	if err != nil {
		return nil, bad(t)
	}
	if ins.Table, err = nameOf(t, d); err != nil {
		return nil, bad(t)
	}
	if t, err = l.Skip(); err != nil {
		return nil, bad(t)
	}
	if t.Kind == Punct && t.Text[0] == '(' {
		if ins.Columns, err = columnList(l, d); err != nil {
			return nil, err
		}
		if t, err = l.Skip(); err != nil {
			return nil, bad(t)
		}
	}
	if !t.Is("VALUES") {
		return nil, bad(t)
	}
	ins.values = l.pos
	return ins, nil
}

func nameOf(t Token, d Dialect) (string, error) {
	switch t.Kind {
	case Name:
		b, err := Unquote(nil, t, d)
		return string(b), err
	case Word:
		return string(t.Text), nil
	}
	return "", fmt.Errorf("%w: a name was expected, not %.40q", ErrRefused, t.Text)
}

// columnList reads names up to the closing parenthesis.
func columnList(l *Lexer, d Dialect) (names []string, err error) {
	for {
		t, err := l.Skip()
		if err != nil {
			return nil, err
		}
		name, err := nameOf(t, d)
		if err != nil {
			return nil, err
		}
		names = append(names, name)
		if t, err = l.Skip(); err != nil {
			return nil, err
		}
		if t.Kind == Punct && t.Text[0] == ')' {
			return names, nil
		}
		if t.Kind != Punct || t.Text[0] != ',' {
			return nil, fmt.Errorf("%w: a list of columns was expected, not %.40q", ErrRefused, t.Text)
		}
	}
}

// Places gives the first place at or after from, in the text that it belongs to,
// where a value may have something to rewrite; the length of the text if there is
// none. It is asked with ever larger places.
type Places func(from int) int

// AppendInsert appends the statement stmt with its head ins to dst, into the
// quoted table target, with the values that rewrite changes, and counts the
// rows. Every row is checked to hold literals only. dst gets no semicolon; of
// COPY it gets a head line and the rows, without the line that ends them.
func (ins *Insert) AppendInsert(dst, stmt []byte, d Dialect, target string, rewrite Rewrite) (out []byte, rows int64, err error) {
	out, rest, rows, err := ins.AppendFirst(dst, stmt, d, target, rewrite, nil)
	if err == nil && len(rest) > 0 {
		return nil, 0, fmt.Errorf("%w: a second statement, %.40q", ErrRefused, rest)
	}
	return out, rows, err
}

// AppendFirst is AppendInsert for the first statement of text, with the head ins;
// rest is what follows it but for white space. Texts without any of the places in
// them are not shown to rewrite; nil: all are.
func (ins *Insert) AppendFirst(dst, text []byte, d Dialect, target string, rewrite Rewrite, places Places) (out, rest []byte, rows int64, err error) {
	if ins.copy {
		out, rows, err = ins.appendCopyRows(dst, text, target, rewrite, places)
		return out, nil, rows, err
	}
	dst = append(ins.appendHead(append(dst, "INSERT INTO "...), target, d), " VALUES"...)
	r := rowReader{Lexer: Lexer{text: text, pos: ins.values, d: d}, dst: dst, copied: ins.values, rewrite: rewrite, places: places, bytes: ins.Bytes, begin: ins.Begin}
	if err := r.rows(len(ins.Columns), nil); err != nil {
		return nil, nil, 0, fmt.Errorf("rows of %s: %w", ins.Table, err)
	}
	return append(r.dst, text[r.copied:r.end]...), bytes.TrimLeft(text[r.pos:], " \t\r\n"), r.count, nil
}

// appendHead appends table (columns).
func (ins *Insert) appendHead(dst []byte, target string, d Dialect) []byte {
	dst = append(dst, target...)
	for i, c := range ins.Columns {
		if i == 0 {
			dst = append(dst, " ("...)
		} else {
			dst = append(dst, ',')
		}
		dst = append(dst, QuoteName(c, d)...)
	}
	if len(ins.Columns) > 0 {
		dst = append(dst, ')')
	}
	return dst
}

// rowReader goes through (…),(…) and copies what is not changed in long runs.
type rowReader struct {
	Lexer
	dst     []byte
	copied  int
	end     int
	rewrite Rewrite
	places  Places
	bytes   []bool // columns of bytes
	begin   func(row []byte)
	decoded []byte // room for the value that is shown to rewrite
	// introduce gives the introducer of a text that has none.
	introduce func(column int, raw []byte) string
	take      func(column int) error // reads a value in another way, if it is not nil
	count     int64
}

// Skip passes over white space only: rows hold no comments, and some comments
// are not what they seem.
func (r *rowReader) Skip() (Token, error) {
	if at := r.pos; at < len(r.text) { // the usual ones, without a detour
		kind, n := Punct, 1
		switch r.text[at] {
		case ',', ')', '(':
		case '\'':
			kind, n = String, quotedEnd(r.text[at:], '\'', r.d == MySQL)
		default:
			n = -1
		}
		if n > 0 {
			r.pos += n
			return Token{kind, r.text[at:r.pos], at}, nil
		}
	}
	for {
		t, err := r.Next()
		if err != nil || t.Kind != Space {
			return t, err
		}
	}
}

// simple passes over a number or NULL that a comma or the end of its row follows, the
// most frequent values, without making a token of it.
func (r *rowReader) simple() bool {
	b := r.text[r.pos:]
	n := 0
	if len(b) > 4 && string(b[:4]) == "NULL" {
		n = 4
	} else {
		for n < len(b) && b[n] >= '0' && b[n] <= '9' {
			n++
		}
	}
	if n == 0 || n == len(b) || b[n] != ',' && b[n] != ')' {
		return false
	}
	r.pos += n
	return true
}

func (r *rowReader) refuse(t Token) error {
	return fmt.Errorf("%w: a literal was expected, and %.40q stands at byte %d", ErrRefused, t.Text, t.At)
}

// rows reads all rows and calls each, if it is not nil, when it is behind one
// that begins at byte from.
func (r *rowReader) rows(columns int, each func(from int) error) error {
	for {
		t, err := r.Skip()
		if err != nil {
			return err
		}
		if t.Kind != Punct || t.Text[0] != '(' {
			return r.refuse(t)
		}
		from := r.pos
		if each != nil {
			r.dst, r.copied = r.dst[:0], from
		}
		if r.begin != nil {
			r.begin(r.text[from:])
		}
		n, err := r.row()
		if err != nil {
			return err
		}
		if columns > 0 && n != columns {
			return fmt.Errorf("%w: row %d has %d values for %d columns", ErrRefused, r.count+1, n, columns)
		}
		r.count++
		r.end = r.pos
		if each != nil {
			if err := each(from); err != nil {
				return err
			}
		}
		if t, err = r.Skip(); err != nil {
			return err
		}
		switch {
		case t.Kind == End, t.Kind == Punct && t.Text[0] == ';':
			return nil
		case t.Kind != Punct || t.Text[0] != ',':
			return r.refuse(t)
		}
	}
}

// row reads the values up to the closing parenthesis.
func (r *rowReader) row() (int, error) {
	for column := 0; ; column++ {
		if err := r.value(column); err != nil {
			return 0, err
		}
		t, err := r.Skip()
		if err != nil {
			return 0, err
		}
		switch {
		case t.Kind == Punct && t.Text[0] == ')':
			return column + 1, nil
		case t.Kind != Punct || t.Text[0] != ',':
			return 0, r.refuse(t)
		}
	}
}

func (r *rowReader) value(column int) error {
	if r.take != nil {
		return r.take(column)
	}
	if r.simple() {
		return nil
	}
	t, err := r.Skip()
	if err != nil {
		return err
	}
	start := t.At
	switch t.Kind {
	case String:
		return r.literal(column, start, t, false)
	case Bytes:
		return r.literal(column, start, t, false)
	case Number:
		return nil
	case Punct:
		if c := t.Text[0]; c != '-' && c != '+' {
			return r.refuse(t)
		}
		if t, err = r.Skip(); err != nil || t.Kind != Number {
			return r.refuse(t)
		}
		return nil
	case Word:
		if t.Is("NULL") { // by far the most frequent, and worth no allocation
			return nil
		}
		switch w := strings.ToLower(string(t.Text)); w {
		case "true", "false":
			return nil
		case "_binary", "_utf8mb4", "_utf8", "_utf8mb3", "_latin1", "_ascii":
			if t, err = r.Skip(); err != nil || t.Kind != String && t.Kind != Bytes || r.d != MySQL {
				return r.refuse(t)
			}
			return r.literal(column, start, t, w == "_binary")
		case "cast":
			if r.d == SQLite {
				return r.cast(column, start)
			}
		case "replace":
			if r.d == SQLite {
				v, err := r.replace(0)
				if err != nil {
					return err
				}
				return r.offer(column, start, v, false, func() ([]byte, error) { return v, nil }, func(v []byte) {
					r.dst = AppendSQLiteText(r.dst, v)
				})
			}
		}
	}
	return r.refuse(t)
}

// maxRoom is how much room is kept for values, in bytes.
const maxRoom = 1 << 20

// cast reads (x'…' AS TEXT), the only cast there is in a dump.
func (r *rowReader) cast(column, start int) error {
	open, err1 := r.Skip()
	hex, err2 := r.Skip()
	as, err3 := r.Skip()
	text, err4 := r.Skip()
	end, err5 := r.Skip()
	for _, err := range []error{err1, err2, err3, err4, err5} {
		if err != nil {
			return err
		}
	}
	if string(open.Text) != "(" || hex.Kind != Bytes || !as.Is("AS") || !text.Is("TEXT") || string(end.Text) != ")" {
		return r.refuse(hex)
	}
	return r.literal(column, start, hex, true)
}

// literal offers a literal that begins at start to rewrite. wide is set for a
// literal with an introducer or inside a cast.
func (r *rowReader) literal(column, start int, t Token, wide bool) error {
	if r.introduce != nil && start == t.At && t.Kind == String {
		if in := r.introduce(column, t.Text); in != "" {
			r.dst = append(append(r.dst, r.text[r.copied:start]...), in...)
			r.copied = start
		}
	}
	isBytes := column < len(r.bytes) && r.bytes[column]
	if r.rewrite == nil || r.places != nil && t.Kind == String && !isBytes && r.places(t.At) >= t.At+len(t.Text) {
		return nil
	}
	raw := t.Text
	decode := func() (v []byte, err error) {
		if cap(r.decoded) > maxRoom { // a giant value must not cost its memory for ever
			r.decoded = nil
		}
		r.decoded, err = Unquote(r.decoded[:0], t, r.d)
		return r.decoded, err
	}
	if t.Kind == Bytes {
		if raw[0] == 'b' || raw[0] == 'B' {
			return nil
		}
		v, err := decode()
		if err != nil {
			return err
		}
		isBytes = isBytes || !wide // a cast makes a text of it
		raw, decode = v, func() ([]byte, error) { return v, nil }
	}
	return r.offer(column, start, raw, isBytes, decode, func(v []byte) { r.write(start, t, wide, v) })
}

// offer gives a value to rewrite and has write append what comes back.
func (r *rowReader) offer(column, start int, raw []byte, isBytes bool, decode func() ([]byte, error), write func([]byte)) error {
	if r.rewrite == nil {
		return nil
	}
	v, changed, err := r.rewrite(column, raw, isBytes, decode)
	if err != nil || !changed {
		return err
	}
	r.dst = append(r.dst, r.text[r.copied:start]...)
	r.copied = r.pos
	write(v)
	return nil
}

// write appends a new value as a literal of the kind that t was.
func (r *rowReader) write(start int, t Token, wide bool, v []byte) {
	switch {
	case r.d == MySQL && t.Kind == Bytes:
		r.dst = AppendHex(r.dst, v)
	case r.d == MySQL && !wide && bytes.HasPrefix(r.text[start:], []byte("_")): // another introducer than _binary
		r.dst = append(r.dst, r.text[start:t.At]...)
		r.dst = append(r.dst, bytes.TrimPrefix(AppendMySQLString(nil, v, false), []byte("_binary"))...)
	case r.d == MySQL:
		r.dst = AppendMySQLString(r.dst, v, wide)
	case t.Kind == Bytes && !wide:
		r.dst = AppendHex(r.dst, v)
	default:
		r.dst = AppendSQLiteText(r.dst, v)
	}
}

// TextCall reads a call of replace as SQLite's own dump program writes it for a
// text with line breaks, and gives the text meant. ok is false for anything else.
func TextCall(call []byte) (text []byte, ok bool) {
	r := rowReader{Lexer: Lexer{text: call, d: SQLite}}
	t, err := r.Skip()
	if err != nil || !t.Is("replace") {
		return nil, false
	}
	if text, err = r.replace(0); err != nil {
		return nil, false
	}
	t, err = r.Skip()
	return text, err == nil && t.Kind == End
}

// replace reads (text,'\n',char(10)), in which SQLite's own dump program writes
// line breaks, where text may be such a call itself, and gives the text meant.
func (r *rowReader) replace(depth int) ([]byte, error) {
	open, err := r.Skip()
	if err != nil || string(open.Text) != "(" || depth > 4 {
		return nil, r.refuse(open)
	}
	t, err := r.Skip()
	if err != nil {
		return nil, err
	}
	var text []byte
	switch {
	case t.Kind == String:
		text, err = Unquote(nil, t, r.d)
	case t.Is("replace"):
		text, err = r.replace(depth + 1)
	default:
		return nil, r.refuse(t)
	}
	if err != nil {
		return nil, err
	}
	var rest [7]Token
	for i := range rest {
		if rest[i], err = r.Skip(); err != nil {
			return nil, err
		}
	}
	n, err := strconv.Atoi(string(rest[5].Text))
	if rest[0].Kind != Punct || rest[1].Kind != String || !rest[3].Is("char") || string(rest[4].Text) != "(" || err != nil || n < 1 || n > 127 || string(rest[6].Text) != ")" {
		return nil, r.refuse(rest[3])
	}
	from, err := Unquote(nil, rest[1], r.d)
	if err != nil {
		return nil, err
	}
	if end, err := r.Skip(); err != nil || string(end.Text) != ")" || len(from) == 0 {
		return nil, r.refuse(end)
	}
	return bytes.ReplaceAll(text, from, []byte{byte(n)}), nil
}
