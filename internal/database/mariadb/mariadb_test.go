package mariadb

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

func TestEndpoint(t *testing.T) {
	for _, c := range []struct {
		l                database.Location
		network, address string
	}{
		{database.Location{Host: "db.example"}, "tcp", "db.example:3306"},
		{database.Location{Host: "db.example", Port: 3307}, "tcp", "db.example:3307"},
		{database.Location{Host: "localhost", Port: 3307}, "tcp", "127.0.0.1:3307"},
		{database.Location{Host: "::1", Port: 1}, "tcp", "[::1]:1"},
		{database.Location{Host: "db.example", Socket: "/x"}, "unix", "/x"},
	} {
		network, address := endpoint(c.l)
		assert.Equal(t, c.network, network)
		assert.Equal(t, c.address, address)
	}
}

// TestExplain names the value that is wrong, for each error of server and network.
func TestExplain(t *testing.T) {
	l := database.Location{Engine: database.MariaDB, Host: "db.example", User: "u", Password: "secret", Name: "n"}
	for _, c := range []struct {
		err          error
		what, advice string
	}{
		{&mysql.MySQLError{Number: 1045, Message: "Access denied"}, "log in", "user and password"},
		{&mysql.MySQLError{Number: 1698, Message: "Access denied"}, "log in", "user and password"},
		{&mysql.MySQLError{Number: 1049, Message: "Unknown database"}, "open the database", `no database "n"`},
		{&mysql.MySQLError{Number: 1044, Message: "Access denied"}, "open the database", "may not use"},
		{&net.OpError{Op: "dial", Err: errors.New("connection refused")}, "reach the database server", "Nothing answers at db.example:3306"},
		{&net.OpError{Op: "dial", Err: &net.DNSError{Name: "db.example"}}, "reach the database server", "unknown here"},
		{context.DeadlineExceeded, "reach the database server", "in time"},
	} {
		var ce *database.ConnectError
		require.ErrorAs(t, explain(l, c.err), &ce)
		assert.Contains(t, ce.What, c.what)
		assert.Contains(t, ce.Advice, c.advice)
		assert.NotContains(t, ce.Error()+ce.Advice, "secret")
	}
}

func TestInterpolate(t *testing.T) {
	assert.Equal(t, `SELECT 'it\'s' , _utf8mb4'ü' , 5`, interpolate("SELECT ? , ? , 5", []any{"it's", "ü"}))
}

func TestLiterals(t *testing.T) {
	for _, c := range []struct {
		cell []byte
		kind cellKind
		want string
	}{
		{nil, cellText, "NULL"}, {[]byte{}, cellText, "''"}, {[]byte("12"), cellNumber, "12"}, {[]byte{1, 0xff}, cellBits, "x'01ff'"},
		{[]byte("ü"), cellText, "_binary'ü'"}, {[]byte("a"), cellBinary, "_binary'a'"}, {[]byte("ü"), cellUTF8, "_utf8mb4'ü'"}, {[]byte("a"), cellUTF8, "_utf8mb4'a'"},
	} {
		assert.Equal(t, c.want, string(appendLiteral(nil, c.cell, c.kind)))
	}
}

// TestSnapshot: what others write while the reader is open does not show, in
// no table.
func TestSnapshot(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Client(t, l, []byte("CREATE TABLE a (x INT) ENGINE=InnoDB; CREATE TABLE b (x INT) ENGINE=InnoDB; INSERT INTO a VALUES (1); INSERT INTO b VALUES (1);"))
	r, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r.Close()
	testenv.Client(t, l, []byte("INSERT INTO a VALUES (2); DELETE FROM b;"))
	for _, table := range []string{"a", "b"} {
		var text string
		require.NoError(t, r.Rows(t.Context(), table, "", 1000, func(c database.Chunk) error { text += string(c.SQL); return nil }))
		assert.Equal(t, "INSERT INTO `"+table+"` (`x`) VALUES\n(1);\n", text)
	}
}

func TestReaderTellsWhatItLeaves(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Client(t, l, []byte("CREATE TABLE a (x INT) WITH SYSTEM VERSIONING; CREATE PROCEDURE p() SELECT 1;"))
	r, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r.Close()
	got, err := r.NotCarried(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"history of table a", "procedure p, whose text this user may not read"}, got)
	assert.Equal(t, "MariaDB", r.Info().Product)
	assert.True(t, strings.HasPrefix(r.Info().Version, "10.") || strings.HasPrefix(r.Info().Version, "11."), r.Info().Version)
	tables, err := r.Tables(t.Context())
	require.NoError(t, err)
	require.Len(t, tables, 1)
	_, _, err = r.Definition(t.Context(), "none")
	assert.Error(t, err)
	boom := errors.New("disk full")
	testenv.Client(t, l, []byte("INSERT INTO a VALUES (1)"))
	r2, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r2.Close()
	assert.ErrorIs(t, r2.Rows(t.Context(), "a", "", 10, func(database.Chunk) error { return boom }), boom)
}

// TestStage shows what readers of the live tables see before, and that nothing
// stays after a stage is given up.
func TestStage(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Client(t, l, []byte("CREATE TABLE t (id INT PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1,'live');"))
	tables := func() string { return testenv.Client(t, l, []byte("SHOW TABLES")) }
	value := func() string { return testenv.Client(t, l, []byte("SELECT v FROM t")) }
	before := tables()
	def, err := sqltree.ParseTable([]byte("CREATE TABLE `t` (`id` int NOT NULL AUTO_INCREMENT, `v` text, `n` int, PRIMARY KEY (`id`), KEY `n` (`n`), UNIQUE KEY `v` (`v`(50)))"), sqltext.MySQL)
	require.NoError(t, err)
	stage := func() database.Stage {
		s, err := NewStage(t.Context(), l, database.StageOptions{ID: "abcd", Connections: 2})
		require.NoError(t, err)
		require.NoError(t, s.Define(t.Context(), def))
		require.Error(t, s.Define(t.Context(), def), "a table is defined once")
		testenv.Stored(t, 1)(s.Fill("t", 1, 1, [][]byte{[]byte("INSERT INTO " + s.Target("t") + " (id,v,n) VALUES (7,'new',3)")})(t.Context()))
		require.NoError(t, s.Finish(t.Context(), "t", nil))
		return s
	}
	s := stage()
	assert.Equal(t, "v\nlive\n", value())
	require.NoError(t, s.Discard(t.Context()))
	assert.Equal(t, before, tables())

	state, said, err := stage().Seal(t.Context())
	require.NoError(t, err)
	assert.Empty(t, said)
	ex := exchanges(t, l)
	kept, warnings := testenv.Exchange(t, ex, state, "x")
	assert.Equal(t, "v\nnew\n", value())
	assert.Empty(t, warnings)
	definition := testenv.Client(t, l, []byte("SHOW CREATE TABLE t"))
	for _, key := range []string{"PRIMARY KEY (`id`)", "KEY `n` (`n`)", "UNIQUE KEY `v` (`v`(50))"} {
		assert.Contains(t, definition, key)
	}
	assert.Equal(t, "v\nlive\n", testenv.Client(t, l, []byte("SELECT v FROM `"+kept.Tables["t"]+"`")))
	byHand, err := ex.ByHand(t.Context(), kept)
	require.NoError(t, err)
	testenv.Client(t, l, []byte(strings.Join(byHand, "\n")))
	assert.Equal(t, before, tables(), "by hand it is all as before")
	assert.Equal(t, "v\nlive\n", value())
}

func TestStageExplainsWhatDoesNotFit(t *testing.T) {
	l := testenv.MariaDB(t)
	s, _ := stageTable(t, l, "abcd", "CREATE TABLE t (v varchar(3), b longblob)")
	assert.ErrorContains(t, second(s.Fill("t", 1, 1, [][]byte{[]byte("INSERT INTO " + s.Target("t") + " (v) VALUES ('long')")})(t.Context())), "a value became longer than its column holds")
	huge := append([]byte("INSERT INTO "+s.Target("t")+" (b) VALUES ('"), make([]byte, 17<<20)...)
	assert.ErrorContains(t, second(s.Fill("t", 1, 1, [][]byte{append(huge, "')"...)})(t.Context())), "larger than the server accepts (max_allowed_packet)")
	assert.Error(t, second(s.Fill("none", 1, 1, [][]byte{[]byte("INSERT INTO " + s.Target("none") + " VALUES (1)")})(t.Context())), "a table that was never defined")
}

// TestLengthsAreThoseOfTheServer: characters are counted as the server counts
// them, in every charset that has more than one byte for some.
func TestLengthsAreThoseOfTheServer(t *testing.T) {
	db := testenv.Connect(t, testenv.MariaDB(t))
	const text = "http://old.example/ a\\b"
	for charset, more := range map[string]string{
		"utf8mb3": "äß中文字", "utf8mb4": "ä中🚢", "latin1": "äßé", "gbk": "中文字丂", "gb2312": "中文字", "big5": "中文字功", "euckr": "한글", "sjis": "日本語ｱｲｳ表", "cp932": "日本語ｱｲｳ表",
		"ujis": "日本語ｱ丂", "eucjpms": "日本語ｱ丂",
	} {
		var v []byte
		var want int64
		expr := "CONVERT(? USING " + charset + ")"
		require.NoError(t, db.QueryRow("SELECT HEX("+expr+"), CHAR_LENGTH("+expr+")", text+more, text+more).Scan(&v, &want), charset)
		value := make([]byte, len(v)/2)
		_, err := hex.Decode(value, v)
		require.NoError(t, err)
		require.NotContains(t, string(value[len(text):]), "?", charset)
		assert.Equal(t, want, sqltext.CharactersIn(charset)(value), charset)
	}
}

func TestNearestCollation(t *testing.T) {
	set := func(names ...string) collations {
		c := collations{}
		for _, n := range names {
			c[n] = true
		}
		return c
	}
	newMaria := set("utf8mb4_uca1400_ai_ci", "utf8mb4_uca1400_as_cs", "utf8mb4_uca1400_as_ci", "utf8mb4_bin", "utf8mb4_german2_ci", "utf8mb4_unicode_520_ci", "utf8mb4_general_ci", "utf8mb3_general_ci", "utf8mb4_nopad_bin")
	mysql8 := set("utf8mb4_0900_ai_ci", "utf8mb4_0900_as_cs", "utf8mb4_0900_as_ci", "utf8mb4_0900_bin", "utf8mb4_bin", "utf8mb4_unicode_520_ci", "utf8mb4_unicode_ci", "utf8mb3_general_ci")
	old := set("utf8mb4_bin", "utf8mb4_unicode_ci", "utf8mb4_general_ci", "utf8_general_ci", "latin1_swedish_ci")
	for _, c := range []struct {
		server     collations
		name, want string
	}{
		{newMaria, "utf8mb4_0900_ai_ci", "utf8mb4_uca1400_ai_ci"}, {newMaria, "utf8mb4_0900_as_cs", "utf8mb4_uca1400_as_cs"}, {newMaria, "utf8mb4_0900_as_ci", "utf8mb4_uca1400_as_ci"}, {newMaria, "utf8mb4_0900_bin", "utf8mb4_bin"}, {newMaria, "utf8mb4_de_pb_0900_ai_ci", "utf8mb4_german2_ci"}, {newMaria, "utf8mb4_ja_0900_as_cs", "utf8mb4_uca1400_as_cs"}, {newMaria, "utf8_general_ci", "utf8mb3_general_ci"},
		{mysql8, "utf8mb4_uca1400_ai_ci", "utf8mb4_0900_ai_ci"}, {mysql8, "utf8mb4_uca1400_nopad_as_cs", "utf8mb4_0900_as_cs"}, {mysql8, "utf8mb4_nopad_bin", "utf8mb4_bin"}, {mysql8, "utf8mb4_general_nopad_ci", "utf8mb4_0900_ai_ci"},
		{old, "utf8mb4_0900_ai_ci", "utf8mb4_unicode_ci"}, {old, "utf8mb4_uca1400_as_cs", "utf8mb4_bin"}, {old, "utf8mb3_general_ci", "utf8_general_ci"}, {old, "latin1_swedish_nopad_ci", "latin1_swedish_ci"}, {old, "gb18030_chinese_ci", ""},
	} {
		assert.Equal(t, c.want, c.server.best(c.name), c.name)
	}
}

// TestCollationsOfAnotherServer: tables and views as MySQL 8 prints them are
// staged with collations that this server knows, and it is said.
func TestCollationsOfAnotherServer(t *testing.T) {
	l := testenv.MariaDB(t)
	s, err := NewStage(t.Context(), l, database.StageOptions{ID: "abcd", Connections: 1, StoredCode: true})
	require.NoError(t, err)
	def, err := sqltree.ParseTable([]byte("CREATE TABLE `a` (`v` varchar(60) COLLATE utf8mb4_0900_as_cs DEFAULT 'COLLATE utf8mb4_0900_ai_ci', KEY `k` (`v`)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci"), sqltext.MySQL)
	require.NoError(t, err)
	require.NoError(t, s.Define(t.Context(), def))
	require.NoError(t, s.AddObject(t.Context(), database.Object{Kind: database.View, Name: "b", SQL: "CREATE VIEW `b` AS select `v` collate utf8mb4_0900_ai_ci AS `x` from `a`"}))
	state, said, err := s.Seal(t.Context())
	require.NoError(t, err)
	_, warnings := testenv.Exchange(t, exchanges(t, l), state, "x")
	assert.Empty(t, warnings)
	require.Len(t, said, 2)
	assert.Contains(t, said[0], "does not know the collation utf8mb4_0900_as_cs; it is utf8mb4_uca1400_as_cs now")
	out := testenv.Client(t, l, []byte("SHOW CREATE TABLE a; SHOW CREATE VIEW b;"))
	assert.Contains(t, out, "COLLATE utf8mb4_uca1400_as_cs DEFAULT 'COLLATE utf8mb4_0900_ai_ci'")
	assert.NotContains(t, strings.ReplaceAll(out, "'COLLATE utf8mb4_0900_ai_ci'", ""), "0900")
	bad, err := sqltree.ParseTable([]byte("CREATE TABLE `c` (`v` varchar(10) COLLATE klingon_ci)"), sqltext.MySQL)
	require.NoError(t, err)
	s, err = NewStage(t.Context(), l, database.StageOptions{ID: "abcd", Connections: 1, StoredCode: true})
	require.NoError(t, err)
	assert.ErrorContains(t, s.Define(t.Context(), bad), "knows neither the collation klingon_ci nor one like it")
	require.NoError(t, s.Discard(t.Context()))
}

// TestFork: two readers see one snapshot; without the right to lock tables, one
// reads alone.
func TestFork(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Client(t, l, []byte("CREATE TABLE a (x INT); CREATE TABLE b (x INT); INSERT INTO a VALUES (1); INSERT INTO b VALUES (1);"))
	r, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r.Close()
	f, err := r.(database.Forker).Fork(t.Context())
	require.NoError(t, err)
	defer f.Close()
	testenv.Client(t, l, []byte("INSERT INTO a VALUES (2); DELETE FROM b; INSERT INTO b VALUES (7);"))
	for _, one := range []database.Reader{r, f} {
		rows, err := one.Strings(t.Context(), "SELECT (SELECT SUM(x) FROM a), (SELECT SUM(x) FROM b)")
		require.NoError(t, err)
		assert.Equal(t, [][]string{{"1", "1"}}, rows)
	}
	reader := l
	reader.User = "reader_" + l.Name[len(l.Name)-6:]
	testenv.Exec(t, l, "CREATE USER "+reader.User+"@'%' IDENTIFIED BY '"+l.Password+"'; CREATE USER "+reader.User+"@localhost IDENTIFIED BY '"+l.Password+"'; GRANT SELECT, SHOW VIEW ON "+l.Name+".* TO "+reader.User+"@'%'; GRANT SELECT, SHOW VIEW ON "+l.Name+".* TO "+reader.User+"@localhost")
	t.Cleanup(func() {
		testenv.Exec(t, database.Location{Socket: l.Socket}, "DROP USER "+reader.User+"@'%'; DROP USER "+reader.User+"@localhost")
	})
	alone, err := Open(t.Context(), reader)
	require.NoError(t, err)
	defer alone.Close()
	_, err = alone.(database.Forker).Fork(t.Context())
	assert.ErrorIs(t, err, database.ErrNoFork)
	rows, err := alone.Strings(t.Context(), "SELECT SUM(x) FROM b")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"7"}}, rows, "the reader goes on alone")
}

// TestTablesWithoutSnapshot: a MyISAM table that changes while it is read is
// named.
func TestTablesWithoutSnapshot(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.Client(t, l, []byte("CREATE TABLE quiet (x INT) ENGINE=MyISAM; INSERT INTO quiet VALUES (1); CREATE TABLE busy (x INT) ENGINE=MyISAM; INSERT INTO busy SELECT seq FROM seq_1_to_5000;"))
	r, err := Open(t.Context(), l)
	require.NoError(t, err)
	defer r.Close()
	for _, table := range []string{"quiet", "busy"} {
		first := true
		require.NoError(t, r.Rows(t.Context(), table, "", 1000, func(database.Chunk) error {
			if first && table == "busy" {
				first = false
				go testenv.Exec(t, l, "INSERT INTO busy VALUES (9)")
				time.Sleep(1200 * time.Millisecond)
			}
			return nil
		}))
	}

	changed, err := r.(database.Watcher).Changed(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"busy"}, changed)
}

func second(_ int64, err error) error { return err }

// exchanges opens a database to exchange its states.
func exchanges(t *testing.T, l database.Location) database.Exchanger {
	t.Helper()
	ex, err := NewExchanger(t.Context(), l)
	require.NoError(t, err)
	t.Cleanup(func() { _ = ex.Close() })
	return ex
}

// TestExchangeAndBack: whatever is bound to names (foreign keys, those of other
// tables too, triggers, views, routines) is that of the state that is live, after
// an exchange, one back, and one forth again.
func TestExchangeAndBack(t *testing.T) {
	l := testenv.MariaDB(t)
	testenv.ExecAs(t, l, `CREATE TABLE p (id INT PRIMARY KEY, v TEXT) ENGINE=InnoDB; CREATE TABLE c (id INT PRIMARY KEY, p INT, CONSTRAINT own FOREIGN KEY (p) REFERENCES p (id)) ENGINE=InnoDB;
		CREATE TABLE other (p INT, CONSTRAINT theirs FOREIGN KEY (p) REFERENCES p (id) ON DELETE CASCADE) ENGINE=InnoDB; CREATE VIEW w AS SELECT 'old' AS v; CREATE TABLE old_only (x INT); CREATE VIEW new_view AS SELECT 1;
		CREATE TRIGGER tr BEFORE INSERT ON c FOR EACH ROW SET NEW.p=1; CREATE TRIGGER old_tr AFTER INSERT ON p FOR EACH ROW SET @x=1; CREATE FUNCTION f() RETURNS INT RETURN 1; INSERT INTO p VALUES (1,'old');`)
	catalog := func() string {
		return testenv.Client(t, l, []byte(`SELECT 'table', TABLE_NAME, TABLE_TYPE FROM information_schema.TABLES WHERE TABLE_SCHEMA=DATABASE() AND TABLE_NAME NOT LIKE '\_hovix%' ORDER BY TABLE_NAME;
			SELECT 'key', TABLE_NAME, CONSTRAINT_NAME, REFERENCED_TABLE_NAME, DELETE_RULE FROM information_schema.REFERENTIAL_CONSTRAINTS WHERE CONSTRAINT_SCHEMA=DATABASE() ORDER BY TABLE_NAME;
			SELECT 'trigger', TRIGGER_NAME, EVENT_OBJECT_TABLE, ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA=DATABASE() ORDER BY TRIGGER_NAME;
			SELECT * FROM w; SELECT f() AS f; SELECT * FROM p;`))
	}
	before := catalog()
	s, err := NewStage(t.Context(), l, database.StageOptions{ID: "abcd", Connections: 1, StoredCode: true})
	require.NoError(t, err)
	for _, def := range []string{"CREATE TABLE `p` (`id` int NOT NULL, `v` text, PRIMARY KEY (`id`)) ENGINE=InnoDB", "CREATE TABLE `c` (`id` int NOT NULL, `p` int, PRIMARY KEY (`id`), KEY `k` (`p`), CONSTRAINT `own` FOREIGN KEY (`p`) REFERENCES `p` (`id`)) ENGINE=InnoDB", "CREATE TABLE `new_view` (`x` int)"} {
		d, err := sqltree.ParseTable([]byte(def), sqltext.MySQL)
		require.NoError(t, err)
		require.NoError(t, s.Define(t.Context(), d))
		require.NoError(t, s.Finish(t.Context(), d.Name, nil))
	}
	testenv.Stored(t, 1)(s.Fill("p", 1, 1, [][]byte{[]byte("INSERT INTO " + s.Target("p") + " VALUES (1,'new')")})(t.Context()))
	for _, o := range []database.Object{{Kind: database.Routine, Name: "f", SQL: "CREATE FUNCTION `f`() RETURNS int RETURN 2"}, {Kind: database.View, Name: "w", SQL: "CREATE VIEW `w` AS select 'new' AS `v`"},
		{Kind: database.View, Name: "old_only", SQL: "CREATE VIEW `old_only` AS select 1 AS `x`"}, {Kind: database.Trigger, Name: "tr", SQL: "CREATE TRIGGER `tr` BEFORE INSERT ON `p` FOR EACH ROW SET NEW.v='x'", Session: database.Session{Mode: "ANSI"}}} {
		require.NoError(t, s.AddObject(t.Context(), o))
	}
	state, _, err := s.Seal(t.Context())
	require.NoError(t, err)
	ex := exchanges(t, l)
	kept, warnings := testenv.Exchange(t, ex, state, "one")
	assert.Empty(t, warnings)
	after := catalog()
	assert.Contains(t, after, "own\tp")
	assert.Contains(t, after, "theirs\tp\tCASCADE", "a key of a table that stays points to the new one")
	assert.Contains(t, after, "1\tnew")
	assert.NotContains(t, after, "old_tr")
	assert.NotEqual(t, before, after)
	for i, want := range []string{before, after, before} {
		kept, warnings = testenv.Exchange(t, ex, kept, fmt.Sprint("two", i))
		assert.Empty(t, warnings)
		assert.Equal(t, want, catalog())
	}
	require.NoError(t, ex.Check(t.Context(), kept))
	size, err := ex.Size(t.Context(), kept)
	require.NoError(t, err)
	assert.Positive(t, size)
	require.NoError(t, ex.Drop(t.Context(), kept))
	assert.Equal(t, before, catalog())
	assert.NotContains(t, testenv.Client(t, l, []byte("SHOW TABLES;")), "\n_hovix")
	assert.ErrorContains(t, ex.Check(t.Context(), kept), "is gone, which was kept as _hovix_before_")
}
