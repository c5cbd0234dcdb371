package locker

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"freshkeel/internal/locker/set"
	"freshkeel/internal/store"
	"freshkeel/internal/tree"
)

// Files are the files of a locker: those in its folder, or those of a copy in another
// place, which come to that folder when they are asked for.
type Files interface {
	// Owners lists whose sets there are.
	Owners() ([]string, error)
	// Heads lists an owner's sets without their entries, oldest first. One whose head
	// can't be read is listed with its damage.
	Heads(owner string) ([]*set.Set, error)
	// Have sees to it that a set's file is at path; came tells that it came there just now,
	// and the indexes of its packs with it.
	Have(owner, id, path string) (came bool, err error)
	// Open opens the pack that belongs at path.
	Open(path string) (*os.File, error)
	// Moved hears that a pack could not be opened, since it is gone. It returns nil where
	// other packs may have its pieces now, once the indexes are read anew, and else the
	// error that ends it.
	Moved(path string, gone error) error
	// Shown is the file at path as people find it.
	Shown(path string) string
}

// folder is the Files of a locker that stands in a folder of this machine.
type folder struct{ dir string }

func (f folder) Owners() (out []string, err error) {
	list, err := os.ReadDir(filepath.Join(f.dir, "sets"))
	if err != nil {
		return nil, err
	}
	for _, d := range list {
		if d.IsDir() && !strings.HasPrefix(d.Name(), ".") {
			out = append(out, d.Name())
		}
	}
	return out, nil
}

func (f folder) Heads(owner string) ([]*set.Set, error) {
	at := filepath.Join(f.dir, "sets", owner)
	list, err := os.ReadDir(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*set.Set
	for _, d := range list { // sorted by name, and names count up
		if !strings.HasSuffix(d.Name(), ".set") || strings.HasPrefix(d.Name(), ".") {
			continue
		}
		s, err := set.HeadOf(filepath.Join(at, d.Name()))
		if errors.Is(err, set.ErrNoSet) {
			continue // dropped since the folder was listed
		}
		if damage := (*set.Damage)(nil); errors.As(err, &damage) {
			s, err = &set.Set{Owner: owner, ID: strings.TrimSuffix(d.Name(), ".set"), Damage: damage.Why}, nil
		}
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

func (folder) Have(_, _, _ string) (bool, error)  { return false, nil }
func (folder) Open(path string) (*os.File, error) { return tree.OpenRegular(path) }
func (folder) Shown(path string) string           { return path }

// Moved returns nil where the pack's index is gone too: what was of use in it was moved
// while space was given back.
func (folder) Moved(path string, gone error) error {
	if _, err := os.Lstat(strings.TrimSuffix(path, ".zst") + ".idx"); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return gone
}

// NoRoom says that what a copy holds can't be brought here: no damage of the copy's.
type NoRoom struct{ Err error }

func (n *NoRoom) Error() string { return n.Err.Error() }

// Unwrap is why there is no room.
func (n *NoRoom) Unwrap() error { return n.Err }

// notDamage tells whether what a copy holds could not be had, for a reason that says
// nothing of it: the line, the disk here, somebody's Ctrl-C.
func notDamage(err error) bool {
	return errors.As(err, new(*store.Unreachable)) || errors.As(err, new(*NoRoom)) || errors.Is(err, context.Canceled)
}
