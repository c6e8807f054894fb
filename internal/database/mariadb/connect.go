// Package mariadb reads and stages databases of MariaDB and MySQL servers,
// through github.com/go-sql-driver/mysql.
package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database"
)

// Numbers of server errors, from the MariaDB error code reference.
const (
	erDbAccessDenied = 1044
	erAccessDenied   = 1045
	erUnknownDb      = 1049
	erUnknownAuth    = 1524
	erAccessNoPass   = 1698
	erTooLong        = 1406
	erPacketTooLarge = 1153
	erDuplicate      = 1062
	erDuplicateName  = 1586 // the same, with the key's name
	erLockWait       = 1205
	erDeadlock       = 1213
	erTableAccess    = 1142
	erColumnAccess   = 1143
	erReadOnly       = 1290
	erReadOnlyTrx    = 1792
	erReadOnlyMode   = 1836
)

// usualSockets are where servers on this machine listen; "localhost" means one
// of them to every other client.
var usualSockets = []string{"/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"}

// open returns a pool of connections, each with the session variables set.
// adjust may change what else a connection is made with.
func open(l database.Location, vars map[string]string, adjust ...func(*mysql.Config)) (*sql.DB, error) {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.DBName = l.User, l.Password, l.Name
	cfg.Net, cfg.Addr = endpoint(l)
	cfg.Timeout = 10 * time.Second
	cfg.MaxAllowedPacket = 0 // what the server allows
	cfg.Collation = "utf8mb4_general_ci"
	cfg.AllowNativePasswords = true
	cfg.Logger = silent{}
	cfg.Params = maps.Clone(patience)
	maps.Copy(cfg.Params, vars)
	for _, f := range adjust {
		f(cfg)
	}
	c, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, fmt.Errorf("prepare the connection to %s: %w", l, err)
	}
	return sql.OpenDB(c), nil
}

// patience has a server wait for a session that waits for others, and lets its statements
// take their time: some hosts end both after seconds. Comments hold what not every server
// knows (MariaDB documentation, Comment Syntax; MySQL manual, section 11.7).
var patience = map[string]string{
	"net_read_timeout": "3600", "net_write_timeout": "3600",
	"/*M!100101 max_statement_time=0,*/ /*M!100300 idle_transaction_timeout=0,idle_readonly_transaction_timeout=0,idle_write_transaction_timeout=0,*/ /*!50708 max_execution_time=0,*/ wait_timeout": "604800",
}

// silent keeps the driver from writing to standard error: what goes wrong is
// returned.
type silent struct{}

func (silent) Print(...any) {}

func endpoint(l database.Location) (network, address string) {
	if l.Socket != "" {
		return "unix", l.Socket
	}
	if (l.Host == "" || l.Host == "localhost") && l.Port == 0 {
		for _, s := range usualSockets {
			if st, err := os.Stat(s); err == nil && st.Mode()&os.ModeSocket != 0 {
				return "unix", s
			}
		}
	}
	host, port := l.Host, l.Port
	if host == "" || host == "localhost" {
		host = "127.0.0.1"
	}
	if port == 0 {
		port = 3306
	}
	return "tcp", net.JoinHostPort(host, strconv.Itoa(port))
}

// connect proves that l can be reached, logged in to and opened, and says which
// of its values is wrong if not.
func connect(ctx context.Context, l database.Location, vars map[string]string, adjust ...func(*mysql.Config)) (*sql.DB, error) {
	db, err := open(l, vars, adjust...)
	if err != nil {
		return nil, err
	}
	if err := db.PingContext(ctx); err != nil {
		_ = db.Close()
		return nil, explain(l, err)
	}
	return db, nil
}

// explain finds out which value of the location is wrong.
func explain(l database.Location, err error) error {
	network, address := endpoint(l)
	ce := &database.ConnectError{Location: l, Why: err, What: "use the database"}
	var my *mysql.MySQLError
	var op *net.OpError
	switch {
	case errors.As(err, &my):
		ce.Why = errors.New(my.Message)
		switch my.Number {
		case erAccessDenied, erAccessNoPass, erUnknownAuth:
			ce.What, ce.Advice = "log in to the server", l.Refused(address)
		case erUnknownDb:
			ce.What, ce.Advice = "open the database", fmt.Sprintf("Host, user and password are right, but the server has no database %q; create it, or check the spelling.", l.Name)
		case erDbAccessDenied:
			ce.What, ce.Advice = "open the database", fmt.Sprintf("Host, user and password are right, but %q may not use the database %q, or there is none of this name; check the spelling and the user's rights.", l.User, l.Name)
		}
	case errors.As(err, &op):
		ce.What, ce.Why = database.Reach, op.Err
		ce.Advice = "Nothing answers at " + address + "; check that the server runs, and host and port."
		var dns *net.DNSError
		if network == "unix" {
			ce.Advice = "No server listens on the socket " + address + "; check that the server runs, and the path of the socket."
		} else if errors.As(err, &dns) {
			ce.Advice = fmt.Sprintf("The host name %q is unknown here; check its spelling.", l.Host)
		} else if strings.Contains(err.Error(), "timeout") {
			ce.Advice = "The server at " + address + " does not answer in time; check host, port and firewalls."
		}
	case errors.Is(err, context.DeadlineExceeded):
		ce.What, ce.Advice = database.Reach, "The server at "+address+" does not answer in time; check host, port and firewalls."
	}
	return ce
}
