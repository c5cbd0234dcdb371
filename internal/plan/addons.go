package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/resolve"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// holdBack leaves add-ons out of this refit, by path, file name or their own
// name: their files go out with the swap, and stand in its backup.
func (pr *Planner) holdBack(p *Plan, w resolve.Want) error {
	if len(w.Hold) == 0 {
		return nil
	}
	if len(pr.Profile.Addons.Files) == 0 {
		return tell.Misuse("this profile does not say which files are add-ons",
			"name them in freshkeel.toml under [addons] files, descriptor and fits")
	}
	all := p.Addons(pr.Profile.Addons, append(p.Before.Paths(), p.paths()...))
	for _, name := range w.Hold {
		n := slices.IndexFunc(all, func(a ahead.Addon) bool {
			return a.Path == name || a.Name == name ||
				path.Base(a.Path) == name
		})
		if n < 0 {
			var have []string
			for _, a := range all {
				have = append(have, path.Base(a.Path))
			}
			return tell.Misuse(fmt.Sprintf("there is no add-on %q", name), "these are here: "+strings.Join(have, ", "))
		}
		p.leaveOut(all[n].Path)
	}
	return nil
}

// leaveOut takes a path, and all below it, out of what will stand in the
// install.
func (p *Plan) leaveOut(top string) {
	below := func(at string) bool { return at == top || strings.HasPrefix(at, top+"/") }
	p.HeldBack = append(p.HeldBack, top)
	p.Steps = slices.DeleteFunc(p.Steps, func(st swap.Step) bool { return below(st.Path) })
	for _, c := range p.Stay(below) {
		p.Bytes -= c.Size
	}
	for i := range p.items {
		if below(p.items[i].At) {
			p.items[i].owned = unowned
		}
	}
	p.Kept = slices.DeleteFunc(p.Kept, below)
	for _, e := range p.Before {
		at := e.Path
		switch {
		case !below(at):
		case e.Kind == tree.Dir:
			p.Steps = append(p.Steps, swap.Step{Do: swap.DropDir, Path: at})
		default:
			p.remove(at)
		}
	}
}

// paths are those that something comes to.
func (p *Plan) paths() (out []string) {
	for _, c := range p.Coming() {
		out = append(out, c.At)
	}
	return out
}
