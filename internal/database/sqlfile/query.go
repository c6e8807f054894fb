package sqlfile

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// mirror answers queries of a dump: it holds, in an SQLite file, the columns that
// queries name of the tables that they name. Queries about sites are plain enough
// to mean the same there.
type mirror struct {
	mu      sync.Mutex
	db      *sql.DB
	columns map[string][]string // of each table, those that are filled
}

func (m *mirror) close() error {
	if m.db == nil {
		return nil
	}
	return m.db.Close()
}

// Strings runs a query on the tables of the dump.
func (r *reader) Strings(ctx context.Context, query string, args ...any) ([][]string, error) {
	r.mirror.mu.Lock()
	defer r.mirror.mu.Unlock()
	if err := r.reflect(ctx, query); err != nil {
		return nil, err
	}
	rows, err := r.mirror.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	cells, into := make([]sql.NullString, len(names)), make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	var out [][]string
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]string, len(cells))
		for i, c := range cells {
			row[i] = c.String
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

// ordinals gives which rows of a table a condition is true of, counted from 1.
func (r *reader) ordinals(ctx context.Context, name, condition string) (list []int64, err error) {
	if condition == "" {
		return nil, nil
	}
	query := "SELECT rowid FROM " + sqltext.QuoteName(name, r.d) + " WHERE " + condition + " ORDER BY 1"
	r.mirror.mu.Lock()
	defer r.mirror.mu.Unlock()
	if err := r.reflect(ctx, query); err != nil {
		return nil, err
	}
	rows, err := r.mirror.db.QueryContext(ctx, query)
	if err != nil {
		return nil, fmt.Errorf("choose rows of %s: %w", name, err)
	}
	defer rows.Close()
	for rows.Next() {
		var n int64
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		list = append(list, n)
	}
	return list, rows.Err()
}

// scratchDB opens a database file that need not outlive the process.
func scratchDB(path string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)&_pragma=foreign_keys(OFF)")
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

// reflect fills the mirror with what a query names.
func (r *reader) reflect(ctx context.Context, query string) (err error) {
	if r.mirror.db == nil {
		if r.mirror.db, err = scratchDB(filepath.Join(r.scratch, "mirror.sqlite")); err != nil {
			return err
		}
	}
	words := map[string]bool{}
	l := sqltext.NewLexer([]byte(query), r.d)
	for {
		t, err := l.Skip()
		if err != nil {
			return err
		}
		if t.Kind == sqltext.End {
			break
		}
		words[strings.Trim(string(t.Text), "`\"")] = true
	}
	for _, name := range r.order {
		if !words[name] {
			continue
		}
		if err := r.mirrorTable(ctx, name, words); err != nil {
			return fmt.Errorf("read %s: %w", name, err)
		}
	}
	return nil
}

// mirrorTable fills the columns of a table that words name, and those that it has
// filled before.
func (r *reader) mirrorTable(ctx context.Context, name string, words map[string]bool) error {
	t := r.tables[name]
	all := t.def.Columns()
	filled, known := r.mirror.columns[name]
	want := slices.DeleteFunc(slices.Clone(all), func(c string) bool { return !words[c] && !slices.Contains(filled, c) })
	if known && len(want) == len(filled) {
		return nil
	}
	tx, err := r.mirror.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	err = r.fillMirror(ctx, tx, name, all, want)
	if err != nil {
		return errors.Join(err, tx.Rollback())
	}
	r.mirror.columns[name] = want
	return tx.Commit()
}

func (r *reader) fillMirror(ctx context.Context, tx *sql.Tx, name string, all, want []string) error {
	quoted := sqltext.QuoteName(name, sqltext.SQLite)
	var defs, places []string
	for _, c := range all {
		def := sqltext.QuoteName(c, sqltext.SQLite) + " COLLATE NOCASE"
		if isNumeric(r.tables[name].def, c) {
			def = sqltext.QuoteName(c, sqltext.SQLite) + " NUMERIC"
		}
		defs = append(defs, def)
	}
	list := []string{"rowid"}
	for _, c := range want {
		list, places = append(list, sqltext.QuoteName(c, sqltext.SQLite)), append(places, ",?")
	}
	for _, q := range []string{"DROP TABLE IF EXISTS " + quoted, "CREATE TABLE " + quoted + " (" + strings.Join(defs, ",") + ")"} {
		if _, err := tx.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	if len(want) == 0 {
		return nil
	}
	insert, err := tx.PrepareContext(ctx, "INSERT INTO "+quoted+" ("+strings.Join(list, ",")+") VALUES (?"+strings.Join(places, "")+")")
	if err != nil {
		return err
	}
	defer insert.Close()
	n := int64(0)
	values := make([]any, 1+len(want))
	return r.each(ctx, r.tables[name], func(columns []string, row []byte) error {
		n++
		fields, err := sqltext.Fields(row, r.d)
		if err != nil {
			return err
		}
		values[0] = n
		for i, c := range want {
			values[i+1] = nil
			if at := slices.Index(columns, c); at >= 0 && at < len(fields) && fields[at] != nil {
				values[i+1] = string(fields[at])
			}
		}
		_, err = insert.ExecContext(ctx, values...)
		return err
	})
}

// isNumeric reports whether a column compares as numbers do.
func isNumeric(def *sqltree.Table, column string) bool {
	for _, it := range def.Items {
		if it.Kind == sqltree.Column && it.Name == column {
			switch it.Type {
			case "tinyint", "smallint", "mediumint", "int", "integer", "bigint", "decimal", "numeric", "float", "double", "real":
				return true
			}
		}
	}
	return false
}
