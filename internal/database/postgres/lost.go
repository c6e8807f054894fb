package postgres

import (
	"errors"

	"github.com/jackc/pgx/v5/pgconn"
)

// SQLSTATE codes of a server that stops or starts (PostgreSQL, appendix A).
const (
	adminShutdown = "57P01"
	crashShutdown = "57P02"
	cannotConnect = "57P03"
)

// Lost reports whether an error says that the server has ended the session.
func Lost(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && (pg.Code == adminShutdown || pg.Code == crashShutdown || pg.Code == cannotConnect)
}
