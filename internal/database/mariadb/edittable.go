package mariadb

import (
	"context"
	"crypto/sha1"
	"database/sql"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// editTable is what an editor knows of a table beyond an EditTable.
type editTable struct {
	key     []literal // columns that name a row; none if the table has no key
	columns map[string]literal
	unique  [][]string // columns of its unique keys
	stamps  []string   // columns that the server sets at each change, quoted
}

func (et *editTable) column(t *database.EditTable, i int) *literal {
	l := et.columns[t.Columns[i].Name]
	return &l
}

// exprs are those by which the columns are read.
func (et *editTable) exprs(t *database.EditTable) (exprs []string) {
	for i := range t.Columns {
		exprs = append(exprs, et.column(t, i).expr)
	}
	return exprs
}

// Editable reads the table's columns and keys.
func (e *editor) Editable(ctx context.Context, table string) (*database.EditTable, error) {
	fail := func(err error) (*database.EditTable, error) {
		return nil, fmt.Errorf("look at table %s: %w", table, err)
	}
	t := &database.EditTable{Name: table}
	et := &editTable{columns: map[string]literal{}}
	state, err := e.Strings(ctx, `SELECT COALESCE(e.TRANSACTIONS,'NO')
		FROM information_schema.TABLES t LEFT JOIN information_schema.ENGINES e ON e.ENGINE=t.ENGINE WHERE t.TABLE_SCHEMA=DATABASE() AND t.TABLE_NAME=?`, table)
	if err != nil {
		return fail(err)
	}
	if len(state) == 0 {
		return fail(fmt.Errorf("there is no such table"))
	}
	t.Lasting = state[0][0] != "YES"
	if err := e.editColumns(ctx, t, et); err != nil {
		return fail(err)
	}
	if err := e.editKeys(ctx, t, et); err != nil {
		return fail(err)
	}
	triggers, err := e.Strings(ctx, `SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE EVENT_OBJECT_SCHEMA=DATABASE() AND EVENT_OBJECT_TABLE=? AND EVENT_MANIPULATION='UPDATE'`, table)
	if err != nil {
		return fail(err)
	}
	for _, row := range triggers {
		t.Triggers = append(t.Triggers, row[0])
	}
	e.tables[table] = et
	return t, nil
}

func (e *editor) editColumns(ctx context.Context, t *database.EditTable, et *editTable) error {
	all, err := e.reader.columns(ctx, t.Name)
	if err != nil {
		return err
	}
	rows, err := e.Strings(ctx, `SELECT COLUMN_NAME, LOWER(DATA_TYPE), LOWER(EXTRA), COALESCE(CHARACTER_SET_NAME,''), COALESCE(CHARACTER_MAXIMUM_LENGTH,0), COALESCE(CHARACTER_OCTET_LENGTH,0)
		FROM information_schema.COLUMNS WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME=? ORDER BY ORDINAL_POSITION`, t.Name)
	if err != nil {
		return err
	}
	for _, row := range rows {
		name, kind, charset := row[0], row[1], row[3]
		at := slices.IndexFunc(all, func(c column) bool { return c.name == quote(name) })
		if at < 0 {
			continue // generated
		}
		if strings.Contains(row[2], "on update") {
			et.stamps = append(et.stamps, quote(name))
		}
		l := literal{expr: quote(name), name: quote(name), kind: all[at].kind, charset: charset}
		if charset == "" {
			l.charset = "binary"
		}
		c := database.Column{Name: name, Raw: strings.HasSuffix(kind, "blob") || strings.HasSuffix(kind, "binary")}
		c.Chars, _ = strconv.ParseInt(row[4], 10, 64)
		c.Bytes, _ = strconv.ParseInt(row[5], 10, 64)
		c.Length = sqltext.CharactersIn(charset)
		switch {
		case kind == "binary": // the server fills it with zeros, which are no part of the text
			l.expr = "TRIM(TRAILING x'00' FROM " + l.name + ")"
		case kind == "json" || kind == "uuid" || strings.HasPrefix(kind, "inet"):
			l.charset, c.Length, c.Chars, c.Bytes = "utf8mb4", sqltext.CharactersIn("utf8mb4"), 0, 0
		case kind == "longblob", kind == "longtext" && !isWide(charset):
			l.expr = limited(l.name)
		case isWide(charset):
			l.expr, l.charset, c.Bytes, c.Length = "CONVERT("+l.name+" USING utf8mb4)", "utf8mb4", 0, sqltext.CharactersIn("utf8mb4")
		}
		et.columns[name] = l
		if slices.Contains([]string{"char", "varchar", "tinytext", "text", "mediumtext", "longtext", "json", "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob"}, kind) {
			t.Columns = append(t.Columns, c)
		}
	}
	return nil
}

// editKeys finds the key by which rows are named, the primary one if there is
// one, and all keys that may not repeat.
func (e *editor) editKeys(ctx context.Context, t *database.EditTable, et *editTable) error {
	rows, err := e.Strings(ctx, `SELECT s.INDEX_NAME, COALESCE(s.COLUMN_NAME,''), s.NULLABLE, COALESCE(c.DATA_TYPE,'') FROM information_schema.STATISTICS s
		LEFT JOIN information_schema.COLUMNS c ON c.TABLE_SCHEMA=s.TABLE_SCHEMA AND c.TABLE_NAME=s.TABLE_NAME AND c.COLUMN_NAME=s.COLUMN_NAME
		WHERE s.TABLE_SCHEMA=DATABASE() AND s.TABLE_NAME=? AND s.NON_UNIQUE=0 ORDER BY s.INDEX_NAME<>'PRIMARY', s.INDEX_NAME, s.SEQ_IN_INDEX`, t.Name)
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
	t.Keyless = et.key == nil
	return nil
}

// addKey takes one unique key: rows of name, column, whether it may be NULL,
// type of the column.
func (et *editTable) addKey(t *database.EditTable, rows [][]string) {
	names := []string{}
	var key []literal
	usable := true
	for _, row := range rows {
		l, known := et.columns[row[1]]
		// A number that is not exact may not be found again.
		usable = usable && known && row[2] != "YES" && row[3] != "float" && row[3] != "double"
		names = append(names, row[1])
		key = append(key, l)
	}
	et.unique = append(et.unique, names)
	if usable && et.key == nil {
		et.key = key
	}
	t.MarkKey(names)
}

// keyOf names a row by the values of its key.
func (et *editTable) keyOf(cells []sql.RawBytes) database.Key {
	var where, label []byte
	for i, cell := range cells {
		k := &et.key[i]
		if i > 0 {
			where, label = append(where, " AND "...), append(label, ' ')
		}
		where = append(append(where, k.expr...), '=')
		where = k.appendLiteral(where, cell)
		label = append(append(label, strings.Trim(k.name, "`")...), '=')
		if k.kind == cellNumber || utf8.Valid(cell) {
			label = append(label, cell...)
		} else {
			label = hex.AppendEncode(append(label, "0x"...), cell)
		}
	}
	parts := make([]string, len(cells))
	for i := range cells {
		parts[i] = string(cells[i])
	}
	return database.Key{Where: string(where), Label: string(label), Parts: parts}
}

// Named names a row by the parts of its key: values as they are read.
func (e *editor) Named(t *database.EditTable, parts []string, c *database.Change) (database.Key, error) {
	et := e.tables[t.Name]
	if len(parts) != len(et.key) || len(parts) == 0 {
		return database.Key{}, database.ErrNoName
	}
	place := func(column string) int {
		return slices.IndexFunc(et.key, func(k literal) bool { return k.name == quote(column) })
	}
	parts = t.PartsAfter(parts, c, place, func(v []byte, _ string) string { return string(v) })
	cells := make([]sql.RawBytes, len(parts))
	for i, p := range parts {
		if et.key[i].kind == cellNumber && !isNumber.MatchString(p) {
			return database.Key{}, database.ErrNoName
		}
		cells[i] = sql.RawBytes(p)
	}
	return et.keyOf(cells), nil
}

// isNumber knows a number as the server shows it.
var isNumber = regexp.MustCompile(`^-?[0-9.]+(?:e[+-]?[0-9]+)?$`)

// update appends one statement that makes all changes. It finds a row only while that has
// its old values.
func (et *editTable) update(b []byte, t *database.EditTable, changes []database.Change) []byte {
	b = append(append(append(b, "UPDATE "...), quote(t.Name)...), " SET "...)
	for _, at := range et.keysLast(t) {
		l := et.column(t, at)
		if len(changes) == 1 {
			if i := slices.Index(changes[0].Columns, at); i >= 0 {
				b = append(l.appendLiteral(append(append(b, l.name...), '='), changes[0].New[i]), ',')
			}
			continue
		}
		begun := false
		for _, c := range changes {
			i := slices.Index(c.Columns, at)
			if i < 0 {
				continue
			}
			if !begun {
				b = append(append(b, l.name...), "=CASE"...)
				begun = true
			}
			b = append(append(append(b, " WHEN "...), c.Key.Where...), " THEN "...)
			b = l.appendLiteral(b, c.New[i])
		}
		if begun {
			b = append(append(append(b, " ELSE "...), l.name...), " END,"...)
		}
	}
	b = et.keepStamps(b[:len(b)-1], "")
	b = append(b, " WHERE "...)
	for n, c := range changes {
		if n > 0 {
			b = append(b, " OR "...)
		}
		b = append(b, c.Key.Where...)
		for i, at := range c.Columns {
			b = append(append(append(b, " AND SHA1("...), et.column(t, at).expr...), ")='"...)
			b = append(appendSHA1(b, c.Old[i]), '\'')
		}
	}
	return b
}

// isKey reports whether a column is part of what names a row.
func (et *editTable) isKey(t *database.EditTable, at int) bool {
	name := quote(t.Columns[at].Name)
	return slices.ContainsFunc(et.key, func(k literal) bool { return k.name == name })
}

// keysLast gives the columns in the order in which they are set: servers set one after the
// other, and the conditions of later ones see the key as it is by then.
func (et *editTable) keysLast(t *database.EditTable) (order []int) {
	for _, keys := range []bool{false, true} {
		for at := range t.Columns {
			if et.isKey(t, at) == keys {
				order = append(order, at)
			}
		}
	}
	return order
}

// alone reports whether a change can be made by no statement with others: it sets more than
// one column of the key.
func (et *editTable) alone(t *database.EditTable, c *database.Change) bool {
	n := 0
	for _, at := range c.Columns {
		if et.isKey(t, at) {
			n++
		}
	}
	return n > 1
}

// keepStamps has columns keep their value that the server would set to now.
func (et *editTable) keepStamps(b []byte, table string) []byte {
	for _, s := range et.stamps {
		b = append(append(append(append(append(append(b, ','), table...), s...), '='), table...), s...)
	}
	return b
}

func appendSHA1(b, v []byte) []byte {
	sum := sha1.Sum(v)
	return hex.AppendEncode(b, sum[:])
}

// updateByValue makes a statement for each column: every row with an old value
// gets the new one, which is right because one follows from the other.
func (et *editTable) updateByValue(t *database.EditTable, changes []database.Change) string {
	var b []byte
	for at := range t.Columns {
		l := et.column(t, at)
		seen := map[string]bool{}
		for _, c := range changes {
			i := slices.Index(c.Columns, at)
			if i < 0 || seen[string(c.Old[i])] {
				continue
			}
			if len(seen) == 0 {
				b = append(append(append(b, "UPDATE "...), quote(t.Name)...), " AS t JOIN (SELECT '"...)
			} else {
				b = append(b, " UNION ALL SELECT '"...)
			}
			seen[string(c.Old[i])] = true
			b = append(appendSHA1(b, c.Old[i]), "' AS o,"...)
			b = append(l.appendLiteral(b, c.New[i]), " AS n"...)
		}
		if len(seen) > 0 {
			old := strings.Replace(l.expr, l.name, "t."+l.name, 1)
			b = append(append(append(b, ") AS m ON SHA1("...), old...), ")=m.o SET t."...)
			b = append(append(b, l.name...), "=m.n"...)
			b = append(et.keepStamps(b, "t."), ';')
		}
	}
	return string(b[:len(b)-1])
}
