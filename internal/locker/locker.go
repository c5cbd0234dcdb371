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
//	gate                 a lock: shared by writers, held alone while space is given back
//
// A pack is flushed before its index appears, and every pack before the set
// that names its pieces. So a crash leaves at most a .part file, or a pack
// without a set: harmless, and the first is swept by the next writer. A reader
// takes no lock. Every piece is hashed again when it is read.
//
// Below it stand rooms of its own: frame writes and reads zstd frames, cut finds where a
// file is cut into pieces, index finds pieces, set is a stored tree and its file. Room
// mirror, above it, is a copy of sets in another place.
package locker

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"freshkeel/internal/locker/frame"
	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"

	"github.com/klauspost/compress/zstd"
)

// Locker is one store on this machine. It is safe for concurrent use, and
// several processes may have the same one open.
type Locker struct {
	dir string

	mu     sync.RWMutex
	packs  []string        // paths; place.pack indexes it
	known  map[string]bool // packs whose index was read
	index  index.Table     // every durable one
	damage []*set.Damage   // of indexes
	dec    sync.Pool       // *zstd.Decoder
	loaded bool            // the indexes were read
	spoilt map[string]bool // lines of damagedFile: pieces that count as not stored
	files  Files
	others bool // others write to it: it is read alone, and what its sets say is held to their folder
}

// Open opens the locker in dir, making it where there is none. It is for its
// owner's eyes alone, since backups hold what the server's folder holds.
func Open(dir string) (*Locker, error) {
	for _, d := range []string{"packs", "sets"} {
		if err := os.MkdirAll(filepath.Join(dir, d), 0o700); err != nil {
			return nil, fmt.Errorf("open the locker: %w", err)
		}
	}
	return newLocker(dir, folder{dir}), nil
}

// OpenCopy opens a copy of backups for reading, as a locker to which nothing may be
// written: dir is a folder for files that come from it.
func OpenCopy(dir string, files Files) (*Locker, error) {
	l, err := Open(dir)
	if err == nil {
		l.files, l.others = files, true
	}
	return l, err
}

func newLocker(dir string, files Files) *Locker {
	l := &Locker{dir: dir, files: files, known: map[string]bool{}}
	l.dec.New = func() any {
		d, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4*frame.Max))
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
	l = newLocker(dir, folder{dir})
	l.others = true
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
	l.spoilt = readDamage(l.dir)
	var todo []string
	lines := 0
	for _, d := range list {
		name, ok := strings.CutSuffix(d.Name(), ".idx")
		if !ok || strings.HasPrefix(name, ".") || l.known[name] {
			continue
		}
		todo = append(todo, name)
		if fi, err := d.Info(); err == nil {
			lines += int(fi.Size() / index.LineLength)
		}
	}
	l.index.Grow(lines)
	// They are parsed beside each other, and entered one after the other.
	read := make([]chan *index.Index, len(todo))
	for i := range read {
		read[i] = make(chan *index.Index, 1)
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
				read[i] <- index.Read(filepath.Join(l.dir, "packs", todo[i]+".idx"))
			}
		}()
	}
	for i, name := range todo {
		x := <-read[i]
		<-ahead
		if errors.Is(x.Err, fs.ErrNotExist) { // its space is being given back
			continue
		}
		if x.Err != nil {
			err = x.Err
			continue
		}
		// A damaged line loses its piece and nothing else: every other one is
		// still found, and checked by its hash when it is read.
		if l.enter(name, x); x.Bad != nil {
			l.damage = append(l.damage, &set.Damage{Where: l.files.Shown(filepath.Join(l.dir, "packs", name+".idx")),
				Why: x.Bad.Error()})
		}
	}
	return err
}

// enter makes a pack's pieces known; called with the lock held.
func (l *Locker) enter(name string, x *index.Index) {
	l.packs, l.known[name] = append(l.packs, filepath.Join(l.dir, "packs", name+".zst")), true
	if len(l.spoilt) > 0 {
		x.Lines = slices.DeleteFunc(x.Lines,
			func(ln index.Held) bool { return l.spoilt[fmt.Sprintf("%s %s %d", ln.Sum, name, ln.Off)] })
	}
	l.index.Add(x)
}

// shown says in an error where people find what is damaged.
func (l *Locker) shown(err error) error {
	if d := (*set.Damage)(nil); errors.As(err, &d) {
		d.Where = l.files.Shown(d.Where)
	}
	return err
}

// Find tells where a piece lies.
func (l *Locker) Find(s tree.Sum) (index.Place, bool) {
	in, _, ok := l.seek(s)
	return in.Place, ok
}

// seek is find with all that the index says of the piece.
func (l *Locker) seek(s tree.Sum) (in index.Found, pack string, ok bool) {
	l.mu.RLock()
	loaded := l.loaded
	l.mu.RUnlock()
	if !loaded { // a folder that can't be listed is told by the first piece that is missed
		if err := l.refresh(); err != nil {
			l.mu.Lock()
			l.loaded = true
			l.damage = append(l.damage, &set.Damage{Where: filepath.Join(l.dir, "packs"), Why: err.Error()})
			l.mu.Unlock()
		}
	}
	l.mu.RLock()
	defer l.mu.RUnlock()
	in.Sum = s
	if in.Place, in.Base, ok = l.index.Find(s); !ok {
		return in, "", false
	}
	in.Prints = l.index.PrintsOf(s)
	return in, l.packs[in.Pack], true
}

// depth is how many pieces one that is stored over base would lie over; 0 where they
// would be too many, or one of them is not there.
func (l *Locker) depth(base tree.Sum) int {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return l.index.Depth(base, 1)
}

// Chain hears of a piece and then of those that it lies over, each over the next.
func (l *Locker) Chain(s tree.Sum, each func(tree.Sum)) {
	l.Find(s) // so that the indexes are read
	all := make([]tree.Sum, 0, index.MaxOver+1)
	l.mu.RLock()
	l.index.Chain(s, func(s tree.Sum, _ index.Place, _ bool) { all = append(all, s) })
	l.mu.RUnlock() // who is called may ask for more
	for _, s := range all {
		each(s)
	}
}
