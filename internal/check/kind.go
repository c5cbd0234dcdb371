package check

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/feed"
	"freshkeel/internal/needs"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// installerName is how a file that installs something, or that players run, is
// usually called.
var installerName = regexp.MustCompile(`(?i)(^|[-_. ])(setup|installer|client|launcher)([-_. ]|\d|$)`)

// installers are the endings of files that people start to install something.
var installers = []string{".exe", ".msi", ".jar", ".sh", ".run", ".dmg", ".pkg", ".bin", ".deb", ".rpm"}

// checkKind refuses what is no server build for this machine: an installer, a
// package, a client, a build for another system or processor, or of another
// edition.
func checkKind(_ context.Context, s *situation) []Finding {
	if s.cand.Stays {
		return nil
	}
	stop := func(why, do, format string, a ...any) []Finding {
		return []Finding{{Level: Stop, What: fmt.Sprintf(format, a...), Where: s.cand.Source, Why: why, Do: do}}
	}
	take := "take the dedicated server's file for this machine instead; " + profile.FileName +
		" says in [source] which variant and system are followed"
	few := s.plan.Set.Files <= 3
	want := feed.Machine(s.k.Profile.Source)
	fits, looked, other := 0, 0, map[string][]string{}
	for i := range s.plan.Set.Entries {
		f := &s.plan.Set.Entries[i]
		if fits > 0 || looked == 500 { // one that fits is enough, and reading is not free
			break
		}
		if f.Kind != tree.File || (!few && (f.Size < 64 || !mayRun(f.Path, f.Mode))) {
			continue
		}
		content := s.store.Content(*f)
		if few {
			if what := needs.Package(content); what != "" {
				return stop("it would put itself somewhere else, by rules of its own", take,
					"%s is %s, not a server build", f.Path, what)
			}
			if slices.Contains(installers, strings.ToLower(path.Ext(f.Path))) &&
				installerName.MatchString(path.Base(f.Path)) && !s.k.Exists(f.Path) {
				return stop("an installer or client is not what players connect to", take,
					"%s is an installer or a client by its name, not a server build", f.Path)
			}
		}
		if f.Size < 64 || !mayRun(f.Path, f.Mode) {
			continue
		}
		looked++
		if p, ok := needs.ReadProgram(content); ok {
			if p.OS == want.OS && (p.Arch == want.Arch || (p.Arch == "386" && want.Arch == "amd64")) {
				fits++
			} else {
				other[p.String()] = append(other[p.String()], f.Path)
			}
		}
	}
	if fits == 0 && len(other) > 0 && !s.runsJava() {
		system := slices.Sorted(maps.Keys(other))[0]
		return stop("this machine can't run it", take, "it is a build for %s (%s), and this server wants %s/%s", system,
			words.Some(other[system], 3), want.OS, want.Arch)
	}
	if f := s.otherEdition(); f != nil {
		return []Finding{*f}
	}
	if s.hasProgram() && !s.sharesNames() {
		return stop("a new build of the same server keeps most of its file names; this may be another edition, or lie "+
			"in a folder of its own",
			s.whichFile(), "not one file of %s has the name of an installed one", version.OrUnknown(s.plan.To))
	}
	return ok("it is a server build for %s/%s, as far as its files tell", want.OS, want.Arch)
}

// whichFile advises what to do about a build of which no name is installed.
func (s *situation) whichFile() string {
	for _, at := range s.k.planner.Runs() {
		if like := plan.AlikeIn(s.plan.Set, at); like != "" {
			return fmt.Sprintf("if %s of it is the new %s: %s", like, at, s.whichIs(at, ""))
		}
	}
	return "look at what it holds: freshkeel preflight --all lists every file that would be added"
}

// mayRun tells whether a file may be a program or library, by its mode and name.
func mayRun(at string, mode fs.FileMode) bool {
	switch strings.ToLower(path.Ext(at)) {
	case "", ".exe", ".so", ".dll", ".x86_64", ".x86", ".bin", ".dylib":
		return true
	}
	return mode&0o111 != 0
}

func (s *situation) runsJava() bool {
	for _, c := range s.lines.commands {
		if c.Java() {
			return true
		}
	}
	return false
}

// otherEdition compares the main class of each jar that is exchanged with that
// of the jar that it takes the place of.
func (s *situation) otherEdition() *Finding {
	for _, st := range s.plan.Steps {
		if st.Do != swap.Replace || !strings.HasSuffix(st.Path, ".jar") || s.ahead.Whose[st.Path] != "" {
			continue
		}
		f, comes := s.ahead.Comes(st.Path)
		if !comes {
			continue
		}
		now, err := needs.ReadJar(s.store.Content(*f.File), f.Size)
		if err != nil {
			continue // checkRuntime tells, where it matters
		}
		old, size, done, err := tree.OpenSized(s.k.Path(st.Path))
		if err != nil {
			continue
		}
		was, err := needs.ReadJar(old, size)
		done()
		if err != nil || was.MainClass == now.MainClass {
			continue
		}
		level, do := Stop, "take the edition that is installed, or set [source] variant, if the other one is meant"
		if s.cand.Variant != "" {
			level, do = Warn, "nothing, if the variant was changed on purpose"
		}
		return &Finding{Level: level, What: fmt.Sprintf("%s starts with %s, the installed one with %s", st.Path,
			now.MainClass, was.MainClass), Where: s.cand.Source,
			Why: "it may be another edition, or the client", Do: do}
	}
	return nil
}

// hasProgram tells whether the install holds any file of a server yet, besides what is
// the operator's own.
func (s *situation) hasProgram() bool {
	return slices.ContainsFunc(s.ahead.Before, func(e tree.Entry) bool {
		return e.Kind == tree.File && !s.k.Profile.Server.Own(e.Path) && !s.k.Profile.Starts(e.Path) &&
			e.Path != profile.FileName && !strings.HasPrefix(e.Path, profile.FileName+".before-")
	})
}

func (s *situation) sharesNames() bool {
	if s.plan.Unchanged > 0 || len(s.plan.Kept) > 0 || s.ahead.Brings(s.k.Profile.Launch.Script) {
		return true
	}
	for _, st := range s.plan.Steps {
		if st.Do == swap.Replace {
			return true
		}
	}
	return len(s.plan.Left)+len(s.plan.Drifted) > 0
}
