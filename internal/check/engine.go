package check

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// checkEngine holds the interpreters that the launch script runs, and the
// frameworks of a .NET application, against what the build says that it needs,
// and what the feed says.
func checkEngine(ctx context.Context, s *situation) (out []Finding) {
	for _, c := range s.lines.commands {
		where := fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
		if kind := needs.EngineOf(c.Program); kind != "" {
			out = append(out, s.engine(ctx, kind, c, where)...)
			if kind == needs.Node {
				out = append(out, missingModules(s, c, where)...)
			}
		}
		out = append(out, s.dotnet(c, where)...)
	}
	return out
}

func (s *situation) engine(ctx context.Context, kind string, c launch.Command, where string) []Finding {
	name := needs.Named(kind)
	what := cmp.Or(c.Script, c.File)
	asked, err := s.programs.EngineRanges(kind, c)
	if err != nil {
		return []Finding{{Level: Warn, What: fmt.Sprintf("what %s needs of %s can't be told: %v", what, name, err),
			Where: where,
			Why:   "a version that does not fit would end it at once", Do: "look into that file; ask the makers"}}
	}
	var texts []string
	for _, r := range asked {
		texts = append(texts, fmt.Sprintf("%s (%s)", r.Text, r.Where))
	}
	wants := strings.Join(texts, " and ")
	if c.Path == "" {
		return []Finding{{Level: Stop, What: fmt.Sprintf("%s is not found", c.Program), Where: where,
			Why: fmt.Sprintf("%s is run by it", what), Do: s.otherEngine(ctx, kind, asked)}}
	}
	rt, err := needs.ReadEngine(ctx, kind, c.Path)
	if err != nil {
		return []Finding{{Level: Warn, What: fmt.Sprintf("the version of %s can't be told: %v", name, err),
			Where: where,
			Why:   fmt.Sprintf("%s asks for %s", what, cmp.Or(wants, "no version of its own")),
			Do:    "run it with --version by hand"}}
	}
	for _, r := range asked {
		fits, err := runtimes.RangeFits(r, rt.Version)
		if err != nil {
			return []Finding{{Level: Warn,
				What:  fmt.Sprintf("%q is no range that could be held against %s %s", r.Text, name, rt.Version),
				Where: r.Where,
				Why:   "a version that does not fit would end the server at once",
				Do:    "compare them by hand; tell the makers"}}
		}
		if !fits {
			return []Finding{{Level: Stop,
				What: fmt.Sprintf("%s needs %s %s, the launch script runs %s %s", what, name, r.Text, name,
					rt.Version),
				Where: fmt.Sprintf("%s\nruns %s; the range is from %s", where, rt.Path, r.Where),
				Why:   "its makers say that no other runs it", Do: s.otherEngine(ctx, kind, asked)}}
		}
	}
	if wants == "" {
		return ok("%s runs %s; no version is asked for", name+" "+rt.Version, what)
	}
	return ok("%s %s is what %s asks for: %s", name, rt.Version, what, wants)
}

// missingModules finds modules that the package of a script needs, and that will lie nowhere that Node looks for them
// (nodejs.org, "Modules: CommonJS modules", section "Loading from node_modules folders"). Where none of them lies in
// the install, they are kept elsewhere.
func missingModules(s *situation, c launch.Command, where string) []Finding {
	if c.Script == "" || !tree.Local(c.Script) {
		return nil
	}
	for dir := path.Dir(c.Script); ; dir = path.Dir(dir) {
		if text, err := s.ahead.Text(path.Join(dir, "package.json")); err == nil {
			var p struct {
				Dependencies         map[string]string `json:"dependencies"`
				OptionalDependencies map[string]string `json:"optionalDependencies"`
			}
			if json.Unmarshal(text, &p) != nil {
				return nil
			}
			var missing []string
			for _, name := range slices.Sorted(maps.Keys(p.Dependencies)) {
				if _, optional := p.OptionalDependencies[name]; !optional && !hasModule(s, dir, name) {
					missing = append(missing, name)
				}
			}
			if len(missing) == 0 || len(missing) == len(p.Dependencies) {
				return nil
			}
			return []Finding{{Level: Stop, What: fmt.Sprintf("%s missing that %s needs: %s", words.Is(len(missing), "module"),
				path.Join(dir, "package.json"), words.Some(missing, 6)), Where: where,
				Why: "the server ends as soon as it asks for one", Do: "ask the makers: the build is not whole"}}
		}
		if dir == "." {
			return nil
		}
	}
}

// hasModule tells whether a module will lie where Node looks for it.
func hasModule(s *situation, dir, name string) bool {
	for ; ; dir = path.Dir(dir) {
		if s.ahead.Has(path.Join(dir, "node_modules", name, "package.json")) {
			return true
		}
		if dir == "." {
			return false
		}
	}
}

// otherEngine advises an interpreter of this machine that would do.
func (s *situation) otherEngine(ctx context.Context, kind string, asked []needs.Range) string {
	best := runtimes.BestEngine(needs.FindEngines(ctx, kind, s.k.Env, s.k.Profile.Runtime.Search), asked)
	if best == nil {
		return fmt.Sprintf("get a %s that fits (none is here), and name its folder in [runtime] search",
			needs.Named(kind))
	}
	return fmt.Sprintf("let %s run %s (version %s), then preflight again", s.k.Profile.Launch.Script, best.Path,
		best.Version)
}

func (s *situation) dotnet(c launch.Command, where string) (out []Finding) {
	app, at, host, err := s.programs.Dotnet(c)
	if err != nil {
		return []Finding{{Level: Warn, What: fmt.Sprintf("%s can't be read: %v", at, err), Where: where,
			Why: "the host reads the same file, and would end",
			Do:  "ask the makers, or take another file of this build"}}
	}
	if app == nil {
		return nil
	}
	for _, f := range app.Frameworks {
		found := needs.FindFrameworks(f.Name, host, s.k.Env, s.k.Profile.Runtime.Search)
		var have []string
		for _, rt := range found {
			if rt.Broken == "" {
				have = append(have, rt.Version)
			}
		}
		want, _ := s.programs.Declared(needs.Dotnet)
		pick := f.Pick(slices.DeleteFunc(slices.Clone(have),
			func(v string) bool { return want != "" && !version.Fits(want, v) }))
		if pick != "" {
			out = append(out, ok("%s: %s is run with %s", at, f, pick)...)
			continue
		}
		has := "none of that name is here"
		if len(have) > 0 {
			has = "here is " + words.Some(have, 4)
		}
		rule := f.Rule()
		if want != "" {
			rule += ", and the feed asks for " + want
		}
		out = append(out, Finding{Level: Stop, What: fmt.Sprintf("it needs the framework %s, and %s", f, has),
			Where: where + "\n" + at,
			Why:   fmt.Sprintf("its host ends before the server's first line; what would do: %s", rule),
			Do: fmt.Sprintf("install %s %s, or name the folder that holds shared/%s in [runtime] search", f.Name,
				f.Version, f.Name)})
	}
	if len(app.Frameworks) == 0 {
		out = ok("%s brings its own framework", at)
	}
	return out
}

// checkNeeds tells what the feed declares that nothing here can look at.
func checkNeeds(_ context.Context, s *situation) (out []Finding) {
	known := map[string]bool{needs.Java: s.runsJava()}
	for _, c := range s.lines.commands {
		known[needs.EngineOf(c.Program)] = true
		if app, _, _, _ := s.programs.Dotnet(c); app != nil {
			known[needs.Dotnet] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.cand.Build.Needs)) {
		if !known[strings.ToLower(name)] {
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("the feed says that %s needs %s %s, and the launch script runs none", s.plan.To, name,
					s.cand.Build.Needs[name]), Where: s.cand.Source,
				Why: "what is not run by the script can't be looked at", Do: "make sure of it by hand"})
		}
	}
	return out
}

// checkWindows looks whether a Windows program's libraries come with the build
// or with Windows. On another system what else is there can't be told.
func checkWindows(_ context.Context, s *situation) (out []Finding) {
	for _, c := range s.nativePrograms() {
		r, _, done, err := s.ahead.Content(c.at)
		if err != nil {
			continue
		}
		w, err := needs.ReadWindows(r)
		done()
		if err != nil {
			continue
		}
		var lacks []string
		for _, lib := range w.Needs {
			if !needs.WindowsOwn(lib) && !s.ahead.HasAnyCase(path.Join(path.Dir(c.at), lib)) && !s.systemHas(lib) {
				lacks = append(lacks, lib)
			}
		}
		if len(lacks) == 0 {
			out = append(out, ok("%s finds its %d libraries in the build or in Windows", c.at, len(w.Needs))...)
			continue
		}
		f := Finding{Level: Stop, What: fmt.Sprintf("%s needs %s: neither the build nor Windows itself has it", c.at,
			words.Some(lacks, 4)), Where: c.where,
			Why: "Windows shows a window that says so, and the server does not start",
			Do:  "install what brings it, the C++ runtime say, or put it beside the program"}
		if !host.IsWindows { // what runs it here may have more
			f.Level = Warn
		}
		out = append(out, f)
	}
	return out
}

// systemHas tells whether a library stands in Windows' own folder.
func (s *situation) systemHas(lib string) bool {
	for _, kv := range s.k.Env {
		if v, found := strings.CutPrefix(strings.ToUpper(kv), "SYSTEMROOT="); found {
			_, err := os.Stat(filepath.Join(v, "System32", lib))
			return err == nil
		}
	}
	return false
}
