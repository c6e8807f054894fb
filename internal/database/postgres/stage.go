package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// stage builds everything in schemas of its own in the target database.
type stage struct {
	l        database.Location
	opts     database.StageOptions
	conns    chan *pgconn.PgConn // nil in it: one that is still to be opened
	mu       sync.Mutex
	schemas  map[string]string // schema → the one in which it is staged
	names    map[string]bool   // what is staged, as JoinName gives it
	outside  map[string]bool   // range types, which stand where they belong
	late     []database.Object
	at       []*sqltree.Statement       // positions of sequences
	made     []database.Note            // what was made outside of the stage
	role     string                     // in whose name things are made; empty: that of the login
	harmless map[sqltree.Reference]bool // what extensions have, as far as it was asked for
	filled   database.Filled
	objects  int // early ones that came
	done     bool
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
	s := &stage{l: l, opts: opts, conns: make(chan *pgconn.PgConn, opts.Connections), schemas: map[string]string{}, names: map[string]bool{}, outside: map[string]bool{}, made: opts.Notes, harmless: map[sqltree.Reference]bool{}}
	first, err := connect(ctx, l)
	if err != nil {
		return nil, err
	}
	s.conns <- first
	for range opts.Connections - 1 {
		s.conns <- nil
	}
	if opts.Resume {
		if err := endEarlier(ctx, first, opts.ID); err != nil {
			return nil, errors.Join(err, s.Leave())
		}
	}
	if err = canStage(ctx, first, l); err == nil {
		s.role, err = ownerOf(ctx, first)
	}
	if err == nil {
		err = s.prepare(ctx, first)
	}
	if err == nil {
		_, err = s.schema(ctx, sqltext.DefaultSchema)
	}
	if err == nil {
		err = s.remember(ctx)
	}
	if err != nil && opts.Resume {
		return nil, errors.Join(err, s.Leave())
	}
	if err != nil {
		return nil, errors.Join(err, s.Discard(context.WithoutCancel(ctx)))
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
		if err := single(ctx, c, stmt); err != nil {
			return err
		}
		return execute(ctx, c, s.keep(table, n, 0))
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

// prepare sets a session. Names without a schema mean what the server has by itself;
// only where stored code was agreed to, routines which do not say where their tables are
// find those that are staged.
func (s *stage) prepare(ctx context.Context, c *pgconn.PgConn) error {
	q := "SET maintenance_work_mem='128MB'; SET synchronous_commit=off"
	if s.opts.StoredCode {
		q += "; SET search_path TO " + s.stagedName(0) + ", " + sqltext.DefaultSchema
	}
	if s.role != "" {
		q += "; SET ROLE " + quote(s.role)
	}
	return execute(ctx, c, q)
}

// ownerOf gives the owner of the database where the login is mightier than that: what
// is staged is made in its name. Empty where there is none such.
func ownerOf(ctx context.Context, c *pgconn.PgConn) (string, error) {
	rows, err := ask(ctx, c, `SELECT o.rolname FROM pg_catalog.pg_database d JOIN pg_catalog.pg_roles o ON o.oid=d.datdba, pg_catalog.pg_roles me
		WHERE d.datname=pg_catalog.current_database() AND me.rolname=current_user AND me.rolsuper AND NOT o.rolsuper AND pg_catalog.has_database_privilege(o.oid, d.oid, 'CREATE')`)
	if err != nil || len(rows) == 0 {
		return "", err
	}
	return rows[0][0], nil
}

// stagedName gives the n-th schema in which something is staged.
func (s *stage) stagedName(n int) string { return fmt.Sprintf("_hovix_%s_%d", s.opts.ID, n) }

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
	staged := s.stagedName(len(s.schemas))
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

// run makes something in the stage, unless a run before this has.
func (s *stage) run(ctx context.Context, table string, n int, what string, one *sqltree.Statement) error {
	if err := s.check(ctx, what, one.References()); err != nil {
		return err
	}
	return s.once(ctx, table, n, what, one.SQL(s.rename))
}

func (s *stage) Target(table string) string {
	schema, name := sqltext.SplitName(table)
	s.mu.Lock()
	defer s.mu.Unlock()
	return quote(s.schemas[schema]) + "." + quote(name)
}

func (s *stage) Define(ctx context.Context, def *sqltree.Table) error {
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
	what := "define table " + def.Name
	if err := s.check(ctx, what, def.References()); err != nil {
		return err
	}
	return s.once(ctx, def.Name, database.Defined, what, def.SQL(s.rename))
}

func (s *stage) Filled(table string, chunk int) (int64, bool) { return s.filled.Rows(table, chunk) }

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
	one, err := sqltree.Parse([]byte(stmt), sqltext.Postgres)
	if err == nil && (one.Shape != sqltree.ShapeKey || one.Table != table) {
		err = fmt.Errorf("%w: %.60q stands where keys of %s belong", sqltext.ErrRefused, stmt, table)
	}
	if err != nil {
		return err
	}
	s.known(one.Name)
	return s.run(ctx, table, n, "make the keys of "+table, one)
}

// known notes that something stands in the stage, so that statements may name it.
func (s *stage) known(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.names[name] = true
}

func (s *stage) Positions(_ context.Context, stmt []byte) error {
	p, err := sqltree.Parse(stmt, sqltext.Postgres)
	if err != nil || p.Shape == sqltree.ShapeNone {
		return err
	}
	if p.Shape != sqltree.ShapePosition {
		return fmt.Errorf("%w: %.60q stands where positions of sequences belong", sqltext.ErrRefused, stmt)
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
	one, err := s.parse(o)
	switch {
	case err != nil:
		return err
	case one.Shape == sqltree.ShapeSchema:
		_, err := s.schema(ctx, one.Name)
		return err
	case one.Shape == sqltree.ShapeExtension:
		return s.extension(ctx, one)
	case one.Range:
		return s.rangeType(ctx, one)
	}
	return s.object(ctx, earlyObjects, n, one, o)
}

// The names under which it is kept that objects are made: no table has them.
const (
	earlyObjects = " early"
	lateObjects  = " late"
)

// rangeType makes a range type where it belongs, for it cannot be moved: its
// constructors belong to the server. One that is there already must be the same.
func (s *stage) rangeType(ctx context.Context, o *sqltree.Statement) error {
	schema, name := sqltext.SplitName(o.Name)
	s.mu.Lock()
	s.outside[o.Name] = true
	s.mu.Unlock()
	var there string
	err := s.with(ctx, func(c *pgconn.PgConn) error {
		rows, err := ask(ctx, c, "SELECT t.oid, t.typtype FROM pg_catalog.pg_type t JOIN pg_catalog.pg_namespace n ON n.oid=t.typnamespace WHERE n.nspname=? AND t.typname=?", schema, name)
		if err != nil || len(rows) == 0 {
			return err
		}
		text, err := typeDefinition(ctx, c, rows[0][0], rows[0][1], sqltext.QuoteRelation(o.Name))
		if err != nil {
			return err
		}
		other, err := sqltree.Parse([]byte(text), sqltext.Postgres)
		if err == nil {
			there = other.SQL(nil)
		}
		return err
	})
	switch {
	case err != nil:
		return fmt.Errorf("make type %s: %w", o.Name, err)
	case there == o.SQL(nil):
		return nil
	case there != "":
		return fmt.Errorf("make type %s: the database has another type of this name, and a range type cannot be put aside; drop or rename it first", o.Name)
	}
	if err := s.exec(ctx, "make schema "+schema, "CREATE SCHEMA IF NOT EXISTS "+quote(schema)); err != nil {
		return err
	}
	var refs []sqltree.Reference
	for _, r := range o.References() {
		if r.Joined() != o.Name {
			refs = append(refs, r)
		}
	}
	if err := s.check(ctx, "make type "+o.Name, refs); err != nil {
		return err
	}
	if err := s.note(database.Note{Kind: database.Type, Name: o.Name}); err != nil {
		return err
	}
	if err := s.with(ctx, func(c *pgconn.PgConn) error { return single(ctx, c, o.SQL(s.rename)) }); err != nil {
		return fmt.Errorf("make type %s: %w", o.Name, err)
	}
	return nil
}

// note remembers how to undo what is about to be made outside of the stage.
func (s *stage) note(undo database.Note) error {
	s.mu.Lock()
	s.made = append(s.made, undo)
	s.mu.Unlock()
	return s.opts.Noted(undo)
}

// dropNoted removes what a stage has made outside of itself.
func dropNoted(n database.Note) string {
	if n.Kind == database.Extension {
		return "DROP EXTENSION IF EXISTS " + quote(n.Name)
	}
	return "DROP TYPE IF EXISTS " + sqltext.QuoteRelation(n.Name)
}

// extension makes an extension that the database lacks.
func (s *stage) extension(ctx context.Context, o *sqltree.Statement) error {
	var rows [][]string
	err := s.with(ctx, func(c *pgconn.PgConn) (err error) {
		rows, err = ask(ctx, c, "SELECT 1 FROM pg_catalog.pg_extension WHERE extname=?", o.Name)
		return err
	})
	if err != nil || len(rows) > 0 {
		return err
	}
	if ok, err := s.trusted(ctx, o.Name); err != nil || !ok {
		return errors.Join(err, fmt.Errorf("%w: the extension %s is not one that the server lets every owner of a database make; if it is wanted, an administrator can make it before with: %s", sqltext.ErrRefused, o.Name, o.SQL(nil)))
	}
	if err := s.note(database.Note{Kind: database.Extension, Name: o.Name}); err != nil {
		return err
	}
	if err := s.with(ctx, func(c *pgconn.PgConn) error { return single(ctx, c, o.SQL(nil)) }); err != nil {
		return fmt.Errorf("make the extension %s: %w; an administrator of the server can make it with: %s", o.Name, err, o.SQL(nil))
	}
	return nil
}

func (s *stage) object(ctx context.Context, list string, n int, one *sqltree.Statement, o database.Object) error {
	switch one.Shape {
	case sqltree.ShapeView, sqltree.ShapeRoutine, sqltree.ShapeSequence, sqltree.ShapeType:
		if err := s.stage(ctx, one.Name); err != nil {
			return err
		}
	case sqltree.ShapeKey:
		s.known(one.Name)
	case sqltree.ShapeOther:
		if one.Name != "" { // statistics
			s.known(one.Name)
		}
	case sqltree.ShapeTrigger:
	default:
		return fmt.Errorf("%w: %.60q stands where objects belong", sqltext.ErrRefused, o.SQL)
	}
	return s.run(ctx, list, n, fmt.Sprintf("make %s %s", o.Kind, o.Name), one)
}

// Touch runs a statement on a staged table.
func (s *stage) Touch(ctx context.Context, stmt string) error {
	return s.exec(ctx, "change staged rows", stmt)
}

// Ready makes everything that needs all tables: within the stage, so that the
// switch only moves it.
func (s *stage) Ready(ctx context.Context) error {
	for _, p := range s.at {
		if !s.names[p.Name] { // its table is not restored
			continue
		}
		if err := s.with(ctx, func(c *pgconn.PgConn) error { return single(ctx, c, p.SQL(s.rename)) }); err != nil {
			return fmt.Errorf("set the position of %s: %w", p.Name, err)
		}
	}
	parts := &parting{stage: s, parents: map[string]string{}}
	if err := parts.lookBack(ctx); err != nil {
		return err
	}
	left := 0
	for _, o := range s.late {
		if one, err := s.parse(o); err == nil && one.Part != "" {
			left++
		}
	}
	for i, o := range s.late {
		one, err := s.parse(o)
		if err != nil {
			return err
		}
		err = s.object(ctx, lateObjects, i+1, one, o)
		if one.Part != "" {
			if codeOf(err) == checkViolation {
				err = parts.emptied(ctx, one, i+1)
			}
			parts.parents[one.Part] = one.Table
			left--
		}
		if err == nil && left == 0 {
			err = parts.putBack(ctx)
		}
		if err != nil {
			return err
		}
	}
	return parts.putBack(ctx)
}

// Seal gives the schemas in which everything stands.
func (s *stage) Seal(ctx context.Context) (*database.State, []string, error) {
	if err := s.exec(ctx, "end staging", "DROP TABLE "+s.progress()); err != nil {
		return nil, nil, err
	}
	s.done = true
	return &database.State{Engine: database.Postgres, Schemas: s.schemas, Inherit: true}, nil, s.close()
}

func (s *stage) Discard(ctx context.Context) error {
	if s.done {
		return nil
	}
	s.done = true
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	var err error
	for _, staged := range s.schemas {
		err = errors.Join(err, s.exec(ctx, "remove what was staged", "DROP SCHEMA IF EXISTS "+staged+" CASCADE"))
	}
	for _, n := range slices.Backward(s.made) {
		err = errors.Join(err, s.exec(ctx, "remove what was staged", dropNoted(n)))
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
