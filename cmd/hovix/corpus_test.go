package main_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/testenv"
)

// A corpus is SQL that nobody here wrote: what its statements make of a database is packed,
// restored, and compared by the server's own dump program. HOVIX_CORPUS takes all files in
// place of a few.

// corpusStep is each how many files one is taken.
func corpusStep() int {
	if os.Getenv("HOVIX_CORPUS") != "" {
		return 1
	}
	return 300
}

var (
	// makes begins statements that make or fill something.
	makes = regexp.MustCompile(`(?is)^\s*(?:create\s+(?:or\s+replace\s+)?(?:table|view|algorithm|definer|procedure|function|trigger|event|sequence|index|unique|fulltext|spatial|sql)|alter\s+(?:table|ignore|event|sequence)|insert|replace|set\s+(?:names|character|@|sql_mode|session\s+sql_mode|time_zone|collation|@@sql_mode|@@session)|delete|update)\b`)
	// reaches is in those that reach beyond a database, or that a test fills in.
	reaches = regexp.MustCompile(`(?i)infile|outfile|dumpfile|load_file|mysql\.|information_schema\.|performance_schema\.|create\s+temporary|set\s+(?:@@)?global|plugin|tablespace|data\s+directory|index\s+directory|sleep\s*\(|\$\w+|engine\s*=\s*(?:connect|spider|mroonga|federated|s3|rocksdb|perf)|set\s+password|debug`)
	// commands begin lines that are for the test program.
	commands  = regexp.MustCompile(`(?i)^(?:let|if|while|eval|evalp|connect|connection|disconnect|source|echo|sleep|die|exit|inc|dec|perl|eof|send|reap|error|enable|disable|replace_|sorted|query_|write_file|remove|wait|exec|skip|character_set|vertical|horizontal|list_files|copy|cat_file|append|mkdir|rmdir|move_file|end|real_sleep|result|save|shutdown|lowercase|diff|change_user|require|ping|start_timer|end_timer)\b`)
	delimiter = regexp.MustCompile(`(?i)^(?:--)?\s*delimiter\s+(\S+)`)
	isTable   = regexp.MustCompile(`(?i)^\s*create\s+(?:or\s+replace\s+)?table`)
)

// testStatements cuts a file of the server's test suite into the statements that make
// something.
func testStatements(text []byte) (out []string) {
	end, open := ";", ""
	for line := range strings.Lines(string(text)) {
		trimmed := strings.TrimSpace(line)
		if open == "" {
			if m := delimiter.FindStringSubmatch(trimmed); m != nil {
				if end = strings.TrimSuffix(m[1], end); end == "" {
					end = m[1]
				}
				continue
			}
			if strings.HasPrefix(trimmed, "#") || strings.HasPrefix(trimmed, "--") || trimmed == "{" || trimmed == "}" || commands.MatchString(trimmed) && !strings.HasPrefix(strings.ToLower(trimmed), "replace into") {
				continue
			}
		}
		open += line
		for {
			stmt, rest, found := strings.Cut(open, end)
			if !found {
				break
			}
			if makes.MatchString(stmt) && !reaches.MatchString(stmt) {
				out = append(out, stmt)
			}
			if open = rest; strings.TrimSpace(open) == "" {
				open = ""
			}
		}
	}
	return out
}

// sameSchema gives a dump without what may differ: accounts, space, the order of rows without
// a key, of keys, and what a comment keeps of options that the server does not know.
func sameSchema(dump []byte) string {
	for _, r := range []struct{ what, by string }{
		{"DEFINER=[`\"][^`\"]*[`\"]@[`\"][^`\"]*[`\"]", "DEFINER"}, {"[`\"]", ""}, {`AUTO_INCREMENT=\d+`, ""}, {`/\* [^*]* \*/`, ""}, {`(?m)[ \t]+$`, ""}, {`(?m) DEFAULT NULL(,?)$`, "$1"}, {`(?i)page_compressed='?1'?`, "PAGE_COMPRESSED=1"},
	} {
		dump = regexp.MustCompile(r.what).ReplaceAll(dump, []byte(r.by))
	}
	dump = regexp.MustCompile(`(?is)/\*!50003 CREATE\*/.*?\*/;;`).ReplaceAllFunc(dump, func(m []byte) []byte {
		return []byte(strings.ReplaceAll(strings.ToLower(strings.Join(strings.Fields(string(m)), " ")), "if not exists ", ""))
	})
	lines := strings.Split(string(dump), "\n")
	for _, prefix := range []string{"INSERT INTO ", "  KEY ", "  UNIQUE KEY ", "  FULLTEXT KEY ", "  SPATIAL KEY "} {
		for i := 0; i < len(lines); i++ {
			j := i
			for j < len(lines) && strings.HasPrefix(lines[j], prefix) {
				lines[j] = strings.TrimSuffix(lines[j], ",")
				j++
			}
			slices.Sort(lines[i:j])
			i = max(i, j-1)
		}
	}
	return strings.Join(lines, "\n")
}

// TestCorpusOfMariaDB takes the files of the server's own test suite, each into a database.
// What is not the same afterwards was named when it was packed.
func TestCorpusOfMariaDB(t *testing.T) {
	t.Parallel()
	root := testenv.ServerTests(t)
	var files []string
	for _, p := range []string{"main", "suite/innodb/t", "suite/parts/t", "suite/engines/funcs/t", "suite/funcs_1/t", "suite/jp/t", "suite/vcol/t", "suite/compat/oracle/t", "suite/maria", "suite/innodb_fts/t", "suite/json/t", "suite/gcol/t", "suite/sql_sequence", "suite/period/t", "suite/versioning/t"} {
		files = append(files, glob(filepath.Join(root, p), "*.test")...)
	}
	require.Greater(t, len(files), 1000)
	files = slices.DeleteFunc(files, func(f string) bool { return filepath.Base(f) == "bulk_replace.test" }) // 40 s of rows
	databases, named, step := 0, 0, corpusStep()
	for i := step / 2; i < len(files); i += step {
		text, err := os.ReadFile(files[i])
		require.NoError(t, err)
		statements := testStatements(text)
		if !slices.ContainsFunc(statements, isTable.MatchString) {
			continue
		}
		name := strings.TrimPrefix(files[i], root+"/")
		t.Run(name, func(t *testing.T) {
			from := testenv.MariaDB(t)
			var in bytes.Buffer
			in.WriteString("SET max_statement_time=5;\n")
			for _, s := range statements {
				fmt.Fprintf(&in, "DELIMITER $$$\n%s\n$$$\nDELIMITER ;\n", s)
			}
			client := exec.Command("timeout", "60", "mariadb", "--no-defaults", "-S", from.Socket, "-u"+from.User, "-p"+from.Password, "--default-character-set=utf8mb4", "--force", from.Name)
			client.Stdin = &in
			_ = client.Run() // many statements fail, as they do there
			to := testenv.MariaDB(t)
			dir, other := filepath.Join(t.TempDir(), "site"), filepath.Join(t.TempDir(), "other")
			mariaSite(t, dir, from)
			mariaSite(t, other, to)
			said, err := corpusTrip(t, dir, other, func(d string) (string, error) {
				l := map[string]database.Location{dir: from, other: to}[d]
				out, err := exec.Command("mariadb-dump", "--no-defaults", "-S", l.Socket, "-utester", "-p"+l.Password, "--default-character-set=utf8mb4", "--routines", "--events", "--triggers", "--skip-comments", "--hex-blob", "--order-by-primary", "--skip-extended-insert", l.Name).Output()
				return sameSchema(out), err
			})
			if err == "" {
				databases++
				return
			}
			databases++
			if !said {
				assert.Fail(t, "not named at packing", err)
			}
			named++
		})
	}
	t.Logf("%d databases of %d files; of %d something was named at packing", databases, len(files)/step, named)
}

// corpusTrip packs the site in a folder and restores it to another, and compares what dump
// says of both. It gives what went wrong or differs, and whether packing had said that
// something would.
func corpusTrip(t *testing.T, dir, other string, dump func(dir string) (string, error)) (said bool, wrong string) {
	file := filepath.Join(t.TempDir(), "a.tar.zst")
	want, err := dump(dir)
	if err != nil { // what the server's own program cannot read
		return true, "the server's own program fails"
	}
	run := testenv.Hovix(t, "pack", dir, "-o", file)
	if run.Status != 0 && run.Status != 3 {
		return true, run.Err
	}
	said = run.Status == 3
	if run = testenv.Hovix(t, "restore", file, other, "--yes", "--stored-code"); run.Status != 0 && run.Status != 3 {
		return said, run.Err
	}
	got, err := dump(other)
	if err != nil {
		return said, fmt.Sprint("the restored database cannot be read: ", err)
	}
	if want != got {
		return said, difference(want, got)
	}
	return said, ""
}

// difference gives the first lines that one text has and the other has not.
func difference(a, b string) string {
	in := func(lines []string, other string) (out string) {
		has := map[string]bool{}
		for l := range strings.Lines(other) {
			has[strings.TrimSuffix(l, "\n")] = true
		}
		for _, l := range lines {
			if !has[l] && len(out) < 600 {
				out += "\n  " + l[:min(len(l), 200)]
			}
		}
		return out
	}
	return "before:" + in(strings.Split(a, "\n"), b) + "\nafter:" + in(strings.Split(b, "\n"), a)
}
