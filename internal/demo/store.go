package demo

import (
	"cmp"
	"database/sql"
	"net"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"hovix/internal/database"
)

// store is the site's database as a program that runs the site has it open.
type store struct {
	*sql.DB
	engine database.Engine
}

// openDB opens the site's database.
func openDB(l database.Location) (*store, error) {
	s := &store{engine: l.Engine}
	switch l.Engine {
	case database.SQLite:
		db, err := sql.Open("sqlite", l.Path)
		if err != nil {
			return nil, err
		}
		db.SetMaxOpenConns(1)
		s.DB = db
	case database.Postgres:
		cfg, err := pgx.ParseConfig("sslmode=prefer")
		if err != nil {
			return nil, err
		}
		cfg.Host, cfg.Port = cmp.Or(l.Socket, l.Host, "127.0.0.1"), uint16(cmp.Or(l.Port, 5432))
		cfg.User, cfg.Password, cfg.Database = l.User, l.Password, l.Name
		cfg.Fallbacks = nil
		if l.Socket != "" {
			cfg.TLSConfig = nil
		}
		s.DB = stdlib.OpenDB(*cfg)
	default:
		cfg := mysql.NewConfig()
		cfg.User, cfg.Passwd, cfg.DBName = l.User, l.Password, l.Name
		cfg.Net, cfg.Addr = "tcp", net.JoinHostPort(cmp.Or(l.Host, "127.0.0.1"), strconv.Itoa(cmp.Or(l.Port, 3306)))
		if l.Socket != "" {
			cfg.Net, cfg.Addr = "unix", l.Socket
		}
		cfg.ClientFoundRows = true // to change a row into what it is finds it too
		c, err := mysql.NewConnector(cfg)
		if err != nil {
			return nil, err
		}
		s.DB = sql.OpenDB(c)
	}
	return s, nil
}

// bind writes the question marks of a query as the engine wants them.
func (s *store) bind(query string) string {
	if s.engine != database.Postgres {
		return query
	}
	var b strings.Builder
	for n, part := range strings.SplitAfter(query, "?") {
		if head, ok := strings.CutSuffix(part, "?"); ok {
			part = head + "$" + strconv.Itoa(n+1)
		}
		b.WriteString(part)
	}
	return b.String()
}

func (s *store) row(query string, args ...any) *sql.Row { return s.QueryRow(s.bind(query), args...) }

func (s *store) rows(query string, args ...any) (*sql.Rows, error) {
	return s.Query(s.bind(query), args...)
}
