package locker

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"freshkeel/internal/locker/index"
	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
)

type pack struct {
	name string
	f    *os.File
	out  *bufio.Writer
	lock *flock.Flock
	off  int64
	idx  index.Text

	pieces int
}

// add writes one frame; full: it is time to seal the pack.
func (p *pack) add(frame []byte, pieces []index.Found) (full bool, err error) {
	if _, err := p.out.Write(frame); err != nil {
		return false, fmt.Errorf("write to the locker: %w", err)
	}
	for _, in := range pieces {
		in.Off, in.Stored = p.off, int32(len(frame))
		p.idx.Add(in)
	}
	if p.off/began != (p.off+int64(len(frame)))/began {
		tree.BeginFlush(p.f)
	}
	p.off += int64(len(frame))
	p.pieces += len(pieces)
	return p.off >= PackSize || p.pieces >= packPieces, nil
}

// newPack begins a pack.
func newPack(dir string) (p *pack, err error) {
	// A sweep by another process may take the new file between its making and
	// its locking; then it is gone or locked, and another name is tried.
	for range 5 {
		p := &pack{name: NewName()}
		path := filepath.Join(dir, "packs", p.name+".part")
		p.lock = flock.New(path, flock.SetFlag(os.O_CREATE|os.O_RDWR), flock.SetPermissions(0o600))
		var ok bool
		if ok, err = p.lock.TryLock(); err != nil || !ok {
			continue
		}
		if p.f, err = tree.OpenRegularTo(path, os.O_WRONLY, 0); err != nil {
			p.lock.Unlock()
			continue
		}
		p.out = bufio.NewWriterSize(p.f, alone) // what is larger is written past it
		return p, nil
	}
	return nil, fmt.Errorf("write to the locker: %w", err)
}

// drop gives a pack up.
func (p *pack) drop() {
	p.f.Close()
	tree.RemoveHeld(p.lock)
}

// seal makes a pack durable: content, then name, then index.
func (w *Writer) seal(p *pack) error {
	defer p.lock.Unlock()
	defer p.f.Close()
	base := filepath.Join(w.l.dir, "packs", p.name)
	if err := errors.Join(p.out.Flush(), p.f.Sync()); err != nil {
		return fmt.Errorf("flush a pack of the locker: %w", err)
	}
	if err := p.f.Close(); err != nil {
		return err
	}
	if err := tree.RenameHeld(p.lock, base+".part", base+".zst"); err != nil {
		return err
	}
	idx, err := p.idx.Pack()
	if err == nil {
		err = tree.WriteFile(base+".idx", idx, 0o600)
	}
	if err != nil {
		return fmt.Errorf("write an index of the locker: %w", err)
	}
	// From here on its pieces are found like any other.
	l := w.l
	x := index.Parse(idx)
	l.mu.Lock()
	l.enter(p.name, x)
	l.mu.Unlock()
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, ln := range x.Lines {
		delete(w.fresh, ln.Sum)
	}
	return nil
}
