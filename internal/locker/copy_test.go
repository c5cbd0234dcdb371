package locker

import (
	"bytes"
	"encoding/binary"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"freshkeel/internal/store"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// copyIn is a copy in a folder, and how a push to it goes.
func copyIn(t *testing.T, dir, cache string) *Copy {
	t.Helper()
	f, err := store.OpenFolder(dir)
	require.NoError(t, err)
	return NewCopy(f, nil, cache)
}

func push(t *testing.T, l *Locker, c *Copy, how How, sets ...*Set) *Pushing {
	t.Helper()
	p, err := l.Begin(t.Context(), c, how)
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
	link := File{Entry: tree.Entry{Path: "way", Kind: tree.Link, Target: "/etc"}}
	for name, entries := range map[string][]File{
		"up":             {{Entry: tree.Entry{Path: "../evil", Kind: tree.File}}},
		"up in between":  {{Entry: tree.Entry{Path: "a/../../evil", Kind: tree.Dir}}},
		"from the root":  {{Entry: tree.Entry{Path: "/etc/evil", Kind: tree.File}}},
		"through a link": {link, {Entry: tree.Entry{Path: "way/evil", Kind: tree.File}}},
		"deep":           {link, {Entry: tree.Entry{Path: "way/further/evil", Kind: tree.File}}},
	} {
		t.Run(name, func(t *testing.T) {
			l, dir, cache := open(t, t.TempDir()), t.TempDir(), t.TempDir()
			for i := range entries {
				if entries[i].Kind == tree.File {
					entries[i].Sum = tree.SumBytes(nil)
				}
			}
			w := l.Writer()
			s := &Set{Owner: "server-1", Entries: entries}
			require.NoError(t, w.Publish(s))
			w.Close()
			push(t, l, copyIn(t, dir, cache), How{}, s)
			far, err := copyIn(t, dir, cache).Open(t.Context(), t.TempDir())
			require.NoError(t, err)
			_, err = far.Read("server-1", s.ID)
			var d *Damage
			require.ErrorAs(t, err, &d)
			assert.Contains(t, d.Why, "evil")
			assert.Equal(t, dir+"/sets/server-1/b0001.set", d.Where)
			here := open(t, t.TempDir())
			_, err = here.Bring(t.Context(), far, "server-1", s.ID, Brought{As: s.ID})
			require.ErrorAs(t, err, &d)
			assert.False(t, here.Has("server-1", s.ID))
		})
	}
}

// Who reads a copy while another sends anew what it reads, and removes the packs
// that had it, finds it where it is now.
func TestAReaderOfACopyFollowsWhatIsSentAnew(t *testing.T) {
	l, dir, place, cache := open(t, t.TempDir()), t.TempDir(), t.TempDir(), t.TempDir()
	content := noise(5, 3*mib)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "big"), content, 0o644))
	s, _ := take(t, l, dir, nil)
	push(t, l, copyIn(t, place, cache), How{}, s)
	far, err := copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	set, err := far.Read(s.Owner, s.ID)
	require.NoError(t, err)
	packs, _ := filepath.Glob(filepath.Join(place, "packs/*.zst"))
	require.Len(t, packs, 1)
	name := filepath.Base(packs[0][:len(packs[0])-len(".zst")])
	push(t, l, copyIn(t, place, cache), How{Mend: true, Doubt: []string{name}}, s)
	require.NoFileExists(t, packs[0])
	var b bytes.Buffer
	require.NoError(t, far.Copy(&b, set.Entries[0]))
	assert.True(t, bytes.Equal(content, b.Bytes()))

	// And where it is nowhere any more, that is damage, named as it is there.
	packs, _ = filepath.Glob(filepath.Join(place, "packs/*.zst"))
	require.NoError(t, os.Remove(packs[0]))
	far, err = copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	_, err = far.Read(s.Owner, s.ID)
	require.NoError(t, err)
	var d *Damage
	require.ErrorAs(t, far.Copy(&b, set.Entries[0]), &d)
	assert.Equal(t, packs[0], d.Where)
}

// The table of pieces is a map: whatever is entered and found, in any order. Of a piece
// that lies over another the whole line counts first, then one of which all is there.
func TestPiecesAreFoundLikeInAMap(t *testing.T) {
	var x pieces
	_, _, ok := x.find(tree.Sum{})
	assert.False(t, ok)
	want := map[tree.Sum]place{}
	r := rand.New(rand.NewPCG(3, 4))
	sum := func(n int) (s tree.Sum) {
		binary.LittleEndian.PutUint64(s[:], uint64(n%97)) // many begin alike
		binary.LittleEndian.PutUint64(s[8:], uint64(n))
		return s
	}
	for pack := range 300 {
		lines := make([]held, r.IntN(40))
		for i := range lines {
			ln := line{sum(r.IntN(6000)), place{pack: int32(pack), off: int64(i), size: int32(r.IntN(1000))}}
			lines[i], want[ln.sum] = heldOf(ln), ln.place
		}
		if pack%50 == 0 {
			x.grow(r.IntN(5000))
		}
		x.add(&index{lines: lines})
	}
	for n := range 6100 {
		p, _, ok := x.find(sum(n))
		is, has := want[sum(n)]
		require.Equal(t, has, ok)
		require.Equal(t, is, p)
	}
	assert.Equal(t, len(want), x.n)

	// 7000 lies over what is not there, then over what is; then it is whole.
	add := func(n, base int) {
		in := &index{lines: []held{{sum: sum(n), off: uint32(base)}}}
		if base > 0 {
			in.over = map[tree.Sum]tree.Sum{sum(n): sum(base)}
		}
		x.add(in)
	}
	at := func(n int) (int64, bool) {
		p, base, ok := x.find(sum(n))
		if ok && p.off > 0 {
			assert.Equal(t, sum(int(p.off)), base)
		}
		return p.off, ok
	}
	add(7000, 7001)
	_, ok = at(7000)
	assert.False(t, ok, "its base is not there")
	add(7002, 0)
	add(7000, 7002)
	off, ok := at(7000)
	assert.True(t, ok)
	assert.EqualValues(t, 7002, off)
	add(7000, 0)
	off, ok = at(7000)
	assert.True(t, ok)
	assert.Zero(t, off)
	add(7000, 7002)
	off, _ = at(7000)
	assert.Zero(t, off)
	for n := range 2 * maxOver { // a chain, and a ring
		add(8001+n, 8000+n)
	}
	add(8000, 0)
	_, ok = at(8000 + maxOver)
	assert.True(t, ok)
	_, ok = at(8001 + maxOver)
	assert.False(t, ok, "over too many")
	add(9000, 9001)
	add(9001, 9000)
	_, ok = at(9000)
	assert.False(t, ok)
}

// What is of use in packs that are mostly of none is sent anew, and they go; but
// where a set of the copy is not here any more, nothing can be told apart.
func TestACopyWearsWell(t *testing.T) {
	l, dir, place, cache := open(t, t.TempDir()), t.TempDir(), t.TempDir(), t.TempDir()
	put := func(name string, seed uint64, n int) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), noise(seed, n), 0o644))
	}
	put("stays", 1, mib)
	put("goes", 2, 3*mib)
	first, _ := take(t, l, dir, nil)
	put("goes", 3, 3*mib)
	second, _ := take(t, l, dir, nil)
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
	require.Greater(t, size(), int64(7*mib))
	drop := func(here bool) int64 {
		if !here {
			require.NoError(t, l.Drop(second.Owner, second.ID))
		}
		p, err := l.Begin(t.Context(), copyIn(t, place, cache), How{})
		require.NoError(t, err)
		defer p.Close()
		require.NoError(t, p.Drop(t.Context(), first))
		require.NoError(t, p.Wear(t.Context(), nil))
		_, err = p.GiveBack(t.Context())
		require.NoError(t, err)
		return size()
	}
	assert.Less(t, drop(true), int64(4*mib+mib/2), "four are needed")
	far, err := copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	heads, err := far.Heads(second.Owner)
	require.NoError(t, err)
	require.Len(t, heads, 1)
	checked, err := far.Check(t.Context(), heads, Share{}, nil)
	require.NoError(t, err)
	assert.Empty(t, checked.Damaged)
	assert.Empty(t, checked.Broken)

	push(t, l, copyIn(t, place, cache), How{}, first)
	before := size()
	assert.Less(t, drop(false), before, "what no set needs goes in any case")
	far, err = copyIn(t, place, cache).Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	checked, err = far.Check(t.Context(), heads, Share{}, nil)
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
			l, dir, place, cache := open(t, t.TempDir()), t.TempDir(), t.TempDir(), t.TempDir()
			require.NoError(t, os.WriteFile(filepath.Join(dir, "big"), noise(6, mib), 0o644))
			gone, _ := take(t, l, dir, nil)
			push(t, l, copyIn(t, place, cache), How{}, gone)
			packs, _ := filepath.Glob(filepath.Join(place, "packs/*"))
			require.Len(t, packs, 2)
			require.NoError(t, spoil(packs[1]))
			left, _ := filepath.Glob(filepath.Join(place, "packs/*"))
			here, _ := take(t, l, dir, nil)
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
