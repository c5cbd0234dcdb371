package locker

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"

	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
)

// manyFiles is from how many files on a flush of the whole file system takes less
// time than one of each.
const manyFiles = 200

// Laying is one stored file or link that is to be made at a path.
type Laying struct {
	Full string
	File *File
}

// LayAll makes many stored files and links: several side by side, each worker with
// one reader for neighbours, which lie in one frame. Missing folders above them are
// made, with the mode given. Content is checked; all of it is durable when LayAll
// returns. tops are folders, one on each file system that is written to: where the
// system can, each is flushed once instead of each file. each, which may be nil,
// hears of every file that is there; never two at a time.
func (l *Locker) LayAll(ctx context.Context, list []Laying, folders os.FileMode, tops []string, each func(Laying)) error {
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
