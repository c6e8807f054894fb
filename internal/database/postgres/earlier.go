package postgres

import (
	"context"

	"github.com/jackc/pgx/v5/pgconn"

	"hovix/internal/database"
)

// endEarlier ends what the server still does for a run of this stage that was killed.
func endEarlier(ctx context.Context, conn *pgconn.PgConn, id string) error {
	return database.EndEarlier(ctx, func() ([][]string, error) {
		return ask(ctx, conn, `SELECT pid, pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid<>pg_backend_pid() AND datname=current_database() AND usename=current_user
			AND application_name='hovix' AND state<>'idle' AND query LIKE ? AND query NOT LIKE '%pg_stat_activity%'`, `%\_hovix\_`+id+`\_%`)
	})
}
