package phpconf

import (
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
		{"a method of the same name", `<?php $o->define('A', 'x');`, "A", "x", true}, // harmless: nobody writes it
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

func FuzzParse(f *testing.F) {
	for _, s := range []string{"<?php define('A', 'x');", "<?php $a = <<<X\nX;", "<?php /* */ ?> <?php # x\n", "<?php \"\\\"", "<?php define('A'"} {
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
