package inventory

import (
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
)

// Sums tells the content of installed files, reading only those whose times
// don't prove that they are what the inventory says.
type Sums struct {
	k    *Kept
	seen map[string]Owned
	read map[string]tree.Sum // what had to be read, once
}

func (k *Kept) Sums(seen map[string]Owned) Sums { return Sums{k, seen, map[string]tree.Sum{}} }

func (s Sums) Of(e tree.Entry) (tree.Sum, error) {
	if o, ok := s.seen[e.Path]; ok && o.SeenAt != 0 && e.SameIdentity(o.Entry) && e.Settled(o.SeenAt) {
		return o.Sum, nil
	}
	if sum, ok := s.read[e.Path]; ok {
		return sum, nil
	}
	f, err := s.k.Open(e.Path)
	if err != nil {
		return tree.Sum{}, err
	}
	defer f.Close()
	sum, err := tree.SumOf(f)
	if err == nil {
		s.read[e.Path] = sum
	}
	return sum, err
}

// SameAs tells whether an installed entry has the content of a stored file.
func (s Sums) SameAs(e tree.Entry, f locker.File) (bool, error) {
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
	got, err := s.Of(e)
	return got == f.Sum, err
}
