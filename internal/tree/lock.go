package tree

import (
	"os"

	"github.com/gofrs/flock"
)

// NewLock is a lock on a file of our own, which only its owner may open. Something
// else in the file's place, a pipe say, keeps nobody waiting.
func NewLock(path string) *flock.Flock {
	return flock.New(path, flock.SetFlag(os.O_CREATE|os.O_RDWR|nonblocking), flock.SetPermissions(0o600))
}
