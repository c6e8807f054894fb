package sqltree

import (
	"regexp"
	"strconv"
	"strings"

	"hovix/internal/database/sqltext"
)

// typed is the type of a column with its length, right behind the name.
var typed = regexp.MustCompile(`(?i)^\s*(?:pg_catalog\.)?(national +|n)?(varchar|char|character varying|character|bpchar|varbinary|binary|tinytext|text|mediumtext|tinyblob|blob|mediumblob)\b\s*(?:\(\s*(\d+)\s*\))?`)

// Limit gives how much a value of a column may hold: so many characters, or so many bytes; 0:
// no limit that the definition tells. SQLite knows none.
func (t *Table) Limit(it *Item) (characters, bytes int64) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(it.Text), sqltext.QuoteName(it.Name, t.d))
	m := typed.FindStringSubmatch(rest)
	if !ok || m == nil || it.Kind != Column || t.d == sqltext.SQLite {
		return 0, 0
	}
	n, _ := strconv.ParseInt(m[3], 10, 64)
	kind := strings.ToLower(m[2])
	if t.d == sqltext.Postgres {
		if kind == "text" || strings.HasSuffix(kind, "blob") {
			return 0, 0
		}
		return n, 0
	}
	switch kind {
	case "varchar", "char", "character varying", "character":
		return max(n, 1), 0
	case "varbinary", "binary":
		return 0, max(n, 1)
	case "tinytext", "tinyblob":
		return 0, 255
	case "text", "blob": // a length beside it is rounded up to a type
		if n > 65535 {
			return 0, 0
		}
		return 0, 65535
	}
	return 0, 1<<24 - 1
}

// KeyColumns gives the columns of the primary key as far as the definition has it, else the
// first column.
func (t *Table) KeyColumns() []string {
	for i := range t.Items {
		it := &t.Items[i]
		if it.Kind == PrimaryKey && len(it.Columns) > 0 {
			return it.Columns
		}
		if it.Kind == Column && strings.Contains(strings.ToUpper(it.Text), " PRIMARY KEY") {
			return []string{it.Name}
		}
	}
	for i := range t.Items {
		if t.Items[i].Kind == Column {
			return []string{t.Items[i].Name}
		}
	}
	return nil
}
