package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
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
	known   collations      // nil until it is needed
	loads   bool            // the server takes rows from a file of its client
	mariaDB bool            // it is no MySQL
	ignores bool            // and has keys that it does not use
	made    []string        // sequences that were made where they belong
	undo    []database.Note // what was made outside of the stage
	filled  database.Filled
	at      []string // statements that set the positions of sequences
	done    bool

	warnings []string
}

// staged is a table that is being staged.
type staged struct {
	def      *sqltree.Table
	name     string // under which it is staged
	deferred []string
	foreign  []sqltree.Item
	sequence bool
	loader   loader
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
	// Without these checks, and those of foreign keys, the first insert into an empty
	// table locks it as a whole (innodb bulk insert), and two sessions that begin to fill
	// one stand in each other's way for ever. Keys are made afterwards in any case.
	vars["unique_checks"] = "1"
	rows, err := open(l, vars)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	for _, d := range []*sql.DB{db, rows} {
		d.SetMaxOpenConns(opts.Connections)
		d.SetMaxIdleConns(opts.Connections)
	}
	s := &stage{opts: opts, db: db, rows: rows, loads: canLoad(ctx, db), tables: map[string]*staged{}, undo: opts.Notes}
	var version string
	if err := db.QueryRowContext(ctx, "SELECT VERSION()").Scan(&version); err != nil {
		return nil, errors.Join(fmt.Errorf("ask the server for its version: %w", err), s.Leave())
	}
	if s.mariaDB = strings.Contains(version, "MariaDB"); s.mariaDB {
		var major, minor int
		_, _ = fmt.Sscanf(version, "%d.%d", &major, &minor)
		s.ignores = major > 10 || major == 10 && minor >= 6
	}
	if err := s.remember(ctx); err != nil {
		return nil, errors.Join(err, s.Leave())
	}
	return s, nil
}

// warn notes what the result is to tell.
func (s *stage) warn(text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !slices.Contains(s.warnings, text) {
		s.warnings = append(s.warnings, text)
	}
}

// progress is the table in which the stage keeps what is done. It is written to with
// the rows, in one transaction.
func (s *stage) progress() string { return quote("_hovix_" + s.opts.ID + "_done") }

// remember makes that table, or reads the one of the run that goes on.
func (s *stage) remember(ctx context.Context) error {
	if !s.opts.Resume {
		return s.exec(ctx, "prepare staging", "CREATE TABLE "+s.progress()+" (tab VARBINARY(300) NOT NULL, n INT NOT NULL, stored BIGINT NOT NULL) ENGINE=InnoDB")
	}
	if err := endEarlier(ctx, s.db, s.opts.ID); err != nil {
		return err
	}
	rows, err := stringRows(s.rows.QueryContext(ctx, "SELECT tab, n, stored FROM "+s.progress()))
	if err != nil {
		return fmt.Errorf("%w: %w", database.ErrNotResumed, err)
	}
	s.filled.AddAll(rows)
	return nil
}

// note is the statement that keeps that something is done.
func (s *stage) note(table string, n int, rows int64) string {
	return fmt.Sprintf("INSERT INTO %s VALUES (%s, %d, %d)", s.progress(), sqltext.AppendMySQLString(nil, []byte(table), false), n, rows)
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
	case errors.As(err, &my) && (my.Number == erLockWait || my.Number == erDeadlock):
		return fmt.Errorf("%s: a table is %w", what, database.ErrBusy)
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

func (s *stage) Define(ctx context.Context, def *sqltree.Table) error {
	t := &staged{def: def}
	s.mu.Lock()
	if s.tables[def.Name] != nil {
		s.mu.Unlock()
		return fmt.Errorf("define %s: it is defined twice", def.Name)
	}
	t.name = fmt.Sprintf("_hovix_%s_%d", s.opts.ID, len(s.order))
	if s.loads {
		t.loader.init(def)
	}
	s.tables[def.Name] = t
	s.order = append(s.order, def.Name)
	s.mu.Unlock()
	if err := s.checkTable(def); err != nil {
		return err
	}
	if s.mariaDB {
		for _, what := range def.ForMariaDB(s.ignores) {
			s.warn("MariaDB has nothing like " + what + ": it is left out")
		}
	}
	auto := def.AutoColumn()
	// An automatic column needs a key from the start; other keys are made faster
	// when the rows are there, and foreign ones when all tables are.
	now := func(it sqltree.Item) bool {
		switch it.Kind {
		case sqltree.UniqueKey, sqltree.PlainKey:
			return auto != "" && len(it.Columns) > 0 && it.Columns[0] == auto
		case sqltree.ForeignKey:
			return false
		}
		return true
	}
	for _, it := range def.Items {
		switch {
		case it.Kind == sqltree.ForeignKey:
			t.foreign = append(t.foreign, it)
		case !now(it):
			t.deferred = append(t.deferred, "ADD "+it.Text)
		}
	}
	if there, err := s.goOn(ctx, t); err != nil || there {
		return err
	}
	create, err := s.fit(ctx, "define table "+def.Name, def.Render(quote(t.name), now))
	if err != nil {
		return err
	}
	return s.exec(ctx, "define table "+def.Name, create)
}

// goOn reports whether a table is staged already, as far as it could be. One that
// has no transactions may hold a part of a chunk, and is begun anew.
func (s *stage) goOn(ctx context.Context, t *staged) (bool, error) {
	if !s.opts.Resume {
		return false, nil
	}
	name := sqltext.AppendMySQLString(nil, []byte(t.name), false)
	rows, err := stringRows(s.db.QueryContext(ctx, "SELECT COALESCE(ENGINE,'') FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME="+string(name)))
	if err != nil {
		return false, fmt.Errorf("look at what is staged: %w", err)
	}
	if len(rows) == 0 {
		return false, nil
	}
	if _, whole := s.filled.Rows(t.def.Name, database.KeysMade); whole || strings.EqualFold(rows[0][0], "InnoDB") {
		return true, nil
	}
	s.filled.Forget(t.def.Name)
	return false, errors.Join(s.exec(ctx, "stage a table anew", "DROP TABLE "+quote(t.name)),
		s.exec(ctx, "stage a table anew", "DELETE FROM "+s.progress()+" WHERE tab="+string(sqltext.AppendMySQLString(nil, []byte(t.def.Name), false))))
}

func (s *stage) Filled(table string, chunk int) (int64, bool) { return s.filled.Rows(table, chunk) }

// Fill prepares a chunk. What the server takes back, because two sessions wait for each
// other, is done once more; what it does not load as it is, is given as statements.
func (s *stage) Fill(table string, chunk int, rows int64, stmts [][]byte) func(context.Context) (int64, error) {
	s.mu.Lock()
	t := s.tables[table]
	s.mu.Unlock()
	n, done := s.filled.Rows(table, chunk)
	switch {
	case done:
		return func(context.Context) (int64, error) { return n, nil }
	case t == nil:
		return func(context.Context) (int64, error) {
			return 0, fmt.Errorf("fill table %s: it is not defined", table)
		}
	}
	all := t.loader.prepare(quote(t.name), stmts, rows)
	return func(ctx context.Context) (n int64, err error) {
		defer release(all)
		put, strict := insert, true
		for try := 1; ; try++ {
			n, err = s.fill(ctx, t, chunk, all, stmts, put)
			var my *mysql.MySQLError
			switch {
			case errors.As(err, &my) && my.Number == erTruncated && strict && t.hasLabels():
				put, strict, all = insertEmptyLabels, false, nil
			case errors.As(err, &my) && my.Number == erDeadlock && try < tries:
			case errors.Is(err, errNotLoaded) && ctx.Err() == nil:
				t.loader.off.Store(true)
				all = nil
			default:
				return n, err
			}
		}
	}
}

// tries is how often a chunk is stored that the server takes back.
const tries = 5

// fill stores a chunk and a note of it: what is to be loaded, or the statements.
func (s *stage) fill(ctx context.Context, t *staged, chunk int, all []load, stmts [][]byte, put func(context.Context, *sql.Tx, []byte) (int64, error)) (n int64, err error) {
	what := "fill table " + t.def.Name
	tx, err := s.rows.BeginTx(ctx, nil)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", what, err)
	}
	defer func() {
		if err != nil {
			_ = tx.Rollback()
		}
	}()
	for i, stmt := range stmts {
		var stored int64
		if all != nil {
			stored, err = all[i].run(ctx, tx)
		} else {
			stored, err = put(ctx, tx, stmt)
		}
		if err != nil {
			return 0, explainStatement(what, len(stmt), err)
		}
		n += stored
	}
	if _, err = tx.ExecContext(ctx, s.note(t.def.Name, chunk, n)); err != nil {
		return 0, fmt.Errorf("%s: %w", what, err)
	}
	if err = tx.Commit(); err != nil {
		return 0, fmt.Errorf("%s: %w", what, err)
	}
	return n, nil
}

func insert(ctx context.Context, tx *sql.Tx, stmt []byte) (int64, error) {
	res, err := tx.ExecContext(ctx, string(stmt))
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// erTruncated says that a value is none of its column's.
const erTruncated = 1265

// hasLabels reports whether a table has columns of ENUM or SET.
func (t *staged) hasLabels() bool {
	return slices.ContainsFunc(t.def.Items, func(it sqltree.Item) bool {
		return strings.HasPrefix(it.Type, "enum") || strings.HasPrefix(it.Type, "set")
	})
}

var truncated = regexp.MustCompile(`for column '(?:.*\.)?([^']+)' at row (\d+)$`)

// insertEmptyLabels is insert for rows in which a column of labels has none of them: servers
// print that as an empty text, and take it back in a mode that is not strict. Anything else
// that the server changes is an error.
func insertEmptyLabels(ctx context.Context, tx *sql.Tx, stmt []byte) (n int64, err error) {
	if _, err := tx.ExecContext(ctx, "SET SESSION sql_mode='NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES', SESSION max_error_count=65535"); err != nil {
		return 0, err
	}
	defer func() {
		_, e := tx.ExecContext(context.WithoutCancel(ctx), "SET SESSION sql_mode='"+sqlMode+"', SESSION max_error_count=DEFAULT")
		err = errors.Join(err, e)
	}()
	if n, err = insert(ctx, tx, stmt); err != nil {
		return 0, err
	}
	rows, err := stringRows(tx.QueryContext(ctx, "SHOW WARNINGS"))
	if err != nil {
		return 0, err
	}
	changed := map[int][]string{}
	for _, row := range rows {
		m := truncated.FindStringSubmatch(row[2])
		if m == nil || row[1] != strconv.Itoa(erTruncated) {
			return 0, fmt.Errorf("the server would change a value: %s", row[2])
		}
		at, _ := strconv.Atoi(m[2])
		changed[at] = append(changed[at], m[1])
	}
	return n, allEmpty(stmt, changed)
}

// allEmpty returns an error unless the named columns of the rows, counted from 1, are empty
// texts.
func allEmpty(stmt []byte, columns map[int][]string) error {
	ins, err := sqltext.ParseInsert(stmt, sqltext.MySQL)
	if err != nil {
		return err
	}
	at := 0
	return ins.EachRow(stmt, sqltext.MySQL, nil, func(row []byte) error {
		at++
		if len(columns[at]) == 0 {
			return nil
		}
		values, err := sqltext.Values(row, sqltext.MySQL)
		if err != nil {
			return err
		}
		for _, name := range columns[at] {
			i := slices.IndexFunc(ins.Columns, func(c string) bool { return strings.EqualFold(c, name) })
			if i < 0 || string(bytes.TrimSpace(values[i])) != "''" {
				return fmt.Errorf("the server would change the value of column %s in row %d", name, at)
			}
		}
		return nil
	})
}

func (s *stage) Finish(ctx context.Context, table string, _ []string) error {
	s.mu.Lock()
	t := s.tables[table]
	s.mu.Unlock()
	if t == nil {
		return nil
	}
	if _, done := s.filled.Rows(table, database.KeysMade); done {
		return nil
	}
	if made, err := s.hasKeys(ctx, t); err != nil {
		return err
	} else if len(t.deferred) > 0 && !made {
		head := "ALTER TABLE "
		if strings.Contains(strings.ToUpper(t.def.Tail), "SYSTEM VERSIONING") {
			head = "SET STATEMENT system_versioning_alter_history=KEEP FOR " + head
		}
		if err := s.exec(ctx, "make the keys of "+table, head+quote(t.name)+" "+strings.Join(t.deferred, ", ")); err != nil {
			return err
		}
	}
	if _, err := s.rows.ExecContext(ctx, s.note(table, database.KeysMade, 0)); err != nil {
		return fmt.Errorf("make the keys of %s: %w", table, err)
	}
	return nil
}

// hasKeys reports whether a run before this has made the keys of a table: they are
// made by one statement.
func (s *stage) hasKeys(ctx context.Context, t *staged) (bool, error) {
	if !s.opts.Resume {
		return false, nil
	}
	rows, err := stringRows(s.db.QueryContext(ctx, "SELECT DISTINCT INDEX_NAME FROM information_schema.STATISTICS WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME="+string(sqltext.AppendMySQLString(nil, []byte(t.name), false))))
	if err != nil {
		return false, fmt.Errorf("look at the keys that are staged: %w", err)
	}
	for _, it := range t.def.Items {
		for _, row := range rows {
			if slices.Contains(t.deferred, "ADD "+it.Text) && strings.EqualFold(row[0], it.Name) {
				return true, nil
			}
		}
	}
	return false, nil
}

// Positions are set when sequences have their names; those of columns are in
// definitions.
func (s *stage) Positions(_ context.Context, stmt []byte) error {
	at, err := sqltree.Parse(stmt, sqltext.MySQL)
	if err != nil || at.Shape == sqltree.ShapeNone {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if at.Shape != sqltree.ShapePosition || !s.isSequence(at.Name) {
		return fmt.Errorf("%w: %.60q stands where positions of sequences belong", sqltext.ErrRefused, stmt)
	}
	s.at = append(s.at, at.SQL(nil))
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
	def, err := sqltree.Parse([]byte(o.SQL), sqltext.MySQL)
	if err != nil {
		return fmt.Errorf("make sequence %s: %w", o.Name, err)
	}
	if note := (database.Note{Kind: database.Sequence, Name: o.Name}); slices.Contains(s.opts.Notes, note) && there { // by a run before this
		s.mu.Lock()
		defer s.mu.Unlock()
		s.made = append(s.made, o.Name)
		return nil
	} else if !there {
		if err := s.opts.Noted(note); err != nil {
			return err
		}
		s.mu.Lock()
		s.undo = append(s.undo, note)
		s.mu.Unlock()
		if err := s.exec(ctx, "make sequence "+o.Name, def.SQL(nil)); err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.made = append(s.made, o.Name)
		return nil
	}
	s.mu.Lock()
	t := &staged{def: &sqltree.Table{Name: o.Name}, name: fmt.Sprintf("_hovix_%s_%d", s.opts.ID, len(s.order)), sequence: true}
	s.tables[o.Name] = t
	s.order = append(s.order, o.Name)
	s.mu.Unlock()
	if there, err := s.goOn(ctx, t); err != nil || there {
		return err
	}
	return s.exec(ctx, "make sequence "+o.Name, def.SQL(func(r sqltree.Reference) sqltree.Reference { return sqltree.Reference{Kind: r.Kind, Name: t.name} }))
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
	if err := s.checkForeign(); err != nil {
		return nil, nil, err
	}
	for _, o := range s.objects {
		one, err := s.checkObject(o)
		if err != nil {
			return nil, nil, err
		}
		stmt, err := s.fit(ctx, fmt.Sprintf("make %s %s", o.Kind, o.Name), one.SQL(nil))
		if err != nil {
			return nil, nil, err
		}
		kind := o.Kind
		if kind == database.Routine && one.Procedure {
			kind = database.Procedure
		}
		state.Objects = append(state.Objects, database.Attached{Kind: kind, Name: o.Name, SQL: stmt, Session: o.Session})
	}
	if err := s.exec(ctx, "end staging", "DROP TABLE IF EXISTS "+s.progress()); err != nil {
		return nil, nil, err
	}
	return state, s.warnings, s.Leave()
}

func (s *stage) Leave() error {
	s.done = true
	return errors.Join(s.rows.Close(), s.db.Close())
}

func (s *stage) Discard(ctx context.Context) error {
	if s.done {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	err := s.exec(ctx, "remove what was staged", "DROP TABLE IF EXISTS "+s.progress())
	for _, name := range s.order {
		err = errors.Join(err, s.exec(ctx, "remove a staged table", "DROP "+s.tables[name].kind()+" IF EXISTS "+quote(s.tables[name].name)))
	}
	for _, n := range s.undo {
		err = errors.Join(err, s.exec(ctx, "remove a sequence", dropNoted(n)))
	}
	return errors.Join(err, s.Leave())
}
