//go:build !windows

package tree

import (
	"errors"
	"os"

	"github.com/gofrs/flock"
)

// RenameHeld renames a file that a lock of ours is on; the lock goes with it.
func RenameHeld(_ *flock.Flock, from, to string) error { return os.Rename(from, to) }

// RemoveHeld removes a file that a lock of ours is on, and ends the lock.
func RemoveHeld(lock *flock.Flock) error { return errors.Join(os.Remove(lock.Path()), lock.Unlock()) }
