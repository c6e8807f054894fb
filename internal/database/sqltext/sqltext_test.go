package sqltext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// kinds names token kinds for tests.
var kinds = map[Kind]string{Space: "_", Comment: "comment", Conditional: "conditional", Word: "word", Name: "name", String: "string", Bytes: "bytes", Number: "number", Punct: "punct"}

func TestTokens(t *testing.T) {
	for _, c := range []struct {
		d    Dialect
		in   string
		want string // kind:text, spaces left out
	}{
		{MySQL, "INSERT INTO `a``b` VALUES (1,-2.5e-3,'x');", "word:INSERT word:INTO name:`a``b` word:VALUES punct:( number:1 punct:, punct:- number:2.5e-3 punct:, string:'x' punct:) punct:;"},
		{MySQL, `'it''s' 'a\'b' "q\"x" 'end\\'`, `string:'it''s' string:'a\'b' string:"q\"x" string:'end\\'`},
		{SQLite, `'a\' "n""m" [odd name]`, `string:'a\' name:"n""m" name:[odd name]`},
		{MySQL, "x'00ff' X'AB' b'101' 0xAF 0x 10", "bytes:x'00ff' bytes:X'AB' bytes:b'101' bytes:0xAF number:0 word:x number:10"},
		{MySQL, "a -- note\nb # note\nc /* x ; y */ d", "word:a comment:-- note word:b comment:# note word:c comment:/* x ; y */ word:d"},
		{MySQL, "5--3", "number:5 punct:- punct:- number:3"},
		{SQLite, "5--3", "number:5 comment:--3"},
		{MySQL, "/*!40101 SET x=1 */ /*M!100100 y */", "conditional:/*!40101 SET x=1 */ conditional:/*M!100100 y */"},
		{SQLite, "/*!40101 SET x=1 */", "comment:/*!40101 SET x=1 */"},
		{MySQL, "_utf8mb4'ü' @var größe", "word:_utf8mb4 string:'ü' word:@var word:größe"},
		{SQLite, "9e999 .5 1.", "number:9e999 number:.5 number:1."},
	} {
		l := NewLexer([]byte(c.in), c.d)
		var got []string
		for {
			tok, err := l.Next()
			require.NoError(t, err, c.in)
			if tok.Kind == End {
				break
			}
			if tok.Kind != Space {
				got = append(got, kinds[tok.Kind]+":"+string(tok.Text))
			}
		}
		assert.Equal(t, c.want, strings.Join(got, " "))
	}
	for _, open := range []string{"'abc", `'abc\'`, "`abc", "/* abc", "x'00"} {
		_, err := NewLexer([]byte(open), MySQL).Next()
		assert.ErrorIs(t, err, errOpen, open)
	}
}

// TestLiteralsComeBack: what is written as a literal is read as the same bytes.
func TestLiteralsComeBack(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	values := [][]byte{nil, []byte("plain"), []byte("it's"), []byte(`back\slash`), []byte("\x00\x1a\r\n\t\b"), []byte("🚢 Grüße"), {0xff, 0xfe, 0}, []byte(`"double"`), []byte("%_")}
	for range 400 {
		b := make([]byte, rnd.IntN(40))
		for i := range b {
			b[i] = byte(rnd.IntN(256))
		}
		values = append(values, b)
	}
	read := func(text []byte, d Dialect) []byte {
		stmt := append([]byte("INSERT INTO t VALUES ("), append(text, ')')...)
		ins, err := ParseInsert(stmt, d)
		require.NoError(t, err, "%s", stmt)
		var got []byte
		_, n, err := ins.AppendInsert(nil, stmt, d, "t", func(_ int, _ []byte, _ bool, value func() ([]byte, error)) ([]byte, bool, error) {
			v, err := value()
			got = v
			return nil, false, err
		})
		require.NoError(t, err, "%s", stmt)
		require.EqualValues(t, 1, n)
		return got
	}
	for _, v := range values {
		assert.Equal(t, string(v), string(read(AppendMySQLString(nil, v, false), MySQL)))
		assert.Equal(t, string(v), string(read(AppendMySQLString([]byte{}, v, true), MySQL)))
		assert.Equal(t, string(v), string(read(AppendHex(nil, v), MySQL)))
		assert.Equal(t, string(v), string(read(AppendSQLiteText(nil, v), SQLite)))
		assert.Equal(t, string(v), string(read(AppendHex(nil, v), SQLite)))
	}
}

func TestMySQLStringsMarkWhatIsNotASCII(t *testing.T) {
	assert.Equal(t, `'plain'`, string(AppendMySQLString(nil, []byte("plain"), false)))
	assert.Equal(t, `_binary'ü'`, string(AppendMySQLString(nil, []byte("ü"), false)))
	assert.Equal(t, `x _binary'a'`, string(AppendMySQLString([]byte("x "), []byte("a"), true)))
	assert.Equal(t, `'a\0b\n\'\\'`, string(AppendMySQLString(nil, []byte("a\x00b\n'\\"), false)))
}

// double makes every text twice as long, to see what rewriting keeps.
func double(_ int, raw []byte, _ bool, value func() ([]byte, error)) ([]byte, bool, error) {
	v, err := value()
	return append(v, v...), err == nil && !bytes.Contains(raw, []byte("keep")), err
}

func TestAppendInsert(t *testing.T) {
	for _, c := range []struct {
		d        Dialect
		in, want string
		rows     int64
	}{
		{MySQL, "INSERT INTO `t` (`a`,`b`) VALUES\n(1,'x'),\n(2,NULL);", "INSERT INTO `new` (`a`,`b`) VALUES\n(1,'xx'),\n(2,NULL)", 2},
		{MySQL, "INSERT INTO t VALUES ('keep','y')", "INSERT INTO `new` VALUES ('keep','yy')", 1},
		{MySQL, `INSERT INTO t VALUES (_binary'ü\'',-1.5,x'00')`, "INSERT INTO `new` VALUES (_binary'ü\\'ü\\'',-1.5,x'0000')", 1},
		{MySQL, `INSERT INTO t VALUES (_utf8mb4'ü')`, "INSERT INTO `new` VALUES (_utf8mb4'üü')", 1},
		{MySQL, `INSERT INTO t VALUES ("q")`, "INSERT INTO `new` VALUES ('qq')", 1},
		{MySQL, `INSERT INTO t VALUES (b'01',true,FALSE) ; `, "INSERT INTO `new` VALUES (b'01',true,FALSE)", 1},
		{SQLite, `INSERT INTO "t" ("a") VALUES ('it''s')`, `INSERT INTO "new" ("a") VALUES ('it''sit''s')`, 1},
		{SQLite, `INSERT INTO "t" VALUES (CAST(x'0041' AS TEXT),x'ff',9e999)`, `INSERT INTO "new" VALUES (CAST(x'00410041' AS TEXT),x'ffff',9e999)`, 1},
		{SQLite, `INSERT INTO t VALUES (replace(replace('a\r\nit''s','\r',char(13)),'\n',char(10)),2)`, "INSERT INTO \"new\" VALUES ('a\r\nit''sa\r\nit''s',2)", 1},
	} {
		ins, err := ParseInsert([]byte(c.in), c.d)
		require.NoError(t, err, c.in)
		out, rows, err := ins.AppendInsert(nil, []byte(c.in), c.d, QuoteName("new", c.d), double)
		require.NoError(t, err, c.in)
		assert.Equal(t, c.want, string(out))
		assert.Equal(t, c.rows, rows)
	}
}

// TestInsertsThatAreRefused: rows are literals, one statement, nothing else.
func TestInsertsThatAreRefused(t *testing.T) {
	for _, in := range []string{
		"INSERT INTO t VALUES (load_file('/etc/passwd'))",
		"INSERT INTO t VALUES ((SELECT 1))",
		"INSERT INTO t SELECT * FROM mysql.user",
		"INSERT INTO t VALUES (1); DROP TABLE t",
		"INSERT INTO t VALUES (1) ON DUPLICATE KEY UPDATE a=1",
		"INSERT INTO t VALUES (@@version)",
		"INSERT INTO t VALUES (1 /*!50000 , load_file('x') */)",
		"INSERT INTO t VALUES (1 /* note */)",
		"INSERT INTO t VALUES (replace('x','y',load_extension(10)))",
		"INSERT INTO t VALUES (replace((SELECT 1),'y',char(10)))",
		"INSERT INTO t VALUES (replace('x','y',char(10),1))",
		"INSERT INTO t VALUES (1+1)",
		"INSERT INTO t VALUES (NOW())",
		"INSERT INTO t VALUES (_binary load_file('x'))",
		"INSERT INTO t (a,b) VALUES (1)",
		"INSERT INTO t VALUES (1) RETURNING a",
		"INSERT INTO t SET a=1",
		"INSERT INTO db.t VALUES (1)",
		"INSERT IGNORE INTO t VALUES (1)",
		"REPLACE INTO t VALUES (1)",
		"INSERT INTO t VALUES (CAST(1 AS TEXT))",
		"INSERT INTO t VALUES ('open",
		"INSERT INTO t VALUES ()",
		"INSERT INTO t VALUES (1,)",
		"INSERT INTO t VALUES",
		"INSERT INTO t VALUES (x'0g')",
	} {
		for _, d := range []Dialect{MySQL, SQLite} {
			ins, err := ParseInsert([]byte(in), d)
			if err == nil {
				_, _, err = ins.AppendInsert(nil, []byte(in), d, "t", double)
			}
			assert.Error(t, err, in)
		}
	}
}

// statements splits a text through readers of every awkward kind.
func statements(t *testing.T, d Dialect, text string) []string {
	t.Helper()
	collect := func(s *Splitter) (out []string) {
		for {
			st, err := s.Next()
			if errors.Is(err, io.EOF) {
				return out
			}
			require.NoError(t, err)
			require.Equal(t, string(st.Text), text[st.Offset:int(st.Offset)+len(st.Text)], "offset")
			out = append(out, string(st.Text))
		}
	}
	whole := collect(SplitBytes([]byte(text), d))
	assert.Equal(t, whole, collect(NewSplitter(strings.NewReader(text), d, 0)))
	assert.Equal(t, whole, collect(NewSplitter(iotest.OneByteReader(strings.NewReader(text)), d, 0)), "byte by byte")
	return whole
}

func TestSplit(t *testing.T) {
	assert.Equal(t, []string{"SET a=1", "INSERT INTO t VALUES ('a;b','it''s','x\\';')", "SELECT 2"},
		statements(t, MySQL, "-- head;\nSET a=1;\n\n/* ; */ INSERT INTO t VALUES ('a;b','it''s','x\\';');;\nSELECT 2"))
	assert.Equal(t, []string{"/*!40101 SET x=1 */", "SET y=2"}, statements(t, MySQL, "/*!40101 SET x=1 */;\r\nSET y=2;\r\n"))
	assert.Equal(t, []string{"CREATE TRIGGER a BEGIN SET x=1; SET y=2; END", "SET z=3"},
		statements(t, MySQL, "DELIMITER ;;\nCREATE TRIGGER a BEGIN SET x=1; SET y=2; END;;\ndelimiter ;\nSET z=3;"))
	assert.Equal(t, []string{"CREATE TRIGGER tr AFTER INSERT ON t BEGIN UPDATE t SET a=';'; SELECT CASE WHEN 1 THEN 2 END; END", "SELECT 1"},
		statements(t, SQLite, "CREATE TRIGGER tr AFTER INSERT ON t BEGIN UPDATE t SET a=';'; SELECT CASE WHEN 1 THEN 2 END; END;\nSELECT 1;"))
	assert.Equal(t, []string{"SELECT 1"}, statements(t, MySQL, "\ufeffSELECT 1;"), "byte order mark")
	assert.Empty(t, statements(t, MySQL, "  -- nothing\n"))
	_, err := SplitBytes([]byte("INSERT INTO t VALUES ('open"), MySQL).Next()
	assert.ErrorIs(t, err, errOpen)
	_, err = NewSplitter(strings.NewReader("SELECT '"+strings.Repeat("x", 1<<20)+"'"), MySQL, 1000).Next()
	assert.ErrorIs(t, err, ErrTooLong)
}

func FuzzInsert(f *testing.F) {
	for _, s := range []string{"INSERT INTO `t` (`a`) VALUES (1,'x'),(NULL,x'00');", "INSERT INTO t VALUES (_binary'\\'',CAST(x'00' AS TEXT))", "INSERT INTO t VALUES (load_file('x'))", `INSERT INTO t VALUES ('a\N	b\\'),('\N'),("\'''\n""")`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		for _, d := range []Dialect{MySQL, SQLite} {
			ins, err := ParseInsert(in, d)
			if err != nil {
				continue
			}
			out, rows, err := ins.AppendInsert(nil, in, d, QuoteName("t", d), double)
			if err != nil {
				continue
			}
			// What was let through is let through again, with as many rows.
			again, err := ParseInsert(out, d)
			require.NoError(t, err, "%q became %q", in, out)
			_, n, err := again.AppendInsert(nil, out, d, "t", nil)
			require.NoError(t, err, "%q became %q", in, out)
			require.Equal(t, rows, n)
			if d == MySQL {
				requireTabbed(t, again, out)
			}
		}
	})
}

func FuzzSplit(f *testing.F) {
	f.Add([]byte("SET a=1; INSERT INTO t VALUES ('a;b');DELIMITER //\nx//"))
	f.Add([]byte("CREATE TRIGGER t BEGIN SELECT 1; END;"))
	f.Add([]byte("COPY t FROM stdin;\n1\t$$;\n\\.\nCREATE FUNCTION f() BEGIN ATOMIC SELECT 1; END; SELECT $a$;$a$, E'\\'';"))
	f.Fuzz(func(t *testing.T, in []byte) {
		for _, d := range []Dialect{MySQL, SQLite, Postgres} {
			a, b := SplitBytes(in, d), NewSplitter(iotest.HalfReader(bytes.NewReader(in)), d, 0)
			for {
				x, errA := a.Next()
				y, errB := b.Next()
				require.Equal(t, errA == nil, errB == nil, "%v, %v", errA, errB)
				if errA != nil {
					break
				}
				require.Equal(t, string(x.Text), string(y.Text))
			}
		}
	})
}

// rowsOfText is an INSERT statement as for a benchmark.
func rowsOfText() []byte {
	stmt := []byte("INSERT INTO `t` (`a`,`b`,`c`) VALUES\n")
	for i := range 2000 {
		if i > 0 {
			stmt = append(stmt, ",\n"...)
		}
		stmt = fmt.Appendf(stmt, "(%d,'The ferry leaves at ten and comes back with the tide. It\\'s %d.',NULL)", i, i)
	}
	return stmt
}

func BenchmarkAppendInsert(b *testing.B) {
	stmt := rowsOfText()
	b.SetBytes(int64(len(stmt)))
	b.ReportAllocs()
	var out []byte
	for b.Loop() {
		ins, err := ParseInsert(stmt, MySQL)
		require.NoError(b, err)
		out, _, err = ins.AppendInsert(out[:0], stmt, MySQL, "`x`", nil)
		require.NoError(b, err)
	}
}

func BenchmarkAppendMySQLString(b *testing.B) {
	v := []byte(strings.Repeat("The ferry leaves at ten and comes back with the tide. ", 40))
	b.SetBytes(int64(len(v)))
	var out []byte
	for b.Loop() {
		out = AppendMySQLString(out[:0], v, false)
	}
}

func TestWithoutDefiner(t *testing.T) {
	for in, want := range map[string]string{
		"CREATE ALGORITHM=UNDEFINED DEFINER=`a b`@`%` SQL SECURITY DEFINER VIEW `v` AS select 1":            "CREATE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select 1",
		"CREATE DEFINER=`root`@`localhost` TRIGGER `t` AFTER INSERT ON `a` FOR EACH ROW SET @x='DEFINER=y'": "CREATE TRIGGER `t` AFTER INSERT ON `a` FOR EACH ROW SET @x='DEFINER=y'",
		"CREATE TRIGGER `DEFINER` AFTER INSERT ON `a` FOR EACH ROW SET @x=1":                                "CREATE TRIGGER `DEFINER` AFTER INSERT ON `a` FOR EACH ROW SET @x=1",
		"CREATE ALGORITHM=MERGE SQL SECURITY DEFINER VIEW `v` AS select 1":                                  "CREATE ALGORITHM=MERGE SQL SECURITY DEFINER VIEW `v` AS select 1",
	} {
		assert.Equal(t, want, WithoutDefiner(in))
	}
}

func TestConditionless(t *testing.T) {
	for in, want := range map[string]string{
		"/*!50001 CREATE ALGORITHM=MERGE */\n/*!50013 SQL SECURITY DEFINER */\n/*!50001 VIEW `v` AS select 1*/": "CREATE ALGORITHM=MERGE  \n SQL SECURITY DEFINER  \n VIEW `v` AS select 1",
		"/*M!999999\\- enable the sandbox mode */\nCREATE TABLE a (b INT /*!80023 INVISIBLE */)":                "CREATE TABLE a (b INT /*!80023 INVISIBLE */)",
		"/*M!100301 SET x=1*/":  "SET x=1",
		"SELECT '/*!1 text */'": "SELECT '/*!1 text */'",
	} {
		assert.Equal(t, want, string(Conditionless([]byte(in))), in)
	}
}

func TestAlterations(t *testing.T) {
	table, actions, err := Alterations([]byte("ALTER TABLE `a b`\n ADD PRIMARY KEY (`x`,`y`),\n  ADD KEY `k` (`y`), AUTO_INCREMENT=5;"), MySQL)
	require.NoError(t, err)
	assert.Equal(t, "a b", table)
	assert.Equal(t, []string{"ADD PRIMARY KEY (`x`,`y`)", "ADD KEY `k` (`y`)", "AUTO_INCREMENT=5"}, actions)
	table, _, err = Alterations([]byte(`ALTER TABLE ONLY shop."T.x" ALTER COLUMN id SET DEFAULT nextval('shop.s'::regclass)`), Postgres)
	require.NoError(t, err)
	assert.Equal(t, `shop."T.x"`, table)
}

func TestEachRow(t *testing.T) {
	stmt := []byte("INSERT INTO `t` VALUES (1,'a,(b)',NULL),(-2.5,_binary'é',x'00ff'),(3,'é\\'','')")
	ins, err := ParseInsert(stmt, MySQL)
	require.NoError(t, err)
	var rows []string
	var fields [][][]byte
	require.NoError(t, ins.EachRow(stmt, MySQL, func(column int, raw []byte) string {
		if column == 1 && strings.Contains(string(raw), "é") {
			return "_utf8mb4"
		}
		return ""
	}, func(row []byte) error {
		rows = append(rows, string(row))
		f, err := Fields(row, MySQL)
		fields = append(fields, f)
		return err
	}))
	assert.Equal(t, []string{"1,'a,(b)',NULL", "-2.5,_binary'é',x'00ff'", "3,_utf8mb4'é\\'',''"}, rows)
	assert.Equal(t, [][][]byte{{[]byte("1"), []byte("a,(b)"), nil}, {[]byte("-2.5"), []byte("é"), {0, 0xff}}, {[]byte("3"), []byte("é'"), {}}}, fields)
	values, err := Values([]byte(rows[2]), MySQL)
	require.NoError(t, err)
	assert.Len(t, values, 3)
}
