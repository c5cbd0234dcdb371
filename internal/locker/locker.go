// Package locker keeps fetched builds and backups: every piece of content
// once, under its BLAKE3 hash, compressed with zstd, in packs that the zstd
// program can read. docs/locker.md describes the files; this is their layout:
//
//	packs/NAME.zst       zstd frames one after the other, each of one piece or more
//	packs/NAME.idx       compressed lines, one for each piece: hash, offset of its
//	                     frame, stored bytes of that, bytes of the piece, where in
//	                     the frame, and which piece it lies over
//	packs/NAME.part      a pack being written; its writer holds a lock on it
//	sets/OWNER/ID.set    zstd of JSON lines: a head, then one line for each entry
//	gate                 a lock: shared by writers, alone by who gives space back
//
// A pack is flushed before its index appears, and every pack before the set
// that names its pieces. So a crash leaves at most a .part file, or a pack
// without a set: harmless, and the first is swept by the next writer. A reader
// takes no lock. Every piece is hashed again when it is read.
package locker

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"sync"
	"sync/atomic"

	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// maxFrame bounds a frame's content, in bytes, and with it the memory that
// reading one needs.
const maxFrame = 1 << 20

// Locker is one store on this machine. It is safe for concurrent use, and
// several processes may have the same one open.
type Locker struct {
	dir string

	mu     sync.RWMutex
	packs  []string        // paths; place.pack indexes it
	known  map[string]bool // packs whose index was read
	index  pieces          // every durable one
	damage []*Damage       // of indexes
	dec    sync.Pool       // *zstd.Decoder
	loaded bool            // the indexes were read
	spoilt map[string]bool // lines of damagedFile: pieces that count as not stored
	far    *far            // nil: it stands here
	other  bool            // it is somebody else's: what its sets say is held to their folder
}

// place is where a piece lies.
type place struct {
	pack   int32
	stored int32 // bytes of its frame
	size   int32
	at     int32 // in the frame's content
	off    int64 // of the frame in the pack
}

// compare puts places in the order in which they lie.
func (p place) compare(o place) int {
	return cmp.Or(cmp.Compare(p.pack, o.pack), cmp.Compare(p.off, o.off), cmp.Compare(p.at, o.at))
}

// Damage is stored content that does not read back as what was stored.
type Damage struct {
	Where string // file in the locker
	Piece string // its hash, "" where the whole file is meant
	Why   string
}

func (d *Damage) Error() string {
	if d.Piece == "" {
		return fmt.Sprintf("damaged: %s: %s", d.Where, d.Why)
	}
	return fmt.Sprintf("damaged: %s, piece %.12s: %s", d.Where, d.Piece, d.Why)
}

// Open opens the locker in dir, making it where there is none. It is for its
// owner's eyes alone, since backups hold what the server's folder holds.
func Open(dir string) (*Locker, error) {
	for _, d := range []string{"packs", "sets"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, fmt.Errorf("open the locker: %w", err)
		}
	}
	return newLocker(dir), nil
}

func newLocker(dir string) *Locker {
	l := &Locker{dir: dir, known: map[string]bool{}}
	l.dec.New = func() any {
		d, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4*maxFrame))
		return d
	}
	return l
}

// OpenOther opens a locker that is somebody else's, or a copy of one made by other
// means, for reading: nothing is made or written there. ok is false where the
// folder is none.
func OpenOther(dir string) (l *Locker, ok bool) {
	for _, d := range []string{"packs", "sets"} {
		if fi, err := os.Stat(filepath.Join(dir, d)); err != nil || !fi.IsDir() {
			return nil, false
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "keeper")); err == nil {
		return nil, false // a copy that a push made, which is opened as one
	}
	l = newLocker(dir)
	l.other = true
	return l, true
}

// Dir is where the locker stands.
func (l *Locker) Dir() string { return l.dir }

// refresh reads the indexes that appeared since it was last called.
func (l *Locker) refresh() error {
	list, err := os.ReadDir(filepath.Join(l.dir, "packs"))
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.loaded = true
	l.readDamaged()
	var todo []string
	lines := 0
	for _, d := range list {
		name, ok := strings.CutSuffix(d.Name(), ".idx")
		if !ok || strings.HasPrefix(name, ".") || l.known[name] {
			continue
		}
		todo = append(todo, name)
		if fi, err := d.Info(); err == nil {
			lines += int(fi.Size() / lineLength)
		}
	}
	l.index.grow(lines)
	// They are parsed beside each other, and entered one after the other.
	read := make([]chan *index, len(todo))
	for i := range read {
		read[i] = make(chan *index, 1)
	}
	var next atomic.Int32
	ahead := make(chan bool, 4) // bounds how much is parsed and not entered yet
	for range min(runtime.GOMAXPROCS(0), len(todo)) {
		go func() {
			for {
				ahead <- true
				i := int(next.Add(1)) - 1
				if i >= len(todo) {
					<-ahead
					return
				}
				read[i] <- readIndex(filepath.Join(l.dir, "packs", todo[i]+".idx"))
			}
		}()
	}
	for i, name := range todo {
		x := <-read[i]
		<-ahead
		if errors.Is(x.err, fs.ErrNotExist) { // its space is being given back
			continue
		}
		if x.err != nil {
			err = x.err
			continue
		}
		// A damaged line loses its piece and nothing else: every other one is
		// still found, and checked by its hash when it is read.
		if l.enter(name, x); x.bad != nil {
			l.damage = append(l.damage, &Damage{Where: l.shown(filepath.Join(l.dir, "packs", name+".idx")), Why: x.bad.Error()})
		}
	}
	return err
}

// shown is a file of the locker as people find it: of a copy it is there, and not
// where its content was brought.
func (l *Locker) shown(path string) string {
	if rel, err := filepath.Rel(l.dir, path); l.far != nil && err == nil {
		return l.far.c.Where() + "/" + filepath.ToSlash(rel)
	}
	return path
}

// shownIn says so in an error.
func (l *Locker) shownIn(err error) error {
	if d := (*Damage)(nil); l.far != nil && errors.As(err, &d) {
		d.Where = l.shown(d.Where)
	}
	return err
}

// find tells where a piece lies.
func (l *Locker) find(s tree.Sum) (place, bool) {
	in, _, ok := l.seek(s)
	return in.place, ok
}

// seek is find with all that the index says of the piece.
func (l *Locker) seek(s tree.Sum) (in found, pack string, ok bool) {
	l.mu.RLock()
	loaded := l.loaded
	l.mu.RUnlock()
	if !loaded { // a folder that can't be listed is told by the first piece that is missed
		if err := l.refresh(); err != nil {
			l.mu.Lock()
			l.loaded = true
			l.damage = append(l.damage, &Damage{Where: filepath.Join(l.dir, "packs"), Why: err.Error()})
			l.mu.Unlock()
		}
	}
	l.mu.RLock()
	defer l.mu.RUnlock()
	in.sum = s
	if in.place, in.base, ok = l.index.find(s); !ok {
		return in, "", false
	}
	in.prints = l.index.printsOf(s)
	return in, l.packs[in.pack], true
}

// depth is how many pieces one that is stored over base would lie over; 0 where they
// would be too many, or one of them is not there.
func (l *Locker) depth(base tree.Sum) int {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.index.depth(base, 1)
}

// chain hears of a piece and then of those that it lies over, each over the next.
func (l *Locker) chain(s tree.Sum, each func(tree.Sum)) {
	l.find(s) // so that the indexes are read
	all := make([]tree.Sum, 0, maxOver+1)
	l.mu.RLock()
	l.index.chain(s, func(s tree.Sum, _ place, _ bool) { all = append(all, s) })
	l.mu.RUnlock() // who is called may ask for more
	for _, s := range all {
		each(s)
	}
}

// reading is what a reader keeps from piece to piece: packs that are open, as many as
// pieces may lie over each other, and the last frames, since neighbours lie side by
// side: in as many frames as there were cores when they were stored.
type reading struct {
	packs  [maxOver + 1]openPack
	oldest int    // of those
	stored []byte // of the frame that was read last
	frames [4]heldFrame
	next   int // which of them goes next
	last   int // which was asked for last
}

type heldFrame struct {
	pack    string // "": none
	off     int64
	content []byte
}

type openPack struct {
	name string
	f    *os.File
}

func (r *reading) close() {
	for i := range r.packs {
		if p := &r.packs[i]; p.f != nil {
			p.f.Close()
			*p = openPack{}
		}
	}
	r.forget()
}

// open opens a pack, and keeps it open.
func (r *reading) open(l *Locker, pack string) (*os.File, error) {
	for _, p := range r.packs {
		if p.name == pack {
			return p.f, nil
		}
	}
	f, err := l.openPack(pack)
	if err != nil {
		return nil, err
	}
	p := &r.packs[r.oldest]
	if r.oldest = (r.oldest + 1) % len(r.packs); p.f != nil {
		p.f.Close()
	}
	*p = openPack{pack, f}
	return f, nil
}

// forget has the next piece read from its pack in any case.
func (r *reading) forget() {
	for i := range r.frames {
		r.frames[i].pack = ""
	}
}

// piece reads one piece and checks its hash.
func (l *Locker) piece(s tree.Sum) ([]byte, error) {
	r := &reading{}
	defer r.close()
	return l.pieceBy(r, s)
}

// pieceBy is piece for a reader of many: what it returns holds until the next.
func (l *Locker) pieceBy(r *reading, s tree.Sum) ([]byte, error) {
	in, pack, b, err := l.unchecked(r, s)
	if err != nil || sumPiece(b) == s {
		return b, err
	}
	got := sumPiece(b)
	if !in.base.IsZero() { // it may be that one which is damaged
		if _, err := l.pieceBy(r, in.base); err != nil {
			return nil, err
		}
	}
	return nil, &Damage{Where: l.shown(pack), Piece: s.String(), Why: "its content hashes to " + got.Short()}
}

// unchecked is pieceBy without the hash check; the caller hashes the piece, or what lies over it.
func (l *Locker) unchecked(r *reading, s tree.Sum) (in found, pack string, _ []byte, err error) {
	in, pack, ok := l.seek(s)
	if !ok { // another process may have stored it since
		if err := l.refresh(); err != nil {
			return in, pack, nil, err
		}
		if in, pack, ok = l.seek(s); !ok {
			d := &Damage{Where: l.dir, Piece: s.String(), Why: "no index names it"}
			l.mu.RLock()
			defer l.mu.RUnlock()
			for _, known := range l.damage {
				d.Why += "; " + known.Error()
			}
			return in, pack, nil, d
		}
	}
	bad := func(why string) error { return &Damage{Where: l.shown(pack), Piece: s.String(), Why: why} }
	frame, err := l.frameBy(r, pack, in)
	if errors.Is(err, fs.ErrNotExist) && l.far != nil {
		if err = l.far.renew(l, pack); err == nil {
			err = errors.New("the copy has no such pack")
			if now, at, ok := l.seek(s); ok {
				in, pack = now, at
				frame, err = l.frameBy(r, pack, in)
			}
		}
	} else if errors.Is(err, fs.ErrNotExist) && missing(strings.TrimSuffix(pack, ".zst")+".idx") { // moved, while space was given back
		l.forget()
		if in, pack, ok = l.seek(s); ok {
			frame, err = l.frameBy(r, pack, in)
		}
	}
	if notDamage(err) || errors.As(err, new(*Damage)) { // of what it lies over
		return in, pack, nil, err
	}
	if err != nil {
		return in, pack, nil, bad(err.Error())
	}
	if int(in.at)+int(in.size) > len(frame) {
		return in, pack, nil, bad("its frame is too short for it")
	}
	return in, pack, frame[in.at : in.at+in.size], nil
}

func missing(full string) bool {
	_, err := os.Lstat(full)
	return errors.Is(err, fs.ErrNotExist)
}

// frameBy brings the frame that a piece lies in.
func (l *Locker) frameBy(r *reading, pack string, in found) (_ []byte, err error) {
	for i := range r.frames {
		if h := &r.frames[i]; h.pack == pack && h.off == in.off {
			r.last = i
			return h.content, nil
		}
	}
	var base []byte
	if !in.base.IsZero() {
		if _, _, base, err = l.unchecked(r, in.base); err != nil {
			return nil, err
		}
		if r.next == r.last { // which base is a part of
			r.next = (r.next + 1) % len(r.frames)
		}
	}
	f, err := r.open(l, pack)
	if err != nil {
		return nil, err
	}
	r.stored = roomy(r.stored, int(in.stored))[:in.stored]
	if _, err := f.ReadAt(r.stored, in.off); err != nil {
		return nil, errors.New("the pack is cut short")
	}
	if held := &r.frames[r.last]; base != nil && len(base) == len(held.content) && unlayIn(base, r.stored) {
		held.pack, held.off = pack, in.off // which held the other, and nothing else
		return held.content, nil
	}
	h := &r.frames[r.next]
	h.pack, r.last, r.next = "", r.next, (r.next+1)%len(r.frames)
	h.content = roomy(h.content, max(int(in.at+in.size), len(r.stored)))
	content, ok := unlaid(h.content[:0], r.stored, base) // or raw, which the library copies twice
	switch {
	case ok:
	case base != nil:
		content, err = unlay(h.content[:0], r.stored, base)
	default:
		d := l.dec.Get().(*zstd.Decoder)
		defer l.dec.Put(d)
		content, err = d.DecodeAll(r.stored, h.content[:0])
	}
	if h.content = content; err != nil {
		return nil, err
	}
	if len(h.content) > maxFrame {
		return nil, errors.New("its frame is too long")
	}
	h.pack, h.off = pack, in.off
	return h.content, nil
}

// roomy is b with room for n bytes: at once for as many as most need, since pieces come
// in all sizes, and what was too small is garbage that was written to.
func roomy(b []byte, n int) []byte {
	if cap(b) >= n {
		return b[:0]
	}
	return make([]byte, 0, max(n, maxFrame+4096))
}

func (l *Locker) openPack(path string) (*os.File, error) {
	if l.far != nil {
		return l.far.open(path)
	}
	return os.Open(path)
}

// Reader reads many files one after the other: for one goroutine, to be closed.
type Reader struct {
	l *Locker
	r reading
}

// Reader begins reading.
func (l *Locker) Reader() *Reader { return &Reader{l: l} }

// Close lets go of what it held open.
func (r *Reader) Close() { r.r.close() }

// Same tells whether what r holds is a stored file's content: by its hash, else by
// its pieces.
func (l *Locker) Same(r io.Reader, f File) (bool, error) {
	if !f.Sum.IsZero() {
		h := tree.NewHash()
		_, err := io.Copy(h, r)
		return h.Sum() == f.Sum, err
	}
	buf := make([]byte, 2*maxFrame)
	at, held, ended := 0, 0, false
	for _, want := range f.PieceSums() {
		if held-at < maxFrame && !ended {
			held, at = copy(buf, buf[at:held]), 0
			n, err := fill(r, buf[held:])
			held += n
			if ended = errors.Is(err, io.EOF); err != nil && !ended {
				return false, err
			}
		}
		n := cutNext(buf[at:held]) // as good a guess as any where the piece is lost
		if p, ok := l.find(want); ok {
			n = int(p.size)
		}
		if n > held-at || sumPiece(buf[at:at+n]) != want {
			return false, nil
		}
		at += n
	}
	if at < held {
		return false, nil
	}
	n, err := io.ReadFull(r, buf[:1])
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return n == 0 && err == nil, err
}

// Copy writes a stored file's content to w, each piece checked against its
// hash and the whole against the file's, where it is known.
func (l *Locker) Copy(w io.Writer, f File) error {
	r := l.Reader()
	defer r.Close()
	return r.Copy(w, f)
}

// Copy is the locker's, for a reader of many files.
func (r *Reader) Copy(w io.Writer, f File) error {
	var whole *tree.Hash
	pieces := f.PieceSums()
	if !f.Sum.IsZero() && len(pieces) != 1 { // a single piece has been checked
		h := tree.NewHash()
		whole = &h
	}
	for _, s := range pieces {
		b, err := r.l.pieceBy(&r.r, s)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		if whole != nil {
			whole.Write(b)
		}
		if _, err := w.Write(b); err != nil {
			return err
		}
	}
	var got tree.Sum
	switch {
	case whole != nil:
		got = whole.Sum()
	case len(pieces) == 1 && !f.Sum.IsZero():
		got = pieces[0]
	default:
		return nil
	}
	if got != f.Sum {
		return fmt.Errorf("%s: %w", f.Path, &Damage{Where: r.l.dir, Why: "its pieces together hash to " + got.Short() + ", the set says " + f.Sum.Short()})
	}
	return nil
}

// Lay makes the stored file, folder or link at full: content checked, flushed,
// then mode, owner and times. The folder that holds it must be there. Nothing
// may stand at full yet.
func (l *Locker) Lay(full string, f File) (err error) {
	r := l.Reader()
	defer r.Close()
	return r.lay(full, f, true)
}

// lay is Lay for a reader of many files; without flush, the caller sees to that for all
// at once.
func (r *Reader) lay(full string, f File, flush bool) (err error) {
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
func laid(out *os.File, f File) io.Writer {
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

// ErrNoSet says that the locker has no such set.
var ErrNoSet = errors.New("there is no backup or build of that name")

func (l *Locker) setPath(owner, id string) (string, error) {
	for _, s := range []string{owner, id} {
		if s == "" || strings.ContainsAny(s, `/\:`) || strings.HasPrefix(s, ".") {
			return "", fmt.Errorf("%q: %w", id, ErrNoSet)
		}
	}
	return filepath.Join(l.dir, "sets", owner, id+".set"), nil
}

// setAt is the path of a set that is to be read.
func (l *Locker) setAt(owner, id string) (string, error) {
	p, err := l.setPath(owner, id)
	if err == nil && l.far != nil {
		err = l.far.set(l, owner, id, p)
	}
	return p, err
}

// Has tells whether a set is stored.
func (l *Locker) Has(owner, id string) bool {
	p, err := l.setPath(owner, id)
	if err != nil {
		return false
	}
	_, err = os.Stat(p)
	return err == nil
}

// Read reads a whole set. A set that is not there gives ErrNoSet.
func (l *Locker) Read(owner, id string) (*Set, error) {
	p, err := l.setAt(owner, id)
	if err != nil {
		return nil, err
	}
	set, err := readSet(p, false)
	if err == nil && (l.far != nil || l.other) {
		if err = contained(set.Entries); err != nil {
			err = &Damage{Where: p, Why: err.Error()}
		}
	}
	return set, l.shownIn(err)
}

// Head reads a set without its entries. One that is not there gives ErrNoSet.
func (l *Locker) Head(owner, id string) (*Set, error) {
	p, err := l.setAt(owner, id)
	if err != nil {
		return nil, err
	}
	set, err := readSet(p, true)
	return set, l.shownIn(err)
}

// Heads lists an owner's sets without their entries, oldest first. One whose
// head can't be read is listed with its damage.
func (l *Locker) Heads(owner string) ([]*Set, error) {
	if l.far != nil {
		return l.far.heads(owner)
	}
	p, err := l.setPath(owner, "x")
	if err != nil {
		return nil, err
	}
	list, err := os.ReadDir(filepath.Dir(p))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Set
	for _, d := range list { // sorted by name, and names count up
		if !strings.HasSuffix(d.Name(), ".set") || strings.HasPrefix(d.Name(), ".") {
			continue
		}
		s, err := readSet(filepath.Join(filepath.Dir(p), d.Name()), true)
		if errors.Is(err, ErrNoSet) {
			continue // dropped since the folder was listed
		}
		if damage := (*Damage)(nil); errors.As(err, &damage) {
			s, err = &Set{Owner: owner, ID: strings.TrimSuffix(d.Name(), ".set"), Damage: damage.Why}, nil
		}
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

func noSet(path string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s: %w", strings.TrimSuffix(filepath.Base(path), ".set"), ErrNoSet)
	}
	return err
}

func readSet(path string, headOnly bool) (*Set, error) {
	if !headOnly {
		if frames, err := readFrames(path); !errors.Is(err, errNoMark) {
			if err != nil {
				return nil, err
			}
			s, err := setOf(frames)
			if err != nil {
				return nil, &Damage{Where: path, Why: err.Error()}
			}
			return s, nil
		}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, noSet(path, err)
	}
	defer f.Close()
	if headOnly {
		head, err := readBlock(bufio.NewReader(f))
		if err == nil {
			if head, err = inflate(head, nil); err == nil {
				s, err := readHead(head)
				if err != nil {
					err = &Damage{Where: path, Why: err.Error()}
				}
				return s, err
			}
		}
		if !errors.Is(err, errNoMark) {
			return nil, &Damage{Where: path, Why: fmt.Sprintf("its head can't be read: %v", err)}
		}
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
	}
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	s, err := decodeSet(bufio.NewReaderSize(z, 64<<10), headOnly)
	if err != nil {
		return nil, &Damage{Where: path, Why: err.Error()}
	}
	return s, nil
}

// setOf reads a set from its frames: head, blocks, end.
func setOf(frames [][]byte) (*Set, error) {
	if len(frames) < 2 {
		return nil, errors.New("it is cut short")
	}
	head, err := inflate(frames[0], nil)
	if err != nil {
		return nil, fmt.Errorf("its head can't be read: %w", err)
	}
	s, err := readHead(head)
	if err != nil {
		return nil, err
	}
	entries, err := endOf(frames)
	if err != nil {
		return nil, err
	}
	if len(frames) > 2 {
		if err := decodeBlocks(frames[1:len(frames)-1], s, entries); err != nil {
			return nil, err
		}
	}
	if entries != len(s.Entries) {
		return nil, fmt.Errorf("it has %d entries, its end says %d", len(s.Entries), entries)
	}
	return s, nil
}

// endOf is how many entries a set's last frame says that it has: without that
// frame it was cut short, at whatever place.
func endOf(frames [][]byte) (entries int, err error) {
	last, err := inflate(frames[len(frames)-1], nil)
	var end struct{ End *int }
	if err != nil || json.Unmarshal(last, &end) != nil || end.End == nil {
		return 0, errors.New("it is cut short")
	}
	return *end.End, nil
}

// Content reads a stored file at any offset, holding one piece in memory. It
// is for one goroutine.
func (l *Locker) Content(f File) io.ReaderAt {
	return &content{l: l, pieces: f.PieceSums(), at: -1}
}

type content struct {
	l      *Locker
	pieces []tree.Sum
	from   []int64 // where each piece begins, and the end
	at     int     // which piece is held
	held   []byte
	r      reading
}

// starts finds out where each piece begins.
func (c *content) starts() error {
	if c.from != nil {
		return nil
	}
	from := make([]int64, 1, len(c.pieces)+1)
	for _, s := range c.pieces {
		p, ok := c.l.find(s)
		if !ok { // told as damage, unless another process has just stored it
			b, err := c.l.piece(s)
			if err != nil {
				return err
			}
			p.size = int32(len(b))
		}
		from = append(from, from[len(from)-1]+int64(p.size))
	}
	c.from = from
	return nil
}

func (c *content) ReadAt(b []byte, off int64) (n int, err error) {
	if err := c.starts(); err != nil {
		return 0, err
	}
	for n < len(b) {
		want := off + int64(n)
		if want < 0 || want >= c.from[len(c.from)-1] {
			return n, io.EOF
		}
		i := sort.Search(len(c.pieces), func(i int) bool { return c.from[i+1] > want })
		if i != c.at {
			c.held, err = c.l.pieceBy(&c.r, c.pieces[i])
			c.r.close() // nobody says when the last was read; what is held stays
			if c.at = i; err != nil {
				c.at = -1
				return n, err
			}
		}
		n += copy(b[n:], c.held[want-c.from[i]:])
	}
	return n, nil
}
