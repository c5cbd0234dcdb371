package locker

import (
	"math/rand/v2"
	"testing"

	"freshkeel/internal/tree"
)

// BenchmarkCutting weighs ways to cut: what is new after a database had one page
// in two hundred rewritten, and after a file grew in the middle, in per cent of
// the file, and how many pieces a MiB makes.
func BenchmarkCutting(b *testing.B) {
	fixed := func(size int) func([]byte) int { return func(b []byte) int { return min(size, len(b)) } }
	by := func(min, avg, max int) func([]byte) int {
		c := newCutter(min<<10, avg<<10, max<<10)
		return func(b []byte) int { return c.next(b, true) }
	}
	whole := noise(1, 64<<20)
	pages := append([]byte{}, whole...)
	random := rand.New(rand.NewPCG(1, 2))
	for range len(pages) / 4096 / 200 {
		at := random.IntN(len(pages)/4096) * 4096
		copy(pages[at:], noise(random.Uint64(), 4096))
	}
	grown := append(append(append([]byte{}, whole[:32<<20]...), noise(5, 10_000)...), whole[32<<20:]...)
	for _, way := range []struct {
		name string
		next func([]byte) int
	}{
		{"fixed 1024k", fixed(1 << 20)}, {"fixed 64k", fixed(64 << 10)}, {"fixed 32k", fixed(32 << 10)},
		{"content 8-32-128k", by(8, 32, 128)}, {"content 16-64-256k", by(16, 64, 256)}, {"content 24-40-128k", by(24, 40, 128)}, {"content 32-44-128k", by(32, 44, 128)}, {"content 40-56-128k", by(40, 56, 128)}, {"content 48-64-128k", by(48, 64, 128)},
	} {
		b.Run(way.name, func(b *testing.B) {
			pieces := func(content []byte) map[tree.Sum]int {
				out := map[tree.Sum]int{}
				for len(content) > 0 {
					n := way.next(content)
					out[tree.SumBytes(content[:n])] = n
					content = content[n:]
				}
				return out
			}
			had := pieces(whole)
			fresh := func(content []byte) float64 {
				n := 0
				for s, size := range pieces(content) {
					if had[s] == 0 {
						n += size
					}
				}
				return 100 * float64(n) / float64(len(content))
			}
			b.SetBytes(int64(len(whole)))
			for b.Loop() {
				pieces(whole)
			}
			b.ReportMetric(fresh(pages), "%pages")
			b.ReportMetric(fresh(grown), "%grown")
			b.ReportMetric(float64(len(had))/64, "pieces/MiB")
		})
	}
}
