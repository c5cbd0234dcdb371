// Package compare tells how two trees differ: folders, archives, builds, backups, or an
// install as it is. Content alone counts, never a date. It writes nothing but what it lays out
// of an archive meanwhile.
package compare

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"golang.org/x/sync/errgroup"
)

// Kind is how a path differs.
type Kind string

// Kinds. All is told from the first side to the second.
const (
	Added   Kind = "added"   // the second has it alone
	Gone    Kind = "gone"    // the first has it alone
	Changed Kind = "changed" // both have it, with other content
	Moved   Kind = "moved"   // the same content has another path in the second
	Same    Kind = "same"
)

// Difference is one path.
type Difference struct {
	Kind   Kind   `json:"kind"`
	Path   string `json:"path"`
	From   string `json:"from,omitempty"`   // of what was moved
	Before int64  `json:"before,omitempty"` // bytes
	After  int64  `json:"after,omitempty"`
	What   string `json:"what,omitempty"` // of what was changed, in words
	// of a text: a unified diff, as far as it is asked for, with the lines that it adds and takes
	Diff string `json:"diff,omitempty"`
	Plus int    `json:"lines_added,omitempty"`
	Less int    `json:"lines_gone,omitempty"`
	// of an archive: its entries that differ
	Inside []Difference `json:"inside,omitempty"`

	a, b *entry
}

// Order says how to compare.
type Order struct {
	Only  tree.Patterns // these paths alone; none: all
	Leave tree.Patterns // but not these
	Same  bool          // list paths that do not differ too
	Text  int           // how many bytes of a text's diff are kept; 0: none
}

// Result is how two sides differ.
type Result struct {
	A           string       `json:"first"`
	B           string       `json:"second"`
	Same        int          `json:"same"` // files that do not differ
	Read        int64        `json:"bytes_read"`
	Differences []Difference `json:"differences"`
	Alike       []string     `json:"paths_alike,omitempty"` // where Order asks for them
}

// comparing is one comparison under way.
type comparing struct {
	a, b *Side
	o    Order
	out  *Result

	mu          sync.Mutex
	moves       func(done, total int64)
	done, total int64
}

// Sides compares two sides. progress, which may be nil, hears bytes read and bytes to read.
func Sides(ctx context.Context, a, b *Side, o Order, progress func(done, total int64)) (*Result, error) {
	if progress == nil {
		progress = func(int64, int64) {}
	}
	a.unwrapped(b)
	b.unwrapped(a)
	if len(a.entries) == 1 && len(b.entries) == 1 { // two files: their names do not matter
		b.entries[0].Path = a.entries[0].Path
	}
	var err error
	for _, pats := range []*tree.Patterns{&o.Only, &o.Leave} {
		if *pats, err = tree.Chosen(*pats, "", func(yield func(string, bool) bool) {
			for _, e := range append(slices.Clone(a.entries), b.entries...) {
				if !yield(e.Path, e.Kind == tree.Dir) {
					return
				}
			}
		}, words.Near); err != nil {
			return nil, tell.Misuse(err.Error(), "freshkeel compare A B --only 'lib/**'")
		}
	}
	c := &comparing{a: a, b: b, o: o, moves: progress,
		out: &Result{A: a.Label, B: b.Label, Differences: []Difference{}}}
	unsure := c.byPath()
	if err := c.read(ctx, unsure); err != nil {
		return nil, err
	}
	if err := c.findMoves(ctx); err != nil {
		return nil, err
	}
	if err := c.lookInside(ctx); err != nil {
		return nil, err
	}
	slices.SortFunc(c.out.Differences, func(x, y Difference) int { return strings.Compare(x.Path, y.Path) })
	slices.Sort(c.out.Alike)
	return c.out, nil
}

func (c *comparing) concerns(at string) bool {
	return !tree.Ours(at) && (len(c.o.Only) == 0 || c.o.Only.Match(at)) && !c.o.Leave.Match(at)
}

// pair is two files of one path of which only reading tells whether they differ.
type pair struct{ a, b *entry }

// byPath goes through both sides in the order of paths.
func (c *comparing) byPath() (unsure []pair) {
	a, b := c.a.entries, c.b.entries
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || (len(a) > 0 && a[0].Path < b[0].Path):
			c.alone(Gone, &a[0])
			a = a[1:]
		case len(a) == 0 || b[0].Path < a[0].Path:
			c.alone(Added, &b[0])
			b = b[1:]
		default:
			if c.concerns(a[0].Path) && !c.known(&a[0], &b[0]) {
				unsure = append(unsure, pair{&a[0], &b[0]})
			}
			a, b = a[1:], b[1:]
		}
	}
	return unsure
}

// alone is for a path that one side has. A folder counts by what is in it.
func (c *comparing) alone(k Kind, e *entry) {
	if e.Kind == tree.Dir || !c.concerns(e.Path) {
		return
	}
	d := Difference{Kind: k, Path: e.Path}
	if k == Gone {
		d.Before, d.a = e.Size, e
	} else {
		d.After, d.b = e.Size, e
	}
	c.out.Differences = append(c.out.Differences, d)
}

// known decides about a path that both have, where that needs no reading.
func (c *comparing) known(a, b *entry) bool {
	differs := func(what string) bool {
		c.out.Differences = append(
			c.out.Differences,
			Difference{Kind: Changed, Path: a.Path, Before: a.Size, After: b.Size,
				What: what, a: a, b: b},
		)
		return true
	}
	switch {
	case a.Kind == tree.Dir && b.Kind == tree.Dir:
		return true
	case a.Kind != b.Kind:
		return differs(fmt.Sprintf("a %s, and a %s in the second", a.Kind.Word(), b.Kind.Word()))
	case a.Kind == tree.Link && a.Target != b.Target:
		return differs(fmt.Sprintf("it leads to %s, and to %s in the second", a.Target, b.Target))
	case a.Kind == tree.Link:
		return c.same(a)
	case a.Size != b.Size:
		return differs("")
	case !a.sum.IsZero() && !b.sum.IsZero() && a.sum != b.sum:
		return differs("")
	case (!a.sum.IsZero() && a.sum == b.sum) || a.Size == 0:
		return c.same(a)
	case a.Inode != 0 && a.Inode == b.Inode && a.Dev == b.Dev && a.Dev != 0: // one file under two names
		return c.same(a)
	}
	return false
}

func (c *comparing) same(e *entry) bool {
	c.out.Same++
	if c.o.Same {
		c.out.Alike = append(c.out.Alike, e.Path)
	}
	return true
}

// each calls do for each of n, as many at a time as there are processors.
func each(ctx context.Context, n int, do func(i int) error) error {
	g, going := errgroup.WithContext(ctx)
	var next atomic.Int64
	for range min(n, runtime.GOMAXPROCS(0)) { // each takes the next: waking one for every small file costs more than it
		g.Go(func() error {
			for i := int(next.Add(1)) - 1; i < n && going.Err() == nil; i = int(next.Add(1)) - 1 {
				if err := do(i); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

// read reads pairs of files, and stops with each at the first byte that differs.
func (c *comparing) read(ctx context.Context, unsure []pair) error {
	for _, p := range unsure {
		c.total += 2 * p.a.Size
	}
	return each(ctx, len(unsure), func(i int) error {
		p := unsure[i]
		same, err := c.sameContent(p)
		if err != nil {
			return err
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		if same {
			c.same(p.a)
		} else {
			c.out.Differences = append(c.out.Differences, Difference{Kind: Changed, Path: p.a.Path, Before: p.a.Size,
				After: p.b.Size, a: p.a, b: p.b})
		}
		return nil
	})
}

// block is how much of two files is compared at a time, in bytes.
const block = 128 << 10

var blocks = sync.Pool{New: func() any { b := make([]byte, block); return &b }}

func (c *comparing) sameContent(p pair) (same bool, err error) {
	if !p.a.sum.IsZero() || !p.b.sum.IsZero() { // one is known: the other is hashed
		for _, one := range []struct {
			s *Side
			e *entry
		}{{c.a, p.a}, {c.b, p.b}} {
			if err := c.hash(one.s, one.e); err != nil {
				return false, err
			}
		}
		return p.a.sum == p.b.sum, nil
	}
	bufA, bufB := blocks.Get().(*[]byte), blocks.Get().(*[]byte)
	defer blocks.Put(bufA)
	defer blocks.Put(bufB)
	if c.a.small != nil && c.b.small != nil && p.a.Size < block { // a file that has grown meanwhile differs
		na, err := c.a.small(p.a, *bufA)
		if err != nil {
			return false, fmt.Errorf("read %s of %s: %w", p.a.Path, c.a.Label, err)
		}
		nb, err := c.b.small(p.b, *bufB)
		if err != nil {
			return false, fmt.Errorf("read %s of %s: %w", p.b.Path, c.b.Label, err)
		}
		c.progress(int64(na + nb))
		return bytes.Equal((*bufA)[:na], (*bufB)[:nb]), nil
	}
	fa, na, doneA, err := c.a.open(p.a)
	if err != nil {
		return false, fmt.Errorf("read %s of %s: %w", p.a.Path, c.a.Label, err)
	}
	defer doneA()
	fb, nb, doneB, err := c.b.open(p.b)
	if err != nil {
		return false, fmt.Errorf("read %s of %s: %w", p.b.Path, c.b.Label, err)
	}
	defer doneB()
	if na != nb {
		return false, nil
	}
	for at := int64(0); at < na; at += block {
		n := int(min(block, na-at))
		if err := full(fa, (*bufA)[:n], at); err != nil {
			return false, fmt.Errorf("read %s of %s: %w", p.a.Path, c.a.Label, err)
		}
		if err := full(fb, (*bufB)[:n], at); err != nil {
			return false, fmt.Errorf("read %s of %s: %w", p.b.Path, c.b.Label, err)
		}
		c.progress(2 * int64(n))
		if !bytes.Equal((*bufA)[:n], (*bufB)[:n]) {
			return false, nil
		}
	}
	return true, nil
}

// full reads b from a place; a file that ends before has changed meanwhile.
func full(r io.ReaderAt, b []byte, at int64) error {
	n, err := r.ReadAt(b, at)
	if n == len(b) {
		return nil
	}
	if err == nil || err == io.EOF {
		return fmt.Errorf("it was cut short while it was read")
	}
	return err
}

func (c *comparing) progress(n int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.done += n
	c.out.Read += n
	c.moves(c.done, max(c.total, c.done))
}

// hash tells the content of an entry.
func (c *comparing) hash(s *Side, e *entry) error {
	if !e.sum.IsZero() || e.Kind != tree.File {
		return nil
	}
	f, size, done, err := s.open(e)
	if err != nil {
		return fmt.Errorf("read %s of %s: %w", e.Path, s.Label, err)
	}
	defer done()
	h := tree.NewHash()
	buf := blocks.Get().(*[]byte)
	defer blocks.Put(buf)
	if _, err := io.CopyBuffer(struct{ io.Writer }{h}, io.NewSectionReader(f, 0, size), *buf); err != nil {
		return fmt.Errorf("read %s of %s: %w", e.Path, s.Label, err)
	}
	e.sum = h.Sum()
	c.progress(size)
	return nil
}

// findMoves finds what has another path in the second side: content that is gone here and was
// added there. Only files of a size that both lists have are read.
func (c *comparing) findMoves(ctx context.Context) error {
	type place struct {
		s *Side
		e *entry
		i int
	}
	gone, added := map[int64][]place{}, map[int64][]place{}
	for i, d := range c.out.Differences {
		switch {
		case d.Kind == Gone && d.a.Kind == tree.File && d.a.Size > 0:
			gone[d.a.Size] = append(gone[d.a.Size], place{c.a, d.a, i})
		case d.Kind == Added && d.b.Kind == tree.File && d.b.Size > 0:
			added[d.b.Size] = append(added[d.b.Size], place{c.b, d.b, i})
		}
	}
	var todo []place
	for size, list := range gone {
		if with := added[size]; with != nil {
			todo = append(append(todo, list...), with...)
		}
	}
	for _, p := range todo {
		if p.e.sum.IsZero() {
			c.total += p.e.Size
		}
	}
	if err := each(ctx, len(todo), func(i int) error { return c.hash(todo[i].s, todo[i].e) }); err != nil {
		return err
	}
	from := map[tree.Sum][]place{}
	for size, list := range gone {
		if added[size] != nil {
			for _, p := range list {
				from[p.e.sum] = append(from[p.e.sum], p)
			}
		}
	}
	dropped := map[int]bool{}
	for _, list := range added {
		for _, p := range list {
			was := from[p.e.sum]
			if len(was) == 0 || p.e.sum.IsZero() {
				continue
			}
			d := &c.out.Differences[p.i]
			d.Kind, d.From, d.Before = Moved, was[0].e.Path, was[0].e.Size
			dropped[was[0].i] = true
			from[p.e.sum] = was[1:]
		}
	}
	kept := c.out.Differences[:0]
	for i, d := range c.out.Differences {
		if !dropped[i] {
			kept = append(kept, d)
		}
	}
	c.out.Differences = kept
	return nil
}

// summary tells of a changed file how its size differs.
func summary(d *Difference) string {
	if d.Before == d.After {
		return words.Bytes(d.Before) + " as before, with other content"
	}
	return fmt.Sprintf("%s → %s", words.Bytes(d.Before), words.Bytes(d.After))
}
