package main_test

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// compressedWithPHP gives a text as PHP compresses it: zlib and gzip of several
// levels, and what a database's own COMPRESS() writes.
func compressedWithPHP(t *testing.T, text string) (values [][]byte) {
	t.Helper()
	out := testenv.PHP(t, `$t = file_get_contents('php://stdin');
		$all = [gzcompress($t), gzcompress($t, 9), gzcompress($t, 1), gzencode($t), gzencode($t, 9), pack('V', strlen($t)) . gzcompress($t)];
		foreach ($all as $v) echo base64_encode($v), "\n";`, []byte(text))
	for line := range strings.Lines(string(out)) {
		v, err := base64.StdEncoding.DecodeString(strings.TrimSpace(line))
		require.NoError(t, err)
		values = append(values, v)
	}
	return values
}

// expandedWithPHP gives what PHP reads in compressed values.
func expandedWithPHP(t *testing.T, values [][]byte) (texts []string) {
	t.Helper()
	var in bytes.Buffer
	for _, v := range values {
		fmt.Fprintln(&in, base64.StdEncoding.EncodeToString(v))
	}
	out := testenv.PHP(t, `foreach (file('php://stdin') as $l) { $v = base64_decode($l);
		if (strlen($v) > 6 && $v[4] === 'x' && unpack('V', $v)[1] < 100000) { $t = gzuncompress(substr($v, 4)); if (strlen($t) !== unpack('V', $v)[1]) $t = 'length'; }
		else $t = $v[0] === 'x' ? gzuncompress($v) : gzdecode($v);
		echo base64_encode($t), "\n"; }`, in.Bytes())
	for line := range strings.Lines(string(out)) {
		v, err := base64.StdEncoding.DecodeString(strings.TrimSpace(line))
		require.NoError(t, err)
		texts = append(texts, string(v))
	}
	return texts
}

// documents are files as applications keep them in columns, each with an address in it.
func documents(t *testing.T) [][]byte {
	t.Helper()
	var picture bytes.Buffer
	require.NoError(t, jpeg.Encode(&picture, image.NewGray(image.Rect(0, 0, 16, 16)), nil))
	comment := []byte("\xff\xfe\x00\x28Copyright http://old.example/about-us")
	withComment := append(append(bytes.Clone(picture.Bytes()[:2]), comment...), picture.Bytes()[2:]...)
	stored := testenv.PHP(t, `echo gzcompress("see http://old.example/stored", 0);`, nil)
	return [][]byte{
		withComment,
		[]byte("%PDF-1.4\n1 0 obj\n<< /URI (http://old.example/a) >>\nendobj\nstartxref\n60\n%%EOF"),
		stored[:len(stored)-1], // torn, so that it is no zlib stream any more
		[]byte("\x0a\x16http://old.example/abc\x10\x01"),
	}
}

// TestBinaryValues: pictures, documents and compressed data in columns of bytes come
// through a restore, a rewriting in place and that of a dump byte for byte, and each is
// counted; with --compressed the text in compressed ones is rewritten, and PHP and the
// database read it.
func TestBinaryValues(t *testing.T) {
	t.Parallel()
	texts := []string{strings.Repeat("<a href=\"http://old.example/page\">there</a>\n", 40), "a:1:{i:0;s:20:\"http://old.example/a\";}", "no address in it"}
	whole := documents(t)
	var squeezed [][]byte
	var want []string
	for _, text := range texts {
		more := compressedWithPHP(t, text)
		squeezed = append(squeezed, more...)
		for range more {
			want = append(want, strings.NewReplacer("http://old.example", "https://new.example", "s:20:", "s:21:").Replace(text))
		}
	}
	all := slices.Concat(whole, squeezed)
	for _, c := range []struct {
		name, typ, literal, hex string
		make                    func(t *testing.T, dir string) database.Location
		dump                    func(t *testing.T, l database.Location) []byte
	}{
		{"MariaDB", "LONGBLOB", "x'%x'", "HEX(b)", func(t *testing.T, dir string) database.Location {
			l := testenv.MariaDB(t)
			mariaSite(t, dir, l, `address = "http://old.example"`)
			return l
		}, func(t *testing.T, l database.Location) []byte { return mariaDump(t, l) }},
		{"Postgres", "BYTEA", `'\x%x'`, "encode(b,'hex')", func(t *testing.T, dir string) database.Location {
			l := testenv.Postgres(t)
			postgresSite(t, dir, l, `address = "http://old.example"`)
			return l
		}, func(t *testing.T, l database.Location) []byte {
			return testenv.Program(t, "pg_dump", nil, append(testenv.PostgresArgs(l), "--no-owner")...)
		}},
		{"SQLite", "BLOB", "x'%x'", "hex(b)", func(_ *testing.T, dir string) database.Location {
			siteFile(t, dir, `name = "Bytes"`, `address = "http://old.example"`, `database = "sqlite:db.sqlite"`)
			return database.Location{Engine: database.SQLite, Path: filepath.Join(dir, "db.sqlite")}
		}, func(t *testing.T, l database.Location) []byte { return []byte(testenv.Client(t, l, []byte(".dump"))) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "site")
			l := c.make(t, dir)
			var sql strings.Builder
			fmt.Fprintf(&sql, "CREATE TABLE kept (id INT PRIMARY KEY, b %s);\n", c.typ)
			for i, v := range all {
				fmt.Fprintf(&sql, "INSERT INTO kept VALUES (%d, "+c.literal+");\n", i, v)
			}
			testenv.Client(t, l, []byte(sql.String()))
			read := func(l database.Location) (values [][]byte) {
				for line := range strings.Lines(strings.TrimPrefix(testenv.Client(t, l, []byte("SELECT "+c.hex+" AS x FROM kept ORDER BY id;")), "x\n")) {
					v, err := hex.DecodeString(strings.TrimSpace(line))
					require.NoError(t, err)
					values = append(values, v)
				}
				require.Len(t, values, len(all))
				return values
			}
			check := func(l database.Location, compressed bool, run testenv.Run, how string) {
				t.Helper()
				require.Equal(t, 3, run.Status, "%s: %s", how, run.Err)
				now := read(l)
				assert.Equal(t, all[:len(whole)], now[:len(whole)], how)
				assert.Contains(t, run.Out, "a PDF document", how)
				if !compressed {
					assert.Equal(t, all, now, how)
					assert.Contains(t, run.Out, "12 compressed values", how)
					return
				}
				assert.Equal(t, want, expandedWithPHP(t, now[len(whole):]), how)
				assert.NotContains(t, run.Out, "compressed value", how)
			}
			archive, original := packed(t, dir), c.dump(t, l)
			for _, options := range [][]string{nil, {"--compressed"}} {
				how := fmt.Sprint(options)
				other := filepath.Join(t.TempDir(), "other")
				target := c.make(t, other)
				run := testenv.Hovix(t, append([]string{"restore", archive, other, "--url", "https://new.example", "--yes"}, options...)...)
				check(target, options != nil, run, "restore "+how)

				file, out := filepath.Join(t.TempDir(), "in.sql"), filepath.Join(t.TempDir(), "out.sql")
				require.NoError(t, os.WriteFile(file, original, 0o600))
				run = testenv.Hovix(t, append([]string{"rewrite", file, "-o", out, "--map", theMove}, options...)...)
				loaded := c.make(t, filepath.Join(t.TempDir(), "loaded"))
				text, err := os.ReadFile(out)
				require.NoError(t, err)
				testenv.Client(t, loaded, text)
				check(loaded, options != nil, run, "dump "+how)

				run = testenv.Hovix(t, append([]string{"rewrite", dir, "--yes", "--map", theMove}, options...)...)
				check(l, options != nil, run, "site "+how)
			}
			if c.name == "MariaDB" {
				got := testenv.Client(t, l, []byte(fmt.Sprintf("SELECT UNCOMPRESS(b) LIKE '%%https://new.example%%' AS x FROM kept WHERE id=%d;", len(whole)+5)))
				assert.Equal(t, "x\n1\n", got)
			}
			var doc rewritten
			run := testenv.Hovix(t, "rewrite", dir, "--plan", "--json", "--map", theMove)
			require.NoError(t, json.Unmarshal([]byte(run.Out), &doc))
			assert.Equal(t, map[string]int{"binary data": len(whole)}, doc.Total.Leftovers)
		})
	}
}
