package mariadb

import (
	"bytes"
	"database/sql"
	"errors"
	"io"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

// FuzzServer asks the server where a text ends as one statement, by having it prepare the
// text, which runs nothing: it finds no end in what Hovix
// lets through, takes nothing for one
// statement of which Hovix lets a part through, and can read what Hovix writes anew.
func FuzzServer(f *testing.F) {
	content, err := os.ReadFile("../../../cmd/hovix/testdata/hostile/mariadb.sql")
	require.NoError(f, err)
	for _, line := range bytes.Split(content, []byte("\n")) {
		f.Add(string(line))
	}
	for _, s := range []string{"SELECT '\\';', \"\\\";\", `a;`", "SELECT 1 /* /* ; */", "SELECT /*! 1 /* ; */ */", "SELECT 1 --\x01;", "SELECT 1--1;", "SELECT 1 -- ;\n+1", "SELECT 1 # ;\n+1", "/*!40101 SELECT ';' */", "/*M!100100 SELECT 1 */", "SELECT x'3b', 0x3b, b'1', N';', _utf8mb4';'",
		"SELECT 'a' ';b'", "SELECT 1 /*!99999 ; */ + 1", "CREATE VIEW v AS SELECT 1 /* ' */", "DO 1 /**/ --\t;"} {
		f.Add(s)
	}
	l := testenv.MariaDB(f)
	db, err := connect(f.Context(), l, stageVars())
	require.NoError(f, err)
	f.Cleanup(func() { _ = db.Close() })
	db.SetMaxOpenConns(1)
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) || strings.ContainsRune(text, 0) || len(text) > 4000 || strings.Contains(strings.ToLower(text), "delimiter") {
			return
		}
		n := 0
		var first string
		s := sqltext.SplitBytes([]byte(text), sqltext.MySQL)
		for {
			stmt, err := s.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return
			}
			if n++; n == 1 {
				first = string(stmt.Text)
			}
		}
		if n == 0 {
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
