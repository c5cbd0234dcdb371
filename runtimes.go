package freshkeel

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/version"
)

// Runtime is one runtime of this machine, and how it stands to the server.
type Runtime struct {
	needs.Runtime
	Fits bool   `json:"fits"`
	Used string `json:"used_by,omitempty"` // the script's line that runs it: "open-gates.sh:6"
	Best bool   `json:"recommended,omitempty"`
	Why  string `json:"why,omitempty"` // of the recommendation, or of what does not fit
}

// FoundRuntime is one runtime of this machine by itself.
type FoundRuntime = needs.Runtime

// Runtimes is what runtimes are here, and what is needed.
type Runtimes struct {
	For   string    `json:"for"`             // version that is held against them
	Runs  string    `json:"runs,omitempty"`  // what the launch script runs: a jar, a script, an application
	Need  string    `json:"need,omitempty"`  // "Java 17"; "" where it can't be told
	Where string    `json:"where,omitempty"` // the script's line: file, line, text
	Lacks string    `json:"lacks,omitempty"` // what the script would run is not there
	All   []Runtime `json:"runtimes"`        // those that fit first, lowest release first
}

func (k *Keel) findRuntimes(ctx context.Context) []needs.Runtime {
	list := needs.FindRuntimes(ctx, []string{filepath.Join(k.in.Home, "runtimes", "*")}, k.in.Env, k.in.Profile.Runtime.Search)
	// Root reaches everything; the server, which runs as the install's owner, may not.
	return list
}

// requirement is what a program asks of the runtime that runs it.
type requirement interface {
	fits(*needs.Runtime) bool
	best([]needs.Runtime) *needs.Runtime // of those that fit, the one to recommend
	short(*needs.Runtime) string         // in a few words, why one does not fit
	chosen(*needs.Runtime) string        // why one is recommended
	String() string                      // "Java 17", "Node >=20"
}

// Runtimes lists the runtimes of this machine and holds them against what the
// launch script runs: as it is installed or, with a version or place wanted, as
// that build would have it. They are those of the kind that the script runs;
// Java's, where it runs none.
func (k *Keel) Runtimes(ctx context.Context, w Want) (*Runtimes, error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	p := &programs{in: k.in, ahead: newAhead(k.in, nil, nil)}
	out := &Runtimes{For: inv.Version, All: []Runtime{}}
	if w.Version != "" || w.From != "" {
		all, err := k.acq.Gather(ctx, w, false)
		if err != nil {
			return nil, err
		}
		plan, err := k.plan(all[0], w)
		if err != nil {
			return nil, err
		}
		p.ahead, p.needs, out.For = plan.Ahead, all[0].Candidate.Build.Needs, all[0].Version
	}
	var need requirement
	used := map[string]string{}
	kind, host, framework := needs.Java, "", ""
	if script := k.in.Profile.Launch.Script; script != "" {
		lines, err := launch.Read(k.in.Dir, script, k.in.ServerEnv())
		if err != nil {
			k.in.Warn("%s can't be read: %v", script, err)
		}
		for _, c := range lines {
			ofKind, n := p.required(c, out)
			if ofKind == "" {
				continue
			}
			kind, need = ofKind, n
			out.Where = fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
			if d, ok := n.(dotnetNeed); ok {
				host, framework = d.host, d.f.Name
				for _, rt := range needs.FindFrameworks(framework, host, k.in.Env, k.in.Profile.Runtime.Search) {
					if d.f.Pick([]string{rt.Version}) != "" && rt.Version == d.pick {
						used[rt.Path] = fmt.Sprintf("%s:%d", c.File, c.Line)
					}
				}
				if len(used) == 0 {
					out.Lacks = framework
				}
				continue
			}
			if real, err := filepath.EvalSymlinks(c.Path); err == nil && c.Path != "" {
				used[real] = fmt.Sprintf("%s:%d", c.File, c.Line)
			} else {
				out.Lacks = c.Program
			}
		}
	}
	var found []needs.Runtime
	switch kind {
	case needs.Java:
		found = k.findRuntimes(ctx)
	case needs.Dotnet:
		found = needs.FindFrameworks(framework, host, k.in.Env, k.in.Profile.Runtime.Search)
	default:
		found = needs.FindEngines(ctx, kind, k.in.Env, k.in.Profile.Runtime.Search)
	}
	for path, at := range used { // one that stands nowhere else is listed too
		found = withRuntime(ctx, found, kind, path, at)
	}
	var best *needs.Runtime
	if need != nil && !fitsAny(need, found, used) { // what the script runs and will do needs no other
		best = need.best(found)
	}
	for _, rt := range found {
		row := Runtime{Runtime: rt}
		if real, err := filepath.EvalSymlinks(rt.Path); err == nil {
			row.Used = used[real]
		}
		if need != nil {
			row.Fits = need.fits(&rt)
			if !row.Fits && rt.Broken == "" {
				row.Why = need.short(&rt)
			}
		}
		if best != nil && rt.Path == best.Path {
			row.Best, row.Why = true, need.chosen(&rt)
		}
		out.All = append(out.All, row)
	}
	sortRuntimes(out.All)
	return out, nil
}

// required is the kind of runtime that a command is run by, and what is asked of
// it; "" for a command that no runtime runs, nil where nothing is asked.
func (p *programs) required(c launch.Command, out *Runtimes) (kind string, n requirement) {
	if app, at, host, err := p.dotnetApp(c); err == nil && app != nil && len(app.Frameworks) > 0 {
		d := dotnetNeed{f: app.Frameworks[0], host: host}
		d.feed, _ = p.declared(needs.Dotnet)
		var have []string
		for _, rt := range needs.FindFrameworks(d.f.Name, host, p.in.Env, p.in.Profile.Runtime.Search) {
			if d.fits(&rt) {
				have = append(have, rt.Version)
			}
		}
		d.pick = d.f.Pick(have)
		out.Runs, out.Need = at, d.String()
		return needs.Dotnet, d
	}
	if engine := needs.EngineOf(c.Program); engine != "" {
		asked, err := p.engineRanges(engine, c)
		if err != nil {
			p.in.Warn("%v", err)
		}
		e := engineNeed{engine, asked}
		out.Runs, out.Need = cmp.Or(c.Script, c.File), e.String()
		return engine, e
	}
	if !c.Java() {
		return "", nil
	}
	at, jar, err := p.javaMain(c)
	if err != nil {
		p.in.Warn("which Java the server needs can't be told: %v", err)
		return needs.Java, nil
	}
	j := p.javaNeed(jar)
	out.Runs, out.Need = at, j.String()
	return needs.Java, j
}

// engineNeed is what a script asks of its interpreter.
type engineNeed struct {
	kind  string
	asked []needs.Range
}

func (n engineNeed) String() string {
	s := needs.Named(n.kind)
	for i, r := range n.asked {
		if i > 0 {
			s += " and"
		}
		s += " " + r.Text
	}
	return s
}

func (n engineNeed) fits(rt *needs.Runtime) bool              { return rt.Broken == "" && fitsAll(rt, n.asked) }
func (n engineNeed) best(list []needs.Runtime) *needs.Runtime { return bestEngine(list, n.asked) }
func (n engineNeed) chosen(*needs.Runtime) string             { return "the lowest version here that will do" }
func (n engineNeed) short(*needs.Runtime) string {
	return "not in " + strings.TrimPrefix(n.String(), needs.Named(n.kind)+" ")
}

// dotnetNeed is what a .NET application asks of the machine's frameworks.
type dotnetNeed struct {
	f    needs.Framework
	feed string // the feed's range, "" for none
	host string // the program that would run it; "" where it finds one by itself
	pick string // the version that it would take
}

func (n dotnetNeed) String() string { return strings.TrimSpace(n.f.String() + " " + n.feed) }
func (n dotnetNeed) fits(rt *needs.Runtime) bool {
	return rt.Broken == "" && n.f.Fits(rt.Version) && (n.feed == "" || version.Fits(n.feed, rt.Version))
}
func (n dotnetNeed) best([]needs.Runtime) *needs.Runtime { return nil } // its host picks by itself
func (n dotnetNeed) chosen(*needs.Runtime) string        { return "" }
func (n dotnetNeed) short(rt *needs.Runtime) string {
	if version.Compare(rt.Version, n.f.Version) < 0 {
		return "too old"
	}
	return "not " + n.f.Rule()
}

func withRuntime(ctx context.Context, found []needs.Runtime, kind, path, at string) []needs.Runtime {
	for _, rt := range found {
		if real, err := filepath.EvalSymlinks(rt.Path); err == nil && real == path {
			return found
		}
	}
	if _, err := os.Stat(path); err != nil {
		return found
	}
	read := needs.ReadRuntime
	if kind != needs.Java {
		read = func(ctx context.Context, path string) (*needs.Runtime, error) {
			return needs.ReadEngine(ctx, kind, path)
		}
	}
	rt, err := read(ctx, path)
	if err != nil {
		rt = &needs.Runtime{Kind: kind, Path: path, Home: filepath.Dir(filepath.Dir(path)), Broken: err.Error()}
	}
	rt.Found = at
	return append(found, *rt)
}

// best is the runtime to recommend: of those that fit, the lowest release that
// is kept up for years, else the lowest there is; of one release the newest.
func (n javaNeed) best(list []needs.Runtime) (best *needs.Runtime) {
	for i := range list {
		rt := &list[i]
		switch {
		case !n.fits(rt):
		case best == nil, rt.LongTerm() && !best.LongTerm():
			best = rt
		case best.LongTerm() && !rt.LongTerm():
		case rt.Release < best.Release, rt.Release == best.Release && version.Compare(rt.Version, best.Version) > 0:
			best = rt
		}
	}
	return best
}

// fitsAny tells whether one of the runtimes in use, by their real paths, fits.
func fitsAny(n requirement, list []needs.Runtime, used map[string]string) bool {
	return slices.ContainsFunc(list, func(rt needs.Runtime) bool {
		real, err := filepath.EvalSymlinks(rt.Path)
		return err == nil && used[real] != "" && n.fits(&rt)
	})
}

// chosen says why a runtime is the one to recommend.
func (n javaNeed) chosen(rt *needs.Runtime) string {
	switch {
	case n.feed != "" && !version.Fits(n.feed, fmt.Sprint(n.release)):
		return "the lowest here that the feed's word allows"
	case rt.LongTerm():
		return "the lowest long-term release here that will do"
	}
	return "the lowest release here that will do"
}

// short says in a few words why a runtime does not fit.
func (n javaNeed) short(rt *needs.Runtime) string {
	switch {
	case rt.Release < n.release:
		return "too old"
	case n.fitsClasses(rt):
		return "not in " + n.feed
	}
	return fmt.Sprintf("not %d", n.release)
}

func sortRuntimes(list []Runtime) {
	rank := func(rt Runtime) int {
		switch {
		case rt.Fits:
			return 0
		case rt.Broken == "":
			return 1
		}
		return 2
	}
	slices.SortStableFunc(list, func(a, b Runtime) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Release, b.Release), version.Compare(b.Version, a.Version))
	})
}
