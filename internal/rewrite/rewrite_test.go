package rewrite

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

func addr(t testing.TB, s string) Address {
	t.Helper()
	a, err := ParseAddress(s)
	require.NoError(t, err)
	return a
}

// rewriter makes one for mappings given as "old new".
func rewriter(t testing.TB, maps ...string) *Rewriter {
	t.Helper()
	var opts Options
	for _, m := range maps {
		old, to, _ := strings.Cut(m, " ")
		if strings.HasPrefix(old, "/") {
			opts.Roots = append(opts.Roots, RootMapping{old, to})
			continue
		}
		opts.Mappings = append(opts.Mappings, Mapping{addr(t, old), addr(t, to)})
	}
	rw, err := New(opts)
	require.NoError(t, err)
	return rw
}

// plainMove is the mapping that most cases use.
const plainMove = "http://old.example https://new.example"

func TestCountsAndReasons(t *testing.T) {
	rw := rewriter(t, plainMove)
	for in, want := range map[string]struct {
		form   Form
		reason Reason
		left   bool
	}{
		`http://old.example/`:         {form: FormPlain},
		`http:\/\/old.example\/`:      {form: FormJSON},
		`http%3A%2F%2Fold.example`:    {form: FormPercent},
		`&#47;&#47;old.example`:       {form: FormEntity},
		`s:19:"http://old.example/";`: {form: FormSerialized},
		`me@old.example`:              {reason: Email, left: true},
		`old.example in prose`:        {reason: BareHost, left: true},
		`www.old.example in prose`:    {reason: BareHost, left: true},
		`http://old.example.org`:      {reason: LookAlike, left: true},
		`http://old.example:81/`:      {reason: OtherPort, left: true},
		`ftp://old.example/`:          {reason: OtherScheme, left: true},
		`s:9:"http://old.example/";`:  {reason: Broken, left: true},
	} {
		var tally Tally
		var seen []Leftover
		tally.OnLeftover = func(l Leftover) { seen = append(seen, l) }
		rw.Value([]byte(in), &tally)
		assert.EqualValues(t, 1, tally.Values, in)
		if want.left {
			assert.EqualValues(t, 1, tally.Leftovers[want.reason], "%s: %v", in, tally.Leftovers)
			assert.Zero(t, tally.Occurrences(), in)
			require.Len(t, seen, 1, in)
			assert.Contains(t, seen[0].Excerpt, "old.example", in)
			continue
		}
		assert.EqualValues(t, 1, tally.Forms[want.form], "%s: %v", in, tally.Forms)
		assert.EqualValues(t, 1, tally.Changed, in)
		assert.Empty(t, seen, in)
	}
	var sum, one Tally
	rw.Value([]byte("http://old.example/ me@old.example"), &one)
	sum.Add(&one)
	sum.Add(&one)
	assert.EqualValues(t, 2, sum.Occurrences())
	assert.EqualValues(t, 2, sum.Leftovers[Email])
	assert.Zero(t, sum.Findings(), "an e-mail address is as it should be")
}

func TestKeptIdentifiers(t *testing.T) {
	rw := rewriter(t, plainMove)
	var tally Tally
	rw.Keep([]byte("http://old.example/?p=1"), &tally)
	rw.Keep([]byte("urn:uuid:1"), &tally)
	assert.EqualValues(t, 1, tally.Leftovers[Kept])
	assert.Zero(t, tally.Findings())
}

func TestBareHostsOnRequest(t *testing.T) {
	rw, err := New(Options{Mappings: []Mapping{{addr(t, "http://old.example"), addr(t, "https://new.example/x")}}, BareHosts: true})
	require.NoError(t, err)
	var tally Tally
	out, _ := rw.Value([]byte("at www.old.example, me@old.example, old.example.org"), &tally)
	assert.Equal(t, "at new.example/x, me@old.example, old.example.org", string(out))
}

func TestContradictionsAreRefused(t *testing.T) {
	_, err := New(Options{Mappings: []Mapping{{addr(t, "http://a.example"), addr(t, "http://b.example")}, {addr(t, "http://a.example"), addr(t, "http://c.example")}}})
	require.ErrorContains(t, err, "mapped to both")
	_, err = New(Options{Mappings: []Mapping{{Old: addr(t, "http://a.example")}}})
	require.Error(t, err)
	_, err = New(Options{Roots: []RootMapping{{"relative/path", "/x/y"}}})
	require.ErrorContains(t, err, "absolute")
}

func TestParseAddress(t *testing.T) {
	for in, want := range map[string]string{
		"http://old.example":          "http://old.example",
		"HTTPS://Old.Example/":        "https://old.example",
		"http://old.example:80/blog/": "http://old.example/blog",
		"https://old.example:8443":    "https://old.example:8443",
		" http://old.example/a/b/ ":   "http://old.example/a/b",
		"http://[::1]:8080":           "http://[::1]:8080",
	} {
		a, err := ParseAddress(in)
		require.NoError(t, err, in)
		assert.Equal(t, want, a.String(), in)
	}
	for in, why := range map[string]string{
		"":                         "empty",
		"old.example":              "has no scheme; write http://old.example",
		"ftp://old.example":        `the scheme "ftp"`,
		"http://":                  "no host",
		"http://u:p@old.example":   "user name",
		"http://old.example/?a=b":  "goes on after the path",
		"http://old.example:99999": "port",
		"http://old example":       "cannot be read",
	} {
		_, err := ParseAddress(in)
		require.ErrorContains(t, err, why, in)
		assert.NotContains(t, err.Error(), "u:p", "no password in a message")
	}
}

// TestThereAndBack: when the new address did not occur before, the way back
// restores every byte.
func TestThereAndBack(t *testing.T) {
	there, back := rewriter(t, "http://old.example http://new.example"), rewriter(t, "http://new.example http://old.example")
	rnd := rand.New(rand.NewPCG(5, 6))
	pieces := []string{"http://old.example", "/a", " ", `\/`, `{"u":"http:\/\/old.example"}`, "http%3A%2F%2Fold.example", "me@old.example", "old.example", "ü", `"`, "\n", "//old.example", ".", "x", "old.example.org"}
	for range 3000 {
		var b strings.Builder
		for range 1 + rnd.IntN(12) {
			b.WriteString(pieces[rnd.IntN(len(pieces))])
		}
		in := b.String()
		if rnd.IntN(3) == 0 {
			in = fmt.Sprintf(`a:1:{i:0;s:%d:"%s";}`, len(in), in)
		}
		var tally Tally
		mid, _ := there.Value([]byte(in), &tally)
		again, changed := there.Value(mid, &tally)
		require.False(t, changed, "twice is once: %q, %q, %q", in, mid, again)
		out, _ := back.Value(mid, &tally)
		require.Equal(t, in, string(out))
	}
}

func TestNoMatchCostsNothing(t *testing.T) {
	rw := rewriter(t, plainMove, "/srv/www/old /srv/www/new")
	in := []byte(strings.Repeat("Ferries leave at ten. See http://other.example/a or v1.2.3. ", 50))
	var tally Tally
	n := testing.AllocsPerRun(100, func() {
		out, changed := rw.Value(in, &tally)
		if changed || &out[0] != &in[0] {
			t.Fatal("changed")
		}
	})
	assert.Zero(t, n)
	empty := rewriter(t)
	assert.Zero(t, testing.AllocsPerRun(100, func() { empty.Value(in, &tally) }), "no mapping")
	assert.Zero(t, tally.Values)
}

func TestNestingHasALimit(t *testing.T) {
	rw := rewriter(t, plainMove)
	v := "http://old.example/"
	for range 60 {
		v = fmt.Sprintf(`s:%d:"%s";`, len(v), v)
	}
	var tally Tally
	_, changed := rw.Value([]byte(v), &tally)
	assert.False(t, changed)
	assert.EqualValues(t, 1, tally.Leftovers[TooDeep])
}

// nestedOracle makes values as extensions store them: arrays, objects with
// private and protected properties, references, floats, text of several bytes a
// letter, JSON and base64, one in another; and what PHP makes of them when it
// builds the same with the new address at the leaves.
const nestedOracle = `
class Box { public $a; protected $b; private $c; function __construct($a, $b, $c) { $this->a = $a; $this->b = $b; $this->c = $c; } }
function leaf($a) { $t = ["$a/page", "see $a/x and <a href=\"$a/y\">ü</a>", 'plain Grüße', "?u=" . rawurlencode("$a/z"), '', "//" . substr($a, strpos($a, '//') + 2) . "/q", "日本 $a/🚢", "x\0y $a", str_replace('/', '\\/', "$a/esc")]; return $t[mt_rand(0, count($t) - 1)]; }
function make($a, $d) {
  switch (mt_rand(0, $d > 3 ? 3 : 9)) {
    case 0: case 1: return leaf($a);
    case 2: return [0.1, -1.5e300, 7, PHP_INT_MIN, true, null][mt_rand(0, 5)];
    case 3: return $GLOBALS['escape'] ? leaf($a) : base64_encode("see " . str_replace("\0", '', leaf($a)));
    case 4: return serialize(make($a, $d + 1));
    case 5: return js(['v' => text(make($a, $d + 1)), 'n' => 1], mt_rand(0, 1) ? JSON_UNESCAPED_UNICODE : 0);
    case 6: return new Box(make($a, $d + 1), make($a, $d + 1), make($a, $d + 1));
    case 7: $r = ['x' => make($a, $d + 1)]; $r['ref'] = &$r['x']; return $r;
    default: $r = []; $n = mt_rand(1, 4); for ($i = 0; $i < $n; $i++) $r["k$i"] = make($a, $d + 1); return $r; } }
// JSON holds no private properties and no bytes: text of them does. Base64 may
// have its first slash only afterwards, so that nothing says how JSON writes it:
// documents have either base64 or escaped slashes.
function text($v) { return !is_array($v) && !is_object($v) && !(is_string($v) && str_contains($v, "\0")) ? $v : ($GLOBALS['escape'] ? 'none' : base64_encode(serialize($v))); }
function js($v, $f = 0) { return json_encode($v, $f | ($GLOBALS['escape'] ? 0 : JSON_UNESCAPED_SLASHES)); }
for ($i = 0; $i < 20000; $i++) {
  $escape = $i % 8 < 4; mt_srand($i); $x = make('http://old.example', 0); mt_srand($i); $y = make('https://new.example', 0);
  $form = $i % 4; $f = fn($v) => $form < 2 ? serialize($v) : ($form == 2 ? js(text($v)) : serialize([js(text($v))]));
  echo base64_encode($f($x)), " ", base64_encode($f($y)), "\n"; }`

// readBack has PHP read every value and tell what it is.
const readBack = `
class Box { public $a; protected $b; private $c; }
$n = 0; while (($l = fgets(STDIN)) !== false) { $v = base64_decode(trim($l)); if (@unserialize($v) === false && $v !== 'b:0;') { echo "broken: $v\n"; exit; } $n++; }
echo $n;`

func TestNestedAgainstPHP(t *testing.T) {
	rw := rewriter(t, plainMove)
	var rewritten bytes.Buffer
	cases, serializedOnes := 0, 0
	for line := range strings.Lines(string(testenv.PHP(t, nestedOracle, nil))) {
		old, want, _ := strings.Cut(strings.TrimSpace(line), " ")
		in, err := base64.StdEncoding.DecodeString(old)
		require.NoError(t, err)
		expected, err := base64.StdEncoding.DecodeString(want)
		require.NoError(t, err)
		var tally Tally
		out, _ := rw.Value(in, &tally)
		require.Equal(t, string(expected), string(out), "case %d: %s", cases, in)
		require.Zero(t, tally.Findings(), "case %d: %s", cases, in)
		if cases%4 != 2 {
			serializedOnes++
			rewritten.WriteString(base64.StdEncoding.EncodeToString(out) + "\n")
		}
		cases++
	}
	assert.Equal(t, 20_000, cases)
	assert.Equal(t, fmt.Sprint(serializedOnes), string(testenv.PHP(t, readBack, rewritten.Bytes())))
}

func FuzzValue(f *testing.F) {
	for _, s := range []string{`http://old.example/a`, `a:1:{i:0;s:20:"http://old.example/a";}`, `{"v":"s:20:\"http:\/\/old.example\/a\";"}`, `http%3A%2F%2Fold.example`, `me@old.example`, `{"a`, `"\u00`, `/srv/www/old/x`} {
		f.Add([]byte(s))
	}
	rw := rewriter(f, plainMove, "/srv/www/old /srv/www/new")
	f.Fuzz(func(t *testing.T, in []byte) {
		keep := bytes.Clone(in)
		var tally Tally
		out, changed := rw.Value(in, &tally)
		require.Equal(t, keep, in)
		require.Equal(t, changed, !bytes.Equal(in, out), "%q became %q", in, out)
		if again, more := rw.Value(out, &tally); more {
			t.Fatalf("twice is not once: %q, %q, %q", in, out, again)
		}
	})
}

func benchmarkValue(b *testing.B, v string) {
	rw := rewriter(b, plainMove)
	in := []byte(v)
	var tally Tally
	b.SetBytes(int64(len(in)))
	b.ReportAllocs()
	for b.Loop() {
		rw.Value(in, &tally)
	}
}

func BenchmarkNoMatch(b *testing.B) {
	benchmarkValue(b, strings.Repeat("<p>The ferry leaves at ten and comes back with the tide. Whoever waits may ring.</p>\n", 400))
}

func BenchmarkPlain(b *testing.B) {
	benchmarkValue(b, strings.Repeat("<p>The ferry leaves at ten.</p>", 50)+`<a href="http://old.example/a">x</a>`)
}

func BenchmarkSerialized(b *testing.B) {
	benchmarkValue(b, `a:3:{s:4:"file";s:26:"http://old.example/a/b.jpg";s:5:"width";i:800;s:5:"sizes";a:1:{s:5:"thumb";a:1:{s:4:"mime";s:10:"image/jpeg";}}}`)
}

// BenchmarkMetadata rewrites what a content system stores of a picture, on all
// cores. testdata/serialized.php does the same in PHP.
func BenchmarkMetadata(b *testing.B) {
	in, err := os.ReadFile("testdata/metadata.txt")
	require.NoError(b, err)
	rw := rewriter(b, plainMove)
	b.SetBytes(int64(len(in)))
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) {
		var tally Tally
		var buf []byte
		for pb.Next() {
			out, changed := rw.ValueIn(buf, in, &tally)
			if !changed {
				b.Error("nothing changed")
			}
			buf = out
		}
	})
}

// TestIdleHostsChangeNothing: whether new hosts are searched or not, where they
// hold no old one, every value becomes the same, with the same counts.
func TestIdleHostsChangeNothing(t *testing.T) {
	moves := [][]string{{plainMove}, {"http://a.example/blog https://b.example/old", "https://c.example http://d.example:81"},
		{"http://old.example https://old.example/sub"}, {"http://old.example https://new.old.example"}, {"http://a.example https://b.example/a.example"}}
	pieces := []string{"http://", "https:\\/\\/", "//", "https%3A%2F%2F", "old.example", "new.example", "a.example", "b.example", "c.example", "d.example:81", "new.old.example", "www.",
		"/blog", "/old", "/sub", "@", " ", ".", "\"", "s:5:\"", "x", "a:1:{i:0;"}
	r := rand.New(rand.NewPCG(3, 4))
	for _, move := range moves {
		lean := rewriter(t, move...)
		full := rewriter(t, move...)
		for _, m := range move {
			_, to, _ := strings.Cut(m, " ")
			full.add(target{addr: addr(t, to), keep: true})
		}
		for range 20_000 {
			var v strings.Builder
			for range r.IntN(10) {
				v.WriteString(pieces[r.IntN(len(pieces))])
			}
			var a, b Tally
			out, changed := lean.Value([]byte(v.String()), &a)
			want, wantChanged := full.Value([]byte(v.String()), &b)
			require.Equal(t, string(want), string(out), "%v in %q", move, v.String())
			require.Equal(t, wantChanged, changed)
			require.Equal(t, b, a, "%v in %q", move, v.String())
		}
	}
}
