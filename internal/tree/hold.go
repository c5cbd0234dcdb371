package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// Held is a folder at which a command begins. It was come to once, from the top of the file
// system, a name at a time and each from the open folder before it. What the way showed (owners,
// links, who could have led it elsewhere) is of that same way, and what is opened from here is in
// that same folder: its path is text for messages.
type Held struct {
	Entry           // the folder's own
	Dir   string    // its path without links
	By    []Decider // each who could have led the way to another folder, root aside

	root *Root
}

// Decider is somebody who can exchange a name on the way to a folder.
type Decider struct {
	At       string // the folder in which they can
	UID      ID     // the user; NoID: a group, or everybody
	GID      ID     // the group; NoID: none
	Everyone bool
	Link     bool // the name was a link, which was followed
}

// HoldOpen is Hold for a folder that is open already: whoever opened it has looked at the way.
func HoldOpen(d *os.File, dir string) (*Held, error) {
	e, err := DescribeOpen(d, "")
	if err == nil && e.Kind != Dir {
		err = notFolder(dir)
	}
	if err != nil {
		return nil, err
	}
	return &Held{Entry: e, Dir: dir, root: &Root{dir: dir, d: d}}, nil
}

// Open opens a file of the folder to be read, no link being followed.
func (h *Held) Open(rel string) (*os.File, error) { return h.root.Open(rel) }

// Describe describes what stands at a path of the folder.
func (h *Held) Describe(rel string) (Entry, bool, error) { return h.root.Describe(rel) }

// File is the open folder itself.
func (h *Held) File() *os.File { return h.root.d }

// Close lets go of the folder.
func (h *Held) Close() error { return h.root.Close() }

// Others are those on the way who are not the user given, nor root.
func (h *Held) Others(uid ID) []Decider {
	return slices.DeleteFunc(slices.Clone(h.By), func(d Decider) bool { return d.UID == uid && d.UID != NoID })
}

// Writers are those besides its owner and root who can write to the file or folder of an entry
// by its mode.
func (e Entry) Writers(at string) (out []Decider) {
	if e.Mode&0o020 != 0 && e.GID != 0 && e.GID != NoID {
		out = append(out, Decider{At: at, UID: NoID, GID: e.GID})
	}
	if e.Mode&0o002 != 0 {
		out = append(out, Decider{At: at, UID: NoID, GID: NoID, Everyone: true})
	}
	return out
}

// held are the folders that this process holds for as long as it lives, by path: see Keep.
var held sync.Map

// Keep has everybody who opens the folder at dir as a Root, or asks Reached for a path below it,
// begin at the one that is held.
func Keep(dir string, h *Held) { held.Store(filepath.Clean(dir), h) }

// Kept is the folder that is held for a path; nil for none.
func Kept(dir string) *Held {
	h, _ := held.Load(filepath.Clean(dir))
	out, _ := h.(*Held)
	return out
}

// Reached is a path as the system is given it where it takes nothing but a path (a lock, a
// socket's address): below a folder that is held, it begins at that one's descriptor.
func Reached(path string) string {
	if !ShowsOpen {
		return path
	}
	out := path
	held.Range(func(dir, h any) bool {
		rel, below := strings.CutPrefix(path, dir.(string)+string(filepath.Separator))
		if below {
			out = fmt.Sprintf("/proc/self/fd/%d/%s", h.(*Held).root.d.Fd(), rel)
		}
		return !below
	})
	return out
}

// ErrLoop says that a path leads through too many links.
var ErrLoop = errors.New("too many links")

// mostLinks is how many links a way may have (path_resolution(7)).
const mostLinks = 40

// ErrNotFolder says that a folder was to stand where something else does.
var ErrNotFolder = errors.New("not a folder")

func notFolder(dir string) error { return &fs.PathError{Op: "open", Path: dir, Err: ErrNotFolder} }
