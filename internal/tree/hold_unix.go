//go:build unix

package tree

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// Hold comes to the folder at dir. Links are followed as the system does; each who could have
// laid one, or could have exchanged a name on the way, is in By.
func Hold(dir string) (*Held, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	w := &way{caller: ID(os.Geteuid())}
	if w.at, err = w.openAt(unix.AT_FDCWD, "/"); err != nil {
		return nil, &fs.PathError{Op: "open", Path: "/", Err: err}
	}
	defer func() { unix.Close(w.at) }()
	w.left = names(abs)
	for len(w.left) > 0 {
		if err := w.step(); err != nil {
			return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
		}
	}
	h := &Held{Dir: w.path(), By: w.by}
	d, err := openDot(w.at, h.Dir)
	if err != nil {
		return nil, err
	}
	h.root = &Root{dir: h.Dir, d: d}
	if h.Entry, err = DescribeOpen(h.root.d, ""); err != nil {
		h.Close()
		return nil, err
	}
	return h, nil
}

// openDot opens an open folder once more.
func openDot(at int, dir string) (*os.File, error) {
	fd, err := retried(func() (int, error) {
		return unix.Openat(at, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: err}
	}
	return os.NewFile(uintptr(fd), dir), nil
}

// again opens the folder once more.
func (h *Held) again() (*os.File, error) { return openDot(int(h.root.d.Fd()), h.Dir) }

// way is a way to a folder under way.
type way struct {
	caller ID
	at     int      // the folder that was come to last
	been   []string // its path
	left   []string // the names that are left
	links  int
	by     []Decider
}

func (w *way) path() string { return "/" + strings.Join(w.been, "/") }

// names are the parts of a path. Unlike in a cleaned path, ".." is one: behind a link it leads
// to the folder above the one that the link leads to.
func names(path string) (out []string) {
	for name := range strings.SplitSeq(path, "/") {
		if name != "" && name != "." {
			out = append(out, name)
		}
	}
	return out
}

// openAt opens a folder that need not be readable. Root reads each one, since the list of who else
// may write to a folder is not to be had otherwise.
func (w *way) openAt(dir int, name string) (int, error) {
	flags := lookOnly
	if w.caller == 0 {
		flags = unix.O_RDONLY
	}
	return retried(func() (int, error) {
		return unix.Openat(dir, name, flags|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	})
}

// step goes on by one name.
func (w *way) step() error {
	name := w.left[0]
	w.left = w.left[1:]
	if name != ".." {
		var st unix.Stat_t
		if err := unix.Fstatat(w.at, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return err
		}
		e, _ := entryOf(&st, name)
		if err := w.decided(e); err != nil {
			return err
		}
		if st.Mode&unix.S_IFMT == unix.S_IFLNK {
			return w.follow(name)
		}
	}
	// A link that takes the name's place in this moment is not followed but an error.
	next, err := w.openAt(w.at, name)
	if errors.Is(err, unix.ENOTDIR) {
		return ErrNotFolder
	}
	if err != nil {
		return err
	}
	unix.Close(w.at)
	w.at = next
	switch {
	case name != "..":
		w.been = append(w.been, name)
	case len(w.been) > 0:
		w.been = w.been[:len(w.been)-1]
	}
	return nil
}

// follow goes on where a link leads.
func (w *way) follow(name string) error {
	if w.links++; w.links > mostLinks {
		return ErrLoop
	}
	to, err := readLink(w.at, name)
	if err != nil {
		return err
	}
	w.left = append(names(to), w.left...)
	if !strings.HasPrefix(to, "/") {
		return nil
	}
	top, err := w.openAt(unix.AT_FDCWD, "/")
	if err != nil {
		return err
	}
	unix.Close(w.at)
	w.at, w.been = top, nil
	return nil
}

// decided notes everybody who can exchange a name of the folder that was come to: its owner,
// and those who may write to it. In a sticky folder the latter can exchange nothing of root's
// or the caller's (inode(7)).
func (w *way) decided(e Entry) error {
	var st unix.Stat_t
	if err := unix.Fstat(w.at, &st); err != nil {
		return err
	}
	folder, _ := entryOf(&st, "")
	at, link := w.path(), e.Kind == Link
	who := func(d Decider) {
		d.At, d.Link = at, link
		for _, is := range w.by {
			if is == d {
				return
			}
		}
		w.by = append(w.by, d)
	}
	user := func(id ID) {
		if id != 0 {
			who(Decider{UID: id, GID: NoID})
		}
	}
	user(folder.UID)
	switch {
	case folder.Mode&fs.ModeSticky == 0:
		for _, d := range append(folder.Writers(at), listed(w.at, folder)...) {
			who(d)
		}
		if link { // who laid it may have lost the right since
			user(e.UID)
		}
	case e.UID != w.caller:
		user(e.UID)
	}
	return nil
}

// listed are those whom a folder's or a file's access list lets write (acl(5)), besides its owner
// and its group. The list of mode bits shows no more of them than that there may be some.
func listed(fd int, e Entry) (out []Decider) {
	if e.Mode&0o020 == 0 {
		return nil
	}
	b := make([]byte, 64<<10)
	n, err := unix.Fgetxattr(fd, "system.posix_acl_access", b)
	if err != nil || n < 4 {
		return nil // none, or a file system without
	}
	return aclWriters(b[:n])
}

// The tags of an access list's entries, as Linux stores them (linux/posix_acl_xattr.h): a version of
// four bytes, then entries of tag, permissions (two bytes each) and number (four).
const (
	aclUser  = 0x02
	aclGroup = 0x08
	aclMask  = 0x10
	aclWrite = 2
)

// aclWriters are the users and groups that an access list names and lets write.
func aclWriters(b []byte) (out []Decider) {
	mask := uint16(7)
	each := func(do func(tag, perm uint16, id ID)) {
		for rest := b[4:]; len(rest) >= 8; rest = rest[8:] {
			do(binary.LittleEndian.Uint16(rest), binary.LittleEndian.Uint16(rest[2:]), ID(binary.LittleEndian.Uint32(rest[4:])))
		}
	}
	each(func(tag, perm uint16, _ ID) {
		if tag == aclMask {
			mask = perm
		}
	})
	each(func(tag, perm uint16, id ID) {
		switch {
		case perm&mask&aclWrite == 0 || id == 0:
		case tag == aclUser:
			out = append(out, Decider{UID: id, GID: NoID})
		case tag == aclGroup:
			out = append(out, Decider{UID: NoID, GID: id})
		}
	})
	return out
}

// WritersOf are those besides its owner and root who can write to an open file or folder.
func WritersOf(f *os.File) ([]Decider, error) {
	e, err := DescribeOpen(f, "")
	if err != nil {
		return nil, err
	}
	return append(e.Writers(f.Name()), listed(int(f.Fd()), e)...), nil
}

// Writers are those besides its owner and root who can write to what stands at a path of the folder.
func (h *Held) Writers(rel string) ([]Decider, error) {
	fd, err := h.root.at(rel, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), h.root.Full(rel))
	defer f.Close()
	return WritersOf(f)
}
