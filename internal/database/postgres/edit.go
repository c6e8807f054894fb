package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
)

// editor reads on the connection of a reader, and changes on one of its own.
type editor struct {
	*reader
	change *pgconn.PgConn // nil before Begin
	look   *pgconn.PgConn // for questions while a Scan is under way, before Begin
	tables map[string]*editTable
}

// Edit opens the database at l to be changed in place.
func Edit(ctx context.Context, l database.Location) (database.Editor, error) {
	r, err := openReader(ctx, l, "")
	if err != nil {
		return nil, err
	}
	return &editor{reader: r, tables: map[string]*editTable{}}, nil
}

// Concurrent: changes have a connection of their own.
func (e *editor) Concurrent() bool { return true }

// Begin lets the reader see what is there now, and opens the transaction.
// Foreign keys that can wait are looked at when it ends. Triggers find the
// site's tables as they are used to.
func (e *editor) Begin(ctx context.Context) (err error) {
	if err := execute(ctx, e.conn, "ROLLBACK"); err != nil {
		return fmt.Errorf("begin another snapshot: %w", err)
	}
	e.snapshot = ""
	if err := e.reader.begin(ctx); err != nil {
		return fmt.Errorf("begin another snapshot: %w", err)
	}
	if e.change, err = connect(ctx, e.l); err != nil {
		return err
	}
	if err := execute(ctx, e.change, "RESET search_path; BEGIN; SET CONSTRAINTS ALL DEFERRED"); err != nil {
		return fmt.Errorf("begin the change: %w", err)
	}
	return nil
}

func (e *editor) Commit(ctx context.Context) error {
	if err := execute(ctx, e.change, "COMMIT"); err != nil {
		return fmt.Errorf("commit the change: %w", err)
	}
	return nil
}

// Touch runs a statement.
func (e *editor) Touch(ctx context.Context, stmt string) error {
	if err := execute(ctx, e.change, stmt); err != nil {
		return refusal("change the site's records", err)
	}
	return nil
}

// Close takes back what was not committed: the server does so when the
// connection ends.
func (e *editor) Close() (err error) {
	for _, c := range []*pgconn.PgConn{e.change, e.look} {
		if c != nil {
			err = errors.Join(err, closeConn(c))
		}
	}
	return errors.Join(err, e.reader.Close())
}

// Update makes changes of the same columns by one statement. Where that fails,
// or does not find every row, it is taken back and tried again in halves, until
// a change stands alone.
func (e *editor) Update(ctx context.Context, t *database.EditTable, changes []database.Change) ([]database.Outcome, error) {
	outcomes := make([]database.Outcome, len(changes))
	// Positions in changes, grouped by the columns that are changed.
	groups, order := map[string][]int{}, []string{}
	for i := range changes {
		k := fmt.Sprint(changes[i].Columns)
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], i)
	}
	for _, k := range order {
		if err := e.attempt(ctx, t, changes, groups[k], outcomes); err != nil {
			return nil, err
		}
	}
	return outcomes, nil
}

func (e *editor) attempt(ctx context.Context, t *database.EditTable, changes []database.Change, which []int, outcomes []database.Outcome) error {
	statement := e.tables[t.Name].update(t, changes, which)
	results, err := e.change.Exec(ctx, "SAVEPOINT hovix_changes; "+statement).ReadAll()
	if err == nil && results[len(results)-1].CommandTag.RowsAffected() == int64(len(which)) {
		return execute(ctx, e.change, "RELEASE SAVEPOINT hovix_changes")
	}
	outcome := database.Outcome{Kind: database.Moved}
	if err != nil {
		err = plain(err)
		var ofRow bool
		if outcome.Kind, outcome.Why, ofRow = refused(err); !ofRow {
			return refusal("change "+t.Name, err)
		}
	}
	if err := execute(ctx, e.change, "ROLLBACK TO SAVEPOINT hovix_changes; RELEASE SAVEPOINT hovix_changes"); err != nil {
		return refusal("change "+t.Name, err)
	}
	if len(which) == 1 {
		outcomes[which[0]] = outcome
		return nil
	}
	half := len(which) / 2
	if err := e.attempt(ctx, t, changes, which[:half], outcomes); err != nil {
		return err
	}
	return e.attempt(ctx, t, changes, which[half:], outcomes)
}

// refused reports whether an error concerns the row that was changed, not the
// database or the connection.
func refused(err error) (kind database.OutcomeKind, why string, ofRow bool) {
	switch code := codeOf(err); {
	case code == uniqueViolation:
		return database.Repeats, err.Error(), true
	// Data exceptions, integrity constraints, limits of the server, and what
	// triggers raise: the classes of appendix A of the PostgreSQL manual.
	case strings.HasPrefix(code, "22"), strings.HasPrefix(code, "23"), strings.HasPrefix(code, "54"), strings.HasPrefix(code, "P0"):
		return database.Unfit, err.Error(), true
	}
	return 0, "", false
}

// refusal explains why nothing can be changed.
func refusal(what string, err error) error {
	switch codeOf(err) {
	case noPrivilege, readOnly:
		return fmt.Errorf("%s: %w: %w", what, err, database.ErrReadOnly)
	case lockNotAvailable, deadlock:
		return fmt.Errorf("%s: %w: %w", what, err, database.ErrBusy)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// Fetch reads what a row holds now, and locks it.
func (e *editor) Fetch(ctx context.Context, t *database.EditTable, key database.Key) ([][]byte, error) {
	et := e.tables[t.Name]
	res := e.change.ExecParams(ctx, "SELECT "+strings.Join(et.exprs(t), ",")+" FROM ONLY "+et.name+" WHERE "+key.Where+" FOR UPDATE", nil, nil, nil, nil).Read()
	if res.Err != nil {
		return nil, refusal("read "+t.Name, plain(res.Err))
	}
	if len(res.Rows) == 0 {
		return nil, nil
	}
	for i, v := range res.Rows[0] {
		if v != nil && et.columns[t.Columns[i].Name].binary {
			res.Rows[0][i] = binaryOf(v)
		}
	}
	return res.Rows[0], nil
}

// Taken looks in every key that the change would alter.
func (e *editor) Taken(ctx context.Context, t *database.EditTable, c *database.Change) (bool, error) {
	et := e.tables[t.Name]
	for _, unique := range et.unique {
		var terms []string
		changed := false
		for _, name := range unique {
			term := quote(name) + "=(SELECT " + quote(name) + " FROM ONLY " + et.name + " WHERE " + c.Key.Where + ")"
			if at := slices.IndexFunc(c.Columns, func(i int) bool { return t.Columns[i].Name == name }); at >= 0 {
				changed = true
				term = quote(name) + "=" + et.columns[name].literal(c.New[at])
			}
			terms = append(terms, term)
		}
		if !changed {
			continue
		}
		rows, err := e.question(ctx, "SELECT 1 FROM ONLY "+et.name+" WHERE "+strings.Join(terms, " AND ")+" AND NOT ("+c.Key.Where+") LIMIT 1")
		if code := codeOf(err); strings.HasPrefix(code, "22") {
			continue // a value that the column does not take is nobody's
		}
		if err != nil {
			return false, fmt.Errorf("look for a key of %s: %w", t.Name, err)
		}
		if len(rows) > 0 {
			return true, nil
		}
	}
	return false, nil
}

// question asks on a connection that no Scan occupies.
func (e *editor) question(ctx context.Context, query string) (rows [][]string, err error) {
	if e.look == nil {
		if e.look, err = connect(ctx, e.l); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	return ask(ctx, e.look, query)
}
