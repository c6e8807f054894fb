package engines

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
)

func TestOpenChoosesByEngine(t *testing.T) {
	var ce *database.ConnectError
	_, err := Open(t.Context(), database.Location{Engine: database.SQLite, Path: filepath.Join(t.TempDir(), "none")})
	require.ErrorAs(t, err, &ce)
	assert.Equal(t, "open the database", ce.What)
	_, err = Open(t.Context(), database.Location{Engine: database.MariaDB, Host: "127.0.0.1", Port: 1, Name: "n"})
	require.ErrorAs(t, err, &ce)
	assert.Equal(t, "reach the database server", ce.What)
	_, err = Open(t.Context(), database.Location{Engine: "other"})
	assert.EqualError(t, err, `unknown database engine "other"`)
}
