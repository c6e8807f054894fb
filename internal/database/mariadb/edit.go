package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database"
)

// editor reads on the connection of a reader, and changes on one of its own.
type editor struct {
	*reader
	location database.Location
	pool     *sql.DB
	conn     *sql.Conn // nil before Begin
	tables   map[string]*editTable
	buf      []byte // room for a statement
}

// Edit opens the database at l to be changed in place.
func Edit(ctx context.Context, l database.Location) (database.Editor, error) {
	r, err := openReader(ctx, l)
	if err != nil {
		return nil, err
	}
	return &editor{reader: r, location: l, tables: map[string]*editTable{}}, nil
}

// Begin lets the reader see what is there now, and opens the transaction.
// Foreign keys are not followed: what refers to a key is rewritten like it.
func (e *editor) Begin(ctx context.Context) (err error) {
	for _, q := range []string{"ROLLBACK", startSnapshot} {
		if _, err := e.reader.conn.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("begin another snapshot: %w", err)
		}
	}
	e.pool, err = connect(ctx, e.location, map[string]string{"sql_mode": "'" + sqlMode + "'", "time_zone": "'+00:00'", "foreign_key_checks": "0"},
		func(c *mysql.Config) { c.MultiStatements, c.ClientFoundRows = true, true })
	if err != nil {
		return err
	}
	if e.conn, err = e.pool.Conn(ctx); err != nil {
		return explain(e.location, err)
	}
	for _, q := range []string{"SET NAMES utf8mb4", "SET character_set_results=NULL", "START TRANSACTION"} {
		if _, err := e.conn.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("begin the change: %w", err)
		}
	}
	return nil
}

func (e *editor) Commit(ctx context.Context) error {
	if _, err := e.conn.ExecContext(ctx, "COMMIT"); err != nil {
		return fmt.Errorf("commit the change: %w", err)
	}
	return nil
}

// Touch runs a statement.
func (e *editor) Touch(ctx context.Context, stmt string) error {
	if _, err := e.exec(ctx, stmt); err != nil {
		return e.refusal("change the site's records", err)
	}
	return nil
}

// Close takes back what was not committed.
func (e *editor) Close() error {
	var err error
	if e.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
		defer cancel()
		// A broken connection is taken back by the server.
		_, _ = e.conn.ExecContext(ctx, "ROLLBACK")
		_ = e.conn.Close()
	}
	if e.pool != nil {
		err = e.pool.Close()
	}
	return errors.Join(err, e.reader.Close())
}

// Fetch reads what a row holds now, and locks it.
func (e *editor) Fetch(ctx context.Context, t *database.EditTable, key database.Key) ([][]byte, error) {
	exprs := e.tables[t.Name].exprs(t)
	rows, err := e.conn.QueryContext(ctx, "SELECT "+strings.Join(exprs, ",")+" FROM "+quote(t.Name)+" WHERE "+key.Where+" FOR UPDATE")
	if err != nil {
		return nil, e.refusal("read "+t.Name, err)
	}
	defer rows.Close()
	if !rows.Next() {
		return nil, rows.Err()
	}
	cells, into := rawCells(len(exprs))
	if err := rows.Scan(into...); err != nil {
		return nil, err
	}
	values := make([][]byte, len(cells))
	for i, c := range cells {
		values[i] = bytes.Clone(c)
	}
	return values, rows.Err()
}

// Update makes many changes by one statement. Where that fails, or does not find
// every row, it is taken back and tried again in halves, until a change stands
// alone.
func (e *editor) Update(ctx context.Context, t *database.EditTable, changes []database.Change) ([]database.Outcome, error) {
	outcomes := make([]database.Outcome, len(changes))
	et := e.tables[t.Name]
	if len(et.key) == 0 {
		return outcomes, e.attempt(ctx, t, changes, outcomes)
	}
	rows := rowsPerStatement
	if t.Lasting { // nothing can be taken back and tried again
		rows = 1
	}
	for i, end := 0, 0; i < len(changes); i = end {
		end = i + 1
		for end < min(len(changes), i+rows) && !et.alone(t, &changes[i]) && !et.alone(t, &changes[end]) {
			end++
		}
		if err := e.attempt(ctx, t, changes[i:end], outcomes[i:end]); err != nil {
			return nil, err
		}
	}
	return outcomes, nil
}

// rowsPerStatement is how many rows one UPDATE changes. The server compares
// each row with half of the others' keys, so that more would cost more again.
const rowsPerStatement = 64

func (e *editor) attempt(ctx context.Context, t *database.EditTable, changes []database.Change, outcomes []database.Outcome) error {
	et := e.tables[t.Name]
	keyed, statement := len(et.key) > 0, ""
	if keyed {
		e.buf = et.update(e.buf[:0], t, changes)
		statement = string(e.buf)
	} else {
		statement = et.updateByValue(t, changes)
	}
	if !t.Lasting {
		statement = "SAVEPOINT hovix_changes; " + statement
	}
	found, err := e.exec(ctx, statement)
	if err == nil && (!keyed || found == int64(len(changes))) {
		return nil
	}
	outcome := database.Outcome{Kind: database.Moved}
	if err != nil {
		var ofRow bool
		if outcome.Kind, outcome.Why, ofRow = refused(err); !ofRow {
			return e.refusal("change "+t.Name, err)
		}
	}
	if !t.Lasting && !errors.Is(err, mysql.ErrPktTooLarge) { // nothing of which was sent
		if _, err := e.exec(ctx, "ROLLBACK TO SAVEPOINT hovix_changes"); err != nil {
			return e.refusal("change "+t.Name, err)
		}
	}
	if len(changes) == 1 {
		outcomes[0] = outcome
		return nil
	}
	half := len(changes) / 2
	if err := e.attempt(ctx, t, changes[:half], outcomes[:half]); err != nil {
		return err
	}
	return e.attempt(ctx, t, changes[half:], outcomes[half:])
}

// exec runs statements at once and gives how many rows the last of them found.
func (e *editor) exec(ctx context.Context, statements string) (found int64, err error) {
	res, err := e.conn.ExecContext(ctx, statements)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// refused reports whether an error concerns the row that was changed, not the
// database or the connection.
func refused(err error) (kind database.OutcomeKind, why string, ofRow bool) {
	if errors.Is(err, mysql.ErrPktTooLarge) {
		return database.Unfit, "it is larger than the server accepts (max_allowed_packet)", true
	}
	var my *mysql.MySQLError
	if !errors.As(err, &my) {
		return 0, "", false
	}
	switch my.Number {
	case erDuplicate, erDuplicateName:
		return database.Repeats, my.Message, true
	// Cut, out of range, wrong for the charset, against a CHECK, refused by a
	// trigger: as the MariaDB error code reference names them.
	case erTooLong, erPacketTooLarge, 1048, 1264, 1265, 1292, 1300, 1366, 1526, 1644, 3819, 4025, 4078:
		return database.Unfit, my.Message, true
	}
	return 0, "", false
}

// refusal explains why nothing can be changed.
func (e *editor) refusal(what string, err error) error {
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		switch my.Number {
		case erTableAccess, erColumnAccess, erReadOnly, erReadOnlyTrx, erReadOnlyMode:
			return fmt.Errorf("%s: %s: %w", what, my.Message, database.ErrReadOnly)
		case erLockWait, erDeadlock:
			return fmt.Errorf("%s: %s: %w", what, my.Message, database.ErrBusy)
		}
	}
	return fmt.Errorf("%s: %w", what, err)
}

// Taken looks in every key that the change would alter.
func (e *editor) Taken(ctx context.Context, t *database.EditTable, c *database.Change) (bool, error) {
	if c.Key.Where == "" {
		return false, nil
	}
	et := e.tables[t.Name]
	for _, unique := range et.unique {
		var terms []string
		changed := false
		for _, name := range unique {
			term := quote(name) + "=(SELECT " + quote(name) + " FROM " + quote(t.Name) + " WHERE " + c.Key.Where + ")"
			at := slices.IndexFunc(c.Columns, func(i int) bool { return t.Columns[i].Name == name })
			if at >= 0 {
				changed = true
				term = quote(name) + "=" + string(et.column(t, c.Columns[at]).appendLiteral(nil, c.New[at]))
			}
			terms = append(terms, term)
		}
		if !changed {
			continue
		}
		rows, err := stringRows(e.taken(ctx, "SELECT 1 FROM "+quote(t.Name)+" WHERE "+strings.Join(terms, " AND ")+" AND NOT ("+c.Key.Where+") LIMIT 1"))
		if err != nil {
			return false, fmt.Errorf("look for a key of %s: %w", t.Name, err)
		}
		if len(rows) > 0 {
			return true, nil
		}
	}
	return false, nil
}

// taken asks on a connection that no Scan occupies.
func (e *editor) taken(ctx context.Context, query string) (*sql.Rows, error) {
	if e.conn != nil {
		return e.conn.QueryContext(ctx, query)
	}
	return e.db.QueryContext(ctx, query)
}

// isWide reports whether the charset does not hold ASCII as single bytes.
func isWide(charset string) bool {
	return slices.Contains([]string{"ucs2", "utf16", "utf16le", "utf32"}, charset)
}

// literal makes literals of one column.
type literal struct {
	expr    string // by which the column is read
	name    string // quoted
	kind    cellKind
	charset string // of the literal: the column's own, or the one it is read in
}

func (l *literal) appendLiteral(b, v []byte) []byte {
	switch {
	case v == nil || l.kind == cellNumber:
		return appendLiteral(b, v, l.kind)
	case l.kind == cellBits: // x'…' is a text where it is compared, 0x… is a number
		return hex.AppendEncode(append(b, "0x"...), v)
	}
	return appendIntroduced(b, v, l.charset)
}
