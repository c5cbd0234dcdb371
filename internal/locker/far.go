package locker

import (
	"bufio"
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

	"freshkeel/internal/store"
	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/singleflight"
)

// keptPacks is how many bytes of a copy's packs a reader keeps on this machine.
const keptPacks = 1 << 30

// far is a locker whose files come from a copy, each when it is asked for.
type far struct {
	ctx  context.Context
	c    *Copy
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
func (c *Copy) Open(ctx context.Context, dir string) (*Locker, error) {
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
		return nil, &store.Unreachable{Where: c.Where(), Why: "what is there is encrypted, and no identity was given", Do: "--identity FILE, the age identity that belongs to the recipient"}
	case !k.Sealed:
		c.inside, c.sealed = c.place, nil
	}
	l, err := Open(dir)
	if err != nil {
		return nil, err
	}
	l.far = &far{ctx: ctx, c: c}
	l.far.sets, err = c.sets(ctx)
	return l, err
}

// owners lists whose sets there are.
func (f *far) owners() (out []string) {
	for key := range f.sets {
		owner, _, _ := strings.Cut(key, "/")
		if !slices.Contains(out, owner) {
			out = append(out, owner)
		}
	}
	slices.Sort(out)
	return out
}

// heads reads the beginning of each set of an owner.
func (f *far) heads(owner string) ([]*Set, error) {
	var ids []string
	for key := range f.sets {
		if id, ok := strings.CutPrefix(key, owner+"/"); ok {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	out := make([]*Set, len(ids))
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
			s, err := readHeadOf(r)
			if u := (*store.Unreachable)(nil); errors.As(err, &u) {
				return err
			}
			if err != nil {
				s = &Set{Owner: owner, ID: id, Damage: err.Error()}
			}
			out[i] = s
			return nil
		})
	}
	err := g.Wait()
	return slices.DeleteFunc(out, func(s *Set) bool { return s == nil }), err
}

func readHeadOf(r io.Reader) (*Set, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	return decodeSet(bufio.NewReaderSize(z, 64<<10), true)
}

// set brings a set and the indexes of the packs that it needs.
func (f *far) set(l *Locker, owner, id, path string) error {
	n, is := f.sets[owner+"/"+id]
	if !is {
		return fmt.Errorf("%s: %w", id, ErrNoSet)
	}
	_, err, _ := f.one.Do(path, func() (any, error) {
		if _, err := os.Stat(path); err == nil {
			return nil, nil
		}
		if err := f.indexes(l, n); err != nil {
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
		return nil, l.refresh()
	})
	return err
}

// indexes brings those of the packs that a set needs.
func (f *far) indexes(l *Locker, n *needs) error {
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
		at := filepath.Join(l.dir, "packs", name+".idx")
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

// renew asks once more what the sets that are read need, where a pack is not there
// any more: whoever writes to the copy may have sent what was of use in it anew.
func (f *far) renew(l *Locker, pack string) error {
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
				if err := f.indexes(l, n); err != nil {
					return nil, err
				}
			}
		}
		l.forget()
		return nil, nil
	})
	return err
}

// contained tells whether all entries lie in the folder that they are laid out in:
// none has a path that leads out of it, nor one through a link. A copy in another
// place has been in other hands.
func contained(entries []File) error {
	links := map[string]bool{}
	for i := range entries {
		if entries[i].Kind == tree.Link {
			links[entries[i].Path] = true
		}
	}
	for i := range entries {
		at := entries[i].Path
		for part := range strings.SplitSeq(at, "/") {
			if part == "" || part == "." || part == ".." {
				return fmt.Errorf("its entry %q is no path in a folder", at)
			}
		}
		for up := strings.LastIndexByte(at, '/'); up > 0 && len(links) > 0; up = strings.LastIndexByte(at[:up], '/') {
			if links[at[:up]] {
				return fmt.Errorf("its entry %q leads through the link %q", at, at[:up])
			}
		}
	}
	return nil
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
		return &noRoom{err}
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

// noRoom says that what a copy holds can't be brought here: no damage of the copy's.
type noRoom struct{ error }

func (n *noRoom) Unwrap() error { return n.error }

// notDamage tells whether what a copy holds could not be had, for a reason that says
// nothing of it: the line, the disk here, somebody's Ctrl-C.
func notDamage(err error) bool {
	return errors.As(err, new(*store.Unreachable)) || errors.As(err, new(*noRoom)) || errors.Is(err, context.Canceled)
}

// open opens a pack, brought here if need be; the one that came first goes when
// there are too many.
func (f *far) open(path string) (*os.File, error) {
	if in, ok := f.c.inside.(*store.Folder); ok { // it can be read where it is
		return in.Open("packs/" + filepath.Base(path))
	}
	for {
		if p, err := os.Open(path); !errors.Is(err, fs.ErrNotExist) {
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
		if err != nil {
			return nil, err
		}
	}
}

// Brought says how a set of a copy is to stand here.
type Brought struct {
	As     string      // its number; "": the next free one
	Change func(*File) // what becomes of each entry; nil: it stays as it is
	Note   func(int64) // hears stored bytes as they come; may be nil
}

// Bring takes a set of a copy, opened with Open, into this locker, with what it
// needs and this locker has not. Each piece is hashed. It returns the number under
// which the set stands here.
func (l *Locker) Bring(ctx context.Context, from *Locker, owner, id string, b Brought) (as string, err error) {
	set, err := from.Read(owner, id) // which holds it to its folder
	if err != nil {
		return "", err
	}
	w := l.Writer()
	defer w.Close()
	if w.broken != nil {
		return "", w.broken
	}
	need, err := from.without(owner, id, func(sum tree.Sum) bool { _, has := l.find(sum); return has })
	if err != nil {
		return "", err
	}
	if err := from.frames(ctx, need, func(frame []byte, lines []found) error {
		if b.Note != nil {
			b.Note(int64(len(frame)))
		}
		return w.append(frame, lines)
	}); err != nil {
		return "", err
	}
	if b.As != id || b.Change != nil {
		set.ID = b.As
		for i := range set.Entries {
			if b.Change != nil {
				b.Change(&set.Entries[i])
			}
		}
		err = w.publishAs(set)
		return set.ID, err
	}
	if err := w.Flush(); err != nil {
		return "", err
	}
	return id, l.copySet(from, owner, id)
}

// copySet makes a set of a copy appear here, byte for byte as it is there: a push
// that mends compares the two.
func (l *Locker) copySet(from *Locker, owner, id string) error {
	path, err := from.setAt(owner, id)
	if err != nil {
		return err
	}
	at, err := l.setPath(owner, id)
	if err != nil {
		return err
	}
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	return tree.WriteBy(at, 0o600, func(out io.Writer) error {
		_, err := io.Copy(out, in)
		return err
	})
}
