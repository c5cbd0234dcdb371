package compare

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"freshkeel/internal/fetch"
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
)

// Side is one of two trees that are compared. Close it in any case.
type Side struct {
	Label   string // as people call it
	entries []entry
	open    func(e *entry) (io.ReaderAt, int64, func(), error)
	small   func(e *entry, b []byte) (n int, err error)  // reads as far as b has room; may be nil
	prepare func(ctx context.Context, of []*entry) error // before several are opened; may be nil
	close   func()
}

// entry is one path of a side.
type entry struct {
	tree.Entry
	sum tree.Sum     // of its content; zero: not known yet
	of  *locker.File // in the locker
	own string       // the path that it has on its own side, which may be another
}

// Close lets go of the side.
func (s *Side) Close() {
	if s.close != nil {
		s.close()
	}
}

// unwrapped drops the folder that everything of a side lies in, as archives have it, where the
// other side has no folder of that name.
func (s *Side) unwrapped(o *Side) {
	top := ""
	for _, e := range s.entries {
		first, _, inside := strings.Cut(e.Path, "/")
		if (top != "" && first != top) || (!inside && e.Kind != tree.Dir) {
			return
		}
		top = first
	}
	if top == "" || slices.ContainsFunc(o.entries, func(e entry) bool {
		return e.Path == top || strings.HasPrefix(e.Path, top+"/")
	}) {
		return
	}
	s.Label += ", in " + top + "/"
	s.entries = slices.DeleteFunc(s.entries, func(e entry) bool { return e.Path == top })
	for i := range s.entries {
		s.entries[i].Path = strings.TrimPrefix(s.entries[i].Path, top+"/")
	}
}

// sorted brings entries into the order of their paths, the last of one path counting.
func sorted(list []entry) []entry {
	slices.SortStableFunc(list, func(a, b entry) int { return strings.Compare(a.Path, b.Path) })
	out := list[:0]
	for i := range list {
		if i+1 < len(list) && list[i+1].Path == list[i].Path {
			continue
		}
		out = append(out, list[i])
	}
	return out
}

// Folder is a folder as it is. skip is not looked at. known, which may be nil, tells the
// content of a file without reading it; ok is false where it can't.
func Folder(dir, label string, skip tree.Patterns, known func(tree.Entry) (sum tree.Sum, ok bool)) (*Side, error) {
	list, err := tree.Walk(dir, skip)
	if err != nil {
		return nil, err
	}
	root, err := tree.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	s := &Side{Label: label, entries: make([]entry, len(list)), close: func() { root.Close() }}
	for i, e := range list {
		s.entries[i].Entry, s.entries[i].own = e, e.Path
		if known != nil && e.Kind == tree.File {
			if sum, ok := known(e); ok {
				s.entries[i].sum = sum
			}
		}
	}
	s.small = func(e *entry, b []byte) (int, error) { return root.ReadInto(e.own, b) }
	s.open = func(e *entry) (io.ReaderAt, int64, func(), error) { return tree.Sized(root.Open(e.own)) }
	return s, nil
}

// Stored is a build or a backup of the locker. name tells the path that the install uses for
// one of a build's; nil: the same.
func Stored(l *locker.Locker, set *locker.Set, label string, name func(at string) string) *Side {
	s := &Side{Label: label, entries: make([]entry, 0, len(set.Entries))}
	for i := range set.Entries {
		f := &set.Entries[i]
		if tree.Ours(f.Path) {
			continue // a dump of a database, say: it stands in no folder
		}
		e := entry{Entry: f.Entry, sum: f.Sum, of: f, own: f.Path}
		if name != nil {
			e.Path = name(f.Path)
		}
		s.entries = append(s.entries, e)
	}
	s.entries = sorted(s.entries)
	s.open = func(e *entry) (io.ReaderAt, int64, func(), error) {
		return l.Content(*e.of), e.of.Size, func() {}, nil
	}
	return s
}

// Archive is what is in an archive, of any kind that a build may come as. A jar is opened too:
// compared with another one, its entries count. What has to be looked at again is laid out in a
// folder of its own below tmp meanwhile.
func Archive(ctx context.Context, path, label, tmp string) (*Side, error) {
	fi, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	v := &fetch.Verified{Path: path, Name: filepath.Base(path), Size: fi.Size()}
	rule := unpack.Rule{}
	if isZip(path) {
		rule.As = "zip"
	}
	dir, err := os.MkdirTemp(tmp, "freshkeel-compare-")
	if err != nil {
		return nil, err
	}
	s := &Side{Label: label, close: func() { os.RemoveAll(dir) }}
	var mu sync.Mutex
	if _, err := unpack.Unpacked(ctx, v, rule, dir, func(it unpack.Item) error {
		e := entry{own: it.Path, Entry: tree.Entry{Path: it.Path, Kind: tree.File, Mode: it.Mode.Perm(), Target: it.Target}}
		switch {
		case it.Mode.IsDir():
			e.Kind = tree.Dir
		case it.Mode&fs.ModeSymlink != 0:
			e.Kind = tree.Link
		default:
			h := tree.NewHash()
			n, err := io.Copy(h, it.Body)
			if err != nil {
				return err
			}
			e.Size, e.sum = n, h.Sum()
		}
		mu.Lock()
		defer mu.Unlock()
		s.entries = append(s.entries, e)
		return nil
	}); err != nil {
		s.Close()
		return nil, err
	}
	s.entries = sorted(s.entries)
	laid := map[string]string{} // by the path in the archive
	s.prepare = func(ctx context.Context, of []*entry) error {
		want := map[string]bool{}
		for _, e := range of {
			want[e.own] = laid[e.own] == ""
		}
		_, err := unpack.Unpacked(ctx, v, rule, dir, func(it unpack.Item) error {
			mu.Lock()
			wanted := want[it.Path]
			mu.Unlock()
			if !wanted || it.Body == nil {
				return nil
			}
			f, err := os.CreateTemp(dir, "laid-")
			if err != nil {
				return err
			}
			_, err = io.Copy(f, it.Body)
			mu.Lock()
			laid[it.Path] = f.Name()
			mu.Unlock()
			return errors.Join(err, f.Close())
		})
		return err
	}
	s.open = func(e *entry) (io.ReaderAt, int64, func(), error) {
		if laid[e.own] == "" {
			if err := s.prepare(ctx, []*entry{e}); err != nil {
				return nil, 0, nil, err
			}
		}
		return tree.OpenSized(laid[e.own])
	}
	return s, nil
}

// isZip tells whether a file is a zip by its first bytes, a jar too.
func isZip(path string) bool { return strings.HasPrefix(string(tree.Head(path)), "PK\x03\x04") }

// Single is one file that is no archive.
func Single(path, label string) (*Side, error) {
	full, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	e, ok, err := tree.Describe(full, filepath.Base(full))
	if err != nil {
		return nil, err
	}
	if !ok || e.Kind != tree.File {
		return nil, tree.ErrNotRegular
	}
	return &Side{Label: label, entries: []entry{{Entry: e, own: e.Path}},
		open: func(*entry) (io.ReaderAt, int64, func(), error) { return tree.OpenSized(full) }}, nil
}
