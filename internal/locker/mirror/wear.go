package mirror

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/locker/index"
	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"
)

// wornCopy is the share of a copy's pack, in per cent, that may be of no use before
// what is of use is sent anew: lines are slower than disks.
const wornCopy = 50

// Drop removes a set from the copy. Its content stays until GiveBack.
func (p *Pushing) Drop(ctx context.Context, s *set.Set) error {
	key := s.Owner + "/" + s.ID
	if err := p.c.inside.Remove(ctx, "sets/"+key+".set"); err != nil {
		return err
	}
	delete(p.sets, key)
	k := knownIn(p.c.cache)
	delete(k.Sent, key)
	k.Sets = slices.DeleteFunc(k.Sets, func(o string) bool { return o == key })
	if err := k.write(p.c.cache); err != nil {
		return err
	}
	if err := p.c.place.Remove(ctx, "sets/"+key+".packs"); err != nil {
		return err
	}
	return p.remember()
}

// Wear sends anew what is still of use in packs that are mostly of none, so that
// GiveBack can remove those. It needs every set of the copy to be here too: where
// one is not, what it needs can't be told apart, and nothing is done.
func (p *Pushing) Wear(ctx context.Context, note func(int64)) error {
	living := map[tree.Sum]bool{}
	var sets []*set.Set
	for key, n := range p.sets {
		owner, id, _ := strings.Cut(key, "/")
		heads, err := p.l.Heads(owner)
		at := slices.IndexFunc(heads, func(h *set.Set) bool { return h.ID == id })
		if err != nil || n == nil || at < 0 || !heads[at].Taken.Equal(n.Taken) {
			return err
		}
		if err := p.l.Each(owner, id, func(f *set.File) {
			for _, sum := range f.PieceSums() {
				p.pieces.Chain(sum, func(s tree.Sum, _ index.Place, _ bool) { living[s] = true })
			}
		}); err != nil {
			return nil // told by a check
		}
		sets = append(sets, heads[at])
	}
	worn := map[int32]bool{}
	for at, name := range p.packs {
		b, err := p.c.index(ctx, name)
		if err != nil {
			return err
		}
		live, last := int64(0), int64(-1) // lines of one frame lie together
		for _, ln := range index.Parse(b).Lines {
			if !living[ln.Sum] || int64(ln.Off) == last {
				continue
			}
			if in, _, ok := p.pieces.Find(ln.Sum); ok && in.Pack == int32(at) {
				live, last = live+int64(ln.Stored), int64(ln.Off)
			}
		}
		if live > 0 && live*100 < p.there[name]*(100-wornCopy) {
			worn[int32(at)] = true
		}
	}
	p.pieces = index.Table{} // without those of the worn, which are sent anew
	for at, name := range p.packs {
		x := &index.Index{}
		if !worn[int32(at)] {
			b, err := p.c.index(ctx, name)
			if err != nil {
				return err
			}
			x = index.Parse(b)
		}
		p.pieces.Add(x)
	}
	for _, s := range sets {
		if !slices.ContainsFunc(p.sets[s.Owner+"/"+s.ID].Packs,
			func(name string) bool { return worn[int32(slices.Index(p.packs, name))] }) {
			continue
		}
		// Content that is damaged here stays there as it is, and a check reports it.
		if err := p.Push(ctx, s, note); err != nil && !errors.As(err, new(*set.Damage)) {
			return err
		}
	}
	return nil
}

// GiveBack removes packs that no set of the copy needs, and returns their bytes.
// Nothing goes where it is not known which packs a set needs.
func (p *Pushing) GiveBack(ctx context.Context) (freed int64, err error) {
	if err := p.clear(ctx); err != nil {
		return 0, err
	}
	needed, all := p.needed()
	if !all {
		return 0, nil
	}
	for name, size := range p.there {
		if needed[name] {
			continue
		}
		// Its index first, as here: a pack without one is nothing that anybody reads.
		for _, end := range []string{".idx", ".zst"} {
			if err := p.c.inside.Remove(ctx, "packs/"+name+end); err != nil {
				return freed, err
			}
			if err := p.halt("removed " + end); err != nil {
				return freed, err
			}
		}
		os.Remove(filepath.Join(p.c.cache, name+".idx"))
		delete(p.there, name)
		freed += size
	}
	return freed, nil
}
