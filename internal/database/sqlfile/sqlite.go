package sqlfile

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"hovix/internal/database"
	"hovix/internal/database/sqlite"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// loadSQLite lets SQLite load a dump of its own into a file in scratch, as far as
// the dump makes tables, rows, indexes, views and triggers, and reads that.
func loadSQLite(ctx context.Context, in io.Reader, scratch string) (database.Reader, error) {
	path := filepath.Join(scratch, "dump.sqlite")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		return nil, err
	}
	db, err := sqlite.NewSession(ctx, path, "journal_mode=OFF", "synchronous=OFF", "foreign_keys=OFF")
	if err != nil {
		return nil, err
	}
	err = fillSQLite(ctx, db, in)
	if err = errors.Join(err, db.Close()); err != nil {
		return nil, err
	}
	return sqlite.Open(ctx, database.Location{Engine: database.SQLite, Path: path})
}

// fillSQLite runs what a dump makes, in one transaction.
func fillSQLite(ctx context.Context, db *sqlite.Session, in io.Reader) error {
	if err := db.Run(ctx, "BEGIN"); err != nil {
		return err
	}
	var code []string // triggers are made last, so that no row sets one off
	for st, err := range sqltext.NewSplitter(in, sqltext.SQLite, 0).All() {
		if err == nil {
			err = takeSQLite(ctx, db, st.Text, &code)
		}
		if err != nil {
			return fmt.Errorf("at byte %d: %w", st.Offset, err)
		}
	}
	for _, q := range append(code, "COMMIT") {
		if err := db.Run(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

func takeSQLite(ctx context.Context, db *sqlite.Session, text []byte, code *[]string) error {
	const clear = "DELETE FROM sqlite_sequence"
	if string(text) == clear {
		return db.Run(ctx, clear)
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
	return db.Run(ctx, q)
}
