package locker

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"
)

// PackSize is about where a pack is closed, in bytes.
const PackSize = 64 << 20

// Writer adds content. Nothing that it added is promised until Publish. Close
// it in any case.
type Writer struct {
	l *Locker

	mu      sync.Mutex
	cur     *pack
	fresh   map[tree.Sum]bool // in packs not yet durable
	stored  int64
	closing errgroup.Group // packs being flushed
	scratch sync.Pool
}

type pack struct {
	name string
	f    *os.File
	lock *flock.Flock
	off  int64
	idx  bytes.Buffer
	sums map[tree.Sum]place
}

// scratch is what one worker needs: it is what memory grows with.
type scratch struct {
	enc  *zstd.Encoder
	in   []byte
	comp []byte
}

// Writer begins adding to the locker, and sweeps what a dead writer left.
func (l *Locker) Writer() *Writer {
	l.sweep()
	w := &Writer{l: l, fresh: map[tree.Sum]bool{}}
	w.scratch.New = func() any {
		enc, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(PieceSize))
		return &scratch{enc: enc, in: make([]byte, PieceSize)}
	}
	return w
}

// sweep removes half-written packs that nobody holds. What can't be removed
// does no harm, so it tells nothing.
func (l *Locker) sweep() {
	parts, _ := filepath.Glob(filepath.Join(l.dir, "packs", "*.part"))
	for _, p := range parts {
		lock := flock.New(p)
		if ok, err := lock.TryLock(); err == nil && ok {
			os.Remove(p)
			lock.Unlock()
		}
	}
}

// Add stores what r holds. It keeps one piece in memory, whatever the length.
func (w *Writer) Add(ctx context.Context, r io.Reader, note func(int64)) (File, error) {
	sc := w.scratch.Get().(*scratch)
	defer w.scratch.Put(sc)
	var f File
	whole := tree.NewHash()
	for {
		if err := ctx.Err(); err != nil {
			return f, err
		}
		n, err := io.ReadFull(r, sc.in)
		if n > 0 {
			b := sc.in[:n]
			s := tree.SumBytes(b)
			if n < PieceSize && f.Pieces == nil {
				f.Sum = s
			} else {
				whole.Write(b)
			}
			if err := w.put(sc, s, b); err != nil {
				return f, err
			}
			f.Pieces = append(f.Pieces, s)
			f.Size += int64(n)
			if note != nil {
				note(int64(n))
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return f, err
		}
	}
	if len(f.Pieces) != 1 || f.Size == PieceSize {
		f.Sum = whole.Sum()
	}
	return f, nil
}

// put stores one piece unless it is there.
func (w *Writer) put(sc *scratch, s tree.Sum, b []byte) error {
	if _, _, ok := w.l.find(s); ok {
		return nil
	}
	w.mu.Lock()
	if w.fresh[s] {
		w.mu.Unlock()
		return nil
	}
	w.fresh[s] = true
	w.mu.Unlock()
	sc.comp = sc.enc.EncodeAll(b, sc.comp[:0])

	w.mu.Lock()
	defer w.mu.Unlock()
	if w.cur == nil {
		if err := w.open(); err != nil {
			return err
		}
	}
	p := w.cur
	if _, err := p.f.Write(sc.comp); err != nil {
		return fmt.Errorf("write to the locker: %w", err)
	}
	fmt.Fprintf(&p.idx, "%s %d %d %d\n", s, p.off, len(sc.comp), len(b))
	p.sums[s] = place{off: p.off, stored: int32(len(sc.comp)), size: int32(len(b))}
	p.off += int64(len(sc.comp))
	w.stored += int64(len(sc.comp))
	if p.off >= PackSize {
		w.cur = nil
		w.closing.Go(func() error { return w.seal(p) })
	}
	return nil
}

func (w *Writer) open() (err error) {
	// A sweep by another process may take the new file between its making and
	// its locking; then it is gone or locked, and another name is tried.
	for range 5 {
		var id [8]byte
		rand.Read(id[:])
		p := &pack{name: hex.EncodeToString(id[:]), sums: map[tree.Sum]place{}}
		path := filepath.Join(w.l.dir, "packs", p.name+".part")
		p.lock = flock.New(path, flock.SetFlag(os.O_CREATE|os.O_RDWR), flock.SetPermissions(0o600))
		var ok bool
		if ok, err = p.lock.TryLock(); err != nil || !ok {
			continue
		}
		if p.f, err = os.OpenFile(path, os.O_WRONLY, 0); err != nil {
			p.lock.Unlock()
			continue
		}
		w.cur = p
		return nil
	}
	return fmt.Errorf("write to the locker: %w", err)
}

// seal makes a pack durable: content, then name, then index.
func (w *Writer) seal(p *pack) error {
	defer p.lock.Unlock()
	defer p.f.Close()
	base := filepath.Join(w.l.dir, "packs", p.name)
	if err := p.f.Sync(); err != nil {
		return fmt.Errorf("flush a pack of the locker: %w", err)
	}
	if err := p.f.Close(); err != nil {
		return err
	}
	if err := os.Rename(base+".part", base+".zst"); err != nil {
		return err
	}
	if err := tree.WriteFile(base+".idx", p.idx.Bytes(), 0o600); err != nil {
		return fmt.Errorf("write an index of the locker: %w", err)
	}
	l := w.l
	l.mu.Lock()
	defer l.mu.Unlock()
	n := int32(len(l.packs))
	l.packs, l.known[p.name] = append(l.packs, p.name), true
	for s, pl := range p.sums {
		pl.pack = n
		l.index[s] = pl
	}
	return nil
}

// flush makes all that was added durable.
func (w *Writer) flush() error {
	w.mu.Lock()
	p := w.cur
	w.cur = nil
	w.mu.Unlock()
	if p != nil {
		w.closing.Go(func() error { return w.seal(p) })
	}
	return w.closing.Wait()
}

// Publish makes the content durable and then the set visible, at once and
// whole. A backup's ID is given here: the next free number of its owner.
func (w *Writer) Publish(s *Set) error {
	if err := w.flush(); err != nil {
		return err
	}
	w.mu.Lock()
	s.New, w.stored = w.stored, 0
	w.mu.Unlock()
	numbered := s.ID == ""
	if numbered {
		s.ID = "x"
	}
	path, err := w.l.setPath(s.Owner, s.ID)
	if err != nil {
		return err
	}
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for n := w.l.lastNumber(dir) + 1; ; n++ {
		if numbered {
			s.ID = fmt.Sprintf("b%04d", n)
			path = filepath.Join(dir, s.ID+".set")
			// Two servers never share an owner, but two commands might race.
			if _, err := os.Lstat(path); err == nil {
				continue
			}
		}
		var buf bytes.Buffer
		z, _ := zstd.NewWriter(&buf, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2), zstd.WithWindowSize(PieceSize))
		if err := encodeSet(z, s); err != nil {
			return err
		}
		if err := z.Close(); err != nil {
			return err
		}
		if err := tree.WriteFile(path, buf.Bytes(), 0o600); err != nil {
			return fmt.Errorf("publish %s: %w", s.ID, err)
		}
		return tree.SyncDir(filepath.Dir(dir))
	}
}

func (l *Locker) lastNumber(dir string) (last int) {
	list, _ := os.ReadDir(dir)
	for _, d := range list {
		var n int
		if _, err := fmt.Sscanf(d.Name(), "b%d.set", &n); err == nil && n > last {
			last = n
		}
	}
	return last
}

// Close gives up what was added and not published.
func (w *Writer) Close() {
	w.mu.Lock()
	p := w.cur
	w.cur = nil
	w.mu.Unlock()
	if p != nil {
		p.f.Close()
		os.Remove(p.f.Name())
		p.lock.Unlock()
	}
	w.closing.Wait()
}

// Taken is what one pass over a folder found.
type Taken struct {
	Entries []File
	Read    int64 // bytes that had to be read
	Moving  []string
}

// Take stores the folder root but for what skip matches. Files that base
// (entries of an earlier pass or backup, by path) proves unchanged are not
// read. progress, which may be nil, hears bytes done and bytes to do.
func (w *Writer) Take(ctx context.Context, root string, skip tree.Patterns, base map[string]File, progress func(done, total int64)) (*Taken, error) {
	list, err := tree.Walk(root, skip)
	if err != nil {
		return nil, err
	}
	return w.TakeList(ctx, root, list, base, progress)
}

// TakeList is Take for entries that a walk of root has found.
func (w *Writer) TakeList(ctx context.Context, root string, list []tree.Entry, base map[string]File, progress func(done, total int64)) (*Taken, error) {
	t := &Taken{Entries: make([]File, len(list))}
	var todo []int
	var total int64
	for i, e := range list {
		t.Entries[i] = File{Entry: e}
		if e.Kind != tree.File {
			continue
		}
		if old, ok := base[e.Path]; ok && !old.Moving && old.Settled(old.ReadAt) && e.SameIdentity(old.Entry) {
			t.Entries[i].Sum, t.Entries[i].Pieces, t.Entries[i].ReadAt = old.Sum, old.Pieces, old.ReadAt
			continue
		}
		todo = append(todo, i)
		total += e.Size
	}
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
	next := make(chan int)
	g.Go(func() error {
		defer close(next)
		for _, i := range todo {
			select {
			case next <- i:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	gone := make([]bool, len(list))
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			for i := range next {
				f, err := w.takeFile(ctx, root, list[i], note)
				if errors.Is(err, fs.ErrNotExist) {
					gone[i] = true // a running server removed it
					continue
				}
				if err != nil {
					return fmt.Errorf("back up %s: %w", list[i].Path, err)
				}
				t.Entries[i] = f
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	kept := t.Entries[:0]
	for i, f := range t.Entries {
		if !gone[i] {
			kept = append(kept, f)
			if f.Moving {
				t.Moving = append(t.Moving, f.Path)
			}
		}
	}
	t.Entries = kept
	return t, nil
}

// takeFile stores one file. A file that changes while it is read is tried
// again, and marked when it won't hold still.
func (w *Writer) takeFile(ctx context.Context, root string, e tree.Entry, note func(int64)) (File, error) {
	full := filepath.Join(root, filepath.FromSlash(e.Path))
	for try := 0; ; try++ {
		before, ok, err := tree.Describe(full, e.Path)
		if err == nil && (!ok || before.Kind != tree.File) {
			err = fs.ErrNotExist
		}
		if err != nil {
			return File{}, err
		}
		readAt := time.Now().UnixNano()
		src, err := os.Open(full)
		if err != nil {
			return File{}, err
		}
		f, err := w.Add(ctx, src, note)
		src.Close()
		if err != nil {
			return File{}, err
		}
		after, _, err := tree.Describe(full, e.Path)
		if err != nil {
			return File{}, err
		}
		f.Moving = !after.SameIdentity(before) && after.Inode != 0
		size := f.Size
		f.Entry, f.ReadAt = before, readAt
		f.Size = size
		if !f.Moving || try == 2 {
			return f, nil
		}
	}
}
