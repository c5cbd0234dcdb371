package locker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
)

// gate keeps writers and the giving back of space apart: every Writer holds it
// shared, since a piece that it found stored must still be there when its set
// appears. A reader takes no lock.
func (l *Locker) gate() *flock.Flock {
	return tree.NewLock(filepath.Join(l.dir, "gate"))
}

// ErrBusy says that a writer is at work, and nothing was given back.
var ErrBusy = errors.New("a backup or a fetch is under way")

// Drop removes a set. Its content stays until GiveBack.
func (l *Locker) Drop(owner, id string) error {
	p, err := l.PathOf(owner, id)
	if err != nil {
		return err
	}
	if err := os.Remove(p); err != nil {
		return set.NoSet(p, err)
	}
	return tree.SyncDir(filepath.Dir(p))
}

// worn is the share of a pack, in per cent, that may be of no use before its
// living frames are moved to a new one: less would be much work for little space.
const worn = 30

// GiveBack removes content that no set names, and returns how many bytes that
// was. A pack that is partly of use has its living frames copied into a new one
// before it goes. Killed at any moment, it leaves at most content twice, or a
// pack without an index; the next call removes both. halt, which may be nil, is
// called between steps, for tests.
func (l *Locker) GiveBack(ctx context.Context, halt func(string) error) (freed int64, err error) {
	if halt == nil {
		halt = func(string) error { return nil }
	}
	gate := l.gate()
	wait, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if ok, err := gate.TryLockContext(wait, 50*time.Millisecond); !ok {
		if err != nil && !errors.Is(err, context.DeadlineExceeded) {
			return 0, err
		}
		return 0, ErrBusy
	}
	defer gate.Unlock()
	before, err := packsSize(l.dir)
	if err != nil {
		return 0, err
	}
	l.forget()
	if err := sweepOrphans(l.dir); err != nil {
		return 0, err
	}
	if err := l.refresh(); err != nil {
		return 0, err
	}
	living, err := l.living()
	if err != nil {
		return 0, err
	}
	l.mu.RLock()
	packs := slices.Clone(l.packs)
	l.mu.RUnlock()
	byPack := make([]map[int64]*usefulFrame, len(packs))
	for sum := range living {
		in, _, ok := l.seek(sum)
		if !ok {
			continue
		}
		if byPack[in.Pack] == nil {
			byPack[in.Pack] = map[int64]*usefulFrame{}
		}
		f := byPack[in.Pack][in.Off]
		if f == nil {
			f = &usefulFrame{off: in.Off, stored: in.Stored}
			byPack[in.Pack][in.Off] = f
		}
		f.lines = append(f.lines, in)
	}
	for i, pack := range packs {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		if err := l.wear(strings.TrimSuffix(pack, ".zst"), byPack[i], halt); err != nil {
			return 0, err
		}
	}
	if err := forgetDamage(l.dir); err != nil {
		return 0, err
	}
	l.forget()
	after, err := packsSize(l.dir)
	return before - after, err
}

// usefulFrame is one frame of a pack, with the lines of its pieces that are of use.
type usefulFrame struct {
	off    int64
	stored int32
	lines  []index.Found
}

// living is every piece that some set names, and what those lie over. A set that can't be read stops it:
// what it names can't be told, and must not go.
func (l *Locker) living() (map[tree.Sum]bool, error) {
	owners, err := l.Owners()
	if err != nil {
		return nil, err
	}
	out := map[tree.Sum]bool{}
	for _, o := range owners {
		heads, err := l.Heads(o)
		if err != nil {
			return nil, err
		}
		for _, h := range heads {
			if err := l.Each(o, h.ID, func(f *set.File) {
				for _, p := range f.PieceSums() {
					if !out[p] {
						l.Chain(p, func(s tree.Sum) { out[s] = true })
					}
				}
			}); errors.Is(err, set.ErrNoSet) {
				continue // dropped meanwhile: it names nothing
			} else if err != nil {
				return nil, fmt.Errorf("nothing is given back while a set can't be read: %w", err)
			}
		}
	}
	return out, nil
}

// wear drops a pack of which nothing is of use, and moves the living frames of
// one of which too little is.
func (l *Locker) wear(base string, frames map[int64]*usefulFrame, halt func(string) error) error {
	fi, err := os.Stat(base + ".zst")
	if err != nil {
		return nil // a check reports it
	}
	var keep []*usefulFrame
	var live int64
	for _, f := range frames {
		if len(f.lines) > 0 {
			keep = append(keep, f)
			live += int64(f.stored)
		}
	}
	if live*100 > fi.Size()*(100-worn) {
		return nil
	}
	if len(keep) > 0 {
		slices.SortFunc(keep, func(a, b *usefulFrame) int { return int(min(max(a.off-b.off, -1), 1)) })
		if err := l.move(base, keep); err != nil {
			return err
		}
		if err := halt("moved"); err != nil {
			return err
		}
	}
	// Its index first: a pack without one is nothing that anybody reads.
	if err := os.Remove(base + ".idx"); err != nil {
		return err
	}
	if err := halt("index gone"); err != nil {
		return err
	}
	return os.Remove(base + ".zst")
}

// move copies frames into a new pack, as they stand, each piece hashed before.
func (l *Locker) move(base string, keep []*usefulFrame) error {
	src, err := tree.OpenRegular(base + ".zst")
	if err != nil {
		return err
	}
	defer src.Close()
	p, err := newPack(l.dir)
	if err != nil {
		return err
	}
	w := l.writer()
	w.packs = []*pack{p}
	defer w.Close()
	for _, f := range keep {
		slices.SortFunc(f.lines, func(a, b index.Found) int { return a.Compare(b.Place) })
		for _, ln := range f.lines {
			if _, err := l.piece(ln.Sum); err != nil { // damage stays where it is, and a check reports it
				return err
			}
			ln.Off = p.off
			p.idx.Add(ln)
		}
		if n, err := io.Copy(p.out, io.NewSectionReader(src, f.off, int64(f.stored))); err != nil ||
			n != int64(f.stored) {
			return errors.Join(err, fmt.Errorf("a frame of %s.zst is cut short", base))
		}
		p.off += int64(f.stored)
	}
	return w.Flush()
}

// TidyIndexes drops lines that can't be read from the indexes, so that they are not
// told for ever once what they named is stored anew. While something is being
// written it leaves them.
func (l *Locker) TidyIndexes() error {
	gate := l.gate()
	if ok, err := gate.TryLock(); err != nil || !ok {
		return err
	}
	defer gate.Unlock()
	list, err := filepath.Glob(filepath.Join(l.dir, "packs", "*.idx"))
	if err != nil {
		return err
	}
	for _, at := range list {
		b, err := tree.ReadOwn(at)
		if err != nil {
			return err
		}
		x := index.Parse(b)
		if x.Bad == nil {
			continue
		}
		var good index.Text
		for i := range x.Lines {
			good.Add(x.Whole(i))
		}
		if b, err = good.Pack(); err == nil {
			err = tree.WriteFile(at, b, 0o600)
		}
		if err != nil {
			return err
		}
	}
	l.forget()
	return nil
}

// forget has the indexes read anew when next a piece is asked for.
func (l *Locker) forget() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.packs, l.known, l.index, l.damage, l.loaded = nil, map[string]bool{}, index.Table{}, nil, false
}

// sweepOrphans removes packs without an index. No writer is at work, so nobody is
// about to give them one.
func sweepOrphans(dir string) error {
	packs, err := filepath.Glob(filepath.Join(dir, "packs", "*.zst"))
	if err != nil {
		return err
	}
	for _, p := range packs {
		if _, err := os.Stat(strings.TrimSuffix(p, ".zst") + ".idx"); errors.Is(err, os.ErrNotExist) {
			if err := os.Remove(p); err != nil {
				return err
			}
		}
	}
	return nil
}

// packsSize is what the packs take, in bytes.
func packsSize(dir string) (n int64, err error) {
	list, err := os.ReadDir(filepath.Join(dir, "packs"))
	for _, d := range list {
		if fi, err := d.Info(); err == nil {
			n += fi.Size()
		}
	}
	return n, err
}
