package mariadb

import (
	"context"
	"database/sql"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
)

// endEarlier ends what the server still does for a run of this stage that was killed.
func endEarlier(ctx context.Context, db *sql.DB, id string) error {
	query := "SELECT ID FROM information_schema.PROCESSLIST WHERE ID<>CONNECTION_ID() AND DB=DATABASE() AND INFO LIKE " +
		string(sqltext.AppendMySQLString(nil, []byte(`%\_hovix\_`+id+`\_%`), false)) + " AND INFO NOT LIKE '%PROCESSLIST%'"
	return database.EndEarlier(ctx, func() ([][]string, error) {
		rows, err := stringRows(db.QueryContext(ctx, query))
		for _, row := range rows {
			_, _ = db.ExecContext(ctx, "KILL "+row[0]) // it may have ended just now
		}
		return rows, err
	})
}
