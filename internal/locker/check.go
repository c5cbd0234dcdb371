package locker

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

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
func (l *Locker) Check(ctx context.Context, sets []*Set, share Share, progress func(done, total int64)) (*Checked, error) {
	c := &Checked{}
	if l.far == nil && !l.other { // what moves while it is read would look damaged
		gate := l.gate()
		if err := gate.RLock(); err == nil {
			defer gate.Unlock()
		}
	}
	if err := l.refresh(); err != nil {
		return nil, err
	}
	bad := map[tree.Sum]string{}
	named := map[tree.Sum]bool{}
	var away error
	gone := map[*Set]bool{} // dropped since they were listed
	each := func(read func(head *Set, f *File)) {
		for _, head := range sets {
			if err := l.Each(head.Owner, head.ID, func(f *File) { read(head, f) }); errors.Is(err, ErrNoSet) || errors.Is(err, fs.ErrNotExist) {
				gone[head] = true
			} else if notDamage(err) {
				away = err
			} else if err != nil {
				if why := err.Error(); !slices.Contains(c.Broken, why) {
					c.Broken = append(c.Broken, why)
				}
			}
		}
	}
	each(func(_ *Set, f *File) {
		for _, p := range f.PieceSums() {
			if !named[p] {
				l.chain(p, func(s tree.Sum) { named[s] = true })
			}
		}
	})
	if away != nil {
		return nil, away
	}
	c.Sets = len(sets) - len(c.Broken) - len(gone)
	var jobs []line
	var total int64
	l.mu.RLock()
	for _, d := range l.damage {
		c.Broken = append(c.Broken, d.Error())
	}
	for sum := range named {
		p, _, ok := l.index.find(sum)
		switch {
		case !ok:
			bad[sum] = "no index names its content"
		case share.has(sum):
			jobs = append(jobs, line{sum, p})
			total += int64(p.size)
		}
	}
	l.mu.RUnlock()
	slices.SortFunc(jobs, func(a, b line) int { return a.compare(b.place) })
	var mu sync.Mutex
	var spoilt []string
	var done atomic.Int64
	g, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0)
	for w := range workers { // each a run of its own, so that frames are read once
		part := jobs[len(jobs)*w/workers : len(jobs)*(w+1)/workers]
		g.Go(func() error {
			r := &reading{}
			defer r.close()
			for _, j := range part {
				if err := ctx.Err(); err != nil {
					return err
				}
				if _, err := l.pieceBy(r, j.sum); err != nil {
					var d *Damage
					if !errors.As(err, &d) {
						return err
					}
					mu.Lock()
					bad[j.sum] = fmt.Sprintf("%s: %s", d.Where, d.Why)
					if line := l.lineOf(d.Piece); !slices.Contains(spoilt, line) { // it may be of one that it lies over
						spoilt = append(spoilt, line)
					}
					mu.Unlock()
				}
				if n := done.Add(int64(j.size)); progress != nil {
					progress(n, total)
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	c.Pieces, c.Bytes = len(jobs), done.Load()
	if err := l.note(spoilt); err != nil {
		c.Broken = append(c.Broken, err.Error())
	}
	if len(bad) > 0 {
		each(func(head *Set, f *File) {
			for _, p := range f.PieceSums() {
				if why, is := bad[p]; is {
					c.Damaged = append(c.Damaged, Hurt{head.Owner, head.ID, f.Path, why})
					return
				}
			}
		})
	}
	return c, nil
}

// damagedFile lists pieces that did not read back, a line each: hash, pack,
// offset. What stands in it counts as not stored, so that the next backup stores
// it anew where the install still has it.
const damagedFile = "damaged"

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
	return fmt.Sprintf("%s %s %d\n", s, strings.TrimSuffix(filepath.Base(pack), ".zst"), in.off)
}

func (l *Locker) note(spoilt []string) error {
	if spoilt = slices.DeleteFunc(spoilt, func(line string) bool { return line == "" }); len(spoilt) == 0 {
		return nil
	}
	at := filepath.Join(l.dir, damagedFile)
	b, err := os.ReadFile(at)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	slices.Sort(spoilt)
	if err := tree.WriteFile(at, append(b, strings.Join(spoilt, "")...), 0o600); err != nil {
		return err
	}
	l.forget()
	return nil
}

// readDamaged is what note wrote; called with the lock held.
func (l *Locker) readDamaged() {
	b, _ := os.ReadFile(filepath.Join(l.dir, damagedFile))
	l.spoilt = map[string]bool{}
	for _, line := range strings.Split(string(b), "\n") {
		if line != "" {
			l.spoilt[line] = true
		}
	}
}

// Spoilt lists the packs in which a check found damage.
func (l *Locker) Spoilt() (packs []string) {
	b, _ := os.ReadFile(filepath.Join(l.dir, damagedFile))
	for _, line := range strings.Split(string(b), "\n") {
		if f := strings.Fields(line); len(f) == 3 && !slices.Contains(packs, f[1]) {
			packs = append(packs, f[1])
		}
	}
	return packs
}

// stored tells whether every piece of a file is there.
func (l *Locker) stored(f *File) bool {
	for _, s := range f.PieceSums() {
		if _, ok := l.find(s); !ok { // which reads the indexes
			return false
		}
		l.mu.RLock()
		whole := true
		l.index.chain(s, func(_ tree.Sum, _ place, ok bool) { whole = whole && ok }) // what it lies over too
		l.mu.RUnlock()
		if !whole {
			return false
		}
	}
	return true
}

// Owners lists whose sets there are: Builds, and the servers.
func (l *Locker) Owners() (out []string, err error) {
	if l.far != nil {
		return l.far.owners(), nil
	}
	list, err := os.ReadDir(filepath.Join(l.dir, "sets"))
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		if d.IsDir() && !strings.HasPrefix(d.Name(), ".") {
			out = append(out, d.Name())
		}
	}
	return out, nil
}
