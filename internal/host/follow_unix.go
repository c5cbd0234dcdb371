//go:build unix

package host

import (
	"os"

	"golang.org/x/sys/unix"
)

const noFollow = unix.O_NOFOLLOW | unix.O_NONBLOCK

// follow marks a log as one that is being read (flock(2)).
func follow(f *os.File) { unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) }

// followed tells whether anybody reads the log at path.
func followed(path string) bool {
	f, err := os.OpenFile(path, os.O_RDONLY|noFollow, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil
}
