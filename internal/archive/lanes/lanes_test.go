package lanes

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestSum compares the lanes with the standard library, for every length
// around the padding's edges and for mixtures of lengths.
func TestSum(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	check := func(name string, sizes []int) {
		messages, want := make([]Message, len(sizes)), make([][32]byte, len(sizes))
		got := make([][32]byte, len(sizes))
		for i, n := range sizes {
			b := make([]byte, n)
			for j := range b {
				b[j] = byte(r.Uint32())
			}
			messages[i], want[i] = Message{b, &got[i]}, sha256.Sum256(b)
		}
		if usable() {
			together(slices.Clone(messages))
			assert.Equal(t, want, got, name)
			clear(got)
		}
		Sum(messages)
		assert.Equal(t, want, got, name)
	}
	var edges []int
	for n := range 200 {
		edges = append(edges, n)
	}
	check("edges", edges)
	check("none", nil)
	check("one", []int{1000})
	check("all empty", make([]int, 40))
	for round := range 20 {
		sizes := make([]int, r.IntN(50))
		for i := range sizes {
			sizes[i] = r.IntN(1 << r.IntN(18))
		}
		check(fmt.Sprint(round), sizes)
	}
}

func BenchmarkSum(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 4<<20)
	for i := 0; i < len(data); i += 8 {
		binary.LittleEndian.PutUint64(data[i:], r.Uint64())
	}
	for _, mean := range []int{2 << 10, 130 << 10, 1 << 20} {
		b.Run(fmt.Sprintf("%d KiB each", mean>>10), func(b *testing.B) {
			var messages []Message
			for left := data; len(left) > 0; {
				n := min(mean/2+r.IntN(mean), len(left))
				messages, left = append(messages, Message{left[:n], new([32]byte)}), left[n:]
			}
			b.SetBytes(int64(len(data)))
			b.ReportAllocs()
			for b.Loop() {
				Sum(messages)
			}
		})
	}
}
