package mirror

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"freshkeel/internal/locker"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/store"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mebi = 1 << 20

// grain is content that does not compress.
func grain(seed uint64, n int) []byte {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{byte(seed), 1}).Read(b)
	return b
}

func lockerIn(t *testing.T, dir string) *locker.Locker {
	t.Helper()
	l, err := locker.Open(dir)
	require.NoError(t, err)
	return l
}

// backUp backs a folder up.
func backUp(t *testing.T, l *locker.Locker, dir string, base *set.Base) *set.Set {
	t.Helper()
	w := l.Writer()
	defer w.Close()
	w.PiecesAlone = true
	got, err := w.Take(t.Context(), dir, nil, nil, base, nil)
	require.NoError(t, err)
	s := &set.Set{Owner: "server-1"}
	got.Fill(s)
	require.NoError(t, w.Publish(s))
	return s
}

// copyIn is a copy in a folder, and how a push to it goes.
func copyIn(t *testing.T, dir, cache string) *Copy {
	t.Helper()
	f, err := store.OpenFolder(dir)
	require.NoError(t, err)
	return NewCopy(f, nil, cache)
}

func push(t *testing.T, l *locker.Locker, c *Copy, how How, sets ...*set.Set) *Pushing {
	t.Helper()
	p, err := Begin(t.Context(), l, c, how)
	require.NoError(t, err)
	defer p.Close()
	for _, s := range sets {
		require.NoError(t, p.Push(t.Context(), s, nil))
	}
	_, err = p.GiveBack(t.Context())
	require.NoError(t, err)
	return p
}

// A copy has been in other hands: a set whose entries would be laid out outside their
// folder is refused, read or brought.
func TestASetOfACopyStaysInItsFolder(t *testing.T) {
	link := set.File{Entry: tree.Entry{Path: "way", Kind: tree.Link, Target: "/etc"}}
	for name, entries := range map[string][]set.File{
		"up":             {{Entry: tree.Entry{Path: "../evil", Kind: tree.File}}},
		"up in between":  {{Entry: tree.Entry{Path: "a/../../evil", Kind: tree.Dir}}},
		"from the root":  {{Entry: tree.Entry{Path: "/etc/evil", Kind: tree.File}}},
		"through a link": {link, {Entry: tree.Entry{Path: "way/evil", Kind: tree.File}}},
		"deep":           {link, {Entry: tree.Entry{Path: "way/further/evil", Kind: tree.File}}},
	} {
		t.Run(name, func(t *testing.T) {
			l, dir, cache := lockerIn(t, t.TempDir()), t.TempDir(), t.TempDir()
			for i := range entries {
				if entries[i].Kind == tree.File {
					entries[i].Sum = tree.SumBytes(nil)
				}
			}
			w := l.Writer()
			s := &set.Set{Owner: "server-1", Entries: entries}
			require.NoError(t, w.Publish(s))
			w.Close()
			push(t, l, copyIn(t, dir, cache), How{}, s)
			far, err := copyIn(t, dir, cache).Open(t.Context(), t.TempDir())
			require.NoError(t, err)
			_, err = far.Read("server-1", s.ID)
			var d *set.Damage
			require.ErrorAs(t, err, &d)
			assert.Contains(t, d.Why, "evil")
			assert.Equal(t, dir+"/sets/server-1/b0001.set", d.Where)
			here := lockerIn(t, t.TempDir())
			_, err = Bring(t.Context(), here, far, "server-1", s.ID, Brought{As: s.ID})
			require.ErrorAs(t, err, &d)
			assert.False(t, here.Has("server-1", s.ID))
		})
	}
}

// Who reads a copy while another sends anew what it reads, and removes the packs
// that had it, finds it where it is now.
func TestAReaderOfACopyFollowsWhatIsSentAnew(t *testing.T) {
	l, dir, place, cache := lockerIn(t, t.TempDir()), t.TempDir(), t.TempDir(), t.TempDir()
	content := grain(5, 3*mebi)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "big"), content, 0o644))
	s := backUp(t, l, dir, nil)
	push(t, l, copyIn(t, place, cache), How{}, s)
	far, err := copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	stored, err := far.Read(s.Owner, s.ID)
	require.NoError(t, err)
	packs, _ := filepath.Glob(filepath.Join(place, "packs/*.zst"))
	require.Len(t, packs, 1)
	name := filepath.Base(packs[0][:len(packs[0])-len(".zst")])
	push(t, l, copyIn(t, place, cache), How{Mend: true, Doubt: []string{name}}, s)
	require.NoFileExists(t, packs[0])
	var b bytes.Buffer
	require.NoError(t, far.Copy(&b, stored.Entries[0]))
	assert.True(t, bytes.Equal(content, b.Bytes()))

	// And where it is nowhere any more, that is damage, named as it is there.
	packs, _ = filepath.Glob(filepath.Join(place, "packs/*.zst"))
	require.NoError(t, os.Remove(packs[0]))
	far, err = copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	_, err = far.Read(s.Owner, s.ID)
	require.NoError(t, err)
	var d *set.Damage
	require.ErrorAs(t, far.Copy(&b, stored.Entries[0]), &d)
	assert.Equal(t, packs[0], d.Where)
}

// What is of use in packs that are mostly of none is sent anew, and they go; but
// where a set of the copy is not here any more, nothing can be told apart.
func TestACopyWearsWell(t *testing.T) {
	l, dir, place, cache := lockerIn(t, t.TempDir()), t.TempDir(), t.TempDir(), t.TempDir()
	put := func(name string, seed uint64, n int) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), grain(seed, n), 0o644))
	}
	put("stays", 1, mebi)
	put("goes", 2, 3*mebi)
	first := backUp(t, l, dir, nil)
	put("goes", 3, 3*mebi)
	second := backUp(t, l, dir, nil)
	size := func() (n int64) {
		list, err := filepath.Glob(filepath.Join(place, "packs/*.zst"))
		require.NoError(t, err)
		for _, at := range list {
			fi, err := os.Stat(at)
			require.NoError(t, err)
			n += fi.Size()
		}
		return n
	}
	push(t, l, copyIn(t, place, cache), How{}, first, second)
	require.Greater(t, size(), int64(7*mebi))
	drop := func(here bool) int64 {
		if !here {
			require.NoError(t, l.Drop(second.Owner, second.ID))
		}
		p, err := Begin(t.Context(), l, copyIn(t, place, cache), How{})
		require.NoError(t, err)
		defer p.Close()
		require.NoError(t, p.Drop(t.Context(), first))
		require.NoError(t, p.Wear(t.Context(), nil))
		_, err = p.GiveBack(t.Context())
		require.NoError(t, err)
		return size()
	}
	assert.Less(t, drop(true), int64(4*mebi+mebi/2), "four are needed")
	far, err := copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	heads, err := far.Heads(second.Owner)
	require.NoError(t, err)
	require.Len(t, heads, 1)
	checked, err := far.Check(t.Context(), heads, locker.Share{}, nil)
	require.NoError(t, err)
	assert.Empty(t, checked.Damaged)
	assert.Empty(t, checked.Broken)

	push(t, l, copyIn(t, place, cache), How{}, first)
	before := size()
	assert.Less(t, drop(false), before, "what no set needs goes in any case")
	far, err = copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	checked, err = far.Check(t.Context(), heads, locker.Share{}, nil)
	require.NoError(t, err)
	assert.Empty(t, checked.Damaged, "and what one that is there alone needs stays")
}

// A pack of a copy that is cut short, or has lost its index, keeps what it has as long
// as a set needs it: a push mends what is here, and sweeps nothing that is there alone.
func TestADamagedPackOfACopyIsNotSwept(t *testing.T) {
	for name, spoil := range map[string]func(pack string) error{
		"cut short":    func(pack string) error { return os.Truncate(pack, 100<<10) },
		"index gone":   func(pack string) error { return os.Remove(pack[:len(pack)-len(".zst")] + ".idx") },
		"content gone": os.Remove,
	} {
		t.Run(name, func(t *testing.T) {
			l, dir, place, cache := lockerIn(t, t.TempDir()), t.TempDir(), t.TempDir(), t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "big"), grain(6, mebi), 0o644))
			gone := backUp(t, l, dir, nil)
			push(t, l, copyIn(t, place, cache), How{}, gone)
			packs, _ := filepath.Glob(filepath.Join(place, "packs/*"))
			require.Len(t, packs, 2)
			require.NoError(t, spoil(packs[1]))
			left, _ := filepath.Glob(filepath.Join(place, "packs/*"))
			here := backUp(t, l, dir, nil)
			require.NoError(t, l.Drop(gone.Owner, gone.ID)) // the copy alone has it
			push(t, l, copyIn(t, place, cache), How{}, here)
			for _, at := range left {
				assert.FileExists(t, at)
			}
			far, err := copyIn(t, place, cache).Open(t.Context(), t.TempDir())
			require.NoError(t, err)
			set, err := far.Read(here.Owner, here.ID)
			require.NoError(t, err)
			var b bytes.Buffer
			require.NoError(t, far.Copy(&b, set.Entries[0]), "what is here was sent anew")
		})
	}
}

// Nobody keeps the locker from giving space back where its gate can't be held: no set may
// appear then, though all that it needs is stored.
func TestNoSetAppearsWithoutTheGate(t *testing.T) {
	home, dir, place, cache := t.TempDir(), t.TempDir(), t.TempDir(), t.TempDir()
	l := lockerIn(t, home)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "world"), grain(1, mebi), 0o644))
	s := backUp(t, l, dir, nil)
	push(t, l, copyIn(t, place, cache), How{}, s)
	require.NoError(t, l.Drop(s.Owner, s.ID)) // its pieces stay
	require.NoError(t, os.Remove(filepath.Join(home, "gate")))
	require.NoError(t, os.Mkdir(filepath.Join(home, "gate"), 0o700))

	far, err := copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	_, err = Bring(t.Context(), l, far, s.Owner, s.ID, Brought{As: s.ID})
	assert.ErrorContains(t, err, "write to the locker")
	w := l.Writer()
	defer w.Close()
	assert.ErrorContains(t, w.Publish(&set.Set{Owner: s.Owner}), "write to the locker")
	heads, err := l.Heads(s.Owner)
	require.NoError(t, err)
	assert.Empty(t, heads)
}

// A copy alone has all that it says that it has, of a file that is stored over its past, and
// another locker can take it up, whatever was thinned and given back here and there.
func TestACopyHasAFileAndItsPast(t *testing.T) {
	dir, home, place, cache := t.TempDir(), t.TempDir(), t.TempDir(), t.TempDir()
	at := filepath.Join(dir, "world.db")
	r := rand.New(rand.NewPCG(8, 8))
	content := grain(9, 3*mebi+1234)
	was := map[string][]byte{}
	var last *set.Set
	for n := range 3 * index.MaxOver {
		l := lockerIn(t, home)
		require.NoError(t, os.WriteFile(at, content, 0o644))
		var base *set.Base
		if last != nil {
			var err error
			base, err = l.Base(last.Owner, last.ID)
			require.NoError(t, err)
		}
		s := backUp(t, l, dir, base)
		was[s.ID] = bytes.Clone(content)
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
		if n%3 == 2 { // a copy has some of them
			var some []*set.Set
			heads, err := l.Heads("server-1")
			require.NoError(t, err)
			for _, h := range heads {
				if h.Files%2 == 1 && r.IntN(2) == 0 || h.ID == s.ID {
					some = append(some, h)
				}
			}
			p := push(t, l, copyIn(t, place, cache), How{}, some...)
			if n%6 == 5 {
				for _, h := range p.Copied("server-1")[:2] {
					require.NoError(t, p.Drop(t.Context(), h))
				}
				require.NoError(t, p.Wear(t.Context(), nil))
				_, err = p.GiveBack(t.Context())
				require.NoError(t, err)
			}
		}
		switch n % 8 {
		case 7: // grown in the middle
			content = slices.Insert(content, r.IntN(len(content)), grain(uint64(n), 1+r.IntN(100_000))...)
		default:
			for range 3 {
				copy(content[r.IntN(len(content)-4096):], grain(uint64(n), 4096))
			}
		}
	}
	far, err := copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	heads, err := far.Heads("server-1")
	require.NoError(t, err)
	require.Greater(t, len(heads), 5)
	other := lockerIn(t, t.TempDir())
	for _, h := range heads {
		_, err := Bring(t.Context(), other, far, "server-1", h.ID, Brought{As: h.ID})
		require.NoError(t, err)
	}
	for _, l := range []*locker.Locker{far, other} {
		checked, err := l.Check(t.Context(), heads, locker.Share{}, nil)
		require.NoError(t, err)
		assert.Empty(t, checked.Damaged)
		assert.Empty(t, checked.Broken)
		assert.Equal(t, len(heads), checked.Sets)
	}
	compared := 0
	for _, h := range heads {
		if was[h.ID] == nil {
			continue // it went here
		}
		s, err := other.Read("server-1", h.ID)
		require.NoError(t, err)
		var out bytes.Buffer
		require.NoError(t, other.Copy(&out, s.Entries[0]))
		assert.True(t, bytes.Equal(was[h.ID], out.Bytes()))
		compared++
	}
	assert.Greater(t, compared, 3)
}

// A look at a copy names each set that was sent and is not there as it was, remembers what it has shown, and a
// push sends anew what is here; of what is nowhere any more it tells once.
func TestALookNamesWhatACopyHasLost(t *testing.T) {
	l, dir, cache, from := lockerIn(t, t.TempDir()), t.TempDir(), t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(from, "a"), grain(1, mebi), 0o600))
	first := backUp(t, l, from, nil)
	require.NoError(t, os.WriteFile(filepath.Join(from, "b"), grain(2, mebi), 0o600))
	second := backUp(t, l, from, nil)
	push(t, l, copyIn(t, dir, cache), How{}, first, second)
	known := func() []string { return KnownOf(cache, copyIn(t, dir, cache).Where()).Sets }
	look := func(here *locker.Locker) (out []string) {
		lacks, err := copyIn(t, dir, cache).Look(t.Context(), here, "server-1")
		require.NoError(t, err)
		for _, k := range lacks {
			out = append(out, k.ID+": "+k.Why)
		}
		return out
	}
	assert.Empty(t, look(l))
	assert.Equal(t, []string{"server-1/b0001", "server-1/b0002"}, known())
	at := filepath.Join(dir, "sets/server-1/b0001.set")
	whole, err := os.ReadFile(at)
	require.NoError(t, err)
	require.NoError(t, os.Remove(at))
	for _, here := range []*locker.Locker{l, nil} { // what was sent is known without the locker, too
		assert.Equal(t, []string{"b0001: it was sent, and is not there any more"}, look(here))
		assert.Equal(t, []string{"server-1/b0002"}, known())
	}
	require.NoError(t, os.WriteFile(at, append(whole, ' '), 0o600))
	assert.Len(t, look(nil), 1)
	assert.Contains(t, look(l)[0], "b0001: another backup stands there than was sent, taken ")
	require.NoError(t, os.WriteFile(at, whole, 0o600))
	assert.Empty(t, look(l))
	assert.Len(t, known(), 2)

	require.NoError(t, os.RemoveAll(filepath.Join(dir, "sets")))
	assert.Len(t, look(l), 2)
	push(t, l, copyIn(t, dir, cache), How{}, first, second)
	assert.Empty(t, look(l))

	require.NoError(t, os.Remove(at))
	path, err := l.PathOf("server-1", "b0001")
	require.NoError(t, err)
	require.NoError(t, os.Remove(path))
	p := push(t, l, copyIn(t, dir, cache), How{}, second)
	assert.Equal(t, []string{"server-1/b0001"}, p.Lost, "it is nowhere any more")
	assert.Empty(t, look(l), "and told once")
	assert.Empty(t, push(t, l, copyIn(t, dir, cache), How{}, second).Lost)

	require.NoError(t, push(t, l, copyIn(t, dir, cache), How{}).Drop(t.Context(), second))
	assert.Empty(t, look(l), "what was dropped on purpose is not missed")
}
