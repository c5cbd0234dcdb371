package pages

import (
	"bytes"
	"io"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func noise(seed uint64, n int) []byte {
	r := rand.NewChaCha8([32]byte{byte(seed)})
	b := make([]byte, n)
	r.Read(b)
	return b
}

// Whatever was done to a file, what Find says stands in the old version is there, and no more is
// missing than what was changed.
func TestWhatStandsInTheOldVersionIsFound(t *testing.T) {
	old := noise(1, 6<<20+123)
	paged := slices.Clone(old)
	for _, p := range []int{0, 17, 18, 900, 1535} {
		copy(paged[p*Size:], noise(uint64(p)+2, Size))
	}
	for name, c := range map[string]struct {
		new     []byte
		missing int // bytes at most
	}{
		"nothing changed":    {old, 0},
		"pages in place":     {paged, 5 * Size},
		"grown in the front": {append(noise(9, 1000), old...), 2*Size + Size},
		"cut in the middle":  {slices.Concat(old[:1<<20+7], old[2<<20:]), 2*Size + Size},
		"moved about":        {slices.Concat(old[3<<20:], old[:3<<20]), 3 * Size},
		"grown at the end":   {append(slices.Clone(old), noise(10, 5000)...), 5000 + Size},
		"all new":            {noise(11, 6<<20), 6 << 20},
		"all zeros":          {make([]byte, 5<<20), 5 << 20},
		"empty":              {nil, 0},
	} {
		l, err := Of(bytes.NewReader(c.new))
		require.NoError(t, err)
		raw := l.Bytes()
		assert.LessOrEqual(t, int64(len(raw)), Bound(int64(len(c.new))))
		l, err = Parse(raw, int64(len(c.new)))
		require.NoError(t, err)
		at, err := l.Find(func() io.ReaderAt { return bytes.NewReader(old) }, int64(len(old)))
		require.NoError(t, err)
		put := make([]byte, len(c.new))
		lost := 0
		for i, where := range at {
			from, to := l.Span(i)
			if where == Missing {
				lost += int(to - from)
				copy(put[from:to], c.new[from:to])
				continue
			}
			copy(put[from:to], old[where:where+to-from])
		}
		assert.True(t, bytes.Equal(c.new, put), name)
		assert.LessOrEqual(t, lost, c.missing, name)
		var ranged int64
		for _, r := range l.Ranges(at) {
			ranged += r.To - r.From
		}
		assert.Equal(t, int64(lost), ranged, name)
	}
	_, err := Parse([]byte(magic+"12345678"), 9)
	assert.Error(t, err)
}

// A window that is rolled has the sum of one that is summed up.
func TestARollingSumIsThatOfItsWindow(t *testing.T) {
	b := noise(3, 3*Size)
	r := roll(b[:Size])
	for i := range 2 * Size {
		require.Equal(t, roll(b[i:i+Size]).sum(), r.sum(), i)
		r = r.moved(b[i], b[i+Size])
	}
}

func BenchmarkElsewhere(b *testing.B) {
	old := noise(1, 32<<20)
	l, _ := Of(bytes.NewReader(append([]byte("x"), old...)))
	b.SetBytes(int64(len(old)))
	for b.Loop() {
		l.Find(func() io.ReaderAt { return bytes.NewReader(old) }, int64(len(old)))
	}
}

func FuzzALists(f *testing.F) {
	f.Add([]byte(magic), int64(0))
	f.Fuzz(func(t *testing.T, b []byte, size int64) {
		if l, err := Parse(b, size); err == nil {
			assert.Equal(t, b, l.Bytes())
		}
	})
}
