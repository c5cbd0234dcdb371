package locker

import (
	"context"
	"errors"
	"io"
	"sync"

	"freshkeel/internal/tree"
)

// fewPieces is how many pieces a file may have had for it not to be worth asking
// where they were.
const fewPieces = 16

// AddOver stores a file of a certain size like Add, faster where most of it still is
// what it was: had are its pieces of before. Whether each still stands where it did
// is found out side by side, by its hash; only between those that do, cuts are looked
// for, which is one after the other. The cuts are those that Add would find: a
// piece's end is decided by its content alone.
func (w *Writer) AddOver(ctx context.Context, r io.ReaderAt, size int64, had []tree.Sum, note func(int64)) (File, error) {
	from := w.l.bounds(had)
	// The last piece may end where the file did, and not where its content says.
	for len(from) > 0 && (from[len(from)-1] > size || len(from) == len(had)+1 && from[len(from)-1] < size) {
		from = from[:len(from)-1]
	}
	if !w.PiecesAlone || len(from) < 2 {
		return w.Add(ctx, io.NewSectionReader(r, 0, 1<<62), note)
	}
	same, err := w.unmoved(ctx, r, had, from, note)
	if err != nil {
		return File{}, err
	}
	var f File
	sc := w.take()
	defer w.give(sc)
	whole := w.buffer()
	defer w.giveBuffer(whole)
	buf := whole[:2*maxPiece] // what changed is short, and read again
	begun := 0 // bytes of buf from at on
	at, i := int64(0), 0
	for {
		if err := ctx.Err(); err != nil {
			return f, err
		}
		for i < len(same) && from[i] < at {
			i++
		}
		if i < len(same) && from[i] == at && same[i] {
			f.Pieces = append(f.Pieces, had[i])
			at, begun = from[i+1], 0
			continue
		}
		if begun < maxPiece {
			n, err := r.ReadAt(buf[begun:], at+int64(begun))
			if err != nil && !errors.Is(err, io.EOF) {
				return f, err
			}
			if begun += n; begun == 0 {
				break
			}
		}
		n := cutNext(buf[:begun])
		sum := sumPiece(buf[:n])
		if err := w.put(sc, sum, buf[:n]); err != nil {
			w.failed.Store(true)
			return f, err
		}
		f.Pieces = append(f.Pieces, sum)
		begun = copy(buf, buf[n:begun])
		if at += int64(n); note != nil && at > from[len(from)-1] {
			note(min(int64(n), at-from[len(from)-1]))
		}
	}
	f.Size = at
	f.sumOfFew()
	return f, nil
}

// bounds is where pieces that follow each other begin, and the end: as far as they
// are all stored.
func (l *Locker) bounds(pieces []tree.Sum) []int64 {
	from := make([]int64, 1, len(pieces)+1)
	for _, s := range pieces {
		p, _, ok := l.find(s)
		if !ok {
			break
		}
		from = append(from, from[len(from)-1]+int64(p.size))
	}
	return from
}

// unmoved tells of each piece that once stood between two bounds whether it still
// does.
func (w *Writer) unmoved(ctx context.Context, r io.ReaderAt, had []tree.Sum, from []int64, note func(int64)) ([]bool, error) {
	same := make([]bool, len(from)-1)
	var beside sync.WaitGroup
	defer beside.Wait()
	var mu sync.Mutex
	var failed error
	look := func(i, end int) {
		buf := w.buffer()
		defer w.giveBuffer(buf)
		b := buf[:from[end]-from[i]]
		n, err := r.ReadAt(b, from[i])
		if err != nil && !errors.Is(err, io.EOF) {
			mu.Lock()
			failed = err
			mu.Unlock()
		}
		for k := i; k < end && from[k+1]-from[i] <= int64(n); k++ {
			same[k] = sumPiece(b[from[k]-from[i]:from[k+1]-from[i]]) == had[k]
		}
		if note != nil {
			note(int64(n))
		}
	}
	for i := 0; i < len(same); {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		end := i + 1
		for end < len(same) && from[end+1]-from[i] <= readAhead {
			end++
		}
		at := i
		select {
		case w.beside <- struct{}{}:
			beside.Add(1)
			go func() {
				defer beside.Done()
				look(at, end)
				<-w.beside
			}()
		default:
			look(at, end)
		}
		i = end
	}
	beside.Wait()
	return same, failed
}
