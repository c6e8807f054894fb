package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database/sqltree"
)

// Rows come to the partitions that they were in. Where the value by which they are parted was
// rewritten, they may belong to another one: a partition that cannot be attached for that is
// emptied first, and its rows go through the table that it is a part of.

// parting is what is known of partitions while they are attached.
type parting struct {
	*stage
	parents map[string]string // partition → the table that it is a part of
	moved   []movedRows
}

// movedRows are rows that are to go through the table above.
type movedRows struct {
	table string // quoted, in which they lie meanwhile
	part  string // that they came from
}

const movedName = "_hovix_moved_"

// lookBack finds rows that an interrupted run has moved and not put back.
func (p *parting) lookBack(ctx context.Context) error {
	return p.with(ctx, func(c *pgconn.PgConn) error {
		rows, err := ask(ctx, c, `SELECT pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname), pg_catalog.obj_description(c.oid, 'pg_class')
			FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace WHERE n.nspname=$1 AND c.relname LIKE '\_hovix\_moved\_%'`, p.stagedName(0))
		for _, row := range rows {
			p.moved = append(p.moved, movedRows{row[0], row[1]})
		}
		return err
	})
}

// emptied attaches a partition without its rows, which it keeps aside.
func (p *parting) emptied(ctx context.Context, one *sqltree.Statement, n int) error {
	m := movedRows{fmt.Sprintf("%s.%s%d", p.stagedName(0), movedName, n), one.Part}
	from := p.Target(one.Part)
	err := p.transaction(ctx, "part the rows of "+one.Table, func(c *pgconn.PgConn) error {
		for _, stmt := range []string{"CREATE TABLE " + m.table + " AS TABLE " + from, "COMMENT ON TABLE " + m.table + " IS " + quoteText(one.Part), "TRUNCATE " + from, one.SQL(p.rename)} {
			if err := single(ctx, c, stmt); err != nil {
				return err
			}
		}
		return execute(ctx, c, p.keep(lateObjects, n, 0))
	})
	if err == nil {
		p.moved = append(p.moved, m)
	}
	return err
}

// putBack puts rows that were moved through the uppermost table that they belong to.
func (p *parting) putBack(ctx context.Context) error {
	for _, m := range p.moved {
		top := m.part
		for p.parents[top] != "" {
			top = p.parents[top]
		}
		err := p.transaction(ctx, "part the rows of "+top, func(c *pgconn.PgConn) error {
			rows, err := ask(ctx, c, `SELECT pg_catalog.quote_ident(attname) FROM pg_catalog.pg_attribute WHERE attrelid=$1::pg_catalog.regclass AND attnum>0 AND NOT attisdropped AND attgenerated='' ORDER BY attnum`, p.Target(m.part))
			if err != nil {
				return err
			}
			var names []string
			for _, row := range rows {
				names = append(names, row[0])
			}
			list := strings.Join(names, ", ")
			if err := single(ctx, c, "INSERT INTO "+p.Target(top)+" ("+list+") OVERRIDING SYSTEM VALUE SELECT "+list+" FROM "+m.table); err != nil {
				return err
			}
			return single(ctx, c, "DROP TABLE "+m.table)
		})
		if err != nil {
			return err
		}
	}
	p.moved = nil
	return nil
}
