package sqltree

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"hovix/internal/database/sqltext"
)

// Shape is what a statement does.
type Shape int

// The shapes of statements. Everything else is refused.
const (
	ShapeNone      Shape = iota // does nothing to data: SET, BEGIN, COMMIT, PRAGMA …; it has no text
	ShapeTable                  // CREATE TABLE, which ParseTable reads
	ShapeInsert                 // INSERT INTO … VALUES, COPY … FROM stdin, which sqltext reads
	ShapeKey                    // CREATE INDEX, ALTER TABLE … ADD CONSTRAINT
	ShapeView                   // CREATE VIEW, CREATE MATERIALIZED VIEW
	ShapeTrigger                // CREATE TRIGGER, CREATE RULE
	ShapeRoutine                // CREATE FUNCTION, CREATE PROCEDURE
	ShapeEvent                  // CREATE EVENT
	ShapeSequence               // CREATE SEQUENCE
	ShapeType                   // CREATE TYPE, CREATE DOMAIN
	ShapePosition               // where a sequence stands
	ShapeSchema                 // CREATE SCHEMA
	ShapeExtension              // CREATE EXTENSION
	ShapeOther                  // what completes others: COMMENT ON, ALTER SEQUENCE … OWNED BY …
)

// Statement is a statement other than CREATE TABLE and rows.
type Statement struct {
	Shape Shape
	// Name is that of what it makes, as [sqltext.JoinName] gives it; of a key, in the
	// schema of its table; empty where it makes nothing with a name.
	Name string
	// Table is the relation that it belongs to, by name: of a key, trigger, rule or what
	// completes a table.
	Table string
	// Procedure says that a routine is a procedure, Range that a type is a range.
	Procedure, Range bool
	// Definer is the account of MariaDB with whose rights it is to run, nil if it names
	// none. SQL leaves it out; DefinedSQL writes it.
	Definer *Account
	// Setting is a variable of the session that what is made keeps, which SET gives to what
	// follows: sql_mode, character_set_client, collation_connection, time_zone. SetTo is its
	// value.
	Setting, SetTo string
	// Part is the table that ALTER TABLE attaches as a partition.
	Part string
	// Value and Called are where a sequence stands.
	Value  string
	Called bool

	d     sqltext.Dialect
	parts fragment
	body  string // of stored code of MariaDB, as it is
}

// IsCode reports whether the statement makes something that the database runs by
// itself.
func (s *Statement) IsCode() bool {
	return s.Shape == ShapeTrigger || s.Shape == ShapeRoutine || s.Shape == ShapeEvent
}

// References lists what the statement refers to, what it makes among it.
func (s *Statement) References() []Reference { return s.parts.references() }

// SQL gives the statement with the names that name gives to what it makes and refers
// to; empty for ShapeNone. It has no semicolon.
func (s *Statement) SQL(name Renamer) string {
	text := s.parts.text(s.d, name)
	if s.body != "" {
		text += " " + s.body
	}
	return text
}

// Account is an account of MariaDB.
type Account struct{ User, Host string }

// DefinedSQL is SQL with the account with whose rights it runs.
func (s *Statement) DefinedSQL(name Renamer) string {
	text := s.SQL(name)
	if s.Definer == nil {
		return text
	}
	q := func(part string) string { return sqltext.QuoteName(part, sqltext.MySQL) }
	head, rest := "CREATE", strings.TrimPrefix(text, "CREATE")
	if how, ok := strings.CutPrefix(rest, " ALGORITHM= "); ok { // of a view, which stands first
		word, _, _ := strings.Cut(how, " ")
		head += " ALGORITHM=" + word
		rest = strings.TrimPrefix(how, word)
	}
	return head + " DEFINER=" + q(s.Definer.User) + "@" + q(s.Definer.Host) + rest
}

// Parse reads a statement of any shape. For ShapeTable and ShapeInsert it tells the
// shape alone. What is not in the grammar gives an error that wraps
// [sqltext.ErrRefused] and names it.
func Parse(stmt []byte, d sqltext.Dialect) (s *Statement, err error) {
	defer func() {
		if err != nil {
			err = fmt.Errorf("%w (in %q)", err, brief(string(stmt)))
			s = nil
		}
	}()
	defer catch(&err)
	s = &Statement{d: d}
	if d == sqltext.SQLite && s.rebuild(stmt) {
		return s, nil
	}
	if s.Shape = headShape(stmt, d); s.Shape == ShapeTable || s.Shape == ShapeInsert {
		return s, nil
	}
	if d == sqltext.MySQL {
		stmt = sqltext.Conditionless(stmt)
		if m := madeIn.FindSubmatch(stmt); m != nil {
			s.Setting, s.SetTo = "character_set_client", string(m[1])
			return s, nil
		}
	}
	p := newParser(stmt, d)
	if s.plainSet(p) {
		return s, nil
	}
	switch d {
	case sqltext.MySQL:
		p.mysqlStatement(s, stmt)
	case sqltext.Postgres:
		p.postgresStatement(s)
	default:
		p.sqliteStatement(s)
	}
	if s.body == "" {
		p.end()
	}
	s.parts = p.out
	if s.IsCode() && s.body == "" && !isOne(s.SQL(nil), d) { // semicolons may stand in it
		refuse("more than one statement")
	}
	return s, nil
}

// isOne reports whether a text is one statement.
func isOne(text string, d sqltext.Dialect) bool {
	split := sqltext.SplitBytes([]byte(text+";"), d)
	_, err := split.Next()
	_, end := split.Next()
	return err == nil && errors.Is(end, io.EOF)
}

// headShape tells tables and rows by their first words, before a statement that may be
// long is cut into tokens.
func headShape(stmt []byte, d sqltext.Dialect) Shape {
	l := sqltext.NewLexer(stmt, d)
	first, err := l.Skip()
	if err != nil {
		return ShapeNone
	}
	switch {
	case first.Is("INSERT"), first.Is("COPY") && d == sqltext.Postgres:
		return ShapeInsert
	case first.Is("CREATE"):
		second, err := l.Skip()
		if err == nil && (second.Is("TABLE") || second.Is("VIRTUAL") && d == sqltext.SQLite || second.Is("UNLOGGED") && d == sqltext.Postgres && nextIs(l, "TABLE")) {
			return ShapeTable
		}
	}
	return ShapeNone
}

func nextIs(l *sqltext.Lexer, word string) bool {
	t, err := l.Skip()
	return err == nil && t.Is(word)
}

// settings are the variables of a client's session that text for clients sets.
var settings = map[sqltext.Dialect]map[string]bool{
	sqltext.MySQL: set(`time_zone foreign_key_checks unique_checks sql_mode sql_notes`),
	sqltext.Postgres: set(`client_encoding datestyle intervalstyle timezone standard_conforming_strings lc_monetary xmloption check_function_bodies search_path client_min_messages
		extra_float_digits bytea_output statement_timeout lock_timeout idle_in_transaction_session_timeout row_security default_tablespace default_table_access_method default_toast_compression`),
}

// kept are the variables of a session that MariaDB keeps with what is made in it, and the
// forms of their values.
var kept = map[string]*regexp.Regexp{
	"sql_mode":             regexp.MustCompile(`^[A-Z0-9_,]*$`),
	"character_set_client": regexp.MustCompile(`^\w{1,32}$`),
	"collation_connection": regexp.MustCompile(`^\w{1,64}$`),
	"time_zone":            regexp.MustCompile(`^[\w/+:-]{1,64}$`),
}

// madeIn says in which charset something was made whose text, beyond ASCII, is in UTF-8 here.
var madeIn = regexp.MustCompile(`^\s*SET @hovix_charset='(\w{1,32})'\s*;?\s*$`)

// pragmas are the settings that an SQLite database keeps, and the forms of their values.
var pragmas = map[string]*regexp.Regexp{
	"user_version":   regexp.MustCompile(`^-?\d{1,10}$`),
	"application_id": regexp.MustCompile(`^-?\d{1,10}$`),
	"journal_mode":   regexp.MustCompile(`^(?i:wal|delete)$`),
	"encoding":       regexp.MustCompile(`^UTF-(?:8|16|16le|16be)$`),
}

// plainSet takes what says how the session of a client goes on that loads the text by
// hand. Nothing of it is run, but for the mode that stored code of MariaDB keeps.
func (s *Statement) plainSet(p *parser) bool {
	if p.d == sqltext.MySQL && p.is("SET") && len(p.toks) == 4 && string(p.toks[2].Text) == "=" && (p.toks[3].Kind == sqltext.String || p.toks[3].Kind == sqltext.Word) {
		name, value := strings.ToLower(string(p.toks[1].Text)), string(p.toks[3].Text)
		if p.toks[3].Kind == sqltext.String {
			value = p.unquote(p.toks[3])
		}
		if form := kept[name]; form != nil {
			if !form.MatchString(value) {
				refuse("a session with %s %q", name, brief(value))
			}
			s.Setting, s.SetTo = name, value
			return true
		}
	}
	switch {
	case p.is("SET") && p.d != sqltext.SQLite:
		p.skip("SET")
		if !p.skip("NAMES") {
			name := strings.ToLower(p.name())
			if !settings[p.d][name] || !p.skip("=") && !p.skip("TO") {
				refuse("a setting of %s", brief(name))
			}
		}
		p.skip("-")
		p.i++
		p.end()
	case p.is("PRAGMA", "foreign_keys", "=") && p.d == sqltext.SQLite && len(p.toks) == 4:
	case p.is("PRAGMA") && p.d == sqltext.SQLite && len(p.toks) == 4 && string(p.toks[2].Text) == "=":
		s.Setting, s.SetTo = strings.ToLower(string(p.toks[1].Text)), strings.Trim(string(p.toks[3].Text), "'")
		if form := pragmas[s.Setting]; form == nil || !form.MatchString(s.SetTo) {
			refuse("the setting %s of a database", brief(s.Setting))
		}
	case p.is("BEGIN", "TRANSACTION"), p.is("START", "TRANSACTION"):
		p.i += 2
		p.end()
	case p.is("COMMIT"), p.is("UNLOCK", "TABLES"), p.is("BEGIN"):
		p.i++
		p.skip("TABLES")
		p.end()
	default:
		return false
	}
	return true
}

// sequenceOptions takes over the options of a sequence.
func (p *parser) sequenceOptions() {
	for {
		switch {
		case p.keep("AS"):
			p.typeName()
		case p.keepOne("NO MINVALUE", "NO MAXVALUE", "NO CYCLE", "CYCLE", "NOCYCLE", "NOCACHE", "NOMINVALUE", "NOMAXVALUE"):
		case p.keepOne("START WITH", "START", "INCREMENT BY", "INCREMENT", "MINVALUE", "MAXVALUE", "CACHE"):
			p.skip("=")
			p.number()
		case p.d == sqltext.MySQL && p.skip("ENGINE"):
			p.skip("=")
			p.emit("ENGINE=" + p.engine())
		default:
			return
		}
	}
}

// codeNames are functions and words that no site's stored code needs, for they reach
// beyond the database. Who agrees to stored code trusts it, and it could hide them: this
// is no fence, but it names what nobody means to agree to.
var codeNames = set(`load_extension readfile writefile edit fts3_tokenizer zipfile fsdir load_file outfile dumpfile sys_exec sys_eval
	pg_read_file pg_read_binary_file pg_ls_dir pg_ls_logdir pg_ls_waldir pg_ls_tmpdir pg_stat_file lo_import lo_export dblink dblink_exec dblink_connect
	pg_execute_server_program pg_file_write pg_reload_conf pg_rotate_logfile pg_terminate_backend pg_cancel_backend program`)

// checkCode refuses the text of a routine that names one of them, as far as it can be
// read: what cannot be the server refuses too.
func checkCode(text string, d sqltext.Dialect) {
	l := sqltext.NewLexer([]byte(text), d)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == sqltext.End {
			return
		}
		if w := strings.ToLower(strings.Trim(string(t.Text), "\"`")); (t.Kind == sqltext.Word || t.Kind == sqltext.Name) && codeNames[w] {
			refuse("stored code that names %s", w)
		}
	}
}

// tokens takes over stored code up to the end: every token written anew.
func (p *parser) tokens() {
	for {
		t := p.peek(0)
		w := strings.ToLower(string(t.Text))
		switch t.Kind {
		case sqltext.End:
			return
		case sqltext.Word:
			if codeNames[w] || strings.HasPrefix(w, "sqlite_") && string(p.peek(1).Text) == "(" {
				refuse("a call of %s", w)
			}
			if p.d == sqltext.Postgres && string(p.peek(1).Text) == "." && p.peek(2).Kind != sqltext.Punct {
				p.mention()
				continue
			}
			p.name() // checks it
			p.emit(w)
			if p.d == sqltext.SQLite {
				p.out[len(p.out)-1].text = string(t.Text)
			}
		case sqltext.Name:
			if codeNames[strings.ToLower(strings.Trim(w, "\"`[]"))] {
				refuse("a call of %s", w)
			}
			p.mention()
		case sqltext.Punct:
			if p.d != sqltext.SQLite && p.d != sqltext.Postgres || t.Text[0] != ';' && strings.IndexByte(operatorBytes+"()[],.:", t.Text[0]) < 0 {
				if t.Text[0] != ';' {
					p.unexpected("code")
				}
			}
			if strings.IndexByte(operatorBytes+":", t.Text[0]) >= 0 && p.code && !p.is("::") {
				p.run()
				continue
			}
			p.i++
			p.emit(string(t.Text))
		default:
			if !p.literal() {
				p.unexpected("code")
			}
		}
	}
}

// run takes over the signs that stand together as one operator.
func (p *parser) run() {
	s := ""
	for n := 0; ; n++ {
		t := p.peek(0)
		if t.Kind != sqltext.Punct || strings.IndexByte(operatorBytes+":", t.Text[0]) < 0 || n > 0 && p.toks[p.i-1].At+1 != t.At {
			break
		}
		s += string(t.Text)
		p.i++
	}
	p.emit(s)
}

// mention takes over a name in stored code, with what its schema may be.
func (p *parser) mention() {
	first := p.name()
	if p.d != sqltext.Postgres || !p.is(".") || p.peek(1).Kind == sqltext.Punct {
		p.out = append(p.out, node{kind: ident, text: first})
		return
	}
	p.skip(".")
	second := p.name()
	p.out = append(p.out, node{kind: external, ref: Mention, of: first, text: second})
}
