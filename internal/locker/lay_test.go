package locker

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// edits are ways in which content changes; the number is how many bytes of it are new
// at most, -1: more than half.
var edits = map[string]struct {
	fresh int
	edit  func(b []byte) []byte
}{
	"a page":           {4096, func(b []byte) []byte { copy(b[len(b)/2:], noise(1, 4096)); return b }},
	"a byte":           {1, func(b []byte) []byte { b[len(b)/3] ^= 1; return b }},
	"the first byte":   {1, func(b []byte) []byte { b[0] ^= 1; return b }},
	"the last byte":    {1, func(b []byte) []byte { b[len(b)-1] ^= 1; return b }},
	"longer":           {700, func(b []byte) []byte { return append(b, noise(3, 700)...) }},
	"longer inside":    {700, func(b []byte) []byte { return slices.Insert(b, len(b)/3, noise(3, 700)...) }},
	"longer in front":  {3, func(b []byte) []byte { return append([]byte("new"), b...) }},
	"shorter":          {0, func(b []byte) []byte { return b[:len(b)-5000] }},
	"shorter inside":   {0, func(b []byte) []byte { return slices.Delete(b, 999, 3999) }},
	"a quarter zeroed": {-1, func(b []byte) []byte { clear(b[:len(b)/4]); return b }},
	"all of it":        {-1, func(b []byte) []byte { return noise(4, len(b)) }},
	"two pages": {8192, func(b []byte) []byte {
		copy(b[300:], noise(5, 4096))
		copy(b[len(b)-4400:], noise(6, 4096))
		return b
	}},
	"many bytes": {64 * 512, func(b []byte) []byte {
		r := rand.New(rand.NewPCG(1, 1))
		for range 16 {
			b[r.IntN(len(b))]++
		}
		return b
	}},
}

// What is stored over another piece is as small as what is new in it, and zstd reads
// it, this library's and the program.
func TestAPieceIsStoredOverAnother(t *testing.T) {
	program, _ := exec.LookPath("zstd")
	dir := t.TempDir()
	for name, e := range edits {
		for i, size := range []int{layFrom, 50_001, 128 << 10, 128<<10 + 300, 200_000, 256<<10 + 1, maxPiece} {
			was := noise(uint64(size), size)
			is := e.edit(bytes.Clone(was))
			frame := lay(nil, was, is)
			if e.fresh < 0 {
				if frame == nil {
					continue
				}
			} else if len(is) >= layFrom && 3*e.fresh < size {
				require.NotNil(t, frame, "%s of %d", name, size)
				assert.Less(t, len(frame), e.fresh+400+20*(size>>17), "%s of %d", name, size)
			}
			if frame == nil {
				continue
			}
			got, err := unlay(nil, frame, was)
			require.NoError(t, err, "%s of %d", name, size)
			require.True(t, bytes.Equal(is, got), "%s of %d", name, size)
			if program != "" && i%2 == 0 {
				base, over := filepath.Join(dir, "base"), filepath.Join(dir, "over")
				require.NoError(t, os.WriteFile(base, was, 0o600))
				require.NoError(t, os.WriteFile(over, frame, 0o600))
				got, err = exec.Command(program, "-dcq", "-D", base, over).Output()
				require.NoError(t, err, "%s of %d", name, size)
				require.True(t, bytes.Equal(is, got), "%s of %d", name, size)
			}
		}
	}
	assert.Nil(t, lay(nil, append(bytes.Clone(dictMagic), noise(1, layFrom)...), noise(1, layFrom)), "a dictionary of zstd's own")

}

// What does not look as if it would compress is stored as it is, wherever in a piece it
// lies, and zstd reads the frames as one.
func TestWhatDoesNotCompressIsLeftAlone(t *testing.T) {
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	dec, err := zstd.NewReader(nil)
	require.NoError(t, err)
	text := bytes.Repeat([]byte("words and more words "), 20_000)
	for name, b := range map[string][]byte{
		"noise": noise(1, 300_000), "text": text[:300_000], "a little": noise(1, 100), "noise and text": append(noise(2, 200_000), text[:100_000]...),
		"text and noise": append(bytes.Clone(text[:90_000]), noise(3, 210_000)...), "between": slices.Concat(text[:50_000], noise(4, 150_000), text[:100_000]),
		"alternating": slices.Concat(noise(5, 70_000), text[:30_000], noise(6, 80_001), text[:999], noise(7, 66_000), text[:53_000]),
	} {
		got := squeeze(enc, nil, b)
		all, err := dec.DecodeAll(got, nil)
		require.NoError(t, err, name)
		require.True(t, bytes.Equal(b, all), name)
		assert.LessOrEqual(t, len(got), len(enc.EncodeAll(b, nil))+100, name)
	}
	b := noise(8, 300_000)
	for at := 0; at+40_000 <= len(b); at += 40_000 {
		some := bytes.Clone(b)
		copy(some[at:at+40_000], text)
		assert.Less(t, len(squeeze(enc, nil, some)), 265_000, "text at %d", at)
	}
}

// A file that changes from backup to backup is stored over what it was, and comes
// back as it was at each of them, whatever is thinned and given back in between.
func TestAFileIsStoredOverItsPast(t *testing.T) {
	dir, home := t.TempDir(), t.TempDir()
	at := filepath.Join(dir, "world.db")
	r := rand.New(rand.NewPCG(8, 8))
	content := noise(9, 3*mib+1234)
	was := map[string][]byte{}
	var last *Set
	for n := range 4 * maxOver {
		l := open(t, home)
		require.NoError(t, os.WriteFile(at, content, 0o644))
		var base *Base
		if last != nil {
			var err error
			base, err = l.Base(last.Owner, last.ID)
			require.NoError(t, err)
		}
		w := l.Writer()
		w.PiecesAlone = true
		got, err := w.Take(t.Context(), dir, nil, nil, base, nil)
		require.NoError(t, err)
		s := &Set{Owner: "server-1"}
		got.Fill(s)
		require.NoError(t, w.Publish(s))
		w.Close()
		was[s.ID] = bytes.Clone(content)
		if n > 0 {
			assert.Less(t, s.New, int64(3*maxPiece), "of %s", s.ID)
		}
		last = s
		if n%5 == 4 { // some go, and what only they needed
			gone := fmt.Sprintf("b%04d", 1+r.IntN(n))
			if was[gone] != nil {
				require.NoError(t, l.Drop("server-1", gone))
				delete(was, gone)
			}
			_, err := l.GiveBack(t.Context(), nil)
			require.NoError(t, err)
		}
		switch n % 8 {
		case 7: // grown in the middle
			content = slices.Insert(content, r.IntN(len(content)), noise(uint64(n), 1+r.IntN(100_000))...)
		default:
			for range 3 {
				copy(content[r.IntN(len(content)-4096):], noise(uint64(n), 4096))
			}
		}
	}
	l := open(t, home)
	over := 0
	for id, want := range was {
		s, err := l.Read("server-1", id)
		require.NoError(t, err)
		var out bytes.Buffer
		require.NoError(t, l.Copy(&out, s.Entries[0]))
		require.True(t, bytes.Equal(want, out.Bytes()), id)
		same, err := l.Same(bytes.NewReader(want), s.Entries[0])
		require.NoError(t, err)
		assert.True(t, same)
		for _, p := range s.Entries[0].Pieces {
			if in, _, _ := l.seek(p); !in.base.IsZero() {
				over++
			}
		}
	}
	assert.Greater(t, over, 10*len(was)/8, "many are stored over others")
	size, err := l.size()
	require.NoError(t, err)
	assert.Less(t, size, int64(12*mib))
}
