package locker

import (
	"math/rand/v2"
	"testing"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/tree"
)

// BenchmarkCutting weighs ways to cut: what is new after a database had one page in two
// hundred rewritten, and after a file grew in the middle, in per cent of the file; the
// same where what differs little is stored over what stood in its place; and how many
// pieces a MiB makes.
func BenchmarkCutting(b *testing.B) {
	fixed := func(size int) func([]byte) int { return func(b []byte) int { return min(size, len(b)) } }
	by := func(min, avg, max int) func([]byte) int {
		c := cut.New(min<<10, avg<<10, max<<10)
		return func(b []byte) int { return c.Next(b, true) }
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
		{"fixed 512k", fixed(512 << 10)}, {"fixed 64k", fixed(64 << 10)},
		{"content 24-40-128k", by(24, 40, 128)}, {"content 64-128-512k", by(64, 128, 512)},
		{"content 128-256-512k", by(128, 256, 512)}, {"content 256-512-1024k", by(256, 512, 1024)},
		{"content 512-1024-2048k", by(512, 1024, 2048)},
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
			starts := map[int]int{} // of pieces → their ends
			for at := 0; at < len(whole); {
				n := way.next(whole[at:])
				starts[at] = at + n
				at += n
			}
			fresh := func(content []byte, over bool) float64 {
				stored := 0
				for at := 0; at < len(content); {
					n := way.next(content[at:])
					is := content[at : at+n]
					if had[tree.SumBytes(is)] == 0 {
						frame := []byte(nil)
						if end := starts[at]; over && end > 0 {
							frame = layOver(whole[at:end], is)
						}
						if frame == nil {
							frame = is
						}
						stored += len(frame)
					}
					at += n
				}
				return 100 * float64(stored) / float64(len(content))
			}
			b.SetBytes(int64(len(whole)))
			for b.Loop() {
				pieces(whole)
			}
			b.ReportMetric(fresh(pages, false), "%pages")
			b.ReportMetric(fresh(pages, true), "%pages-over")
			b.ReportMetric(fresh(grown, false), "%grown")
			b.ReportMetric(fresh(grown, true), "%grown-over")
			b.ReportMetric(float64(len(had))/64, "pieces/MiB")
		})
	}
}
