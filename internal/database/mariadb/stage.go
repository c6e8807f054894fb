package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// stage builds tables under other names in the target database.
type stage struct {
	opts    database.StageOptions
	db      *sql.DB
	rows    *sql.DB // on which text is bytes, as it is in an archive: the server need not look into it
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

// stageVars are the variables of a session that makes tables.
func stageVars() map[string]string {
	return map[string]string{"sql_mode": "'" + sqlMode + "'", "time_zone": "'+00:00'", "foreign_key_checks": "0", "unique_checks": "0"}
}

// NewStage connects to the target database and prepares staging.
func NewStage(ctx context.Context, l database.Location, opts database.StageOptions) (database.Stage, error) {
	vars := stageVars()
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
		d.SetMaxOpenConns(opts.Connections)
		d.SetMaxIdleConns(opts.Connections)
	}
	return &stage{opts: opts, db: db, rows: rows, tables: map[string]*staged{}}, nil
}

func (s *stage) exec(ctx context.Context, what, q string) error {
	if _, err := s.db.ExecContext(ctx, q); err != nil {
		return explainStatement(what, len(q), err)
	}
	return nil
}

func explainStatement(what string, size int, err error) error {
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
	return quote("_hovix_" + s.opts.ID + "_unknown")
}

func (s *stage) Define(ctx context.Context, def *sqltext.CreateTable) error {
	t := &staged{def: def}
	s.mu.Lock()
	if s.tables[def.Name] != nil {
		s.mu.Unlock()
		return fmt.Errorf("define %s: it is defined twice", def.Name)
	}
	t.name = fmt.Sprintf("_hovix_%s_%d", s.opts.ID, len(s.order))
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
		return 0, explainStatement("fill table "+table, len(stmt), err)
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
		if err := s.opts.Noted("DROP SEQUENCE IF EXISTS " + quote(o.Name)); err != nil {
			return err
		}
		if err := s.exec(ctx, "make sequence "+o.Name, "CREATE SEQUENCE "+quote(o.Name)+options); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.made = append(s.made, o.Name)
		return nil
	}
	s.mu.Lock()
	t := &staged{def: &sqltext.CreateTable{Name: o.Name}, name: fmt.Sprintf("_hovix_%s_%d", s.opts.ID, len(s.order)), sequence: true}
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

// Seal gives the staged tables, and what is made when they have their names.
func (s *stage) Seal(ctx context.Context) (*database.State, []string, error) {
	state := &database.State{Engine: database.MariaDB, Tables: map[string]string{}}
	for _, name := range s.made {
		state.Tables[name] = name
	}
	for _, q := range s.at {
		state.Objects = append(state.Objects, database.Attached{Kind: database.Position, SQL: q})
	}
	for _, name := range s.order {
		state.Tables[name] = s.tables[name].name
		for _, it := range s.tables[name].foreign {
			state.Objects = append(state.Objects, database.Attached{Kind: database.ForeignKey, Name: it.Name, Table: name, SQL: it.Text})
		}
	}
	for _, o := range s.objects {
		stmt, err := s.fit(ctx, fmt.Sprintf("make %s %s", o.Kind, o.Name), o.SQL)
		if err != nil {
			return nil, nil, err
		}
		kind := o.Kind
		if kind == database.Routine && sqltext.IsProcedure([]byte(o.SQL)) {
			kind = database.Procedure
		}
		state.Objects = append(state.Objects, database.Attached{Kind: kind, Name: o.Name, SQL: stmt, Mode: o.Mode})
	}
	s.done = true
	return state, s.warnings, errors.Join(s.rows.Close(), s.db.Close())
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
