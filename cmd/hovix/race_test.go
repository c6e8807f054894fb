package main_test

import (
	"bytes"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

// Users who are none of the site's: one may write in the folder that holds it, one in
// its uploads.
const (
	neighbour = 12001
	uploader  = 12003
)

// swapping has a neighbour exchange all that lies beside a site for what is his: links to
// what is root's, folders with a forged journal and undo points, pipes.
const swapping = `
use POSIX; until (chdir $ARGV[0]) { select undef, undef, undef, 0.001; } my $secret = $ARGV[1];
my $j = '{"id":"aaaaaaaa","what":"restore","step":"switching","began":"2024-01-01T00:00:00Z","point":"00001-20240101-000000-aaaaaaaa","folder":1,"stamp":"240101_000000_aaaa","parents":["'.$secret.'"],"database":"sqlite:'.$secret.'/secret.txt"}';
my $n = 0;
while (getppid() != 1) {
  $n++;
  rename ".www.hovix", ".stolen$n";
  if ($n % 3 == 0) { symlink $secret, ".www.hovix"; }
  elsif ($n % 3 == 1) { mkdir ".www.hovix", 0777; if (open my $f, ">", ".www.hovix/journal.json") { print $f $j; close $f; } mkdir ".www.hovix/00001-20240101-000000-aaaaaaaa"; symlink $secret, ".www.hovix/00001-20240101-000000-aaaaaaaa/files"; }
  else { POSIX::mkfifo(".www.hovix", 0666); }
  select undef, undef, undef, 0.002;
  rename "www", "moved"; symlink $secret, "www"; select undef, undef, undef, 0.001; unlink "www"; rename "moved", "www";
  system("rm -rf .stolen$n") if $n % 7 == 0;
  unlink ".www.hovix" or rename ".www.hovix", ".mine$n";
  rename ".stolen$n", ".www.hovix" if $n % 2;
  select undef, undef, undef, 0.004;
}`

// linking has somebody who may write to uploads exchange folders and files in them for
// links to what is root's, and for pipes.
const linking = `
use POSIX; until (chdir $ARGV[0]) { select undef, undef, undef, 0.001; } my $secret = $ARGV[1]; my $n = 0;
while (getppid() != 1) {
  $n++;
  mkdir "d", 0777; if (open my $f, ">", "d/secret.txt") { print $f "mine http://old.example\n"; close $f; }
  if (open my $f, ">", "a.txt") { print $f "mine http://old.example\n"; close $f; }
  select undef, undef, undef, 0.001;
  rename "d", "e$n"; symlink $secret, "d"; unlink "a.txt"; symlink "$secret/secret.txt", "a.txt"; POSIX::mkfifo("pipe.txt", 0666);
  select undef, undef, undef, 0.001;
  unlink "d", "a.txt", "pipe.txt"; unlink "e$n/secret.txt"; rmdir "e$n";
}`

// TestOthersRace: while others exchange what lies beside and in a site for links, pipes
// and forgeries, root restores, undoes, recovers, packs and rewrites it. Whatever becomes
// of the runs: nothing of root's is read into what others may see, written, or removed.
func TestOthersRace(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("LEFT OUT: a race against other users needs root")
	}
	perl := testenv.Tool(t, "perl")
	rounds := 15
	if n, err := strconv.Atoi(os.Getenv("HOVIX_RACES")); err == nil {
		rounds = n
	}
	base := t.TempDir()
	for _, dir := range []string{base, filepath.Dir(base)} { // others must get there
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	secret := filepath.Join(base, "secret")
	require.NoError(t, os.MkdirAll(filepath.Join(secret, "deep"), 0o700))
	const what = "what root alone may read, http://old.example"
	require.NoError(t, os.WriteFile(filepath.Join(secret, "secret.txt"), []byte(what), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(secret, "deep/hovix.toml"), []byte(what), 0o600))
	before := snapshot(t, secret)

	source := filepath.Join(t.TempDir(), "site")
	siteFile(t, source, `address = "http://old.example"`, `database = "sqlite:a.sqlite"`, `uploads = ["up"]`)
	testenv.Program(t, "sqlite3", []byte("CREATE TABLE a (b TEXT); INSERT INTO a VALUES ('http://old.example/x');"), filepath.Join(source, "a.sqlite"))
	require.NoError(t, os.MkdirAll(filepath.Join(source, "up/d"), 0o755))
	for i := range 40 {
		require.NoError(t, os.WriteFile(filepath.Join(source, "up/d/f"+strconv.Itoa(i)), bytes.Repeat([]byte("x"), 2000), 0o644))
	}
	archive := packed(t, source)

	parent := filepath.Join(base, "srv")
	www := filepath.Join(parent, "www")
	require.NoError(t, os.Mkdir(parent, 0o777))
	require.NoError(t, os.Chmod(parent, 0o777))
	require.NoError(t, os.Chown(parent, neighbour, neighbour))
	require.NoError(t, os.CopyFS(www, os.DirFS(source)))
	uploads := filepath.Join(parent, "www/up")
	open := func() {
		_ = os.Chmod(uploads, 0o777) // #nosec: that is what the test is about
	}
	open()
	attack := func(uid uint32, script string, args ...string) *exec.Cmd {
		cmd := exec.Command(perl, append([]string{"-e", script}, args...)...)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}, Pdeathsig: syscall.SIGKILL}
		require.NoError(t, cmd.Start())
		return cmd
	}
	counts := map[string]int{}
	for round := range rounds {
		a, b := attack(neighbour, swapping, parent, secret), attack(uploader, linking, uploads, secret)
		for _, args := range [][]string{
			{"restore", archive, www, "--url", "https://new.example", "--yes", "--keep", "up/a.txt", "--keep", "up/d"},
			{"undo", www, "--yes"},
			{"pack", www, "-o", filepath.Join(base, "out.tar.zst"), "--yes"},
			{"rewrite", www, "--map", "http://old.example=https://new.example", "--files", "*.txt", "--yes"},
			{"undo", www, "--discard", "--yes"},
		} {
			cmd := exec.Command(testenv.Binary(t), args...)
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			require.NoError(t, cmd.Start())
			if round%3 == 2 && args[0] == "restore" { // what it leaves is recovered by the next
				time.Sleep(time.Duration(round) * 3 * time.Millisecond)
				_ = cmd.Process.Kill()
			}
			stop := time.AfterFunc(20*time.Second, func() { _ = cmd.Process.Kill() })
			err := cmd.Wait()
			require.True(t, stop.Stop(), "%v hangs: %s", args, out.String())
			counts[args[0]+map[bool]string{true: " done", false: " refused"}[err == nil]]++
			assert.NotContains(t, out.String(), "what root alone")
			if args[0] == "pack" && err == nil {
				_, _ = unpackWithTar(t, filepath.Join(base, "out.tar.zst"))
			}
			open()
		}
		for _, cmd := range []*exec.Cmd{a, b} {
			require.NoError(t, cmd.Process.Signal(syscall.Signal(0)), "the attackers are at work")
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
			require.Equal(t, -1, cmd.ProcessState.ExitCode(), "the attackers were at work")
		}
		require.Equal(t, before, snapshot(t, secret), "round %d", round)
		noCopies(t, base, secret, what)
		// The site is put back to its place for the next round.
		for _, name := range names(t, parent) {
			if name != "www" && name != "moved" {
				require.NoError(t, os.RemoveAll(filepath.Join(parent, name)))
			}
		}
		if st, err := os.Lstat(www); err != nil || !st.IsDir() {
			_ = os.Remove(www)
			if os.Rename(filepath.Join(parent, "moved"), www) != nil {
				require.NoError(t, os.CopyFS(www, os.DirFS(source)))
			}
		}
		require.NoError(t, os.RemoveAll(filepath.Join(parent, "moved")))
		require.NoError(t, os.RemoveAll(uploads))
		require.NoError(t, os.MkdirAll(uploads, 0o777))
		open()
	}
	t.Log(counts)
	assert.NotZero(t, counts["pack done"]+counts["restore done"], "some get through")
}

// noCopies looks for what is root's in everything that others may read.
func noCopies(t *testing.T, base, secret, what string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(base, func(path string, d fs.DirEntry, err error) error {
		if path == secret {
			return filepath.SkipDir
		}
		if err != nil || !d.Type().IsRegular() {
			return nil
		}
		content, err := os.ReadFile(path)
		if err == nil && strings.HasSuffix(path, ".zst") {
			content, err = exec.Command("zstd", "-dcq", path).Output()
			if err != nil {
				return nil // of a run that was refused
			}
		}
		assert.False(t, bytes.Contains(content, []byte(what[:20])), "%s holds it", path)
		return err
	}))
}
