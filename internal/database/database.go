// Package database is what Hovix needs of a database engine: to read a
// consistent snapshot of all tables as SQL text, and to stage such text beside
// the live tables and exchange it for them in one step. The packages below it
// implement that for each engine; sqltext reads and writes the text.
//
// Values travel as the bytes that the engine stores. Nothing here knows of
// archives or sites.
package database

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// Engine names a database engine.
type Engine string

// The engines that Hovix works on.
const (
	MariaDB  Engine = "mariadb" // and MySQL, which speaks the same protocol and dialect
	Postgres Engine = "postgres"
	SQLite   Engine = "sqlite"
)

// Dialect is the dialect of the engine's SQL text.
func (e Engine) Dialect() sqltext.Dialect {
	switch e {
	case SQLite:
		return sqltext.SQLite
	case Postgres:
		return sqltext.Postgres
	}
	return sqltext.MySQL
}

// EngineOf gives the engine of a name as people and URLs have it. The error
// names the engines.
func EngineOf(name string) (Engine, error) {
	switch strings.ToLower(name) {
	case "mariadb", "mysql":
		return MariaDB, nil
	case "postgres", "postgresql", "pgsql":
		return Postgres, nil
	case "sqlite", "sqlite3":
		return SQLite, nil
	}
	return "", fmt.Errorf("unknown database engine %q; the engines are mariadb, postgres and sqlite", name)
}

// DefaultPort is where servers of the engine listen unless they are told otherwise.
func (e Engine) DefaultPort() int {
	if e == Postgres {
		return 5432
	}
	return 3306
}

// Location says where a database is and who logs in to it.
type Location struct {
	Engine   Engine
	Host     string // empty: this machine
	Port     int    // 0: the engine's own
	Socket   string // path of a Unix socket (PostgreSQL: of its folder), before Host and Port if set
	User     string
	Password string // never printed
	Name     string // of the database
	Path     string // of an SQLite file
}

// ParseURL reads a database URL: mariadb://user@host:port/name?socket=PATH, the
// same with postgres:, or sqlite:PATH. A URL with a password in it is refused: command lines are seen
// by everybody on a machine.
func ParseURL(s string) (Location, error) {
	scheme, rest, ok := strings.Cut(s, ":")
	if !ok {
		return Location{}, fmt.Errorf("%q is no database URL; write mariadb://user@host/name, postgres://user@host/name or sqlite:path/to/file", s)
	}
	engine, err := EngineOf(scheme)
	if err != nil {
		return Location{}, err
	}
	if engine == SQLite {
		rest = strings.TrimPrefix(rest, "//")
		if rest == "" {
			return Location{}, errors.New("the database URL sqlite: lacks the path of the file")
		}
		return Location{Engine: SQLite, Path: rest}, nil
	}
	u, err := url.Parse(s)
	if err != nil {
		return Location{}, fmt.Errorf("the database URL cannot be read; write %s://user@host:port/name", engine)
	}
	l := Location{Engine: engine, Host: u.Hostname(), Name: strings.Trim(u.Path, "/"), Socket: u.Query().Get("socket"), User: u.User.Username()}
	if _, has := u.User.Password(); has {
		return l, errors.New("the database URL holds a password, which others on this machine could see; leave it out and set HOVIX_DATABASE_PASSWORD or use --database-password-file")
	}
	if p := u.Port(); p != "" {
		if l.Port, err = strconv.Atoi(p); err != nil || l.Port < 1 || l.Port > 65535 {
			return l, fmt.Errorf("the database URL has the port %q; a port is a number from 1 to 65535", p)
		}
	}
	if l.Name == "" {
		return l, fmt.Errorf("the database URL lacks the name of the database after the host: %s://user@host/name", engine)
	}
	return l, nil
}

// String gives the location as a URL without password.
func (l Location) String() string {
	if l.Engine == SQLite {
		return "sqlite:" + l.Path
	}
	u := url.URL{Scheme: string(l.Engine), Host: l.Host, Path: "/" + l.Name}
	if l.Port != 0 {
		u.Host += ":" + strconv.Itoa(l.Port)
	}
	if l.User != "" {
		u.User = url.User(l.User)
	}
	if l.Socket != "" {
		u.RawQuery = "socket=" + l.Socket
	}
	return u.String()
}

// IsZero reports whether no database is named.
func (l Location) IsZero() bool { return l.Engine == "" }

// Same reports whether both name the same database.
func (l Location) Same(o Location) bool {
	if l.Engine != o.Engine {
		return false
	}
	if l.Engine == SQLite {
		a, errA := os.Stat(l.Path)
		b, errB := os.Stat(o.Path)
		if errA == nil && errB == nil {
			return os.SameFile(a, b)
		}
		return filepath.Clean(l.Path) == filepath.Clean(o.Path)
	}
	port := func(l Location) int {
		return cmp.Or(l.Port, l.Engine.DefaultPort())
	}
	host := func(h string) string {
		if h == "" || h == "127.0.0.1" || h == "::1" {
			return "localhost"
		}
		return strings.ToLower(h)
	}
	if l.Name != o.Name {
		return false
	}
	if l.Socket != "" && o.Socket != "" {
		return l.Socket == o.Socket
	}
	return host(l.Host) == host(o.Host) && (l.Socket != "" || o.Socket != "" || port(l) == port(o))
}

// Reach is what a ConnectError attempted where no server answers.
const Reach = "reach the database server"

// Which of the values of a Location is wrong, for errors.As.
type ConnectError struct {
	Location Location
	What     string // what was attempted: "reach the server", "log in", "open the database"
	Why      error
	Advice   string // what to do
}

// Refused advises on a login that the server at an address refuses.
func (l Location) Refused(address string) string {
	if l.Password == "" {
		return fmt.Sprintf("The server at %s answers, but no password was given: set it in the site's settings or in HOVIX_DATABASE_PASSWORD, or name a file that holds it with --database-password-file.", address)
	}
	return fmt.Sprintf("The server at %s answers, but refuses this user and password; check both in the site's settings or in the options given.", address)
}

// Error says what was attempted, on what, and why it failed.
func (e *ConnectError) Error() string {
	return fmt.Sprintf("cannot %s (%s): %v", e.What, e.Location, e.Why)
}

// Unwrap gives the error of the driver.
func (e *ConnectError) Unwrap() error { return e.Why }

// Info tells of a database as a whole.
type Info struct {
	Engine  Engine
	Product string // "MariaDB", "MySQL", "PostgreSQL", "SQLite"
	Version string
	Charset string // default of the database, where the engine has one
}

// Table tells of a table without reading it.
type Table struct {
	Name string `json:"name"`
	Rows int64  `json:"rows"` // an estimate where the engine keeps no count
	// Refused says why a restore does not make the table, and so leaves it out; empty: it
	// makes it.
	Refused string `json:"refused,omitempty"`
	Bytes   int64  `json:"bytes"`              // with keys; 0 where unknown
	Keys    int64  `json:"keyBytes,omitempty"` // of those, in keys besides the primary one
}

// ObjectKind is a kind of thing that depends on tables.
type ObjectKind string

// The kinds of objects.
const (
	View     ObjectKind = "view"
	Trigger  ObjectKind = "trigger"
	Routine  ObjectKind = "routine" // function or procedure
	Event    ObjectKind = "event"
	Sequence ObjectKind = "sequence"
	Type     ObjectKind = "type"
	Other    ObjectKind = "statement" // what completes the others: foreign keys, comments, owners
)

// IsCode reports whether objects of the kind are run by the database itself, with
// the rights of whoever made them.
func (k ObjectKind) IsCode() bool {
	return k == Trigger || k == Routine || k == Procedure || k == Event
}

// Object is what a database holds beside tables, with its definition.
type Object struct {
	Kind  ObjectKind
	Name  string
	SQL   string // one statement, without the semicolon
	Early bool   // tables need it, so that it is made before them
	Session
}

// Session is what MariaDB keeps of the session in which a view, trigger, routine or event
// was made: its text means what it meant there. Empty values are those of a session of
// Hovix.
type Session struct {
	Mode      string `json:"mode,omitempty"`      // the SQL mode
	Charset   string `json:"charset,omitempty"`   // character_set_client
	Collation string `json:"collation,omitempty"` // collation_connection
	Zone      string `json:"zone,omitempty"`      // of an event: the time zone of its times
}

// Statements gives the statements by which a client gets into such a session.
func (s *Session) Statements() (out []string) {
	for _, set := range [][2]string{{"sql_mode", "'" + s.Mode + "'"}, {"character_set_client", s.Charset}, {"collation_connection", s.Collation}, {"time_zone", "'" + s.Zone + "'"}} {
		if strings.Trim(set[1], "'") != "" || set[0] == "sql_mode" {
			out = append(out, "SET "+set[0]+"="+set[1])
		}
	}
	return out
}

// Set takes over one setting of a session, by the name of its variable. Others change
// nothing.
func (s *Session) Set(name, value string) {
	switch name {
	case "sql_mode":
		s.Mode = value
	case "character_set_client":
		s.Charset = value
	case "collation_connection":
		s.Collation = value
	case "time_zone":
		s.Zone = value
	}
}

// ViewOrder puts views of MariaDB behind the views that they mention.
func ViewOrder(views []Object) []Object {
	var out []Object
	done := map[string]bool{}
	var visit func(v Object)
	visit = func(v Object) {
		if done[v.Name] {
			return
		}
		done[v.Name] = true
		for _, o := range views {
			if o.Name != v.Name && strings.Contains(v.SQL, sqltext.QuoteName(o.Name, sqltext.MySQL)) {
				visit(o)
			}
		}
		out = append(out, v)
	}
	for _, v := range views {
		visit(v)
	}
	return out
}

// Chunk is a piece of a table's rows as SQL text: some whole INSERT statements.
type Chunk struct {
	SQL  []byte // valid only during the call
	Rows int64
}

// Reader reads one consistent snapshot of a database. It is used by one
// goroutine at a time.
type Reader interface {
	Info() Info
	// Tables lists the base tables by name.
	Tables(ctx context.Context) ([]Table, error)
	// Definition gives the statement that creates the table, as the engine
	// prints it, and the statements for keys that are better made after the
	// rows, all without semicolons.
	Definition(ctx context.Context, table string) (create string, keys []string, err error)
	// Rows gives the rows of the table to yield, in chunks of about size bytes, but
	// those of which the SQL condition without is true, if it is not empty.
	Rows(ctx context.Context, table, without string, size int, yield func(Chunk) error) error
	// Objects lists what is not a table in an order in which it can be made.
	Objects(ctx context.Context) ([]Object, error)
	// Prologue and Epilogue are statements for the client that loads the text.
	Prologue() string
	Epilogue(ctx context.Context) (string, error)
	// Strings runs a query and gives all its rows as text, NULL as empty.
	Strings(ctx context.Context, query string, args ...any) ([][]string, error)
	// NotCarried lists what the database holds that Tables and Objects leave out.
	NotCarried(ctx context.Context) ([]string, error)
	Close() error
}

// Remaining gives the WHERE clause for the rows of which a condition is not true.
func Remaining(without string) string {
	if without == "" {
		return ""
	}
	return " WHERE (" + without + ") IS NOT TRUE"
}

// Forker is a Reader whose snapshot others can read too.
type Forker interface {
	// Fork opens another Reader of the same snapshot, for another goroutine. Where
	// the engine or the rights do not allow it, the error wraps ErrNoFork.
	Fork(ctx context.Context) (Reader, error)
}

// Judge is a Reader of an engine in which definitions may refer to what extensions bring.
type Judge interface {
	// Harmless reports whether what is referred to belongs to extensions and does nothing
	// but to compute values, so that a restore lets definitions refer to it.
	Harmless(ctx context.Context, r sqltree.Reference) (bool, error)
}

// Watcher is a Reader of tables some of which have no snapshot.
type Watcher interface {
	// Changed lists the tables that others changed while they were read.
	Changed(ctx context.Context) ([]string, error)
}

// ErrNoFork says that a snapshot is read by one connection only.
var ErrNoFork = errors.New("the snapshot cannot be shared")

// Stage is a new state of a database beside the live one. Define, Fill and
// Finish of different tables may be called from several goroutines at once; a
// table is defined before its rows come, and finished after them.
type Stage interface {
	// Target gives the quoted name under which rows of the table are staged.
	Target(table string) string
	Define(ctx context.Context, def *sqltree.Table) error
	// Fill prepares one chunk of rows as far as that needs no server, and gives what
	// stores it: the INSERT statements, which hold so many rows and name Target(table),
	// all or none. That gives the number of rows that the engine says it has stored; stmts
	// must be kept as they are until then. Chunks count from 1. One that a run before this
	// has stored is not stored again.
	Fill(table string, chunk int, rows int64, stmts [][]byte) func(context.Context) (int64, error)
	// Filled reports whether a run before this has stored a chunk, and the number of rows
	// that it stored.
	Filled(table string, chunk int) (rows int64, ok bool)
	// Finish makes the table's keys.
	Finish(ctx context.Context, table string, keys []string) error
	// Positions sets automatic numbers where they are not part of definitions.
	Positions(ctx context.Context, stmt []byte) error
	// AddObject takes an object. An early one is made at once; others when all
	// tables are there.
	AddObject(ctx context.Context, o Object) error
	// Touch runs a statement that changes the staged rows of a table.
	Touch(ctx context.Context, stmt string) error
	// Ready does what can be done before the switch, when everything is staged.
	Ready(ctx context.Context) error
	// Seal ends staging and gives what an Exchanger makes the live state, with
	// warnings of what could not be staged in full.
	Seal(ctx context.Context) (*State, []string, error)
	// Discard removes what has been staged, until ctx is done. After Seal it does nothing.
	Discard(ctx context.Context) error
	// Leave ends staging with what is staged as it is, for another run to go on with.
	Leave() error
}
