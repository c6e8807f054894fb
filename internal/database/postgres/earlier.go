package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// settle is how long sessions of a run that was killed may take to end.
const settle = 60 * time.Second

// endEarlier ends what the server still does for a run of this stage that was killed: it
// goes on with a statement whose client is gone, and what it makes, or takes back, stands in
// the way of the next run.
func endEarlier(ctx context.Context, conn *pgconn.PgConn, id string) error {
	for begun := time.Now(); ; {
		rows, err := ask(ctx, conn, `SELECT pid, pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid<>pg_backend_pid() AND datname=current_database() AND usename=current_user
			AND application_name='hovix' AND state<>'idle' AND query LIKE ? AND query NOT LIKE '%pg_stat_activity%'`, `%\_hovix\_`+id+`\_%`)
		if err != nil || len(rows) == 0 {
			return err
		}
		if time.Since(begun) > settle {
			return fmt.Errorf("the server still works for a run that was killed, in session %s, and does not end it; wait for that, and run the command again", rows[0][0])
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
