package phpconf

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

func TestReading(t *testing.T) {
	for _, c := range []struct {
		why, src   string
		name, want string
		known      bool
	}{
		{"single quotes", `<?php define('A', 'x');`, "A", "x", true},
		{"double quotes", `<?php define("A", "x");`, "A", "x", true},
		{"spaces and case", "<?php\nDEFINE ( 'A' ,\n 'x' ) ;", "A", "x", true},
		{"escapes", `<?php define('A', 'it\'s \\ \n');`, "A", `it's \ \n`, true},
		{"escapes in double quotes", `<?php define("A", "a\tb\"\$c");`, "A", "a\tb\"$c", true},
		{"joined", `<?php define('A', 'x' . "y" . 'z');`, "A", "xyz", true},
		{"true", `<?php define('A', true);`, "A", "true", true},
		{"number", `<?php define('A', 3306);`, "A", "3306", true},
		{"const", `<?php const A = 'x';`, "A", "x", true},
		{"the first counts", `<?php define('A', 'x'); define('A', 'y');`, "A", "x", true},
		{"in a guard", `<?php if (!defined('A')) { define('A', 'x'); }`, "A", "x", true},
		{"line comment", "<?php // define('A', 'no');\n# define('A', 'no');\ndefine('A', 'x');", "A", "x", true},
		{"block comment", `<?php /* define('A', 'no'); */ define('A', 'x');`, "A", "x", true},
		{"comment inside", `<?php define('A', /* why */ 'x' /* ! */ ); // 'y'`, "A", "x", true},
		{"inside a string", `<?php $s = "define('A', 'no');"; define('A', 'x');`, "A", "x", true},
		{"inside a heredoc", "<?php $s = <<<EOT\ndefine('A', 'no');\nEOT;\ndefine('A', 'x');", "A", "x", true},
		{"inside a nowdoc that is indented", "<?php $s = <<<'EOT'\n  define('A', 'no');\n  EOT;\ndefine('A', 'x');", "A", "x", true},
		{"outside of PHP", `define('A', 'no'); <?php define('A', 'x'); ?> define('A', 'no')`, "A", "x", true},
		{"after a comment that ends PHP", "<?php // off ?>define('A','no')<?php define('A', 'x');", "A", "x", true},
		{"attribute is no comment", "<?php #[Attr]\ndefine('A', 'x');", "A", "x", true},
		{"computed", `<?php define('A', getenv('X') ?: 'y');`, "A", "", false},
		{"variable in a string", `<?php define('A', "x$y");`, "A", "", false},
		{"partly computed", `<?php define('A', __DIR__ . '/x');`, "A", "", false},
		{"array", `<?php define('A', ['x', 'y']);`, "A", "", false},
		{"not there", `<?php define('B', 'x');`, "A", "", false},
		{"a method of the same name", `<?php $o->define('A', 'x');`, "A", "", false},
	} {
		t.Run(c.why, func(t *testing.T) {
			f, err := Parse([]byte(c.src))
			require.NoError(t, err)
			got, known := f.Const(c.name)
			assert.Equal(t, c.known, known)
			if c.known {
				assert.Equal(t, c.want, got)
			}
			assert.Equal(t, c.src, string(f.Bytes()), "reading changes nothing")
		})
	}
}

func TestVariables(t *testing.T) {
	f, err := Parse([]byte("<?php\n$table_prefix  = 'wp_';\n$x = $y;\n$table_prefix = \"new_\"; $n = 5;"))
	require.NoError(t, err)
	v, ok := f.Var("table_prefix")
	assert.True(t, ok)
	assert.Equal(t, "new_", v, "the last assignment counts")
	_, ok = f.Var("x")
	assert.False(t, ok)
	v, _ = f.Var("n")
	assert.Equal(t, "5", v)
}

func TestBrokenSource(t *testing.T) {
	for src, want := range map[string]string{
		"<?php\n\n$a = 'open":    "line 3: a string has no end",
		"<?php /* open":          "line 1: a comment has no end",
		"<?php\ndefine('A', \"x": "line 2: a string has no end",
	} {
		_, err := Parse([]byte(src))
		assert.EqualError(t, err, want)
	}
}

func TestChangingKeepsEveryOtherByte(t *testing.T) {
	src := "<?php\r\n// note 'A'\r\ndefine( 'A',   \"old\" ) ; // trailing\r\n$p\t=\t'wp_';\r\nreturn;\r\n"
	f, err := Parse([]byte(src))
	require.NoError(t, err)
	require.NoError(t, f.SetConst("A", `it's \new`))
	require.NoError(t, f.SetVar("p", "x_"))
	assert.Equal(t, "<?php\r\n// note 'A'\r\ndefine( 'A',   'it\\'s \\\\new' ) ; // trailing\r\n$p\t=\t'x_';\r\nreturn;\r\n", string(f.Bytes()))
	v, _ := f.Const("A")
	assert.Equal(t, `it's \new`, v)

	require.NoError(t, f.SetConst("B", "y"))
	assert.True(t, strings.HasPrefix(string(f.Bytes()), "<?php\r\ndefine( 'B', 'y' );\n"), string(f.Bytes()))
	v, ok := f.Const("B")
	assert.True(t, ok)
	assert.Equal(t, "y", v)

	g, err := Parse([]byte("<?php return;"))
	require.NoError(t, err)
	require.NoError(t, g.SetVar("p", "z"))
	assert.Equal(t, "<?php\n$p = 'z';\n return;", string(g.Bytes()))
	h, err := Parse([]byte("no php here"))
	require.NoError(t, err)
	assert.ErrorContains(t, h.SetConst("A", "x"), "no opening <?php")
}

func TestComputedCanBeReplaced(t *testing.T) {
	f, err := Parse([]byte(`<?php define('A', getenv('X', ['a', 'b']) ?: "z$q"); define('B', 'x');`))
	require.NoError(t, err)
	assert.True(t, f.Computed("A"))
	require.NoError(t, f.SetConst("A", "plain"))
	assert.Equal(t, `<?php define('A', 'plain'); define('B', 'x');`, string(f.Bytes()))
}

// TestAgainstPHP: PHP itself reads what SetConst wrote, whatever the value.
func TestAgainstPHP(t *testing.T) {
	values := []string{"plain", "it's", `back\slash`, `ends\`, "new\nline", "ü 🚢", `"double" $var {$x}`, "?> <?php", "/* */ // #", "", "<<<EOT"}
	f, err := Parse([]byte("<?php\ndefine('V', 'old');\n"))
	require.NoError(t, err)
	for _, v := range values {
		require.NoError(t, f.SetConst("V", v))
		file := filepath.Join(t.TempDir(), "c.php")
		require.NoError(t, os.WriteFile(file, f.Bytes(), 0o600))
		assert.Equal(t, v, string(testenv.PHP(t, `require $argv[1]; echo V;`, nil, file)))
		back, err := Parse(f.Bytes())
		require.NoError(t, err)
		got, _ := back.Const("V")
		assert.Equal(t, v, got)
	}
}

// TestFollowing: what settings of real systems look like, as PHP itself reads
// them, from files beside each other.
func TestFollowing(t *testing.T) {
	dir := t.TempDir()
	write := func(name, content string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(content), 0o600))
		return p
	}
	write("local.php", "<?php\n$db['host'] = 'local.example';\ndefine('FROM_LOCAL', $db['name'] . '!');\nreturn ['deep' => ['er' => 'value'], 'n' => 5];")
	write("deep/er.php", "<?php define('DEEP', dirname(__DIR__) . '/x');")
	main := write("main.php", `<?php
declare(strict_types=1);
namespace Site;
use Some\Thing as Other;
$db = array('name' => "n\x41\u{e9}\t", 'host' => 'main', 3 => 'three', 'next', 'opt' => ['a' => ['b' => 'c']]);
$db['opt']['a']['d'] = $db['name'] . <<<EOT
    indented {$db['host']} $db[host]
      more \$no
    EOT;
$raw = <<<'X'
raw $x \n
X;
$got = include __DIR__ . '/local.php';
require_once(__DIR__ . '/deep/er.php');
if (file_exists(__DIR__ . '/none.php')): include __DIR__ . '/none.php'; define('NONE', 'a'); elseif (is_file(__DIR__ . '/local.php')): define('NONE', 'b'); else: define('NONE', 'c'); endif;
if (!defined('GUARDED')) define('GUARDED', 'first');
defined('GUARDED') or define('GUARDED', 'second');
defined('LATE') || define('LATE', 'late');
\define('CASED', 'x');
$env = getenv('HOVIX_SET') ?: 'no';
$env2 = getenv('HOVIX_UNSET') ?: 'default';
$env3 = $_ENV['HOVIX_UNSET'] ?? $nothing ?? 'coalesced';
$cast = (int) '42' === 42 ? 'yes' : 'no';
$neg = -5; $t = !false; $nothing2 = null; $nothing2 ??= 'filled';
$joined = 'a' . 1 . "b$neg" . PHP_EOL;
$joined .= 'end';
#[Attr('x')]
function define_things() { define('INSIDE', 'no'); return 'x'; }
class Config { public $host = 'prop'; protected static ?string $typed = 'ty' . 'ped'; const K = 'no'; public function f() { $this->x = 'no'; define('INSIDE', 'no'); } public $last = ['x' => 1]; }
for ($i = 0; $i < 3; $i++) { $loop = 'x'; }
foreach ([1] as $z) : $looped = 1; endforeach;
try { $tried = 'yes'; } catch (\Exception $e) { $tried = 'no'; } finally { $finally = 'f'; }
const ONE = 'one', TWO = ONE . 'two';
switch (1) { case 1: $switched = 'x'; break; }
return;
define('AFTER', 'never');
`)
	expect := map[string]string{"db.name": "nAé\t", "db.host": "local.example", "db.3": "three", "db.4": "next", "db.opt.a.b": "c", "db.opt.a.d": "nAé\tindented main main\n  more $no", "raw": "raw $x \\n", "got.deep.er": "value", "got.n": "5",
		"env": "from the environment", "env2": "default", "env3": "coalesced", "cast": "yes", "neg": "-5", "t": "true", "nothing2": "filled", "joined": "a1b-5\nend", "tried": "yes", "finally": "f"}
	constants := map[string]string{"FROM_LOCAL": "nAé\t!", "DEEP": dir + "/x", "NONE": "b", "GUARDED": "first", "LATE": "late", "CASED": "x", "ONE": "one", "TWO": "onetwo"}
	src, err := os.ReadFile(main)
	require.NoError(t, err)
	f, err := ParseWith(src, Options{Name: main, Read: os.ReadFile, Env: func(n string) (string, bool) { return "from the environment", n == "HOVIX_SET" }})
	require.NoError(t, err)
	t.Setenv("HOVIX_SET", "from the environment")
	program := "chdir('" + dir + "'); include 'main.php';\n"
	for path, want := range expect {
		parts := strings.Split(path, ".")
		got, ok := f.Var(parts[0], parts[1:]...)
		assert.True(t, ok, "%s: %s", path, f.WhyVar(parts[0], parts[1:]...))
		assert.Equal(t, want, got, path)
		program += "$v = $" + parts[0]
		for _, p := range parts[1:] {
			program += "['" + p + "']"
		}
		program += "; echo '" + path + "=', base64_encode(is_bool($v) ? ($v ? 'true' : 'false') : $v), \"\\n\";\n"
	}
	for name, want := range constants {
		got, ok := f.Const(name)
		assert.True(t, ok, "%s: %s", name, f.WhyConst(name))
		assert.Equal(t, want, got, name)
		program += "echo '" + name + "=', base64_encode(defined('Site\\\\" + name + "') ? constant('Site\\\\" + name + "') : " + name + "), \"\\n\";\n"
	}
	for _, line := range strings.Split(strings.TrimSpace(string(testenv.PHP(t, program, nil))), "\n") {
		name, encoded, _ := strings.Cut(line, "=")
		got, err := base64.StdEncoding.DecodeString(encoded)
		require.NoError(t, err)
		want, isVar := expect[name]
		if !isVar {
			want = constants[name]
		}
		assert.Equal(t, want, string(got), "PHP: %s", name)
	}
	for _, none := range []string{"INSIDE", "AFTER", "K"} {
		_, ok := f.Const(none)
		assert.False(t, ok, none)
	}
	host, _ := f.Property("host")
	typed, _ := f.Property("typed")
	assert.Equal(t, []string{"prop", "typed"}, []string{host, typed})
	for _, name := range []string{"loop", "switched", "looped"} {
		_, ok := f.Var(name)
		assert.False(t, ok, name)
		assert.Contains(t, f.WhyVar(name), "condition")
	}
	assert.Equal(t, []string{filepath.Join(dir, "local.php"), filepath.Join(dir, "deep/er.php")}, f.Included())
	assert.Equal(t, []string{"HOVIX_SET", "HOVIX_UNSET"}, f.Environment())
}

// TestWhatIsNotKnown: each value that only PHP could tell is named with what it
// needs.
func TestWhatIsNotKnown(t *testing.T) {
	for src, want := range map[string]string{
		"define('A', secret('x'));": "a call of secret()", "define('A', $_SERVER['HTTP_HOST']);": "only a visit tells", "define('A', getenv('X'));": "the environment variable X", "define('A', OTHER . 'x');": "the constant OTHER",
		"define('A', \"x$y\");": "a text with $y", "define('A', new Thing('x', ['y']));": "an object", "define('A', Vault::get('x'));": "a call that Hovix does not make", "define('A', `id`);": "a command",
		"if (rand() > 5) { define('A', 'x'); } else { define('A', 'y'); }": "a condition", "if ($_SERVER['HTTP_HOST'] == 'x') define('A', 'y');": "a condition", "define('A', require 'x.php');": "the included file x.php", "define('A', 1 + 2);": "a calculation",
		"define('A', fn($x) => $x);": "an object or a function", "define('A', $a);": "which is not set", "define('A', [1, ...$b]);": "an array",
	} {
		f, err := Parse([]byte("<?php " + src + " define('B', 'known');"))
		require.NoError(t, err)
		_, ok := f.Const("A")
		assert.False(t, ok, src)
		if src != "define('A', [1, ...$b]);" || f.WhyConst("A") != "" {
			assert.Contains(t, f.WhyConst("A"), want, src)
		}
		b, _ := f.Const("B")
		assert.Equal(t, "known", b, "what stands behind is read: %s", src)
	}
}

// TestSettingAnywhere: PHP reads what was set, and every other byte is as it was.
func TestSettingAnywhere(t *testing.T) {
	dir := t.TempDir()
	read := func(src, expression string) string {
		p := filepath.Join(dir, "s.php")
		require.NoError(t, os.WriteFile(p, []byte(src), 0o600))
		return string(testenv.PHP(t, `$r = include $argv[1]; echo `+expression+`;`, nil, p))
	}
	for _, c := range []struct {
		src, want, expression string
		set                   func(f *File) error
	}{
		{"<?php\n$db['default'] = array(\n  'host' => 'a', // host\n  'name' => \"b\",\n);\n", "<?php\n$db['default'] = array(\n  'host' => 'it\\'s', // host\n  'name' => \"b\",\n);\n", "$db['default']['host']", func(f *File) error { return f.SetVar("db", "it's", "default", "host") }},
		{"<?php\n$db['x'] = ['host' => 'a'];\n$db['x']['host'] = getenv('NO') ?: 'b' ; // why\n?>\n", "<?php\n$db['x'] = ['host' => 'a'];\n$db['x']['host'] = 'it\\'s' ; // why\n?>\n", "$db['x']['host']", func(f *File) error { return f.SetVar("db", "it's", "x", "host") }},
		{"<?php\n$db['x'] = ['host' => 'a'];\n?>\n", "<?php\n$db['x'] = ['host' => 'a'];\n$db['x']['port'] = 'it\\'s';\n?>\n", "$db['x']['port']", func(f *File) error { return f.SetVar("db", "it's", "x", "port") }},
		{"<?php class C { public $host = 'a'; public $b = 'b'; }", "<?php class C { public $host = 'it\\'s'; public $b = 'b'; }", "(new C)->host", func(f *File) error { return f.SetProperty("host", "it's") }},
		{"<?php return ['a' => ['b' => 1, 'c' => 2]];", "<?php return ['a' => ['b' => 'it\\'s', 'c' => 2]];", "$r['a']['b']", func(f *File) error { return f.SetReturned("it's", "a", "b") }},
		{"<?php if (rand() > -1) { define('A', 'x'); }", "<?php\ndefine( 'A', 'it\\'s' );\n if (rand() > -1) { define('A', 'x'); }", "@A", func(f *File) error { return f.SetConst("A", "it's") }},
		{"<?php if (rand() > -1) { $a = 'x'; }", "<?php if (rand() > -1) { $a = 'x'; }\n$a = 'it\\'s';\n", "$a", func(f *File) error { return f.SetVar("a", "it's") }},
		{"<?php $n = 1;", "<?php\n$o['p'] = 'it\\'s';\n $n = 1;", "$o['p']", func(f *File) error { return f.SetVar("o", "it's", "p") }},
	} {
		f, err := Parse([]byte(c.src))
		require.NoError(t, err)
		require.NoError(t, c.set(f), c.src)
		assert.Equal(t, c.want, string(f.Bytes()))
		if !strings.Contains(c.src, "rand() > -1) { define") { // PHP warns of the second definition
			assert.Equal(t, "it's", read(string(f.Bytes()), c.expression), c.want)
		}
	}
	inner := filepath.Join(dir, "inner.php")
	require.NoError(t, os.WriteFile(inner, []byte("<?php define('IN', 'old'); // kept\n"), 0o600))
	f, err := ParseWith([]byte("<?php include __DIR__ . '/inner.php'; define('OUT', IN);"), Options{Name: filepath.Join(dir, "outer.php"), Read: os.ReadFile})
	require.NoError(t, err)
	require.NoError(t, f.SetConst("IN", "new"))
	out, _ := f.Const("OUT")
	assert.Equal(t, "new", out)
	changed, ok := f.Changed(inner)
	assert.True(t, ok)
	assert.Equal(t, "<?php define('IN', 'new'); // kept\n", string(changed))
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"<?php define('A', 'x');", "<?php $a = <<<X\nX;", "<?php /* */ ?> <?php # x\n", "<?php \"\\\"", "<?php define('A'", "<?php if ($a): define('A', $b['c'] ?? <<<'X'\ny\nX); elseif (1) {} else: endif; class C { public $p = [1 => 'x']; }", "<?php $a['b'] .= (int) \"x{$c['d']}\" . include 'x'; return [1];"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		p, err := Parse(src)
		if err != nil {
			return
		}
		if _, ok := p.Const("A"); ok {
			require.NoError(t, p.SetConst("A", "it's"))
			v, ok := p.Const("A")
			require.True(t, ok)
			require.Equal(t, "it's", v)
		}
	})
}
