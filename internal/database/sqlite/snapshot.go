package sqlite

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"time"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"
)

// header begins each database (SQLite, Database File Format, section 1.3).
var header = []byte("SQLite format 3\x00")

// IsDatabase reports whether a file begins like a database.
func IsDatabase(r io.ReaderAt) bool {
	head := make([]byte, len(header))
	_, err := r.ReadAt(head, 0)
	return err == nil && bytes.Equal(head, header)
}

// Snapshot copies the database file at path, with what its log holds, to the file to, as it
// is at one moment, whoever writes to it meanwhile.
func Snapshot(ctx context.Context, path, to string) (err error) {
	from, err := openRaw(path, lib.SQLITE_OPEN_READONLY)
	if err != nil {
		return fmt.Errorf("open the database: %w", err)
	}
	defer from.close()
	dest, err := openRaw(to, lib.SQLITE_OPEN_READWRITE|lib.SQLITE_OPEN_CREATE)
	if err != nil {
		return fmt.Errorf("make room for a copy: %w", err)
	}
	defer dest.close()
	main, err := libc.CString("main")
	if err != nil {
		return err
	}
	defer libc.Xfree(dest.tls, main)
	backup := lib.Xsqlite3_backup_init(dest.tls, dest.db, main, from.db, main)
	if backup == 0 {
		return dest.failure(lib.Xsqlite3_errcode(dest.tls, dest.db))
	}
	rc := int32(lib.SQLITE_OK)
	for begun := time.Now(); ; {
		// All pages in one step, which is one moment.
		rc = lib.Xsqlite3_backup_step(dest.tls, backup, -1)
		if rc != lib.SQLITE_BUSY && rc != lib.SQLITE_LOCKED || time.Since(begun) > 10*time.Second || ctx.Err() != nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if end := lib.Xsqlite3_backup_finish(dest.tls, backup); rc == lib.SQLITE_DONE && end == lib.SQLITE_OK {
		return ctx.Err()
	}
	return dest.failure(rc)
}
