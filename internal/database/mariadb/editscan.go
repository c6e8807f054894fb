package mariadb

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"

	"hovix/internal/database"
)

// Concurrent: there are two connections.
func (e *editor) Concurrent() bool { return true }

// Scan shows every row of the snapshot. A table without transactions is locked
// while it is read, so that it is read in pages, between which it can be changed.
func (e *editor) Scan(ctx context.Context, t *database.EditTable, yield func(*database.Row) error) error {
	et := e.tables[t.Name]
	var exprs []string
	for _, k := range et.key {
		exprs = append(exprs, k.expr)
	}
	exprs = append(exprs, et.exprs(t)...)
	query := "SELECT " + strings.Join(exprs, ",") + " FROM " + quote(t.Name)
	n := len(et.key)
	row := &database.Row{Values: make([][]byte, len(t.Columns))}
	show := func(cells []sql.RawBytes) error {
		if err := fits(cells); err != nil {
			return err
		}
		for i := range row.Values {
			row.Values[i] = cells[n+i]
		}
		row.Key = func() database.Key { return et.keyOf(cells[:n]) }
		return yield(row)
	}
	var err error
	if t.Lasting {
		err = e.pages(ctx, et, query, len(exprs), show)
	} else {
		err = e.stream(ctx, query, len(exprs), show)
	}
	if err != nil {
		return fmt.Errorf("read %s: %w", t.Name, err)
	}
	return nil
}

// stream shows the rows of a query as they come; cells are valid during the call.
func (e *editor) stream(ctx context.Context, query string, columns int, show func([]sql.RawBytes) error) error {
	rows, err := e.reader.conn.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	cells, into := rawCells(columns)
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if err := show(cells); err != nil {
			return err
		}
	}
	return rows.Err()
}

// pageRows is how many rows are read at a time where a table is locked by reading.
const pageRows = 500

// pages shows the rows of a query in the order of the table's key, page by page.
// A table without a key is one page.
func (e *editor) pages(ctx context.Context, et *editTable, query string, columns int, show func([]sql.RawBytes) error) error {
	var order []string
	for _, k := range et.key {
		order = append(order, k.expr)
	}
	for where := ""; ; {
		q := query + where
		if len(order) > 0 {
			q += " ORDER BY " + strings.Join(order, ",") + " LIMIT " + strconv.Itoa(pageRows)
		}
		var page [][]sql.RawBytes
		err := e.stream(ctx, q, columns, func(cells []sql.RawBytes) error {
			row := make([]sql.RawBytes, len(cells))
			for i, c := range cells {
				row[i] = bytes.Clone(c)
			}
			page = append(page, row)
			return nil
		})
		if err != nil {
			return err
		}
		for _, cells := range page {
			if err := show(cells); err != nil {
				return err
			}
		}
		if len(order) == 0 || len(page) < pageRows {
			return nil
		}
		where = " WHERE " + et.behind(page[len(page)-1])
	}
}

// behind gives the condition for rows whose key comes after that of a row.
func (et *editTable) behind(cells []sql.RawBytes) string {
	var alternatives []string
	equal := ""
	for i := range et.key {
		k := &et.key[i]
		v := string(k.appendLiteral(nil, cells[i]))
		alternatives = append(alternatives, "("+equal+k.expr+">"+v+")")
		equal += k.expr + "=" + v + " AND "
	}
	return strings.Join(alternatives, " OR ")
}
