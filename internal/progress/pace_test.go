package progress

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestPace plays runs and compares what they said at each step after a tenth with what then
// came, within a third.
func TestPace(t *testing.T) {
	type part struct {
		mb    int64   // content
		ratio float64 // as it turns out
		speed float64 // MB/s of its content where nothing else is slower
	}
	for name, c := range map[string]struct {
		parts  []part
		prior  []float64
		pipe   float64 // MB/s
		before float64 // how far what was expected of the sizes was off
	}{
		"photographs on a slow pipe":             {[]part{{100, 0.2, 50}, {900, 0.98, 500}}, []float64{0.25, 1}, 5, 1},
		"text that is hardly text":               {[]part{{400, 0.5, 50}, {300, 0.9, 500}}, []float64{0.25, 0.8}, 5, 1},
		"a database of which statistics are off": {[]part{{500, 0.2, 50}, {900, 0.98, 500}}, []float64{0.25, 1}, 5, 0.8},
		"a disk that is faster than all":         {[]part{{900, 0.2, 50}, {900, 0.98, 150}}, []float64{0.25, 1}, 2000, 1},
	} {
		clock := time.Unix(1e9, 0)
		p := NewPace(c.prior...)
		p.now = func() time.Time { return clock }
		p.begun, p.last = clock, clock
		truth := 0.0
		for i, part := range c.parts {
			expected := float64(part.mb<<20) * map[bool]float64{true: c.before, false: 1}[i == 0]
			p.Expect(i, int64(expected))
			truth += max(float64(part.mb)/part.speed, float64(part.mb)*part.ratio/c.pipe)
		}
		at, last := 0.0, time.Duration(0)
		for i, part := range c.parts {
			for range part.mb {
				work, write := 1/part.speed, part.ratio/c.pipe
				step := max(work, write)
				clock = clock.Add(time.Duration(step * float64(time.Second)))
				at += step
				p.Written(int64(part.ratio*(1<<20)), time.Duration(write*float64(time.Second)))
				p.Moved(i, 1<<20, int64(part.ratio*(1<<20)))
				var done, total int64
				done, total, last = p.Left()
				assert.LessOrEqual(t, done, total, name)
				if at > truth/10 && at < 0.95*truth {
					assert.InEpsilon(t, truth-at, last.Seconds(), 1.0/3, "%s, after %.0f %%", name, 100*at/truth)
				}
			}
		}
		assert.Less(t, last, time.Second, "%s: nothing is left", name)
	}
}
