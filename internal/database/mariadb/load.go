package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
)

// Of rows with short values, the server spends more on reading the text of an INSERT
// statement than on storing them. LOAD DATA LOCAL costs it a third less; not so of long
// values, whose bytes it copies one by one there. It is less strict, too: what does not fit
// is a warning. So what it has stored counts only if there was none, and else the same
// rows are given as the statements that they came in.

// maxLoaded is how many bytes a value may have on average to be faster loaded.
const maxLoaded = 64

// loadable are the types of columns that take the same from LOAD DATA as from a literal:
// numbers (true) from the text of a number, others from the bytes of a text. A YEAR, for
// one, does not: it takes 0 as 0000 and '0' as 2000.
var loadable = map[string]bool{
	"tinyint": true, "smallint": true, "mediumint": true, "int": true, "bigint": true, "decimal": true, "float": true, "double": true,
	"char": false, "varchar": false, "tinytext": false, "text": false, "mediumtext": false, "longtext": false,
	"binary": false, "varbinary": false, "tinyblob": false, "blob": false, "mediumblob": false, "longblob": false,
	"date": false, "time": false, "datetime": false, "timestamp": false, "enum": false, "set": false,
}

// loader tells whether and how rows of a table are loaded.
type loader struct {
	numbers map[string]bool // columns, and whether they hold numbers; nil: rows are not loaded
	off     atomic.Bool     // for it did not go well
}

// init looks at the definition of a table. What has been stored of a chunk that fails
// must be taken back, which InnoDB can do.
func (l *loader) init(def *sqltree.Table) {
	if def.Engine != "innodb" {
		return
	}
	numbers := map[string]bool{}
	for _, it := range def.Items {
		if it.Kind != sqltree.Column {
			continue
		}
		number, known := loadable[it.Type]
		if !known {
			return
		}
		numbers[it.Name] = number
	}
	l.numbers = numbers
}

// canLoad reports whether the server takes rows from its client. A cluster may commit
// what it loads in parts.
func canLoad(ctx context.Context, db querier) bool {
	rows, err := stringRows(db.QueryContext(ctx, "SHOW VARIABLES WHERE Variable_name IN ('local_infile','wsrep_on') AND Value='ON'"))
	return err == nil && len(rows) == 1 && rows[0][0] == "local_infile"
}

// load is rows of one INSERT statement as LOAD DATA takes them.
type load struct {
	stmt string
	name string // under which the driver asks for text
	text *[]byte
	rows int64
}

// loads numbers them.
var loads atomic.Int64

var loadRoom = sync.Pool{New: func() any { return new([]byte) }}

// prepare gives the loads that do what INSERT statements do, which hold so many rows;
// none if these are to be given as they are.
func (l *loader) prepare(target string, stmts [][]byte, rows int64) (all []load) {
	size := 0
	for _, s := range stmts {
		size += len(s)
	}
	if l.numbers == nil || l.off.Load() || int64(size) > rows*int64(len(l.numbers))*maxLoaded {
		return nil
	}
	for _, s := range stmts {
		one, ok := l.prepareOne(target, s)
		if !ok {
			l.off.Store(true)
			release(all)
			return nil
		}
		all = append(all, one)
	}
	return all
}

func (l *loader) prepareOne(target string, stmt []byte) (one load, ok bool) {
	ins, err := sqltext.ParseInsert(stmt, sqltext.MySQL)
	if err != nil || len(ins.Columns) == 0 {
		return one, false
	}
	numbers, names := make([]bool, len(ins.Columns)), make([]string, len(ins.Columns))
	for i, c := range ins.Columns {
		if numbers[i], ok = l.numbers[c]; !ok {
			return one, false
		}
		names[i] = quote(c)
	}
	one.text = loadRoom.Get().(*[]byte)
	text, rows, ok := ins.AppendTabbed((*one.text)[:0], stmt, numbers)
	if !ok {
		loadRoom.Put(one.text)
		return one, false
	}
	*one.text, one.rows, one.name = text, rows, fmt.Sprint("rows", loads.Add(1))
	one.stmt = "LOAD DATA LOCAL INFILE 'Reader::" + one.name + "' INTO TABLE " + target +
		` CHARACTER SET binary FIELDS TERMINATED BY '\t' ENCLOSED BY '' ESCAPED BY '\\' LINES TERMINATED BY '\n' (` + strings.Join(names, ",") + ")"
	return one, true
}

// release lets others use the room of loads.
func release(all []load) {
	for _, one := range all {
		loadRoom.Put(one.text)
	}
}

// errNotLoaded says that rows must be given as statements.
var errNotLoaded = errors.New("the rows were not loaded")

// run stores the rows. An error that wraps errNotLoaded leaves the transaction to be
// rolled back, and the rows to be stored in the other way.
func (one *load) run(ctx context.Context, tx *sql.Tx) (int64, error) {
	mysql.RegisterReaderHandler(one.name, func() io.Reader { return bytes.NewReader(*one.text) })
	defer mysql.DeregisterReaderHandler(one.name)
	res, err := tx.ExecContext(ctx, one.stmt)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", errNotLoaded, err)
	}
	stored, _ := res.RowsAffected()
	var warnings int64
	if err := tx.QueryRowContext(ctx, "SELECT @@warning_count").Scan(&warnings); err != nil {
		return 0, fmt.Errorf("%w: %w", errNotLoaded, err)
	}
	if warnings != 0 || stored != one.rows {
		return 0, fmt.Errorf("%w: %d of %d were stored, with %d warnings", errNotLoaded, stored, one.rows, warnings)
	}
	return stored, nil
}
