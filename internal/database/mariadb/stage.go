package mariadb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// stage builds tables under other names in the target database.
type stage struct {
	l       database.Location
	db      *sql.DB
	rows    *sql.DB // on which text is bytes, as it is in an archive: the server need not look into it
	id      string
	mu      sync.Mutex
	order   []string
	tables  map[string]*staged
	objects []database.Object
	known   collations // nil until it is needed
	made    []string   // sequences that were made where they belong
	at      []string   // statements that set the positions of sequences
	done    bool

	warnings []string
}

// staged is a table that is being staged.
type staged struct {
	def      *sqltext.CreateTable
	name     string // under which it is staged
	deferred []string
	foreign  []sqltext.Item
	sequence bool
}

func (t *staged) kind() string {
	if t.sequence {
		return "SEQUENCE"
	}
	return "TABLE"
}

// NewStage connects to the target database and prepares staging with the given
// number of connections.
func NewStage(ctx context.Context, l database.Location, connections int) (database.Stage, error) {
	vars := map[string]string{"sql_mode": "'" + sqlMode + "'", "time_zone": "'+00:00'", "foreign_key_checks": "0", "unique_checks": "0"}
	db, err := connect(ctx, l, vars)
	if err != nil {
		return nil, err
	}
	vars["character_set_client"], vars["collation_connection"] = "binary", "binary"
	rows, err := open(l, vars)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	for _, d := range []*sql.DB{db, rows} {
		d.SetMaxOpenConns(connections)
		d.SetMaxIdleConns(connections)
	}
	b := make([]byte, 4)
	_, _ = rand.Read(b)
	return &stage{l: l, db: db, rows: rows, id: hex.EncodeToString(b), tables: map[string]*staged{}}, nil
}

func (s *stage) exec(ctx context.Context, what, q string) error {
	if _, err := s.db.ExecContext(ctx, q); err != nil {
		return s.explain(what, len(q), err)
	}
	return nil
}

func (s *stage) explain(what string, size int, err error) error {
	var my *mysql.MySQLError
	switch {
	case errors.Is(err, mysql.ErrPktTooLarge), errors.As(err, &my) && my.Number == erPacketTooLarge:
		return fmt.Errorf("%s: a statement of %d bytes is larger than the server accepts (max_allowed_packet): %w", what, size, err)
	case errors.As(err, &my) && my.Number == erTooLong:
		return fmt.Errorf("%s: a value became longer than its column holds: %w", what, err)
	}
	return fmt.Errorf("%s: %w", what, err)
}

func (s *stage) Target(table string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.target(table)
}

func (s *stage) target(table string) string {
	if t := s.tables[table]; t != nil {
		return quote(t.name)
	}
	return quote("_hovix_" + s.id + "_unknown")
}

func (s *stage) Define(ctx context.Context, def *sqltext.CreateTable) error {
	t := &staged{def: def}
	s.mu.Lock()
	if s.tables[def.Name] != nil {
		s.mu.Unlock()
		return fmt.Errorf("define %s: it is defined twice", def.Name)
	}
	t.name = fmt.Sprintf("_hovix_%s_%d", s.id, len(s.order))
	s.tables[def.Name] = t
	s.order = append(s.order, def.Name)
	s.mu.Unlock()
	auto := def.AutoColumn()
	// An automatic column needs a key from the start; other keys are made faster
	// when the rows are there, and foreign ones when all tables are.
	now := func(it sqltext.Item) bool {
		switch it.Kind {
		case sqltext.UniqueKey, sqltext.PlainKey:
			return auto != "" && len(it.Columns) > 0 && it.Columns[0] == auto
		case sqltext.ForeignKey:
			return false
		}
		return true
	}
	for _, it := range def.Items {
		switch {
		case it.Kind == sqltext.ForeignKey:
			t.foreign = append(t.foreign, it)
		case !now(it):
			t.deferred = append(t.deferred, "ADD "+it.Text)
		}
	}
	create, err := s.fit(ctx, "define table "+def.Name, def.Render(quote(t.name), now))
	if err != nil {
		return err
	}
	return s.exec(ctx, "define table "+def.Name, create)
}

func (s *stage) Insert(ctx context.Context, table string, stmt []byte) (int64, error) {
	res, err := s.rows.ExecContext(ctx, string(stmt))
	if err != nil {
		return 0, s.explain("fill table "+table, len(stmt), err)
	}
	return res.RowsAffected()
}

func (s *stage) Finish(ctx context.Context, table string, _ []string) error {
	s.mu.Lock()
	t := s.tables[table]
	s.mu.Unlock()
	if t == nil || len(t.deferred) == 0 {
		return nil
	}
	return s.exec(ctx, "make the keys of "+table, "ALTER TABLE "+quote(t.name)+" "+strings.Join(t.deferred, ", "))
}

// Positions are set when sequences have their names; those of columns are in
// definitions.
func (s *stage) Positions(_ context.Context, stmt []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at = append(s.at, string(stmt))
	return nil
}

func (s *stage) AddObject(ctx context.Context, o database.Object) error {
	if o.Kind == database.Sequence {
		return s.sequence(ctx, o)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.objects = append(s.objects, o)
	return nil
}

// sequence makes a sequence. Definitions of tables name it, so that one must be
// there under its name: where none is, it is made there, and removed should the
// restore be given up; where one is, the new one is staged like a table.
func (s *stage) sequence(ctx context.Context, o database.Object) error {
	live, err := stringRows(s.db.QueryContext(ctx, "SELECT LOWER(TABLE_TYPE) FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME="+string(sqltext.AppendMySQLString(nil, []byte(o.Name), false))))
	if err != nil {
		return fmt.Errorf("list sequences: %w", err)
	}
	there := len(live) > 0
	if there && live[0][0] != "sequence" {
		return fmt.Errorf("make sequence %s: the database has a %s of this name; rename it first", o.Name, live[0][0])
	}
	options, ok := sqltext.CutSequence(o.SQL)
	if !ok {
		return fmt.Errorf("%w: the definition of the sequence %s", sqltext.ErrRefused, o.Name)
	}
	if !there {
		if err := s.exec(ctx, "make sequence "+o.Name, "CREATE SEQUENCE "+quote(o.Name)+options); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.made = append(s.made, o.Name)
		return nil
	}
	s.mu.Lock()
	t := &staged{def: &sqltext.CreateTable{Name: o.Name}, name: fmt.Sprintf("_hovix_%s_%d", s.id, len(s.order)), sequence: true}
	s.tables[o.Name] = t
	s.order = append(s.order, o.Name)
	s.mu.Unlock()
	return s.exec(ctx, "make sequence "+o.Name, "CREATE SEQUENCE "+quote(t.name)+options)
}

// Touch runs a statement on a staged table.
func (s *stage) Touch(ctx context.Context, stmt string) error {
	return s.exec(ctx, "change staged rows", stmt)
}

// Ready has nothing to do: what is not in tables needs their final names.
func (s *stage) Ready(context.Context) error { return nil }

// Switch renames all tables in one statement, which the server does wholly or
// not at all. What follows (foreign keys, views, triggers) needs the final
// names; a failure there is a warning, for the new state is in place.
func (s *stage) Switch(ctx context.Context) (*database.Replaced, error) {
	rep := &database.Replaced{Tables: map[string]string{}}
	live, err := stringRows(s.db.QueryContext(ctx, "SELECT TABLE_NAME, TABLE_TYPE FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE()"))
	if err != nil {
		return nil, fmt.Errorf("list the tables of the target: %w", err)
	}
	var renames, drops, back []string // back: what puts the old tables back, after the new ones are dropped
	stamp := time.Now().UTC().Format("060102_150405")
	for i, name := range s.order {
		for _, row := range live {
			if row[0] != name {
				continue
			}
			if row[1] == "VIEW" {
				if err := s.dropView(ctx, name, rep); err != nil {
					return nil, err
				}
				continue
			}
			kept := fmt.Sprintf("_hovix_before_%s_%d_%s", stamp, i, name)
			kept = strings.ToValidUTF8(kept[:min(len(kept), 60)], "")
			rep.Tables[name] = kept
			renames = append(renames, quote(name)+" TO "+quote(kept))
			back = append(back, fmt.Sprintf("RENAME TABLE %s TO %s;", quote(kept), quote(name)))
		}
		renames = append(renames, quote(s.tables[name].name)+" TO "+quote(name))
		drops = append(drops, "DROP "+s.tables[name].kind()+" "+quote(name)+";")
	}
	if len(renames) > 0 {
		if err := s.exec(ctx, "exchange the tables", "RENAME TABLE "+strings.Join(renames, ", ")); err != nil {
			return nil, err
		}
	}
	s.done = true
	rep.Warnings = append(rep.Warnings, s.warnings...)
	for _, q := range s.at {
		if err := s.exec(ctx, "set the position of a sequence", q); err != nil {
			rep.Warnings = append(rep.Warnings, err.Error())
		}
	}
	views := rep.PutBack
	rep.PutBack = nil
	s.foreignKeys(ctx, rep)
	back = append(rep.PutBack, back...)
	rep.PutBack = nil
	s.makeObjects(ctx, rep)
	if back = append(append(back, views...), rep.PutBack...); len(back) > 0 {
		rep.PutBack = append(append([]string{"SET foreign_key_checks=0;"}, drops...), back...)
	}
	return rep, errors.Join(s.rows.Close(), s.db.Close())
}

func (s *stage) dropView(ctx context.Context, name string, rep *database.Replaced) error {
	def, err := stringRows(s.db.QueryContext(ctx, "SHOW CREATE VIEW "+quote(name)))
	if err != nil {
		return fmt.Errorf("read view %s of the target: %w", name, err)
	}
	rep.PutBack = append(rep.PutBack, def[0][1]+";")
	return s.exec(ctx, "replace view "+name, "DROP VIEW "+quote(name))
}

// foreignKeys gives the new tables their foreign keys. Their names are unique
// in a database, so the kept tables lose those of the same name first.
func (s *stage) foreignKeys(ctx context.Context, rep *database.Replaced) {
	var wanted []string
	for _, name := range s.order {
		for _, it := range s.tables[name].foreign {
			wanted = append(wanted, strings.ToLower(it.Name))
		}
	}
	if len(wanted) == 0 {
		return
	}
	warn := func(err error) {
		if err != nil {
			rep.Warnings = append(rep.Warnings, err.Error())
		}
	}
	rows, err := stringRows(s.db.QueryContext(ctx, "SELECT TABLE_NAME, CONSTRAINT_NAME FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA=DATABASE()"))
	warn(err)
	for _, row := range rows {
		if !slices.Contains(wanted, strings.ToLower(row[1])) {
			continue
		}
		if def, err := stringRows(s.db.QueryContext(ctx, "SHOW CREATE TABLE "+quote(row[0]))); err == nil {
			if old, err := sqltext.ParseCreateTable([]byte(def[0][1]), sqltext.MySQL); err == nil {
				for _, it := range old.Items {
					if it.Kind == sqltext.ForeignKey && it.Name == row[1] {
						rep.PutBack = append(rep.PutBack, "ALTER TABLE "+quote(row[0])+" ADD "+it.Text+";")
					}
				}
			}
		}
		warn(s.exec(ctx, "free the name "+row[1], "ALTER TABLE "+quote(row[0])+" DROP FOREIGN KEY "+quote(row[1])))
	}
	for _, name := range s.order {
		var adds []string
		for _, it := range s.tables[name].foreign {
			adds = append(adds, "ADD "+it.Text)
		}
		if len(adds) > 0 {
			warn(s.exec(ctx, "make the foreign keys of "+name, "ALTER TABLE "+quote(name)+" "+strings.Join(adds, ", ")))
		}
	}
}

func (s *stage) makeObjects(ctx context.Context, rep *database.Replaced) {
	for _, o := range s.objects {
		show, drop, at := "SHOW CREATE VIEW ", "DROP VIEW IF EXISTS ", 1
		switch {
		case o.Kind == database.Trigger:
			show, drop, at = "SHOW CREATE TRIGGER ", "DROP TRIGGER IF EXISTS ", 2
		case o.Kind == database.Event:
			show, drop, at = "SHOW CREATE EVENT ", "DROP EVENT IF EXISTS ", 3
		case o.Kind == database.Routine && sqltext.IsProcedure([]byte(o.SQL)):
			show, drop, at = "SHOW CREATE PROCEDURE ", "DROP PROCEDURE IF EXISTS ", 2
		case o.Kind == database.Routine:
			show, drop, at = "SHOW CREATE FUNCTION ", "DROP FUNCTION IF EXISTS ", 2
		}
		if def, err := stringRows(s.db.QueryContext(ctx, show+quote(o.Name))); err == nil && len(def) > 0 {
			rep.PutBack = append(rep.PutBack, drop+quote(o.Name)+";", def[0][at]+";")
		}
		err := s.exec(ctx, fmt.Sprintf("replace %s %s", o.Kind, o.Name), drop+quote(o.Name))
		if err == nil {
			err = s.object(ctx, o)
		}
		if err != nil {
			rep.Warnings = append(rep.Warnings, err.Error())
		}
	}
}

// object makes an object in the SQL mode that it had.
func (s *stage) object(ctx context.Context, o database.Object) error {
	what := fmt.Sprintf("make %s %s", o.Kind, o.Name)
	stmt, err := s.fit(ctx, what, o.SQL)
	if err != nil || o.Mode == "" {
		return errors.Join(err, s.exec(ctx, what, stmt))
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	defer conn.Close()
	set := func(mode string) error {
		_, err := conn.ExecContext(ctx, "SET SESSION sql_mode="+string(sqltext.AppendMySQLString(nil, []byte(mode), false)))
		return err
	}
	if err := set(o.Mode); err != nil {
		if err := set(withoutOldModes(o.Mode)); err != nil {
			return s.explain(what, len(stmt), err)
		}
	}
	if _, err := conn.ExecContext(ctx, stmt); err != nil {
		return errors.Join(s.explain(what, len(stmt), err), set(sqlMode))
	}
	return set(sqlMode)
}

// withoutOldModes drops modes that not every server knows, and that change
// nothing of what a routine does.
func withoutOldModes(mode string) string {
	modes := slices.DeleteFunc(strings.Split(mode, ","), func(m string) bool {
		return slices.Contains([]string{"NO_AUTO_CREATE_USER", "ORACLE", "MSSQL", "POSTGRESQL", "DB2", "MAXDB", "MYSQL323", "MYSQL40", "NO_KEY_OPTIONS", "NO_TABLE_OPTIONS", "NO_FIELD_OPTIONS", "TIME_TRUNCATE_FRACTIONAL", "SIMULTANEOUS_ASSIGNMENT", "EMPTY_STRING_IS_NULL", "TIME_ROUND_FRACTIONAL"}, m)
	})
	return strings.Join(modes, ",")
}

func (s *stage) Discard(context.Context) error {
	if s.done {
		return nil
	}
	s.done = true
	// What was cancelled must still be cleaned up.
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	var err error
	for _, name := range s.order {
		err = errors.Join(err, s.exec(ctx, "remove a staged table", "DROP "+s.tables[name].kind()+" IF EXISTS "+quote(s.tables[name].name)))
	}
	for _, name := range s.made {
		err = errors.Join(err, s.exec(ctx, "remove a sequence", "DROP SEQUENCE IF EXISTS "+quote(name)))
	}
	return errors.Join(err, s.rows.Close(), s.db.Close())
}
