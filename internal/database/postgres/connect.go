// Package postgres reads, stages and changes databases of PostgreSQL servers,
// through github.com/jackc/pgx.
//
// All schemas of a database are read but those of the system and of extensions.
// Names of relations are those of sqltext.JoinName.
package postgres

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgproto3"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// SQLSTATE codes, from appendix A of the PostgreSQL manual.
const (
	invalidPassword  = "28P01"
	invalidAuth      = "28000"
	unknownDatabase  = "3D000"
	noPrivilege      = "42501"
	checkViolation   = "23514"
	uniqueViolation  = "23505"
	lockNotAvailable = "55P03"
	deadlock         = "40P01"
	readOnly         = "25006"
	tooManyClients   = "53300"
)

// usualSockets are the folders in which servers on this machine listen.
var usualSockets = []string{"/run/postgresql", "/var/run/postgresql", "/tmp"}

// endpoint gives the host, or the folder of the socket, and the port.
func endpoint(l database.Location) (host string, port int) {
	port = cmp.Or(l.Port, database.Postgres.DefaultPort())
	if l.Socket != "" {
		if dir, name := filepath.Split(l.Socket); strings.HasPrefix(name, ".s.PGSQL.") {
			if p, err := strconv.Atoi(strings.TrimPrefix(name, ".s.PGSQL.")); err == nil {
				port = p
			}
			return filepath.Clean(dir), port
		}
		return l.Socket, port
	}
	if l.Host == "" || l.Host == "localhost" {
		for _, dir := range usualSockets {
			if _, err := os.Stat(filepath.Join(dir, ".s.PGSQL."+strconv.Itoa(port))); err == nil && l.Host == "" {
				return dir, port
			}
		}
		return "localhost", port
	}
	return l.Host, port
}

// session is what all connections have set, so that values come and go in one
// form.
var session = [][2]string{{"client_encoding", "UTF8"}, {"DateStyle", "ISO"}, {"IntervalStyle", "postgres"}, {"TimeZone", "UTC"}, {"standard_conforming_strings", "on"},
	{"lc_monetary", "C"}, {"xmloption", "content"}, {"check_function_bodies", "off"}, {"search_path", ""}, {"client_min_messages", "warning"}}

// private is what besides is set for connections of Hovix itself.
const private = "SET extra_float_digits=3; SET bytea_output=hex; SET statement_timeout=0; SET row_security=off; SET lock_timeout='20s'; SET idle_in_transaction_session_timeout=0; " +
	// These not every version has.
	"SELECT set_config(name,'0',false) FROM pg_settings WHERE name IN ('idle_session_timeout','transaction_timeout')"

func settings() string {
	var b strings.Builder
	for _, kv := range session {
		fmt.Fprintf(&b, "SET %s=%s;\n", kv[0], quoteText(kv[1]))
	}
	return b.String()
}

// connect proves that l can be reached, logged in to and opened, and says which
// of its values is wrong if not.
func connect(ctx context.Context, l database.Location) (*pgconn.PgConn, error) {
	host, port := endpoint(l)
	quote := func(s string) string {
		return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) + "'"
	}
	dsn := fmt.Sprintf("host=%s port=%d user=%s dbname=%s connect_timeout=10", quote(host), port, quote(l.User), quote(l.Name))
	if l.User == "" {
		dsn = fmt.Sprintf("host=%s port=%d dbname=%s connect_timeout=10", quote(host), port, quote(l.Name))
	}
	if l.Password != "" {
		dsn += " password=" + quote(l.Password)
	}
	cfg, err := pgconn.ParseConfig(dsn)
	if err != nil {
		return nil, &database.ConnectError{Location: l, What: "use the database", Why: errors.New("its address cannot be read"), Advice: "Check host and port."}
	}
	cfg.RuntimeParams["application_name"] = "hovix"
	// What is interrupted is stopped on the server too, which would else go on with
	// a long statement and hold its locks.
	cfg.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: c, DeadlineDelay: time.Second}
	}
	conn, err := pgconn.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, explain(ctx, l, err)
	}
	conn.Frontend().SetMaxBodyLen(2*database.MaxRow + 1<<20) // a message is a row
	if err := execute(ctx, conn, settings()+private); err != nil {
		_ = closeConn(conn)
		return nil, err
	}
	return conn, nil
}

// closeConn ends a connection, whatever has been cancelled. One that the server has ended
// has done its work all the same.
func closeConn(conn *pgconn.PgConn) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	_ = conn.Close(ctx)
	return nil
}

// explain finds out which value of the location is wrong.
func explain(ctx context.Context, l database.Location, err error) error {
	host, port := endpoint(l)
	address := net.JoinHostPort(host, strconv.Itoa(port))
	if strings.HasPrefix(host, "/") {
		address = filepath.Join(host, ".s.PGSQL."+strconv.Itoa(port))
	}
	ce := &database.ConnectError{Location: l, Why: err, What: "use the database"}
	var pg *pgconn.PgError
	var op *net.OpError
	var dns *net.DNSError
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &pg):
		ce.Why = errors.New(pg.Message)
		switch pg.Code {
		case adminShutdown, crashShutdown, cannotConnect:
			ce.What, ce.Advice = database.Reach, "The server at "+address+" stops or starts just now; run the command again when it is there."
		case invalidPassword, invalidAuth:
			ce.What, ce.Advice = "log in to the server", l.Refused(address)
		case unknownDatabase:
			ce.What, ce.Advice = "open the database", fmt.Sprintf("Host, user and password are right, but the server has no database %q; create it, or check the spelling.", l.Name)
		case noPrivilege:
			ce.What, ce.Advice = "open the database", fmt.Sprintf("Host, user and password are right, but %q may not connect to the database %q; check the user's rights.", l.User, l.Name)
		case tooManyClients:
			ce.What, ce.Advice = "open the database", "The server at "+address+" takes no more connections; try again, or raise max_connections."
		}
	case errors.As(err, &dns):
		ce.What, ce.Why, ce.Advice = database.Reach, errors.New("no such host"), fmt.Sprintf("The host name %q is unknown here; check its spelling.", l.Host)
	case errors.As(err, &op):
		ce.What, ce.Why = database.Reach, op.Err
		ce.Advice = "Nothing answers at " + address + "; check that the server runs, and host and port."
		if strings.HasPrefix(host, "/") {
			ce.Advice = "No server listens on the socket " + address + "; check that the server runs, and the socket's folder and port."
		}
		if op.Timeout() {
			ce.Advice = "The server at " + address + " does not answer in time; check host, port and firewalls."
		}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		ce.What, ce.Why, ce.Advice = database.Reach, errors.New("the connection was cut"), "What answers at "+address+" ended the connection; check that the server runs, and host and port."
	case pgconn.Timeout(err):
		ce.What, ce.Why, ce.Advice = database.Reach, errors.New("timeout"), "The server at "+address+" does not answer in time; check host, port and firewalls."
	default:
		ce.What, ce.Why, ce.Advice = "log in to the server", withoutSecrets(err, l), "The server at "+address+" wants another way of logging in; check user and password."
	}
	return ce
}

// withoutSecrets keeps a driver's message from naming the password.
func withoutSecrets(err error, l database.Location) error {
	text := err.Error()
	if i := strings.LastIndex(text, ": "); i >= 0 {
		text = text[i+2:]
	}
	if l.Password != "" {
		text = strings.ReplaceAll(text, l.Password, "…")
	}
	return errors.New(text)
}

// execute runs statements that give nothing back.
func execute(ctx context.Context, conn *pgconn.PgConn, statements string) error {
	_, err := conn.Exec(ctx, statements).ReadAll()
	return plain(err)
}

// plain gives a server's message without the words that the driver puts around
// it, and still finds the *pgconn.PgError in it.
func plain(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return &serverError{pg}
	}
	var long *pgproto3.ExceededMaxBodyLenErr
	if errors.As(err, &long) {
		return database.ErrRowTooLarge
	}
	return err
}

type serverError struct{ *pgconn.PgError }

// Error gives the message with its detail.
func (e *serverError) Error() string {
	if e.Detail != "" {
		return e.Message + " (" + strings.TrimSuffix(e.Detail, ".") + ")"
	}
	return e.Message
}

// Unwrap gives the driver's error.
func (e *serverError) Unwrap() error { return e.PgError }

// codeOf gives the SQLSTATE of a server's error, "" of any other.
func codeOf(err error) string {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		return pg.Code
	}
	return ""
}

// ask runs a query and gives all its rows as text, NULL as empty. Question marks
// stand for the arguments, which are texts.
func ask(ctx context.Context, conn *pgconn.PgConn, query string, args ...any) ([][]string, error) {
	values := make([][]byte, len(args))
	for i, a := range args {
		values[i] = []byte(fmt.Sprint(a))
		query = strings.Replace(query, "?", "$"+strconv.Itoa(i+1), 1)
	}
	res := conn.ExecParams(ctx, query, values, nil, nil, nil).Read()
	if res.Err != nil {
		return nil, plain(res.Err)
	}
	out := make([][]string, len(res.Rows))
	for i, row := range res.Rows {
		out[i] = make([]string, len(row))
		for j, v := range row {
			out[i][j] = string(v)
		}
	}
	return out, nil
}

func quote(name string) string { return sqltext.QuoteName(name, sqltext.Postgres) }

func quoteText(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
