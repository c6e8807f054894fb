package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"hovix/internal/database/sqltext"
)

// settle is how long sessions of a run that was killed may take to end.
const settle = 60 * time.Second

// endEarlier ends what the server still does for a run of this stage that was killed: it
// goes on with a statement whose client is gone, and what it makes, or takes back, stands in
// the way of the next run.
func endEarlier(ctx context.Context, db *sql.DB, id string) error {
	query := "SELECT ID FROM information_schema.PROCESSLIST WHERE ID<>CONNECTION_ID() AND DB=DATABASE() AND INFO LIKE " +
		string(sqltext.AppendMySQLString(nil, []byte(`%\_hovix\_`+id+`\_%`), false)) + " AND INFO NOT LIKE '%PROCESSLIST%'"
	for begun := time.Now(); ; {
		rows, err := stringRows(db.QueryContext(ctx, query))
		if err != nil || len(rows) == 0 {
			return err
		}
		if time.Since(begun) > settle {
			return fmt.Errorf("the server still works for a run that was killed, in session %s, and does not end it; wait for that, and run the command again", rows[0][0])
		}
		for _, row := range rows {
			_, _ = db.ExecContext(ctx, "KILL "+row[0]) // it may have ended just now
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
