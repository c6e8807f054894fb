package sqltext

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// reaching are functions of PostgreSQL that reach beyond the database: files of
// the server, other servers, other sessions.
var reaching = []string{"pg_read_file", "pg_read_binary_file", "pg_ls_dir", "pg_ls_logdir", "pg_ls_waldir", "pg_ls_tmpdir", "pg_stat_file",
	"lo_import", "lo_export", "lo_from_bytea", "lo_put", "dblink", "dblink_exec", "dblink_connect",
	"pg_execute_server_program", "pg_file_write", "pg_reload_conf", "pg_rotate_logfile", "pg_terminate_backend", "pg_cancel_backend",
	"pg_create_restore_point", "pg_logical_emit_message", "pg_promote", "pg_switch_wal"}

// acting are functions that do something, or run a query that they are given as a text
// in which anything could stand. A routine may call them; what is evaluated while it is
// restored may not.
var acting = []string{"set_config", "pg_notify", "pg_sleep", "pg_sleep_for", "pg_sleep_until", "pg_advisory_lock", "nextval", "setval",
	"query_to_xml", "query_to_xmlschema", "query_to_xml_and_xmlschema", "cursor_to_xml", "table_to_xml", "schema_to_xml", "database_to_xml", "ts_stat", "ts_rewrite",
	"crosstab", "connectby", "xpath_table", "dblink_send_query", "dblink_open", "postgres_fdw_get_connections"}

// checkCall refuses a word that is one of those functions.
func checkCall(t Token) error { return checkCallOf(t, reaching) }

func checkCallOf(t Token, list []string) error {
	if word := strings.ToLower(strings.Trim(string(t.Text), `"`)); isName(t) && slices.Contains(list, word) {
		return fmt.Errorf("%w: a call of %s", ErrRefused, word)
	}
	return nil
}

// checkHidden refuses a name or text that is written in escapes, U&"\0070g": no server
// writes it so, and what it says would have to be read first.
func checkHidden(text []byte, t Token) error {
	if t.At >= 2 && text[t.At-1] == '&' && text[t.At-2]|0x20 == 'u' && (t.Kind == Name || t.Kind == String) {
		return fmt.Errorf("%w: a name in escapes", ErrRefused)
	}
	return nil
}

// languages are those of PostgreSQL whose routines cannot reach beyond it.
var languages = []string{"sql", "plpgsql"}

// postgresHeads are the words with which the known statements begin.
var postgresHeads = []struct {
	words string
	shape Shape
}{
	{"set", ShapeNone}, {"begin", ShapeNone}, {"commit", ShapeNone}, {"copy", ShapeInsert},
	{"create table", ShapeTable}, {"create unlogged table", ShapeTable},
	{"create index", ShapeIndex}, {"create unique index", ShapeIndex},
	{"create view", ShapeView}, {"create materialized view", ShapeView},
	{"create trigger", ShapeTrigger}, {"create constraint trigger", ShapeTrigger}, {"create rule", ShapeTrigger},
	{"create function", ShapeRoutine}, {"create procedure", ShapeRoutine},
	{"create or replace function", ShapeRoutine}, {"create or replace procedure", ShapeRoutine},
	{"create sequence", ShapeSequence}, {"create unlogged sequence", ShapeSequence},
	{"create type", ShapeType}, {"create domain", ShapeType},
	{"create statistics", ShapeOther}, {"create schema", ShapeOther}, {"create extension", ShapeOther},
	{"comment on", ShapeOther}, {"refresh materialized view", ShapeOther}, {"alter sequence", ShapeOther}, {"alter table", ShapeOther},
	{"select pg_catalog.setval", ShapePosition},
}

// postgresShape is ShapeOf for PostgreSQL.
func postgresShape(stmt []byte) (Shape, error) {
	head, err := headOf(stmt)
	if err != nil {
		return 0, err
	}
	for _, h := range postgresHeads {
		if head != h.words && !strings.HasPrefix(head, h.words+" ") {
			continue
		}
		switch h.shape {
		case ShapeNone, ShapeInsert, ShapeTable, ShapePosition: // they are read in full by who takes them
			return h.shape, nil
		case ShapeRoutine:
			if err := checkLanguage(stmt); err != nil {
				return 0, err
			}
		}
		switch h.words {
		case "alter table":
			return alterShape(stmt)
		case "create materialized view":
			if err := checkActing(stmt); err != nil {
				return 0, err
			}
		}
		return h.shape, checkStatement(stmt)
	}
	return 0, fmt.Errorf("%w: a statement of unknown kind: %.60q", ErrRefused, stmt)
}

// headOf gives the first words of a statement, in small letters.
func headOf(stmt []byte) (string, error) {
	l := NewLexer(stmt, Postgres)
	var b strings.Builder
	for range 6 {
		t, err := l.Skip()
		if err != nil {
			return "", err
		}
		if t.Kind != Word && string(t.Text) != "." {
			break
		}
		if b.Len() > 0 && string(t.Text) != "." && !strings.HasSuffix(b.String(), ".") {
			b.WriteByte(' ')
		}
		b.WriteString(strings.ToLower(string(t.Text)))
	}
	return b.String(), nil
}

// checkStatement refuses a statement that calls what reaches beyond the
// database, or that holds another.
func checkStatement(stmt []byte) error {
	l := NewLexer(stmt, Postgres)
	depth, as := bodyState{d: Postgres}, false
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return err
		}
		if err := errors.Join(checkCall(t), checkHidden(stmt, t)); err != nil {
			return fmt.Errorf("%w in %.60q", err, stmt)
		}
		if string(t.Text) == ";" && depth.mayEnd() {
			return fmt.Errorf("%w: a second statement in %.60q", ErrRefused, stmt)
		}
		if t.Kind == String && (as || t.Text[0] == '$') {
			if err := checkBody(t); err != nil {
				return fmt.Errorf("%w in %.60q", err, stmt)
			}
		}
		as = t.Is("AS")
		depth.take(t.Kind, t.Text)
	}
}

// checkActing refuses a statement that acts while it is evaluated.
func checkActing(stmt []byte) error {
	l := NewLexer(stmt, Postgres)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return err
		}
		if err := checkCallOf(t, acting); err != nil {
			return fmt.Errorf("%w in %.60q", err, stmt)
		}
	}
}

// checkBody looks into the text of a routine.
func checkBody(t Token) error {
	body, err := Unquote(nil, t, Postgres)
	if err != nil {
		return err
	}
	l := NewLexer(body, Postgres)
	for {
		t, err := l.Skip()
		if err != nil || t.Kind == End {
			return nil // what cannot be read the server refuses too
		}
		if err := errors.Join(checkCall(t), checkHidden(body, t)); err != nil {
			return err
		}
		if t.Is("COPY") || t.Is("PROGRAM") {
			return fmt.Errorf("%w: the word %s", ErrRefused, t.Text)
		}
	}
}

// checkLanguage refuses routines of languages that reach beyond the database.
func checkLanguage(stmt []byte) error {
	l := NewLexer(stmt, Postgres)
	for {
		t, err := l.Skip()
		if err != nil {
			return err
		}
		if t.Kind == End { // BEGIN ATOMIC, or RETURN: always SQL
			return nil
		}
		if !t.Is("LANGUAGE") {
			continue
		}
		if t, err = l.Skip(); err != nil || !slices.Contains(languages, strings.ToLower(strings.Trim(string(t.Text), `"'`))) {
			return fmt.Errorf("%w: a routine in the language %s", ErrRefused, t.Text)
		}
		return nil
	}
}

// alterations are what ALTER TABLE may do.
var alterations = []string{"add constraint", "attach partition", "inherit", "replica identity", "cluster on", "enable trigger", "disable trigger", "enable row", "alter column"}

func alterShape(stmt []byte) (Shape, error) {
	if err := checkStatement(stmt); err != nil {
		return 0, err
	}
	l := NewLexer(stmt, Postgres)
	var t Token
	var err error
	for range 3 {
		if t, err = l.Skip(); err != nil {
			return 0, err
		}
	}
	if t.Is("ONLY") {
		if t, err = l.Skip(); err != nil {
			return 0, err
		}
	}
	_, t, err = relationOf(l, t)
	if err != nil {
		return 0, err
	}
	next, err := l.Skip()
	if err != nil {
		return 0, err
	}
	what := strings.ToLower(string(t.Text) + " " + string(next.Text))
	for _, a := range alterations {
		if what == a || strings.HasPrefix(what, a+" ") {
			if a == "add constraint" {
				return ShapeIndex, nil
			}
			return ShapeOther, nil
		}
	}
	return 0, fmt.Errorf("%w: %.60q", ErrRefused, stmt)
}

// Position is where a sequence of PostgreSQL stands.
type Position struct {
	Sequence string // as JoinName gives it
	Value    int64
	Called   bool // the value has been given out
}

// ParsePosition reads SELECT pg_catalog.setval('"schema"."name"', value, called).
func ParsePosition(stmt []byte) (p Position, err error) {
	bad := fmt.Errorf("%w: the position of a sequence was expected, not %.80q", ErrRefused, stmt)
	l := NewLexer(stmt, Postgres)
	var tokens []string
	for {
		t, err := l.Skip()
		if err != nil {
			return p, err
		}
		if t.Kind == End {
			break
		}
		if t.Kind == String {
			name, err := Unquote(nil, t, Postgres)
			if err != nil {
				return p, err
			}
			inner := NewLexer(name, Postgres)
			first, err := inner.Skip()
			if err != nil {
				return p, err
			}
			var end Token
			if p.Sequence, end, err = relationOf(inner, first); err != nil || end.Kind != End {
				return p, bad
			}
			t.Text = []byte("''")
		}
		tokens = append(tokens, strings.ToLower(string(t.Text)))
	}
	text := strings.Join(tokens, "")
	rest, ok := strings.CutPrefix(text, "selectpg_catalog.setval('',")
	value, called, ok2 := strings.Cut(strings.TrimSuffix(rest, ")"), ",")
	if p.Value, err = strconv.ParseInt(value, 10, 64); err != nil || !ok || !ok2 || called != "true" && called != "false" {
		return p, bad
	}
	p.Called = called == "true"
	return p, nil
}
