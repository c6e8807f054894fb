package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// statementSize is about how long one INSERT gets, in bytes: far below the
// packet size of any server in use, and long enough to load fast.
const statementSize = 512 << 10

// reader reads one snapshot: a transaction on one connection.
type reader struct {
	l    database.Location
	db   *sql.DB
	conn *sql.Conn
	info database.Info
	lent bool // the pool belongs to another reader

	changed []string // tables that changed while they were read
}

// Open begins a consistent snapshot of the database at l. Tables of engines
// without transactions (MyISAM, Aria, MEMORY) are not part of a snapshot.
func Open(ctx context.Context, l database.Location) (database.Reader, error) {
	return openReader(ctx, l)
}

func openReader(ctx context.Context, l database.Location) (*reader, error) {
	db, err := connect(ctx, l, map[string]string{"time_zone": "'+00:00'", "sql_mode": "''"})
	if err != nil {
		return nil, err
	}
	r := &reader{db: db, l: l}
	if err := r.begin(ctx); err != nil {
		_ = r.Close()
		return nil, explain(l, err)
	}
	return r, nil
}

const startSnapshot = "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"

func (r *reader) begin(ctx context.Context) (err error) {
	if r.conn, err = r.db.Conn(ctx); err != nil {
		return err
	}
	for _, q := range []string{
		"SET NAMES utf8mb4",
		// Text comes as the bytes that are stored, whatever the column's charset.
		"SET character_set_results=NULL",
		"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
		startSnapshot,
	} {
		if _, err := r.conn.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("%w (in %s)", err, q)
		}
	}
	rows, err := r.Strings(ctx, "SELECT VERSION(), @@character_set_database")
	if err != nil {
		return err
	}
	r.info = database.Info{Engine: database.MariaDB, Product: "MySQL", Version: rows[0][0], Charset: rows[0][1]}
	if v, _, found := strings.Cut(rows[0][0], "-MariaDB"); found {
		r.info.Product, r.info.Version = "MariaDB", v
	}
	return nil
}

func (r *reader) Info() database.Info { return r.info }

func (r *reader) Close() error {
	if r.conn != nil { // a session that the server has ended has done its work all the same
		_, _ = r.conn.ExecContext(context.Background(), "ROLLBACK")
		_ = r.conn.Close()
	}
	if r.lent {
		return nil
	}
	return r.db.Close()
}

// lockWait is how long a Fork waits, in seconds, for those who write; others who
// write wait for it no longer.
const lockWait = 2

// Fork opens another reader, and lets both see one new snapshot: while they
// begin it, for a moment, nobody may write.
func (r *reader) Fork(ctx context.Context) (database.Reader, error) {
	tables, err := r.Tables(ctx)
	if err != nil {
		return nil, err
	}
	gate, err := r.db.Conn(ctx)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", err, database.ErrNoFork)
	}
	defer gate.Close()
	f := &reader{db: r.db, l: r.l, lent: true}
	if err := f.begin(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("%w: %w", err, database.ErrNoFork), f.Close())
	}
	var locks []string
	for _, t := range tables {
		locks = append(locks, quote(t.Name)+" READ")
	}
	for _, q := range []string{fmt.Sprintf("SET SESSION lock_wait_timeout=%d", lockWait), fmt.Sprintf("SET SESSION innodb_lock_wait_timeout=%d", lockWait), "LOCK TABLES " + strings.Join(locks, ", ")} {
		if _, err := gate.ExecContext(ctx, q); err != nil {
			return nil, errors.Join(fmt.Errorf("%w: %w", err, database.ErrNoFork), f.Close())
		}
	}
	for _, c := range []*sql.Conn{r.conn, f.conn} {
		for _, q := range []string{"ROLLBACK", startSnapshot} {
			if _, err := c.ExecContext(ctx, q); err != nil {
				return nil, errors.Join(fmt.Errorf("begin a snapshot: %w", err), f.Close())
			}
		}
	}
	if _, err := gate.ExecContext(ctx, "UNLOCK TABLES"); err != nil {
		return nil, errors.Join(fmt.Errorf("end the lock on the tables: %w", err), f.Close())
	}
	return f, nil
}

func (r *reader) Strings(ctx context.Context, query string, args ...any) ([][]string, error) {
	if len(args) > 0 {
		query = interpolate(query, args)
	}
	return stringRows(r.conn.QueryContext(ctx, query))
}

// interpolate puts texts in the place of question marks. The session's SQL mode
// is known, so that a literal means what sqltext writes.
func interpolate(query string, args []any) string {
	var b []byte
	for _, part := range strings.SplitAfter(query, "?") {
		if strings.HasSuffix(part, "?") && len(args) > 0 {
			b = append(b, part[:len(part)-1]...)
			b = sqltext.AppendMySQLString(b, []byte(fmt.Sprint(args[0])), false)
			args = args[1:]
			continue
		}
		b = append(b, part...)
	}
	return strings.ReplaceAll(string(b), "_binary'", "_utf8mb4'")
}

// rawCells makes n cells and what Scan wants to fill them.
func rawCells(n int) ([]sql.RawBytes, []any) {
	cells, into := make([]sql.RawBytes, n), make([]any, n)
	for i := range cells {
		into[i] = &cells[i]
	}
	return cells, into
}

// fits refuses a row that is too large to be carried.
func fits(cells []sql.RawBytes) error {
	n := 0
	for _, c := range cells {
		n += len(c)
	}
	return database.CheckRow(n)
}

func stringRows(rows *sql.Rows, err error) ([][]string, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out [][]string
	cells, into := rawCells(len(columns))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := make([]string, len(cells))
		for i, c := range cells {
			row[i] = string(c)
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

func (r *reader) Tables(ctx context.Context) ([]database.Table, error) {
	rows, err := r.conn.QueryContext(ctx, `SELECT TABLE_NAME, COALESCE(TABLE_ROWS,0), COALESCE(DATA_LENGTH,0)+COALESCE(INDEX_LENGTH,0), COALESCE(INDEX_LENGTH,0)
		FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_TYPE IN ('BASE TABLE','SYSTEM VERSIONED') AND `+notOurs+` ORDER BY TABLE_NAME`)
	if err != nil {
		return nil, fmt.Errorf("list tables: %w", err)
	}
	defer rows.Close()
	var tables []database.Table
	for rows.Next() {
		var t database.Table
		if err := rows.Scan(&t.Name, &t.Rows, &t.Bytes, &t.Keys); err != nil {
			return nil, fmt.Errorf("list tables: %w", err)
		}
		tables = append(tables, t)
	}
	return tables, rows.Err()
}

func (r *reader) Definition(ctx context.Context, table string) (string, []string, error) {
	rows, err := r.Strings(ctx, "SHOW CREATE TABLE "+quote(table))
	if err != nil {
		return "", nil, fmt.Errorf("definition of %s: %w", table, err)
	}
	return r.withoutDatabase(rows[0][1]), nil, nil
}

// withoutDatabase takes the database's own name from before what lies in it.
func (r *reader) withoutDatabase(def string) string {
	return sqltext.WithoutQualifier(def, r.l.Name)
}

func quote(name string) string { return sqltext.QuoteName(name, sqltext.MySQL) }

// cellKind says how the values of a column are written.
type cellKind int

const (
	cellText   cellKind = iota // '…', with _binary where not ASCII
	cellNumber                 // as the server prints it
	cellBits                   // x'…'
	cellBinary                 // _binary'…' always
	cellUTF8                   // _utf8mb4'…': types that do not take binary strings
)

// column is a column of a table that an INSERT can set.
type column struct {
	expr string // by which it is selected
	name string // quoted
	kind cellKind
}

// limited reads no more of a column than shows that its value is too large; a
// shorter one comes as it is.
func limited(name string) string { return fmt.Sprintf("LEFT(%s,%d)", name, database.MaxRow+1) }

func (r *reader) columns(ctx context.Context, table string) ([]column, error) {
	rows, err := r.Strings(ctx, `SELECT COLUMN_NAME, LOWER(DATA_TYPE), UPPER(EXTRA), COALESCE(CHARACTER_SET_NAME,'') FROM information_schema.COLUMNS
		WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME=? ORDER BY ORDINAL_POSITION`, table)
	if err != nil {
		return nil, fmt.Errorf("columns of %s: %w", table, err)
	}
	var out []column
	for _, row := range rows {
		extra := row[2]
		if strings.Contains(extra, "VIRTUAL GENERATED") || strings.Contains(extra, "STORED GENERATED") || strings.Contains(extra, "PERSISTENT") {
			continue
		}
		c := column{expr: quote(row[0]), name: quote(row[0])}
		switch row[1] {
		case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "double", "year":
			c.kind = cellNumber
		case "float":
			// Printed as a float it loses digits; as a double it keeps all.
			c.kind, c.expr = cellNumber, "CAST("+c.name+" AS DOUBLE)"
		case "longtext", "longblob":
			c.expr = limited(c.name)
		case "bit":
			c.kind = cellBits
		case "uuid", "inet4", "inet6", "json":
			c.kind = cellUTF8
		case "geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection", "geomcollection":
			c.kind = cellBinary
		}
		if isWide(row[3]) { // addresses are looked for in bytes that are ASCII's
			c.kind, c.expr = cellUTF8, "CONVERT("+c.name+" USING utf8mb4)"
		}
		out = append(out, c)
	}
	return out, nil
}

func (r *reader) Rows(ctx context.Context, table, without string, size int, yield func(database.Chunk) error) error {
	columns, err := r.columns(ctx, table)
	if err != nil {
		return err
	}
	if len(columns) == 0 {
		return fmt.Errorf("read %s: it has no columns that can be set", table)
	}
	var exprs, names []string
	for _, c := range columns {
		exprs, names = append(exprs, c.expr), append(names, c.name)
	}
	before, err := r.state(ctx, table)
	if err != nil {
		return fmt.Errorf("read %s: %w", table, err)
	}
	rows, err := r.conn.QueryContext(ctx, "SELECT "+strings.Join(exprs, ",")+" FROM "+quote(table)+database.Remaining(without))
	if err != nil {
		return fmt.Errorf("read %s: %w", table, err)
	}
	defer rows.Close()
	w := database.NewChunkWriter("INSERT INTO "+quote(table)+" ("+strings.Join(names, ",")+") VALUES", statementSize, size, yield)
	cells, into := rawCells(len(columns))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return fmt.Errorf("read %s: %w", table, err)
		}
		if err := fits(cells); err != nil {
			return fmt.Errorf("read %s: %w", table, err)
		}
		b := w.Begin()
		for i, cell := range cells {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendLiteral(b, cell, columns[i].kind)
		}
		if err := w.End(b); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return fmt.Errorf("read %s: %w", table, err)
	}
	rows.Close()
	if err := r.watch(ctx, table, before); err != nil {
		return err
	}
	return w.Close()
}

// state tells of a table that is not part of the snapshot when it was changed
// last; "" of others.
func (r *reader) state(ctx context.Context, table string) (string, error) {
	rows, err := r.Strings(ctx, `SELECT CASE WHEN e.TRANSACTIONS='YES' THEN '' ELSE CONCAT_WS(' ',t.UPDATE_TIME,t.TABLE_ROWS,t.DATA_LENGTH,t.DATA_FREE,t.AUTO_INCREMENT) END
		FROM information_schema.TABLES t JOIN information_schema.ENGINES e ON e.ENGINE=t.ENGINE WHERE t.TABLE_SCHEMA=DATABASE() AND t.TABLE_NAME=?`, table)
	if err != nil || len(rows) == 0 {
		return "", err
	}
	return rows[0][0], nil
}

// watch notes a table that is not as it was before it was read.
func (r *reader) watch(ctx context.Context, table, before string) error {
	if before == "" {
		return nil
	}
	now, err := r.state(ctx, table)
	if now != before {
		r.changed = append(r.changed, table)
	}
	return err
}

// Changed lists the tables without transactions that others changed while they
// were read.
func (r *reader) Changed(context.Context) ([]string, error) { return r.changed, nil }

func appendLiteral(b, cell []byte, kind cellKind) []byte {
	if cell == nil {
		return append(b, "NULL"...)
	}
	switch kind {
	case cellNumber:
		return append(b, cell...)
	case cellBits:
		return sqltext.AppendHex(b, cell)
	case cellUTF8:
		return appendIntroduced(b, cell, "utf8mb4")
	}
	return sqltext.AppendMySQLString(b, cell, kind == cellBinary)
}

// appendIntroduced appends a text whose bytes are those of a charset.
func appendIntroduced(b, v []byte, charset string) []byte {
	b = append(append(b, '_'), charset...)
	at := len(b)
	b = sqltext.AppendMySQLString(b, v, true)
	return append(b[:at], b[at+len("_binary"):]...)
}

func (r *reader) Prologue() string { return Prologue() }

// Prologue is what a client is told before it loads rows as Hovix writes them.
func Prologue() string {
	return "SET NAMES utf8mb4;\nSET time_zone='+00:00';\nSET foreign_key_checks=0;\nSET unique_checks=0;\nSET sql_mode='" + sqlMode + "';\n"
}

// Epilogue lets sequences go on where they stand.
func (r *reader) Epilogue(ctx context.Context) (string, error) {
	b := "SET foreign_key_checks=1;\nSET unique_checks=1;\n"
	names, err := r.sequences(ctx)
	if err != nil {
		return "", err
	}
	for _, name := range names {
		at, err := r.Strings(ctx, "SELECT next_not_cached_value FROM "+quote(name))
		if err != nil {
			return "", fmt.Errorf("position of the sequence %s: %w", name, err)
		}
		b += "DO SETVAL(" + quote(name) + ", " + at[0][0] + ", 0);\n"
	}
	return b, nil
}

// sqlMode keeps values as they are: zero is a value, dates may be zero or odd,
// and what does not fit is an error instead of being cut.
const sqlMode = "NO_AUTO_VALUE_ON_ZERO,STRICT_ALL_TABLES,ALLOW_INVALID_DATES"
