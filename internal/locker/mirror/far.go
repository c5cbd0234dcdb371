package mirror

import (
	"context"
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

	"freshkeel/internal/locker"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/store"
	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/singleflight"
)

// keptPacks is how many bytes of a copy's packs a reader keeps on this machine.
const keptPacks = 1 << 30

// far is a locker whose files come from a copy, each when it is asked for.
type far struct {
	ctx  context.Context
	c    *Copy
	dir  string            // where files come to
	sets map[string]*needs // "OWNER/ID" → which packs it needs; nil: not known

	one    singleflight.Group
	mu     sync.Mutex
	opened []string // "OWNER/ID" of sets that were brought
	kept   []string // packs that are here, as they came
	held   int64    // bytes of those
}

// ErrNoCopy says that a place holds no copy.
var ErrNoCopy = errors.New("it holds no copy of backups")

// Open opens a copy for reading, as a locker to which nothing may be written. dir
// is an empty folder that its files come to; ctx ends all reading.
func (c *Copy) Open(ctx context.Context, dir string) (*locker.Locker, error) {
	var k keeper
	b, err := store.Read(ctx, c.place, "keeper", 1<<16)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%s: %w", c.Where(), ErrNoCopy)
	case err != nil:
		return nil, err
	case json.Unmarshal(b, &k) != nil || k.Format != copyFormat:
		return nil, &Foreign{c.Where(), "its file «keeper» is not one of this program's"}
	case k.Sealed && (c.sealed == nil || !c.sealed.Readable()):
		return nil, &store.Unreachable{Where: c.Where(), Why: "what is there is encrypted, and no identity was given",
			Do: "--identity FILE, the age identity that belongs to the recipient"}
	case !k.Sealed:
		c.inside, c.sealed = c.place, nil
	}
	sets, err := c.sets(ctx)
	if err != nil {
		return nil, err
	}
	return locker.OpenCopy(dir, &far{ctx: ctx, c: c, dir: dir, sets: sets})
}

// Shown is a file of the copy as people find it: there, and not where it came to.
func (f *far) Shown(path string) string {
	if rel, err := filepath.Rel(f.dir, path); err == nil {
		return f.c.Where() + "/" + filepath.ToSlash(rel)
	}
	return path
}

// Owners lists whose sets there are.
func (f *far) Owners() (out []string, err error) {
	for key := range f.sets {
		owner, _, _ := strings.Cut(key, "/")
		if !slices.Contains(out, owner) {
			out = append(out, owner)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Heads reads the beginning of each set of an owner.
func (f *far) Heads(owner string) ([]*set.Set, error) {
	var ids []string
	for key := range f.sets {
		if id, ok := strings.CutPrefix(key, owner+"/"); ok {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	out := make([]*set.Set, len(ids))
	g, ctx := errgroup.WithContext(f.ctx)
	g.SetLimit(atOnce)
	for i, id := range ids {
		g.Go(func() error {
			r, err := f.c.inside.Get(ctx, "sets/"+owner+"/"+id+".set")
			if errors.Is(err, fs.ErrNotExist) { // thinned since it was listed
				return nil
			}
			if err != nil {
				return err
			}
			defer r.Close()
			s, err := set.ReadHead(r)
			if u := (*store.Unreachable)(nil); errors.As(err, &u) {
				return err
			}
			if err != nil {
				s = &set.Set{Owner: owner, ID: id, Damage: err.Error()}
			}
			out[i] = s
			return nil
		})
	}
	err := g.Wait()
	return slices.DeleteFunc(out, func(s *set.Set) bool { return s == nil }), err
}

// Have brings a set and the indexes of the packs that it needs.
func (f *far) Have(owner, id, path string) (came bool, err error) {
	n, is := f.sets[owner+"/"+id]
	if !is {
		return false, fmt.Errorf("%s: %w", id, set.ErrNoSet)
	}
	// Whoever asks at the same time hears the same.
	fresh, err, _ := f.one.Do(path, func() (any, error) {
		if _, err := os.Stat(path); err == nil {
			return false, nil
		}
		if err := f.indexes(n); err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return nil, err
		}
		if err := f.bring(f.ctx, "sets/"+owner+"/"+id+".set", path); err != nil {
			return nil, err
		}
		f.mu.Lock()
		f.opened = append(f.opened, owner+"/"+id)
		f.mu.Unlock()
		return true, nil
	})
	came, _ = fresh.(bool)
	return came, err
}

// indexes brings those of the packs that a set needs.
func (f *far) indexes(n *needs) error {
	var packs []string
	if n != nil {
		packs = n.Packs
	} else { // not known: any may be needed
		list, err := f.c.inside.List(f.ctx, "packs/")
		if err != nil {
			return err
		}
		for _, o := range list {
			if name, ok := strings.CutSuffix(filepath.Base(o.Name), ".idx"); ok {
				packs = append(packs, name)
			}
		}
	}
	g, ctx := errgroup.WithContext(f.ctx)
	g.SetLimit(atOnce)
	for _, name := range packs {
		if strings.ContainsAny(name, `/\.:`) {
			continue
		}
		at := filepath.Join(f.dir, "packs", name+".idx")
		if _, err := os.Stat(at); err == nil {
			continue
		}
		g.Go(func() error {
			err := f.bring(ctx, "packs/"+name+".idx", at)
			if errors.Is(err, fs.ErrNotExist) { // told as damage where a piece is missed
				return nil
			}
			return err
		})
	}
	return g.Wait()
}

// Moved asks once more what the sets that are read need, where a pack is not there
// any more: whoever writes to the copy may have sent what was of use in it anew.
func (f *far) Moved(pack string, _ error) error {
	_, err, _ := f.one.Do("renew "+pack, func() (any, error) {
		if err := os.Remove(strings.TrimSuffix(pack, ".zst") + ".idx"); err != nil {
			return nil, nil // somebody did
		}
		now, err := f.c.sets(f.ctx)
		if err != nil {
			return nil, err
		}
		f.mu.Lock()
		opened := slices.Clone(f.opened)
		f.mu.Unlock()
		for _, key := range opened {
			if n := now[key]; n != nil {
				if err := f.indexes(n); err != nil {
					return nil, err
				}
			}
		}
		return nil, nil
	})
	return err
}

// bring copies an object into a file of this machine.
func (f *far) bring(ctx context.Context, name, path string) error {
	r, err := f.c.inside.Get(ctx, name)
	if err != nil {
		return err
	}
	defer r.Close()
	from := &failing{r: r}
	if err := tree.WriteBy(path, 0o600, func(w io.Writer) error {
		_, err := io.Copy(w, from)
		return err
	}); err != nil && from.err == nil {
		return &locker.NoRoom{Err: err}
	} else if err != nil {
		return err
	}
	return nil
}

// failing remembers why reading failed.
type failing struct {
	r   io.Reader
	err error
}

func (f *failing) Read(b []byte) (int, error) {
	n, err := f.r.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		f.err = err
	}
	return n, err
}

// Open opens a pack, brought here if need be; the one that came first goes when
// there are too many.
func (f *far) Open(path string) (*os.File, error) {
	if in, ok := f.c.inside.(*store.Folder); ok { // it can be read where it is
		p, err := in.Open("packs/" + filepath.Base(path))
		if errors.Is(err, fs.ErrNotExist) {
			err = noPack{}
		}
		return p, err
	}
	for {
		if p, err := tree.OpenRegular(path); !errors.Is(err, fs.ErrNotExist) {
			return p, err
		}
		_, err, _ := f.one.Do(path, func() (any, error) {
			if err := f.bring(f.ctx, "packs/"+filepath.Base(path), path); err != nil {
				return nil, err
			}
			fi, err := os.Stat(path)
			if err != nil {
				return nil, err
			}
			f.mu.Lock()
			defer f.mu.Unlock()
			f.kept, f.held = append(f.kept, path), f.held+fi.Size()
			for len(f.kept) > 2 && f.held > keptPacks {
				if fi, err := os.Stat(f.kept[0]); err == nil && os.Remove(f.kept[0]) == nil {
					f.held -= fi.Size()
				}
				f.kept = f.kept[1:]
			}
			return nil, nil
		})
		if errors.Is(err, fs.ErrNotExist) {
			err = noPack{}
		}
		if err != nil {
			return nil, err
		}
	}
}

// noPack is fs.ErrNotExist for a pack of the copy.
type noPack struct{}

func (noPack) Error() string        { return "the copy has no such pack" }
func (noPack) Is(target error) bool { return target == fs.ErrNotExist }
