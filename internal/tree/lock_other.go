//go:build !windows

package tree

import (
	"errors"
	"os"

	"github.com/gofrs/flock"
)

// RenameHeld renames a file that a lock of ours is on; the lock goes with it.
func RenameHeld(_ *flock.Flock, from, to string) error { return Rename(from, to) }

// Rename puts what stands at from in the place of what stands at to, at once. It is the one way by which
// anything of ours is replaced: on Windows that takes more.
func Rename(from, to string) error { return os.Rename(from, to) }

// RemoveHeld removes a file that a lock of ours is on, and ends the lock.
func RemoveHeld(lock *flock.Flock) error { return errors.Join(os.Remove(lock.Path()), lock.Unlock()) }
