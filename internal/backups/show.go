package backups

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// View is what a backup holds, and how it differs from the one before.
type View struct {
	*Backup
	Before  string        `json:"before,omitempty"` // the backup that it is held against
	Added   []string      `json:"added,omitempty"`
	Removed []string      `json:"removed,omitempty"`
	Changed []string      `json:"changed,omitempty"` // in content, kind or target
	Moving  []string      `json:"moving,omitempty"`  // they changed while they were read
	Needed  string        `json:"needed_by,omitempty"`
	Entries []locker.File `json:"-"`
}

// Show reads a backup and compares it with the whole one before it. Its
// entries are kept where all are asked for.
func (sh *Shelf) Show(id string, all bool) (*View, error) {
	l, err := sh.Locker()
	if err != nil {
		return nil, err
	}
	heads, err := sh.List()
	if err != nil {
		return nil, err
	}
	if id, err = sh.Meant(id); err != nil {
		return nil, err
	}
	at := slices.IndexFunc(heads, func(b *Backup) bool { return b.ID == id })
	v := &View{Backup: heads[at]}
	if needed, err := sh.neededBackups(heads); err == nil {
		v.Needed = needed[id]
	}
	// The paths of the backup before, each with a hash of all that counts as its
	// content: the entries of two backups are many to hold.
	var was map[string]tree.Sum
	for _, h := range slices.Backward(heads[:at]) {
		if v.Partial() || h.Partial() || h.Damage != "" {
			continue
		}
		was = make(map[string]tree.Sum, h.Files)
		if err := l.Each(h.Owner, h.ID, func(f *locker.File) { was[f.Path] = alike(f) }); err == nil {
			v.Before = h.ID
			break
		}
	}
	if err := l.Each(v.Owner, id, func(f *locker.File) {
		if f.Moving {
			v.Moving = append(v.Moving, f.Path)
		}
		if all {
			one := *f
			one.Pieces = f.PieceSums() // listed, also where there is one
			v.Entries = append(v.Entries, one)
		}
		if v.Before == "" {
			return
		}
		if old, had := was[f.Path]; !had {
			v.Added = append(v.Added, f.Path)
		} else if old != alike(f) {
			v.Changed = append(v.Changed, f.Path)
		}
		delete(was, f.Path)
	}); err != nil {
		return nil, err
	}
	if v.Before != "" {
		v.Removed = slices.Sorted(maps.Keys(was))
	}
	return v, nil
}

// alike hashes what makes two entries of one path the same: kind, target, pieces.
func alike(f *locker.File) tree.Sum {
	b := append([]byte(f.Kind.String()), 0)
	b = append(append(b, f.Target...), 0)
	for _, p := range f.PieceSums() {
		b = append(b, p[:]...)
	}
	return tree.SumBytes(b)
}

// Check reads backups back and compares hashes: the one given, or all of
// this install for "". A share reads a part, another each day, so that as many
// days as it has parts read everything.
func (sh *Shelf) Check(ctx context.Context, id string, parts int) (out *locker.Checked, err error) {
	l, err := sh.Locker()
	if err != nil {
		return nil, err
	}
	sets, err := sh.List()
	if err != nil {
		return nil, err
	}
	if id != "" {
		if id, err = sh.Meant(id); err != nil {
			return nil, err
		}
		sets = slices.DeleteFunc(sets, func(s *Backup) bool { return s.ID != id })
	}
	share := locker.Share{Of: uint64(max(parts, 1)), At: uint64(time.Now().Unix() / 86400)}
	_, err = sh.Step("read back", func() (string, error) {
		lacks, err := sh.lacks(ctx, id)
		if err != nil {
			return "", err
		}
		out, err = l.Check(ctx, sets, share, sh.Moves("read back"))
		if err != nil {
			return "", err
		}
		out.Lacks = lacks
		for _, k := range lacks {
			out.Broken = append(out.Broken, k.ID+" in "+sh.copy.Where()+": "+k.Why)
		}
		return fmt.Sprintf("%s of %s, %s", words.Plural(out.Pieces, "piece"), words.Plural(out.Sets, "backup"),
			words.Bytes(out.Bytes)), nil
	})
	return out, err
}

// lacks are the backups that a copy should have, by what was sent to it and by what is here, and has
// not, or not as they were sent: of all, or of the one given.
func (sh *Shelf) lacks(ctx context.Context, id string) ([]locker.Lack, error) {
	if sh.copy == nil {
		return nil, nil
	}
	owner, err := sh.Identity()
	if err != nil {
		return nil, err
	}
	list, err := sh.copy.Look(ctx, sh.here, owner)
	return slices.DeleteFunc(list, func(k locker.Lack) bool { return id != "" && k.ID != id }), err
}
