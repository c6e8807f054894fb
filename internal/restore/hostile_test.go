package restore

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/archive"
	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/manifest"
	"hovix/internal/rewrite"
	"hovix/internal/site"
)

// member is an entry that a test puts into an archive.
type member struct {
	name, content string
	kind          archive.Type
	link          string
}

// sound is an archive as pack makes it: one table with one row.
func sound() []member {
	return []member{
		{name: manifest.Name, content: `{"format":1,"kind":"plain","name":"x","address":"http://old.example","root":"/nowhere/old","parts":["database","code","settings"],"database":{"engine":"sqlite","product":"SQLite","path":"a.sqlite","tables":[{"Name":"a"}]},"settings":["hovix.toml"]}`},
		{name: "database/0-begin.sql", content: "PRAGMA foreign_keys=OFF;\n"},
		{name: "database/t00001-a.0-table.sql", content: "CREATE TABLE a (b TEXT);\n"},
		{name: "database/t00001-a.1-rows-0000001.sql", content: "INSERT INTO \"a\" (\"b\") VALUES\n('http://old.example/x');\n"},
		{name: "database/t00001-a.2-end.sql", content: "-- rows: 1\n"},
		{name: "database/z3-end.sql", content: "COMMIT;\n"},
		{name: "files/index.html", content: "<h1>new</h1>"},
		{name: "settings/hovix.toml", content: "name = \"x\"\naddress = \"http://old.example\"\ndatabase = \"sqlite:a.sqlite\"\n"},
		{name: manifest.SummaryName, content: `{"rows":1}`},
	}
}

// change replaces the member of this name, or adds one before the summary.
func change(ms []member, m member) []member {
	for i := range ms {
		if ms[i].name == m.name {
			ms[i] = m
			return ms
		}
	}
	return append(ms[:len(ms)-1:len(ms)-1], m, ms[len(ms)-1])
}

func insert(ms []member, at int, m member) []member {
	return append(ms[:at:at], append([]member{m}, ms[at:]...)...)
}

func without(ms []member, name string) (out []member) {
	for _, m := range ms {
		if m.name != name {
			out = append(out, m)
		}
	}
	return out
}

func pack(t *testing.T, ms []member) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := archive.NewWriter(t.Context(), &out, archive.Options{})
	require.NoError(t, err)
	for i, m := range ms {
		if m.kind == 0 {
			m.kind = archive.TypeFile
		}
		e := archive.Entry{Name: m.name, Type: m.kind, Mode: 0o644, Link: m.link, ModTime: time.Unix(1e9, 0)}
		if m.kind == archive.TypeFile {
			require.NoError(t, w.AddBytes(e, []byte(m.content)))
		} else {
			_, err := w.Add(e, nil)
			require.NoError(t, err)
		}
		if i == 0 {
			require.NoError(t, w.Flush())
		}
	}
	_, err = w.Close()
	require.NoError(t, err)
	return out.Bytes()
}

func options(t *testing.T, target string) Options {
	t.Helper()
	a, err := rewrite.ParseAddress("https://new.example")
	require.NoError(t, err)
	return Options{Target: target, Address: a}
}

// contents lists all files below dir with their content.
func contents(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rel, _ := filepath.Rel(dir, p)
		if d.Type()&fs.ModeSymlink != 0 {
			link, err := os.Readlink(p)
			out[rel] = "-> " + link
			return err
		}
		b, err := os.ReadFile(p)
		out[rel] = string(b)
		return err
	}))
	return out
}

func TestSoundArchive(t *testing.T) {
	target := filepath.Join(t.TempDir(), "deep", "new")
	res, err := Run(t.Context(), bytes.NewReader(pack(t, sound())), 0, options(t, target))
	require.NoError(t, err)
	got := contents(t, target)
	assert.Equal(t, "<h1>new</h1>", got["index.html"])
	assert.Contains(t, got["hovix.toml"], `address = "https://new.example"`)
	assert.Contains(t, got["a.sqlite"], "https://new.example/x")
	assert.EqualValues(t, 1, res.Tally.Occurrences(), "the one in the table; the settings are given theirs")
	assert.Zero(t, res.Findings())
	assert.True(t, res.Point.Holds.NoFolder, "nothing was replaced")
	assert.Len(t, contents(t, filepath.Dir(target)), 5, "nothing is left beside the target but the undo point's notes")
}

// TestHostileArchives: each is refused for its reason, and the target stays.
func TestHostileArchives(t *testing.T) {
	slack = 1 << 20
	defer func() { slack = 1 << 30 }()
	row := "database/t00001-a.1-rows-0000001.sql"
	table := "database/t00001-a.0-table.sql"
	for name, c := range map[string]struct {
		ms   []member
		want error
		says string
	}{
		"another statement among the rows": {change(sound(), member{name: row, content: "DROP TABLE a;"}), sqltext.ErrRefused, ""},
		"stacked statements":               {change(sound(), member{name: row, content: "INSERT INTO a (b) VALUES ('x'); ATTACH '/tmp/x' AS y;"}), sqltext.ErrRefused, ""},
		"a function in a row":              {change(sound(), member{name: row, content: "INSERT INTO a (b) VALUES (load_extension('x'));"}), sqltext.ErrRefused, "load_extension"},
		"rows of another table":            {change(sound(), member{name: row, content: "INSERT INTO sqlite_master (b) VALUES ('x');"}), sqltext.ErrRefused, "rows of table sqlite_master"},
		"a table that is a query":          {change(sound(), member{name: table, content: "CREATE TABLE a AS SELECT 1;"}), sqltext.ErrRefused, ""},
		"a virtual table":                  {change(sound(), member{name: table, content: "CREATE VIRTUAL TABLE a USING dbstat(b);"}), sqltext.ErrRefused, ""},
		"a table that nobody announced":    {change(sound(), member{name: table, content: "CREATE TABLE other (b TEXT);"}), sqltext.ErrRefused, "not in the manifest"},
		"rows before the definition":       {change(without(sound(), table), member{name: "files/x", content: "x"}), archive.ErrRefused, "does not follow"},
		"a second definition":              {append(sound()[:4:4], append([]member{{name: table, content: "CREATE TABLE a (b TEXT);"}}, sound()[4:]...)...), archive.ErrRefused, "second definition"},
		"something else after the rows":    {change(sound(), member{name: "database/t00001-a.2-end.sql", content: "DELETE FROM a;\n-- rows: 1\n"}), sqltext.ErrRefused, ""},
		"a view among the keys":            {change(sound(), member{name: "database/t00001-a.2-end.sql", content: "CREATE VIEW v AS SELECT 1;\n-- rows: 1\n"}), sqltext.ErrRefused, "only keys"},
		"fewer rows than promised":         {change(sound(), member{name: "database/t00001-a.2-end.sql", content: "-- rows: 2\n"}), nil, "2 rows in the archive, but 1 were staged"},
		"no number of rows":                {change(sound(), member{name: "database/t00001-a.2-end.sql", content: "\n"}), archive.ErrCorrupt, "number of rows"},
		"a table is missing":               {without(without(without(sound(), table), row), "database/t00001-a.2-end.sql"), archive.ErrCorrupt, "table a is missing"},
		"rows for automatic numbers only":  {change(sound(), member{name: "database/z3-end.sql", content: "INSERT INTO a (b) VALUES ('x');"}), sqltext.ErrRefused, "at the end"},
		"a table among views":              {change(sound(), member{name: "database/z1-objects.sql", content: "CREATE TABLE z (a);"}), sqltext.ErrRefused, "where views and triggers belong"},
		"a trigger that reads files":       {change(sound(), member{name: "database/z1-objects.sql", content: "CREATE TRIGGER x AFTER INSERT ON a BEGIN SELECT readfile('/etc/passwd'); END;"}), sqltext.ErrRefused, "readfile"},
		"two files of one name":            {append(sound()[:7:7], append([]member{{name: "files/index.html", content: "twice"}}, sound()[7:]...)...), archive.ErrRefused, "there twice"},
		"a file that is a folder":          {append(sound()[:7:7], append([]member{{name: "files/index.html/x", content: "x"}}, sound()[7:]...)...), archive.ErrRefused, "both a file and a folder"},
		"a second manifest":                {append(sound()[:3:3], append([]member{{name: manifest.Name, content: "{}"}}, sound()[3:]...)...), archive.ErrRefused, "second manifest"},
		"no summary":                       {without(sound(), manifest.SummaryName), archive.ErrCorrupt, "no summary"},
		"no manifest first":                {sound()[1:], archive.ErrNotArchive, "not made by Hovix"},
		"a manifest that is no JSON":       {change(sound(), member{name: manifest.Name, content: "<html>"}), archive.ErrNotArchive, "manifest cannot be read"},
		"a manifest of the future":         {change(sound(), member{name: manifest.Name, content: `{"format":99}`}), archive.ErrNotArchive, "use a newer Hovix"},
		"an unknown kind":                  {change(sound(), member{name: manifest.Name, content: `{"format":1,"kind":"plian"}`}), nil, "did you mean plain?"},
		"a second statement of an object":  {change(sound(), member{name: "database/z1-objects.sql", content: "CREATE VIEW v AS SELECT 1; DROP TABLE a;"}), sqltext.ErrRefused, ""},
		"rows of one number twice":         {insert(change(sound(), member{name: "database/t00001-a.2-end.sql", content: "-- rows: 2\n"}), 4, sound()[3]), archive.ErrRefused, "where rows number 2 belong"},
		"the end twice":                    {insert(sound(), 6, sound()[5]), archive.ErrRefused, "there twice"},
		"a trigger":                        {change(sound(), member{name: "database/z1-objects.sql", content: "CREATE TRIGGER x AFTER INSERT ON a BEGIN DELETE FROM a; END;"}), ErrStoredCode, "trigger x"},
		"a link to an absolute path":       {insert(sound(), 7, member{name: "files/up", kind: archive.TypeSymlink, link: "/etc/passwd"}), ErrLinksOut, "the link up leads out of the site, to /etc/passwd"},
		"a link upwards":                   {insert(sound(), 7, member{name: "files/a/up", kind: archive.TypeSymlink, link: "../../x"}), ErrLinksOut, "leads out"},
		"a link up behind another":         {insert(sound(), 7, member{name: "files/a/up", kind: archive.TypeSymlink, link: "b/../../x"}), ErrLinksOut, "leads out"},
		"a link out below the old folder":  {insert(sound(), 7, member{name: "files/up", kind: archive.TypeSymlink, link: "/nowhere/old/../../etc"}), archive.ErrRefused, "leads out"},
		"a link and a file of one name":    {insert(sound(), 7, member{name: "files/index.html", kind: archive.TypeSymlink, link: "x"}), archive.ErrRefused, "is something else too"},
		"a folder twice":                   {insert(insert(sound(), 7, member{name: "files/d", kind: archive.TypeDir}), 7, member{name: "files/d", kind: archive.TypeDir}), archive.ErrRefused, "there twice"},
		"settings that nobody announced":   {change(sound(), member{name: "settings/.htaccess", content: "x"}), archive.ErrRefused, "not in the manifest"},
		"a summary twice":                  {append(sound(), sound()[len(sound())-1]), archive.ErrRefused, "second summary"},
		"a bomb of files":                  {insert(sound(), 7, member{name: "files/bomb", content: strings.Repeat("\x00", 3<<20)}), archive.ErrRefused, "far more than its manifest says"},
		"settings that are no TOML":        {change(sound(), member{name: "settings/hovix.toml", content: "name = "}), nil, "hovix.toml"},
	} {
		t.Run(name, func(t *testing.T) {
			parent := t.TempDir()
			target := filepath.Join(parent, "live")
			require.NoError(t, os.Mkdir(target, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(target, "index.html"), []byte("live"), 0o644))
			before := contents(t, parent)
			_, err := Run(t.Context(), bytes.NewReader(pack(t, c.ms)), 0, options(t, target))
			require.Error(t, err)
			if c.want != nil {
				assert.ErrorIs(t, err, c.want)
			}
			assert.ErrorContains(t, err, c.says)
			assert.Equal(t, before, contents(t, parent), "the target is as it was, and nothing is left beside it")
			entries, err := os.ReadDir(parent)
			require.NoError(t, err)
			assert.Len(t, entries, 1)
		})
	}
}

// TestHostileTar: what no Hovix writes into an archive, in a tar stream of its own, is
// refused by its name and kind.
func TestHostileTar(t *testing.T) {
	for name, c := range map[string]struct {
		h    tar.Header
		says string
	}{
		"an absolute path":     {tar.Header{Name: "/etc/cron.d/x", Typeflag: tar.TypeReg}, `"/etc/cron.d/x" has an absolute path`},
		"a path upwards":       {tar.Header{Name: "files/../../x", Typeflag: tar.TypeReg}, "has a path that leads upwards"},
		"a path that is long":  {tar.Header{Name: "files//x/./y", Typeflag: tar.TypeReg}, "not in its shortest form"},
		"a hard link":          {tar.Header{Name: "files/x", Typeflag: tar.TypeLink, Linkname: "/etc/shadow"}, "only files, folders and symbolic links"},
		"a device":             {tar.Header{Name: "files/sda", Typeflag: tar.TypeBlock, Devmajor: 8}, "only files, folders and symbolic links"},
		"a terminal":           {tar.Header{Name: "files/tty", Typeflag: tar.TypeChar, Devmajor: 4}, "only files, folders and symbolic links"},
		"a pipe":               {tar.Header{Name: "files/pipe", Typeflag: tar.TypeFifo}, "only files, folders and symbolic links"},
		"setuid":               {tar.Header{Name: "files/su", Typeflag: tar.TypeReg, Mode: 0o4755}, "setuid, setgid and sticky bits"},
		"an absurd size":       {tar.Header{Name: "files/huge", Typeflag: tar.TypeReg, Size: 1 << 55}, ""},
		"an absurd SQL size":   {tar.Header{Name: "database/t00001-a.1-rows-0000001.sql", Typeflag: tar.TypeReg, Size: 1 << 40}, "at most"},
		"a manifest too large": {tar.Header{Name: manifest.SummaryName, Typeflag: tar.TypeReg, Size: 1 << 30}, "at most"},
	} {
		t.Run(name, func(t *testing.T) {
			var stream bytes.Buffer
			first := sound()[0]
			stream.Write(frame(t, tar.Header{Name: first.name, Typeflag: tar.TypeReg, Size: int64(len(first.content)), Mode: 0o644}, first.content))
			if strings.HasPrefix(c.h.Name, "database/") {
				def := sound()[2]
				stream.Write(frame(t, tar.Header{Name: def.name, Typeflag: tar.TypeReg, Size: int64(len(def.content)), Mode: 0o644}, def.content))
			}
			stream.Write(frame(t, c.h, string(make([]byte, min(c.h.Size, 3<<20)))))
			target := filepath.Join(t.TempDir(), "live")
			require.NoError(t, os.Mkdir(target, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(target, "index.html"), []byte("live"), 0o644))
			_, err := Run(t.Context(), &stream, 0, options(t, target))
			require.Error(t, err)
			assert.ErrorContains(t, err, c.says)
			assert.Equal(t, map[string]string{"live/index.html": "live"}, contents(t, filepath.Dir(target)))
		})
	}
}

// TestHostileFrames: a frame that unpacks to far more than it may, and an index that is
// another archive's.
func TestHostileFrames(t *testing.T) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderCRC(true), zstd.WithSingleSegment(true))
	require.NoError(t, err)
	first := sound()[0]
	head := frame(t, tar.Header{Name: first.name, Typeflag: tar.TypeReg, Size: int64(len(first.content)), Mode: 0o644}, first.content)
	bomb := enc.EncodeAll(make([]byte, 64<<20), nil)
	require.Less(t, len(bomb), 16<<10)
	split := func(ms []member) (stream, index []byte) {
		b := pack(t, ms)
		n := binary.LittleEndian.Uint64(b[len(b)-112+16:])
		return b[:n], b[n:]
	}
	stream, _ := split(sound())
	_, other := split(change(sound(), member{name: "files/index.html", content: "<h1>NEW</h1>"}))
	for name, content := range map[string][]byte{"a bomb": append(head, bomb...), "another index": append(stream, other...)} {
		t.Run(name, func(t *testing.T) {
			parent := t.TempDir()
			_, err := Run(t.Context(), bytes.NewReader(content), 0, options(t, filepath.Join(parent, "new")))
			require.ErrorIs(t, err, archive.ErrCorrupt)
			assert.Empty(t, contents(t, parent))
		})
	}
}

// frame gives a frame of an archive with one member of a tar stream.
func frame(t *testing.T, h tar.Header, content string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	require.NoError(t, w.WriteHeader(&h))
	b.WriteString(content)
	b.Write(make([]byte, -len(content)&511))
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderCRC(true), zstd.WithSingleSegment(true))
	require.NoError(t, err)
	return enc.EncodeAll(b.Bytes(), nil)
}

// TestNamesThatAreOneToTheFileSystem: where letter case does not tell names apart, a
// second one is refused instead of taking the place of the first.
func TestNamesThatAreOneToTheFileSystem(t *testing.T) {
	disk := caseless(t)
	for name, members := range map[string][]member{
		"files":   {{name: "files/Logo.png", content: "a"}, {name: "files/logo.png", content: "b"}},
		"folders": {{name: "files/Media/a", content: "a"}, {name: "files/media/b", content: "b"}},
		"a link":  {{name: "files/Way", kind: archive.TypeSymlink, link: "elsewhere"}, {name: "files/way/x", content: "b"}},
	} {
		t.Run(name, func(t *testing.T) {
			ms := sound()
			for _, m := range members {
				ms = insert(ms, 7, m)
			}
			before := contents(t, disk)
			_, err := Run(t.Context(), bytes.NewReader(pack(t, ms)), 0, options(t, filepath.Join(disk, "new")))
			require.Error(t, err)
			assert.ErrorIs(t, err, archive.ErrRefused)
			assert.Equal(t, before, contents(t, disk))
		})
	}
}

// caseless mounts a file system to which A and a are one name.
func caseless(t *testing.T) string {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("LEFT OUT: a file system without letter case needs root to mount one")
	}
	image, dir := filepath.Join(t.TempDir(), "image"), filepath.Join(t.TempDir(), "disk")
	require.NoError(t, os.Mkdir(dir, 0o755))
	for _, c := range [][]string{{"truncate", "-s", "40M", image}, {"mkfs.ntfs", "-q", "-F", "-f", image}, {"lowntfs-3g", "-o", "ignore_case", image, dir}} {
		if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
			t.Skipf("LEFT OUT: a file system without letter case: %s: %v %s", strings.Join(c, " "), err, out)
		}
	}
	t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	return dir
}

// TestScriptsAmongUploads: PHP files among uploads are named, but those that do nothing.
func TestScriptsAmongUploads(t *testing.T) {
	ms := sound()
	ms[0].content = strings.Replace(ms[0].content, `"parts":["database",`, `"uploads":["up"],"parts":["database","uploads",`, 1)
	for name, content := range map[string]string{"up/index.php": "<?php\n// Silence\n", "up/2024/shell.PHP": "<?php system($_GET['c']);", "up/a.phtml": "<?= 1 ?>", "up/photo.jpg": "<?php", "code.php": "<?php run();"} {
		ms = insert(ms, 7, member{name: "files/" + name, content: content})
	}
	res, err := Run(t.Context(), bytes.NewReader(pack(t, ms)), 0, options(t, filepath.Join(t.TempDir(), "new")))
	require.NoError(t, err)
	assert.Equal(t, []string{"2 PHP files lie among the uploads, where visitors could run what somebody left there: up/2024/shell.PHP, up/a.phtml"}, res.Warnings)
}

// TestLinksFollowTheSite: an absolute link into the old folder leads into the new one.
func TestLinksFollowTheSite(t *testing.T) {
	target := filepath.Join(t.TempDir(), "new")
	ms := insert(sound(), 7, member{name: "files/way", kind: archive.TypeSymlink, link: "/nowhere/old/index.html"})
	_, err := Run(t.Context(), bytes.NewReader(pack(t, ms)), 0, options(t, target))
	require.NoError(t, err)
	content, err := os.ReadFile(filepath.Join(target, "way"))
	require.NoError(t, err)
	assert.Equal(t, "<h1>new</h1>", string(content))
}

// TestStagedFilesAreProved: a file that is not as it was written stops the switch.
func TestStagedFilesAreProved(t *testing.T) {
	for name, spoil := range map[string]func(dir string) error{
		"changed": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "index.html"), []byte("<h1>NEW</h1>"), 0o644)
		},
		"gone": func(dir string) error { return os.Remove(filepath.Join(dir, "index.html")) },
		"more": func(dir string) error { return os.WriteFile(filepath.Join(dir, "other"), nil, 0o644) },
	} {
		parent := t.TempDir()
		opts := options(t, filepath.Join(parent, "new"))
		opts.Progress = spoiler{func(phase string) {
			if strings.HasPrefix(phase, "Verifying") {
				found, _ := filepath.Glob(filepath.Join(parent, ".new.hovix/*/files"))
				require.Len(t, found, 1)
				require.NoError(t, spoil(found[0]))
			}
		}}
		_, err := Run(t.Context(), bytes.NewReader(pack(t, sound())), 0, opts)
		require.ErrorIs(t, err, errStaged, name)
		assert.Empty(t, contents(t, parent), name)
	}
}

// spoiler does something when a phase begins.
type spoiler struct{ at func(phase string) }

func (s spoiler) Phase(name string, _ int64) { s.at(name) }
func (s spoiler) Add(int64)                  {}

// TestNothingIsWrittenThroughLinks: links are made last, so that a file behind
// one lands in a real folder or nowhere.
func TestNothingIsWrittenThroughLinks(t *testing.T) {
	parent, outside := t.TempDir(), t.TempDir()
	ms := append(sound()[:7:7], append([]member{
		{name: "files/way", kind: archive.TypeSymlink, link: outside},
		{name: "files/way/escaped.txt", content: "out"},
	}, sound()[7:]...)...)
	_, err := Run(t.Context(), bytes.NewReader(pack(t, ms)), 0, options(t, filepath.Join(parent, "new")))
	require.Error(t, err)
	assert.Empty(t, contents(t, outside))
	assert.Empty(t, contents(t, parent))
}

func TestLinksAndFoldersComeOut(t *testing.T) {
	target := filepath.Join(t.TempDir(), "new")
	ms := append(sound()[:7:7], append([]member{
		{name: "files/dir", kind: archive.TypeDir}, {name: "files/dir/empty", kind: archive.TypeDir},
		{name: "files/dir/link", kind: archive.TypeSymlink, link: "../index.html"},
		{name: "files/dir/dangling", kind: archive.TypeSymlink, link: "nowhere"},
	}, sound()[7:]...)...)
	_, err := Run(t.Context(), bytes.NewReader(pack(t, ms)), 0, options(t, target))
	require.NoError(t, err)
	got := contents(t, target)
	assert.Equal(t, "-> ../index.html", got["dir/link"])
	assert.Equal(t, "-> nowhere", got["dir/dangling"])
	st, err := os.Stat(filepath.Join(target, "dir/empty"))
	require.NoError(t, err)
	assert.True(t, st.IsDir())
	assert.True(t, st.ModTime().Equal(time.Unix(1e9, 0)), "a folder keeps its time")
}

func TestConfirmSeesThePlanAndCanStop(t *testing.T) {
	parent := t.TempDir()
	target := filepath.Join(parent, "live")
	require.NoError(t, os.MkdirAll(filepath.Join(target, "sub"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(target, "sub/x"), []byte("12345"), 0o644))
	opts := options(t, target)
	var seen *Plan
	opts.Confirm = func(p *Plan) error { seen = p; return ErrDeclined }
	_, err := Run(t.Context(), bytes.NewReader(pack(t, sound())), 0, opts)
	require.ErrorIs(t, err, ErrDeclined)
	require.NotNil(t, seen)
	assert.Equal(t, site.Amount{Count: 1, Bytes: 5}, seen.Lose)
	assert.True(t, seen.Overwrites())
	assert.False(t, seen.Create)
	assert.Equal(t, []string{"http://old.example → https://new.example", "/nowhere/old → " + target}, seen.Maps)
	assert.Equal(t, map[string]string{"live/sub/x": "12345"}, contents(t, parent))
}

// cutReader gives some bytes and then fails, as a lost connection does.
type cutReader struct {
	r    io.Reader
	left int
	err  error
}

func (c *cutReader) Read(b []byte) (int, error) {
	if c.left <= 0 {
		return 0, c.err
	}
	n, err := c.r.Read(b[:min(len(b), c.left)])
	c.left -= n
	return n, err
}

func TestLostConnectionsLeaveNothing(t *testing.T) {
	full := pack(t, sound())
	for _, end := range []error{io.EOF, io.ErrUnexpectedEOF, os.ErrDeadlineExceeded} {
		for at := 1; at < len(full); at += len(full) / 12 {
			parent := t.TempDir()
			_, err := Run(t.Context(), &cutReader{bytes.NewReader(full), at, end}, 0, options(t, filepath.Join(parent, "new")))
			require.Error(t, err, "cut at %d", at)
			assert.Empty(t, contents(t, parent), "cut at %d", at)
		}
	}
}

func TestCancelLeavesNothing(t *testing.T) {
	parent := t.TempDir()
	ctx, cancel := context.WithCancel(t.Context())
	opts := options(t, filepath.Join(parent, "new"))
	opts.Confirm = func(*Plan) error { cancel(); return nil }
	_, err := Run(ctx, bytes.NewReader(pack(t, sound())), 0, opts)
	require.ErrorIs(t, err, context.Canceled)
	entries, err := os.ReadDir(parent)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

func TestFurtherAddressesMoveAlong(t *testing.T) {
	parse := func(s string) rewrite.Address {
		a, err := rewrite.ParseAddress(s)
		require.NoError(t, err)
		return a
	}
	old, to := parse("http://old.example"), parse("https://new.example/museum")
	assert.Equal(t, "https://new.example/museum/wp", moved(parse("http://old.example/wp"), old, to).String(), "below the main address")
	assert.Equal(t, "https://new.example/museum", moved(parse("http://alias.example"), old, to).String(), "another name")
}

func TestWhereTheDatabaseGoes(t *testing.T) {
	maria := &manifest.Manifest{Database: &manifest.Database{Engine: database.MariaDB, Product: "MariaDB"}}
	dir := t.TempDir()
	p := &Plan{Manifest: maria, Target: dir}
	assert.ErrorContains(t, p.database(database.Location{}), "name it with --database mariadb://USER@HOST/NAME")
	assert.ErrorContains(t, p.database(database.Location{Engine: database.SQLite, Path: "x"}), "stays with its engine")
	require.NoError(t, os.WriteFile(filepath.Join(dir, site.SiteFile), []byte("database = \"mariadb://u@h/own\"\n"), 0o600))
	require.NoError(t, p.database(database.Location{}))
	assert.Equal(t, "mariadb://u@h/own", p.Database, "the target's settings say where")
	require.NoError(t, p.database(database.Location{Engine: database.MariaDB, Host: "x", Name: "y"}))
	assert.Equal(t, "mariadb://x/y", p.Database, "what is named on the command line wins")
}
