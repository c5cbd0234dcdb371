package locker

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/store"
	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
	"golang.org/x/sync/errgroup"
)

// A copy of backups in another place has the locker's own layout, so that a copy
// on a disk is a locker by itself, and a few files more:
//
//	keeper                 JSON: whose copy it is, and whether it is sealed
//	packs/NAME.zst, .idx   as here, but of about copyPack bytes
//	sets/OWNER/ID.set      as here
//	sets/OWNER/ID.packs    JSON: which packs that set needs
//
// In a sealed copy packs, indexes and sets are encrypted and their names end in
// .age. One locker alone writes to a copy: what others read stays whole without
// locks, which object stores don't have.

// copyPack is about how large a pack of a copy is, in bytes: what one request
// sends, and what is sent again when the machine dies in the middle of it.
const copyPack = 8 << 20

// copyFormat and packsFormat name the formats of a copy's own two files.
const (
	copyFormat  = "freshkeel-copy/1"
	packsFormat = "freshkeel-packs/1"
)

// keeper says whose a copy is.
type keeper struct {
	Format string    `json:"format"`
	Locker string    `json:"locker"` // which one writes to it
	Sealed bool      `json:"sealed"`
	Since  time.Time `json:"since"`
}

// needs is which packs a set of a copy needs.
type needs struct {
	Format string    `json:"format"`
	Taken  time.Time `json:"taken"`
	Label  bool      `json:"label,omitempty"` // it has one of the operator's: it is never thinned
	Packs  []string  `json:"packs"`
}

// Copy is a second copy of backups, in a place.
type Copy struct {
	place  store.Store   // as it stands there,
	inside store.Store   // and as it reads
	sealed *store.Sealed // nil: not sealed
	cache  string        // a folder of this machine's, with the indexes of what is there
}

// cacheOf is where this machine keeps what it knows of a copy.
func cacheOf(cache, where string) string {
	return filepath.Join(cache, tree.SumBytes([]byte(where)).Short())
}

// NewCopy is the copy in a place. cache is a folder of this machine for what is
// known of all copies. Nothing is asked yet.
func NewCopy(place store.Store, sealed *store.Sealed, cache string) *Copy {
	c := &Copy{place: place, inside: place, sealed: sealed, cache: cacheOf(cache, place.Where())}
	if sealed != nil {
		c.inside = sealed
	}
	return c
}

// Where is the place.
func (c *Copy) Where() string { return c.place.Where() }

// Foreign says that a copy is not this locker's to write to.
type Foreign struct {
	Where string
	Why   string
}

func (f *Foreign) Error() string { return f.Where + ": " + f.Why }

// id is the locker's own name, made when it is first needed.
func (l *Locker) id() (string, error) {
	at := filepath.Join(l.dir, "id")
	if b, err := os.ReadFile(at); err == nil && len(bytes.TrimSpace(b)) > 0 {
		return string(bytes.TrimSpace(b)), nil
	}
	id := "locker-" + newName()
	return id, tree.WriteFile(at, []byte(id+"\n"), 0o600)
}

func newName() string {
	var b [8]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

// Pushing is a copy that is being written to. Close it in any case.
type Pushing struct {
	c    *Copy
	l    *Locker
	lock *flock.Flock
	halt func(string) error

	mu     sync.Mutex
	pieces pieces            // what the copy holds
	packs  []string          // place.pack indexes it
	there  map[string]int64  // packs that are there whole → their bytes
	sets   map[string]*needs // "OWNER/ID" → what it needs; nil where that is not known
	spare  []string          // objects that a dead push left
	doubt  map[string]bool   // packs that are there and don't read back
	mend   bool
	sent   int64 // bytes
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
func (l *Locker) Begin(ctx context.Context, c *Copy, how How) (*Pushing, error) {
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
	us, err := p.l.id()
	if err != nil {
		return err
	}
	var k keeper
	b, err := store.Read(ctx, c.place, "keeper", 1<<16)
	known := filepath.Join(c.cache, "keeper")
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if _, was := os.Stat(known); was == nil && !claim {
			return &Foreign{c.Where(), "it is empty, and was not when it was last written to: is another disk mounted there?"}
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
			return &Foreign{c.Where(), "what it holds is encrypted, and the profile names no recipient: give each its own place"}
		}
		return &Foreign{c.Where(), "what it holds is not encrypted, and the profile names a recipient: give each its own place"}
	case k.Locker == us:
		return tree.WriteFile(known, b, 0o600)
	case !claim:
		return &Foreign{c.Where(), "another locker has written to it since " + k.Since.Local().Format("2006-01-02 15:04") + ": two that write there would spoil each other's"}
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

// atOnce is how many small objects are asked for at a time, and shipping how many
// packs are on their way.
const (
	atOnce   = 8
	shipping = 3
)

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

var errUnread = errors.New("it can't be read without an identity")

// index reads a pack's index, from what this machine knows where it can.
func (c *Copy) index(ctx context.Context, name string) ([]byte, error) {
	at := filepath.Join(c.cache, name+".idx")
	if b, err := os.ReadFile(at); err == nil {
		return b, nil
	}
	if c.sealed != nil && !c.sealed.Readable() {
		return nil, errUnread
	}
	b, err := store.Read(ctx, c.inside, "packs/"+name+".idx", 1<<26)
	if err != nil {
		return nil, err
	}
	return b, tree.WriteFile(at, b, 0o600)
}

// mendIndex puts an index right that is not what was written.
func (c *Copy) mendIndex(ctx context.Context, name string) error {
	was, err := os.ReadFile(filepath.Join(c.cache, name+".idx"))
	if err != nil || (c.sealed != nil && !c.sealed.Readable()) {
		return nil
	}
	is, err := store.Read(ctx, c.inside, "packs/"+name+".idx", 1<<26)
	if away := (*store.Unreachable)(nil); errors.As(err, &away) {
		return err
	}
	if err == nil && bytes.Equal(is, was) { // one that can't be decrypted is put right too
		return nil
	}
	return store.Put(ctx, c.inside, "packs/"+name+".idx", was)
}

// note takes up what an index says; false where the pack is too short for it, or
// the index can't be read.
func (p *Pushing) note(name string, b []byte, size int64) bool {
	x := parseIndex(b)
	if x.bad != nil || slices.ContainsFunc(x.lines, func(ln held) bool { return int64(ln.off)+int64(ln.stored) > size }) {
		return false
	}
	p.pieces.add(x)
	p.packs = append(p.packs, name)
	return true
}

// has tells whether the copy holds a piece.
func (p *Pushing) has(s tree.Sum) bool {
	_, _, ok := p.pieces.find(s)
	return ok
}

// sets lists the sets that a copy has, and what each needs.
func (c *Copy) sets(ctx context.Context) (map[string]*needs, error) {
	list, err := c.place.List(ctx, "sets/")
	if err != nil {
		return nil, err
	}
	out, has := map[string]*needs{}, map[string]bool{}
	for _, o := range list {
		has[o.Name] = true
	}
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, o := range list {
		name, ok := strings.CutSuffix(strings.TrimSuffix(o.Name, ".age"), ".set")
		if !ok || (c.sealed != nil) != strings.HasSuffix(o.Name, ".age") {
			continue
		}
		key := strings.TrimPrefix(name, "sets/")
		mu.Lock()
		out[key] = nil
		mu.Unlock()
		if !has[name+".packs"] {
			continue
		}
		g.Go(func() error {
			b, err := store.Read(gctx, c.place, name+".packs", 1<<26)
			var n needs
			if err == nil && (json.Unmarshal(b, &n) != nil || n.Format != packsFormat) {
				return nil // as if it were not there
			}
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				out[key] = &n
			}
			return err
		})
	}
	return out, g.Wait()
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
func (p *Pushing) Holds(ctx context.Context, s *Set) (whole bool, other time.Time) {
	n := p.sets[s.Owner+"/"+s.ID]
	if n == nil {
		return false, other
	}
	if !n.Taken.Equal(s.Taken) {
		return false, n.Taken
	}
	if whole = p.whole(n); whole && p.mend { // an index may have lost a piece, or the set there be damaged
		need, err := p.l.without(s.Owner, s.ID, p.has)
		whole = err == nil && len(need) == 0 && p.sameSet(ctx, s)
	}
	return whole, other
}

// sameSet tells whether a set of the copy is the one that is here, as far as it can
// be read.
func (p *Pushing) sameSet(ctx context.Context, s *Set) bool {
	path, err := p.l.setPath(s.Owner, s.ID)
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
	here, err := os.Open(path)
	return hash(here, err) == hash(p.c.inside.Get(ctx, "sets/"+s.Owner+"/"+s.ID+".set"))
}

func (p *Pushing) whole(n *needs) bool {
	return !slices.ContainsFunc(n.Packs, func(name string) bool { _, is := p.there[name]; return !is || p.doubt[name] })
}

// Copied lists an owner's sets in the copy, as far as it is known without reading
// them: owner, number, time, and whether they have a label.
func (p *Pushing) Copied(owner string) (out []*Set) {
	for key, n := range p.sets {
		o, id, _ := strings.Cut(key, "/")
		if o != owner {
			continue
		}
		s := &Set{Owner: o, ID: id}
		if n == nil {
			s.Damage = "it is not known which packs it needs"
		} else if s.Taken = n.Taken; n.Label {
			s.Label = "yes"
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b *Set) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// without lists the pieces of a set, and those that they lie over, that has tells are
// not there, each once.
func (l *Locker) without(owner, id string, has func(tree.Sum) bool) (need []tree.Sum, err error) {
	seen := map[tree.Sum]bool{}
	err = l.Each(owner, id, func(f *File) {
		for _, sum := range f.PieceSums() {
			if seen[sum] || has(sum) {
				continue
			}
			l.chain(sum, func(s tree.Sum) {
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
	idx  indexText
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
		par.idx.reset()
	}
	par.zst.Grow(copyPack + maxFrame)
	par.name = newName()
	return par
}

// Push sends a set: the pieces that the copy has not, in packs, then which packs it
// needs, then the set. Killed at any moment it leaves packs that the next push
// finds, and half of one that it removes. note, which may be nil, hears the bytes
// that arrived, one call at a time.
func (p *Pushing) Push(ctx context.Context, s *Set, note func(int64)) error {
	if err := p.clear(ctx); err != nil {
		return err
	}
	need, err := p.l.without(s.Owner, s.ID, p.has)
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
		if reading = p.l.frames(gctx, some, func(stored []byte, lines []found) error {
			if cur == nil {
				cur = p.fill()
			}
			for _, ln := range lines {
				ln.off = int64(cur.zst.Len())
				cur.idx.add(ln)
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
	idx, err := par.idx.pack()
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
func (p *Pushing) publish(ctx context.Context, s *Set) error {
	n := needs{Format: packsFormat, Taken: s.Taken, Label: s.Label != "" && s.Run == ""}
	used := map[int32]bool{}
	missing := false
	if err := p.l.Each(s.Owner, s.ID, func(f *File) {
		for _, sum := range f.PieceSums() {
			p.pieces.chain(sum, func(_ tree.Sum, at place, has bool) {
				if missing = missing || !has; has {
					used[at.pack] = true
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
	path, err := p.l.setPath(s.Owner, s.ID)
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return noSet(path, err)
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
	if err := p.remember(); err != nil {
		return err
	}
	return p.halt("sent a set")
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
func (p *Pushing) Total(sets []*Set) (total int64) {
	type frame struct {
		pack int32
		off  int64
	}
	seen := map[frame]bool{}
	for _, s := range sets {
		p.l.Each(s.Owner, s.ID, func(f *File) { // what can't be read is told when it is sent
			for _, sum := range f.PieceSums() {
				if p.has(sum) {
					continue
				}
				p.l.chain(sum, func(s tree.Sum) {
					if pl, ok := p.l.find(s); ok && !seen[frame{pl.pack, pl.off}] && !p.has(s) {
						seen[frame{pl.pack, pl.off}] = true
						total += int64(pl.stored)
					}
				})
			}
		})
	}
	return total
}

// Sent is how many bytes of packs were sent.
func (p *Pushing) Sent() int64 { return p.sent }

// Drop removes a set from the copy. Its content stays until GiveBack.
func (p *Pushing) Drop(ctx context.Context, s *Set) error {
	key := s.Owner + "/" + s.ID
	if err := p.c.inside.Remove(ctx, "sets/"+key+".set"); err != nil {
		return err
	}
	delete(p.sets, key)
	if err := p.c.place.Remove(ctx, "sets/"+key+".packs"); err != nil {
		return err
	}
	return p.remember()
}

// Known is what a copy held when it was last written to from here.
type Known struct {
	At   time.Time `json:"at"`
	Sets []string  `json:"sets"` // "OWNER/ID", those that are whole
}

// remember writes down what the copy holds, for those who ask without asking the
// place.
func (p *Pushing) remember() error {
	k := Known{At: time.Now().Round(0)}
	for key, n := range p.sets {
		if n != nil && p.whole(n) {
			k.Sets = append(k.Sets, key)
		}
	}
	slices.Sort(k.Sets)
	b, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return tree.WriteFile(filepath.Join(p.c.cache, "held"), b, 0o600)
}

// KnownOf tells what is remembered of a place; the zero Known where it was never
// written to from here.
func KnownOf(cache, where string) (k Known) {
	if b, err := os.ReadFile(filepath.Join(cacheOf(cache, where), "held")); err == nil {
		json.Unmarshal(b, &k)
	}
	return k
}

// wornCopy is the share of a copy's pack, in per cent, that may be of no use before
// what is of use is sent anew: lines are slower than disks.
const wornCopy = 50

// Wear sends anew what is still of use in packs that are mostly of none, so that
// GiveBack can remove those. It needs every set of the copy to be here too: where
// one is not, what it needs can't be told apart, and nothing is done.
func (p *Pushing) Wear(ctx context.Context, note func(int64)) error {
	living := map[tree.Sum]bool{}
	var sets []*Set
	for key, n := range p.sets {
		owner, id, _ := strings.Cut(key, "/")
		heads, err := p.l.Heads(owner)
		at := slices.IndexFunc(heads, func(h *Set) bool { return h.ID == id })
		if err != nil || n == nil || at < 0 || !heads[at].Taken.Equal(n.Taken) {
			return err
		}
		if err := p.l.Each(owner, id, func(f *File) {
			for _, sum := range f.PieceSums() {
				p.pieces.chain(sum, func(s tree.Sum, _ place, _ bool) { living[s] = true })
			}
		}); err != nil {
			return nil // told by a check
		}
		sets = append(sets, heads[at])
	}
	worn := map[int32]bool{}
	for at, name := range p.packs {
		b, err := p.c.index(ctx, name)
		if err != nil {
			return err
		}
		live, last := int64(0), int64(-1) // lines of one frame lie together
		for _, ln := range parseIndex(b).lines {
			if !living[ln.sum] || int64(ln.off) == last {
				continue
			}
			if in, _, ok := p.pieces.find(ln.sum); ok && in.pack == int32(at) {
				live, last = live+int64(ln.stored), int64(ln.off)
			}
		}
		if live > 0 && live*100 < p.there[name]*(100-wornCopy) {
			worn[int32(at)] = true
		}
	}
	p.pieces = pieces{} // without those of the worn, which are sent anew
	for at, name := range p.packs {
		x := &index{}
		if !worn[int32(at)] {
			b, err := p.c.index(ctx, name)
			if err != nil {
				return err
			}
			x = parseIndex(b)
		}
		p.pieces.add(x)
	}
	for _, s := range sets {
		if !slices.ContainsFunc(p.sets[s.Owner+"/"+s.ID].Packs, func(name string) bool { return worn[int32(slices.Index(p.packs, name))] }) {
			continue
		}
		// What is damaged here stays there as it is, and is told by a check.
		if err := p.Push(ctx, s, note); err != nil && !errors.As(err, new(*Damage)) {
			return err
		}
	}
	return nil
}

// GiveBack removes packs that no set of the copy needs, and returns their bytes.
// Where it isn't known what a set needs, nothing goes.
func (p *Pushing) GiveBack(ctx context.Context) (freed int64, err error) {
	if err := p.clear(ctx); err != nil {
		return 0, err
	}
	needed, all := p.needed()
	if !all {
		return 0, nil
	}
	for name, size := range p.there {
		if needed[name] {
			continue
		}
		// Its index first, as here: a pack without one is nothing that anybody reads.
		for _, end := range []string{".idx", ".zst"} {
			if err := p.c.inside.Remove(ctx, "packs/"+name+end); err != nil {
				return freed, err
			}
			if err := p.halt("removed " + end); err != nil {
				return freed, err
			}
		}
		os.Remove(filepath.Join(p.c.cache, name+".idx"))
		delete(p.there, name)
		freed += size
	}
	return freed, nil
}

// frames goes through the frames that hold pieces, in the order in which they lie,
// each piece hashed. What each is given holds until it returns.
func (l *Locker) frames(ctx context.Context, need []tree.Sum, each func(stored []byte, lines []found) error) error {
	list := make([]found, 0, len(need))
	for _, s := range need {
		in, _, ok := l.seek(s)
		if !ok { // told with all that is known, unless another process has just stored it
			if _, err := l.piece(s); err != nil {
				return err
			}
			in, _, _ = l.seek(s)
		}
		list = append(list, in)
	}
	slices.SortFunc(list, func(a, b found) int { return a.compare(b.place) })
	r := &reading{}
	defer r.close()
	for len(list) > 0 {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := 1
		for n < len(list) && list[n].pack == list[0].pack && list[n].off == list[0].off {
			n++
		}
		r.forget() // so that what is held is this frame as it is stored
		for _, ln := range list[:n] {
			if _, err := l.pieceBy(r, ln.sum); err != nil {
				return err
			}
		}
		if err := each(r.stored, list[:n]); err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}
