package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// stage builds everything in schemas of its own in the target database.
type stage struct {
	l       database.Location
	opts    database.StageOptions
	conns   chan *pgconn.PgConn // nil in it: one that is still to be opened
	mu      sync.Mutex
	schemas map[string]string // schema → the one in which it is staged
	names   map[string]bool   // what is staged, as JoinName gives it
	late    []database.Object
	at      []sqltext.Position
	made    []string // statements that remove what was made outside of the stage
	filled  database.Filled
	objects int // early ones that came
	done    bool
}

func canStage(ctx context.Context, conn *pgconn.PgConn, l database.Location) error {
	rows, err := ask(ctx, conn, "SELECT pg_catalog.has_database_privilege(pg_catalog.current_database(),'CREATE'), pg_catalog.pg_is_in_recovery(), pg_catalog.current_user()")
	if err != nil {
		return err
	}
	ce := &database.ConnectError{Location: l, What: "stage a new state in the database"}
	switch {
	case rows[0][1] == "t":
		ce.Why, ce.Advice = errors.New("the server is a copy of another one, which only that changes"), "Name the server that can be written to."
	case rows[0][0] != "t":
		ce.Why = errors.New("the user may not make schemas in it")
		ce.Advice = fmt.Sprintf("An administrator of the server can allow it with: GRANT CREATE ON DATABASE %s TO %s", quote(l.Name), quote(rows[0][2]))
	default:
		return nil
	}
	return ce
}

// NewStage connects to the target database and prepares staging.
func NewStage(ctx context.Context, l database.Location, opts database.StageOptions) (database.Stage, error) {
	s := &stage{l: l, opts: opts, conns: make(chan *pgconn.PgConn, opts.Connections), schemas: map[string]string{}, names: map[string]bool{}, made: opts.Notes}
	first, err := connect(ctx, l)
	if err != nil {
		return nil, err
	}
	s.conns <- first
	for range opts.Connections - 1 {
		s.conns <- nil
	}
	if err = canStage(ctx, first, l); err == nil {
		_, err = s.schema(ctx, sqltext.DefaultSchema)
	}
	if err == nil {
		err = s.prepare(ctx, first)
	}
	if err == nil {
		err = s.remember(ctx)
	}
	if err != nil && opts.Resume {
		return nil, errors.Join(err, s.Leave())
	}
	if err != nil {
		return nil, errors.Join(err, s.Discard(ctx))
	}
	return s, nil
}

// progress is the table in which the stage keeps what is done, until Seal. It is
// written to with what is done, in one transaction.
func (s *stage) progress() string { return "_hovix_" + s.opts.ID + `_0."_hovix_done"` }

// remember makes that table, or reads the one of the run that goes on.
func (s *stage) remember(ctx context.Context) error {
	if !s.opts.Resume {
		return s.exec(ctx, "prepare staging", "CREATE TABLE "+s.progress()+" (tab text, n int, stored bigint)")
	}
	return s.with(ctx, func(c *pgconn.PgConn) error {
		rows, err := ask(ctx, c, "SELECT tab, n, stored FROM "+s.progress())
		if err != nil {
			return fmt.Errorf("%w: %w", database.ErrNotResumed, err)
		}
		s.filled.AddAll(rows)
		return nil
	})
}

// keep is the statement that keeps that something is done.
func (s *stage) keep(table string, n int, rows int64) string {
	return fmt.Sprintf("INSERT INTO %s VALUES (%s, %d, %d)", s.progress(), quoteText(table), n, rows)
}

// once runs a statement, unless a run before this has done it.
func (s *stage) once(ctx context.Context, table string, n int, what, stmt string) error {
	if _, done := s.filled.Rows(table, n); done {
		return nil
	}
	return s.transaction(ctx, what, func(c *pgconn.PgConn) error {
		return execute(ctx, c, stmt+"; "+s.keep(table, n, 0))
	})
}

// transaction runs f on a connection, wholly or not at all.
func (s *stage) transaction(ctx context.Context, what string, f func(*pgconn.PgConn) error) error {
	err := s.with(ctx, func(c *pgconn.PgConn) error {
		err := execute(ctx, c, "BEGIN")
		if err == nil {
			err = f(c)
		}
		if err == nil {
			return execute(ctx, c, "COMMIT")
		}
		_ = execute(context.WithoutCancel(ctx), c, "ROLLBACK")
		return err
	})
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// prepare sets a session so that routines which do not say where their tables
// are find those that are staged.
func (s *stage) prepare(ctx context.Context, c *pgconn.PgConn) error {
	return execute(ctx, c, "SET maintenance_work_mem='128MB'; SET synchronous_commit=off; SET search_path TO "+s.schemas[sqltext.DefaultSchema]+", "+sqltext.DefaultSchema)
}

// with lends a connection.
func (s *stage) with(ctx context.Context, f func(*pgconn.PgConn) error) error {
	var conn *pgconn.PgConn
	select {
	case conn = <-s.conns:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	defer func() { s.conns <- conn }()
	if conn == nil || conn.IsClosed() {
		fresh, err := connect(ctx, s.l)
		if err != nil {
			return err
		}
		conn = fresh
		if err := s.prepare(ctx, conn); err != nil {
			return err
		}
	}
	return f(conn)
}

func (s *stage) exec(ctx context.Context, what, q string) error {
	err := s.with(ctx, func(c *pgconn.PgConn) error { return execute(ctx, c, q) })
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// schema gives the schema in which one of the archive is staged, and makes it.
func (s *stage) schema(ctx context.Context, name string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if staged := s.schemas[name]; staged != "" {
		return staged, nil
	}
	staged := fmt.Sprintf("_hovix_%s_%d", s.opts.ID, len(s.schemas))
	if err := s.exec(ctx, "make a schema to stage in", "CREATE SCHEMA IF NOT EXISTS "+staged); err != nil {
		return "", err
	}
	s.schemas[name] = staged
	return staged, nil
}

// stage notes that something is staged, so that others can refer to it.
func (s *stage) stage(ctx context.Context, joined string) error {
	schema, _ := sqltext.SplitName(joined)
	if _, err := s.schema(ctx, schema); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.names[joined] = true
	return nil
}

// staged gives a statement in which all that is staged goes by its name there.
func (s *stage) staged(stmt string) (string, error) {
	return sqltext.Requalify(stmt, func(schema, name string) (string, bool) {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.schemas[schema], s.names[sqltext.JoinName(schema, name)]
	})
}

// run makes something in the stage, unless a run before this has.
func (s *stage) run(ctx context.Context, table string, n int, what, stmt string) error {
	q, err := s.staged(stmt)
	if err != nil {
		return err
	}
	return s.once(ctx, table, n, what, q)
}

func (s *stage) Target(table string) string {
	schema, name := sqltext.SplitName(table)
	s.mu.Lock()
	defer s.mu.Unlock()
	return quote(s.schemas[schema]) + "." + quote(name)
}

func (s *stage) Define(ctx context.Context, def *sqltext.CreateTable) error {
	s.mu.Lock()
	twice := s.names[def.Name]
	s.mu.Unlock()
	if twice {
		return fmt.Errorf("define %s: it is defined twice", def.Name)
	}
	for _, name := range append(def.Sequences(), def.Name) {
		if err := s.stage(ctx, name); err != nil {
			return err
		}
	}
	return s.run(ctx, def.Name, database.Defined, "define table "+def.Name, def.Text)
}

func (s *stage) Fill(table string, chunk int, _ int64, stmts [][]byte) func(context.Context) (int64, error) {
	return func(ctx context.Context) (int64, error) { return s.fill(ctx, table, chunk, stmts) }
}

func (s *stage) fill(ctx context.Context, table string, chunk int, stmts [][]byte) (n int64, err error) {
	if n, done := s.filled.Rows(table, chunk); done {
		return n, nil
	}
	err = s.transaction(ctx, "fill table "+table, func(c *pgconn.PgConn) error {
		for _, stmt := range stmts {
			head, rows := sqltext.CutCopy(stmt)
			tag, err := c.CopyFrom(ctx, bytes.NewReader(rows), head)
			if err != nil {
				return plain(err)
			}
			n += tag.RowsAffected()
		}
		return execute(ctx, c, s.keep(table, chunk, n))
	})
	return n, err
}

// firstKey is the number of the first key of a table, from which they count down.
const firstKey = database.Defined - 1

func (s *stage) Finish(ctx context.Context, table string, keys []string) error {
	for i, k := range keys {
		if err := s.key(ctx, table, firstKey-i, k); err != nil {
			return err
		}
	}
	return nil
}

// key makes a key, whose name later statements may mention.
func (s *stage) key(ctx context.Context, table string, n int, stmt string) error {
	if name := sqltext.KeyName([]byte(stmt)); name != "" {
		s.mu.Lock()
		s.names[name] = true
		s.mu.Unlock()
	}
	return s.run(ctx, table, n, "make the keys of "+table, stmt)
}

func (s *stage) Positions(_ context.Context, stmt []byte) error {
	p, err := sqltext.ParsePosition(stmt)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.at = append(s.at, p)
	return nil
}

// AddObject makes an early object at once, and keeps others for Ready.
func (s *stage) AddObject(ctx context.Context, o database.Object) error {
	if !o.Early {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.late = append(s.late, o)
		return nil
	}
	s.mu.Lock()
	s.objects++
	n := s.objects
	s.mu.Unlock()
	head := strings.Fields(strings.ToLower(o.SQL))
	switch {
	case len(head) > 1 && head[1] == "schema":
		_, err := s.schema(ctx, o.Name)
		return err
	case len(head) > 1 && head[1] == "extension":
		return s.extension(ctx, o)
	case o.Kind == database.Type && strings.Contains(strings.ToLower(o.SQL[:min(len(o.SQL), 400)]), " as range "):
		return s.rangeType(ctx, o)
	}
	return s.object(ctx, earlyObjects, n, o)
}

// The names under which it is kept that objects are made: no table has them.
const (
	earlyObjects = " early"
	lateObjects  = " late"
)

// rangeType makes a range type where it belongs, for it cannot be moved: its
// constructors belong to the server. One that is there already must be the same.
func (s *stage) rangeType(ctx context.Context, o database.Object) error {
	schema, name := sqltext.SplitName(o.Name)
	var there string
	err := s.with(ctx, func(c *pgconn.PgConn) error {
		rows, err := ask(ctx, c, "SELECT t.oid, t.typtype FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid=t.typnamespace WHERE n.nspname=? AND t.typname=?", schema, name)
		if err != nil || len(rows) == 0 {
			return err
		}
		there, err = typeDefinition(ctx, c, rows[0][0], rows[0][1], sqltext.QuoteRelation(o.Name))
		return err
	})
	switch {
	case err != nil:
		return fmt.Errorf("make type %s: %w", o.Name, err)
	case there == o.SQL:
		return nil
	case there != "":
		return fmt.Errorf("make type %s: the database has another type of this name, and a range type cannot be put aside; drop or rename it first", o.Name)
	}
	if err := s.exec(ctx, "make schema "+schema, "CREATE SCHEMA IF NOT EXISTS "+quote(schema)); err != nil {
		return err
	}
	if err := s.note("DROP TYPE IF EXISTS " + sqltext.QuoteRelation(o.Name)); err != nil {
		return err
	}
	q, err := s.staged(o.SQL)
	if err != nil {
		return err
	}
	return s.exec(ctx, "make type "+o.Name, q)
}

// note remembers how to undo what is about to be made outside of the stage.
func (s *stage) note(undo string) error {
	s.mu.Lock()
	s.made = append(s.made, undo)
	s.mu.Unlock()
	return s.opts.Noted(undo)
}

// extension makes an extension that the database lacks.
func (s *stage) extension(ctx context.Context, o database.Object) error {
	var rows [][]string
	err := s.with(ctx, func(c *pgconn.PgConn) (err error) {
		rows, err = ask(ctx, c, "SELECT 1 FROM pg_catalog.pg_extension WHERE extname=?", o.Name)
		return err
	})
	if err != nil || len(rows) > 0 {
		return err
	}
	if err := s.note("DROP EXTENSION IF EXISTS " + quote(o.Name)); err != nil {
		return err
	}
	if err := s.exec(ctx, "make the extension "+o.Name, o.SQL); err != nil {
		return fmt.Errorf("%w; an administrator of the server can make it with: %s", err, o.SQL)
	}
	return nil
}

func (s *stage) object(ctx context.Context, list string, n int, o database.Object) error {
	switch o.Kind {
	case database.View, database.Routine, database.Sequence, database.Type:
		if err := s.stage(ctx, o.Name); err != nil {
			return err
		}
	case database.Other:
		if name := sqltext.KeyName([]byte(o.SQL)); name != "" {
			s.mu.Lock()
			s.names[name] = true
			s.mu.Unlock()
		}
	}
	return s.run(ctx, list, n, fmt.Sprintf("make %s %s", o.Kind, o.Name), o.SQL)
}

// Touch runs a statement on a staged table.
func (s *stage) Touch(ctx context.Context, stmt string) error {
	return s.exec(ctx, "change staged rows", stmt)
}

// Ready makes everything that needs all tables: within the stage, so that the
// switch only moves it.
func (s *stage) Ready(ctx context.Context) error {
	for _, p := range s.at {
		if !s.names[p.Sequence] { // its table is not restored
			continue
		}
		q := fmt.Sprintf("SELECT pg_catalog.setval(%s, %d, %t)", quoteText(s.Target(p.Sequence)), p.Value, p.Called)
		if err := s.exec(ctx, "set the position of "+p.Sequence, q); err != nil {
			return err
		}
	}
	for i, o := range s.late {
		if err := s.object(ctx, lateObjects, i+1, o); err != nil {
			return err
		}
	}
	return nil
}

// Seal gives the schemas in which everything stands.
func (s *stage) Seal(ctx context.Context) (*database.State, []string, error) {
	if err := s.exec(ctx, "end staging", "DROP TABLE "+s.progress()); err != nil {
		return nil, nil, err
	}
	s.done = true
	return &database.State{Engine: database.Postgres, Schemas: s.schemas, Inherit: true}, nil, s.close()
}

func (s *stage) Discard(context.Context) error {
	if s.done {
		return nil
	}
	s.done = true
	// What was cancelled must still be cleaned up.
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Second)
	defer cancel()
	var err error
	for _, staged := range s.schemas {
		err = errors.Join(err, s.exec(ctx, "remove what was staged", "DROP SCHEMA IF EXISTS "+staged+" CASCADE"))
	}
	for _, q := range slices.Backward(s.made) {
		err = errors.Join(err, s.exec(ctx, "remove what was staged", q))
	}
	return errors.Join(err, s.close())
}

func (s *stage) Leave() error {
	s.done = true
	return s.close()
}

func (s *stage) close() (err error) {
	for range cap(s.conns) {
		if c := <-s.conns; c != nil {
			err = errors.Join(err, closeConn(c))
		}
	}
	return err
}
