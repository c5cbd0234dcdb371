package locker

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
)

// Take stores the folder root but for what skip matches, and of the rest what
// takes says; nil is everything. Files that base, an earlier pass or backup, proves
// unchanged are not read; base may be nil, and is used up. progress, which may be
// nil, hears bytes done and bytes to do.
func (w *Writer) Take(ctx context.Context, root string, skip tree.Patterns, takes func(tree.Entry) bool, base *set.Base,
	progress func(done, total int64)) (*set.Taken, error) {
	// Kept as they come until their number is known: one list that grows would be
	// there twice each time it does.
	var found [][]tree.Entry
	n := 0
	in, err := tree.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if err := in.WalkEach(skip, func(in []tree.Entry) {
		if takes != nil {
			// the walk still needs its own
			in = slices.Clip(slices.DeleteFunc(slices.Clone(in), func(e tree.Entry) bool { return !takes(e) }))
		}
		found = append(found, in)
		n += len(in)
	}); err != nil {
		return nil, err
	}
	order := make([]*tree.Entry, 0, n) // moved about instead of the entries, which are large
	for _, in := range found {
		for i := range in {
			order = append(order, &in[i])
		}
	}
	// Each half on a core of its own; then they are gone through side by side.
	byPath := func(a, b *tree.Entry) int { return strings.Compare(a.Path, b.Path) }
	one, two := order[:n/2], order[n/2:]
	sorted := make(chan bool)
	go func() {
		slices.SortFunc(one, byPath)
		close(sorted)
	}()
	slices.SortFunc(two, byPath)
	<-sorted
	found, order = nil, nil // each folder's list goes as its entries are copied
	files := make([]set.File, n)
	for i := range files {
		from := &two
		if len(two) == 0 || len(one) > 0 && byPath(one[0], two[0]) < 0 {
			from = &one
		}
		files[i].Entry = *(*from)[0]
		(*from)[0] = nil
		*from = (*from)[1:]
	}
	return w.takeFiles(ctx, in, files, base, nil, progress)
}

// TakeList is Take for entries, sorted by path, that a walk of root has found. over, which may be
// nil, tells for a path the pieces that a file like it has in the locker: see AddOver.
func (w *Writer) TakeList(ctx context.Context, root string, list []tree.Entry, over func(path string) []tree.Sum,
	progress func(done, total int64)) (*set.Taken, error) {
	files := make([]set.File, len(list))
	for i, e := range list {
		files[i].Entry = e
	}
	in, err := tree.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return w.takeFiles(ctx, in, files, nil, over, progress)
}

func (w *Writer) takeFiles(ctx context.Context, root *tree.Root, files []set.File, base *set.Base,
	over func(path string) []tree.Sum, progress func(done, total int64)) (_ *set.Taken, err error) {
	if base != nil {
		defer base.Close()
	}
	w.doubts = base != nil && base.Doubts
	p := &pass{w: w, root: root, files: files, base: base, over: map[int][]tree.Sum{}, progress: progress}
	doubt, err := p.look()
	if err != nil {
		return nil, err
	}
	for _, i := range p.todo {
		if over == nil || p.over[i] != nil {
			continue
		}
		if had := over(files[i].Path); had != nil {
			p.over[i] = had
		}
	}
	total := p.total
	gone, err := p.read(ctx)
	if err != nil {
		return nil, err
	}
	t := &set.Taken{Read: total, Doubt: doubt}
	kept, was := files[:0], p.was[:0]
	for i, f := range files {
		if !gone[i] {
			kept, was = append(kept, f), append(was, p.was[i])
			if f.Moving {
				t.Moving = append(t.Moving, f.Path)
			}
		}
	}
	t.Settle(kept, base, was)
	return t, nil
}

// pass is one pass over a folder.
type pass struct {
	w     *Writer
	root  *tree.Root
	files []set.File
	base  *set.Base
	was   []int              // position of each in the base, -1 for what differs
	over  map[int][]tree.Sum // of files that have to be read, the pieces that they had
	todo  []int              // the files that have to be read,
	total int64              // and their bytes

	mu       sync.Mutex
	done     int64
	progress func(done, total int64)
}

// look goes through the files beside the base: from here on those that it proves
// unchanged are complete, and the others are to be read. doubt is damage of the base:
// what lies behind that has to be read too.
func (p *pass) look() (doubt, err error) {
	p.was = make([]int, len(p.files))
	earlier := p.base.Merge()
	for i := range p.files {
		f := &p.files[i]
		old, at := earlier.Find(f.Path)
		p.was[i] = -1
		if f.Kind == tree.File {
			if !p.proven(f, old) {
				p.toRead(i, old)
				continue
			}
			f.Sum, f.Pieces, f.ReadAt, f.Sparse = old.Sum, old.Pieces, old.ReadAt, old.Sparse
		}
		if old != nil && f.SameIdentity(old.Entry) { // a new attribute moves the change time too
			f.Xattr = old.Xattr
		} else if f.Xattr, err = p.root.Xattrs(f.Path, f.Kind); err != nil {
			return nil, fmt.Errorf("back up %s: %w", f.Path, err)
		}
		if old != nil && f.Same(old) {
			p.was[i] = at
		}
	}
	return earlier.Err, nil
}

// proven tells whether the base, which has old of the file's path, proves that nobody has
// written to the file since, and that its content is stored.
func (p *pass) proven(f, old *set.File) bool {
	return old != nil && !p.base.Doubts && !old.Moving && old.Settled(old.ReadAt) && f.SameIdentity(old.Entry) &&
		(p.base.Stored || p.w.l.Holds(old))
}

// toRead has a file read, and stored over what it had before where that is worth it.
func (p *pass) toRead(i int, old *set.File) {
	size := p.files[i].Size
	p.todo = append(p.todo, i)
	p.total += size
	if old == nil || old.Size < frame.LayFrom || size < frame.LayFrom || len(old.PieceSums()) == 0 {
		return
	}
	if p.over[i] = slices.Clone(old.PieceSums()); len(p.over) == 1 {
		go p.w.l.Find(p.over[i][0]) // reads the indexes, which will be needed
	}
}

// note tells of bytes that were read.
func (p *pass) note(n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done += n
	if p.progress != nil {
		p.progress(p.done, p.total)
	}
}

// read reads and stores the files that have to be read, on every core. gone are those that
// a running server removed meanwhile.
func (p *pass) read(ctx context.Context) (gone []bool, err error) {
	p.note(0)
	g, ctx := errgroup.WithContext(ctx)
	next := make(chan []int)
	g.Go(func() error {
		defer close(next)
		todo := p.todo
		for len(todo) > 0 {
			// Small neighbours go to one worker: they will lie in one frame, and be
			// read one after the other.
			n, size := 0, int64(0)
			for n < len(todo) && n < 256 && size < bundle {
				size += p.files[todo[n]].Size
				n++
			}
			select {
			case next <- todo[:n]:
			case <-ctx.Done():
				return ctx.Err()
			}
			todo = todo[n:]
		}
		return nil
	})
	gone = make([]bool, len(p.files))
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			for some := range next {
				readAt := time.Now().UnixNano() // of all: it proves no less, and takes less room
				for _, i := range some {
					f, err := p.w.takeFile(ctx, p.root, p.files[i].Entry, p.over[i], readAt, p.note)
					if errors.Is(err, fs.ErrNotExist) {
						gone[i] = true
						continue
					}
					if err != nil {
						return fmt.Errorf("back up %s: %w", p.files[i].Path, err)
					}
					p.files[i] = f
				}
			}
			return nil
		})
	}
	return gone, g.Wait()
}

// takeFile stores one file, which had certain pieces before. A file that changes
// while it is read is tried again, and marked when it won't hold still. What is
// described is the open file itself, so no exchange in between can pair one file's
// content with another's owner.
func (w *Writer) takeFile(ctx context.Context, root *tree.Root, e tree.Entry, had []tree.Sum, readAt int64,
	note func(int64)) (set.File, error) {
	for try := 0; ; try++ {
		if try > 0 {
			readAt = time.Now().UnixNano()
		}
		f, err := w.takeOpen(ctx, root, e.Path, had, note)
		if err != nil {
			return set.File{}, err
		}
		f.ReadAt = readAt
		if !f.Moving || try == 2 {
			return f, nil
		}
	}
}

// takeOpen is one try of takeFile.
func (w *Writer) takeOpen(ctx context.Context, root *tree.Root, at string, had []tree.Sum,
	note func(int64)) (f set.File, err error) {
	src, err := root.Open(at)
	if errors.Is(err, tree.ErrNotRegular) || errors.Is(err, tree.ErrLink) {
		err = fs.ErrNotExist // the file that was seen is gone
	}
	if err != nil {
		return f, err
	}
	defer src.Close()
	before, err := tree.DescribeOpen(src, at)
	if err != nil {
		return f, err
	}
	if f, err = w.AddOver(ctx, src, before.Size, had, note); err != nil {
		return f, err
	}
	after, _, err := root.Describe(at) // by its name: another may stand there now
	if err != nil {
		return f, err
	}
	size := f.Size
	f.Moving = !after.SameIdentity(before) && after.Inode != 0
	f.Entry, f.Size, f.Sparse = before, size, tree.Sparse(src)
	f.Xattr, err = tree.XattrsOf(src)
	return f, err
}
