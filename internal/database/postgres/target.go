package postgres

import (
	"context"
	"fmt"

	"hovix/internal/database"
)

// CanTake looks at whether a new state of the database can be staged here, before
// anything is tried.
func (r *reader) CanTake(ctx context.Context, need database.Need) []database.Check {
	const what = "rights"
	if err := canStage(ctx, r.conn, r.l); err != nil {
		return []database.Check{database.Failure(what, err)}
	}
	checks := []database.Check{{What: what, Found: "the user may make schemas in the database"}}
	if rows, err := ask(ctx, r.conn, "SELECT rolname FROM pg_catalog.pg_roles WHERE rolname=current_user AND rolsuper"); err == nil && len(rows) > 0 {
		found := rows[0][0] + " may do everything on the server, which no restore needs; the database's owner would be enough"
		if owner, err := ownerOf(ctx, r.conn); err == nil && owner != "" {
			found += ", and the new tables are made in the name of that, " + owner
		}
		checks[0] = database.Check{What: what, Found: found, Note: true}
	}
	if len(need.Collations) > 0 {
		rows, err := ask(ctx, r.conn, "SELECT DISTINCT collname FROM pg_catalog.pg_collation WHERE collencoding IN (-1, (SELECT encoding FROM pg_catalog.pg_database WHERE datname=pg_catalog.current_database()))")
		if err == nil {
			checks = append(checks, database.Unknown(need.Collations, func(name string) string {
				for _, row := range rows {
					if row[0] == name {
						return name
					}
				}
				return ""
			}))
		}
	}
	// Only some may see where the server keeps its data, and only on its own machine
	// does that tell anything.
	dir := ""
	if rows, err := ask(ctx, r.conn, "SELECT setting FROM pg_catalog.pg_settings WHERE name='data_directory' AND (pg_catalog.inet_server_addr() IS NULL OR pg_catalog.inet_server_addr()=pg_catalog.inet_client_addr())"); err == nil && len(rows) > 0 {
		dir = rows[0][0]
	}
	return append(checks, database.Space(dir, r.room(ctx, need)))
}

// room adds up what tables take, and the log that the server writes of them before it
// uses the space of that again.
func (r *reader) room(ctx context.Context, need database.Need) (room database.Room) {
	var sorted []int64
	for _, t := range need.Tables {
		rows, keys := t.Sizes()
		room.Tables += rows + keys
		sorted = append(sorted, keys)
	}
	room.Sorted(sorted, need.Sessions)
	rows, err := ask(ctx, r.conn, "SELECT pg_catalog.pg_size_bytes(setting||unit) FROM pg_catalog.pg_settings WHERE name='max_wal_size'")
	if err == nil && len(rows) > 0 {
		_, _ = fmt.Sscan(rows[0][0], &room.Log)
		room.Log = min(room.Log, room.Tables)
	}
	return room
}

// Collations lists those that columns name, but the server's default.
func (r *reader) Collations(ctx context.Context) (names []string, err error) {
	rows, err := ask(ctx, r.conn, `SELECT DISTINCT l.collname FROM pg_catalog.pg_attribute a JOIN pg_catalog.pg_class c ON c.oid=a.attrelid JOIN pg_catalog.pg_namespace n ON n.oid=c.relnamespace JOIN pg_catalog.pg_collation l ON l.oid=a.attcollation
		WHERE n.nspname NOT LIKE 'pg\_%' AND n.nspname<>'information_schema' AND n.nspname NOT LIKE '\_hovix\_%' AND c.relkind IN ('r','p') AND l.collnamespace='pg_catalog'::pg_catalog.regnamespace AND l.collname<>'default' ORDER BY 1`)
	if err != nil {
		return nil, fmt.Errorf("list the collations in use: %w", err)
	}
	for _, row := range rows {
		names = append(names, row[0])
	}
	return names, nil
}
