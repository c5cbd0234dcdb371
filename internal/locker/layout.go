package locker

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"

	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
)

// Lay makes the stored file, folder or link at full: content checked, flushed,
// then mode, owner and times. The folder that holds it must be there. Nothing
// may stand at full yet.
func (l *Locker) Lay(full string, f set.File) (err error) {
	r := l.Reader()
	defer r.Close()
	return r.lay(full, f, true)
}

// lay is Lay for a reader of many files; without flush, the caller sees to that for all
// at once.
func (r *Reader) lay(full string, f set.File, flush bool) (err error) {
	switch f.Kind {
	case tree.Dir:
		if err := os.Mkdir(full, 0o700); err != nil {
			return err
		}
	case tree.Link:
		if err := os.Symlink(f.Target, full); err != nil {
			return err
		}
	default:
		out, err := os.OpenFile(full, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		defer out.Close()
		if err := r.Copy(laid(out, f), f); err != nil {
			return err
		}
		if f.Sparse {
			if err := out.Truncate(f.Size); err != nil { // it may end in a hole
				return err
			}
		}
		if flush {
			if err := out.Sync(); err != nil {
				return err
			}
		} else if f.Size >= 1<<20 {
			tree.BeginFlush(out)
		}
		if err := out.Close(); err != nil {
			return err
		}
	}
	if err := tree.Mend(full, f.Entry); err != nil {
		return err
	}
	return tree.SetXattrs(full, f.Xattr)
}

// laid is how a file's content is written: one with holes gets them back.
func laid(out *os.File, f set.File) io.Writer {
	if f.Sparse {
		return &holes{out}
	}
	return out
}

// holes passes over what is zero instead of writing it.
type holes struct{ f *os.File }

var zeros [4 << 10]byte

func (h *holes) Write(b []byte) (n int, err error) {
	for n < len(b) {
		part := b[n:min(n+len(zeros), len(b))]
		if bytes.Equal(part, zeros[:len(part)]) {
			_, err = h.f.Seek(int64(len(part)), io.SeekCurrent)
		} else {
			_, err = h.f.Write(part)
		}
		if err != nil {
			return n, err
		}
		n += len(part)
	}
	return n, nil
}

// manyFiles is from how many files on a flush of the whole file system takes less
// time than one of each.
const manyFiles = 200

// Laying is one stored file or link that is to be made at a path.
type Laying struct {
	Full string
	File *set.File
}

// LayAll makes many stored files and links: several side by side, each worker with
// one reader for neighbours, which lie in one frame. Missing folders above them are
// made, with the mode given. Content is checked; all of it is durable when LayAll
// returns. tops are folders, one on each file system that is written to: where the
// system can, each is flushed once instead of each file. each, which may be nil,
// hears of every file that is there; never two at a time.
func (l *Locker) LayAll(ctx context.Context, list []Laying, folders os.FileMode, tops []string,
	each func(Laying)) error {
	// A whole file system is flushed only for many files: it holds what others wrote.
	atOnce := len(list) >= manyFiles
	for _, top := range tops {
		if !atOnce {
			break
		}
		ok, err := tree.FlushAll(top) // also what is there already, so that the last flush finds little
		if err != nil {
			return err
		}
		atOnce = atOnce && ok
	}
	var mu sync.Mutex
	g, gctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0)
	for w := range workers {
		part := list[len(list)*w/workers : len(list)*(w+1)/workers]
		g.Go(func() error {
			reader := l.Reader()
			defer reader.Close()
			made := ""
			for _, one := range part {
				if err := gctx.Err(); err != nil {
					return err
				}
				if dir := filepath.Dir(one.Full); dir != made {
					if err := os.MkdirAll(dir, folders); err != nil {
						return err
					}
					made = dir
				}
				if err := reader.lay(one.Full, *one.File, !atOnce); err != nil {
					return fmt.Errorf("%s: %w", one.File.Path, err)
				}
				if each != nil {
					mu.Lock()
					each(one)
					mu.Unlock()
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	if !atOnce {
		return nil
	}
	for _, top := range tops {
		if _, err := tree.FlushAll(top); err != nil {
			return err
		}
	}
	return nil
}
