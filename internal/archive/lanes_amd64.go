package archive

import (
	"sync"

	"github.com/klauspost/cpuid/v2"
	sha256simd "github.com/minio/sha256-simd"
)

// lanes hashes sixteen messages at a time with AVX-512 where the processor has
// that but no SHA instructions: there the standard library makes 200 MB/s a
// core, and hashing would cost more than everything else. nil elsewhere.
var lanes = sync.OnceValue(func() *sha256simd.Avx512Server {
	if cpuid.CPU.Supports(cpuid.SHA) || !cpuid.CPU.Supports(cpuid.AVX512F, cpuid.AVX512BW, cpuid.AVX512DQ, cpuid.AVX512VL) {
		return nil
	}
	return sha256simd.NewAvx512Server()
})

// hashTogether begins to hash those whole parts of a frame that are worth it
// side by side. It returns the others, and wait, which ends when all that was
// begun is done.
func hashTogether(content []byte, parts []part) (rest []part, wait func()) {
	server := lanes()
	if server == nil || len(parts) < 4 {
		return parts, func() {}
	}
	var wg sync.WaitGroup
	for _, p := range parts {
		// A lane alone is slow, and a small message is not worth the way.
		n := p.to - p.from
		if p.prev != nil || p.next != nil || n < 8<<10 || n > len(content)/3 {
			rest = append(rest, p)
			continue
		}
		wg.Go(func() {
			h := sha256simd.NewAvx512(server)
			_, _ = h.Write(content[p.from:p.to])
			h.Sum(p.entry.SHA256[:0])
		})
	}
	return rest, wg.Wait
}
