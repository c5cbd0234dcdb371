package plan

import (
	"path"
	"slices"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
)

// Runs lists the files of the install that the launch script runs, by their paths.
func (pr *Planner) Runs() (out []string) {
	script := pr.Profile.Launch.Script
	commands, err := pr.Launched()
	if err != nil {
		return nil // which the checks tell
	}
	for _, c := range commands {
		for _, at := range c.Runs(pr.Dir) {
			if at != script && !slices.Contains(out, at) {
				out = append(out, at)
			}
		}
	}
	return out
}

// Named lists the files of the install that a command of the launch script names, and does not run: an
// archive of scenery, say.
func (pr *Planner) Named() (out []string) {
	commands, err := pr.Launched()
	if err != nil {
		return nil // which the checks tell
	}
	for _, c := range commands {
		for _, arg := range c.Args {
			for _, word := range []string{arg, arg[strings.LastIndex(arg, "=")+1:]} {
				at := path.Clean(c.At(pr.Dir, word))
				if e, is, err := tree.Describe(pr.Path(at), at); tree.Local(at) && err == nil && is &&
					e.Kind == tree.File &&
					!slices.Contains(out, at) && !pr.Profile.Starts(at) {
					out = append(out, at)
				}
			}
		}
	}
	return out
}

// rename gives a build's file the name that the launch script runs, where there is
// one file of that kind and it can't be meant for anything else: nothing of the build
// has that name, no rule of the profile speaks of either, and the install has no file
// of the new name. What was so once is kept as a rule, in the inventory: it decides where
// a later build has several files of that kind.
func (pr *Planner) rename(p *Plan, build Items, rules map[string]string) Items {
	for _, at := range pr.Runs() {
		at = p.Spelling.Of(at)
		here, is := p.Before.Get(at)
		if len(rules) > 0 || // the operator's own
			build.Find(at) != nil || !is || here.Kind != tree.File || pr.Profile.Server.Own(at) ||
			pr.Profile.Server.Skip.Match(at) || profile.Reserved(at) {
			continue
		}
		of := pr.ofKind(build, endingOf(at))
		for _, rule := range p.named {
			if named := matching(of, rule.From); rule.To == at && len(named) == 1 {
				of = named
			}
		}
		if len(of) != 1 || path.Dir(of[0]) != path.Dir(at) {
			continue
		}
		if _, stands := p.Before.Get(of[0]); stands {
			continue
		}
		if now := pr.follows(p, build, at); now == of[0] && pr.canFollow(p, at, now) {
			continue // the script follows: a name says no version that is not in the file
		}
		build.Find(of[0]).At = at
		build = build.sorted(nil)
		p.Renamed = append(p.Renamed, inventory.Move{From: of[0], To: at})
	}
	p.named = slices.DeleteFunc(p.named, func(rule inventory.Move) bool {
		return slices.ContainsFunc(p.Renamed, func(m inventory.Move) bool { return m.To == rule.To })
	})
	for _, m := range p.Renamed {
		p.named = append(p.named, inventory.Move{From: resolve.PatternFor(m.From), To: m.To})
	}
	return build
}

// ofKind lists the files of a build with an ending; without one, its programs that have
// none.
func (pr *Planner) ofKind(build Items, ending string) (out []string) {
	for _, it := range build {
		// The ending of a name is looked for in it first, since telling it costs more.
		if it.File.Kind != tree.File || !strings.Contains(strings.ToLower(it.At), ending) || endingOf(it.At) != ending {
			continue
		}
		if ending != "" || it.File.Mode&0o111 != 0 || pr.isProgram(it.File) {
			out = append(out, it.At)
		}
	}
	return out
}

// endingOf is the ending of a file's name that tells of its kind: what is a part of a
// version is none, as in "server-1.0.9".
func endingOf(name string) string {
	base := path.Base(name)
	if v := version.In(base); v != "" {
		base = strings.Replace(base, v, "", 1)
	}
	return strings.ToLower(path.Ext(base))
}

// isProgram tells whether a stored file is a native program, which a download may have
// taken the execute bit of.
func (pr *Planner) isProgram(f *locker.File) bool {
	l, err := pr.Locker()
	if err != nil || f.Size < 64 {
		return false
	}
	_, native := needs.ReadProgram(l.Content(*f))
	return native
}

func matching(names []string, pattern string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(at string) bool { return !(tree.Patterns{pattern}).Match(at) })
}

// AlikeIn proposes a [place] pattern: the one file of the build with the same
// extension as at.
func AlikeIn(set *locker.Set, at string) string {
	var found []string
	for _, f := range set.Entries {
		if f.Kind == tree.File && endingOf(f.Path) == endingOf(at) && !strings.Contains(f.Path, "/") {
			found = append(found, f.Path)
		}
	}
	if len(found) != 1 {
		return ""
	}
	return resolve.PatternFor(found[0])
}
