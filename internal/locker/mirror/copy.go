// Package mirror keeps a copy of backups in another place. A copy has the locker's own layout, so that a copy
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
package mirror

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/store"
	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
)

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

// atOnce is how many small objects are asked for at a time, and shipping how many
// packs are on their way.
const (
	atOnce   = 8
	shipping = 3
)

var errUnread = errors.New("it can't be read without an identity")

// index reads a pack's index, from what this machine knows where it can.
func (c *Copy) index(ctx context.Context, name string) ([]byte, error) {
	at := filepath.Join(c.cache, name+".idx")
	if b, err := tree.ReadOwn(at); err == nil {
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
	was, err := tree.ReadOwn(filepath.Join(c.cache, name+".idx"))
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

// Known is what this machine knows of a copy: what it held when it was last looked at from here, and
// what was sent there. The first is what the last look has shown; the second is what the next is held
// against.
type Known struct {
	At   time.Time           `json:"at"`   // of the look
	Sets []string            `json:"sets"` // "OWNER/ID", those that were there and whole
	Sent map[string]tree.Sum `json:"sent"` // "OWNER/ID" of each that was sent and not dropped → its file's hash
}

// KnownOf tells what is remembered of a place; the zero Known where it was never
// written to from here.
func KnownOf(cache, where string) (k Known) {
	return knownIn(cacheOf(cache, where))
}

func knownIn(cache string) (k Known) {
	if b, err := tree.ReadOwn(filepath.Join(cache, "held")); err == nil {
		json.Unmarshal(b, &k)
	}
	if k.Sent == nil {
		k.Sent = map[string]tree.Sum{}
	}
	return k
}

func (k Known) write(cache string) error {
	slices.Sort(k.Sets)
	b, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return tree.WriteFile(filepath.Join(cache, "held"), b, 0o600)
}

// sumOfSet is the hash of a set's file in a locker of this machine; false where it is not there.
func sumOfSet(l *locker.Locker, owner, id string) (sum tree.Sum, ok bool) {
	path, err := l.PathOf(owner, id)
	if err != nil {
		return sum, false
	}
	sum, err = tree.SumFile(path)
	return sum, err == nil
}

// Look holds an owner's sets in the copy against what is known to have been sent there, and against
// those of here, a locker that may be nil: it names each that is missing, or another one. What it has
// shown is remembered, with the time.
func (c *Copy) Look(ctx context.Context, here *locker.Locker, owner string) (lacks []locker.Lack, err error) {
	now, err := c.sets(ctx)
	if err != nil {
		return nil, err
	}
	packs, err := c.place.List(ctx, "packs/")
	if err != nil {
		return nil, err
	}
	there := map[string]bool{}
	for _, o := range packs {
		there[o.Name] = true
	}
	k := knownIn(c.cache)
	should := map[string]tree.Sum{}
	for key, sum := range k.Sent {
		should[key] = sum
	}
	for _, key := range append(slices.Clone(k.Sets), slices.Collect(maps.Keys(now))...) { // of before hashes were noted, and of both
		of, id, _ := strings.Cut(key, "/")
		if sum, is := should[key]; is && sum != (tree.Sum{}) {
			continue
		}
		if here != nil {
			should[key], _ = sumOfSet(here, of, id)
		} else if slices.Contains(k.Sets, key) {
			should[key] = tree.Sum{} // only that it was there is known
		}
	}
	k.At, k.Sets = time.Now().Round(0), nil
	for _, key := range slices.Sorted(maps.Keys(should)) {
		of, id, _ := strings.Cut(key, "/")
		if of != owner {
			continue
		}
		why, err := c.lack(ctx, key, now, should[key], there)
		if err != nil {
			return nil, err
		}
		if why == "" {
			k.Sets = append(k.Sets, key)
		} else {
			lacks = append(lacks, locker.Lack{Owner: of, ID: id, Why: why})
		}
	}
	if err := os.MkdirAll(c.cache, 0o700); err != nil {
		return nil, err
	}
	return lacks, k.write(c.cache)
}

// lack says how a set that should be in the copy is not; "" for nothing.
func (c *Copy) lack(ctx context.Context, key string, now map[string]*needs, want tree.Sum, packs map[string]bool) (string, error) {
	n, is := now[key]
	if !is {
		return "it was sent, and is not there any more", nil
	}
	if n != nil {
		for _, name := range n.Packs {
			if !packs["packs/"+name+".zst"] && !packs["packs/"+name+".zst.age"] {
				return "a pack that it needs is not there any more: " + name, nil
			}
		}
	}
	if want.IsZero() || (c.sealed != nil && !c.sealed.Readable()) {
		return "", nil
	}
	r, err := c.inside.Get(ctx, "sets/"+key+".set")
	if away := (*store.Unreachable)(nil); errors.As(err, &away) {
		return "", err
	}
	if err != nil {
		return "it can't be read: " + err.Error(), nil
	}
	defer r.Close()
	h := tree.NewHash()
	if _, err := io.Copy(h, r); err != nil {
		return "it can't be read: " + err.Error(), nil
	}
	if h.Sum() == want {
		return "", nil
	}
	if n != nil {
		return "another backup stands there than was sent, taken " + n.Taken.Local().Format(time.DateTime), nil
	}
	return "another backup stands there than was sent", nil
}
