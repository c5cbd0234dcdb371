package tree

import (
	"errors"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// noOpenat2 is set once the system has said that it has no such call, or does
// not let this process use it (a container's filter does that).
var noOpenat2 atomic.Bool

// openBeneath opens a path below an open folder in one call (openat2(2), Linux
// 5.6), which no link, no ".." and no magic link leads out of.
func openBeneath(dir int, rel string, flags int) (int, error) {
	if noOpenat2.Load() {
		return byFolder(dir, rel, flags)
	}
	how := unix.OpenHow{Flags: uint64(flags) | unix.O_LARGEFILE,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS}
	for {
		fd, err := retried(func() (int, error) { return unix.Openat2(dir, rel, &how) })
		switch {
		case errors.Is(err, unix.EAGAIN): // something was renamed meanwhile
			continue
		case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EPERM):
			noOpenat2.Store(true)
			return byFolder(dir, rel, flags)
		}
		return fd, err
	}
}
