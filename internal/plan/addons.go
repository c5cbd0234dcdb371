package plan

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
)

// holdBack leaves add-ons out of this refit, by path, file name or their own
// name: their files go out with the swap, and stand in its backup.
func (k *Planner) holdBack(p *Plan, w resolve.Want) error {
	if len(w.Hold) == 0 {
		return nil
	}
	if len(k.Profile.Addons.Files) == 0 {
		return tell.Misuse("this profile does not say which files are add-ons", "name them in freshkeel.toml under [addons] files, descriptor and fits")
	}
	all := p.Addons(k.Profile.Addons, append(p.Before.Paths(), slices.Sorted(maps.Keys(p.Files))...))
	for _, name := range w.Hold {
		n := slices.IndexFunc(all, func(a ahead.Addon) bool { return a.Path == name || a.Name == name || path.Base(a.Path) == name })
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
