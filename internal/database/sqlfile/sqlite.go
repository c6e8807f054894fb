package sqlfile

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"path/filepath"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"hovix/internal/database"
	"hovix/internal/database/sqlite"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// loadSQLite lets SQLite load a dump of its own into a file in scratch, as far as
// the dump makes tables, rows, indexes, views and triggers, and reads that.
func loadSQLite(ctx context.Context, in io.Reader, scratch string) (database.Reader, error) {
	path := filepath.Join(scratch, "dump.sqlite")
	db, err := scratchDB(path)
	if err != nil {
		return nil, err
	}
	err = fillSQLite(ctx, db, in)
	if err = errors.Join(err, db.Close()); err != nil {
		return nil, err
	}
	return sqlite.Open(ctx, database.Location{Engine: database.SQLite, Path: path})
}

// scratchDB opens a database file that need not outlive the process.
func scratchDB(path string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=journal_mode(OFF)&_pragma=synchronous(OFF)&_pragma=foreign_keys(OFF)")
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

func fillSQLite(ctx context.Context, db *sql.DB, in io.Reader) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	var code []string // triggers are made last, so that no row sets one off
	for st, err := range sqltext.NewSplitter(in, sqltext.SQLite, 0).All() {
		if err == nil {
			err = takeSQLite(ctx, tx, st.Text, &code)
		}
		if err != nil {
			return errors.Join(fmt.Errorf("at byte %d: %w", st.Offset, err), tx.Rollback())
		}
	}
	for _, q := range code {
		if _, err := tx.ExecContext(ctx, q); err != nil {
			return errors.Join(err, tx.Rollback())
		}
	}
	return tx.Commit()
}

func takeSQLite(ctx context.Context, tx *sql.Tx, text []byte, code *[]string) error {
	const clear = "DELETE FROM sqlite_sequence"
	if string(text) == clear {
		_, err := tx.ExecContext(ctx, clear)
		return err
	}
	one, err := sqltree.Parse(text, sqltext.SQLite)
	if err != nil {
		return err
	}
	var q string
	switch one.Shape {
	case sqltree.ShapeNone:
		return nil
	case sqltree.ShapeTable:
		def, err := sqltree.ParseTable(text, sqltext.SQLite)
		if err != nil {
			return err
		}
		q = def.SQL(nil)
	case sqltree.ShapeInsert:
		ins, err := sqltext.ParseInsert(text, sqltext.SQLite)
		if err != nil {
			return err
		}
		rows, _, err := ins.AppendInsert(nil, text, sqltext.SQLite, sqltext.QuoteName(ins.Table, sqltext.SQLite), nil) // literals only
		if err != nil {
			return err
		}
		q = string(rows)
	case sqltree.ShapeTrigger:
		*code = append(*code, one.SQL(nil))
		return nil
	default:
		q = one.SQL(nil)
	}
	_, err = tx.ExecContext(ctx, q)
	return err
}
