package install

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/host"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// EnterTarget looks at the place where a command is to write something new, a file or a folder that
// its caller names. Where root is the caller and one other user could lead the way there elsewhere,
// the command is to work as that user, who is returned; where several could, it is refused. owner is nil
// where nobody else decides.
func EnterTarget(path string) (owner *host.Owner, h *tree.Held, err error) {
	if os.Geteuid() != 0 {
		return nil, nil, nil
	}
	path, err = filepath.Abs(path)
	if err != nil {
		return nil, nil, err
	}
	if h, err = nearest(path); err != nil {
		return nil, nil, err
	}
	who, err := whoWrites(h)
	if err != nil || len(who) == 0 {
		h.Close()
		return nil, nil, err
	}
	first := who[0].UID
	others := slices.ContainsFunc(who, func(d tree.Decider) bool { return d.UID != first })
	if first == tree.NoID || others {
		h.Close()
		return nil, nil, tell.Advise(fmt.Errorf("what root would write to %s could be led elsewhere by %s, through %s", path,
			deciders(who...), who[0].At), "name a place that only root, or only one user, can change; or run the command as that user")
	}
	tree.Keep(h.Dir, h)
	owner, err = withHome(host.OwnerOf(first.Int(), h.GID.Int()), h)
	return owner, h, err
}

// nearest is the folder at a path, or the one above it that is there.
func nearest(path string) (*tree.Held, error) {
	for {
		h, err := tree.Hold(path)
		switch {
		case err == nil:
			return h, nil
		case !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, tree.ErrNotFolder), path == filepath.Dir(path):
			return nil, err
		}
		path = filepath.Dir(path)
	}
}

// whoWrites are those who can lead the way to a folder elsewhere, and those who can exchange what root
// makes in it. In a sticky folder nobody can do that but its owner.
func whoWrites(h *tree.Held) ([]tree.Decider, error) {
	who := slices.Clone(h.By)
	if h.UID != 0 {
		who = append(who, tree.Decider{At: h.Dir, UID: h.UID, GID: tree.NoID})
	}
	if h.Mode&fs.ModeSticky != 0 {
		return who, nil
	}
	more, err := tree.WritersOf(h.File())
	return append(who, more...), err
}

// Settled refuses a folder of root's, made a moment ago or there before, to which somebody else could
// lead the way: what root writes there goes to that folder and no other.
func Settled(dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	h, err := tree.Hold(dir)
	if err != nil {
		return err
	}
	defer h.Close()
	who, err := whoWrites(h)
	if err == nil && len(who) > 0 {
		err = fmt.Errorf("%s can be exchanged by %s: root writes nothing there", who[0].At, deciders(who...))
	}
	return err
}
