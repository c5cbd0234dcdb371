// Package ahead is the install as it will stand after a swap. Whoever wants to know
// whether a file will be there, with which content, which mode, in which folder, asks
// it: checks, add-ons, scripts, runtimes. It decides nothing; the plan does.
package ahead

import (
	"bytes"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Ahead is an install as it will stand after a swap: what is there now, less what goes,
// with what comes. Paths are the install's, with slashes.
type Ahead struct {
	in       *install.Install
	Store    *locker.Locker    // holds the content of what comes; nil where nothing does
	Before   tree.List         // what is there now
	Spelling tree.Spelling     // of the install, where its file system ignores case
	coming   []Coming          // in the order of their paths
	Texts    map[string][]byte // of files whose text was edited
	gone     map[string]bool
	Whose    map[string]string // path → layer; "": the build
}

// Coming is a file, folder or link that comes to a path: as its build has it, with the
// mode and the owner that it gets here. A build may bring a hundred thousand.
type Coming struct {
	At           string
	*locker.File // with the path that it has in the build
	Mode         fs.FileMode
	UID, GID     tree.ID // NoID: the install's owner's
}

// Entry is what is laid out.
func (c Coming) Entry() locker.File {
	f := *c.File
	f.Path, f.Mode, f.UID, f.GID = c.At, c.Mode, c.UID, c.GID
	return f
}

// New is an install with nothing coming and nothing going. store may be nil as long
// as nothing comes.
func New(in *install.Install, store *locker.Locker, now tree.List) *Ahead {
	return &Ahead{in: in, Store: store, Before: now, Texts: map[string][]byte{}, gone: map[string]bool{},
		Whose: map[string]string{}}
}

// Now is the install as it stands.
func (a *Ahead) Now() *Ahead {
	now := New(a.in, nil, a.Before)
	now.Spelling, now.Whose = a.Spelling, a.Whose
	return now
}

// LayerOf tells whose file comes to a path: a layer's, or the build's ("").
func (a *Ahead) LayerOf(at string) string { return a.Whose[at] }

// Removed tells whether what stands at a path goes.
func (a *Ahead) Removed(at string) bool { return a.gone[at] }

// Remove notes that what stands at a path goes.
func (a *Ahead) Remove(at string) { a.gone[at] = true }

// search is where a path stands among what comes, or would.
func (a *Ahead) search(at string) (i int, is bool) {
	return slices.BinarySearchFunc(a.coming, at, func(c Coming, at string) int { return strings.Compare(c.At, at) })
}

// Come has a file, folder or link come, in place of what was to come to its path.
func (a *Ahead) Come(c Coming) {
	if n := len(a.coming); n == 0 || a.coming[n-1].At < c.At { // as in a plan that goes through paths in order
		a.coming = append(a.coming, c)
		return
	}
	i, is := a.search(c.At)
	if is {
		a.coming[i] = c
		return
	}
	a.coming = slices.Insert(a.coming, i, c)
}

// Stay has nothing come to the paths that match. It returns what would have come.
func (a *Ahead) Stay(match func(at string) bool) (out []Coming) {
	a.coming = slices.DeleteFunc(a.coming, func(c Coming) bool {
		if match(c.At) {
			out = append(out, c)
			return true
		}
		return false
	})
	return out
}

// Forget lets go of all that comes.
func (a *Ahead) Forget() { a.coming = nil }

// Coming is all that comes, in the order of paths.
func (a *Ahead) Coming() []Coming { return a.coming }

// Comes is what comes to a path.
func (a *Ahead) Comes(at string) (c Coming, is bool) {
	i, is := a.search(at)
	if is {
		c = a.coming[i]
	}
	return c, is
}

// Brings tells whether a file, folder or link comes to a path.
func (a *Ahead) Brings(at string) bool {
	_, comes := a.search(at)
	return comes
}

// BringsBelow tells whether anything comes into a folder.
func (a *Ahead) BringsBelow(folder string) bool {
	i, _ := a.search(folder + "/")
	return i < len(a.coming) && strings.HasPrefix(a.coming[i].At, folder+"/")
}

// Has tells whether a file or link will stand at a path.
func (a *Ahead) Has(at string) bool {
	at = a.Spelling.Of(at)
	if a.Brings(at) {
		return true
	}
	e, ok := a.Before.Get(at)
	if !ok && a.in.Exists(at) {
		return true // in a skipped folder
	}
	return ok && e.Kind != tree.Dir && !a.Removed(at)
}

// HasFull is Has for a full path, which may lie outside the install.
func (a *Ahead) HasFull(full string) bool {
	return tree.Inside(a.in.Dir, full) && a.Has(tree.Rel(a.in.Dir, full))
}

// HasAnyCase is Has for names that differ in case, as Windows finds them.
func (a *Ahead) HasAnyCase(at string) bool {
	if slices.ContainsFunc(a.coming, func(c Coming) bool { return strings.EqualFold(c.At, at) }) {
		return true
	}
	return slices.ContainsFunc(a.Before,
		func(e tree.Entry) bool { return strings.EqualFold(e.Path, at) && !a.Removed(e.Path) })
}

// HasBelow tells whether anything will stand in a folder.
func (a *Ahead) HasBelow(folder string) bool {
	folder = strings.TrimSuffix(folder, "/")
	return a.BringsBelow(folder) ||
		slices.ContainsFunc(a.Before.Below(folder), func(e tree.Entry) bool { return !a.Removed(e.Path) })
}

// Folder tells whether a folder will stand at a path.
func (a *Ahead) Folder(at string) bool {
	return !a.Brings(at) && (a.Before.At(at).Kind == tree.Dir || a.HasBelow(at))
}

// In lists the files with an ending that will stand in a folder, itself and no deeper;
// folder ends with a slash, or is the top, "".
func (a *Ahead) In(folder, ending string) (out []string) {
	in := func(at string) bool {
		name, below := strings.CutPrefix(at, folder)
		return below && !strings.Contains(name, "/") && strings.HasSuffix(strings.ToLower(name), ending)
	}
	for _, c := range a.coming {
		if in(c.At) {
			out = append(out, c.At)
		}
	}
	for _, e := range a.Before {
		if e.Kind != tree.Dir && in(e.Path) && !a.Removed(e.Path) {
			out = append(out, e.Path)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Mode is the mode of the file or folder that will stand at a path.
func (a *Ahead) Mode(at string) fs.FileMode {
	if c, comes := a.Comes(at); comes {
		return c.Mode
	}
	return a.Before.At(at).Mode
}

// Content opens what will stand at a path; a full path is one outside the install, which
// stays as it is. The error is fs.ErrNotExist where nothing will stand there. done closes it.
func (a *Ahead) Content(at string) (r io.ReaderAt, size int64, done func(), err error) {
	if text, edited := a.Texts[at]; edited {
		return bytes.NewReader(text), int64(len(text)), func() {}, nil
	}
	if c, comes := a.Comes(at); comes {
		return a.Store.Content(*c.File), c.Size, func() {}, nil
	}
	if filepath.IsAbs(at) {
		return tree.OpenSized(at)
	}
	if a.Removed(at) {
		return nil, 0, nil, fs.ErrNotExist
	}
	return tree.OpenSized(a.in.Path(at))
}

// MaxText bounds a file that is read as text, in bytes.
const MaxText = 1 << 20

// Text is the content of a file of at most 1 MiB.
func (a *Ahead) Text(at string) ([]byte, error) {
	r, size, done, err := a.Content(at)
	if err != nil {
		return nil, err
	}
	defer done()
	if size > MaxText {
		return nil, fmt.Errorf("%s is of %s, more than %s", at, words.Bytes(size), words.Bytes(MaxText))
	}
	b := make([]byte, size)
	_, err = io.ReadFull(io.NewSectionReader(r, 0, size), b)
	return b, err
}

// Head is the first 512 bytes of a file, or all of a shorter one.
func (a *Ahead) Head(at string) ([]byte, error) {
	r, _, done, err := a.Content(at)
	if err != nil {
		return nil, err
	}
	defer done()
	b := make([]byte, 512)
	n, err := r.ReadAt(b, 0)
	if err == io.EOF {
		err = nil
	}
	return b[:n], err
}

// Jar looks at a jar; main is the class that a command runs of it, where it names one.
func (a *Ahead) Jar(at, main string) (*needs.Jar, error) {
	r, size, done, err := a.Content(at)
	if err != nil {
		return nil, err
	}
	defer done()
	return needs.ScanMain(r, size, main)
}

// Native looks at a native program.
func (a *Ahead) Native(at string) (*needs.Native, error) {
	r, _, done, err := a.Content(at)
	if err != nil {
		return nil, err
	}
	defer done()
	return needs.ReadNative(r)
}
