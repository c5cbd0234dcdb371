package locker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"freshkeel/internal/locker/cut"
	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"github.com/gofrs/flock"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/sync/errgroup"
)

// PackSize is about where a pack is closed, in bytes, and packPieces where it is
// when they are small.
const (
	PackSize   = 64 << 20
	packPieces = 32 << 10
)

// bundle is how much content a frame gathers, in bytes: small pieces that come one
// after the other share one, which compresses better and is read at once.
const bundle = 256 << 10

// bundlePieces is how many pieces a frame gathers at most: of very small ones many more
// would find room, and what is known of each takes more than its content.
const bundlePieces = 4096

// alone is how large a piece has a frame of its own, in bytes.
const alone = 32 << 10

// began is how much of a pack the disk is left with before it is told to begin.
const began = 16 << 20

// Writer adds content. Nothing that it added is promised until Publish. Close
// it in any case.
type Writer struct {
	// PiecesAlone leaves the hash of a whole file out where it has several pieces:
	// each of those has its own, and hashing twice is a third of the work.
	PiecesAlone bool

	l *Locker

	mu      sync.Mutex
	packs   []*pack           // begun, and nobody is writing to them now
	taken   int               // how many are being written to
	given   *sync.Cond        // one was given back
	fresh   map[tree.Sum]bool // gathered, or in packs not yet durable
	stored  int64
	closing errgroup.Group // packs being flushed
	buffers [][]byte       // idle
	failed  atomic.Bool    // a piece could not be stored: nothing will be published
	beside  chan struct{}  // how many stretches are worked on besides those of the readers
	idle    []*scratch     // each may hold a frame that is not full yet
	gate    *flock.Flock   // held shared: nothing is given back meanwhile
	broken  error          // why it can't be held
	key     uint64         // of prints; 0: none are made
	doubts  bool           // those that are known are not believed in this pass
}

// scratch is what one worker needs: it is what memory grows with.
type scratch struct {
	quick   *zstd.Encoder // for pieces of large files, most of which are compressed already
	close   *zstd.Encoder // for small files, most of which are text
	comp    []byte
	frame   []byte // gathered pieces, end to end
	gathers []index.Found
	read    reading // of pieces that others are stored over
	part    []byte  // of one of them
	prints  []byte
	hashes  []uint64 // that prints are made of
}

// Writer begins adding to the locker, and sweeps what a dead writer left. It
// waits while space is given back.
func (l *Locker) Writer() *Writer {
	gate := l.gate()
	err := gate.RLock()
	sweep(l.dir)
	l.forget() // what was indexed before may have moved
	w := l.writer()
	w.gate, w.broken, w.key = gate, err, printKey(l.dir)
	return w
}

func (l *Locker) writer() *Writer {
	w := &Writer{l: l, fresh: map[tree.Sum]bool{}, beside: make(chan struct{}, runtime.GOMAXPROCS(0)-1)}
	w.given = sync.NewCond(&w.mu)
	return w
}

// take gives a worker what it needs; give takes it back.
func (w *Writer) take() *scratch {
	w.mu.Lock()
	defer w.mu.Unlock()
	if n := len(w.idle); n > 0 {
		sc := w.idle[n-1]
		w.idle = w.idle[:n-1]
		return sc
	}
	// Text without long repeats (numbers, hashes) is halved by coding its letters
	// alone, which the quickest level leaves out unless told: measured, that is
	// smaller than the next level's and takes a third of its time. zstd's own checksum
	// is left out: each piece has a better one.
	encoder := func(level zstd.EncoderLevel, letters bool) *zstd.Encoder {
		enc, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderConcurrency(1),
			zstd.WithWindowSize(bundle), zstd.WithLowerEncoderMem(true), zstd.WithAllLitEntropyCompression(letters),
			zstd.WithEncoderCRC(false))
		return enc
	}
	return &scratch{read: reading{l: w.l}, quick: encoder(zstd.SpeedDefault, false),
		close: encoder(zstd.SpeedFastest, true)}
}

func (w *Writer) give(sc *scratch) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.idle = append(w.idle, sc)
}

// sweep removes half-written packs that nobody holds. What can't be removed
// does no harm, so it tells nothing.
func sweep(dir string) {
	parts, _ := filepath.Glob(filepath.Join(dir, "packs", "*.part"))
	for _, p := range parts {
		lock := flock.New(p)
		if ok, err := lock.TryLock(); err == nil && ok {
			tree.RemoveHeld(lock)
		}
	}
}

// readAhead is how much of a file is read at once, in bytes.
const readAhead = 2 * cut.Max

// batch is a stretch of a file: its pieces lie end to end in buf.
type batch struct {
	buf  []byte
	ends []int
	sums []tree.Sum
	err  error
}

// offsetReader reads on from a place in what it is over.
type offsetReader struct {
	r  io.ReaderAt
	at int64
}

func (o *offsetReader) Read(b []byte) (int, error) {
	n, err := o.r.ReadAt(b, o.at)
	o.at += int64(n)
	return n, err
}

// unwritten is how many whole pieces of zeros, which nobody has written, a reader has at a place.
func unwritten(r io.Reader, at int64) int {
	o, is := r.(*offsetReader)
	if !is {
		return 0
	}
	return int((holeEnd(o.r, at) - at) / cut.Max)
}

// holeEnd is how far a hole reaches that a file has at a place; the place itself where it has
// none there.
func holeEnd(r io.ReaderAt, at int64) int64 {
	f, is := r.(*os.File)
	if !is || !tree.Sparse(f) {
		return at
	}
	fi, err := f.Stat()
	if err != nil {
		return at
	}
	return tree.HoleEnd(f, at, fi.Size())
}

// skip has a reader go on behind so many pieces of zeros at a place. It returns them as stored
// pieces.
func (w *Writer) skip(r io.Reader, at int64, pieces int) *batch {
	r.(*offsetReader).at = at + int64(pieces)*cut.Max
	sc := w.take()
	defer w.give(sc)
	b := &batch{sums: slices.Repeat([]tree.Sum{cut.ZeroSum()}, pieces)}
	if b.err = w.put(sc, cut.ZeroSum(), make([]byte, cut.Max)); b.err != nil {
		w.failed.Store(true)
	}
	return b
}

// cut finds the pieces of what a batch holds, and returns where the last of them ends.
func (b *batch) cut(held int, ended bool) (at int) {
	for at < held {
		n := cut.In(b.buf[at:held], ended)
		if n == 0 {
			break
		}
		at += n
		b.ends = append(b.ends, at)
	}
	return at
}

// Add stores what r holds. It keeps a few stretches in memory, whatever the
// length, and works on them side by side where a core is idle.
func (w *Writer) Add(ctx context.Context, r io.Reader, note func(int64)) (f set.File, err error) {
	var whole *tree.Hash
	var batches []*batch
	var beside sync.WaitGroup
	defer beside.Wait()
	buf := w.buffer()
	held, ended := 0, false
	from := int64(0) // of buf in the file
	for !ended {
		if err := ctx.Err(); err != nil {
			return f, err
		}
		if n := unwritten(r, from); n > 0 && w.PiecesAlone { // what was read of them already is zeros too
			batches = append(batches, w.skip(r, from, n))
			f.Size += int64(n)*cut.Max - int64(held)
			if note != nil {
				note(int64(n)*cut.Max - int64(held))
			}
			from, held = from+int64(n)*cut.Max, 0
		}
		n, err := fill(r, buf[held:])
		held += n
		f.Size += int64(n)
		if n > 0 && note != nil {
			note(int64(n))
		}
		switch {
		case errors.Is(err, io.EOF):
			ended = true
		case err != nil:
			return f, err
		}
		b := &batch{buf: buf}
		at := b.cut(held, ended)
		if !w.PiecesAlone && (!ended || len(batches) > 0 || len(b.ends) > 1) {
			if whole == nil {
				h := tree.NewHash()
				whole = &h
			}
			whole.Write(buf[:at])
		}
		from += int64(at)
		if !ended {
			rest := buf[at:held]
			buf = w.buffer()
			held = copy(buf, rest)
		}
		batches = append(batches, b)
		select {
		case w.beside <- struct{}{}:
			beside.Add(1)
			go func() {
				defer beside.Done()
				w.store(b)
				<-w.beside
			}()
		default:
			w.store(b)
		}
		if w.failed.Load() {
			break // told below
		}
	}
	beside.Wait()
	for _, b := range batches {
		if b.err != nil {
			return f, b.err
		}
		f.Pieces = append(f.Pieces, b.sums...)
	}
	if !ended { // another file's piece could not be stored, which is told there
		return f, errors.New("the locker can't be written to")
	}
	f.Pieces = slices.Clip(f.Pieces)
	if f.SumOfFew(); whole != nil {
		f.Sum = whole.Sum()
	}
	return f, nil
}

// fill reads until b is full, and gives the reader's own error otherwise. Only a
// clean io.EOF ends content: io.ReadFull says io.ErrUnexpectedEOF of a short last
// read and of a stream that was cut short alike.
func fill(r io.Reader, b []byte) (n int, err error) {
	for n < len(b) && err == nil {
		var got int
		got, err = r.Read(b[n:])
		n += got
	}
	if n == len(b) && errors.Is(err, io.EOF) {
		err = nil // told again by the next read
	}
	return n, err
}

// store hashes and stores the pieces of a stretch, and gives its buffer back.
func (w *Writer) store(b *batch) {
	sc := w.take()
	defer w.give(sc)
	at := 0
	for _, end := range b.ends {
		piece := b.buf[at:end]
		s := cut.Sum(piece)
		if b.err = w.put(sc, s, piece); b.err != nil {
			w.failed.Store(true)
			break
		}
		b.sums = append(b.sums, s)
		at = end
	}
	w.giveBuffer(b.buf)
	b.buf, b.ends = nil, nil
}

func (w *Writer) giveBuffer(b []byte) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.buffers = append(w.buffers, b)
}

// buffer is room for one stretch.
func (w *Writer) buffer() []byte {
	w.mu.Lock()
	defer w.mu.Unlock()
	if n := len(w.buffers); n > 0 {
		b := w.buffers[n-1]
		w.buffers = w.buffers[:n-1]
		return b
	}
	return make([]byte, readAhead)
}

// put gathers one piece for the next frame, unless it is stored.
func (w *Writer) put(sc *scratch, s tree.Sum, b []byte) error {
	if w.broken != nil {
		return fmt.Errorf("write to the locker: %w", w.broken)
	}
	if _, ok := w.l.Find(s); ok || !w.claim(s) {
		return nil
	}
	if len(b) >= alone { // which saves copying it
		sc.comp = frame.Squeeze(sc.quick, sc.comp[:0], b)
		in := index.Found{Line: index.Line{Sum: s, Place: index.Place{Size: int32(len(b))}}, Prints: w.prints(sc, b)}
		return w.append(sc.comp, []index.Found{in})
	}
	if len(sc.frame)+len(b) > bundle || len(sc.gathers) == bundlePieces {
		if err := w.storeGathered(sc); err != nil {
			return err
		}
	}
	sc.gathers = append(sc.gathers,
		index.Found{Line: index.Line{Sum: s, Place: index.Place{Size: int32(len(b)), At: int32(len(sc.frame))}}})
	sc.frame = append(sc.frame, b...)
	return nil
}

// claim makes a piece this worker's to store: false where it is another's.
func (w *Writer) claim(s tree.Sum) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.fresh[s] {
		return false
	}
	w.fresh[s] = true
	return true
}

// storeGathered writes the frame of small pieces that a worker has gathered.
func (w *Writer) storeGathered(sc *scratch) error {
	if len(sc.gathers) == 0 {
		return nil
	}
	sc.comp = sc.close.EncodeAll(sc.frame, sc.comp[:0])
	err := w.append(sc.comp, sc.gathers)
	sc.frame, sc.gathers = sc.frame[:0], sc.gathers[:0]
	return err
}

// AddFrame adds a frame that is stored elsewhere as it stands, with the lines of its
// pieces, which the caller has hashed.
func (w *Writer) AddFrame(stored []byte, pieces []index.Found) error {
	if w.broken != nil {
		return fmt.Errorf("write to the locker: %w", w.broken)
	}
	return w.append(stored, pieces)
}

// append writes one frame, of certain pieces, to a pack that nobody else is writing to now. Another is
// begun beside it only once there is so much to write that they won't stay small.
func (w *Writer) append(frame []byte, pieces []index.Found) (err error) {
	w.mu.Lock()
	for len(w.packs) == 0 && w.taken > 0 && w.stored < began {
		w.given.Wait()
	}
	var p *pack
	if n := len(w.packs); n > 0 {
		p, w.packs = w.packs[n-1], w.packs[:n-1]
	}
	w.taken++
	w.mu.Unlock()
	full := false
	if p == nil {
		p, err = newPack(w.l.dir)
	}
	if err == nil {
		full, err = p.add(frame, pieces)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.taken--
	w.given.Broadcast()
	if p == nil {
		return err
	}
	w.stored += int64(len(frame))
	if err == nil && full {
		w.closing.Go(func() error { return w.seal(p) })
		return nil
	}
	w.packs = append(w.packs, p)
	return err
}

// Flush makes all that was added durable, and readable by what Add gave. It promises
// nothing: without a set that names it, it is swept one day. No worker is at work.
func (w *Writer) Flush() error {
	if err := w.beginFlush(); err != nil {
		return err
	}
	return w.closing.Wait()
}

// beginFlush has it made durable; w.closing tells when it is.
func (w *Writer) beginFlush() error {
	if w.broken != nil { // space may be given back meanwhile: no set may lean on what is stored
		return fmt.Errorf("write to the locker: %w", w.broken)
	}
	for _, sc := range w.idle {
		if err := w.storeGathered(sc); err != nil {
			return err
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, p := range w.packs {
		w.closing.Go(func() error { return w.seal(p) })
	}
	w.packs = nil
	return nil
}

// Publish makes the content durable and then the set visible, at once and
// whole. A backup's ID is given here: the next free number of its owner.
func (w *Writer) Publish(s *set.Set) error {
	if err := w.beginFlush(); err != nil { // which stores what was gathered
		return err
	}
	w.mu.Lock()
	s.New, w.stored = w.stored, 0
	w.mu.Unlock()
	return w.PublishAs(s)
}

// PublishAs is Publish for a set that says itself how much it added.
func (w *Writer) PublishAs(s *set.Set) error {
	if err := w.beginFlush(); err != nil {
		return err
	}
	numbered := s.ID == ""
	if numbered {
		s.ID = "x"
	}
	path, err := w.l.PathOf(s.Owner, s.ID)
	if err != nil {
		return err
	}
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	for n := lastNumber(dir) + 1; ; n++ {
		if numbered {
			s.ID = fmt.Sprintf("b%04d", n)
			path = filepath.Join(dir, s.ID+".set")
			// Two servers never share an owner, but two commands might race.
			if _, err := os.Lstat(path); err == nil {
				continue
			}
		}
		if err := tree.WriteBy(path, 0o600, func(out io.Writer) error {
			return errors.Join(set.Write(out, s), w.closing.Wait()) // it appears once this is done
		}); err != nil {
			return fmt.Errorf("publish %s: %w", s.ID, err)
		}
		return tree.SyncDir(filepath.Dir(dir))
	}
}

func lastNumber(dir string) (last int) {
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
	for _, p := range w.packs {
		p.drop()
	}
	w.packs = nil
	for _, sc := range w.idle {
		sc.read.close()
	}
	w.mu.Unlock()
	w.closing.Wait()
	if w.gate != nil {
		w.gate.Unlock()
	}
}
