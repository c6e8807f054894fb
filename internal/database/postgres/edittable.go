package postgres

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// editTable is what an editor knows of a table beyond an EditTable.
type editTable struct {
	name    string      // quoted
	key     []editValue // columns that name a row, or its place
	place   bool        // rows are named by their place
	columns map[string]editValue
	unique  [][]string // columns of its unique keys
}

// editValue is a column, and how its values are read and written.
type editValue struct {
	name   string // quoted
	typ    string // without a length, so that a value that is too long is refused, not cut
	binary bool
}

func (v editValue) expr() string {
	if v.binary {
		return v.name
	}
	return v.name + "::text"
}

// literal gives a value of the column.
func (v editValue) literal(value []byte) string {
	if v.binary {
		return `'\x` + hex.EncodeToString(value) + "'::bytea"
	}
	return quoteText(string(value)) + "::" + v.typ
}

// plain gives a value to be compared with expr.
func (v editValue) plain(value []byte) string {
	if v.binary {
		return v.literal(value)
	}
	return quoteText(string(value)) + "::text"
}

func (et *editTable) exprs(t *database.EditTable) (exprs []string) {
	for _, c := range t.Columns {
		exprs = append(exprs, et.columns[c.Name].expr())
	}
	return exprs
}

// binaryOf decodes the text form of bytea.
func binaryOf(v []byte) []byte {
	if digits, ok := bytes.CutPrefix(v, []byte(`\x`)); ok {
		if out, err := hex.AppendDecode(make([]byte, 0, len(digits)/2), digits); err == nil {
			return out
		}
	}
	return v
}

// Editable reads the table's columns and keys.
func (e *editor) Editable(ctx context.Context, table string) (*database.EditTable, error) {
	rel, err := e.relation(ctx, table)
	if err != nil {
		return nil, err
	}
	t := &database.EditTable{Name: table}
	et := &editTable{name: sqltext.QuoteRelation(table), columns: map[string]editValue{}}
	for _, step := range []func() error{
		func() error { return e.editColumns(ctx, rel.oid, t, et) },
		func() error { return e.editKeys(ctx, rel.oid, t, et) },
	} {
		if err := step(); err != nil {
			return nil, fmt.Errorf("look at table %s: %w", table, err)
		}
	}
	rows, err := ask(ctx, e.conn, "SELECT tgname FROM pg_catalog.pg_trigger WHERE tgrelid=?::pg_catalog.oid AND NOT tgisinternal AND tgtype & 16 <> 0 AND tgenabled IN ('O','A') ORDER BY 1", rel.oid)
	if err != nil {
		return nil, fmt.Errorf("look at table %s: %w", table, err)
	}
	for _, row := range rows {
		t.Triggers = append(t.Triggers, row[0])
	}
	e.tables[table] = et
	return t, nil
}

// editColumns finds the columns that may hold text: by the category of their
// type, strings, arrays, composite types, and some of the others.
func (e *editor) editColumns(ctx context.Context, oid string, t *database.EditTable, et *editTable) error {
	rows, err := ask(ctx, e.conn, `SELECT a.attname, pg_catalog.format_type(CASE WHEN t.typtype='d' THEN t.typbasetype ELSE a.atttypid END, NULL), b.typname,
			CASE WHEN t.typtype='d' THEN t.typtypmod ELSE a.atttypmod END,
			b.typcategory IN ('S','A','C','X') OR b.typname IN ('json','jsonb','xml','bytea','hstore'), a.attgenerated<>''
		FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_type t ON t.oid=a.atttypid JOIN pg_catalog.pg_type b ON b.oid=CASE WHEN t.typtype='d' THEN t.typbasetype ELSE t.oid END
		WHERE a.attrelid=?::pg_catalog.oid AND a.attnum>0 AND NOT a.attisdropped ORDER BY a.attnum`, oid)
	if err != nil {
		return err
	}
	for _, row := range rows {
		v := editValue{name: quote(row[0]), typ: row[1], binary: row[2] == "bytea"}
		if row[2] == "bpchar" { // whose other name would mean one character
			v.typ = "pg_catalog.bpchar"
		}
		et.columns[row[0]] = v
		if row[4] != "t" || row[5] == "t" {
			continue
		}
		c := database.Column{Name: row[0], Raw: v.binary, Length: func(v []byte) int64 { return int64(utf8.RuneCount(bytes.TrimRight(v, " "))) }} // spaces that are too many are cut off
		if mod, err := strconv.ParseInt(row[3], 10, 64); err == nil && mod > 4 && (row[2] == "varchar" || row[2] == "bpchar") {
			c.Chars = mod - 4 // the length of its head counts (pg_attribute.atttypmod)
		}
		t.Columns = append(t.Columns, c)
	}
	return nil
}

// editKeys finds the key by which rows are named, the primary one if there is
// one, and all keys that may not repeat.
func (e *editor) editKeys(ctx context.Context, oid string, t *database.EditTable, et *editTable) error {
	rows, err := ask(ctx, e.conn, `SELECT i.indexrelid, a.attname, i.indpred IS NULL AND a.attnotnull AND i.indimmediate AND t.typname NOT IN ('float4','float8') FROM pg_catalog.pg_index i
		JOIN LATERAL pg_catalog.unnest(i.indkey::int2[]) WITH ORDINALITY k(n,place) ON k.place<=i.indnkeyatts
		LEFT JOIN pg_catalog.pg_attribute a ON a.attrelid=i.indrelid AND a.attnum=k.n AND k.n>0 LEFT JOIN pg_catalog.pg_type t ON t.oid=a.atttypid
		WHERE i.indrelid=?::pg_catalog.oid AND i.indisunique AND i.indisvalid ORDER BY NOT i.indisprimary, i.indexrelid, k.place`, oid)
	if err != nil {
		return err
	}
	for len(rows) > 0 {
		n := 1
		for n < len(rows) && rows[n][0] == rows[0][0] {
			n++
		}
		et.addKey(t, rows[:n])
		rows = rows[n:]
	}
	if et.key == nil { // the place of a row names it as long as nobody changes it
		t.Keyless, et.place, et.key = true, true, []editValue{{name: "ctid", typ: "pg_catalog.tid"}}
	}
	return nil
}

// addKey takes one unique key: rows of its number, column, whether it can name a
// row.
func (et *editTable) addKey(t *database.EditTable, rows [][]string) {
	var names []string
	var key []editValue
	usable := true
	for _, row := range rows {
		if row[1] == "" { // an expression
			return
		}
		usable = usable && row[2] == "t"
		names, key = append(names, row[1]), append(key, et.columns[row[1]])
	}
	et.unique = append(et.unique, names)
	if usable && et.key == nil {
		et.key = key
	}
	t.MarkKey(names)
}

// keyOf names a row by the values of its key.
func (et *editTable) keyOf(values [][]byte) database.Key {
	k := database.Key{}
	var where, label []string
	for i, v := range values {
		key := et.key[i]
		k.Parts = append(k.Parts, string(v))
		where = append(where, key.name+"="+key.literal(v))
		shown := string(v)
		if key.binary || !utf8.Valid(v) {
			shown = `\x` + hex.EncodeToString(v)
		}
		label = append(label, strings.Trim(key.name, `"`)+"="+shown)
	}
	k.Where, k.Label = strings.Join(where, " AND "), strings.Join(label, " ")
	return k
}

// Named names a row by the parts of its key: values as they are read.
func (e *editor) Named(t *database.EditTable, parts []string, c *database.Change) (database.Key, error) {
	et := e.tables[t.Name]
	if len(parts) != len(et.key) || et.place {
		return database.Key{}, database.ErrNoName
	}
	place := func(column string) int {
		return slices.IndexFunc(et.key, func(k editValue) bool { return k.name == quote(column) })
	}
	var values [][]byte
	for _, p := range t.PartsAfter(parts, c, place, func(v []byte, _ string) string { return string(v) }) {
		values = append(values, []byte(p))
	}
	return et.keyOf(values), nil
}

// update gives one statement that makes the changes at the places which, all of
// the same columns. It finds a row only while that has its old values.
func (et *editTable) update(t *database.EditTable, changes []database.Change, which []int) string {
	columns := changes[which[0]].Columns
	var set, names, where []string
	for i, k := range et.key {
		name := "k" + strconv.Itoa(i)
		names = append(names, name)
		where = append(where, "t."+k.name+"=v."+name)
	}
	for i, c := range columns {
		v := et.columns[t.Columns[c].Name]
		n := strconv.Itoa(i)
		names = append(names, "o"+n, "n"+n)
		set = append(set, v.name+"=v.n"+n)
		where = append(where, "t."+v.expr()+"=v.o"+n)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "UPDATE ONLY %s t SET %s FROM (VALUES ", et.name, strings.Join(set, ","))
	for i, at := range which {
		if i > 0 {
			b.WriteByte(',')
		}
		c := &changes[at]
		b.WriteByte('(')
		for i, k := range et.key {
			if i > 0 {
				b.WriteByte(',')
			}
			b.WriteString(k.literal([]byte(c.Key.Parts[i])))
		}
		for i, col := range columns {
			v := et.columns[t.Columns[col].Name]
			b.WriteString("," + v.plain(c.Old[i]) + "," + v.literal(c.New[i]))
		}
		b.WriteByte(')')
	}
	fmt.Fprintf(&b, ") v(%s) WHERE %s", strings.Join(names, ","), strings.Join(where, " AND "))
	return b.String()
}

// Scan shows every row of the table.
func (e *editor) Scan(ctx context.Context, t *database.EditTable, yield func(*database.Row) error) error {
	et := e.tables[t.Name]
	exprs := et.exprs(t)
	for _, k := range et.key {
		if k.binary || et.place {
			exprs = append(exprs, k.name)
		} else {
			exprs = append(exprs, k.name+"::text")
		}
	}
	s := &scan{t: t, et: et, yield: yield, values: make([][]byte, len(exprs)), room: make([][]byte, len(exprs))}
	if _, err := e.conn.CopyTo(ctx, s, "COPY (SELECT "+strings.Join(exprs, ",")+" FROM ONLY "+et.name+") TO STDOUT"); err != nil {
		if s.err != nil {
			return s.err
		}
		return fmt.Errorf("read %s: %w", t.Name, plain(err))
	}
	return s.err
}

// scan takes rows as COPY sends them.
type scan struct {
	t      *database.EditTable
	et     *editTable
	yield  func(*database.Row) error
	values [][]byte
	room   [][]byte // for values that are not as they were sent
	rest   []byte   // of a row that has not come whole
	err    error
}

// Write takes whole rows, as the server sends them, or pieces.
func (s *scan) Write(b []byte) (int, error) {
	n := len(b)
	if s.err = database.CheckRow((len(s.rest) + len(b)) / 2); s.err != nil { // in hexadecimal
		return 0, s.err
	}
	if len(s.rest) > 0 {
		s.rest = append(s.rest, b...)
		b = s.rest
	}
	for {
		end := bytes.IndexByte(b, '\n')
		if end < 0 {
			s.rest = append(s.rest[:0], b...)
			return n, nil
		}
		if s.err = s.row(b[:end]); s.err != nil {
			return 0, s.err
		}
		if b = b[end+1:]; len(b) == 0 {
			s.rest = s.rest[:0]
			return n, nil
		}
	}
}

func (s *scan) row(line []byte) error {
	for i := range s.values {
		field, rest, _ := bytes.Cut(line, []byte{'\t'})
		line = rest
		switch {
		case string(field) == `\N`:
			s.values[i] = nil
			continue
		case bytes.IndexByte(field, '\\') >= 0:
			s.room[i] = sqltext.UnescapeCopy(s.room[i][:0], field)
			field = s.room[i]
		}
		if s.binary(i) {
			field = binaryOf(field)
		}
		s.values[i] = field
	}
	columns := len(s.t.Columns)
	return s.yield(&database.Row{Values: s.values[:columns], Key: func() database.Key { return s.et.keyOf(slices.Clone(s.values[columns:])) }})
}

func (s *scan) binary(i int) bool {
	if n := len(s.t.Columns); i >= n {
		return s.et.key[i-n].binary
	}
	return s.et.columns[s.t.Columns[i].Name].binary
}
