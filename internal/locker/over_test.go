package locker

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

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

func layOver(was, is []byte) []byte { return frame.Lay(nil, frame.InCommon(was, is), len(was), is) }

// What is stored over another piece is as small as what is new in it, and zstd reads
// it, this library's and the program.
func TestAPieceIsStoredOverAnother(t *testing.T) {
	program, _ := exec.LookPath("zstd")
	dir := t.TempDir()
	for name, e := range edits {
		for i, size := range []int{frame.LayFrom, 50_001, 128 << 10, 128<<10 + 300, 200_000, 256<<10 + 1,
			cut.Max - 1000} {
			was := noise(uint64(size), size)
			is := e.edit(bytes.Clone(was))
			stored := layOver(was, is)
			if e.fresh < 0 {
				if stored == nil {
					continue
				}
			} else if len(is) >= frame.LayFrom && 3*e.fresh < size {
				require.NotNil(t, stored, "%s of %d", name, size)
				assert.Less(t, len(stored), e.fresh+400+20*(size>>17), "%s of %d", name, size)
			}
			if stored == nil {
				continue
			}
			got, ok := frame.Unlaid(nil, stored, was)
			require.True(t, ok, "%s of %d", name, size)
			require.True(t, bytes.Equal(is, got), "%s of %d", name, size)
			within := bytes.Clone(was)
			if frame.UnlayIn(within, stored) {
				assert.True(t, bytes.Equal(is, within), "%s of %d", name, size)
			} else {
				assert.True(t, bytes.Equal(was, within))
				assert.NotEqual(t, len(was), len(is), name)
			}
			d, err := zstd.NewReader(nil, zstd.WithDecoderDictRaw(0, was))
			require.NoError(t, err)
			got, err = d.DecodeAll(stored, nil)
			d.Close()
			require.NoError(t, err, "%s of %d", name, size)
			require.True(t, bytes.Equal(is, got), "%s of %d", name, size)
			if i == 0 { // damage is an error, or other content, which its hash tells
				for at := range min(len(stored), 400) {
					bad := bytes.Clone(stored)
					bad[at] ^= 1 << (at % 8)
					frame.Unlay(nil, bad, was)
					frame.Unlay(nil, stored[:at], was)
				}
			}
			if program != "" && i%2 == 0 {
				base, over := filepath.Join(dir, "base"), filepath.Join(dir, "over")
				require.NoError(t, os.WriteFile(base, was, 0o600))
				require.NoError(t, os.WriteFile(over, stored, 0o600))
				got, err = exec.Command(program, "-dcq", "-D", base, over).Output()
				require.NoError(t, err, "%s of %d", name, size)
				require.True(t, bytes.Equal(is, got), "%s of %d", name, size)
			}
		}
	}
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
		"noise": noise(1, 300_000), "text": text[:300_000], "a little": noise(1, 100),
		"noise and text": append(noise(2, 200_000), text[:100_000]...),
		"text and noise": append(bytes.Clone(text[:90_000]), noise(3, 210_000)...),
		"between":        slices.Concat(text[:50_000], noise(4, 150_000), text[:100_000]),
		"alternating": slices.Concat(noise(5, 70_000), text[:30_000], noise(6, 80_001), text[:999], noise(7, 66_000),
			text[:53_000]),
	} {
		got := frame.Squeeze(enc, nil, b)
		all, err := dec.DecodeAll(got, nil)
		require.NoError(t, err, name)
		require.True(t, bytes.Equal(b, all), name)
		assert.LessOrEqual(t, len(got), len(enc.EncodeAll(b, nil))+100, name)
	}
	b := noise(8, 300_000)
	for at := 0; at+40_000 <= len(b); at += 40_000 {
		some := bytes.Clone(b)
		copy(some[at:at+40_000], text)
		assert.Less(t, len(frame.Squeeze(enc, nil, some)), 265_000, "text at %d", at)
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
	var last *set.Set
	for n := range 3 * index.MaxOver {
		l := open(t, home)
		require.NoError(t, os.WriteFile(at, content, 0o644))
		var base *set.Base
		if last != nil {
			var err error
			base, err = l.Base(last.Owner, last.ID)
			require.NoError(t, err)
		}
		w := l.Writer()
		w.PiecesAlone = true
		got, err := w.Take(t.Context(), dir, nil, nil, base, nil)
		require.NoError(t, err)
		s := &set.Set{Owner: "server-1"}
		got.Fill(s)
		require.NoError(t, w.Publish(s))
		w.Close()
		was[s.ID] = bytes.Clone(content)
		if n > 0 {
			assert.Less(t, s.New, int64(3*cut.Max), "of %s", s.ID)
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
		for _, p := range s.Entries[0].PieceSums() {
			if in, _, _ := l.seek(p); !in.Base.IsZero() {
				over++
			}
		}
	}
	assert.Greater(t, over, len(was), "many are stored over others")
	parts(t, l, r)
	size, err := packsSize(l.dir)
	require.NoError(t, err)
	assert.Less(t, size, int64(11*mib))
}

// eachPiece goes through all pieces of a locker, in no order.
func eachPiece(l *Locker, do func(tree.Sum, index.Place)) {
	list, _ := filepath.Glob(filepath.Join(l.dir, "packs", "*.idx"))
	done := map[tree.Sum]bool{}
	for _, at := range list {
		for _, ln := range index.Read(at).Lines {
			if p, ok := l.Find(ln.Sum); ok && !done[ln.Sum] {
				done[ln.Sum] = true
				do(ln.Sum, p)
			}
		}
	}
}

// parts reads stretches of all pieces, and compares them with the whole.
func parts(t *testing.T, l *Locker, r *rand.Rand) {
	t.Helper()
	var all []tree.Sum
	eachPiece(l, func(s tree.Sum, _ index.Place) { all = append(all, s) })
	sc := &scratch{read: reading{l: l}}
	defer sc.read.close()
	for _, s := range all {
		whole, err := l.piece(s)
		require.NoError(t, err)
		for range 8 {
			from := r.IntN(len(whole))
			n := 1 + r.IntN(len(whole)-from)
			got, err := sc.stretch(s, from, n)
			require.NoError(t, err)
			require.True(t, bytes.Equal(whole[from:from+n], got), "%d from %d of %d", n, from, len(whole))
		}
		_, err = sc.stretch(s, len(whole)-5, 6)
		require.Error(t, err)
	}
}

// A part of a piece is read alike however the piece is stored, and damage on the way to
// it is an error and not other content.
func TestAPartOfAPieceIsReadLikeTheWhole(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	text := bytes.Repeat([]byte("words and more words "), 40_000)
	dir, l := t.TempDir(), open(t, t.TempDir())
	for name, b := range map[string][]byte{
		"noise": noise(1, 500_000), "short": noise(2, frame.MaxBlock), "shorter": noise(3, frame.MaxBlock-1),
		"longer": noise(4, frame.MaxBlock+1), "text": text, "small": []byte("words"),
		"both": slices.Concat(noise(5, 200_000), text[:100_000], noise(6, 150_000)),
		"last": slices.Concat(text[:300_000], noise(7, 90_000)),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), b, 0o644))
	}
	s, _ := take(t, l, dir, nil)
	require.NoError(t, l.refresh())
	parts(t, l, r)
	p := s.Find("noise").PieceSums()[0]
	in, pack, _ := l.seek(p)
	require.Greater(t, in.Size, int32(2*frame.MaxBlock))
	whole, err := os.ReadFile(pack)
	require.NoError(t, err)
	sc := &scratch{read: reading{l: l}}
	for name, at := range map[string]int64{"a block's head": 9 + 3 + frame.MaxBlock, "the frame's head": 6} {
		b := bytes.Clone(whole)
		b[in.Off+at] ^= 8
		require.NoError(t, os.WriteFile(pack, b, 0o600))
		_, err = sc.stretch(p, frame.MaxBlock+10, 100)
		assert.Error(t, err, name)
		sc.read.close()
	}
	require.NoError(t, os.Remove(pack))
	_, err = sc.stretch(p, 10, 100)
	assert.Error(t, err)
}

// Prints tell that a piece stands where it stood, and of one that has changed which part
// did not. They are believed in an ordinary backup and not in one that reads everything;
// a key that is lost, or another's, costs nothing but time.
func TestPrintsTellWhatStands(t *testing.T) {
	content := noise(9, 2*mib)
	for name, c := range map[string]struct {
		key              string // what becomes of it; "": it stays
		doubts, believed bool
	}{"ordinary": {believed: true}, "reread": {doubts: true}, "lost key": {key: "x"},
		"another key": {key: "0123456789abcdef"}} {
		dir, home := t.TempDir(), t.TempDir()
		at := filepath.Join(dir, "world.db")
		save := func(b []byte, last *set.Set) (*Locker, *set.Set) {
			l := open(t, home)
			require.NoError(t, os.WriteFile(at, b, 0o644))
			var base *set.Base
			if last != nil {
				var err error
				base, err = l.Base(last.Owner, last.ID)
				require.NoError(t, err)
				if c.doubts {
					base.Doubted()
				}
			}
			s, _ := take(t, l, dir, base)
			return l, s
		}
		reads := func(l *Locker, s *set.Set, b []byte) bool {
			var out bytes.Buffer
			return l.Copy(&out, s.Entries[0]) == nil && bytes.Equal(b, out.Bytes())
		}
		l, first := save(content, nil)
		pieces := first.Entries[0].PieceSums()
		from := l.bounds(pieces)
		require.Greater(t, len(pieces), 2)
		line, _, _ := l.seek(pieces[0])
		require.Len(t, line.Prints, index.PrintSum+stretches(int(from[1])))
		if c.key != "" {
			require.NoError(t, os.WriteFile(filepath.Join(home, keyFile), []byte(c.key), 0o600))
		}
		l, second := save(content, first)
		assert.Equal(t, pieces, second.Entries[0].PieceSums(), name)
		assert.Zero(t, second.New, name)

		// A bit of the first stretch rots in the pack, and the last changes in the file: who
		// believes that the first is the same does not read it.
		in, pack, _ := l.seek(pieces[0])
		require.Greater(t, from[1], int64(2*printed), "it has two stretches")
		b, err := os.ReadFile(pack)
		require.NoError(t, err)
		b[in.Off+5000] ^= 4
		require.NoError(t, os.WriteFile(pack, b, 0o600))
		is := bytes.Clone(content)
		copy(is[from[1]-9000:], noise(7, 4096))
		l, third := save(is, second)
		assert.Less(t, third.New, int64(6000), name)
		assert.NotEqual(t, pieces[0], third.Entries[0].PieceSums()[0])
		assert.Equal(t, !c.believed, reads(l, third, is), name)
		b[in.Off+5000] ^= 4
		require.NoError(t, os.WriteFile(pack, b, 0o600))
		assert.True(t, reads(open(t, home), third, is), name)

		// The index says of the second piece what would be the prints of another; then but
		// for the sum, which is what tells.
		for n, upTo := range []int{0, index.PrintSum} {
			w := l.Writer()
			other := bytes.Clone(is)
			other[from[1]+10+int64(n)]++
			in, pack, _ = l.seek(pieces[1])
			at := strings.TrimSuffix(pack, ".zst") + ".idx"
			x := index.Read(at)
			copy(x.Prints[pieces[1]][upTo:], w.prints(&scratch{}, other[from[1]:from[2]])[upTo:])
			w.Close()
			var text index.Text
			for i := range x.Lines {
				text.Add(x.Whole(i))
			}
			b, err = text.Pack()
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(at, b, 0o600))
			after, fourth := save(other, third)
			assert.Equal(t, !c.doubts && upTo == 0, fourth.Entries[0].PieceSums()[1] == pieces[1], name)
			assert.True(t, fourth.Entries[0].PieceSums()[1] == pieces[1] || reads(after, fourth, other), name)
		}
	}
}

// Damage in a piece that others lie over hurts those too, and is told as that; the next
// backup, which finds it out or was told by a check, stores what is still there anew.
func TestDamageBelowOtherPieces(t *testing.T) {
	dir, l := t.TempDir(), open(t, t.TempDir())
	content := noise(9, 700_000)
	save := func(base *set.Base) *set.Set {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "world.db"), content, 0o644))
		s, _ := take(t, l, dir, base)
		return s
	}
	base := func(s *set.Set) *set.Base {
		b, err := l.Base(s.Owner, s.ID)
		require.NoError(t, err)
		return b
	}
	first := save(nil)
	copy(content[100_000:], noise(1, 5000))
	second := save(base(first))
	require.Less(t, second.New, int64(6000))
	in, pack, ok := l.seek(first.Entries[0].PieceSums()[0])
	require.True(t, ok)
	b, err := os.ReadFile(pack)
	require.NoError(t, err)
	b[in.Off+int64(in.Stored)/2] ^= 4
	require.NoError(t, os.WriteFile(pack, b, 0o600))
	checked, err := l.Check(t.Context(), []*set.Set{second}, Share{}, nil)
	require.NoError(t, err)
	require.Len(t, checked.Damaged, 1)
	assert.Contains(t, checked.Damaged[0].Why, pack)
	told, err := os.ReadFile(filepath.Join(l.dir, damagedFile))
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("%s %s %d\n", in.Sum, filepath.Base(pack[:len(pack)-4]), in.Off), string(told),
		"the one that is damaged, and not what lies over it")

	third := save(base(second))
	checked, err = l.Check(t.Context(), []*set.Set{second, third}, Share{}, nil)
	require.NoError(t, err)
	assert.Empty(t, checked.Damaged, "what is whole now counts for the earlier backup too")
	checked, err = l.Check(t.Context(), []*set.Set{first}, Share{}, nil)
	require.NoError(t, err)
	assert.Len(t, checked.Damaged, 1)
}

// Whatever a frame says, what is read of it without the library is what that reads, and
// reading it into the other piece comes to the same.
func FuzzUnlaid(f *testing.F) {
	was := noise(1, 20_000)
	f.Add(layOver(was, append(noise(2, 300), was[300:]...)))
	f.Add(layOver(was, slices.Insert(bytes.Clone(was), 999, 7)))
	f.Add(frame.RawBlocks(frame.Head(nil, 3), []byte("moss")[:3], true))
	f.Fuzz(func(t *testing.T, stored []byte) {
		got, ok := frame.Unlaid(nil, stored, was)
		within := bytes.Clone(was)
		if in := frame.UnlayIn(within, stored); in {
			require.True(t, ok)
			require.True(t, bytes.Equal(got, within))
		}
		if want, err := frame.Unlay(nil, stored, was); ok && err == nil {
			require.True(t, bytes.Equal(want, got))
		}
	})
}

// A hole is not read: a file of many gigabytes that is nearly all hole is stored in a moment, as
// the same pieces as if all of it had been read, and so it is after something was written to it.
func TestHolesAreNotRead(t *testing.T) {
	at := filepath.Join(t.TempDir(), "sparse")
	f, err := os.Create(at)
	require.NoError(t, err)
	defer f.Close()
	const size = 48<<20 + 12345
	require.NoError(t, f.Truncate(size))
	write := func(off int64, n int) {
		b := make([]byte, n)
		rand.NewChaCha8([32]byte{byte(off)}).Read(b)
		_, err := f.WriteAt(b, off)
		require.NoError(t, err)
	}
	store := func(l *Locker, r io.ReaderAt, had []tree.Sum) set.File {
		w := l.Writer()
		defer w.Close()
		w.PiecesAlone = true
		out, err := w.AddOver(context.Background(), r, size, had, nil)
		require.NoError(t, err)
		require.NoError(t, w.Flush())
		return out
	}
	l, err := Open(t.TempDir())
	require.NoError(t, err)
	var had []tree.Sum
	for _, at := range []struct {
		off int64
		n   int
	}{{0, 1}, {5<<20 + 7, 3 << 20}, {40 << 20, 100}, {47 << 20, 1<<20 + 12345}} {
		write(at.off, at.n)
		whole, err := os.ReadFile(f.Name())
		require.NoError(t, err)
		other, err := Open(t.TempDir())
		require.NoError(t, err)
		first := store(other, f, nil)
		assert.Equal(t, store(other, bytes.NewReader(whole), nil).Pieces, first.Pieces, at.off)
		now := store(l, f, had)
		had = now.Pieces
		got := make([]byte, size)
		_, err = l.Content(now).ReadAt(got, 0)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(whole, got), at.off)
	}
}
