package unpack

import (
	"archive/tar"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"

	"freshkeel/internal/tree"

	"github.com/bodgit/sevenzip"
	"github.com/klauspost/compress/zip"
	"github.com/nwaples/rardecode/v2"
	"golang.org/x/sync/errgroup"
)

// zip admits every name of the directory first, so that a hostile archive is
// refused before any of it is opened, and then opens several entries at a time:
// each is compressed by itself.
func (o *opener) zip(f io.ReaderAt, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return o.wrap("", err)
	}
	clean := make([]string, len(z.File))
	for i, e := range z.File {
		mode := e.Mode()
		if strings.HasSuffix(e.Name, "/") {
			mode = fs.ModeDir
		}
		if clean[i], err = o.admit(e.Name, mode); err != nil {
			return err
		}
	}
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	var failed atomic.Bool
	for i, e := range z.File {
		if failed.Load() {
			break
		}
		if clean[i] == "" {
			continue
		}
		g.Go(func() error {
			err := o.zipEntry(e, clean[i])
			if err != nil {
				failed.Store(true)
			}
			return err
		})
	}
	return g.Wait()
}

func (o *opener) zipEntry(e *zip.File, clean string) error {
	it := Item{Path: e.Name, Mode: e.Mode() & (fs.ModePerm | fs.ModeType), Mtime: e.Modified}
	link := it.Mode&fs.ModeSymlink != 0
	switch {
	case strings.HasSuffix(e.Name, "/"):
		it.Mode = fs.ModeDir | 0o755
		return o.put(it, clean)
	case it.Mode&fs.ModeType != 0 && !link:
		return o.bad(e.Name, "is neither file, folder nor link")
	case e.Flags&1 != 0:
		return o.wrap("", errors.New("password"))
	}
	r, err := e.Open()
	if err != nil {
		return o.wrap(e.Name, err)
	}
	defer r.Close()
	if link {
		b, err := io.ReadAll(io.LimitReader(r, 4096))
		if err != nil {
			return o.wrap(e.Name, err)
		}
		it.Target = string(b)
		return o.put(it, clean)
	}
	it.Body = r
	// Made where files have no modes: what runs is told by its content.
	if creator := e.CreatorVersion >> 8; creator != 3 && creator != 19 || it.Mode.Perm() == 0 {
		it.Body, it.Mode = sniffMode(r)
	}
	if err := o.put(it, clean); err != nil {
		return o.wrap(e.Name, err)
	}
	return nil
}

func (o *opener) tar(r io.Reader) error {
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			// The rest is read so that a stream cut within its trailer is noticed,
			// and the checksum at its very end is held.
			if _, err := io.Copy(io.Discard, r); err != nil {
				return o.wrap("", err)
			}
			return nil
		}
		if err != nil {
			return o.wrap("", err)
		}
		o.entry = h.Name
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
			if slices.Contains(strings.Split(h.Name, "/"), tree.StateFolder) {
				// A pipe or socket of our own, in an archive that somebody made of an install under care.
				o.out.LeftOut = append(o.out.LeftOut, h.Name)
				continue
			}
			return o.bad(h.Name, "is neither file, folder nor symbolic link")
		}
		if err := o.item(it); err != nil {
			return o.wrap(h.Name, err)
		}
	}
}

// sevenZip opens entries in the order of their streams, so that solid ones are
// decompressed once. Its library trusts what a header says of memory, so a
// panic of it is an error of the archive.
func (o *opener) sevenZip(f io.ReaderAt, size int64) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = o.wrap("", fmt.Errorf("it is damaged: %v", p))
		}
	}()
	z, err := sevenzip.NewReader(f, size)
	if err != nil {
		return o.wrap("", err)
	}
	for _, e := range z.File {
		if err := o.sevenZipEntry(e); err != nil {
			return o.wrap(e.Name, err)
		}
	}
	return nil
}

func (o *opener) sevenZipEntry(e *sevenzip.File) error {
	const unixModes = 0x8000 // attributes: the upper half is a Unix mode
	mode := e.Mode()
	it := Item{Path: e.Name, Mode: mode.Perm(), Mtime: e.Modified}
	switch {
	case mode.IsDir():
		it.Mode = fs.ModeDir | 0o755
		return o.item(it)
	case mode&fs.ModeType&^fs.ModeSymlink != 0:
		return o.bad(e.Name, "is neither file, folder nor link")
	}
	r, err := e.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	held := &stated{r: r, left: int64(e.UncompressedSize), want: e.CRC32, sum: crc32.NewIEEE()}
	switch {
	case mode&fs.ModeSymlink != 0:
		b, err := io.ReadAll(io.LimitReader(held, 4096))
		if err != nil {
			return err
		}
		it.Mode, it.Target = fs.ModeSymlink|0o777, string(b)
		return o.item(it)
	case e.Attributes&unixModes == 0:
		it.Body, it.Mode = sniffMode(held)
	default:
		it.Body = held
	}
	return o.item(it)
}

// stated holds an entry's content against the size and checksum that the archive
// states, for a library that does not. A checksum of 0 is one that is not stated.
type stated struct {
	r    io.Reader
	left int64 // bytes
	want uint32
	sum  hash.Hash32
}

func (s *stated) Read(b []byte) (int, error) {
	n, err := s.r.Read(b)
	s.sum.Write(b[:n])
	if s.left -= int64(n); errors.Is(err, io.EOF) && s.left != 0 {
		return n, errCutShort
	}
	if errors.Is(err, io.EOF) && s.want != 0 && s.sum.Sum32() != s.want {
		return n, errors.New("it is damaged: its content has another checksum than the archive states")
	}
	return n, err
}

func (o *opener) rar(f io.Reader) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = o.wrap("", fmt.Errorf("it is damaged: %v", p))
		}
	}()
	z, err := rardecode.NewReader(bufio.NewReaderSize(f, 256<<10), rardecode.MaxDictionarySize(maxWindow))
	if err != nil {
		return o.wrap("", err)
	}
	for {
		h, err := z.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return o.wrap("", err)
		}
		o.entry = h.Name
		it := Item{Path: h.Name, Mode: h.Mode().Perm(), Mtime: h.ModificationTime}
		switch {
		case h.IsDir:
			it.Mode = fs.ModeDir | 0o755
		case h.LinkType == rardecode.LinkTypeUnixSymlink:
			it.Mode, it.Target = fs.ModeSymlink|0o777, h.LinkTarget
		case h.LinkType != rardecode.LinkTypeNone || h.Mode()&fs.ModeType != 0:
			return o.bad(h.Name, "is neither file, folder nor symbolic link")
		case h.HostOS != rardecode.HostOSUnix || it.Mode == 0:
			it.Body, it.Mode = sniffMode(z)
		default:
			it.Body = z
		}
		if err := o.item(it); err != nil {
			return o.wrap(h.Name, err)
		}
	}
}

// sniffMode gives what r holds a mode by how it begins: programs and scripts
// may be run. It returns a reader for all of it.
func sniffMode(r io.Reader) (io.Reader, fs.FileMode) {
	head := make([]byte, 4)
	n, err := 0, error(nil)
	for n < len(head) && err == nil {
		var got int
		got, err = r.Read(head[n:])
		n += got
	}
	head = head[:n]
	rest := r
	if err != nil { // a clean end too
		rest = failing{err}
	}
	mode := fs.FileMode(0o644)
	for _, magic := range []string{"#!", "\x7fELF", "\xcf\xfa\xed\xfe"} { // the last: macOS programs
		if bytes.HasPrefix(head, []byte(magic)) {
			mode |= 0o111
		}
	}
	return io.MultiReader(bytes.NewReader(head), rest), mode
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }
