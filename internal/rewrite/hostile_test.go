package rewrite

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestHostileValues: a large value of anything repeated takes time linear in its
// size. Twice the size may take a little more than twice the time; a quadratic
// algorithm would take hours here.
func TestHostileValues(t *testing.T) {
	opts := Options{Mappings: []Mapping{{addr(t, "http://old.example"), addr(t, "https://new.example")}},
		Roots: []RootMapping{{"/srv/www/old", "/srv/www/new"}}, Texts: []TextMapping{{"some", "other"}}, Repair: true}
	rw, err := New(opts)
	assert.NoError(t, err)
	units := []string{"[", "{", `"`, `\`, `\"`, "'", "%", "%25", "%2F", "/", "//", `\/`, ":", ".", "a:1:{", "a:1:{i:0;", `s:1:"`, `";`, `s:9:"a";`, "A", "aHR0cDov", "=", "&#47;", `\u002f`,
		"old.example", "//old.example", "http://old.example", "http:\\/\\/old.example", "@old.example", "www.", "old.example.", "/srv/www/old", "/www", "some", "O:1:\"", "C:1:\"a\":1:{", `{"a":`, `["s:1:\"`, "b2xkLmV4YW1wbGU", "é", "\x00"}
	for _, unit := range units {
		for _, around := range [][2]string{{"", ""}, {`a:1:{i:0;s:5:"`, `http://old.example";}`}, {`{"a":"`, `http://old.example"}`}, {"", "//old.example"}, {"a%3A1%3A", "old.example"}, {`a:1:{s:1:\"`, `old.example\";}`}} {
			v := around[0] + strings.Repeat(unit, (1<<20)/len(unit)) + around[1]
			done := make(chan struct{})
			go func() {
				defer close(done)
				var tally Tally
				rw.Value([]byte(v), &tally)
			}()
			select {
			case <-done:
			case <-time.After(20 * time.Second):
				t.Fatalf("a megabyte of %q after %q takes too long", unit, around[0])
			}
		}
	}
}

// TestHugeHostileValues: fifty megabytes of brackets, quotes or backslashes around
// an address are a matter of seconds, whether the value can be read or not.
func TestHugeHostileValues(t *testing.T) {
	rw, err := New(Options{Mappings: []Mapping{{addr(t, "http://old.example"), addr(t, "https://new.example")}}, Repair: true})
	assert.NoError(t, err)
	const size = 50_000_000
	for _, unit := range []string{"a:1:{i:0;", "[", `"`, `\`, `s:20:"`} {
		before := strings.Repeat(unit, size/len(unit))
		var tally Tally
		out, changed := rw.Value([]byte(before+"http://old.example/x"), &tally)
		if unit[0] == 'a' {
			assert.EqualValues(t, 1, tally.Leftovers[Broken], unit)
			continue
		}
		assert.True(t, changed && string(out) == before+"https://new.example/x", unit)
	}
}
