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
	for st, err := range sqltext.NewSplitter(in, sqltext.SQLite, 0).All() {
		if err == nil {
			err = takeSQLite(ctx, tx, st.Text)
		}
		if err != nil {
			return errors.Join(fmt.Errorf("at byte %d: %w", st.Offset, err), tx.Rollback())
		}
	}
	return tx.Commit()
}

func takeSQLite(ctx context.Context, tx *sql.Tx, text []byte) error {
	if string(text) != "DELETE FROM sqlite_sequence" {
		shape, err := sqltext.ShapeOf(text, sqltext.SQLite)
		switch {
		case err != nil:
			return err
		case shape == sqltext.ShapeNone:
			return nil
		case shape == sqltext.ShapeTable:
			if _, err := sqltext.ParseCreateTable(text, sqltext.SQLite); err != nil {
				return err
			}
		case shape == sqltext.ShapeInsert:
			ins, err := sqltext.ParseInsert(text, sqltext.SQLite)
			if err != nil {
				return err
			}
			if err := ins.EachRow(text, sqltext.SQLite, nil, func([]byte) error { return nil }); err != nil { // literals only
				return err
			}
		}
	}
	_, err := tx.ExecContext(ctx, string(text))
	return err
}
