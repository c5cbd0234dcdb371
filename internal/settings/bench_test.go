package settings

import (
	"fmt"
	"strings"
	"testing"
)

// BenchmarkMerge merges a file of 20,000 keys, some 1.2 MB, of which 2,000 were changed.
func BenchmarkMerge(b *testing.B) {
	var old, now, mine strings.Builder
	for i := range 20000 {
		fmt.Fprintf(&old, "# what it does, in some words here\nsome.key.%05d = value %d\n", i, i)
		fmt.Fprintf(&now, "# what it does, in some words here\nsome.key.%05d = value %d\n", i, i+i%3)
		fmt.Fprintf(&mine, "# what it does, in some words here\nsome.key.%05d = value %d\n", i, i+i/100%10)
	}
	b.SetBytes(int64(mine.Len()))
	b.ReportAllocs()
	for b.Loop() {
		read := func(s string) *Doc {
			d, err := Read("pond.conf", []byte(s))
			if err != nil {
				b.Fatal(err)
			}
			return d
		}
		if _, err := Merge(read(old.String()), read(now.String()), read(mine.String()), Rules{}); err != nil {
			b.Fatal(err)
		}
	}
}
