//go:build unix

package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// Sparse tells whether a file has holes: it takes less room than its size.
func Sparse(f *os.File) bool {
	var st unix.Stat_t
	if err := unix.Fstat(int(f.Fd()), &st); err != nil {
		return false
	}
	return st.Blocks*512+64<<10 < st.Size // less by more than what file systems keep of small ones
}

// Xattrs reads the extended attributes of the file or folder at rel (xattr(7)):
// those that a program may set, which leaves out the system's own. nil where there are
// none, or the file system has no such thing. A link can't have any of them.
func (r *Root) Xattrs(rel string, kind Kind) (map[string][]byte, error) {
	if kind == Link {
		return nil, nil
	}
	fd, err := r.at(rel, unix.O_RDONLY|unix.O_NONBLOCK)
	if errors.Is(err, ErrLink) || errors.Is(err, fs.ErrPermission) {
		return nil, nil // it became one; or its content could not be read either, which is told there
	}
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	return xattrs(fd)
}

// XattrsOf is Xattrs for an open file.
func XattrsOf(f *os.File) (map[string][]byte, error) { return xattrs(int(f.Fd())) }

func xattrs(fd int) (map[string][]byte, error) {
	names := make([]byte, 1024)
	for {
		n, err := unix.Flistxattr(fd, names)
		if errors.Is(err, unix.ERANGE) {
			names = make([]byte, 4*len(names))
			continue
		}
		if err != nil || n == 0 {
			if unsupported(err) {
				err = nil
			}
			return nil, err
		}
		names = names[:n]
		break
	}
	var out map[string][]byte
	for _, name := range strings.Split(strings.TrimRight(string(names), "\x00"), "\x00") {
		if !strings.HasPrefix(name, "user.") && name != "security.capability" &&
			!strings.HasPrefix(name, "system.posix_acl_") {
			continue
		}
		value := make([]byte, 64<<10) // the most that Linux allows
		n, err := unix.Fgetxattr(fd, name, value)
		if err != nil {
			continue // it went meanwhile, or is not ours to read
		}
		if out == nil {
			out = map[string][]byte{}
		}
		out[name] = append([]byte{}, value[:n]...)
	}
	return out, nil
}

// SetXattrs gives a file the attributes that it had. A file system that has none
// is no error; what it refuses is.
func SetXattrs(full string, attrs map[string][]byte) error {
	for name, value := range attrs {
		if err := unix.Lsetxattr(full, name, value, 0); err != nil && !unsupported(err) {
			return fmt.Errorf("give %s its attribute %s: %w", full, name, err)
		}
	}
	return nil
}

func unsupported(err error) bool {
	return errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) ||
		errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOENT)
}
