package locker

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mib = 1 << 20

func open(t *testing.T, dir string) *Locker {
	t.Helper()
	l, err := Open(dir)
	require.NoError(t, err)
	return l
}

// noise does not compress.
func noise(seed uint64, n int) []byte {
	b := make([]byte, n)
	r := rand.New(rand.NewPCG(seed, 1))
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// install makes a folder with every kind of thing a backup has to bring back.
func install(t *testing.T) string {
	dir := t.TempDir()
	for name, b := range map[string][]byte{
		"big.pak": noise(1, 3*mib+17), "exact.pak": noise(2, mib), "twice.pak": bytes.Repeat([]byte("again "), 300_000),
		"empty": nil, "deep/er/small.txt": []byte("small"), "logs/x.log": []byte("skipped"),
		"caf\xe9.txt": []byte("latin one"),
	} {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, b, 0o644))
		require.NoError(t, os.Chtimes(full, time.Unix(1_700_000_000, 123456789), time.Unix(1_700_000_000, 123456789)))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "deep/er/small.txt"), 0o4751))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "hollow"), 0o700))
	require.NoError(t, os.Symlink("big.pak", filepath.Join(dir, "link")))
	return dir
}

// readLater publishes what a pass found once more, as if it had all been read long after it
// was written.
func readLater(t *testing.T, l *Locker, s *set.Set, got *set.Taken) {
	t.Helper()
	for i := range got.Entries {
		got.Entries[i].ReadAt += int64(time.Minute)
	}
	s.Entries, s.ID = got.Entries, ""
	w := l.Writer()
	defer w.Close()
	require.NoError(t, w.Publish(s))
}

func take(t *testing.T, l *Locker, dir string, base *set.Base) (*set.Set, *set.Taken) {
	t.Helper()
	w := l.Writer()
	w.PiecesAlone = true
	defer w.Close()
	got, err := w.Take(context.Background(), dir, tree.Patterns{"logs/**"}, nil, base, nil)
	require.NoError(t, err)
	s := &set.Set{Owner: "server-1", Taken: time.Now()}
	got.Fill(s)
	require.NoError(t, w.Publish(s))
	return s, got
}

func TestBackupBringsEverythingBackAsItWas(t *testing.T) {
	dir, home := install(t), t.TempDir()
	s, _ := take(t, open(t, home), dir, nil)
	assert.Equal(t, "b0001", s.ID)

	l := open(t, home) // as another process would
	got, err := l.Read("server-1", "b0001")
	require.NoError(t, err)
	to := t.TempDir()
	for _, f := range got.Entries {
		require.NoError(t, l.Lay(filepath.Join(to, f.Path), f))
	}
	want, err := tree.Walk(dir, tree.Patterns{"logs/**"})
	require.NoError(t, err)
	have, err := tree.Walk(to, nil)
	require.NoError(t, err)
	require.Equal(t, len(want), len(have))
	for i := range want {
		a, b := want[i], have[i]
		assert.Equal(t, []any{a.Path, a.Kind, a.Mode, a.Size, a.Target, a.UID},
			[]any{b.Path, b.Kind, b.Mode, b.Size, b.Target, b.UID})
		if a.Kind == tree.File {
			assert.Equal(t, a.Mtime, b.Mtime, a.Path)
			x, _ := tree.SumFile(filepath.Join(dir, a.Path))
			y, _ := tree.SumFile(filepath.Join(to, a.Path))
			assert.Equal(t, x, y, a.Path)
			if f := got.Find(a.Path); len(f.PieceSums()) < 2 {
				assert.Equal(t, x, f.Sum, a.Path)
			}
		}
	}
}

func TestSecondBackupStoresOnlyWhatChangedAndReadsOnlyWhatMightHave(t *testing.T) {
	dir, l := install(t), open(t, t.TempDir())
	first, _ := take(t, l, dir, nil)
	// As if all of it had been read long after it was last written.
	for i := range first.Entries {
		first.Entries[i].ReadAt += int64(time.Minute)
	}
	f, err := os.OpenFile(filepath.Join(dir, "big.pak"), os.O_WRONLY, 0)
	require.NoError(t, err)
	f.WriteAt([]byte("changed in place"), 2*mib+5)
	f.Close()
	second, got := take(t, l, dir, (&set.Taken{Entries: first.Entries}).Base())
	assert.EqualValues(t, 3*mib+17, got.Read)
	assert.Less(t, second.New, int64(200), "what changed")
	assert.Equal(t, "b0002", second.ID)

	// Grown in the middle: what lies behind is stored already.
	b, err := os.ReadFile(filepath.Join(dir, "big.pak"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "big.pak"),
		slices.Concat(b[:mib], []byte("a few bytes more"), b[mib:]), 0o644))
	grown, _ := take(t, l, dir, got.Base())
	assert.Less(t, grown.New, int64(200))

	// A file written within the clock's tick of its reading is read again,
	// though its times are the same.
	_, fresh := take(t, l, dir, nil)
	last, again := take(t, l, dir, fresh.Base())
	assert.EqualValues(t, last.Bytes, again.Read)
}

// However a file has changed, what is stored over its pieces of before reads back, and
// what did not change is not stored again.
func TestAFileIsReadAlikeWithAndWithoutItsPast(t *testing.T) {
	old := noise(7, 6*mib)
	for name, c := range map[string]struct {
		most int // of bytes that are new to the locker
		edit func(b []byte) []byte
	}{
		"nothing":         {0, func(b []byte) []byte { return b }},
		"a page in place": {5000, func(b []byte) []byte { copy(b[3*mib:], noise(1, 4096)); return b }},
		"the first byte":  {100, func(b []byte) []byte { b[0] ^= 1; return b }},
		"the last byte":   {100, func(b []byte) []byte { b[len(b)-1] ^= 1; return b }},
		"many pages": {21 * 4500, func(b []byte) []byte {
			for i := 0; i < len(b); i += 300_000 {
				copy(b[i:], noise(uint64(i), 4096))
			}
			return b
		}},
		"longer in the middle": {cut.Max,
			func(b []byte) []byte { return slices.Insert(b, 2*mib, noise(2, 5000)...) }},
		"shorter in the middle":      {cut.Max, func(b []byte) []byte { return slices.Delete(b, 2*mib, 2*mib+70_000) }},
		"longer":                     {mib + cut.Max, func(b []byte) []byte { return append(b, noise(3, mib)...) }},
		"longer by one":              {100, func(b []byte) []byte { return append(b, 9) }},
		"shorter":                    {100, func(b []byte) []byte { return b[:4*mib+17] }},
		"nothing left":               {0, func(b []byte) []byte { return b[:0] }},
		"a hole":                     {2 * cut.Average, func(b []byte) []byte { clear(b[mib : 5*mib]); return b }},
		"all of it":                  {6*mib + 1000, func(b []byte) []byte { return noise(4, 6*mib) }},
		"the first half comes twice": {3 * mib, func(b []byte) []byte { return slices.Concat(b[:3*mib], b) }},
	} {
		t.Run(name, func(t *testing.T) {
			l := open(t, t.TempDir())
			w := l.Writer()
			defer w.Close()
			w.PiecesAlone = true
			was, err := w.Add(t.Context(), bytes.NewReader(old), nil)
			require.NoError(t, err)
			require.NoError(t, w.Flush())
			before := w.stored
			now := c.edit(bytes.Clone(old))
			var noted atomic.Int64
			over, err := w.AddOver(t.Context(), bytes.NewReader(now), int64(len(now)), was.PieceSums(),
				func(n int64) { noted.Add(n) })
			require.NoError(t, err)
			assert.GreaterOrEqual(t, over.Size, noted.Load())
			assert.EqualValues(t, len(now), over.Size)
			require.NoError(t, w.Flush())
			assert.LessOrEqual(t, w.stored-before, int64(c.most))
			var out bytes.Buffer
			require.NoError(t, l.Copy(&out, over))
			assert.True(t, bytes.Equal(now, out.Bytes()))
		})
	}
}

// A set's blocks are carried over as they stand where nothing of them changed,
// and the set reads back as if each line had been written anew.
func TestBlocksOfASetAreCarriedOver(t *testing.T) {
	dir, l := t.TempDir(), open(t, t.TempDir())
	put := func(i int, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%05d", i)), []byte(text), 0o644))
	}
	for i := range 3000 {
		put(i, fmt.Sprint("file ", i))
	}
	first, got := take(t, l, dir, nil)
	readLater(t, l, first, got)
	base := func(id string) *set.Base {
		b, err := l.Base("server-1", id)
		require.NoError(t, err)
		return b
	}
	_, got = take(t, l, dir, base("b0002"))
	assert.Zero(t, got.Read)
	carried, all := got.Carried()
	assert.Equal(t, all, carried)
	assert.Greater(t, all, 3)

	put(1500, "changed")
	require.NoError(t, os.Remove(filepath.Join(dir, "00700")))
	put(2600, "changed too")
	second, got := take(t, l, dir, base("b0003"))
	carried, all = got.Carried()
	assert.Less(t, carried, all)
	assert.Greater(t, carried, 0)
	read, err := l.Read("server-1", second.ID)
	require.NoError(t, err)
	require.Equal(t, len(got.Entries), len(read.Entries))
	for i := range read.Entries {
		got.Entries[i].Dev = 0
		require.Equal(t, got.Entries[i], read.Entries[i])
	}
	require.NoError(t, got.Prepare())
	carried, all = got.Carried()
	assert.Equal(t, all, carried)
	_, next := take(t, l, dir, got.Base()) // as a refit's second pass has it
	carried, all = next.Carried()
	assert.GreaterOrEqual(t, carried, all-2, "all but those of what is read again")
	assert.EqualValues(t, len("changed")+len("changed too"), next.Read, "the rest is proved by its times")

	// Damage in the base costs reading, and nothing else.
	sets, _ := filepath.Glob(filepath.Join(l.dir, "sets/server-1/b0003.set"))
	b, err := os.ReadFile(sets[0])
	require.NoError(t, err)
	b[len(b)/2] ^= 0x40
	require.NoError(t, os.WriteFile(sets[0], b, 0o600))
	third, got := take(t, l, dir, base("b0003"))
	assert.Error(t, got.Doubt)
	assert.Greater(t, got.Read, int64(0))
	assert.Equal(t, second.Files, third.Files)
}

// Every read is checked; damage is named, and hurts nothing that it does not
// touch.
func TestDamageIsNoticedAndNamed(t *testing.T) {
	dir, home := install(t), t.TempDir()
	s, _ := take(t, open(t, home), dir, nil)
	packs, _ := filepath.Glob(filepath.Join(home, "packs/*.zst"))
	require.Len(t, packs, 1)
	good, err := os.ReadFile(packs[0])
	require.NoError(t, err)

	broken := func() (names []string, last error) {
		l := open(t, home)
		for _, f := range s.Entries {
			var b bytes.Buffer
			if err := l.Copy(&b, f); f.Kind == tree.File && err != nil {
				names, last = append(names, f.Path), err
			}
		}
		return
	}
	// One bit, in the middle of the pack.
	bad := bytes.Clone(good)
	bad[len(bad)/2] ^= 1
	require.NoError(t, os.WriteFile(packs[0], bad, 0o600))
	names, err2 := broken()
	assert.Len(t, names, 1)
	var d *set.Damage
	require.ErrorAs(t, err2, &d)
	assert.Equal(t, packs[0], d.Where)
	// Cut short: of the frame at the end, and of no other. Which one lies there is
	// chance, since several workers write.
	whole := open(t, home)
	require.NoError(t, whole.refresh())
	var last int64
	eachPiece(whole, func(_ tree.Sum, p index.Place) { last = max(last, p.Off) })
	var atEnd []string
	for _, f := range s.Entries {
		if slices.ContainsFunc(f.PieceSums(),
			func(s tree.Sum) bool { p, _, ok := whole.seek(s); return ok && p.Off == last }) {
			atEnd = append(atEnd, f.Path)
		}
	}
	require.NoError(t, os.WriteFile(packs[0], good[:len(good)-10], 0o600))
	names, _ = broken()
	assert.NotEmpty(t, names)
	assert.Equal(t, atEnd, names)
	// Gone.
	require.NoError(t, os.Remove(packs[0]))
	names, err2 = broken()
	assert.Len(t, names, 6-1, "all but the empty file")
	require.ErrorAs(t, err2, &d)
	require.NoError(t, os.WriteFile(packs[0], good, 0o600))

	// One bit of the index: what its block names is lost, here all, and it is said why.
	indexes, _ := filepath.Glob(filepath.Join(home, "packs/*.idx"))
	lines, err := os.ReadFile(indexes[0])
	require.NoError(t, err)
	spoilt := bytes.Clone(lines)
	spoilt[len(spoilt)/2] ^= 1
	require.NoError(t, os.WriteFile(indexes[0], spoilt, 0o600))
	names, err2 = broken()
	assert.Len(t, names, 6-1)
	assert.ErrorContains(t, err2, "no index names it; damaged: "+indexes[0]+": block 1")
	require.NoError(t, os.WriteFile(indexes[0], lines, 0o600))

	sets, _ := filepath.Glob(filepath.Join(home, "sets/server-1/*.set"))
	b, err := os.ReadFile(sets[0])
	require.NoError(t, err)
	for _, spoiled := range [][]byte{b[:len(b)-8], append(bytes.Clone(b[:len(b)/2]), b[len(b)/2+1:]...), {}} {
		require.NoError(t, os.WriteFile(sets[0], spoiled, 0o600))
		_, err = open(t, home).Read("server-1", "b0001")
		require.ErrorAs(t, err, &d)
		assert.Equal(t, sets[0], d.Where)
	}
	heads, err := open(t, home).Heads("server-1")
	require.NoError(t, err)
	require.Len(t, heads, 1)
	assert.NotEmpty(t, heads[0].Damage, "it is listed, and said to be damaged")
	_, err = open(t, home).Read("server-1", "b0009")
	assert.ErrorIs(t, err, set.ErrNoSet)
	_, err = open(t, home).Read("../etc", "b0001")
	assert.ErrorIs(t, err, set.ErrNoSet)
}

// A writer that dies leaves nothing but a file that the next one sweeps; one
// that lives is left in peace.
func TestHalfWrittenPacksAreSweptUnlessSomebodyHoldsThem(t *testing.T) {
	home := t.TempDir()
	l := open(t, home)
	living := l.Writer()
	defer living.Close()
	_, err := living.Add(context.Background(), bytes.NewReader(noise(3, 1000)), nil)
	require.NoError(t, err)
	dead := filepath.Join(home, "packs/0123456789abcdef.part")
	require.NoError(t, os.WriteFile(dead, []byte("half a pack"), 0o600))
	open(t, home).Writer().Close()
	assert.NoFileExists(t, dead)
	s := &set.Set{Owner: set.Builds, ID: "b", Entries: nil}
	require.NoError(t, living.Publish(s))
	assert.True(t, open(t, home).Has(set.Builds, "b"))
	assert.False(t, open(t, home).Has(set.Builds, "c"))
}

// Two servers' backups run side by side and share what they have in common.
func TestTwoWritersAtOnce(t *testing.T) {
	home := t.TempDir()
	var wg sync.WaitGroup
	errs := make(chan error, 8)
	for i := range 4 {
		wg.Go(func() {
			l, err := Open(home)
			if err != nil {
				errs <- err
				return
			}
			w := l.Writer()
			defer w.Close()
			f, err := w.Add(context.Background(), bytes.NewReader(noise(9, 2*mib)), nil)
			f.Path = "same"
			errs <- errors.Join(err, w.Publish(&set.Set{Owner: fmt.Sprint("server-", i), Entries: []set.File{f}}))
		})
	}
	wg.Wait()
	close(errs)
	for err := range errs {
		require.NoError(t, err)
	}
	l := open(t, home)
	for i := range 4 {
		s, err := l.Read(fmt.Sprint("server-", i), "b0001")
		require.NoError(t, err)
		var b bytes.Buffer
		require.NoError(t, l.Copy(&b, s.Entries[0]))
		assert.Equal(t, noise(9, 2*mib), b.Bytes())
	}
}

func TestContentIsReadAtAnyOffset(t *testing.T) {
	l := open(t, t.TempDir())
	w := l.Writer()
	defer w.Close()
	want := noise(4, 2*mib+100)
	f, err := w.Add(context.Background(), bytes.NewReader(want), nil)
	require.NoError(t, err)
	require.NoError(t, w.Publish(&set.Set{Owner: set.Builds, ID: "x", Entries: []set.File{f}}))
	r := l.Content(f)
	for _, at := range []struct{ off, n int }{{0, 10}, {mib - 5, 10}, {2 * mib, 100}, {5, mib}} {
		b := make([]byte, at.n)
		_, err := r.ReadAt(b, int64(at.off))
		require.NoError(t, err)
		assert.Equal(t, want[at.off:at.off+at.n], b)
	}
	n, err := r.ReadAt(make([]byte, 10), int64(len(want)-3))
	assert.Equal(t, 3, n)
	assert.Error(t, err)
}

// docs/locker.md promises that zstd and a shell are enough to get a file out.
func TestFileComesOutWithZstdAndAShell(t *testing.T) {
	if _, err := exec.LookPath("zstd"); err != nil {
		t.Skip("no zstd here")
	}
	dir, home := install(t), t.TempDir()
	first, _ := take(t, open(t, home), dir, nil)
	was, err := os.ReadFile(filepath.Join(dir, "big.pak"))
	require.NoError(t, err)
	last := bytes.Clone(was)
	for n := range uint64(3) { // each stored over the one before
		copy(last[mib/2:], noise(n, 4096))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "big.pak"), last, 0o600))
		base, err := open(t, home).Base("server-1", first.ID)
		require.NoError(t, err)
		first, _ = take(t, open(t, home), dir, base)
		assert.Less(t, first.New, int64(10_000))
	}
	doc, err := os.ReadFile("../../docs/locker.md")
	require.NoError(t, err)
	_, rest, ok := strings.Cut(string(doc), "<!-- recovery -->\n```sh\n")
	require.True(t, ok, "the worked recovery is marked in the page")
	script, _, _ := strings.Cut(rest, "```")
	for _, c := range []struct {
		id, path string
		want     []byte
	}{{"b0001", "big.pak", was}, {"b0004", "big.pak", last}, {"b0001", "deep/er/small.txt", []byte("small")},
		{"b0004", "exact.pak", noise(2, mib)}} {
		cmd := exec.Command("sh", "-eu", "-c", script)
		cmd.Dir = t.TempDir()
		cmd.Env = append(os.Environ(), "LOCKER="+home, "SET="+filepath.Join(home, "sets/server-1", c.id+".set"),
			"WANTED="+c.path, "OUT="+filepath.Join(cmd.Dir, "out"))
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
		got, err := os.ReadFile(filepath.Join(cmd.Dir, "out"))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(c.want, got), "%s of %s", c.path, c.id)
		left, err := os.ReadDir(cmd.Dir)
		require.NoError(t, err)
		assert.Len(t, left, 1, "nothing else is left over")
	}
}

// Holes and extended attributes come back, and a changed attribute is noticed.
func TestHolesAndAttributesComeBack(t *testing.T) {
	dir, l := t.TempDir(), open(t, t.TempDir())
	hollow := filepath.Join(dir, "hollow.db")
	f, err := os.Create(hollow)
	require.NoError(t, err)
	f.WriteAt([]byte("in the middle"), 20*mib)
	require.NoError(t, f.Truncate(40*mib+123))
	require.NoError(t, f.Close())
	open1 := func(at string) *os.File {
		f, err := os.Open(at)
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
		return f
	}
	if !tree.Sparse(open1(hollow)) {
		t.Skip("no holes on this file system")
	}
	attrs := map[string][]byte{"user.keeper": []byte("Ada"), "user.raw": {0, 255}}
	require.NoError(t, tree.SetXattrs(hollow, attrs))
	s, _ := take(t, l, dir, nil)
	read, err := l.Read("server-1", s.ID)
	require.NoError(t, err)
	to := filepath.Join(t.TempDir(), "again.db")
	require.NoError(t, l.Lay(to, read.Entries[0]))
	assert.True(t, tree.Sparse(open1(to)))
	a, _ := tree.SumFile(hollow)
	b, _ := tree.SumFile(to)
	assert.Equal(t, a, b)
	got, err := tree.XattrsOf(open1(to))
	require.NoError(t, err)
	if had, _ := tree.XattrsOf(open1(hollow)); had != nil {
		assert.Equal(t, attrs, got)
		require.NoError(t, tree.SetXattrs(dir, map[string][]byte{"user.new": []byte("x")}))
	}
	assert.Less(t, s.New, int64(mib), "nothing is stored of a hole but one piece of it")
}

// Space is given back pack by pack; a reader that opened the locker before finds
// its content where it lies now, and beside a writer nothing goes.
func TestSpaceIsGivenBackAndReadersGoOn(t *testing.T) {
	dir, home := t.TempDir(), t.TempDir()
	l := open(t, home)
	put := func(name string, seed uint64, n int) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), noise(seed, n), 0o644))
	}
	put("stays", 1, mib)
	put("goes", 2, 3*mib)
	first, _ := take(t, l, dir, nil)
	require.NoError(t, os.Remove(filepath.Join(dir, "goes")))
	second, _ := take(t, l, dir, nil)
	reader := open(t, home)
	whole := func() {
		s, err := reader.Read("server-1", second.ID)
		require.NoError(t, err)
		var b bytes.Buffer
		require.NoError(t, reader.Copy(&b, s.Entries[0]))
		assert.Equal(t, noise(1, mib), b.Bytes())
	}
	whole()
	require.NoError(t, l.Drop("server-1", first.ID))
	w := open(t, home).Writer()
	_, err := l.GiveBack(context.Background(), nil)
	assert.ErrorIs(t, err, ErrBusy)
	w.Close()
	freed, err := l.GiveBack(context.Background(), nil)
	require.NoError(t, err)
	assert.InDelta(t, 3*mib, freed, 0.1*mib)
	whole()
	freed, err = l.GiveBack(context.Background(), nil)
	require.NoError(t, err)
	assert.Zero(t, freed)
	// A set that can't be read might name anything: nothing goes then. So it is
	// with one that was cut short between two blocks, or lost one.
	sets, _ := filepath.Glob(filepath.Join(home, "sets/server-1/*.set"))
	frames, err := set.ReadFrames(sets[0])
	require.NoError(t, err)
	for _, left := range [][][]byte{frames[:len(frames)-1], {frames[0], frames[len(frames)-1]}} {
		var b bytes.Buffer
		for _, f := range left {
			require.NoError(t, frame.WriteMarked(&b, f))
		}
		require.NoError(t, os.WriteFile(sets[0], b.Bytes(), 0o600))
		_, err = l.GiveBack(context.Background(), nil)
		require.ErrorContains(t, err, "nothing is given back while a set can't be read")
		c, err := l.Check(context.Background(), []*set.Set{second}, Share{}, nil)
		require.NoError(t, err)
		assert.NotEmpty(t, c.Broken)
	}
	require.NoError(t, os.WriteFile(sets[0], []byte("x"), 0o600))
	_, err = l.GiveBack(context.Background(), nil)
	assert.ErrorContains(t, err, "nothing is given back while a set can't be read")
}

// A clock that was ahead when a backup was taken, and went back since, proves
// nothing: what was rewritten is read again, though its size and time are the same,
// and the next backup has the next number.
func TestAClockThatWentBackProvesNothing(t *testing.T) {
	dir, l := t.TempDir(), open(t, t.TempDir())
	at := filepath.Join(dir, "world")
	old := time.Now().Add(-time.Hour)
	write := func(text string) {
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
		require.NoError(t, os.Chtimes(at, old, old))
	}
	write("before")
	_, first := take(t, l, dir, nil)
	for i := range first.Entries {
		first.Entries[i].ReadAt += int64(240 * time.Hour)
	}
	s := &set.Set{Owner: "server-1", Taken: time.Now().Add(240 * time.Hour)}
	first.Fill(s)
	w := l.Writer()
	require.NoError(t, w.Publish(s))
	w.Close()
	write("after!")
	base, err := l.Base("server-1", s.ID)
	require.NoError(t, err)
	next, got := take(t, l, dir, base)
	assert.EqualValues(t, len("after!"), got.Read)
	assert.Equal(t, "b0003", next.ID)
	var b bytes.Buffer
	require.NoError(t, l.Copy(&b, next.Entries[0]))
	assert.Equal(t, "after!", b.String())
}

// Content is held against a stored file by its hash, or by its pieces where the
// hash of the whole was left out.
func TestContentIsHeldAgainstAFileByItsPieces(t *testing.T) {
	l := open(t, t.TempDir())
	for _, size := range []int{0, 5, cut.Min, cut.Max + 1, 2*mib + 7} {
		w := l.Writer()
		w.PiecesAlone = true
		b := noise(uint64(size), size)
		f, err := w.Add(context.Background(), bytes.NewReader(b), nil)
		require.NoError(t, err)
		require.NoError(t, w.Publish(&set.Set{Owner: "server-1", Entries: []set.File{f}}))
		w.Close()
		assert.Equal(t, len(f.PieceSums()) > 1, f.Sum.IsZero(), size)
		same := func(b []byte) bool {
			ok, err := l.Same(bytes.NewReader(b), f)
			require.NoError(t, err)
			return ok
		}
		assert.True(t, same(b), size)
		assert.False(t, same(append(bytes.Clone(b), 'x')), size)
		if size > 0 {
			assert.False(t, same(b[:size-1]), size)
			spoilt := bytes.Clone(b)
			spoilt[size/2] ^= 1
			assert.False(t, same(spoilt), size)
		}
		var out bytes.Buffer
		require.NoError(t, l.Copy(&out, f))
		assert.True(t, bytes.Equal(b, out.Bytes()))
	}
}

// Cuts are bounded, follow the content, and come back after what was put in.
func TestCutsFollowTheContent(t *testing.T) {
	cuts := func(b []byte) map[tree.Sum]bool {
		out := map[tree.Sum]bool{}
		for len(b) > 0 {
			n := cut.Next(b)
			require.LessOrEqual(t, n, cut.Max)
			if n < len(b) {
				require.GreaterOrEqual(t, n, cut.Min)
			}
			out[cut.Sum(b[:n])] = true
			b = b[n:]
		}
		return out
	}
	b := noise(3, 8*mib)
	before := cuts(b)
	after := cuts(slices.Concat(b[:3*mib+5], []byte("a few words"), b[3*mib+5:]))
	fresh := 0
	for s := range after {
		if !before[s] {
			fresh++
		}
	}
	assert.LessOrEqual(t, fresh, 4)
	assert.Len(t, cuts(make([]byte, 4*mib)), 1, "a hole is one piece, over and over")
	assert.Equal(t, cut.Max, cut.New(cut.Min, cut.Average, cut.Max).Next(make([]byte, cut.Max), true),
		"as it would be if it were asked")
	// Text has no byte behind which a cut is looked for first.
	var text []byte
	for i := range 200_000 {
		text = fmt.Appendf(text, "line %d of a log\n", i*i)
	}
	before, after = cuts(text), cuts(slices.Concat(text[:mib], []byte("a few words"), text[mib:]))
	assert.Greater(t, len(before), 8)
	fresh = 0
	for s := range after {
		if !before[s] {
			fresh++
		}
	}
	assert.LessOrEqual(t, fresh, 4)
	// A cut that is seen with what follows is seen without it, or not at all.
	for len(b) > cut.Max {
		n := cut.Next(b)
		for _, seen := range []int{n / 2, n - 1, n, n + 1, n + 5000} {
			if got := cut.In(b[:min(seen, cut.Max)], false); got != 0 {
				require.Equal(t, n, got)
			}
		}
		b = b[n:]
	}
}

// Each piece is in exactly one share, so that as many days read everything; and
// what a share finds is what is damaged in it.
func TestSharesTogetherAreEverything(t *testing.T) {
	dir, l := install(t), open(t, t.TempDir())
	s, _ := take(t, l, dir, nil)
	all, err := l.Check(context.Background(), []*set.Set{s}, Share{}, nil)
	require.NoError(t, err)
	pieces, bytes := 0, int64(0)
	for at := range uint64(5) {
		c, err := l.Check(context.Background(), []*set.Set{s}, Share{At: at, Of: 5}, nil)
		require.NoError(t, err)
		pieces += c.Pieces
		bytes += c.Bytes
		assert.Empty(t, c.Damaged)
	}
	assert.Equal(t, [2]int64{int64(all.Pieces), all.Bytes}, [2]int64{int64(pieces), bytes})
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = l.Check(ctx, []*set.Set{s}, Share{}, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

// A set in one frame, as it was written before, and lines that any JSON program
// might write are read like any other.
func TestASetInOneFrameIsRead(t *testing.T) {
	dir, l := t.TempDir(), open(t, t.TempDir())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("a"), 0o644))
	s, _ := take(t, l, dir, nil)
	path, err := l.PathOf("server-1", s.ID)
	require.NoError(t, err)
	frames, err := set.ReadFrames(path)
	require.NoError(t, err)
	var text []byte
	for _, f := range frames {
		text, err = frame.Inflate(f, text)
		require.NoError(t, err)
	}
	text = bytes.ReplaceAll(text, []byte(`,"kind":"file"`), []byte(`, "kind" : "file"`))
	enc := frame.Encoders.Get().(*zstd.Encoder)
	require.NoError(t, os.WriteFile(path, enc.EncodeAll(text, nil), 0o600))
	read, err := l.Read("server-1", s.ID)
	require.NoError(t, err)
	assert.Equal(t, s.Entries[0].Sum, read.Entries[0].Sum)
	base, err := l.Base("server-1", s.ID)
	require.NoError(t, err)
	_, got := take(t, l, dir, base)
	assert.Len(t, got.Entries, 1)
	_, err = l.Base("server-1", "b0099")
	assert.ErrorIs(t, err, set.ErrNoSet)
}

// A set does not appear before its packs are durable: not at all where one can't be.
func TestASetDoesNotAppearWithoutItsPacks(t *testing.T) {
	dir, l := install(t), open(t, t.TempDir())
	w := l.Writer()
	w.PiecesAlone = true
	got, err := w.Take(t.Context(), dir, nil, nil, nil, nil)
	require.NoError(t, err)
	parts, err := filepath.Glob(filepath.Join(l.dir, "packs", "*.part"))
	require.NoError(t, err)
	require.NotEmpty(t, parts)
	for _, p := range parts {
		require.NoError(t, os.Remove(p))
	}
	s := &set.Set{Owner: "server-1"}
	got.Fill(s)
	assert.Error(t, w.Publish(s))
	w.Close()
	left, err := filepath.Glob(filepath.Join(l.dir, "sets", "server-1", "*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// A backup leans on no piece that no index names: what an index lost is read and
// stored anew, also where a file's times prove that it did not change.
func TestABackupLeansOnNoPieceThatNoIndexNames(t *testing.T) {
	dir, home := t.TempDir(), t.TempDir()
	for i := range 40 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprint("f", i)), noise(uint64(i), 100_000), 0o644))
	}
	l := open(t, home)
	first, got := take(t, l, dir, nil)
	readLater(t, l, first, got)
	list, err := filepath.Glob(filepath.Join(home, "packs/*.idx"))
	require.NoError(t, err)
	for _, idx := range list {
		require.NoError(t, os.Truncate(idx, 100))
	}
	l = open(t, home)
	base, err := l.Base("server-1", first.ID)
	require.NoError(t, err)
	second, _ := take(t, l, dir, base)
	again := open(t, home)
	s, err := again.Read("server-1", second.ID)
	require.NoError(t, err)
	for _, f := range s.Entries {
		var b bytes.Buffer
		require.NoError(t, again.Copy(&b, f), f.Path)
		assert.EqualValues(t, 100_000, b.Len())
	}
}

// Whoever has begun to look at a set sees all of it, though another command drops it.
func TestALookGoesOnThoughTheSetIsDropped(t *testing.T) {
	dir, l := t.TempDir(), open(t, t.TempDir())
	for i := range 2500 { // several blocks
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%05d", i)), []byte{byte(i)}, 0o644))
	}
	stored, taken := take(t, l, dir, nil)
	list := make([]tree.Entry, len(taken.Entries))
	for i := range taken.Entries {
		list[i] = taken.Entries[i].Entry
	}
	b, err := l.Look(stored.Owner, stored.ID)
	require.NoError(t, err)
	require.NoError(t, l.Drop(stored.Owner, stored.ID))
	assert.Zero(t, b.Unproven(list))
	heads, err := l.Heads(stored.Owner)
	require.NoError(t, err)
	assert.Empty(t, heads)
	_, err = l.Look(stored.Owner, stored.ID)
	assert.ErrorIs(t, err, set.ErrNoSet)
}
