package serialized_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/rewrite/serialized"
	"hovix/internal/testenv"
)

// shout replaces "old" by "longer" in every string.
func shout(s []byte) ([]byte, bool) {
	out := bytes.ReplaceAll(s, []byte("old"), []byte("longer"))
	return out, !bytes.Equal(out, s)
}

func TestRewrite(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"string":            {`s:3:"old";`, `s:6:"longer";`},
		"nothing to change": {`s:3:"new";`, ``},
		"array": {
			`a:2:{i:0;s:3:"old";s:1:"k";s:5:"x old";}`,
			`a:2:{i:0;s:6:"longer";s:1:"k";s:8:"x longer";}`,
		},
		"array key": {
			`a:1:{s:3:"old";i:1;}`,
			`a:1:{s:6:"longer";i:1;}`,
		},
		"nested arrays": {
			`a:1:{s:1:"a";a:1:{s:1:"b";a:1:{i:5;s:3:"old";}}}`,
			`a:1:{s:1:"a";a:1:{s:1:"b";a:1:{i:5;s:6:"longer";}}}`,
		},
		"object keeps class and property names": {
			`O:6:"oldone":2:{s:3:"old";s:3:"old";s:1:"n";N;}`,
			`O:6:"oldone":2:{s:3:"old";s:6:"longer";s:1:"n";N;}`,
		},
		"private and protected properties": {
			"O:1:\"C\":2:{s:6:\"\x00C\x00old\";s:3:\"old\";s:6:\"\x00*\x00old\";s:3:\"old\";}",
			"O:1:\"C\":2:{s:6:\"\x00C\x00old\";s:6:\"longer\";s:6:\"\x00*\x00old\";s:6:\"longer\";}",
		},
		"all scalars": {
			`a:8:{i:0;b:1;i:1;b:0;i:2;i:-7;i:3;d:0.1;i:4;d:1.0E+25;i:5;d:-INF;i:6;d:NAN;i:7;s:3:"old";}`,
			`a:8:{i:0;b:1;i:1;b:0;i:2;i:-7;i:3;d:0.1;i:4;d:1.0E+25;i:5;d:-INF;i:6;d:NAN;i:7;s:6:"longer";}`,
		},
		"references": {
			`a:3:{i:0;s:3:"old";i:1;R:2;i:2;r:1;}`,
			`a:3:{i:0;s:6:"longer";i:1;R:2;i:2;r:1;}`,
		},
		"enum case is no text": {
			`a:2:{i:0;E:11:"Suit:oldies";i:1;s:3:"old";}`,
			`a:2:{i:0;E:11:"Suit:oldies";i:1;s:6:"longer";}`,
		},
		"custom object with a serialized payload": {
			`C:1:"X":18:{a:1:{i:0;s:1:"o";}}`,
			``,
		},
		"escaped string": {
			`S:4:"\6fld!";`,
			`S:7:"longer!";`,
		},
		"lengths count bytes": {
			`s:7:"ü old ";`,
			`s:10:"ü longer ";`,
		},
		"quotes and semicolons inside": {
			`a:1:{i:0;s:14:"";s:3:"old";}x";}`,
			`a:1:{i:0;s:17:"";s:3:"longer";}x";}`,
		},
		"white space after the value": {
			"s:3:\"old\";\n",
			"s:6:\"longer\";\n",
		},
	} {
		t.Run(name, func(t *testing.T) {
			out, changed, err := serialized.Rewrite([]byte("prefix"), []byte(c.in), serialized.VisitorFunc(shout))
			require.NoError(t, err)
			assert.Equal(t, c.want != "", changed)
			assert.Equal(t, "prefix"+c.want, string(out))
		})
	}
}

// TestCustomPayload gives the whole payload to the function, which may rewrite
// it as a value of its own; the outer length follows.
func TestCustomPayload(t *testing.T) {
	in := `a:1:{i:0;C:1:"X":10:{s:3:"old";}}`
	out, changed, err := serialized.Rewrite(nil, []byte(in), serialized.VisitorFunc(func(s []byte) ([]byte, bool) {
		out, changed, err := serialized.Rewrite(nil, s, serialized.VisitorFunc(shout))
		require.NoError(t, err)
		return out, changed
	}))
	require.NoError(t, err)
	require.True(t, changed)
	assert.Equal(t, `a:1:{i:0;C:1:"X":13:{s:6:"longer";}}`, string(out))
}

func TestWhatIsBroken(t *testing.T) {
	for in, where := range map[string]int{
		``:                          0,
		`s:4:"old";`:                5,  // too long: no quote where the length says
		`s:2:"old";`:                5,  // too short
		`s:99:"old";`:               6,  // over the end
		`a:2:{i:0;i:1;}`:            13, // a member is missing
		`a:1:{i:0;i:1;`:             13, // no end
		`a:1:{N;i:1;}`:              5,  // a key that cannot be one
		`a:1:{i:0;x:1;}`:            9,  // an unknown kind
		`i:12`:                      4,
		`i:;`:                       2,
		`i:1x;`:                     3,
		`i:99999999999999999999;`:   2,
		`b:2;`:                      2,
		`s:3:"old"`:                 9,
		`s:3:"old";s:3:"old";`:      10, // two values
		`a:9999999999999999999:{}`:  14,
		`O:1:"C":1:{i:1;i:1;}`:      -1, // numbers as property names are valid
		`O:1:"C"x1:{}`:              8,
		`C:1:"C":5:{ab}`:            11,
		`S:1:"\zz";`:                6,
		strings.Repeat("a:1:{", 50): -2, // an unfinished nest, wherever it is noticed
	} {
		err := serialized.Valid([]byte(in))
		if where == -1 {
			assert.NoError(t, err, in)
			continue
		}
		var syntax *serialized.SyntaxError
		if assert.True(t, errors.As(err, &syntax), "%q gives %v", in, err) && where >= 0 {
			assert.Equal(t, where, syntax.Offset, "%q: %v", in, err)
		}
	}
}

func TestLooks(t *testing.T) {
	for in, want := range map[string]bool{
		`a:1:{i:0;N;}`: true, `s:0:"";`: true, `O:1:"C":0:{}`: true,
		`N;`: false, `b:1;`: false, `i:5;`: false, // they hold no text
		`a: an aside`: false, `http://x`: false, ``: false, `s:x`: false,
	} {
		assert.Equal(t, want, serialized.Looks([]byte(in)), in)
	}
}

// TestDeepNesting shows that depth costs memory, not stack.
func TestDeepNesting(t *testing.T) {
	const depth = 200_000
	in := strings.Repeat(`a:1:{i:0;`, depth) + `s:3:"old";` + strings.Repeat("}", depth)
	out, changed, err := serialized.Rewrite(nil, []byte(in), serialized.VisitorFunc(shout))
	require.NoError(t, err)
	require.True(t, changed)
	assert.Equal(t, len(in)+3, len(out))
}

func TestUnchangedCostsNoAllocation(t *testing.T) {
	in := []byte(`a:2:{s:4:"name";s:5:"value";s:1:"n";a:1:{i:0;d:0.5;}}`)
	n := testing.AllocsPerRun(200, func() {
		_, changed, err := serialized.Rewrite(nil, in, serialized.VisitorFunc(shoutNothing))
		if changed || err != nil {
			t.Fatal("changed")
		}
	})
	assert.LessOrEqual(t, n, 4.0, "only the stack of open arrays and number texts")
}

func shoutNothing(s []byte) ([]byte, bool) { return s, false }

// oracleProgram makes random nested values in PHP, with objects of three kinds
// of visibility, references, floats and multi-byte text. For each it gives the
// serialized value, and the serialized value in which PHP itself has replaced
// "old" in all strings.
const oracleProgram = `
class Boat { public $a; protected $b; private $c; public ?Boat $next = null;
  function __construct($a, $b, $c) { $this->a = $a; $this->b = $b; $this->c = $c; }
  function map($f) { $this->a = $f($this->a); $this->b = $f($this->b); $this->c = $f($this->c); if ($this->next) $this->next->map($f); return $this; } }
mt_srand(7);
function text() { $w = ['old', 'the old pier', 'Grüße', "qu\"ote", "se;mi", "nul\0byte", '🚢 old 🚢', '', 'a:1:{i:0;s:3:"old";}', "line\nbreak", 'bold']; return $w[mt_rand(0, count($w) - 1)]; }
function make($depth) {
  switch (mt_rand(0, $depth > 4 ? 6 : 9)) {
    case 0: return null; case 1: return (bool) mt_rand(0, 1); case 2: return mt_rand(-1000000, 1000000); case 3: return mt_rand() / 7; case 4: case 5: case 6: return text();
    case 9: return new Boat(make($depth + 1), text(), make($depth + 1));
    default: $a = []; $n = mt_rand(0, 5); for ($i = 0; $i < $n; $i++) { if (mt_rand(0, 1)) $a[] = make($depth + 1); else $a['k' . mt_rand(0, 99) . 'ü'] = make($depth + 1); } return $a; } }
function walk($v) { if (is_string($v)) return str_replace('old', 'longer', $v); if (is_array($v)) { foreach ($v as $k => $x) $v[$k] = walk($x); return $v; } if ($v instanceof Boat) return $v->map('walk'); return $v; }
$out = [];
for ($i = 0; $i < 4000; $i++) { $v = make(0); $before = serialize($v); $after = serialize(walk(unserialize($before))); $out[] = [base64_encode($before), base64_encode($after)]; }
echo json_encode($out);`

// TestAgainstPHP is the oracle: for random values, the package gives exactly
// what PHP gives that unserializes, replaces in the leaves, and serializes.
func TestAgainstPHP(t *testing.T) {
	var cases [][2]string
	require.NoError(t, json.Unmarshal(testenv.PHP(t, oracleProgram, nil), &cases))
	require.Len(t, cases, 4000)
	changedSome := 0
	for _, c := range cases {
		before, err := base64.StdEncoding.DecodeString(c[0])
		require.NoError(t, err)
		after, err := base64.StdEncoding.DecodeString(c[1])
		require.NoError(t, err)
		out, changed, err := serialized.Rewrite(nil, before, serialized.VisitorFunc(shout))
		require.NoError(t, err, "%q", before)
		if !changed {
			out = before
		} else {
			changedSome++
		}
		require.Equal(t, string(after), string(out))
	}
	assert.Greater(t, changedSome, 1000, "the oracle tried real changes")
}

func FuzzRewrite(f *testing.F) {
	for _, s := range []string{`a:1:{s:3:"old";i:1;}`, `O:1:"C":1:{s:4:"` + "\x00*\x00" + `a";s:3:"old";}`, `S:4:"\6fld!";`, `C:1:"X":10:{s:3:"old";}`, `E:3:"A:B";`, `d:NAN;`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		keep := bytes.Clone(in)
		out, changed, err := serialized.Rewrite(nil, in, serialized.VisitorFunc(shout))
		require.Equal(t, keep, in, "the input is never written to")
		if err != nil || !changed {
			require.Empty(t, out)
			return
		}
		require.NoError(t, serialized.Valid(out), "%q became %q", in, out)
	})
}

func BenchmarkRewrite(b *testing.B) {
	v := []byte(`a:3:{s:4:"file";s:52:"http://blog.old-harbour.example/uploads/000017.jpg##";s:5:"width";i:800;s:5:"sizes";a:1:{s:5:"thumb";a:1:{s:4:"mime";s:10:"image/jpeg";}}}`)
	dst := make([]byte, 0, 2*len(v))
	b.SetBytes(int64(len(v)))
	b.ReportAllocs()
	for b.Loop() {
		if _, _, err := serialized.Rewrite(dst[:0], v, serialized.VisitorFunc(shoutNothing)); err != nil {
			b.Fatal(err)
		}
	}
}
