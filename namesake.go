package freshkeel

import (
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Makers name a file after its version, and launch scripts run it by one name. A build
// that is laid beside what the script runs would change nothing: the commonest mistake.

// runs lists the files of the install that the launch script runs, by their paths.
func (k *Keel) runs() (out []string) {
	script := k.in.Profile.Launch.Script
	if script == "" {
		return nil
	}
	commands, err := launch.Read(k.in.Dir, script, k.in.ServerEnv())
	if err != nil {
		return nil // which the checks tell
	}
	for _, c := range commands {
		named := []string{c.Jar, c.Script, c.Program}
		if line, err := c.JavaLine(func(name string) ([]byte, error) {
			return tree.ReadUpTo(filepath.Join(c.Dir, filepath.FromSlash(name)), install.MaxScript)
		}); c.Java() && err == nil && c.Jar == "" {
			for _, e := range line.ClassPath {
				if strings.HasSuffix(strings.ToLower(e), ".jar") {
					named = append(named, c.At(k.in.Dir, e))
				}
			}
		}
		for _, at := range named {
			if at == c.Program {
				if c.Path == "" || !tree.Inside(k.in.Dir, c.Path) {
					continue
				}
				at, _ = filepath.Rel(k.in.Dir, c.Path)
				at = filepath.ToSlash(at)
			}
			if at = path.Clean(at); tree.Local(at) && at != script && !slices.Contains(out, at) {
				out = append(out, at)
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
func (k *Keel) rename(p *Plan, build map[string]locker.File, rules map[string]string) {
	for _, at := range k.runs() {
		at = p.Spelling.Of(at)
		here, is := p.Before.Get(at)
		if _, brought := build[at]; brought || !is || here.Kind != tree.File || k.in.Profile.Server.Own(at) || k.in.Profile.Server.Skip.Match(at) || profile.Reserved(at) {
			continue
		}
		var of []string
		for _, name := range slices.Sorted(maps.Keys(build)) {
			if f := build[name]; f.Kind == tree.File && endingOf(name) == endingOf(at) && (endingOf(at) != "" || f.Mode&0o111 != 0 || k.isProgram(f)) {
				of = append(of, name)
			}
		}
		if len(rules) > 0 { // the operator's own
			continue
		}
		for _, rule := range p.named {
			if named := matching(of, rule.From); rule.To == at && len(named) == 1 {
				of = named
			}
		}
		if len(of) != 1 || strings.Contains(of[0], "/") {
			continue
		}
		if _, stands := p.Before.Get(of[0]); stands {
			continue
		}
		f := build[of[0]]
		f.Path = at
		delete(build, of[0])
		build[at] = f
		p.Renamed = append(p.Renamed, Move{From: of[0], To: at})
	}
	p.named = slices.DeleteFunc(p.named, func(rule Move) bool {
		return slices.ContainsFunc(p.Renamed, func(m Move) bool { return m.To == rule.To })
	})
	for _, m := range p.Renamed {
		p.named = append(p.named, Move{From: resolve.PatternFor(m.From), To: m.To})
	}
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
func (k *Keel) isProgram(f locker.File) bool {
	l, err := k.in.Locker()
	if err != nil || f.Size < 64 {
		return false
	}
	_, native := needs.ReadProgram(l.Content(f))
	return native
}

func matching(names []string, pattern string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(at string) bool { return !(tree.Patterns{pattern}).Match(at) })
}

// checkEffect finds a build that changes nothing of what the launch script runs: it
// would come up well, and be the old one.
func checkEffect(_ context.Context, s *situation) (out []Finding) {
	for _, m := range s.plan.Renamed {
		out = append(out, ok("%s of the build becomes %s, which the launch script runs", m.From, m.To)...)
	}
	runs := s.k.runs()
	if len(runs) == 0 || s.cand.Stays || len(s.plan.Steps) == 0 {
		return out
	}
	adds := 0
	for _, st := range s.plan.Steps {
		switch st.Do {
		case swap.Replace, swap.Remove:
			return out
		case swap.Add:
			adds++
		}
	}
	for _, at := range runs {
		if _, changes := s.ahead.Files[at]; changes || s.plan.set.Find(at) != nil {
			return out
		}
	}
	where := s.k.in.Path(s.k.in.Profile.Launch.Script)
	return append(out, Finding{Level: Stop, What: fmt.Sprintf("the build adds %s and replaces none; the launch script goes on running %s, the old one", words.Plural(adds, "file"), words.Some(runs, 3)), Where: where,
		Why: "the server would come up, and nothing would be new", Do: s.whichIs(runs[0])})
}

// seenToRun holds what the new processes have open against what was swapped in: lines of
// a console may be said by anything. A runtime keeps its jar open, and a native program
// is what a process runs; a script that is read and closed can't be seen so. What can't
// be seen is told as that.
func (t *transaction) seenToRun(p *Plan) {
	var brought []string
	for _, at := range t.k.runs() {
		if f, ok := p.Files[at]; ok && f.Kind == tree.File {
			brought = append(brought, at)
		}
	}
	if len(brought) == 0 {
		return
	}
	used, visible := host.Using(t.k.in.RunDir().Status().Processes)
	real := tree.Real(t.k.in.Dir)
	for _, at := range brought {
		full := filepath.Join(real, filepath.FromSlash(at))
		switch {
		case !visible:
			t.e.Told = append(t.e.Told, "which files the server's processes run can't be seen from here: "+at+" is known to be new by its name alone")
		case slices.Contains(used, full):
			t.e.Told = append(t.e.Told, "the server's processes were seen to run the new "+at)
		case t.staysOpen(at):
			t.e.Told = append(t.e.Told, "no process of the server has "+at+" open: look whether it runs the new build")
		}
	}
}

// staysOpen tells whether a process that runs a file has it open as long as it runs.
func (t *transaction) staysOpen(at string) bool {
	if strings.HasSuffix(at, ".jar") {
		return true
	}
	f, err := t.k.in.Open(at)
	if err != nil {
		return false
	}
	defer f.Close()
	_, native := needs.ReadProgram(f)
	return native
}
