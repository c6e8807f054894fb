package demo

import (
	"cmp"
	"database/sql"
	"net"
	"strconv"

	"github.com/go-sql-driver/mysql"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"hovix/internal/database"
)

func openMariaDB(l database.Location) (*sql.DB, error) {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.DBName = l.User, l.Password, l.Name
	cfg.Net, cfg.Addr = "tcp", net.JoinHostPort(cmp.Or(l.Host, "127.0.0.1"), strconv.Itoa(cmp.Or(l.Port, 3306)))
	if l.Socket != "" {
		cfg.Net, cfg.Addr = "unix", l.Socket
	}
	c, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(c), nil
}
