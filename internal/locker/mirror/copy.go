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
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

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

// Known is what a copy held when it was last written to from here.
type Known struct {
	At   time.Time `json:"at"`
	Sets []string  `json:"sets"` // "OWNER/ID", those that are whole
}

// KnownOf tells what is remembered of a place; the zero Known where it was never
// written to from here.
func KnownOf(cache, where string) (k Known) {
	if b, err := os.ReadFile(filepath.Join(cacheOf(cache, where), "held")); err == nil {
		json.Unmarshal(b, &k)
	}
	return k
}
