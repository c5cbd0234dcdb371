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

	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
)

// Taken is what one pass over a folder found.
type Taken struct {
	Entries []File
	Read    int64 // bytes that had to be read
	Moving  []string
	Doubt   error // the base was damaged: what lies behind that was read again

	blocks []block // of Entries, with the frames that the base has of them

	compact bool // Entries are let go of; the blocks have their frames
	total   int  // how many they were
}

// Fill gives a set the entries of a pass.
func (t *Taken) Fill(s *Set) { s.Entries, s.blocks = t.Entries, t.blocks }

// Insert adds an entry that no file of the folder is.
func (t *Taken) Insert(f File) {
	i, _ := slices.BinarySearchFunc(t.Entries, f.Path, func(e File, path string) int { return strings.Compare(e.Path, path) })
	t.Entries = slices.Insert(t.Entries, i, f)
	t.blocks = nil
}

// Take stores the folder root but for what skip matches, and of the rest what
// takes says; nil is everything. Files that base, an earlier pass or backup, proves
// unchanged are not read; base may be nil, and is used up. progress, which may be
// nil, hears bytes done and bytes to do.
func (w *Writer) Take(ctx context.Context, root string, skip tree.Patterns, takes func(tree.Entry) bool, base *Base, progress func(done, total int64)) (*Taken, error) {
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
			in = slices.Clip(slices.DeleteFunc(slices.Clone(in), func(e tree.Entry) bool { return !takes(e) })) // the walk still needs its own
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
	files := make([]File, n)
	for i := range files {
		from := &two
		if len(two) == 0 || len(one) > 0 && byPath(one[0], two[0]) < 0 {
			from = &one
		}
		files[i].Entry = *(*from)[0]
		(*from)[0] = nil
		*from = (*from)[1:]
	}
	return w.takeFiles(ctx, in, files, base, progress)
}

// TakeList is Take for entries, sorted by path, that a walk of root has found.
func (w *Writer) TakeList(ctx context.Context, root string, list []tree.Entry, base *Base, progress func(done, total int64)) (*Taken, error) {
	files := make([]File, len(list))
	for i, e := range list {
		files[i].Entry = e
	}
	in, err := tree.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return w.takeFiles(ctx, in, files, base, progress)
}

func (w *Writer) takeFiles(ctx context.Context, root *tree.Root, files []File, base *Base, progress func(done, total int64)) (_ *Taken, err error) {
	if base != nil {
		defer base.close()
	}
	w.doubts = base != nil && base.doubted
	t := &Taken{Entries: files}
	was := make([]int, len(files)) // position in the base, -1 for what differs
	over := map[int][]tree.Sum{}   // of files that have to be read, the pieces that they had
	earlier := merge{base: base}
	var todo []int
	var total int64
	for i := range files {
		f := &files[i]
		e := f.Entry
		old, at := earlier.find(e.Path)
		was[i] = -1
		if e.Kind == tree.File {
			if old == nil || base.doubted || old.Moving || !old.Settled(old.ReadAt) || !e.SameIdentity(old.Entry) || (!base.stored && !w.l.stored(old)) {
				todo = append(todo, i)
				total += e.Size
				if old != nil && old.Size >= layFrom && e.Size >= layFrom && len(old.PieceSums()) > 0 {
					if over[i] = slices.Clone(old.PieceSums()); len(over) == 1 {
						go w.l.find(over[i][0]) // reads the indexes, which will be needed
					}
				}
				continue
			}
			f.Sum, f.Pieces, f.ReadAt, f.Sparse = old.Sum, old.Pieces, old.ReadAt, old.Sparse
		}
		if old != nil && e.SameIdentity(old.Entry) { // a new attribute moves the change time too
			f.Xattr = old.Xattr
		} else if f.Xattr, err = root.Xattrs(e.Path, e.Kind); err != nil {
			return nil, fmt.Errorf("back up %s: %w", e.Path, err)
		}
		if old != nil && f.same(old) {
			was[i] = at
		}
	}
	t.Doubt = earlier.err
	t.Read = total
	var mu sync.Mutex
	var done int64
	note := func(n int64) {
		mu.Lock()
		defer mu.Unlock()
		done += n
		if progress != nil {
			progress(done, total)
		}
	}
	if progress != nil {
		progress(0, total)
	}
	g, ctx := errgroup.WithContext(ctx)
	next := make(chan []int)
	g.Go(func() error {
		defer close(next)
		for len(todo) > 0 {
			// Small neighbours go to one worker: they will lie in one frame, and be
			// read one after the other.
			n, size := 0, int64(0)
			for n < len(todo) && n < 256 && size < bundle {
				size += files[todo[n]].Size
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
	gone := make([]bool, len(t.Entries))
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			for some := range next {
				readAt := time.Now().UnixNano() // of all: it proves no less, and takes less room
				for _, i := range some {
					f, err := w.takeFile(ctx, root, t.Entries[i].Entry, over[i], readAt, note)
					if errors.Is(err, fs.ErrNotExist) {
						gone[i] = true // a running server removed it
						continue
					}
					if err != nil {
						return fmt.Errorf("back up %s: %w", t.Entries[i].Path, err)
					}
					t.Entries[i] = f
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	kept, keptWas := t.Entries[:0], was[:0]
	for i, f := range t.Entries {
		if !gone[i] {
			kept, keptWas = append(kept, f), append(keptWas, was[i])
			if f.Moving {
				t.Moving = append(t.Moving, f.Path)
			}
		}
	}
	t.Entries, t.blocks = kept, blocksOf(kept)
	carry(t.blocks, base, keptWas)
	return t, nil
}

// takeFile stores one file, which had certain pieces before. A file that changes
// while it is read is tried again, and marked when it won't hold still. What is
// described is the open file itself, so no exchange in between can pair one file's
// content with another's owner.
func (w *Writer) takeFile(ctx context.Context, root *tree.Root, e tree.Entry, had []tree.Sum, readAt int64, note func(int64)) (File, error) {
	for try := 0; ; try++ {
		if try > 0 {
			readAt = time.Now().UnixNano()
		}
		f, err := w.takeOpen(ctx, root, e.Path, had, note)
		if err != nil {
			return File{}, err
		}
		f.ReadAt = readAt
		if !f.Moving || try == 2 {
			return f, nil
		}
	}
}

// takeOpen is one try of takeFile.
func (w *Writer) takeOpen(ctx context.Context, root *tree.Root, at string, had []tree.Sum, note func(int64)) (f File, err error) {
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
