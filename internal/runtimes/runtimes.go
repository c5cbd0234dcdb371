// Package runtimes is which runtimes are on this machine, which the programs of a launch
// script ask for, and how one is taken in or dropped.
package runtimes

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/resolve"
	"freshkeel/internal/version"
)

// Rack is the runtimes as one install meets them.
type Rack struct {
	*install.Install
	res *resolve.Resolver
}

// New is the rack of an install.
func New(in *install.Install, res *resolve.Resolver) *Rack { return &Rack{in, res} }

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

// requirement is what a program asks of the runtime that runs it.
type requirement interface {
	Fits(*needs.Runtime) bool
	Best([]needs.Runtime) *needs.Runtime // of those that fit, the one to recommend
	short(*needs.Runtime) string         // in a few words, why one does not fit
	chosen(*needs.Runtime) string        // why one is recommended
	String() string                      // "Java 17", "Node >=20"
}

// Java lists the Java runtimes of this machine.
func (rk *Rack) Java(ctx context.Context) []needs.Runtime {
	list := needs.FindRuntimes(ctx, []string{filepath.Join(rk.Home, "runtimes", "*")}, rk.Env,
		rk.Profile.Runtime.Search)
	// Root reaches everything; the server, which runs as the install's owner, may not.
	return list
}

// Hold lists the runtimes of this machine and holds them against what a version's
// programs ask.
func (rk *Rack) Hold(ctx context.Context, p *Programs, ver string) (*Runtimes, error) {
	out := &Runtimes{For: ver, All: []Runtime{}}
	var need requirement
	used := map[string]string{}
	kind, host, framework := needs.Java, "", ""
	lines, err := rk.Launched()
	if err != nil {
		rk.Warn("%s can't be read: %v", rk.Profile.Launch.Script, err)
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
			for _, rt := range needs.FindFrameworks(framework, host, rk.Env, rk.Profile.Runtime.Search) {
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
	var found []needs.Runtime
	switch kind {
	case needs.Java:
		found = rk.Java(ctx)
	case needs.Dotnet:
		found = needs.FindFrameworks(framework, host, rk.Env, rk.Profile.Runtime.Search)
	default:
		found = needs.FindEngines(ctx, kind, rk.Env, rk.Profile.Runtime.Search)
	}
	for path, at := range used { // one that stands nowhere else is listed too
		found = withRuntime(ctx, found, kind, path, at)
	}
	var best *needs.Runtime
	if need != nil && !fitsAny(need, found, used) { // what the script runs and will do needs no other
		best = need.Best(found)
	}
	for _, rt := range found {
		row := Runtime{Runtime: rt}
		if real, err := filepath.EvalSymlinks(rt.Path); err == nil {
			row.Used = used[real]
		}
		if need != nil {
			row.Fits = need.Fits(&rt)
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
func (p *Programs) required(c launch.Command, out *Runtimes) (kind string, n requirement) {
	if app, at, host, err := p.Dotnet(c); err == nil && app != nil && len(app.Frameworks) > 0 {
		d := dotnetNeed{f: app.Frameworks[0], host: host}
		d.feed, _ = p.Declared(needs.Dotnet)
		var have []string
		for _, rt := range needs.FindFrameworks(d.f.Name, host, p.In.Env, p.In.Profile.Runtime.Search) {
			if d.Fits(&rt) {
				have = append(have, rt.Version)
			}
		}
		d.pick = d.f.Pick(have)
		out.Runs, out.Need = at, d.String()
		return needs.Dotnet, d
	}
	if engine := needs.EngineOf(c.Program); engine != "" {
		asked, err := p.EngineRanges(engine, c)
		if err != nil {
			p.In.Warn("%v", err)
		}
		e := engineNeed{engine, asked}
		out.Runs, out.Need = cmp.Or(c.Script, c.File), e.String()
		return engine, e
	}
	if !c.Java() {
		return "", nil
	}
	at, jar, err := p.Java(c)
	if err != nil {
		p.In.Warn("which Java the server needs can't be told: %v", err)
		return needs.Java, nil
	}
	j := p.NeedOf(jar)
	out.Runs, out.Need = at, j.String()
	return needs.Java, j
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

// fitsAny tells whether one of the runtimes in use, by their real paths, fits.
func fitsAny(n requirement, list []needs.Runtime, used map[string]string) bool {
	return slices.ContainsFunc(list, func(rt needs.Runtime) bool {
		real, err := filepath.EvalSymlinks(rt.Path)
		return err == nil && used[real] != "" && n.Fits(&rt)
	})
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
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Release, b.Release),
			version.Compare(b.Version, a.Version))
	})
}
