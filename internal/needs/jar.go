package needs

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zip"
)

// Jar is what a jar needs.
type Jar struct {
	MainClass string
	Entry     string // the class file that needs the most: the main class, before ScanJar
	Major     int
	Release   int
	Preview   bool     // it is a preview class file: exactly this release will do
	Version   string   // Implementation-Version of the manifest, "" when none
	ClassPath []string // what its manifest names beside it
	Agent     string   // Launcher-Agent-Class

	Classes  int    // that ScanJar looked at
	Optional []Seen // classes that need more than the rest, and that nothing of the main path's own is
	Lacks    string // a class that the manifest names and the jar does not hold
	Read     int64  // bytes of the jar that were read
}

// Seen is a class file that needs more than another.
type Seen struct {
	Entry string
	Major int
	n     int
}

// previewMinor is the minor version of a class file that uses what its release
// has only for trial (The Java Virtual Machine Specification, section 4.1): a
// runtime of that release alone reads it, and only when told to.
const previewMinor = 0xFFFF

// ErrNoMain says that a jar's manifest names no main class.
var ErrNoMain = errors.New("its manifest names no Main-Class")

// manifestVersion is the version that a manifest says: of those that it may say, the first that reads like one.
func manifestVersion(main map[string]string) string {
	for _, key := range []string{"Implementation-Version", "Bundle-Version", "Specification-Version"} {
		if numbered.MatchString(main[key]) {
			return main[key]
		}
	}
	return main["Implementation-Version"]
}

// numbered is how a version begins that counts.
var numbered = regexp.MustCompile(`^[vV]?\d+(\.\d|$)`)

// ReadJar reads a jar's manifest and the head of its main class. It reads the
// zip's directory and these two entries, no more.
func ReadJar(r io.ReaderAt, size int64) (*Jar, error) { return readJar(r, size, "") }

// readJar is ReadJar for a main class that the launch line names; "": the manifest's.
func readJar(r io.ReaderAt, size int64, named string) (*Jar, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("it is not a jar: %w", err)
	}
	j := &Jar{}
	for _, f := range z.File {
		if f.Name != "META-INF/MANIFEST.MF" {
			continue
		}
		main, err := readManifest(f)
		if err != nil {
			return nil, err
		}
		j.MainClass, j.Version = main["Main-Class"], manifestVersion(main)
		j.Agent = main["Launcher-Agent-Class"]
		if names := strings.Fields(main["Class-Path"]); len(names) > 0 {
			j.ClassPath = names
		}
	}
	from := "its manifest names"
	if named != "" {
		j.MainClass, j.Agent, from = named, "", "the launch line names"
	}
	if j.MainClass == "" {
		return j, ErrNoMain
	}
	j.Entry = strings.ReplaceAll(j.MainClass, ".", "/") + ".class"
	for _, f := range z.File {
		if f.Name != j.Entry {
			continue
		}
		rc, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", j.Entry, err)
		}
		defer rc.Close()
		minor := 0
		if j.Major, minor, err = ClassVersion(rc); err != nil {
			return nil, fmt.Errorf("%s: %w", j.Entry, err)
		}
		j.Release, j.Preview = Release(j.Major), minor == previewMinor
		return j, nil
	}
	return j, fmt.Errorf("%s the main class %s, and it holds no %s", from, j.MainClass, j.Entry)
}

// Holds tells whether a jar holds an entry.
func Holds(r io.ReaderAt, size int64, entry string) bool {
	z, err := zip.NewReader(r, size)
	return err == nil && slices.ContainsFunc(z.File, func(f *zip.File) bool { return f.Name == entry })
}

// readManifest reads the main section of a jar manifest (JAR File
// Specification, "Name-Value pairs and Sections"): a line that begins with a
// space goes on from the one before.
func readManifest(f *zip.File) (map[string]string, error) {
	rc, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name, err)
	}
	defer rc.Close()
	b, err := io.ReadAll(io.LimitReader(rc, 1<<20))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name, err)
	}
	out, last := map[string]string{}, ""
	for s := bufio.NewScanner(bytes.NewReader(b)); s.Scan(); {
		line := s.Text()
		if line == "" && len(out) > 0 {
			break
		}
		if rest, ok := strings.CutPrefix(line, " "); ok {
			out[last] += rest
		} else if k, v, ok := strings.Cut(line, ":"); ok {
			last = k
			out[k] = strings.TrimSpace(v)
		}
	}
	return out, nil
}

// maxInner bounds a compressed jar inside the jar, which has to be held in
// memory to be looked into, in bytes.
const maxInner = 32 << 20

// counted counts what is read.
type counted struct {
	r io.ReaderAt
	n int64
}

func (c *counted) ReadAt(b []byte, off int64) (int, error) {
	n, err := c.r.ReadAt(b, off)
	c.n += int64(n)
	return n, err
}

// ScanMain is ReadJar, and a look at the head of every class, also of jars
// inside the jar: a launcher's main class is often made for an old runtime, so
// that it can say that the runtime is too old, and the rest is not. main is the class
// that a command runs of it; "" is the one that the manifest names.
//
// The highest version that the main path needs counts: that of the main
// class, of the classes in its own package's tree, and of any version that at
// least one class in fifty has. A few classes of a higher one are for those who
// have the runtime for them; they are listed as Optional. Classes below
// META-INF/versions belong to later releases by the jar's own word (JAR File
// Specification, "Multi-release JAR files"), and module descriptors are read
// from no class path.
func ScanMain(r io.ReaderAt, size int64, main string) (*Jar, error) {
	c := &counted{r: r}
	j, err := readJar(c, size, main)
	if err != nil {
		return j, err
	}
	z, err := zip.NewReader(c, size)
	if err != nil {
		return nil, err
	}
	s := &scan{own: ownPackage(j.MainClass), seen: map[int]*Seen{}, need: Seen{Entry: j.Entry, Major: j.Major},
		preview: j.Preview}
	if err := s.jar(z, c, "", 0); err != nil {
		return nil, err
	}
	if j.Agent != "" && !s.names[strings.ReplaceAll(j.Agent, ".", "/")+".class"] {
		j.Lacks = j.Agent
	}
	majors := make([]int, 0, len(s.seen))
	for m := range s.seen {
		majors = append(majors, m)
	}
	slices.Sort(majors)
	for _, m := range majors {
		switch seen := *s.seen[m]; {
		case m <= s.need.Major:
		case seen.n*50 >= s.classes:
			s.need = seen
		default:
			j.Optional = append(j.Optional, seen)
		}
	}
	j.Optional = slices.DeleteFunc(j.Optional, func(o Seen) bool { return o.Major <= s.need.Major })
	j.Entry, j.Major, j.Release, j.Preview = s.need.Entry, s.need.Major, Release(s.need.Major), s.preview
	j.Classes, j.Read = s.classes, c.n
	return j, nil
}

// ownPackage is the tree that the main class lies in: the first two names of
// its package, with a slash behind. "" for a class without one.
func ownPackage(class string) string {
	parts := strings.Split(class, ".")
	parts = parts[:min(len(parts)-1, 2)]
	if len(parts) == 0 {
		return ""
	}
	return strings.Join(parts, "/") + "/"
}

type scan struct {
	own     string
	classes int
	seen    map[int]*Seen // by major version: its first class, and how many
	need    Seen
	preview bool
	names   map[string]bool
}

// jar looks at the classes of a jar; under is what leads to it.
func (s *scan) jar(z *zip.Reader, r io.ReaderAt, under string, depth int) error {
	files := slices.Clone(z.File)
	// In the order of the file: what it is read from may be compressed in pieces.
	slices.SortFunc(files, func(a, b *zip.File) int {
		x, _ := a.DataOffset()
		y, _ := b.DataOffset()
		return cmp.Compare(x, y)
	})
	if depth == 0 {
		s.names = make(map[string]bool, len(files))
	}
	for _, f := range files {
		name := f.Name
		if depth == 0 {
			s.names[name] = true
		}
		switch {
		case strings.HasPrefix(name, "META-INF/versions/"), path.Base(name) == "module-info.class":
		case strings.HasSuffix(name, ".class"):
			major, minor, err := headOf(f, r)
			if err != nil {
				return fmt.Errorf("%s: %w", under+name, err)
			}
			s.class(under+name, strings.HasPrefix(name, s.own) && s.own != "", major, minor)
		case strings.HasSuffix(name, ".jar") && depth == 0:
			if err := s.inner(f, r); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *scan) class(entry string, own bool, major, minor int) {
	s.classes++
	seen := s.seen[major]
	if seen == nil {
		seen = &Seen{Entry: entry, Major: major}
		s.seen[major] = seen
	}
	seen.Entry = min(seen.Entry, entry) // the same one each time, whatever the order
	seen.n++
	if own && major > s.need.Major {
		s.need = Seen{Entry: entry, Major: major}
	}
	if own && minor == previewMinor {
		s.preview = true
	}
}

// inner looks into a jar inside the jar. One that is no jar, or too large to be
// held, is passed over: it may be anything.
func (s *scan) inner(f *zip.File, r io.ReaderAt) error {
	size := int64(f.UncompressedSize64)
	var at io.ReaderAt
	if f.Method == zip.Store {
		off, err := f.DataOffset()
		if err != nil {
			return err
		}
		at = io.NewSectionReader(r, off, size)
	} else {
		if size > maxInner {
			return nil
		}
		rc, err := f.Open()
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		defer rc.Close()
		b, err := io.ReadAll(io.LimitReader(rc, maxInner))
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		at, size = bytes.NewReader(b), int64(len(b))
	}
	z, err := zip.NewReader(at, size)
	if err != nil {
		return nil
	}
	return s.jar(z, at, f.Name+"!/", 1)
}

// headLength is enough of a deflated class for its first eight bytes: the
// tables of its first block come before them.
const headLength = 512

// headOf reads a class file's version from as little of it as will do.
func headOf(f *zip.File, r io.ReaderAt) (major, minor int, err error) {
	off, err := f.DataOffset()
	if err != nil {
		return 0, 0, err
	}
	raw := make([]byte, min(int64(f.CompressedSize64), headLength))
	if _, err := r.ReadAt(raw, off); err != nil && !errors.Is(err, io.EOF) {
		return 0, 0, err
	}
	switch f.Method {
	case zip.Store:
		return ClassVersion(bytes.NewReader(raw))
	case zip.Deflate:
		z := flate.NewReader(bytes.NewReader(raw))
		defer z.Close()
		if major, minor, err = ClassVersion(z); err == nil {
			return major, minor, nil
		}
	}
	rc, err := f.Open()
	if err != nil {
		return 0, 0, err
	}
	defer rc.Close()
	return ClassVersion(rc)
}
