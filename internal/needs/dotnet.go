package needs

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"
)

// Framework is a shared framework that a .NET application asks for.
type Framework struct {
	Name        string `json:"name"`
	Version     string `json:"version"`
	RollForward string `json:"rollForward"`
}

// DotnetApp is what NAME.runtimeconfig.json says (the documentation of the
// .NET host, "runtimeconfig.json").
type DotnetApp struct {
	Frameworks []Framework // none: the application brings its own
}

// rollForwards are the rules by which another version than the one that is
// asked for will do.
var rollForwards = []string{"LatestPatch", "Minor", "Major", "LatestMinor", "LatestMajor", "Disable"}

// ReadDotnet reads a runtimeconfig.json. A rule in env (DOTNET_ROLL_FORWARD)
// goes before the file's.
func ReadDotnet(b []byte, env []string) (*DotnetApp, error) {
	var doc struct {
		RuntimeOptions struct {
			Framework   Framework
			Frameworks  []Framework
			RollForward string
		}
	}
	if err := json.Unmarshal(b, &doc); err != nil {
		return nil, err
	}
	o := doc.RuntimeOptions
	app := &DotnetApp{Frameworks: o.Frameworks}
	if o.Framework.Name != "" {
		app.Frameworks = append(app.Frameworks, o.Framework)
	}
	over := ""
	for _, kv := range env {
		if v, ok := strings.CutPrefix(kv, "DOTNET_ROLL_FORWARD="); ok {
			over = v
		}
	}
	for i := range app.Frameworks {
		f := &app.Frameworks[i]
		for _, rule := range []string{over, f.RollForward, o.RollForward, "Minor"} {
			if n := slices.IndexFunc(rollForwards, func(r string) bool { return strings.EqualFold(r, rule) }); n >= 0 {
				f.RollForward = rollForwards[n]
				break
			}
		}
		if _, err := semver.NewVersion(f.Version); err != nil {
			return nil, fmt.Errorf("framework %s: version %q: %w", f.Name, f.Version, err)
		}
	}
	return app, nil
}

func (f Framework) String() string {
	return fmt.Sprintf("%s %s", f.Name, f.Version)
}

// Rule says the roll-forward rule in words.
func (f Framework) Rule() string {
	return map[string]string{
		"LatestPatch": "the same minor version", "Minor": "the same major version, and not older",
		"Major":       "any version that is not older",
		"LatestMinor": "the same major version, and not older", "LatestMajor": "any version that is not older",
		"Disable": "this version alone",
	}[f.RollForward] + fmt.Sprintf(" (roll forward %s)", f.RollForward)
}

// Fits tells whether the host would run the application with a version of the
// framework, were it the only one.
func (f Framework) Fits(version string) bool {
	want, err := semver.NewVersion(f.Version)
	have, err2 := semver.NewVersion(version)
	if err != nil || err2 != nil || have.LessThan(want) {
		return false
	}
	switch f.RollForward {
	case "Disable":
		return have.Equal(want)
	case "LatestPatch":
		return have.Major() == want.Major() && have.Minor() == want.Minor()
	case "Major", "LatestMajor":
		return true
	}
	return have.Major() == want.Major()
}

// Pick is the version that the host would take of those there are; "" for none.
// A released version that fits comes before an unreleased one.
func (f Framework) Pick(versions []string) (best string) {
	want, err := semver.NewVersion(f.Version)
	if err != nil {
		return ""
	}
	latest := strings.HasPrefix(f.RollForward, "Latest")
	better := func(a, b *semver.Version) bool {
		if pa, pb := a.Prerelease() == "", b.Prerelease() == ""; pa != pb && want.Prerelease() == "" {
			return pa
		}
		// the nearest minor, of that the newest patch
		if !latest && (a.Major() != b.Major() || a.Minor() != b.Minor()) {
			return a.LessThan(b)
		}
		return a.GreaterThan(b)
	}
	var top *semver.Version
	for _, v := range versions {
		if have, err := semver.NewVersion(v); err == nil && f.Fits(v) && (top == nil || better(have, top)) {
			best, top = v, have
		}
	}
	return best
}

// dotnetHomes are where the host and its frameworks are put.
var dotnetHomes = []string{"/usr/share/dotnet", "/usr/lib/dotnet", "/usr/lib64/dotnet", "/opt/dotnet",
	"/usr/local/share/dotnet", `C:\Program Files\dotnet`}

// FindFrameworks lists the shared frameworks of a name on this machine, or all
// of them for "": those that belong to host, the dotnet program that would run,
// where it is known, else of every place where they are put.
func FindFrameworks(name, host string, env, search []string) (out []Runtime) {
	var homes []seenIn
	if host != "" { // a host uses its own alone
		if real, err := filepath.EvalSymlinks(host); err == nil {
			homes = append(homes, seenIn{filepath.Dir(real), host})
		}
	} else {
		for _, kv := range env {
			if v, ok := strings.CutPrefix(kv, "DOTNET_ROOT="); ok && v != "" {
				homes = append(homes, seenIn{v, "DOTNET_ROOT"})
			}
			if v, ok := strings.CutPrefix(kv, "PATH="); ok {
				for _, d := range filepath.SplitList(v) {
					if real, err := filepath.EvalSymlinks(filepath.Join(d, "dotnet")); err == nil {
						homes = append(homes, seenIn{filepath.Dir(real), "PATH"})
					}
				}
			}
		}
		for _, pat := range append(slices.Clone(search), dotnetHomes...) {
			found, _ := filepath.Glob(pat)
			for _, d := range found {
				homes = append(homes, seenIn{d, pat})
			}
		}
	}
	if name == "" {
		name = "*"
	}
	seen := map[string]bool{}
	for _, h := range homes {
		found, _ := filepath.Glob(filepath.Join(h.path, "shared", name, "*"))
		for _, dir := range found {
			version := filepath.Base(dir)
			if _, err := semver.NewVersion(version); err != nil || seen[dir] {
				continue
			}
			seen[dir] = true
			rt := Runtime{Kind: Dotnet, Name: filepath.Base(filepath.Dir(dir)), Path: dir, Home: h.path,
				Version: version, Release: feature(version), From: dir, Found: h.by}
			if list, err := os.ReadDir(dir); err != nil || len(list) == 0 {
				rt.Broken = "its folder is empty"
			}
			out = append(out, rt)
		}
	}
	return out
}
