package feed

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zip"
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

// Bounds of what an archive may hold: more is refused as an expansion bomb.
const (
	maxItems  = 2_000_000
	maxTotal  = 512 << 30 // bytes
	maxFactor = 200       // content over archive, once the content is large; deflate's own limit is 1032
	large     = 64 << 20  // bytes
)

// Kind tells how the file at path is to be opened: "zip", "tar.gz", "tar" or
// "file". A jar is a zip that is used as it is, so it is a file.
func Kind(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return "", err
	}
	head = head[:n]
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		if z, err := zip.OpenReader(file); err == nil {
			defer z.Close()
			for _, e := range z.File {
				if e.Name == "META-INF/MANIFEST.MF" {
					return "file", nil
				}
			}
		}
		return "zip", nil
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return "tar.gz", nil
	case n > 262 && bytes.Equal(head[257:262], []byte("ustar")):
		return "tar", nil
	}
	return "file", nil
}

// Unpacked walks the items of a verified part in the archive's order. Each
// name is checked before each is called; the caller must use Body before it
// returns. Any error of each ends the walk.
func Unpacked(v *Verified, u Unpack, each func(Item) error) error {
	as := u.As
	if as == "" {
		var err error
		if as, err = Kind(v.Path); err != nil {
			return err
		}
	}
	o := &opener{name: NameOf(v.URL), rule: u, size: v.Size, each: each, seen: map[string]string{}}
	f, err := os.Open(v.Path)
	if err != nil {
		return err
	}
	defer f.Close()
	switch as {
	case "zip":
		return o.zip(f, v.Size)
	case "tar":
		return o.tar(f)
	case "tar.gz":
		z, err := gzip.NewReader(f)
		if err != nil {
			return fmt.Errorf("open %s: %w", o.name, err)
		}
		defer z.Close()
		return o.tar(z)
	}
	name := u.Name
	if name == "" {
		name = o.name
	}
	o.size = 0
	return o.item(Item{Path: name, Mode: sniffMode(f, 0o644), Body: f})
}

type opener struct {
	name  string
	rule  Unpack
	size  int64 // of the archive; 0: expansion is not judged
	total int64
	each  func(Item) error
	seen  map[string]string // folded path → path as written
	links map[string]bool
}

func (o *opener) bad(entry, why string) error { return &Hostile{o.name, entry, why} }

// item checks one entry and hands it on.
func (o *opener) item(it Item) error {
	raw := it.Path
	if strings.Contains(raw, `\`) {
		return o.bad(raw, "has a backslash in its name")
	}
	clean := strings.TrimSuffix(raw, "/")
	clean = strings.TrimPrefix(clean, "./")
	if clean == "" || clean == "." {
		return nil
	}
	if !cleanName(clean) {
		return o.bad(raw, "leads out of the archive's folder")
	}
	elems := strings.Split(clean, "/")
	if len(elems) <= o.rule.Strip {
		return nil
	}
	it.Path = path.Join(o.rule.Into, path.Join(elems[o.rule.Strip:]...))
	fold := strings.ToLower(it.Path)
	isDir := it.Mode.IsDir()
	if old, ok := o.seen[fold]; ok && (old != it.Path || !isDir) {
		return o.bad(raw, fmt.Sprintf("has the same name as %q", old))
	}
	o.seen[fold] = it.Path
	for dir := path.Dir(it.Path); dir != "."; dir = path.Dir(dir) {
		if o.links[dir] {
			return o.bad(raw, "lies behind a link of the same archive")
		}
	}
	if it.Mode&fs.ModeSymlink != 0 {
		to := path.Join(path.Dir(it.Path), it.Target)
		if path.IsAbs(it.Target) || it.Target == "" || strings.Contains(it.Target, `\`) || to == ".." || strings.HasPrefix(to, "../") {
			return o.bad(raw, fmt.Sprintf("is a link that leads out, to %q", it.Target))
		}
		if o.links == nil {
			o.links = map[string]bool{}
		}
		o.links[it.Path] = true
	}
	if len(o.seen) > maxItems {
		return o.bad(raw, fmt.Sprintf("is one of more than %d", maxItems))
	}
	if it.Body != nil {
		it.Body = &metered{r: it.Body, o: o, entry: raw}
	}
	// Nothing that a build brings is writable for everybody, or runs with
	// another's rights.
	it.Mode &^= 0o022 | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky
	return o.each(it)
}

// metered ends an archive that expands absurdly while it expands, whatever
// its headers claim.
type metered struct {
	r     io.Reader
	o     *opener
	entry string
}

func (m *metered) Read(b []byte) (int, error) {
	n, err := m.r.Read(b)
	m.o.total += int64(n)
	if t := m.o.total; m.o.size > 0 && (t > maxTotal || (t > large && t/maxFactor > m.o.size)) {
		return n, m.o.bad(m.entry, fmt.Sprintf("brings the content to %d bytes from an archive of %d", t, m.o.size))
	}
	return n, err
}

func (o *opener) zip(f *os.File, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return fmt.Errorf("open %s: %w", o.name, err)
	}
	for _, e := range z.File {
		it := Item{Path: e.Name, Mode: e.Mode() & (fs.ModePerm | fs.ModeType), Mtime: e.Modified}
		switch {
		case strings.HasSuffix(e.Name, "/"):
			it.Mode = fs.ModeDir | 0o755
		case it.Mode&fs.ModeSymlink != 0:
			r, err := e.Open()
			if err != nil {
				return fmt.Errorf("open %s: %s: %w", o.name, e.Name, err)
			}
			b, err := io.ReadAll(io.LimitReader(r, 4096))
			r.Close()
			if err != nil {
				return fmt.Errorf("open %s: %s: %w", o.name, e.Name, err)
			}
			it.Target = string(b)
		case it.Mode&fs.ModeType != 0:
			return o.bad(e.Name, "is neither file, folder nor link")
		}
		if it.Mode.IsDir() || it.Target != "" {
			if err := o.item(it); err != nil {
				return err
			}
			continue
		}
		r, err := e.Open()
		if err != nil {
			return fmt.Errorf("open %s: %s: %w", o.name, e.Name, err)
		}
		// Made where files have no modes: what runs is told by its content.
		if creator := e.CreatorVersion >> 8; creator != 3 && creator != 19 || it.Mode.Perm() == 0 {
			var head bytes.Buffer
			it.Mode = sniffMode(io.TeeReader(io.LimitReader(r, 4), &head), 0o644)
			it.Body = io.MultiReader(&head, r)
		} else {
			it.Body = r
		}
		err = o.item(it)
		r.Close()
		if err != nil {
			return wrapArchive(o.name, e.Name, err)
		}
	}
	return nil
}

func (o *opener) tar(r io.Reader) error {
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			// The rest is read so that a stream cut within its trailer is noticed.
			if _, err := io.Copy(io.Discard, io.LimitReader(r, 1<<20)); err != nil {
				return fmt.Errorf("open %s: %w", o.name, err)
			}
			return nil
		}
		if err != nil {
			return fmt.Errorf("open %s: %w", o.name, err)
		}
		it := Item{Path: h.Name, Mode: fs.FileMode(h.Mode) & fs.ModePerm, Mtime: h.ModTime}
		switch h.Typeflag {
		case tar.TypeReg:
			it.Body = t
		case tar.TypeDir:
			it.Mode |= fs.ModeDir
		case tar.TypeSymlink:
			it.Mode |= fs.ModeSymlink
			it.Target = h.Linkname
		case tar.TypeXGlobalHeader:
			continue
		default:
			return o.bad(h.Name, "is neither file, folder nor symbolic link")
		}
		if err := o.item(it); err != nil {
			return wrapArchive(o.name, h.Name, err)
		}
	}
}

func wrapArchive(archive, entry string, err error) error {
	var h *Hostile
	if errors.As(err, &h) {
		return err
	}
	return fmt.Errorf("open %s: %s: %w", archive, entry, err)
}

// sniffMode adds the execute bits when r begins like a program or a script,
// and puts a file back to its start.
func sniffMode(r io.Reader, mode fs.FileMode) fs.FileMode {
	head := make([]byte, 4)
	n, _ := io.ReadFull(r, head)
	if s, ok := r.(io.Seeker); ok {
		s.Seek(0, io.SeekStart)
	}
	head = head[:n]
	if bytes.HasPrefix(head, []byte("#!")) || bytes.Equal(head, []byte("\x7fELF")) {
		mode |= 0o111
	}
	return mode
}

// cleanName tells whether p is a relative slash path that stays where it is.
func cleanName(p string) bool {
	return fs.ValidPath(p) && p != "." && !strings.ContainsAny(p, "\x00") && !(len(p) > 1 && p[1] == ':')
}
