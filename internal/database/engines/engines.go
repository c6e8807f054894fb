// Package engines opens databases by their engine. It is the one place that
// knows all of them.
package engines

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"syscall"

	"hovix/internal/database"
	"hovix/internal/database/mariadb"
	"hovix/internal/database/postgres"
	"hovix/internal/database/sqlite"
)

// Open begins a consistent snapshot of the database at l. What is wrong with l
// comes as a *database.ConnectError.
func Open(ctx context.Context, l database.Location) (database.Reader, error) {
	switch l.Engine {
	case database.SQLite:
		return sqlite.Open(ctx, l)
	case database.MariaDB:
		return mariadb.Open(ctx, l)
	case database.Postgres:
		return postgres.Open(ctx, l)
	}
	return nil, fmt.Errorf("unknown database engine %q", l.Engine)
}

// Edit opens the database at l to be changed in place. What is wrong with l
// comes as a *database.ConnectError.
func Edit(ctx context.Context, l database.Location) (database.Editor, error) {
	switch l.Engine {
	case database.SQLite:
		return sqlite.Edit(ctx, l)
	case database.MariaDB:
		return mariadb.Edit(ctx, l)
	case database.Postgres:
		return postgres.Edit(ctx, l)
	}
	return nil, fmt.Errorf("unknown database engine %q", l.Engine)
}

// Exchange opens the database at l to exchange its states.
func Exchange(ctx context.Context, l database.Location) (database.Exchanger, error) {
	switch l.Engine {
	case database.SQLite:
		return sqlite.NewExchanger(ctx, l)
	case database.MariaDB:
		return mariadb.NewExchanger(ctx, l)
	case database.Postgres:
		return postgres.NewExchanger(ctx, l)
	}
	return nil, fmt.Errorf("unknown database engine %q", l.Engine)
}

// Lost reports whether an error says that a server does not answer any more, or has ended
// the session: the same may succeed when it is there again.
func Lost(err error) bool {
	var ce *database.ConnectError
	var op *net.OpError
	switch {
	case errors.As(err, &ce):
		return ce.What == database.Reach
	case errors.As(err, &op), errors.Is(err, driver.ErrBadConn), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.EPIPE), errors.Is(err, syscall.ECONNRESET):
		return true
	}
	return mariadb.Lost(err) || postgres.Lost(err)
}
