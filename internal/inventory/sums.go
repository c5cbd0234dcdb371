package inventory

import (
	"runtime"
	"sync"
	"sync/atomic"

	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

// Sums tells the content of installed files, reading only those whose times
// don't prove that they are what the inventory says.
type Sums struct {
	k    *Kept
	at   string              // what was read last,
	sum  tree.Sum            // and what it is
	read map[string]tree.Sum // nil: nothing is kept
	full bool                // no more is kept
}

// Sums tells the content of installed files that are looked at in order, each perhaps more
// than once in a row.
func (kp *Kept) Sums() *Sums { return &Sums{k: kp} }

// SumsKept is Sums for files that are looked at in any order: none is read twice, until
// InOrder is called.
func (kp *Kept) SumsKept() *Sums { return &Sums{k: kp, read: map[string]tree.Sum{}} }

// InOrder says that from now on files are looked at in order, so that what is read need not
// be kept: of a large install that would be much.
func (s *Sums) InOrder() { s.full = true }

// Ahead reads files that will be asked for, several at a time: where nothing is known of an
// install, all that a build brings are. One that can't be read is told when it is asked for.
func (s *Sums) Ahead(list []tree.Entry) {
	root, err := tree.OpenRoot(s.k.Dir)
	if err != nil {
		return
	}
	defer root.Close()
	s.read = make(map[string]tree.Sum, len(list))
	var mu sync.Mutex
	var next atomic.Int64
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(list); i = int(next.Add(1)) - 1 {
				f, err := root.Open(list[i].Path)
				if err != nil {
					continue
				}
				sum, err := tree.SumOf(f)
				f.Close()
				if err == nil {
					mu.Lock()
					s.read[list[i].Path] = sum
					mu.Unlock()
				}
			}
		})
	}
	wait.Wait()
	s.full = true
}

// Of is the content of an installed file; was is what the inventory says of it, nil for
// nothing.
func (s *Sums) Of(e tree.Entry, was *Owned) (tree.Sum, error) {
	if was != nil && was.SeenAt != 0 && e.SameIdentity(was.Entry) && e.Settled(was.SeenAt) {
		return was.Sum, nil
	}
	if sum, ok := s.read[e.Path]; ok {
		return sum, nil
	}
	if s.at == e.Path {
		return s.sum, nil
	}
	f, err := s.k.Open(e.Path)
	if err != nil {
		return tree.Sum{}, err
	}
	defer f.Close()
	sum, err := tree.SumOf(f)
	if err == nil {
		s.at, s.sum = e.Path, sum
		if s.read != nil && !s.full {
			s.read[e.Path] = sum
		}
	}
	return sum, err
}

// SameAs tells whether an installed entry has the content of a stored file.
func (s *Sums) SameAs(e tree.Entry, was *Owned, f *locker.File) (bool, error) {
	switch {
	case e.Kind != f.Kind:
		return false, nil
	case e.Kind == tree.Dir:
		return true, nil
	case e.Kind == tree.Link:
		return e.Target == f.Target, nil
	case e.Size != f.Size:
		return false, nil
	}
	got, err := s.Of(e, was)
	return got == f.Sum, err
}
