package plan

import (
	"context"
	"fmt"
	"strings"

	"freshkeel/internal/locker"
	"freshkeel/internal/staging"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// Stamp is what tells later that nobody wrote to a file since it was laid out.
type Stamp struct {
	Mtime int64 // nanoseconds since 1970
	Inode uint64
}

// Stage lays out beside the install what the plan brings in: read from the
// locker, hashed again (P5), flushed, with mode and owner. It returns the stamp of
// each file that it laid out, by path. The plan must be Checked; what comes is not known
// to it any more afterwards.
func (pr *Planner) Stage(run swap.Run, p *Plan, progress func(done, total int64)) (map[string]Stamp, error) {
	owner, _, err := tree.Describe(pr.Dir, "")
	if err != nil {
		return nil, err
	}
	l, err := pr.Locker()
	if err != nil {
		return nil, err
	}
	stamps := map[string]Stamp{}
	var done int64
	noted := func(at string, f *locker.File) {
		if f.Kind == tree.File {
			if e, ok, err := tree.Describe(run.Staged(at), at); err == nil && ok {
				stamps[at] = Stamp{e.Mtime, e.Inode}
			}
		}
		done += f.Size
		progress(done, p.Bytes)
	}
	lays := func(at string) *locker.File {
		c, comes := p.Comes(at)
		if !comes {
			return nil
		}
		if c.UID == tree.NoID {
			c.File.UID, c.File.GID = owner.UID, owner.GID
		}
		return c.File
	}
	for at, text := range p.Texts { // which the locker does not hold
		f := lays(at)
		if f == nil {
			continue
		}
		if err := staging.Lay(run, *f,
			func(full string) error { return staging.Text(full, text, f.Entry) }); err != nil {
			return nil, fmt.Errorf("stage %s: %w", at, err)
		}
		done += f.Size // without a stamp: it is not the build's content
		progress(done, p.Bytes)
	}
	find := func(at string) *locker.File {
		if _, edited := p.Texts[at]; edited {
			return nil
		}
		return lays(at)
	}
	if err := staging.Steps(context.Background(), l, run, p.Steps, find,
		func(one locker.Laying) { noted(one.File.Path, one.File) }); err != nil {
		return nil, fmt.Errorf("stage %w", err)
	}
	p.Forget()
	return stamps, nil
}

// Staged is what a plan lays out on one file system.
type Staged struct {
	Bytes int64
	Steps int
}

// Staging is what the plan lays out, by the folder in which each file system
// begins; "" is the install itself.
func (p *Plan) Staging() map[string]Staged {
	out := map[string]Staged{"": {}}
	for _, st := range p.Steps {
		on := ""
		for _, place := range p.Places {
			if strings.HasPrefix(st.Path, place+"/") && len(place) > len(on) {
				on = place
			}
		}
		n := out[on]
		if c, comes := p.Comes(st.Path); comes {
			n.Bytes += c.Size
		}
		n.Steps++
		out[on] = n
	}
	return out
}
