package locker

import (
	"errors"
	"math/bits"

	"freshkeel/internal/locker/set"
	"freshkeel/internal/tree"
)

// Weight is what a build takes in the locker.
type Weight struct {
	Stored int64    // bytes of the packs that hold its content
	Alone  int64    // of those, what nothing else needs: what dropping it gives back
	With   []string // other builds that share content with it
	Backup bool     // backups do
}

// Builds beyond these share one bit of a piece's owners.
const (
	manyBuilds = 61
	rest       = 62
	backupsBit = 63
)

// Weigh tells what each build takes, by its name. It reads every set of the locker.
func (l *Locker) Weigh() (map[string]*Weight, error) {
	heads, err := l.Heads(set.Builds)
	if err != nil {
		return nil, err
	}
	owners := map[tree.Sum]uint64{} // of pieces of builds: a bit for each build
	bit := func(i int) uint { return uint(min(i, manyBuilds+1)) }
	for i, h := range heads {
		if err := l.Each(set.Builds, h.ID, func(f *set.File) {
			for _, p := range f.PieceSums() {
				l.Chain(p, func(s tree.Sum) { owners[s] |= 1 << bit(i) })
			}
		}); err != nil && !errors.Is(err, set.ErrNoSet) {
			continue // a check tells
		}
	}
	all, err := l.Owners()
	if err != nil {
		return nil, err
	}
	for _, o := range all {
		if o == set.Builds {
			continue
		}
		backups, err := l.Heads(o)
		if err != nil {
			return nil, err
		}
		for _, h := range backups {
			l.Each(o, h.ID, func(f *set.File) {
				for _, p := range f.PieceSums() {
					l.Chain(p, func(s tree.Sum) {
						if _, ours := owners[s]; ours {
							owners[s] |= 1 << backupsBit
						}
					})
				}
			})
		}
	}
	out := map[string]*Weight{}
	for i, h := range heads {
		if i <= manyBuilds { // of the rest no more is known than that they are there
			out[h.ID] = &Weight{}
		}
	}
	weigh(l, owners, func(mask uint64, bytes int64) {
		for m := mask &^ (1<<backupsBit | 1<<rest); m != 0; m &= m - 1 {
			w := out[heads[bits.TrailingZeros64(m)].ID]
			w.Stored += bytes
			if mask == 1<<bits.TrailingZeros64(m) {
				w.Alone += bytes
			}
		}
	})
	sharing(owners, heads, out)
	return out, nil
}

// weigh hears of each piece who needs it and how many bytes of its frame are its own: a frame
// is shared out by the sizes of its pieces.
func weigh(l *Locker, owners map[tree.Sum]uint64, each func(mask uint64, bytes int64)) {
	type frame struct {
		pack int32
		off  int64
	}
	whole := map[frame]int64{}
	for s := range owners {
		if p, ok := l.Find(s); ok {
			whole[frame{p.Pack, p.Off}] += int64(p.Size)
		}
	}
	for s, mask := range owners {
		if p, ok := l.Find(s); ok {
			each(mask, int64(p.Stored)*int64(p.Size)/max(whole[frame{p.Pack, p.Off}], 1))
		}
	}
}

// sharing tells with whom each build shares content.
func sharing(owners map[tree.Sum]uint64, heads []*set.Set, out map[string]*Weight) {
	with := make([]uint64, len(heads))
	for _, mask := range owners {
		for m := mask &^ (1<<backupsBit | 1<<rest); m != 0; m &= m - 1 {
			with[bits.TrailingZeros64(m)] |= mask
		}
	}
	for i, h := range heads {
		w := out[h.ID]
		if w == nil {
			continue
		}
		w.Backup = with[i]&(1<<backupsBit) != 0
		for j, other := range heads {
			if j != i && j <= manyBuilds && with[i]&(1<<uint(j)) != 0 {
				w.With = append(w.With, other.ID)
			}
		}
	}
}
