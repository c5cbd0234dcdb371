// Package unpack opens archives that nobody has reason to trust: each name is
// checked before anything is done with it, expansion is bounded while it
// happens, and an archive that would do what no build needs to do is refused
// whole. Entries are streamed; none is held in memory.
package unpack

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/bzip2"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/tree"

	"github.com/bodgit/sevenzip"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
	"github.com/nwaples/rardecode/v2"
	"github.com/therootcompany/xz"
)

// Item is one entry of an opened build. Paths are slash-separated, relative,
// clean. Body is nil for folders and links.
type Item struct {
	Path   string
	Mode   fs.FileMode // permission bits, and ModeDir or ModeSymlink
	Mtime  time.Time
	Target string
	Body   io.Reader
}

// Hostile is an archive that would do something no build needs to do. The
// whole archive is refused.
type Hostile struct {
	Archive, Entry, Why string
}

func (h *Hostile) Error() string {
	return fmt.Sprintf("open %s: entry %q %s; the archive is refused whole", h.Archive, h.Entry, h.Why)
}

// These bound an archive's content: more is refused as an expansion bomb.
const (
	maxItems    = 2_000_000
	maxTotal    = 512 << 30 // bytes
	maxFactor   = 200       // content over archive, once the content is large; deflate's own limit is 1032
	large       = 64 << 20  // bytes
	maxWindow   = 64 << 20  // bytes that a decompressor may look back, of archives here
	maxNesting  = 3         // archives inside archives
	maxRemovals = 8 << 20   // bytes of a list of removals
)

// Contents is what was found besides the items.
type Contents struct {
	LeftOut  []string // what Take and Leave kept out
	links    map[string]string
	Removals tree.Patterns // what the archive says the earlier parts' files to remove are
}

// Unpacked walks the items of a verified part. Each name is checked before each
// is called; the caller must use Body before it returns. For a zip each is
// called by several goroutines at a time; for the rest in the archive's order.
// Any error of each ends the walk. Archives inside are kept in dir meanwhile.
func Unpacked(ctx context.Context, v *fetch.Verified, u Rule, dir string, each func(Item) error) (*Contents, error) {
	f, err := os.Open(v.Path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	o := &opener{ctx: ctx, name: v.Name, rule: u, dir: dir, each: each, names: Names{}, meter: &meter{size: v.Size},
		out: &Contents{Removals: slices.Clone(u.Remove)}}
	if o.name == "" {
		o.name = fetch.NameOf(v.URL)
	}
	if err := o.open(f, v.Size, u.As); err != nil {
		return nil, err
	}
	return o.out, o.linksStay()
}

// Decompressed reads a file that may be compressed, as its beginning says.
func Decompressed(f io.Reader) (io.Reader, func(), error) {
	b := bufio.NewReaderSize(f, 64<<10)
	head, _ := b.Peek(8)
	if how := compression(head); how != "" {
		return decompress(how, b)
	}
	return b, func() {}, nil
}

// Kind tells by its content how a file is to be opened: one of Kinds. A jar is
// a zip that is used as it is, so it is a file.
func Kind(f io.ReaderAt, size int64) (string, error) {
	head := make([]byte, 512)
	n, err := f.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	head = head[:n]
	if packed := compression(head); packed != "" {
		return "tar." + packed, nil // or a single file: seen when it is opened
	}
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		if z, err := zip.NewReader(f, size); err == nil {
			for _, e := range z.File {
				if e.Name == "META-INF/MANIFEST.MF" {
					return "file", nil
				}
			}
		}
		return "zip", nil
	case bytes.HasPrefix(head, []byte("7z\xbc\xaf\x27\x1c")):
		return "7z", nil
	case bytes.HasPrefix(head, []byte("Rar!\x1a\x07")):
		return "rar", nil
	case isTar(head):
		return "tar", nil
	case isProgram(head):
		if kind, _ := behindStub(f, size); kind != "" {
			return kind, nil
		}
	}
	return "file", nil
}

func isTar(head []byte) bool { return len(head) > 262 && bytes.Equal(head[257:262], []byte("ustar")) }

// compression names the compressed stream that begins with head.
func compression(head []byte) string {
	for name, magic := range map[string]string{"gz": "\x1f\x8b\x08", "xz": "\xfd7zXZ\x00", "zst": "\x28\xb5\x2f\xfd",
		"bz2": "BZh"} {
		if bytes.HasPrefix(head, []byte(magic)) {
			return name
		}
	}
	return ""
}

func decompress(how string, r io.Reader) (io.Reader, func(), error) {
	switch how {
	case "gz":
		z, err := gzip.NewReader(r)
		return z, func() {}, err
	case "xz":
		z, err := xz.NewReader(r, maxWindow)
		return z, func() {}, err
	case "zst":
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	}
	return bzip2.NewReader(r), func() {}, nil
}

// opener opens one archive.
type opener struct {
	ctx   context.Context
	name  string
	rule  Rule
	dir   string
	depth int
	under string // where an archive inside another lies
	entry string // of a stream that is read in order: where it is
	each  func(Item) error
	meter *meter

	mu     sync.Mutex
	names  Names
	links  map[string]bool
	inside []spooled
	out    *Contents
}

// spooled is an archive inside the archive, set aside to be opened after it.
type spooled struct{ path, at string }

func (o *opener) bad(entry, why string) error { return &Hostile{o.name, entry, why} }

func (o *opener) wrap(entry string, err error) error {
	var (
		h     *Hostile
		seven *sevenzip.ReadError
	)
	switch {
	case errors.As(err, &h):
		return err
	case errors.As(err, &seven) && seven.Encrypted:
		return fmt.Errorf("open %s: it is encrypted, and asks for a password", o.name)
	case errors.Is(err, rardecode.ErrArchivedFileEncrypted), errors.Is(err, rardecode.ErrArchiveEncrypted),
		strings.Contains(err.Error(), "password"):
		return fmt.Errorf("open %s: it is encrypted, and asks for a password", o.name)
	case entry == "":
		return fmt.Errorf("open %s: %w", o.name, err)
	}
	return fmt.Errorf("open %s: %s: %w", o.name, entry, err)
}

func (o *opener) open(f *os.File, size int64, as string) (err error) {
	sniffed := as == ""
	if sniffed {
		if as, err = Kind(f, size); err != nil {
			return err
		}
	}
	defer func() {
		for _, s := range o.inside {
			os.Remove(s.path)
		}
	}()
	how, packed := strings.CutPrefix(as, "tar.")
	switch {
	case as == "zip":
		err = o.zip(f, size)
	case as == "7z":
		from := behind(f, size)
		err = o.sevenZip(io.NewSectionReader(f, from, size-from), size-from)
	case as == "rar":
		from := behind(f, size)
		err = o.rar(o.watched(io.NewSectionReader(f, from, size-from)))
	case as == "tar":
		err = o.tar(o.watched(f))
	case packed:
		err = o.packed(f, how, sniffed)
	default:
		err = o.single(f, o.name, time.Time{})
	}
	if err != nil {
		return err
	}
	return o.openInside()
}

// packed opens a compressed tar, or a single compressed file.
func (o *opener) packed(f io.Reader, how string, sniffed bool) error {
	z, done, err := decompress(how, bufio.NewReaderSize(f, 256<<10))
	if err != nil {
		return o.wrap("", err)
	}
	defer done()
	b := bufio.NewReaderSize(o.watched(z), 64<<10)
	if head, _ := b.Peek(512); sniffed && !isTar(head) {
		name := strings.TrimSuffix(o.name, "."+how)
		return o.single(b, name, time.Time{})
	}
	return o.tar(b)
}

// single is one file that is the whole of it.
func (o *opener) single(r io.Reader, name string, at time.Time) error {
	if o.rule.Name != "" {
		name = o.rule.Name
	}
	if _, whole := r.(*os.File); whole {
		o.meter = &meter{} // nothing expands
	}
	body, mode := sniffMode(r)
	return o.item(Item{Path: name, Mode: mode, Mtime: at, Body: body})
}

// item checks one entry, gives it its name in the build, and hands it on.
func (o *opener) item(it Item) error {
	clean, err := o.admit(it.Path, it.Mode)
	if err != nil || clean == "" {
		return err
	}
	return o.put(it, clean)
}

// put is item for an entry whose name was admitted.
func (o *opener) put(it Item, clean string) error {
	raw := it.Path
	if it.Mode&fs.ModeSymlink != 0 {
		to := path.Join(path.Dir(clean), it.Target)
		if path.IsAbs(it.Target) || it.Target == "" || strings.Contains(it.Target, `\`) || to == ".." ||
			strings.HasPrefix(to, "../") {
			return o.bad(raw, fmt.Sprintf("is a link that leads out, to %q", it.Target))
		}
	}
	if it.Body != nil {
		it.Body = &metered{r: it.Body, o: o, entry: raw, meter: o.meter}
	}
	rel := path.Join(o.under, clean)
	if it.Body != nil {
		o.rule.Used.See(rel)
	}
	elems := strings.Split(rel, "/")
	if len(elems) <= o.rule.Strip {
		return nil
	}
	at := strings.Join(elems[o.rule.Strip:], "/")
	switch {
	case it.Body != nil && at == o.rule.Removals:
		return o.readRemovals(it.Body)
	case it.Body != nil && o.rule.Inside.Match(at):
		return o.spool(rel, it.Body)
	}
	it.Path = o.rule.Path(rel)
	if it.Path != "" && it.Mode&fs.ModeSymlink != 0 {
		o.mu.Lock()
		if o.out.links == nil {
			o.out.links = map[string]string{}
		}
		o.out.links[it.Path] = it.Target
		o.mu.Unlock()
	}
	if it.Path == "" {
		if !it.Mode.IsDir() {
			o.mu.Lock()
			o.out.LeftOut = append(o.out.LeftOut, at)
			o.mu.Unlock()
		}
		return nil
	}
	if it.Mode.IsDir() && o.rule.narrows() {
		return nil // folders that files need are made for them
	}
	// Nothing that a build brings is writable for everybody, or runs with
	// another's rights.
	it.Mode &^= 0o022 | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky
	return o.each(it)
}

// linksStay refuses links that lead out by way of each other, or from where the
// rule has laid them: each alone may look as if it stayed.
func (o *opener) linksStay() error {
	for _, at := range slices.Sorted(maps.Keys(o.out.links)) {
		if !staysInside(o.out.links, at) {
			return o.bad(at, fmt.Sprintf("is a link that leads out, to %q", o.out.links[at]))
		}
	}
	return nil
}

// mostLinks is how many links are followed one after the other before they are
// taken for a ring; systems follow 40.
const mostLinks = 40

// staysInside follows a link as a system would, part by part, through the other
// links. A ring leads nowhere, and so not out.
func staysInside(links map[string]string, link string) bool {
	var at []string
	todo := strings.Split(link, "/")
	for followed := 0; len(todo) > 0; {
		elem := todo[0]
		todo = todo[1:]
		switch elem {
		case "", ".":
			continue
		case "..":
			if len(at) == 0 {
				return false
			}
			at = at[:len(at)-1]
			continue
		}
		at = append(at, elem)
		to, ok := links[strings.Join(at, "/")]
		if !ok {
			continue
		}
		if followed++; followed > mostLinks {
			return true
		}
		if path.IsAbs(to) {
			return false
		}
		at = at[:len(at)-1]
		todo = append(strings.Split(to, "/"), todo...)
	}
	return true
}

// admit checks an entry's name against all that came before, and returns it
// clean; "" for the archive's own folder.
func (o *opener) admit(raw string, mode fs.FileMode) (string, error) {
	clean := strings.TrimPrefix(strings.TrimSuffix(raw, "/"), "./")
	if clean == "" || clean == "." {
		return "", nil
	}
	if strings.Count(clean, "/") > MostDeep { // before what is done for each
		return "", o.bad(raw[:min(len(raw), 200)], fmt.Sprintf("is more than %d folders deep", MostDeep))
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for dir := path.Dir(clean); dir != "." && dir != "/"; dir = path.Dir(dir) {
		if o.links[dir] {
			return "", o.bad(raw, "lies behind a link of the same archive")
		}
	}
	if err := o.names.add(clean, mode.IsDir()); err != nil {
		return "", o.bad(raw, err.Error())
	}
	if mode&fs.ModeSymlink != 0 {
		if o.links == nil {
			o.links = map[string]bool{}
		}
		o.links[clean] = true
	}
	if len(o.names) > maxItems {
		return "", o.bad(raw, fmt.Sprintf("is one of more than %d", maxItems))
	}
	return clean, nil
}

// readRemovals reads the list of files that an increment removes.
func (o *opener) readRemovals(r io.Reader) error {
	b, err := io.ReadAll(io.LimitReader(r, maxRemovals+1))
	if err != nil {
		return err
	}
	if len(b) > maxRemovals {
		return fmt.Errorf("open %s: its list of removals is larger than %d MiB", o.name, maxRemovals>>20)
	}
	for _, line := range strings.Split(string(b), "\n") {
		line = strings.TrimSuffix(strings.TrimSpace(line), "/")
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if err := (tree.Patterns{line}).Check(); err != nil || strings.HasPrefix(line, "..") {
			return o.bad(o.rule.Removals, fmt.Sprintf("removes %q, which is no path of the build", line))
		}
		o.mu.Lock()
		o.out.Removals = append(o.out.Removals, line)
		o.mu.Unlock()
	}
	return nil
}

// spool sets an archive inside the archive aside.
func (o *opener) spool(at string, r io.Reader) error {
	if o.depth == maxNesting {
		return o.bad(at, fmt.Sprintf("is an archive inside %d others", maxNesting))
	}
	f, err := os.CreateTemp(o.dir, "inside-*.part")
	if err != nil {
		return err
	}
	o.mu.Lock()
	o.inside = append(o.inside, spooled{f.Name(), at})
	o.mu.Unlock()
	_, err = io.Copy(f, r)
	return errors.Join(err, f.Close())
}

// openInside opens what was set aside, in the order of the names: what a later
// one brings lies over an earlier one's, and over the outer archive's own.
func (o *opener) openInside() error {
	slices.SortFunc(o.inside, func(a, b spooled) int { return strings.Compare(a.at, b.at) })
	for _, s := range o.inside {
		f, err := os.Open(s.path)
		if err != nil {
			return err
		}
		fi, err := f.Stat()
		if err == nil {
			in := &opener{ctx: o.ctx, name: o.name + " › " + path.Base(s.at), rule: o.rule, dir: o.dir,
				depth: o.depth + 1, under: path.Dir(s.at),
				each: o.each, meter: o.meter, names: Names{}, out: o.out}
			in.rule.Name = ""
			err = in.open(f, fi.Size(), "")
		}
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// meter counts what an archive expands to, inner ones and all.
type meter struct {
	size  int64 // of the outermost archive; 0: expansion is not judged
	total atomic.Int64
}

// metered ends an archive that expands absurdly while it expands, whatever
// its headers claim.
type metered struct {
	r     io.Reader
	o     *opener
	entry string // "": whichever the opener is at
	meter *meter
	ended error // why nothing more is read
}

// watched is a stream that is read whether or not its entries are asked for: it
// has a meter of its own, and hears when the command is to end.
func (o *opener) watched(r io.Reader) io.Reader {
	return &metered{r: r, o: o, meter: &meter{size: o.meter.size}}
}

func (m *metered) Read(b []byte) (int, error) {
	if m.ended != nil {
		return 0, m.ended
	}
	n, err := m.r.Read(b)
	t, size := m.meter.total.Add(int64(n)), m.meter.size
	switch {
	case m.o.ctx.Err() != nil:
		err = m.o.ctx.Err()
	case size > 0 && (t > maxTotal || (t > large && t/maxFactor > size)):
		err = m.o.bad(cmp.Or(m.entry, m.o.entry, "(its beginning)"),
			fmt.Sprintf("brings the content to %d bytes from an archive of %d", t, size))
	case errors.Is(err, io.ErrUnexpectedEOF):
		// Readers of whole blocks take this error for a short last block.
		err = errCutShort
	case err == nil || errors.Is(err, io.EOF):
		return n, err
	}
	// A reader that filled its buffer drops the error that came with it, so it
	// comes alone, and again at every later read.
	m.ended = err
	return 0, err
}

// errCutShort says that an entry has less content than the archive states.
var errCutShort = errors.New("it is damaged: its content ends too early")
