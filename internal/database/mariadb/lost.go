package mariadb

import (
	"errors"

	"github.com/go-sql-driver/mysql"
)

// Lost reports whether an error says that the server has ended the session.
func Lost(err error) bool {
	var my *mysql.MySQLError
	if errors.As(err, &my) { // shut down, killed, or over its time (MariaDB error code reference)
		return my.Number == 1053 || my.Number == 1317 || my.Number == 1927 || my.Number == 4031
	}
	return errors.Is(err, mysql.ErrInvalidConn)
}
