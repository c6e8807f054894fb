package mariadb

import (
	"database/sql"
	"errors"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

// FuzzServer asks the server where a text ends as one statement, by having it prepare the
// text, which runs nothing: it finds no end in what Hovix lets through, takes nothing
// for one statement of which Hovix lets a part through, and can read what Hovix writes anew.
func FuzzServer(f *testing.F) {
	testenv.SeedStatements(f, "mariadb", "SELECT '\\';', \"\\\";\", `a;`", "SELECT 1 /* /* ; */", "SELECT /*! 1 /* ; */ */", "SELECT 1 --\x01;", "SELECT 1--1;", "SELECT 1 -- ;\n+1", "SELECT 1 # ;\n+1", "/*!40101 SELECT ';' */", "/*M!100100 SELECT 1 */", "SELECT x'3b', 0x3b, b'1', N';', _utf8mb4';'",
		"SELECT 'a' ';b'", "SELECT 1 /*!99999 ; */ + 1", "CREATE VIEW v AS SELECT 1 /* ' */", "DO 1 /**/ --\t;")
	l := testenv.MariaDB(f)
	db, err := connect(f.Context(), l, stageVars())
	require.NoError(f, err)
	f.Cleanup(func() { _ = db.Close() })
	db.SetMaxOpenConns(1)
	f.Fuzz(func(t *testing.T, text string) {
		first, n := testenv.FirstStatement(text, sqltext.MySQL)
		if n == 0 || strings.Contains(strings.ToLower(text), "delimiter") {
			return
		}
		if one, err := sqltree.Parse([]byte(first), sqltext.MySQL); err == nil && one.SQL(nil) != "" {
			my := prepared(t, db, first)
			if my != nil && my.Number == 1064 {
				_, near, _ := strings.Cut(my.Message, "near '")
				near, _, _ = strings.Cut(near, "' at line")
				if at := strings.LastIndex(first, near); near != "" && at > 0 && strings.HasSuffix(strings.TrimRight(first[:at], " \t"), ";") {
					t.Fatalf("one statement, which ends to the server before %q: %q", near, first)
				}
			}
			// What servers of other versions run is more to Hovix than to this one.
			if n > 1 && !strings.Contains(text, "/*!") && !strings.Contains(strings.ToUpper(text), "/*M!") && prepared(t, db, text) == nil {
				t.Fatalf("%d statements, which are one to the server: %q", n, text)
			}
			again := prepared(t, db, one.SQL(nil))
			assert.False(t, my == nil && again != nil && again.Number == 1064, "what is made of %q cannot be read: %q: %v", first, one.SQL(nil), again)
		}
	})
}

// prepared has the server prepare a text, and gives why it does not.
func prepared(t *testing.T, db *sql.DB, text string) *mysql.MySQLError {
	stmt, err := db.Prepare(text)
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		return my
	}
	require.NoError(t, err)
	require.NoError(t, stmt.Close())
	return nil
}
