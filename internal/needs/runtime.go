package needs

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Runtime is a runtime of this machine: a Java one, an interpreter, or a shared
// framework of .NET.
type Runtime struct {
	Kind    string `json:"kind"`           // java, node, python, dotnet
	Name    string `json:"name,omitempty"` // of a framework
	Path    string `json:"path"`           // its program; of a framework its folder
	Home    string `json:"home"`
	Version string `json:"version"`          // as it says: "17.0.15"
	Release int    `json:"release"`          // 17
	Vendor  string `json:"vendor,omitempty"` // whose build it is, as its release file says
	Arch    string `json:"arch,omitempty"`   // as its release file says
	From    string `json:"read_from"`        // where the version was read: a release file, or the program's own word
	Found   string `json:"found"`            // what led to it: PATH, JAVA_HOME, a pattern
	Broken  string `json:"broken,omitempty"` // why it can't be used
}

// LongTerm tells whether a Java release is one that is kept up for years: 8, 11,
// 17, and each fourth from there on.
func (rt Runtime) LongTerm() bool {
	return rt.Release == 8 || rt.Release == 11 || (rt.Release >= 17 && rt.Release%4 == 1)
}

// askLimit bounds how long a runtime may take to say its version.
const askLimit = 10 * time.Second

var saidVersion = regexp.MustCompile(`version "([^"]+)"`)

// ReadRuntime finds out the version of the runtime whose java program stands
// at path: from its release file, else by asking it.
func ReadRuntime(ctx context.Context, path string) (*Runtime, error) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return nil, err
	}
	rt := &Runtime{Kind: Java, Path: path, Home: filepath.Dir(filepath.Dir(real))}
	rt.From = filepath.Join(rt.Home, "release")
	if b, err := os.ReadFile(rt.From); err == nil {
		for _, line := range strings.Split(string(b), "\n") {
			k, v, _ := strings.Cut(strings.TrimSpace(line), "=")
			switch v = strings.Trim(v, `"`); k {
			case "JAVA_VERSION":
				rt.Version = v
			case "IMPLEMENTOR":
				rt.Vendor = v
			case "OS_ARCH":
				rt.Arch = v
			}
		}
	}
	if rt.Version == "" {
		ctx, cancel := context.WithTimeout(ctx, askLimit)
		defer cancel()
		out, err := exec.CommandContext(ctx, path, "-version").CombinedOutput()
		m := saidVersion.FindSubmatch(out)
		if m == nil {
			return nil, fmt.Errorf("%s does not say its version (%v)", path, err)
		}
		rt.Version, rt.From = string(m[1]), path+" -version"
	}
	rt.Release = feature(rt.Version)
	if rt.Release == 0 {
		return nil, fmt.Errorf("%s says version %q, in which no release can be read", path, rt.Version)
	}
	return rt, nil
}

// feature is the release of a version: "17.0.15" is 17, "1.8.0_402" is 8.
func feature(version string) int {
	parts := strings.FieldsFunc(version, func(r rune) bool { return r < '0' || r > '9' })
	if len(parts) == 0 {
		return 0
	}
	n, _ := strconv.Atoi(parts[0])
	if n == 1 && len(parts) > 1 {
		n, _ = strconv.Atoi(parts[1])
	}
	return n
}

// usualPlaces are where systems put Java runtimes.
var usualPlaces = []string{"/usr/lib/jvm/*", "/opt/java/*", "/Library/Java/JavaVirtualMachines/*/Contents/Home",
	`C:\Program Files\Java\*`}

// FindRuntimes lists the runtimes of this machine: those of the folders own
// (taken in for this program), of PATH and JAVA_HOME in env, of the search
// patterns, and of the usual places. Each is listed once, by the first of these
// that leads to it; a broken one says why.
func FindRuntimes(ctx context.Context, own, env, search []string) []Runtime {
	type candidate struct{ path, found string }
	var candidates []candidate
	add := func(found string, homes ...string) {
		for _, h := range homes {
			candidates = append(candidates, candidate{filepath.Join(h, "bin", "java"), found},
				candidate{filepath.Join(h, "bin", "java.exe"), found})
		}
	}
	globs := func(found string, patterns []string) {
		for _, pat := range patterns {
			homes, _ := filepath.Glob(pat)
			if found != "" {
				add(found, homes...)
			} else {
				add(pat, homes...)
			}
		}
	}
	globs("taken in", own)
	globs("", search)
	for _, kv := range env {
		if v, ok := strings.CutPrefix(kv, "JAVA_HOME="); ok && v != "" {
			add("JAVA_HOME", v)
		}
		if v, ok := strings.CutPrefix(kv, "PATH="); ok {
			for _, d := range filepath.SplitList(v) {
				candidates = append(candidates, candidate{filepath.Join(d, "java"), "PATH"},
					candidate{filepath.Join(d, "java.exe"), "PATH"})
			}
		}
	}
	globs("", usualPlaces)
	var out []Runtime
	seen := map[string]bool{}
	for _, c := range candidates {
		fi, err := os.Stat(c.path)
		if err != nil || fi.IsDir() {
			continue
		}
		real, err := filepath.EvalSymlinks(c.path)
		if err != nil || seen[real] {
			continue
		}
		seen[real] = true
		rt, err := ReadRuntime(ctx, c.path)
		if err != nil {
			rt = &Runtime{Kind: Java, Path: c.path, Home: filepath.Dir(filepath.Dir(real)), Broken: err.Error()}
		} else if fi.Mode()&0o111 == 0 && filepath.Ext(c.path) != ".exe" {
			rt.Broken = c.path + " may not be run: it has no execute bit"
		}
		rt.Found = c.found
		out = append(out, *rt)
	}
	return out
}
