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
	known, err := w.unmoved(ctx, r, had, from, note)
	if err != nil {
		return File{}, err
	}
	var f File
	sc := w.take()
	defer w.give(sc)
	whole := w.buffer()
	defer w.giveBuffer(whole)
	buf := whole[:2*maxPiece] // what changed is short, and read again
	begun := 0                // bytes of buf from at on
	at, i := int64(0), 0
	for {
		if err := ctx.Err(); err != nil {
			return f, err
		}
		for i < len(known) && from[i] < at {
			i++
		}
		if i < len(known) && from[i] == at && known[i].end > 0 {
			f.Pieces = append(f.Pieces, known[i].pieces...)
			at, begun = from[known[i].end], 0
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

// stretch is what is known of a file from the beginning of one of its former pieces
// on: what it is cut into up to the beginning of another. The zero stretch is nothing.
type stretch struct {
	end    int
	pieces []tree.Sum
}

// unmoved looks at a file where its pieces stood, a few at a time and side by side:
// those that still do are taken as they are, and what lies between two of them is
// cut and stored. What reaches beyond the few is left to be cut in order.
func (w *Writer) unmoved(ctx context.Context, r io.ReaderAt, had []tree.Sum, from []int64, note func(int64)) ([]stretch, error) {
	known := make([]stretch, len(from)-1)
	var beside sync.WaitGroup
	defer beside.Wait()
	var mu sync.Mutex
	var failed error
	look := func(i, end int) {
		buf := w.buffer()
		defer w.giveBuffer(buf)
		b := buf[:from[end]-from[i]]
		n, err := r.ReadAt(b, from[i])
		if errors.Is(err, io.EOF) {
			err = nil
		}
		b = b[:n]
		for k := i; k < end && from[k+1]-from[i] <= int64(n); k++ {
			if sumPiece(b[from[k]-from[i]:from[k+1]-from[i]]) == had[k] {
				known[k] = stretch{k + 1, had[k : k+1]}
			}
		}
		if err == nil {
			err = w.between(b, i, end, from, known)
		}
		if err != nil {
			mu.Lock()
			failed = err
			mu.Unlock()
		}
		if note != nil {
			note(int64(n))
		}
	}
	for i := 0; i < len(known); {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		end := i + 1
		for end < len(known) && from[end+1]-from[i] <= readAhead {
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
	return known, failed
}

// between cuts what changed in b, which begins where former piece i did and ends
// where end did, from one piece that did not move to the next.
func (w *Writer) between(b []byte, i, end int, from []int64, known []stretch) error {
	var sc *scratch
	for k := i; k < end; k++ {
		if known[k].end > 0 || (k > i && known[k-1].end != k) {
			continue
		}
		// From here on, up to where a piece stands that did not move.
		at, next := from[k]-from[i], k
		var cuts []int64
		for next < end && (from[next]-from[i] != at || known[next].end == 0) {
			n := int64(cutNext(b[min(at, int64(len(b))):]))
			if n == 0 || at+n == int64(len(b)) { // it may be cut later, seen with what follows
				next = end
				break
			}
			at += n
			cuts = append(cuts, at)
			for next < end && from[next]-from[i] < at {
				next++
			}
		}
		if next == end {
			continue
		}
		if sc == nil {
			sc = w.take()
			defer w.give(sc)
		}
		run := stretch{end: next}
		begin := from[k] - from[i]
		for _, cut := range cuts {
			sum := sumPiece(b[begin:cut])
			if err := w.put(sc, sum, b[begin:cut]); err != nil {
				w.failed.Store(true)
				return err
			}
			run.pieces = append(run.pieces, sum)
			begin = cut
		}
		known[k] = run
	}
	return nil
}
