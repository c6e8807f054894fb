package dump

import (
	"bytes"
	"context"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shout replaces "old" by "longer" in values, and notes where they stand.
type shout struct{ cells []string }

func (s *shout) Places(text []byte) func(int) int {
	at := -1
	return func(from int) int {
		if at < from {
			if n := bytes.Index(text[from:], []byte("old")); n >= 0 {
				at = from + n
			} else {
				at = len(text)
			}
		}
		return at
	}
}

func (s *shout) Batch() Batch { return &shoutBatch{all: s} }

type shoutBatch struct {
	all   *shout
	cells []string
}

func (s *shoutBatch) Done() error {
	s.all.cells = append(s.all.cells, s.cells...)
	return nil
}

func (s *shoutBatch) Value(at Cell, v []byte) ([]byte, bool) {
	out := bytes.ReplaceAll(v, []byte("old"), []byte("longer"))
	s.cells = append(s.cells, at.Table+"."+at.Column+"="+string(v))
	return out, !bytes.Equal(v, out)
}

func rewrite(t testing.TB, d Dialect, in string) (string, []string) {
	t.Helper()
	var vals shout
	var out bytes.Buffer
	require.NoError(t, Rewrite(context.Background(), &out, strings.NewReader(in), &vals, Options{Dialect: d}))
	// Cut anywhere, the result is the same.
	var slow bytes.Buffer
	require.NoError(t, Rewrite(context.Background(), &slow, iotest.OneByteReader(strings.NewReader(in)), &shout{}, Options{Dialect: d}))
	assert.Equal(t, out.String(), slow.String())
	return out.String(), vals.cells
}

func TestLiterals(t *testing.T) {
	for _, c := range []struct {
		d        Dialect
		in, want string // want "": as it is
		cells    string
	}{
		{MySQL, `INSERT INTO t (a, b) VALUES (1,'old'),(2,'x old');`, `INSERT INTO t (a, b) VALUES (1,'longer'),(2,'x longer');`, `t.b=old t.b=x old`},
		{MySQL, "INSERT INTO `db`.`t` VALUES ('it''s old','it\\'s old\\\\');", "INSERT INTO `db`.`t` VALUES ('it''s longer','it\\'s longer\\\\');", `t.=it's old t.=it's old\`},
		{MySQL, "CREATE TABLE `t` (`a` int, `b c` text, PRIMARY KEY (`a`), KEY `k` (`b c`));\nINSERT INTO t VALUES (1,\"old\");", "CREATE TABLE `t` (`a` int, `b c` text, PRIMARY KEY (`a`), KEY `k` (`b c`));\nINSERT INTO t VALUES (1,\"longer\");", `t.b c=old`},
		{MySQL, "-- 'old\n# it's old\n/* old' */ INSERT INTO t VALUES ('old'); /*!40000 ALTER TABLE t COMMENT 'old' */;", "-- 'old\n# it's old\n/* old' */ INSERT INTO t VALUES ('longer'); /*!40000 ALTER TABLE t COMMENT 'longer' */;", `t.=old .=old`},
		{MySQL, `INSERT INTO t VALUES (_binary 'old\0\n\Z\r\t\"',x'6f6c646f6c646f6c64',0x6F6C646F6C646F6C64,b'101',0x1);`, `INSERT INTO t VALUES (_binary 'longer\0\n\Z\r\t\"',x'6c6f6e6765726c6f6e6765726c6f6e676572',0x6C6F6E6765726C6F6E6765726C6F6E676572,b'101',0x1);`, ""},
		{MySQL, `INSERT INTO t VALUES ('50\% old\_x');`, `INSERT INTO t VALUES ('50\% longer\_x');`, ""},
		{MySQL, `INSERT INTO t VALUES (5--2, 'old', 1 -1);`, `INSERT INTO t VALUES (5--2, 'longer', 1 -1);`, ""},
		{MySQL, `INSERT INTO t VALUES ('old`, ``, ""}, // torn
		{MySQL, `INSERT INTO t (a) VALUES (CONCAT('a','old'), 'old');`, `INSERT INTO t (a) VALUES (CONCAT('a','longer'), 'longer');`, ""},
		{Postgres, `INSERT INTO public.t (a, "B c") VALUES ('old\', E'it\'s old\\', '\x6f6c646f6c646f6c64');`, `INSERT INTO public.t (a, "B c") VALUES ('longer\', E'it\'s longer\\', '\x6c6f6e6765726c6f6e6765726c6f6e676572');`, `t.a=old\ t.B c=it's old\ t.=oldoldold`},
		{Postgres, "COPY public.t (a, b) FROM stdin;\n1\told\\tx\n\\N\tol\\\\d\n\\.\n\nSELECT 'old';\n", "COPY public.t (a, b) FROM stdin;\n1\tlonger\\tx\n\\N\tol\\\\d\n\\.\n\nSELECT 'longer';\n", "t.a=1 t.b=old\tx .=old"},
		{Postgres, "COPY t (b) FROM stdin;\n\\\\x6f6c646f6c646f6c64\n\\.\n", "COPY t (b) FROM stdin;\n\\\\x6c6f6e6765726c6f6e6765726c6f6e676572\n\\.\n", "t.b=oldoldold"},
		{Postgres, `CREATE FUNCTION f() AS $x$ SELECT 'old'; $x$; SELECT $1, 'old';`, `CREATE FUNCTION f() AS $x$ SELECT 'old'; $x$; SELECT $1, 'longer';`, ""},
		{SQLite, `INSERT INTO "t" VALUES('it''s old',X'6F6C646F6C646F6C64',replace('a\nold','\n',char(10)));`, `INSERT INTO "t" VALUES('it''s longer',X'6C6F6E6765726C6F6E6765726C6F6E676572',replace('a\nlonger','\n',char(10)));`, "t.=it's old t.=oldoldold t.=a\nold"},
		{SQLite, `INSERT INTO t VALUES(replace(replace('old\r\n','\r',char(13)),'\n',char(10)), replaced('old'));`, `INSERT INTO t VALUES(replace(replace('longer\r\n','\r',char(13)),'\n',char(10)), replaced('longer'));`, ""},
	} {
		want := c.want
		if want == "" {
			want = c.in
		}
		out, cells := rewrite(t, c.d, c.in)
		assert.Equal(t, want, out)
		if c.cells != "" {
			assert.Equal(t, c.cells, strings.Join(cells, " "))
		}
	}
}

func TestDetect(t *testing.T) {
	for head, want := range map[string]Dialect{
		"-- MariaDB dump 10.19": MySQL, "-- a panel\nINSERT INTO `t` VALUES (1);": MySQL,
		"--\n-- PostgreSQL database dump\n--": Postgres, "COMMENT;\nCOPY t FROM stdin;\n": Postgres,
		"PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;": SQLite,
	} {
		assert.Equal(t, want, Detect([]byte(head)), head)
	}
}

// TestHostileDumps: tens of megabytes of one byte end in linear time, far below
// the limit given here.
func TestHostileDumps(t *testing.T) {
	for _, unit := range []string{"'", "\\", "''", "\\'", "(", "$", "$a$", "/*", "-- ", "\"", "0x", "replace(", "INSERT INTO t VALUES", "COPY t FROM stdin;\n", "a,", ";", "\t\n"} {
		for d := range telling {
			for _, begin := range []string{"", "'", "INSERT INTO t VALUES ('", "old'"} {
				in := begin + strings.Repeat(unit, (1<<20)/len(unit))
				ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
				assert.NoError(t, Rewrite(ctx, io.Discard, strings.NewReader(in), &shout{}, Options{Dialect: Dialect(d)}), "%q %q", begin, unit)
				cancel()
			}
		}
	}
}

func FuzzRewrite(f *testing.F) {
	for _, s := range []string{`INSERT INTO t (a) VALUES ('old\'');`, "COPY t (a) FROM stdin;\nold\n\\.\n", `replace('a\nold','\n',char(10))`, "/*!40000 x */ -- \n0x6f6c64", `$a$ old $a$`, "CREATE TABLE t (a int, `b` text);"} {
		for d := range telling {
			f.Add(s, d)
		}
	}
	f.Fuzz(func(t *testing.T, in string, d int) {
		if d < 0 || d >= len(telling) {
			return
		}
		// What holds nothing that matters comes back byte for byte.
		if out, _ := rewrite(t, Dialect(d), strings.ReplaceAll(in, "old", "odd")); !strings.Contains(in, "6") {
			assert.Equal(t, strings.ReplaceAll(in, "old", "odd"), out)
		}
		rewrite(t, Dialect(d), in)
	})
}
