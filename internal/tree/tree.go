// Package tree says what files are where. It walks a folder, describes each
// entry, hashes content with BLAKE3 and matches patterns. It changes nothing
// but what Mend is told to.
//
// Paths are slash-separated and relative to the root of the walk. Symbolic
// links are described, never followed.
package tree

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"
)

// StateFolder is Fresh Keel's own folder in an install, and at the top of each
// file system that is mounted in one. No walk enters it.
const StateFolder = ".freshkeel"

// MaxName and MaxPath bound what systems at hand can have, in bytes (NAME_MAX and
// PATH_MAX of Linux; others have no more).
const (
	MaxName = 255
	MaxPath = 4095
)

// Ours tells whether a path is Fresh Keel's own state: nothing of a build, a
// backup or an archive ever stands there. Some file systems take names that
// differ in case, or in dots and blanks at the end, for the same.
func Ours(p string) bool {
	for elem := range strings.SplitSeq(p, "/") {
		if len(elem) >= len(StateFolder) && strings.EqualFold(strings.TrimRight(elem, ". "), StateFolder) {
			return true
		}
	}
	return false
}

// Kind is what an entry is.
type Kind uint8

const (
	File Kind = iota + 1
	Dir
	Link
)

var kindNames = [...]string{"", "file", "dir", "link"}

// String is the kind as our files write it; "" for none.
func (k Kind) String() string { return kindNames[k] }

// MarshalText is String.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads what String writes.
func (k *Kind) UnmarshalText(text []byte) error {
	i := slices.Index(kindNames[:], string(text))
	if i < 0 {
		return fmt.Errorf("%q is no kind of entry", text)
	}
	*k = Kind(i)
	return nil
}

// Word is the kind as a person calls it.
func (k Kind) Word() string {
	if k == Dir {
		return "folder"
	}
	return k.String()
}

// Sum is a BLAKE3-256 digest. It reads and writes as 64 hex digits.
type Sum [32]byte

func (s Sum) String() string               { return hex.EncodeToString(s[:]) }
func (s Sum) Short() string                { return s.String()[:12] }
func (s Sum) IsZero() bool                 { return s == Sum{} }
func (s Sum) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

func (s *Sum) UnmarshalText(b []byte) error {
	if len(b) != 2*len(s) {
		return fmt.Errorf("%.80q is not a BLAKE3 digest of 64 hex digits", b)
	}
	if _, err := hex.Decode(s[:], b); err != nil {
		return fmt.Errorf("%q is not a BLAKE3 digest of 64 hex digits", b)
	}
	return nil
}

// Entry describes one file, folder or link.
type Entry struct {
	Path   string      `json:"path"`
	Kind   Kind        `json:"kind"`
	Mode   fs.FileMode `json:"mode"` // permission, setuid, setgid and sticky bits alone
	UID    ID          `json:"uid"`
	GID    ID          `json:"gid"`
	Size   int64       `json:"size,omitempty"`  // bytes; files alone
	Mtime  int64       `json:"mtime,omitempty"` // nanoseconds since 1970
	Target string      `json:"target,omitempty"`

	// Identity of the file on this machine: what tells cheaply that nobody
	// has written to it since. Zero where the system has none.
	Inode uint64 `json:"inode,omitempty"`
	Ctime int64  `json:"ctime,omitempty"`
	Dev   uint64 `json:"-"`
}

const modeBits = fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky

// SameIdentity tells whether e and o are the same inode with the same size and
// times. A file renamed in between keeps all but its change time, which
// SameContentTimes leaves out.
func (e Entry) SameIdentity(o Entry) bool {
	return e.SameContentTimes(o) && e.Ctime == o.Ctime
}

// SameContentTimes is SameIdentity but for the change time, which a rename moves.
func (e Entry) SameContentTimes(o Entry) bool {
	return e.Kind == o.Kind && e.Size == o.Size && e.Mtime == o.Mtime && e.Inode == o.Inode && e.Inode != 0
}

// tick is how coarse a file system's clock may be. A file whose change time is
// this close to the moment it was read may have been written again within the
// same tick, so its times prove nothing.
const tick = int64(2 * time.Second)

// Settled tells whether e, read at readAt (nanoseconds), was last changed long
// enough before for its times to prove that the content read is still there.
func (e Entry) Settled(readAt int64) bool { return e.Ctime != 0 && e.Ctime < readAt-tick }

// Describe returns the entry for full, named path. Sockets, pipes and devices
// give ok false.
func Describe(full, path string) (e Entry, ok bool, err error) {
	fi, err := os.Lstat(full)
	if err != nil {
		return Entry{}, false, err
	}
	return describe(full, path, fi)
}

func describe(full, path string, fi fs.FileInfo) (e Entry, ok bool, err error) {
	e = Entry{Path: path, Mode: fi.Mode() & modeBits, Mtime: fi.ModTime().UnixNano(), UID: NoID, GID: NoID}
	fillIdentity(&e, fi)
	switch {
	case fi.Mode().IsRegular():
		e.Kind, e.Size = File, fi.Size()
	case fi.IsDir():
		e.Kind = Dir
	case fi.Mode()&fs.ModeSymlink != 0:
		e.Kind = Link
		if e.Target, err = os.Readlink(full); err != nil {
			return e, false, err
		}
	default:
		return e, false, nil
	}
	return e, true, nil
}

// Walk lists everything below root, but for the state folder and what skip
// matches, sorted by path. Sockets, pipes and devices are left out. Files that
// vanish while it walks are left out too, since a running server's folder moves.
func Walk(root string, skip Patterns) ([]Entry, error) { return WalkAbout(root, skip, 0) }

// WalkAbout is Walk for a caller that knows about how many entries there are: a list of
// hundreds of thousands that grows takes twice its room.
func WalkAbout(root string, skip Patterns, about int) ([]Entry, error) {
	out := make([]Entry, 0, about)
	if err := WalkEach(root, skip, func(found []Entry) { out = append(out, found...) }); err != nil {
		return nil, err
	}
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// WalkEach is Walk for a caller that keeps entries in a way of its own: it hears
// what each folder holds, in no order, never twice at a time.
func WalkEach(root string, skip Patterns, each func([]Entry)) error {
	r, err := OpenRoot(root)
	if err != nil {
		return err
	}
	defer r.Close()
	return r.WalkEach(skip, each)
}

// WalkEach is the package's, for a folder that is held open.
func (r *Root) WalkEach(skip Patterns, each func([]Entry)) error {
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	var walk func(rel string) error
	walk = func(rel string) error {
		found, err := r.list(rel, func(p string) bool {
			_, away := r.away[p]
			return !away && !Ours(p) && !skip.Match(p)
		})
		if rel == "" && err == nil {
			found, err = r.addAway(found, skip)
		}
		if (errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrLink)) && rel != "" {
			return nil // it went, or became a link, which is another thing to be described
		}
		if err != nil {
			return err
		}
		mu.Lock()
		each(found)
		mu.Unlock()
		for _, e := range found {
			if e.Kind != Dir {
				continue
			}
			if below := e.Path; !g.TryGo(func() error { return walk(below) }) { // nobody is idle
				if err := walk(below); err != nil {
					return err
				}
			}
		}
		return nil
	}
	return errors.Join(walk(""), g.Wait())
}

// addAway adds the folders that stand elsewhere to what the top of the tree holds.
func (r *Root) addAway(found []Entry, skip Patterns) ([]Entry, error) {
	for name := range r.away {
		if skip.Match(name) {
			continue
		}
		e, _, err := r.Describe(name)
		if err != nil {
			return nil, err
		}
		found = append(found, e)
	}
	return found, nil
}

// under is the path of a name in a folder of the tree.
func under(rel, name string) string {
	if rel == "" {
		return name
	}
	return rel + "/" + name
}

// Find is the entry of a sorted list with a path; nil where there is none.
func Find(list []Entry, path string) *Entry {
	i, ok := slices.BinarySearchFunc(list, path,
		func(e Entry, path string) int { return strings.Compare(e.Path, path) })
	if !ok {
		return nil
	}
	return &list[i]
}

// List is entries sorted by path, as Walk gives them: it is asked by path without
// the room that a map of as many would take.
type List []Entry

// Get is the entry with a path.
func (l List) Get(path string) (Entry, bool) {
	if e := Find(l, path); e != nil {
		return *e, true
	}
	return Entry{}, false
}

// At is Get for a caller to whom no entry is like an empty one.
func (l List) At(path string) Entry {
	e, _ := l.Get(path)
	return e
}

// Below is what lies in a folder, at any depth.
func (l List) Below(dir string) List {
	after := func(prefix string) int {
		i, _ := slices.BinarySearchFunc(l, prefix, func(e Entry, p string) int { return strings.Compare(e.Path, p) })
		return i
	}
	return l[after(dir+"/"):after(dir+"0")] // 0 is the letter behind the slash
}

// Paths are the paths of all entries.
func (l List) Paths() []string {
	out := make([]string, len(l))
	for i, e := range l {
		out[i] = e.Path
	}
	return out
}

// buffers serve SumFile: thousands of small files must not cost a large buffer
// each.
var buffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

// SumFile hashes a file's content. It holds one buffer, whatever the size.
func SumFile(path string) (Sum, error) {
	f, err := OpenRegular(path)
	if err != nil {
		return Sum{}, err
	}
	defer f.Close()
	return SumOf(f)
}

// hashers are kept: each is some kilobytes, and a large install has many files.
var hashers = sync.Pool{New: func() any { return blake3.New() }}

// SumOf is SumFile for an open file.
func SumOf(f *os.File) (Sum, error) {
	h := Hash{hashers.Get().(*blake3.Hasher)}
	defer hashers.Put(h.h)
	h.h.Reset()
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	if _, err := io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{f}, *buf); err != nil {
		return Sum{}, err
	}
	return h.Sum(), nil
}

// SumBytes hashes b.
func SumBytes(b []byte) Sum { return blake3.Sum256(b) }

// Hash is a running BLAKE3-256.
type Hash struct{ h *blake3.Hasher }

func NewHash() Hash                              { return Hash{blake3.New()} }
func (h Hash) Write(b []byte) (int, error)       { return h.h.Write(b) }
func (h Hash) Sum() (s Sum)                      { h.h.Sum(s[:0]); return s }
func (h Hash) WriteString(s string) (int, error) { return h.h.Write([]byte(s)) }

// Mend gives the thing at full the mode, owner and times of e. Owners are set
// only by root, and only where they differ: nobody else may give files away.
func Mend(full string, e Entry) error {
	if err := chown(full, e); err != nil {
		return err
	}
	if e.Kind == Link {
		return nil
	}
	if err := os.Chmod(full, e.Mode); err != nil {
		return err
	}
	if e.Mtime == 0 {
		return nil
	}
	t := time.Unix(0, e.Mtime)
	return os.Chtimes(full, t, t)
}

// SyncDir makes the entries of a folder durable.
func SyncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return syncDir(d)
}

// WriteFile replaces the file at path by b: written beside it, flushed,
// renamed over it, and the folder flushed. A crash leaves the old or the new.
func WriteFile(path string, b []byte, mode fs.FileMode) error {
	return WriteBy(path, mode, func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
}

// WriteBy is WriteFile for content that a function writes.
func WriteBy(path string, mode fs.FileMode, write func(io.Writer) error) (err error) {
	dir, name := filepath.Split(path)
	tmp, err := os.CreateTemp(dir, "."+name+".*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			tmp.Close()
			os.Remove(tmp.Name())
		}
	}()
	out := bufio.NewWriterSize(tmp, 64<<10)
	if err = write(out); err != nil {
		return err
	}
	if err = out.Flush(); err != nil {
		return err
	}
	if err = tmp.Chmod(mode); err != nil {
		return err
	}
	if err = tmp.Sync(); err != nil {
		return err
	}
	if err = tmp.Close(); err != nil {
		return err
	}
	if err = Rename(tmp.Name(), path); err != nil {
		return err
	}
	return SyncDir(filepath.Clean(dir))
}

// Inside tells whether path, made absolute and clean, lies in root.
func Inside(root, path string) bool {
	rel, err := filepath.Rel(root, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// Rel is a full path as the path of a tree that it lies in, with slashes; "" where it
// lies outside.
func Rel(root, full string) string {
	for name, folder := range Grafted(root) {
		if full != "" && Inside(folder, full) {
			r, _ := filepath.Rel(folder, full)
			return strings.TrimSuffix(name+"/"+filepath.ToSlash(r), "/.")
		}
	}
	if full == "" || !Inside(root, full) {
		return ""
	}
	r, _ := filepath.Rel(root, full)
	return filepath.ToSlash(r)
}

// OpenSized opens a regular file for reading, and tells its size. done closes it.
func OpenSized(full string) (r io.ReaderAt, size int64, done func(), err error) {
	return Sized(OpenRegular(full))
}

// Sized is OpenSized for what was opened.
func Sized(f *os.File, err error) (io.ReaderAt, int64, func(), error) {
	if err != nil {
		return nil, 0, nil, err
	}
	fi, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, 0, nil, err
	}
	return f, fi.Size(), func() { f.Close() }, nil
}

// Head is the first bytes of a regular file; nil where it can't be read.
func Head(full string) []byte {
	f, err := OpenRegular(full)
	if err != nil {
		return nil
	}
	defer f.Close()
	b := make([]byte, 200)
	n, _ := io.ReadFull(f, b)
	return b[:n]
}
