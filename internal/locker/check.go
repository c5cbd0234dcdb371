package locker

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
)

// Share is a part of all pieces: those of which the hash leaves At when it is
// divided by Of. Of parts, each piece is in exactly one, so that as many nights
// read everything. The zero Share is all of them.
type Share struct{ At, Of uint64 }

func (s Share) has(sum tree.Sum) bool {
	return s.Of < 2 || binary.LittleEndian.Uint64(sum[:8])%s.Of == s.At%s.Of
}

// Checked is what reading back found.
type Checked struct {
	Sets    int      `json:"sets"`
	Pieces  int      `json:"pieces"` // that were read and hashed
	Bytes   int64    `json:"bytes"`  // of their content
	Damaged []Hurt   `json:"damaged,omitempty"`
	Broken  []string `json:"broken,omitempty"` // what can't be read of the locker itself, each with its file and why
	Lacks   []Lack   `json:"lacks,omitempty"`  // of a copy: backups that it should hold
}

// Lack is a set that a copy should hold and does not, or not as it was sent.
type Lack struct {
	Owner string `json:"owner"`
	ID    string `json:"set"`
	Why   string `json:"why"`
}

// Hurt is a file of a set that can't be brought back whole.
type Hurt struct {
	Owner string `json:"owner"`
	Set   string `json:"set"`
	Path  string `json:"path"`
	Why   string `json:"why"`
}

// Check reads back every piece that the sets given name, or a share of them, and
// compares hashes. It goes through the packs in the order in which they lie.
// progress, which may be nil, hears bytes done and to do.
func (l *Locker) Check(ctx context.Context, sets []*set.Set, share Share, progress func(done, total int64)) (*Checked,
	error) {
	if !l.others { // a pack that moves while it is read would look damaged
		gate := l.gate()
		if err := gate.RLock(); err == nil {
			defer gate.Unlock()
		}
	}
	if err := l.refresh(); err != nil {
		return nil, err
	}
	c := &checking{l: l, sets: sets, bad: map[tree.Sum]string{}, gone: map[*set.Set]bool{}}
	jobs, total, err := c.jobs(share)
	if err != nil {
		return nil, err
	}
	var done atomic.Int64
	g, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0)
	for w := range workers { // each a run of its own, so that frames are read once
		part := jobs[len(jobs)*w/workers : len(jobs)*(w+1)/workers]
		g.Go(func() error {
			return c.read(ctx, part, func(size int64) {
				if n := done.Add(size); progress != nil {
					progress(n, total)
				}
			})
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	c.out.Pieces, c.out.Bytes = len(jobs), done.Load()
	if err := l.note(c.spoilt); err != nil {
		c.out.Broken = append(c.out.Broken, err.Error())
	}
	return &c.out, c.hurt()
}

// checking is one Check.
type checking struct {
	l    *Locker
	sets []*set.Set
	gone map[*set.Set]bool // dropped since they were listed
	out  Checked

	mu     sync.Mutex
	bad    map[tree.Sum]string // pieces that can't be read, and why
	spoilt []string            // lines of damagedFile
}

// each reads the entries of all sets. One that is damaged is told, and is no error; one
// that can't be had now is.
func (c *checking) each(read func(head *set.Set, f *set.File)) error {
	for _, head := range c.sets {
		err := c.l.Each(head.Owner, head.ID, func(f *set.File) { read(head, f) })
		switch {
		case err == nil:
		case errors.Is(err, set.ErrNoSet) || errors.Is(err, fs.ErrNotExist):
			c.gone[head] = true
		case notDamage(err):
			return err
		case !slices.Contains(c.out.Broken, err.Error()):
			c.out.Broken = append(c.out.Broken, err.Error())
		}
	}
	return nil
}

// jobs lists the pieces to be read, in the order in which they lie, and their bytes. Those
// that no index names are bad already.
func (c *checking) jobs(share Share) (jobs []index.Line, total int64, err error) {
	named := map[tree.Sum]bool{}
	if err := c.each(func(_ *set.Set, f *set.File) {
		for _, p := range f.PieceSums() {
			if !named[p] {
				c.l.Chain(p, func(s tree.Sum) { named[s] = true })
			}
		}
	}); err != nil {
		return nil, 0, err
	}
	c.out.Sets = len(c.sets) - len(c.out.Broken) - len(c.gone)
	c.l.mu.RLock()
	defer c.l.mu.RUnlock()
	for _, d := range c.l.damage {
		c.out.Broken = append(c.out.Broken, d.Error())
	}
	for sum := range named {
		p, _, ok := c.l.index.Find(sum)
		switch {
		case !ok:
			c.bad[sum] = "no index names its content"
		case share.has(sum):
			jobs = append(jobs, index.Line{Sum: sum, Place: p})
			total += int64(p.Size)
		}
	}
	slices.SortFunc(jobs, func(a, b index.Line) int { return a.Compare(b.Place) })
	return jobs, total, nil
}

// read reads pieces back and notes the bad ones. did hears the bytes of each.
func (c *checking) read(ctx context.Context, part []index.Line, did func(size int64)) error {
	r := &reading{l: c.l}
	defer r.close()
	for _, j := range part {
		if err := ctx.Err(); err != nil {
			return err
		}
		if _, err := r.piece(j.Sum); err != nil {
			var d *set.Damage
			if !errors.As(err, &d) {
				return err
			}
			c.mu.Lock()
			c.bad[j.Sum] = fmt.Sprintf("%s: %s", d.Where, d.Why)
			if line := c.l.lineOf(d.Piece); !slices.Contains(c.spoilt, line) { // it may be of one that it lies over
				c.spoilt = append(c.spoilt, line)
			}
			c.mu.Unlock()
		}
		did(int64(j.Size))
	}
	return nil
}

// hurt lists the files that have bad pieces.
func (c *checking) hurt() error {
	if len(c.bad) == 0 {
		return nil
	}
	return c.each(func(head *set.Set, f *set.File) {
		for _, p := range f.PieceSums() {
			if why, is := c.bad[p]; is {
				c.out.Damaged = append(c.out.Damaged, Hurt{head.Owner, head.ID, f.Path, why})
				return
			}
		}
	})
}

// lineOf is what stands there of a piece; "" where no index names it.
func (l *Locker) lineOf(piece string) string {
	var s tree.Sum
	if s.UnmarshalText([]byte(piece)) != nil {
		return ""
	}
	in, pack, ok := l.seek(s)
	if !ok {
		return ""
	}
	return fmt.Sprintf("%s %s %d\n", s, strings.TrimSuffix(filepath.Base(pack), ".zst"), in.Off)
}

// note has pieces that did not read back, a line each, count as not stored.
func (l *Locker) note(spoilt []string) error {
	if spoilt = slices.DeleteFunc(spoilt, func(line string) bool { return line == "" }); len(spoilt) == 0 {
		return nil
	}
	if err := noteDamage(l.dir, spoilt); err != nil {
		return err
	}
	l.forget()
	return nil
}

// Spoilt lists the packs in which a check found damage.
func (l *Locker) Spoilt() (packs []string) {
	b, _ := tree.ReadOwn(filepath.Join(l.dir, damagedFile))
	for _, line := range strings.Split(string(b), "\n") {
		if f := strings.Fields(line); len(f) == 3 && !slices.Contains(packs, f[1]) {
			packs = append(packs, f[1])
		}
	}
	return packs
}

// Holds tells whether every piece of a file is there.
func (l *Locker) Holds(f *set.File) bool {
	for _, s := range f.PieceSums() {
		if _, ok := l.Find(s); !ok { // which reads the indexes
			return false
		}
		l.mu.RLock()
		whole := true
		l.index.Chain(s, func(_ tree.Sum, _ index.Place, ok bool) { whole = whole && ok }) // what it lies over too
		l.mu.RUnlock()
		if !whole {
			return false
		}
	}
	return true
}
