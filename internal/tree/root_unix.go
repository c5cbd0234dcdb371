//go:build unix

package tree

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

const nonblocking = unix.O_NONBLOCK

// folder opens the folder at rel, "" for the root itself.
func (r *Root) folder(rel string) (int, error) {
	if rel == "" {
		rel = "."
	}
	return r.at(rel, unix.O_RDONLY|unix.O_DIRECTORY)
}

// at opens what stands at rel, no link being followed on the way or at its end.
func (r *Root) at(rel string, flags int) (int, error) {
	if rel != "." && !Local(rel) {
		return -1, notLocal("open", rel)
	}
	on, at := r.holds(rel)
	fd, err := openBeneath(int(on.d.Fd()), at, flags|unix.O_NOFOLLOW|unix.O_CLOEXEC)
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: r.Full(rel), Err: linkWord(err)}
	}
	return fd, nil
}

// linkWord says in words what the system says of a link.
func linkWord(err error) error {
	if errors.Is(err, unix.ELOOP) {
		return ErrLink
	}
	return err
}

// ErrLink says that a link stands where a file or folder was to be, or on the way to it.
var ErrLink = errors.New("a link stands there, or on the way to it")

// byFolder opens a folder for each part of the path in turn: what openBeneath
// does where the system has no call for it.
func byFolder(dir int, rel string, flags int) (int, error) {
	parts := strings.Split(rel, "/")
	at := dir
	defer func() {
		if at != dir {
			unix.Close(at)
		}
	}()
	for _, name := range parts[:len(parts)-1] {
		next, err := retried(func() (int, error) {
			return unix.Openat(at, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		})
		if err != nil {
			return -1, err
		}
		if at != dir {
			unix.Close(at)
		}
		at = next
	}
	return retried(func() (int, error) { return unix.Openat(at, parts[len(parts)-1], flags, 0) })
}

func retried(call func() (int, error)) (n int, err error) {
	for {
		if n, err = call(); !errors.Is(err, unix.EINTR) {
			return n, err
		}
	}
}

// above calls do with the open folder that rel stands in, and its name there.
func (r *Root) above(op, rel string, do func(dir int, name string) error) error {
	if !Local(rel) {
		return notLocal(op, rel)
	}
	dir, name := path.Split(rel)
	dir = strings.TrimSuffix(dir, "/")
	if _, at := r.holds(rel); at == "." { // the folder that stands elsewhere is asked itself
		dir, name = rel, at
	}
	fd, err := r.folder(dir)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := do(fd, name); err != nil {
		return &fs.PathError{Op: op, Path: r.Full(rel), Err: linkWord(err)}
	}
	return nil
}

// Open opens the regular file at rel to be read.
func (r *Root) Open(rel string) (*os.File, error) {
	fd, err := r.at(rel, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), r.Full(rel))
	return f, regular(f, f.Name())
}

// ReadInto reads the regular file at rel as far as b has room, in half the calls that opening
// it takes: of small files, these are what reading costs.
func (r *Root) ReadInto(rel string, b []byte) (n int, err error) {
	fd, err := r.at(rel, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return 0, &fs.PathError{Op: "read", Path: r.Full(rel), Err: err}
	}
	if st.Mode&unix.S_IFMT != unix.S_IFREG {
		return 0, &fs.PathError{Op: "read", Path: r.Full(rel), Err: ErrNotRegular}
	}
	for n < len(b) {
		m, err := retried(func() (int, error) { return unix.Read(fd, b[n:]) })
		if err != nil {
			return n, &fs.PathError{Op: "read", Path: r.Full(rel), Err: err}
		}
		if n += m; m == 0 || int64(n) >= st.Size {
			break
		}
	}
	return n, nil
}

// Describe is Describe for the file, folder or link at rel.
func (r *Root) Describe(rel string) (e Entry, ok bool, err error) {
	err = r.above("look at", rel, func(dir int, name string) error {
		e, ok, err = describeIn(dir, name, rel)
		return err
	})
	return e, ok, err
}

// describeIn describes a name of an open folder; ok is false for what is neither
// file, folder nor link.
func describeIn(dir int, name, as string) (e Entry, ok bool, err error) {
	var st unix.Stat_t
	if err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return e, false, err
	}
	if e, ok = entryOf(&st, as); ok && e.Kind == Link {
		e.Target, err = readLink(dir, name)
	}
	return e, ok, err
}

func entryOf(st *unix.Stat_t, as string) (e Entry, ok bool) {
	e = Entry{Path: as, Mode: permissions(uint32(st.Mode)), UID: ID(st.Uid), GID: ID(st.Gid), Mtime: st.Mtim.Nano(),
		Inode: st.Ino, Ctime: st.Ctim.Nano(), Dev: uint64(st.Dev)}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		e.Kind, e.Size = File, st.Size
	case unix.S_IFDIR:
		e.Kind = Dir
	case unix.S_IFLNK:
		e.Kind = Link
	default:
		return e, false
	}
	return e, true
}

// DescribeOpen describes an open file, under a name.
func DescribeOpen(f *os.File, as string) (Entry, error) {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return Entry{}, &fs.PathError{Op: "look at", Path: f.Name(), Err: err}
	}
	e, _ := entryOf(&st, as)
	return e, nil
}

func readLink(dir int, name string) (string, error) {
	for size := 256; ; size *= 4 {
		b := make([]byte, size)
		n, err := unix.Readlinkat(dir, name, b)
		if err != nil {
			return "", err
		}
		if n < size {
			return string(b[:n]), nil
		}
	}
}

// Names lists what the folder at rel holds, in no order.
func (r *Root) Names(rel string) ([]string, error) {
	fd, err := r.folder(rel)
	if err != nil {
		return nil, err
	}
	d := os.NewFile(uintptr(fd), r.Full(rel))
	defer d.Close()
	return d.Readdirnames(-1)
}

// Rename moves one path to another, over nothing: the caller has looked.
func (r *Root) Rename(from, to string) error {
	return r.above("rename", from, func(a int, name string) error {
		return r.above("rename to", to, func(b int, as string) error { return unix.Renameat(a, name, b, as) })
	})
}

// MkdirAll makes the folder at rel and those above it that are missing.
func (r *Root) MkdirAll(rel string, mode fs.FileMode) error {
	if rel == "." || rel == "" {
		return nil
	}
	err := r.above("make the folder", rel, func(dir int, name string) error {
		return unix.Mkdirat(dir, name, uint32(mode.Perm()))
	})
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if err := r.MkdirAll(path.Dir(rel), mode); err != nil {
			return err
		}
		return r.MkdirAll(rel, mode)
	case errors.Is(err, fs.ErrExist):
		if e, _, derr := r.Describe(rel); derr == nil && e.Kind == Dir {
			return nil
		}
	}
	return err
}

// Sync makes the entries of the folder at rel durable. A folder that is not there
// any more has none.
func (r *Root) Sync(rel string) error {
	fd, err := r.folder(rel)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) || errors.Is(err, ErrLink) {
		return nil
	}
	if err != nil {
		return err
	}
	d := os.NewFile(uintptr(fd), r.Full(rel))
	defer d.Close()
	return syncDir(d)
}

// Mend gives the thing at rel the mode, owner and times of e, as Mend does.
func (r *Root) Mend(rel string, e Entry) error {
	return r.above("mend", rel, func(dir int, name string) error {
		if os.Geteuid() == 0 && e.UID != NoID {
			if err := unix.Fchownat(dir, name, e.UID.Int(), e.GID.Int(), unix.AT_SYMLINK_NOFOLLOW); err != nil {
				return err
			}
		}
		if e.Kind == Link {
			return nil
		}
		// The system's call for a mode follows a link at the end of a path. Root
		// opens what stands there and changes that; nobody else has more rights
		// over what a link leads to than who made the link.
		if os.Geteuid() == 0 {
			fd, err := unix.Openat(dir, name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
			if err != nil {
				return err
			}
			defer unix.Close(fd)
			if err := unix.Fchmod(fd, systemMode(e.Mode)); err != nil {
				return err
			}
		} else if err := unix.Fchmodat(dir, name, systemMode(e.Mode), 0); err != nil {
			return err
		}
		if e.Mtime == 0 {
			return nil
		}
		at := unix.NsecToTimespec(time.Unix(0, e.Mtime).UnixNano())
		return unix.UtimesNanoAt(dir, name, []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW)
	})
}

func systemMode(m fs.FileMode) uint32 {
	bits := uint32(m.Perm())
	for _, s := range special {
		if m&s.as != 0 {
			bits |= s.bit
		}
	}
	return bits
}
