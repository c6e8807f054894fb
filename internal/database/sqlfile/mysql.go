package sqlfile

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/text/encoding/charmap"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

func mysqlInfo(head []byte) database.Info {
	i := database.Info{Engine: database.MariaDB, Product: "MySQL", Charset: "utf8mb4", Version: versionOf(head, `(?m)^-- Server version[ :\t]+([0-9][0-9.]*)`)}
	if bytes.Contains(head, []byte("MariaDB")) {
		i.Product = "MariaDB"
	}
	return i
}

// databaseOf finds the name of the database in the comments at the beginning of a dump.
func databaseOf(head []byte) string {
	m := regexp.MustCompile(`(?m)^-- Host: .*?\bDatabase: (.+?)\s*$`).FindSubmatch(head)
	if m == nil {
		return ""
	}
	return string(m[1])
}

// mysqlIndex finds what is where in a dump of MariaDB or MySQL.
type mysqlIndex struct {
	r        *reader
	names    string           // charset of the text, as SET NAMES says
	session  database.Session // in which what follows is made
	zone     string           // time zone of the values of TIMESTAMP columns
	database string           // that USE names
	own      string           // that the head of the dump names
	last     *table           // to which the last rows belong
}

// introducers are the charsets that texts of an archive may be introduced in.
var introducers = []string{"utf8mb4", "utf8mb3", "utf8", "latin1", "ascii"}

var (
	setNames    = regexp.MustCompile(`(?i)^SET\s+NAMES\s+['"]?(\w+)`)
	setMode     = regexp.MustCompile(`(?i)\bsql_mode\s*=\s*(?:['"]([A-Z0-9_,]*)['"])?`)
	setKept     = regexp.MustCompile(`(?i)\b(character_set_client|collation_connection)\s*=\s*'?(\w+)`)
	setZone     = regexp.MustCompile(`(?i)\btime_zone\s*=\s*['"]([^'"]*)['"]`)
	setSequence = regexp.MustCompile("(?i)^(?:DO|SELECT) SETVAL\\((`(?:[^`]|``)+`), ?(-?\\d+), ?([01])\\)$")
)

func (ix *mysqlIndex) take(st sqltext.Statement, _ *sqltext.Splitter) error {
	if text := insertInto(st.Text); text != nil {
		return ix.insert(text, st)
	}
	text := sqltext.Conditionless(st.Text)
	switch first := firstWord(text); first {
	case "SET":
		ix.set(text)
	case "CREATE":
		return ix.create(text)
	case "ALTER":
		return ix.alter(text)
	case "USE":
		return ix.use(string(text))
	case "UPDATE", "DELETE", "TRUNCATE", "REPLACE", "INSERT", "LOAD", "CALL":
		return fmt.Errorf("%w: it changes rows by %.60q; a dump holds tables and their rows alone", sqltext.ErrRefused, text)
	case "DO", "SELECT":
		if m := setSequence.FindSubmatch(text); m != nil {
			fmt.Fprintf(&ix.r.positions, "DO SETVAL(%s, %s, %s);\n", m[1], m[2], m[3])
		}
	case "DROP", "LOCK", "UNLOCK", "START", "BEGIN", "COMMIT", "ANALYZE", "FLUSH", "DELIMITER":
	case "": // what only one kind of client understands
	default:
		ix.r.notCarried = append(ix.r.notCarried, fmt.Sprintf("the statement %.60q", text))
	}
	return nil
}

// firstWord is the first word of a statement, in capitals.
func firstWord(text []byte) string {
	n := bytes.IndexFunc(text, func(c rune) bool { return c < 'A' || c > 'Z' && c < 'a' || c > 'z' })
	if n < 0 {
		n = len(text)
	}
	return strings.ToUpper(string(text[:n]))
}

var insertHead = regexp.MustCompile(`(?i)^(?:INSERT(?:\s+(?:IGNORE|DELAYED|LOW_PRIORITY|HIGH_PRIORITY))*|REPLACE)\s+INTO\s`)

// insertInto gives the statement as INSERT INTO …, however it puts its rows in;
// nil if it does not. It may change what it is given.
func insertInto(stmt []byte) []byte {
	m := insertHead.FindIndex(stmt[:min(len(stmt), 80)])
	if m == nil {
		return nil
	}
	const want = "INSERT INTO "
	at := m[1] - len(want)
	if at < 0 {
		return nil
	}
	copy(stmt[at:], want)
	return stmt[at:]
}

// insert notes where rows are. Statements that follow one another make one
// stretch.
func (ix *mysqlIndex) insert(text []byte, st sqltext.Statement) error {
	ins, err := sqltext.ParseInsert(text, sqltext.MySQL)
	if err != nil {
		return err
	}
	t, err := ix.r.find(decode(ins.Table, ix.names))
	if err != nil {
		return err
	}
	for _, m := range []string{"NO_BACKSLASH_ESCAPES", "ANSI_QUOTES"} {
		if strings.Contains(ix.session.Mode, m) {
			return fmt.Errorf("%w: it was made in the SQL mode %s; make it in the server's usual mode", sqltext.ErrRefused, m)
		}
	}
	if t.settable == nil {
		if err := errors.Join(ix.checkZone(t), t.prepare(ix.names)); err != nil {
			return err
		}
	}
	end := st.Offset + int64(len(st.Text))
	if n := len(t.extents); n > 0 && ix.last == t {
		t.extents[n-1].to = end
	} else {
		t.extents = append(t.extents, extent{from: st.Offset, to: end})
	}
	ix.last = t
	return nil
}

// decode gives a name that stands among rows, in the charset of the dump; in
// definitions they are in UTF-8 always.
func decode(name, charset string) string {
	if charset == "latin1" { // which is Windows-1252 to these servers
		if s, err := charmap.Windows1252.NewDecoder().String(name); err == nil {
			return s
		}
	}
	return name
}

func (ix *mysqlIndex) set(text []byte) {
	if m := setNames.FindSubmatch(text); m != nil {
		ix.names = strings.ToLower(string(m[1]))
	}
	if m := setMode.FindSubmatch(text); m != nil {
		ix.session.Mode = strings.ToUpper(string(m[1]))
	}
	if m := setZone.FindSubmatch(text); m != nil {
		ix.zone = string(m[1])
		ix.session.Zone = ix.zone
	}
	for _, m := range setKept.FindAllSubmatch(text, -1) {
		ix.session.Set(strings.ToLower(string(m[1])), string(m[2]))
	}
}

func (ix *mysqlIndex) use(text string) error {
	name := strings.Trim(strings.TrimSpace(text[len("USE"):]), "`;")
	if ix.database != "" && ix.database != name && len(ix.r.order) > 0 {
		return fmt.Errorf("%w: it holds several databases (%s, %s); make a dump of the one that the site uses", sqltext.ErrRefused, ix.database, name)
	}
	ix.database = name
	return nil
}

func (ix *mysqlIndex) create(text []byte) error {
	ix.last = nil
	if createsIndex.Match(text) {
		return ix.index(text)
	}
	text = []byte(sqltext.WithoutQualifier(string(text), cmp.Or(ix.database, ix.own)))
	one, err := sqltree.Parse(text, sqltext.MySQL)
	if err != nil {
		if !bytes.Contains(bytes.ToUpper(text[:min(len(text), 40)]), []byte("DATABASE")) {
			ix.r.notCarried = append(ix.r.notCarried, err.Error())
		}
		return nil
	}
	if one.Shape == sqltree.ShapeTable {
		def, err := sqltree.ParseTable(text, sqltext.MySQL)
		if err == nil {
			ix.r.addTable(def)
		}
		return err
	}
	o := database.Object{Name: one.Name, SQL: one.SQL(nil), Session: ix.session}
	switch one.Shape {
	case sqltree.ShapeView:
		o.Kind, o.Mode, o.Zone = database.View, "", ""
		// Older programs make a table first in the place of each view.
		delete(ix.r.tables, one.Name)
		ix.r.order = slices.DeleteFunc(ix.r.order, func(t string) bool { return t == one.Name })
	case sqltree.ShapeTrigger:
		o.Kind, o.Zone = database.Trigger, ""
	case sqltree.ShapeRoutine:
		o.Kind, o.Zone = database.Routine, ""
	case sqltree.ShapeEvent:
		o.Kind = database.Event
	case sqltree.ShapeSequence:
		o.Kind, o.Session, o.Early = database.Sequence, database.Session{}, true
	}
	ix.r.addObject(o)
	return nil
}

// createsIndex tells a key that is made outside of its table's definition.
var createsIndex = regexp.MustCompile(`(?i)^CREATE\s+(?:UNIQUE\s+|FULLTEXT\s+|SPATIAL\s+)?INDEX\s`)

// index takes CREATE INDEX, which web panels write.
func (ix *mysqlIndex) index(text []byte) error {
	return fmt.Errorf("%w: a key made by %.60q; make the dump with keys in the definitions of the tables", sqltext.ErrRefused, text)
}

func (ix *mysqlIndex) alter(text []byte) error {
	name, actions, err := sqltext.Alterations(text, sqltext.MySQL)
	if err != nil {
		return err
	}
	for _, a := range actions {
		if u := strings.ToUpper(a); u == "DISABLE KEYS" || u == "ENABLE KEYS" || bytes.HasPrefix(bytes.ToUpper(text), []byte("ALTER DATABASE")) {
			continue
		}
		t, err := ix.r.find(name)
		if err != nil {
			return err
		}
		if err := t.def.Alter(a); err != nil {
			return err
		}
	}
	return nil
}

func (ix *mysqlIndex) end() error {
	if len(ix.r.order) == 0 {
		return fmt.Errorf("%w: it makes no table", sqltext.ErrRefused)
	}
	// Sequences first, then the others, views in the order in which they can be made.
	var views, others []database.Object
	for _, o := range ix.r.objects {
		if o.Kind == database.View {
			views = append(views, o)
		} else {
			others = append(others, o)
		}
	}
	kinds := []database.ObjectKind{database.Sequence, database.Routine, database.View, database.Trigger, database.Event}
	all := append(others, database.ViewOrder(views)...)
	slices.SortStableFunc(all, func(a, b database.Object) int { return slices.Index(kinds, a.Kind) - slices.Index(kinds, b.Kind) })
	ix.r.objects = all
	return nil
}

// checkZone refuses points in time that would be taken for others: an archive's
// are in UTC, as are those of a dump unless it was asked otherwise.
func (ix *mysqlIndex) checkZone(t *table) error {
	if ix.zone == "+00:00" || ix.zone == "UTC" {
		return nil
	}
	for _, it := range t.def.Items {
		if it.Kind == sqltree.Column && it.Type == "timestamp" {
			zone := "does not say in which time zone it is"
			if ix.zone != "" {
				zone = "is in the time zone " + ix.zone
			}
			return fmt.Errorf("%w: column %s of table %s holds points in time, and the dump %s; make the dump in UTC, as dump programs do unless told otherwise", sqltext.ErrRefused, it.Name, t.def.Name, zone)
		}
	}
	return nil
}

// prepare finds out which columns an INSERT sets, and how their texts are to be
// introduced: those of binary columns, and of columns in the charset of the dump,
// are the bytes that are meant; others the server has to convert.
func (t *table) prepare(names string) error {
	if names == "binary" {
		names = ""
	}
	t.names = names
	for _, it := range t.def.Items {
		if it.Kind != sqltree.Column || it.Generated {
			continue
		}
		intro, always := "_binary", false
		switch it.Type {
		case "char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set":
			own := cmp.Or(it.Charset, t.def.Charset)
			if names != "" && !sameCharset(own, names) {
				intro = "_" + names
			}
		case "json", "uuid", "inet4", "inet6":
			intro, always = "_utf8mb4", true // they take no bytes
		}
		if intro != "_binary" && !slices.Contains(introducers, intro[1:]) {
			return fmt.Errorf("%w: its text is in the charset %s; make the dump in utf8mb4", sqltext.ErrRefused, names)
		}
		t.settable = append(t.settable, settable{it.Name, intro, always})
	}
	return nil
}

// sameCharset reports whether texts in both are the same bytes, as far as both
// can hold them.
func sameCharset(a, b string) bool {
	utf8 := func(s string) bool { return s == "utf8" || s == "utf8mb3" || s == "utf8mb4" }
	return a == b || utf8(a) && utf8(b)
}

// errStop ends a walk early.
var errStop = errors.New("stop")

// insertRows gives the rows of INSERT statements.
func insertRows(s *sqltext.Splitter, t *table, yield func(columns []string, row []byte) error) error {
	for {
		st, err := s.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		text := insertInto(st.Text)
		if text == nil {
			continue // keys that are switched off, and the like
		}
		ins, err := sqltext.ParseInsert(text, sqltext.MySQL)
		if err != nil {
			return err
		}
		if len(ins.Columns) == 0 {
			err := ins.EachRow(text, sqltext.MySQL, nil, func(row []byte) error {
				values, err := sqltext.Values(row, sqltext.MySQL)
				ins.Columns = t.def.Columns()
				if len(values) == len(t.settable) {
					ins.Columns = nil
					for _, c := range t.settable {
						ins.Columns = append(ins.Columns, c.name)
					}
				}
				return errors.Join(err, errStop)
			})
			if !errors.Is(err, errStop) {
				return err
			}
		}
		if err := t.rows(ins, text, yield); err != nil {
			return err
		}
	}
}

// rows gives the rows of one INSERT, without the values of generated columns,
// which some dump programs write.
func (t *table) rows(ins *sqltext.Insert, text []byte, yield func(columns []string, row []byte) error) error {
	var columns []string
	var set []settable // for each value; without a name: it is dropped
	for _, c := range ins.Columns {
		c = decode(c, t.names)
		i := slices.IndexFunc(t.settable, func(s settable) bool { return strings.EqualFold(s.name, c) })
		switch {
		case i >= 0:
			columns, set = append(columns, c), append(set, t.settable[i])
		case slices.Contains(t.def.Columns(), c):
			set = append(set, settable{})
		default:
			return fmt.Errorf("%w: rows with a column %s, which table %s does not have", sqltext.ErrRefused, c, t.def.Name)
		}
	}
	var short []byte
	return ins.EachRow(text, sqltext.MySQL, func(column int, raw []byte) string {
		if column >= len(set) || isASCII(raw) && !set[column].always {
			return ""
		}
		return set[column].introduce
	}, func(row []byte) error {
		if len(columns) == len(set) {
			return yield(columns, row)
		}
		values, err := sqltext.Values(row, sqltext.MySQL)
		if err != nil {
			return err
		}
		short = short[:0]
		for i, v := range values {
			if set[i].name == "" {
				continue
			}
			if len(short) > 0 {
				short = append(short, ',')
			}
			short = append(short, v...)
		}
		return yield(columns, short)
	})
}

func isASCII(b []byte) bool {
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}
