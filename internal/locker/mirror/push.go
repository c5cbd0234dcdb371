package mirror

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/store"
	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"
)

// Pushing is a copy that is being written to. Close it in any case.
type Pushing struct {
	c    *Copy
	l    *locker.Locker
	lock *flock.Flock
	halt func(string) error

	mu     sync.Mutex
	pieces index.Table       // what the copy holds
	packs  []string          // place.pack indexes it
	there  map[string]int64  // packs that are there whole → their bytes
	sets   map[string]*needs // "OWNER/ID" → what it needs; nil where that is not known
	spare  []string          // objects that a dead push left
	doubt  map[string]bool   // packs that are there and don't read back
	mend   bool
	sent   int64    // bytes
	Lost   []string // "OWNER/ID" of sets that were sent once, and are neither there nor here
	empty  []*parcel
}

// How is how a copy is written to.
type How struct {
	Claim bool               // it becomes this locker's, whoever's it was
	Dry   bool               // nothing is written
	Mend  bool               // the indexes there are held against what is known of them here,
	Doubt []string           // and what these packs hold, which don't read back, is sent anew, where it is here
	Halt  func(string) error // called between steps, for tests; may be nil
}

// Begin looks at what a copy holds, and keeps every other push of this machine out
// until Close.
func Begin(ctx context.Context, l *locker.Locker, c *Copy, how How) (*Pushing, error) {
	halt := how.Halt
	if halt == nil {
		halt = func(string) error { return nil }
	}
	if err := os.MkdirAll(c.cache, 0o700); err != nil {
		return nil, err
	}
	p := &Pushing{c: c, l: l, halt: halt, lock: tree.NewLock(filepath.Join(c.cache, "lock")),
		there: map[string]int64{}, sets: map[string]*needs{}, doubt: map[string]bool{}}
	p.mend = how.Mend
	for _, name := range how.Doubt {
		p.doubt[name] = true
	}
	if ok, err := p.lock.TryLock(); err != nil {
		return nil, err
	} else if !ok {
		return nil, ErrPushing
	}
	err := p.keep(ctx, how.Claim, how.Dry)
	if err == nil {
		if f, ok := c.place.(*store.Folder); ok && !how.Dry {
			f.Sweep()
		}
		err = p.look(ctx)
	}
	if err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// ErrPushing says that another command is writing to the same copy.
var ErrPushing = errors.New("another command is writing to this copy now")

// Close lets others write.
func (p *Pushing) Close() { p.lock.Unlock() }

// keep makes sure that the copy is ours to write to, and says so there.
func (p *Pushing) keep(ctx context.Context, claim, dry bool) error {
	c := p.c
	us, err := p.l.ID()
	if err != nil {
		return err
	}
	var k keeper
	b, err := store.Read(ctx, c.place, "keeper", 1<<16)
	known := filepath.Join(c.cache, "keeper")
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if _, was := os.Stat(known); was == nil && !claim {
			return &Foreign{
				c.Where(),
				"it is empty, and was not when it was last written to: is another disk mounted there?",
			}
		}
		if list, err := c.place.List(ctx, ""); err != nil {
			return err
		} else if len(list) > 0 && !claim {
			return &Foreign{c.Where(), fmt.Sprintf("it holds other files and no copy, the first is %s", list[0].Name)}
		}
	case err != nil:
		return err
	case json.Unmarshal(b, &k) != nil || k.Format != copyFormat:
		return &Foreign{c.Where(), "its file «keeper» is not one of this program's"}
	case k.Sealed != (c.sealed != nil):
		if k.Sealed {
			return &Foreign{
				c.Where(),
				"what it holds is encrypted, and the profile names no recipient: give each its own place",
			}
		}
		return &Foreign{c.Where(), "what it holds is not encrypted, and the profile names a recipient: give each " +
			"its own place"}
	case k.Locker == us:
		return tree.WriteFile(known, b, 0o600)
	case !claim:
		return &Foreign{c.Where(), "another locker has written to it since " +
			k.Since.Local().Format("2006-01-02 15:04") + ": two that write there would spoil each other's"}
	}
	if dry {
		return nil
	}
	k = keeper{copyFormat, us, c.sealed != nil, time.Now().Round(0)}
	if b, err = json.Marshal(k); err != nil {
		return err
	}
	if err := store.Put(ctx, c.place, "keeper", append(b, '\n')); err != nil {
		return err
	}
	return tree.WriteFile(known, b, 0o600)
}

// look finds out what the copy holds.
func (p *Pushing) look(ctx context.Context) error {
	c := p.c
	list, err := c.inside.List(ctx, "packs/")
	if err != nil {
		return err
	}
	if p.sets, err = c.sets(ctx); err != nil {
		return err
	}
	needed, all := p.needed()
	content, index := map[string]int64{}, map[string]bool{}
	for _, o := range list {
		if name, ok := strings.CutSuffix(filepath.Base(o.Name), ".zst"); ok {
			content[name] = o.Size
		} else if name, ok := strings.CutSuffix(filepath.Base(o.Name), ".idx"); ok {
			index[name] = true
		}
	}
	for name := range index {
		if _, is := content[name]; !is && all && !needed[name] {
			p.spare = append(p.spare, "packs/"+name+".idx")
		}
	}
	for name, size := range content {
		switch {
		case p.doubt[name]:
		case !index[name] && all && !needed[name]: // a dead push's
			p.spare = append(p.spare, "packs/"+name+".zst")
			delete(content, name)
			continue
		case !index[name]: // it has lost its index, and is all that some set has
			p.doubt[name] = true
		default:
			continue
		}
		p.there[name] = size
		delete(content, name)
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for name, size := range content {
		g.Go(func() error {
			if p.mend {
				if err := c.mendIndex(gctx, name); err != nil {
					return err
				}
			}
			b, err := c.index(gctx, name)
			p.mu.Lock()
			defer p.mu.Unlock()
			switch {
			case errors.Is(err, errUnread): // sealed, and not written from here: what it holds is not known
			case err != nil:
				return err
			}
			// One that is cut short keeps what it has, for sets that are there alone; of
			// those that are here it is sent anew.
			p.there[name] = size
			if err == nil && !p.note(name, b, size) {
				p.doubt[name] = true
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	p.forget()
	return p.remember()
}

// needed is which packs the sets of the copy need; all: it is known of every set.
func (p *Pushing) needed() (packs map[string]bool, all bool) {
	packs, all = map[string]bool{}, true
	for _, n := range p.sets {
		if n == nil {
			all = false
			continue
		}
		for _, name := range n.Packs {
			packs[name] = true
		}
	}
	return packs, all
}

// note takes up what an index says; false where the pack is too short for it, or
// the index can't be read.
func (p *Pushing) note(name string, b []byte, size int64) bool {
	x := index.Parse(b)
	if x.Bad != nil || slices.ContainsFunc(x.Lines,
		func(ln index.Held) bool { return int64(ln.Off)+int64(ln.Stored) > size }) {
		return false
	}
	p.pieces.Add(x)
	p.packs = append(p.packs, name)
	return true
}

// has tells whether the copy holds a piece.
func (p *Pushing) has(s tree.Sum) bool {
	_, _, ok := p.pieces.Find(s)
	return ok
}

// forget drops what this machine knows of packs that are not there any more.
func (p *Pushing) forget() {
	list, _ := os.ReadDir(p.c.cache)
	for _, d := range list {
		if name, ok := strings.CutSuffix(d.Name(), ".idx"); ok {
			if _, there := p.there[name]; !there {
				os.Remove(filepath.Join(p.c.cache, d.Name()))
			}
		}
	}
}

// Holds tells whether a set is in the copy with all that it needs. Where the copy
// has another of the same name it says which.
func (p *Pushing) Holds(ctx context.Context, s *set.Set) (whole bool, other time.Time) {
	n := p.sets[s.Owner+"/"+s.ID]
	if n == nil {
		return false, other
	}
	if !n.Taken.Equal(s.Taken) {
		return false, n.Taken
	}
	if whole = p.whole(n); whole && p.mend { // an index may have lost a piece, or the set there be damaged
		need, err := without(p.l, s.Owner, s.ID, p.has)
		whole = err == nil && len(need) == 0 && p.sameSet(ctx, s)
	}
	return whole, other
}

// sameSet tells whether a set of the copy is the one that is here, as far as it can
// be read.
func (p *Pushing) sameSet(ctx context.Context, s *set.Set) bool {
	path, err := p.l.PathOf(s.Owner, s.ID)
	if err != nil || (p.c.sealed != nil && !p.c.sealed.Readable()) {
		return true
	}
	hash := func(r io.ReadCloser, err error) (sum tree.Sum) {
		if err == nil {
			defer r.Close()
			h := tree.NewHash()
			if _, err := io.Copy(h, r); err == nil {
				sum = h.Sum()
			}
		}
		return sum
	}
	here, err := tree.OpenRegular(path)
	return hash(here, err) == hash(p.c.inside.Get(ctx, "sets/"+s.Owner+"/"+s.ID+".set"))
}

func (p *Pushing) whole(n *needs) bool {
	return !slices.ContainsFunc(n.Packs, func(name string) bool { _, is := p.there[name]; return !is || p.doubt[name] })
}

// Copied lists an owner's sets in the copy, as far as it is known without reading
// them: owner, number, time, and whether they have a label.
func (p *Pushing) Copied(owner string) (out []*set.Set) {
	for key, n := range p.sets {
		o, id, _ := strings.Cut(key, "/")
		if o != owner {
			continue
		}
		s := &set.Set{Owner: o, ID: id}
		if n == nil {
			s.Damage = "it is not known which packs it needs"
		} else if s.Taken = n.Taken; n.Label {
			s.Label = "yes"
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b *set.Set) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// without lists the pieces of a set, and those that they lie over, that has tells are
// not there, each once.
func without(l *locker.Locker, owner, id string, has func(tree.Sum) bool) (need []tree.Sum, err error) {
	seen := map[tree.Sum]bool{}
	err = l.Each(owner, id, func(f *set.File) {
		for _, sum := range f.PieceSums() {
			if seen[sum] || has(sum) {
				continue
			}
			l.Chain(sum, func(s tree.Sum) {
				if !seen[s] && !has(s) {
					seen[s] = true
					need = append(need, s)
				}
			})
		}
	})
	return need, err
}

// parcel is a pack on its way.
type parcel struct {
	name string
	zst  bytes.Buffer
	idx  index.Text
}

// fill begins a parcel, in the memory of one that arrived where there is one: a buffer
// that grows is copied each time.
func (p *Pushing) fill() *parcel {
	p.mu.Lock()
	defer p.mu.Unlock()
	par := &parcel{}
	if n := len(p.empty); n > 0 {
		par, p.empty = p.empty[n-1], p.empty[:n-1]
		par.zst.Reset()
		par.idx.Reset()
	}
	par.zst.Grow(copyPack + frame.Max)
	par.name = locker.NewName()
	return par
}

// Push sends a set: the pieces that the copy has not, in packs, then which packs it
// needs, then the set. Killed at any moment it leaves packs that the next push
// finds, and half of one that it removes. note, which may be nil, hears the bytes
// that arrived, one call at a time.
func (p *Pushing) Push(ctx context.Context, s *set.Set, note func(int64)) error {
	if err := p.clear(ctx); err != nil {
		return err
	}
	need, err := without(p.l, s.Owner, s.ID, p.has)
	if err != nil {
		return err
	}
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(shipping)
	var cur *parcel
	ship := func() {
		if cur == nil {
			return
		}
		par := cur
		cur = nil
		g.Go(func() error { return p.ship(gctx, par, note) })
	}
	var reading error
	for some := range slices.Chunk(need, 64<<10) { // not all in order at once: it is held in memory
		if reading = p.l.Frames(gctx, some, func(stored []byte, lines []index.Found) error {
			if cur == nil {
				cur = p.fill()
			}
			for _, ln := range lines {
				ln.Off = int64(cur.zst.Len())
				cur.idx.Add(ln)
			}
			cur.zst.Write(stored)
			if cur.zst.Len() >= copyPack {
				ship()
			}
			return nil
		}); reading != nil {
			break
		}
	}
	if reading == nil {
		ship()
	}
	if err := errors.Join(g.Wait(), reading); err != nil {
		return err
	}
	return p.publish(ctx, s)
}

// ship sends one pack and its index.
func (p *Pushing) ship(ctx context.Context, par *parcel, note func(int64)) error {
	send := func(name string, b []byte) error {
		return p.c.inside.Put(ctx, name, bytes.NewReader(b), int64(len(b)))
	}
	if err := send("packs/"+par.name+".zst", par.zst.Bytes()); err != nil {
		return err
	}
	if err := p.halt("sent a pack"); err != nil {
		return err
	}
	idx, err := par.idx.Pack()
	if err != nil {
		return err
	}
	if err := tree.WriteFile(filepath.Join(p.c.cache, par.name+".idx"), idx, 0o600); err != nil {
		return err
	}
	if err := send("packs/"+par.name+".idx", idx); err != nil {
		return err
	}
	p.mu.Lock()
	p.note(par.name, idx, int64(par.zst.Len()))
	p.there[par.name] = int64(par.zst.Len())
	size := int64(par.zst.Len())
	p.sent += size
	p.empty = append(p.empty, par)
	if note != nil {
		note(size)
	}
	p.mu.Unlock()
	return p.halt("sent an index")
}

// publish makes a set visible in the copy, whose packs are there.
func (p *Pushing) publish(ctx context.Context, s *set.Set) error {
	n := needs{Format: packsFormat, Taken: s.Taken, Label: s.Label != "" && s.Run == ""}
	used := map[int32]bool{}
	missing := false
	if err := p.l.Each(s.Owner, s.ID, func(f *set.File) {
		for _, sum := range f.PieceSums() {
			p.pieces.Chain(sum, func(_ tree.Sum, at index.Place, has bool) {
				if missing = missing || !has; has {
					used[at.Pack] = true
				}
			})
		}
	}); err != nil {
		return err
	}
	if missing { // never a set without all that it names
		return fmt.Errorf("%s changed while it was sent", s.ID)
	}
	for at := range used {
		n.Packs = append(n.Packs, p.packs[at])
	}
	slices.Sort(n.Packs)
	b, err := json.Marshal(n)
	if err != nil {
		return err
	}
	key := s.Owner + "/" + s.ID
	if err := store.Put(ctx, p.c.place, "sets/"+key+".packs", append(b, '\n')); err != nil {
		return err
	}
	if err := p.halt("sent what it needs"); err != nil {
		return err
	}
	path, err := p.l.PathOf(s.Owner, s.ID)
	if err != nil {
		return err
	}
	f, err := tree.OpenRegular(path)
	if err != nil {
		return set.NoSet(path, err)
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return err
	}
	if err := p.c.inside.Put(ctx, "sets/"+key+".set", f, fi.Size()); err != nil {
		return err
	}
	p.sets[key] = &n
	if err := p.sentNow(key, s); err != nil {
		return err
	}
	if err := p.remember(); err != nil {
		return err
	}
	return p.halt("sent a set")
}

// sentNow notes that a set was sent, with the hash of its file.
func (p *Pushing) sentNow(key string, s *set.Set) error {
	k := knownIn(p.c.cache)
	sum, ok := sumOfSet(p.l, s.Owner, s.ID)
	if !ok {
		return nil // thinned meanwhile
	}
	k.Sent[key] = sum
	return k.write(p.c.cache)
}

// clear removes what a dead push left.
func (p *Pushing) clear(ctx context.Context) error {
	for len(p.spare) > 0 {
		if err := p.c.inside.Remove(ctx, p.spare[0]); err != nil {
			return err
		}
		p.spare = p.spare[1:]
	}
	return nil
}

// Total is how many bytes have to be sent for sets, as stored.
func (p *Pushing) Total(sets []*set.Set) (total int64) {
	type frame struct {
		pack int32
		off  int64
	}
	seen := map[frame]bool{}
	for _, s := range sets {
		p.l.Each(s.Owner, s.ID, func(f *set.File) { // what can't be read is told when it is sent
			for _, sum := range f.PieceSums() {
				if p.has(sum) {
					continue
				}
				p.l.Chain(sum, func(s tree.Sum) {
					if pl, ok := p.l.Find(s); ok && !seen[frame{pl.Pack, pl.Off}] && !p.has(s) {
						seen[frame{pl.Pack, pl.Off}] = true
						total += int64(pl.Stored)
					}
				})
			}
		})
	}
	return total
}

// Sent is how many bytes of packs were sent.
func (p *Pushing) Sent() int64 { return p.sent }

// remember writes down what the copy holds, for those who ask without asking the
// place.
func (p *Pushing) remember() error {
	k := knownIn(p.c.cache)
	was := k.Sets
	k.At, k.Sets = time.Now().Round(0), nil
	for key, n := range p.sets {
		if n != nil && p.whole(n) {
			k.Sets = append(k.Sets, key)
		}
		owner, id, _ := strings.Cut(key, "/")
		if _, noted := k.Sent[key]; !noted {
			if sum, here := sumOfSet(p.l, owner, id); here {
				k.Sent[key] = sum
			}
		}
	}
	// One that was there, or sent, and is not: it is sent anew, or, where it is not here either, told once.
	for _, key := range append(was, slices.Collect(maps.Keys(k.Sent))...) {
		owner, id, _ := strings.Cut(key, "/")
		if _, is := p.sets[key]; is || slices.Contains(p.Lost, key) {
			continue
		}
		if _, here := sumOfSet(p.l, owner, id); !here {
			p.Lost = append(p.Lost, key)
		}
	}
	for _, key := range p.Lost {
		delete(k.Sent, key)
	}
	return k.write(p.c.cache)
}
