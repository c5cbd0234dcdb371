package locker

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"sync"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"golang.org/x/sync/errgroup"
)

// AddOver stores a file of a certain size like Add, knowing its pieces of before: had.
// Whether each still stands where it did is found out side by side, by its hash; what
// differs little from what stood there is stored over that, cut where it was. Where the
// content has moved, the rest is gone through one piece after the other: what follows
// what was there before is looked for first, and only what is not found is cut anew.
func (w *Writer) AddOver(ctx context.Context, r io.ReaderAt, size int64, had []tree.Sum, note func(int64)) (set.File,
	error) {
	from := w.l.bounds(had)
	if len(from) < 2 {
		return w.Add(ctx, &offsetReader{r: r}, note)
	}
	if !w.PiecesAlone {
		return w.overWhole(ctx, r, size, had, from, note)
	}
	return w.addOver(ctx, r, size, had, from, note)
}

func (w *Writer) addOver(ctx context.Context, r io.ReaderAt, size int64, had []tree.Sum, from []int64,
	note func(int64)) (set.File, error) {
	had = had[:len(from)-1]
	// The last piece ends where the file did: in a longer one it is cut anew.
	in := len(had)
	for in > 0 && (from[in] > size || in == len(had) && from[in] < size) {
		in--
	}
	stand, err := w.inPlace(ctx, r, had[:in], from, note)
	if err != nil {
		return set.File{}, err
	}
	sc := w.take()
	defer w.give(sc)
	whole := w.buffer()
	defer w.giveBuffer(whole)
	o := &overing{w: w, sc: sc, had: had, from: from, stand: stand}
	var f set.File
	begun := 0 // bytes of whole, from o.at on
	for {
		if err := ctx.Err(); err != nil {
			return f, err
		}
		i, room := o.standing()
		if room == 0 {
			f.Pieces = append(f.Pieces, stand[i])
			o.at, begun = from[i+1], 0
			o.next, o.misses = i+1, 0
			continue
		}
		if begun < cut.Max {
			n, err := r.ReadAt(whole[begun:], o.at+int64(begun))
			if err != nil && !errors.Is(err, io.EOF) {
				return f, err
			}
			if begun += n; begun == 0 {
				break
			}
		}
		sum, n, err := o.piece(whole[:min(int64(begun), cut.Max, room)])
		if err != nil {
			w.failed.Store(true)
			return f, err
		}
		f.Pieces = append(f.Pieces, sum)
		begun = copy(whole, whole[n:begun])
		if o.at += int64(n); note != nil && o.at > from[in] {
			note(min(int64(n), o.at-from[in]))
		}
	}
	f.Size = o.at
	f.SumOfFew()
	return f, nil
}

// overWhole is AddOver for a writer that tells the hash of whole files too: it reads the file
// once more for that, beside the pieces.
func (w *Writer) overWhole(ctx context.Context, r io.ReaderAt, size int64, had []tree.Sum, from []int64,
	note func(int64)) (set.File, error) {
	h := tree.NewHash()
	var hashing errgroup.Group
	hashing.Go(func() error {
		_, err := io.CopyBuffer(struct{ io.Writer }{h}, io.NewSectionReader(r, 0, size), make([]byte, 256<<10))
		return err
	})
	f, err := w.addOver(ctx, r, size, had, from, note)
	if err := errors.Join(err, hashing.Wait()); err != nil {
		return set.File{}, err
	}
	if f.Size != size {
		return set.File{}, fmt.Errorf("it was %d bytes long, and %d when it was read", size, f.Size)
	}
	f.Sum = h.Sum()
	return f, nil
}

// overing is a file that is gone through one piece after the other.
type overing struct {
	w      *Writer
	sc     *scratch
	had    []tree.Sum
	from   []int64    // where each began, and the end
	stand  []tree.Sum // what is known to stand there now
	at     int64      // where in the file
	behind int        // the first of stand that is not before that
	firm   int        // and the first that stands, and is more than a hole
	next   int        // which of had should follow
	misses int        // how many pieces in a row were none of had
	where  map[tree.Sum]int
}

// standing is the next piece that has not moved, and how far it is to there.
func (o *overing) standing() (i int, room int64) {
	for o.behind < len(o.stand) && o.from[o.behind] < o.at {
		o.behind++
	}
	if i = o.behind; i < len(o.stand) && o.from[i] == o.at && !o.stand[i].IsZero() {
		return i, 0
	}
	for o.firm < len(o.stand) && (o.firm < i || o.stand[o.firm].IsZero() || o.stand[o.firm] == cut.ZeroSum()) {
		o.firm++
	}
	if o.firm == len(o.stand) {
		return o.firm, math.MaxInt64
	}
	return o.firm, o.from[o.firm] - o.at
}

// manyMisses is when content is taken to be new altogether.
const manyMisses = 4

// tail is how many bytes of its end a piece is looked for by, and tailKinds how many
// different ones of them there have to be: zeros are everywhere.
const (
	tail      = 64
	tailKinds = 8
)

// piece stores the piece that b begins with; b is what lies before the next that has
// not moved, or maxPiece.
func (o *overing) piece(b []byte) (sum tree.Sum, n int, err error) {
	store := func(size int, over ...int) (tree.Sum, int, error) {
		sum := cut.Sum(b[:size])
		for _, i := range over {
			if laid, err := o.w.over(o.sc, sum, b[:size], o.had[i], false); laid || err != nil {
				return sum, size, err
			}
		}
		return sum, size, o.w.put(o.sc, sum, b[:size])
	}
	j := o.next
	if j >= len(o.had) || o.misses > manyMisses {
		return o.anew(b, store)
	}
	size := int(o.from[j+1] - o.from[j])
	// where it was looked for already
	here := j < len(o.stand) && o.at == o.from[j]
	// what follows has not moved
	held := here && j+1 < len(o.stand) && !o.stand[j+1].IsZero() && o.stand[j+1] != cut.ZeroSum()
	if size <= len(b) && !here {
		if sum := cut.Sum(b[:size]); sum == o.had[j] {
			o.next, o.misses = j+1, 0
			return sum, size, nil
		}
	}
	if held && size <= len(b) {
		sum := cut.Sum(b[:size])
		if laid, err := o.w.over(o.sc, sum, b[:size], o.had[j], false); laid || err != nil {
			o.next, o.misses = j+1, 0
			return sum, size, err
		}
	}
	for _, i := range []int{j, j + 1} {
		if n := o.ends(b, i); n > 0 {
			o.next, o.misses = i+1, 0
			return store(n, i, j)
		}
	}
	if held && size <= len(b) {
		o.next, o.misses = j+1, 0
		return store(size)
	}
	return o.anew(b, store, j)
}

// ends is where b ends like one of the former pieces; 0 where it does not.
func (o *overing) ends(b []byte, i int) int {
	if i >= len(o.had) {
		return 0
	}
	_, _, was, err := o.sc.read.unchecked(o.had[i])
	if err != nil || len(was) < frame.LayFrom {
		return 0
	}
	end := was[len(was)-tail:]
	kinds := map[byte]bool{}
	for _, v := range end {
		kinds[v] = true
	}
	n := bytes.Index(b, end) + tail
	if n < frame.LayFrom || len(kinds) < tailKinds {
		return 0
	}
	return n
}

// anew cuts b where its content says so.
func (o *overing) anew(b []byte, store func(int, ...int) (tree.Sum, int, error), over ...int) (sum tree.Sum, n int,
	err error) {
	if o.where == nil {
		o.where = make(map[tree.Sum]int, len(o.had))
		for i, s := range o.had {
			o.where[s] = i
		}
	}
	sum, n, err = store(cut.Next(b), over...)
	if i, was := o.where[sum]; was {
		o.next, o.misses = i+1, 0
	} else {
		o.misses++
	}
	return sum, n, err
}

// bounds is where pieces that follow each other begin, and the end: as far as they
// are all stored.
func (l *Locker) bounds(pieces []tree.Sum) []int64 {
	from := make([]int64, 1, len(pieces)+1)
	for _, s := range pieces {
		p, ok := l.Find(s)
		if !ok {
			break
		}
		from = append(from, from[len(from)-1]+int64(p.Size))
	}
	return from
}

// inPlace looks at a file where its pieces stood, a few at a time and side by side:
// what stands there now, the zero hash where it is something else altogether.
func (w *Writer) inPlace(ctx context.Context, r io.ReaderAt, had []tree.Sum, from []int64,
	note func(int64)) ([]tree.Sum, error) {
	stand := make([]tree.Sum, len(had))
	var mu sync.Mutex // of the next two
	next := 0
	var failed error
	// some is a stretch that nobody has looked at yet.
	some := func() (i, end int) {
		mu.Lock()
		defer mu.Unlock()
		if failed == nil {
			failed = ctx.Err()
		}
		if i = next; i == len(stand) || failed != nil {
			return 0, 0
		}
		for next = i + 1; next < len(stand) && from[next+1]-from[i] <= readAhead; next++ {
		}
		return i, next
	}
	var beside sync.WaitGroup
	var look func(spread bool)
	help := func() {
		look(false)
		<-w.beside
	}
	look = func(spread bool) {
		buf := w.buffer()
		defer w.giveBuffer(buf)
		sc := w.take()
		defer w.give(sc)
		for i, end := some(); i < end; i, end = some() {
			if spread {
				select {
				case w.beside <- struct{}{}: // another file's may have ended
					beside.Go(help)
				default:
				}
			}
			read, err := w.standIn(sc, r, buf, had[i:end], from[i:end+1], stand[i:end])
			if err != nil {
				w.failed.Store(true)
				mu.Lock()
				failed = err
				mu.Unlock()
			}
			if note != nil {
				note(read)
			}
		}
	}
	look(true)
	beside.Wait()
	return stand, failed
}

// standIn is inPlace for some pieces that follow each other.
func (w *Writer) standIn(sc *scratch, r io.ReaderAt, buf []byte, had []tree.Sum, from []int64,
	stand []tree.Sum) (read int64, err error) {
	near, hole := true, int64(0)
	for k := 0; k < len(had) && err == nil; k++ {
		if had[k] == cut.ZeroSum() && hole < from[k+1] {
			hole = holeEnd(r, from[k])
		}
		if had[k] == cut.ZeroSum() && hole >= from[k+1] { // nobody has written there
			stand[k] = had[k]
			read += from[k+1] - from[k]
			continue
		}
		piece := buf[:from[k+1]-from[k]]
		n, _ := r.ReadAt(piece, from[k])
		// it has become shorter, or can't be read: the pass over the rest reports it
		if read += int64(n); n < len(piece) {
			break
		}
		if w.stands(sc, piece, had[k]) {
			stand[k] = had[k]
			continue
		}
		sum := cut.Sum(piece)
		same := sum == had[k]
		if !same && near { // one that is not tells that the content has moved
			same, err = w.over(sc, sum, piece, had[k], true)
			near = same
		}
		if same {
			stand[k] = sum
		}
	}
	return read, err
}

// over stores a piece over the one that stood in its place; false where it is not
// near enough to that, and was not stored. With alike it is not where the two end
// differently: then the content may have moved.
func (w *Writer) over(sc *scratch, s tree.Sum, b []byte, base tree.Sum, alike bool) (bool, error) {
	if w.broken != nil || len(b) < frame.LayFrom {
		return false, nil
	}
	if _, ok := w.l.Find(s); ok {
		return true, nil
	}
	prints := w.prints(sc, b)
	over := func(base tree.Sum, alike bool) []byte {
		common, was, err := w.common(sc, base, b, prints, alike)
		if err != nil || was < frame.LayFrom { // a check reports damage; the piece is stored whole
			return nil
		}
		return frame.Lay(sc.comp[:0], common, was, b)
	}
	stored := over(base, alike)
	if stored == nil {
		return false, nil
	}
	sc.comp = stored
	if w.l.depth(base) == 0 { // too deep: over the lowest, while that still saves much
		w.l.Chain(base, func(s tree.Sum) { base = s })
		if stored = over(base, false); stored == nil || 4*len(stored) > len(b) {
			return true, w.put(sc, s, b)
		}
		sc.comp = stored
	}
	if 16*len(stored) > len(b) { // it may compress to less
		sc.comp = frame.Squeeze(sc.quick, stored, b)
		if len(sc.comp) < 2*len(stored) {
			return true, w.put(sc, s, b)
		}
		stored = sc.comp[:len(stored)]
	}
	if !w.claim(s) {
		return true, nil
	}
	return true, w.append(stored, []index.Found{{Line: index.Line{Sum: s, Place: index.Place{Size: int32(len(b))}},
		Base: base, Prints: prints}})
}
