package locker

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// A set's lines are compressed in blocks, each a zstd frame of its own, so that a
// block of which nothing changed is copied from the set before as it stands. In
// front of each frame stands a skippable frame (RFC 8878, section 3.1.2) that
// says how long it is; the zstd program passes over those.

// mark begins the skippable frame in front of a block: magic, length of what
// follows, length of the block.
const (
	markMagic = 0x184D2A5B
	markSize  = 16
)

// maxBlock bounds a block that is believed, in bytes compressed; a line may hold
// the pieces of one very large file.
const maxBlock = 64 << 20

// blockLines is how many lines a block has at most.
const blockLines = 1024

// endsBlock tells whether a block ends behind a path. It is the path that
// decides, so that a new file moves no end but its own block's.
func endsBlock(path string) bool {
	h := uint64(14695981039346656037) // FNV-1a
	for i := 0; i < len(path); i++ {
		h = (h ^ uint64(path[i])) * 1099511628211
	}
	h ^= h >> 33 // short names differ in the low bits alone
	h *= 0xff51afd7ed558ccd
	return h>>56 == 0
}

// block is some lines of a set, one after the other.
type block struct {
	from, n int    // entries
	raw     []byte // its frame, where it is known already
}

// blocksOf parts entries into blocks.
func blocksOf(entries []File) (out []block) {
	b := block{}
	for i := range entries {
		if b.n++; b.n == blockLines || endsBlock(entries[i].Path) {
			out = append(out, b)
			b = block{from: i + 1}
		}
	}
	if b.n > 0 {
		out = append(out, b)
	}
	return out
}

func writeBlock(w io.Writer, raw []byte) error {
	var head [markSize]byte
	binary.LittleEndian.PutUint32(head[0:], markMagic)
	binary.LittleEndian.PutUint32(head[4:], 8)
	binary.LittleEndian.PutUint64(head[8:], uint64(len(raw)))
	if _, err := w.Write(head[:]); err != nil {
		return err
	}
	_, err := w.Write(raw)
	return err
}

// readBlock reads one block's frame; io.EOF where the file ends, errNoMark where
// no mark stands in front.
func readBlock(r *bufio.Reader) ([]byte, error) {
	head, err := r.Peek(markSize)
	if len(head) == 0 && errors.Is(err, io.EOF) {
		return nil, io.EOF
	}
	if err != nil || binary.LittleEndian.Uint32(head) != markMagic || binary.LittleEndian.Uint32(head[4:]) != 8 {
		return nil, errNoMark
	}
	n := binary.LittleEndian.Uint64(head[8:])
	if n > maxBlock {
		return nil, fmt.Errorf("a block of %d bytes", n)
	}
	r.Discard(markSize)
	if n > 1<<20 { // as damage would have it: no more memory than there are bytes
		var buf bytes.Buffer
		if got, err := io.CopyN(&buf, r, int64(n)); err != nil {
			return nil, fmt.Errorf("it is cut short: a block of %d bytes has %d", n, got)
		}
		return buf.Bytes(), nil
	}
	raw := make([]byte, n)
	if got, err := io.ReadFull(r, raw); err != nil {
		return nil, fmt.Errorf("it is cut short: a block of %d bytes has %d", n, got)
	}
	return raw, nil
}

var errNoMark = errors.New("no mark stands in front of a block")

// encoders of blocks are kept, like decoders.
var encoders = sync.Pool{New: func() any {
	e, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(maxFrame), zstd.WithLowerEncoderMem(true), zstd.WithAllLitEntropyCompression(true))
	return e
}}

func blockText(text []byte, entries []File) (_ []byte, err error) {
	for i := range entries {
		if text, err = appendLine(text, &entries[i]); err != nil {
			return nil, err
		}
	}
	return text, nil
}

// Prepare compresses the blocks of a pass ahead of time, so that the next pass,
// for which a server has to be down, has only those to do that changed since.
func (t *Taken) Prepare() error {
	enc := encoders.Get().(*zstd.Encoder)
	defer encoders.Put(enc)
	var text, comp []byte
	for i := range t.blocks {
		b := &t.blocks[i]
		if b.raw != nil {
			continue
		}
		var err error
		if text, err = blockText(text[:0], t.Entries[b.from:b.from+b.n]); err != nil {
			return err
		}
		comp = enc.EncodeAll(text, comp[:0])
		b.raw = bytes.Clone(comp)
	}
	return nil
}

// compactFrom is from how many entries on a pass is kept as frames alone: reading them
// again takes a tenth of a second for each 200,000, and their room a tenth.
const compactFrom = 60_000

// Compact lets go of a pass's entries, once it is prepared to be the base of the next
// one; a small one keeps them.
func (t *Taken) Compact() {
	if len(t.Entries) >= compactFrom && !slices.ContainsFunc(t.blocks, func(b block) bool { return b.raw == nil }) {
		t.compact, t.total, t.Entries = true, len(t.Entries), nil
	}
}

// writeSet writes head, blocks and end.
func writeSet(w io.Writer, s *Set) error {
	s.Format = setFormat
	s.Tally()
	enc := encoders.Get().(*zstd.Encoder)
	defer encoders.Put(enc)
	head, err := headLine(s)
	if err != nil {
		return err
	}
	var comp []byte
	put := func(text []byte) error {
		comp = enc.EncodeAll(text, comp[:0])
		return writeBlock(w, comp)
	}
	if err := put(head); err != nil {
		return err
	}
	blocks := s.blocks
	if blocks == nil {
		blocks = blocksOf(s.Entries)
	}
	var text []byte
	for _, b := range blocks {
		if b.raw != nil {
			if err := writeBlock(w, b.raw); err != nil {
				return err
			}
			continue
		}
		if text, err = blockText(text[:0], s.Entries[b.from:b.from+b.n]); err != nil {
			return err
		}
		if err := put(text); err != nil {
			return err
		}
	}
	// A last line that says it is the last: a set cut short between two blocks
	// would otherwise read as a smaller tree.
	return put(fmt.Appendf(nil, "{\"end\":%d}\n", len(s.Entries)))
}

// Base is an earlier set, or an earlier pass over the same folder: what proves
// that files were not written to since. It is read once, in order.
type Base struct {
	blocks  []block
	entries func(i int) ([]File, error) // of a block, once each, in order
	close   func()
	total   int // entries that the set's end says it has
	doubted bool
	stored  bool // a pass of this very writer found its pieces
}

// Doubted is the base for a pass that reads everything: it proves nothing, and tells
// only what files were cut into. b may be nil.
func (b *Base) Doubted() *Base {
	if b != nil {
		b.doubted = true
	}
	return b
}

// Base is what a pass found, for the next pass.
func (t *Taken) Base() *Base {
	blocks := t.blocks
	if t.compact {
		b := &Base{stored: true, blocks: blocks, total: t.total}
		b.readAhead("the pass before", func(i int) ([]byte, error) { return b.rawOf(i), nil })
		return b
	}
	if blocks == nil {
		blocks = blocksOf(t.Entries)
	}
	return &Base{stored: true, blocks: blocks, total: len(t.Entries), entries: func(i int) ([]File, error) { return t.Entries[blocks[i].from : blocks[i].from+blocks[i].n], nil }, close: func() {}}
}

// Base opens a set as the base of a pass. Damage in it is found out here or while
// it is read.
func (l *Locker) Base(owner, id string) (*Base, error) { return l.baseOf(owner, id, false) }

// Look is Base for whoever only goes through it once: it is good for no pass, and takes
// the room of a few blocks.
func (l *Locker) Look(owner, id string) (*Base, error) { return l.baseOf(owner, id, true) }

func (l *Locker) baseOf(owner, id string, look bool) (*Base, error) {
	p, err := l.setAt(owner, id)
	if err != nil {
		return nil, err
	}
	b, err := l.baseAt(p, look)
	return b, l.shownIn(err)
}

func (l *Locker) baseAt(p string, look bool) (*Base, error) {
	// It is opened once: another command may drop it meanwhile.
	f, err := os.Open(p)
	if err != nil {
		return nil, noSet(p, err)
	}
	keep := false
	defer func() {
		if !keep {
			f.Close()
		}
	}()
	frames, err := framesOf(f, p, look)
	if errors.Is(err, errNoMark) { // written in one frame
		s, err := readSet(p, false)
		if err != nil {
			return nil, err
		}
		return (&Taken{Entries: s.Entries}).Base(), nil
	}
	if err != nil {
		return nil, err
	}
	b := &Base{}
	if len(frames) < 2 {
		return nil, &Damage{Where: p, Why: "it is cut short"}
	}
	if b.total, err = endOf(frames); err != nil {
		return nil, &Damage{Where: p, Why: err.Error()}
	}
	for _, raw := range frames[1 : len(frames)-1] {
		b.blocks = append(b.blocks, block{raw: raw})
	}
	if !look {
		b.readAhead(p, func(i int) ([]byte, error) { return b.rawOf(i), nil })
		return b, nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	r := bufio.NewReaderSize(f, 64<<10)
	if _, err := readBlock(r); err != nil { // the head
		return nil, &Damage{Where: p, Why: err.Error()}
	}
	keep = true
	b.readAhead(p, func(i int) ([]byte, error) {
		if i == len(b.blocks) {
			return nil, f.Close()
		}
		return readBlock(r)
	})
	return b, nil
}

// readAhead has the entries of a base read from its blocks' frames, which raw gives one
// after the other; behind the last it is told that there are no more. where names what
// they are of, for damage.
func (b *Base) readAhead(where string, raw func(i int) ([]byte, error)) {
	// Blocks are read ahead of who asks, while the folder is still walked.
	type read struct {
		entries []File
		err     error
	}
	ahead := make([]chan read, len(b.blocks))
	for i := range ahead {
		ahead[i] = make(chan read, 1)
	}
	done := make(chan struct{})
	room := make(chan struct{}, 8) // some 1.5 MB of entries
	go func() {
		defer func() { // whoever still asks is told
			raw(len(ahead))
			for _, c := range ahead {
				close(c)
			}
		}()
		var each lines
		var text []byte
		for i := range ahead {
			select {
			case room <- struct{}{}:
			case <-done:
				return
			}
			var r read
			frame, err := raw(i)
			if r.err = err; err == nil {
				if text, r.err = inflate(frame, text[:0]); r.err == nil {
					r.entries, r.err = each.all(text, nil)
				}
			}
			if r.err != nil {
				r.err = &Damage{Where: where, Why: r.err.Error()}
			}
			ahead[i] <- r
		}
	}()
	from := 0
	b.entries = func(i int) ([]File, error) {
		r, ok := <-ahead[i]
		if !ok {
			return nil, errors.New("the set was closed")
		}
		<-room
		b.blocks[i].from, b.blocks[i].n = from, len(r.entries)
		from += len(r.entries)
		return r.entries, r.err
	}
	b.close = func() { close(done) }
}

// rawOf is a block's frame; nil behind the last.
func (b *Base) rawOf(i int) []byte {
	if i == len(b.blocks) {
		return nil
	}
	return b.blocks[i].raw
}

// decoders are kept: making one costs as much as reading some blocks.
var decoders = sync.Pool{New: func() any {
	d, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<30))
	return d
}}

// inflate appends what a frame holds.
func inflate(raw, out []byte) ([]byte, error) {
	d := decoders.Get().(*zstd.Decoder)
	defer decoders.Put(d)
	return d.DecodeAll(raw, out)
}

// readFrames reads the frames of a set, still compressed.
func readFrames(path string) ([][]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, noSet(path, err)
	}
	defer f.Close()
	return framesOf(f, path, false)
}

// framesOf is readFrames of an open file. ends keeps the first and the last of them alone:
// the others are nil.
func framesOf(f *os.File, path string, ends bool) ([][]byte, error) {
	r := bufio.NewReaderSize(f, 256<<10)
	var out [][]byte
	for {
		raw, err := readBlock(r)
		switch {
		case errors.Is(err, io.EOF):
			return out, nil
		case errors.Is(err, errNoMark) && len(out) == 0:
			return nil, err
		case err != nil:
			return nil, &Damage{Where: path, Why: err.Error()}
		}
		if n := len(out); ends && n > 1 {
			out[n-1] = nil
		}
		out = append(out, raw)
	}
}

// Each reads the entries of a set one after the other, a block in memory at a time.
func (l *Locker) Each(owner, id string, each func(*File)) error {
	b, err := l.Look(owner, id)
	if err != nil {
		return err
	}
	defer b.close()
	n := 0
	for i := range b.blocks {
		list, err := b.entries(i)
		if err != nil {
			return l.shownIn(err)
		}
		n += len(list)
		for k := range list {
			each(&list[k])
		}
	}
	if n != b.total {
		return &Damage{Where: owner + "/" + id, Why: fmt.Sprintf("it has %d entries, its end says %d", n, b.total)}
	}
	return nil
}

// merge goes through entries and a base side by side, both sorted by path. It
// tells, for each entry, what the base has of that path: nil where nothing.
type merge struct {
	base  *Base
	block int
	list  []File
	at    int // in list
	count int // entries passed, all blocks
	err   error
}

func (m *merge) find(path string) (old *File, position int) {
	for m.base != nil && m.err == nil {
		for m.at == len(m.list) {
			if m.block == len(m.base.blocks) {
				return nil, -1
			}
			m.list, m.err = m.base.entries(m.block)
			m.at = 0
			m.block++
			if m.err != nil {
				return nil, -1
			}
		}
		f := &m.list[m.at]
		switch {
		case f.Path < path:
			m.at++
			m.count++
		case f.Path == path:
			return f, m.count
		default:
			return nil, -1
		}
	}
	return nil, -1
}

// Unproven is how many bytes of entries, sorted by path, the base does not prove
// to be stored. It uses the base up.
func (b *Base) Unproven(list []tree.Entry) (bytes int64) {
	if b != nil {
		defer b.close()
	}
	m := merge{base: b}
	for _, e := range list {
		if old, _ := m.find(e.Path); old == nil || !e.SameIdentity(old.Entry) {
			bytes += e.Size
		}
	}
	return bytes
}

// carry gives each block of entries whose lines are exactly those of a block of
// the base that block's frame. was holds each entry's position in the base, -1
// for one that is not the same.
func carry(blocks []block, base *Base, was []int) {
	if base == nil {
		return
	}
	starts := make(map[int]*block, len(base.blocks))
	for i := range base.blocks {
		if b := &base.blocks[i]; b.raw != nil && b.n > 0 {
			starts[b.from] = b
		}
	}
	for i := range blocks {
		b := &blocks[i]
		old := starts[was[b.from]]
		if was[b.from] < 0 || old == nil || old.n != b.n {
			continue
		}
		same := true
		for k := 0; k < b.n && same; k++ {
			same = was[b.from+k] == old.from+k
		}
		if same {
			b.raw = old.raw
		}
	}
}

// same tells whether two entries make the same line.
func (f *File) same(o *File) bool {
	a, b := f.Entry, o.Entry
	a.Dev, b.Dev = 0, 0
	return a == b && f.Sum == o.Sum && f.ReadAt == o.ReadAt && f.Moving == o.Moving && f.Sparse == o.Sparse && samePieces(f.Pieces, o.Pieces) && maps.EqualFunc(f.Xattr, o.Xattr, bytes.Equal)
}

func samePieces(a, b []tree.Sum) bool {
	if len(a) != len(b) {
		return false
	}
	if len(a) > 0 && &a[0] == &b[0] {
		return true
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// decodeBlocks reads a set's blocks on every core, into a list of about so many
// entries. What was read of frames is let go of.
func decodeBlocks(frames [][]byte, s *Set, entries int) error {
	type part struct {
		list []File
		err  error
	}
	parts := make([]chan part, len(frames))
	for i := range parts {
		parts[i] = make(chan part, 1)
	}
	workers := min(runtime.GOMAXPROCS(0), 4)
	ahead := make(chan bool, 2*workers) // bounds what is read and not entered yet
	var next atomic.Int32
	for range workers {
		go func() {
			var each lines
			var text []byte
			for {
				ahead <- true
				i := int(next.Add(1)) - 1
				if i >= len(frames) {
					<-ahead
					return
				}
				var p part
				if text, p.err = inflate(frames[i], text[:0]); p.err == nil {
					p.list, p.err = each.all(text, nil)
				}
				frames[i] = nil
				parts[i] <- p
			}
		}()
	}
	var bad error
	s.Entries = make([]File, 0, min(entries, 1<<20))
	for i := range parts {
		p := <-parts[i]
		<-ahead
		if p.err != nil && bad == nil {
			bad = fmt.Errorf("block %d: %w", i+1, p.err)
		}
		s.Entries = append(s.Entries, p.list...)
	}
	return bad
}
