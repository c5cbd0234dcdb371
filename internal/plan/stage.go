package plan

import (
	"context"
	"fmt"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/staging"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// Stage lays out beside the install what the plan brings in: read from the
// locker, hashed again (P5), flushed, with mode and owner.
func (k *Planner) Stage(run swap.Run, p *Plan, progress func(done, total int64)) error {
	owner, _, err := tree.Describe(k.Dir, "")
	if err != nil {
		return err
	}
	l, err := k.Locker()
	if err != nil {
		return err
	}
	owned := map[string]*inventory.Owned{}
	for i := range p.Owned {
		owned[p.Owned[i].Path] = &p.Owned[i]
	}
	var done int64
	noted := func(at string, f *locker.File) {
		// The times that it has now prove later that nobody wrote to it.
		if o := owned[at]; o != nil && f.Kind == tree.File {
			if e, ok, err := tree.Describe(run.Staged(at), at); err == nil && ok {
				o.Mtime, o.Inode = e.Mtime, e.Inode
			}
		}
		done += f.Size
		progress(done, p.Bytes)
	}
	mine := map[string]*locker.File{} // each as it is laid out; edited texts are laid out here
	for _, s := range p.Steps {
		f, ok := p.Files[s.Path]
		if !ok {
			continue
		}
		if f.UID < 0 {
			f.UID, f.GID = owner.UID, owner.GID
		}
		if text, edited := p.Texts[s.Path]; edited {
			if err := staging.Lay(run, f, func(at string) error { return staging.Text(at, text, f.Entry) }); err != nil {
				return fmt.Errorf("stage %s: %w", s.Path, err)
			}
			noted(s.Path, &f)
			continue
		}
		mine[s.Path] = &f
	}
	find := func(at string) *locker.File { return mine[at] }
	if err := staging.Steps(context.Background(), l, run, p.Steps, find, func(one locker.Laying) { noted(one.File.Path, one.File) }); err != nil {
		return fmt.Errorf("stage %w", err)
	}
	return nil
}

// staged is what a plan lays out on one file system.
type staged struct {
	Bytes int64
	Steps int
}
