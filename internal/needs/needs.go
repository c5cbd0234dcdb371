// Package needs tells what a build needs to run, from the build itself, and
// which runtimes this machine has.
package needs

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// classMagic begins every class file (The Java Virtual Machine Specification,
// section 4.1).
const classMagic = 0xCAFEBABE

// ClassVersion reads a class file's version from its first eight bytes.
func ClassVersion(r io.Reader) (major, minor int, err error) {
	var head struct {
		Magic        uint32
		Minor, Major uint16
	}
	if err := binary.Read(r, binary.BigEndian, &head); err != nil {
		return 0, 0, fmt.Errorf("it is too short for a class file: %w", err)
	}
	if head.Magic != classMagic {
		return 0, 0, fmt.Errorf("it begins with %08x, a class file with %08x", head.Magic, uint32(classMagic))
	}
	return int(head.Major), int(head.Minor), nil
}

// Release is the Java release whose class files have a major version (same
// specification, table 4.1-A): 52 is 8, 61 is 17.
func Release(major int) int { return major - 44 }

// Runtime is a Java runtime of this machine.
type Runtime struct {
	Path    string // its java program
	Home    string
	Version string // as it says: "17.0.15"
	Release int    // 17
	From    string // where the version was read: a release file, or the program's own word
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
	rt := &Runtime{Path: path, Home: filepath.Dir(filepath.Dir(real))}
	rt.From = filepath.Join(rt.Home, "release")
	if b, err := os.ReadFile(rt.From); err == nil {
		for _, line := range strings.Split(string(b), "\n") {
			if v, ok := strings.CutPrefix(strings.TrimSpace(line), "JAVA_VERSION="); ok {
				rt.Version = strings.Trim(v, `"`)
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
var usualPlaces = []string{"/usr/lib/jvm/*", "/opt/java/*", "/Library/Java/JavaVirtualMachines/*/Contents/Home", `C:\Program Files\Java\*`}

// FindRuntimes lists the runtimes of this machine: of PATH and JAVA_HOME in
// env, of the search patterns, and of the usual places. Ones that do not say
// their version are left out.
func FindRuntimes(ctx context.Context, env []string, search []string) []Runtime {
	var candidates []string
	add := func(homes ...string) {
		for _, h := range homes {
			candidates = append(candidates, filepath.Join(h, "bin", "java"), filepath.Join(h, "bin", "java.exe"))
		}
	}
	for _, pat := range search {
		found, _ := filepath.Glob(pat)
		add(found...)
	}
	for _, kv := range env {
		if v, ok := strings.CutPrefix(kv, "JAVA_HOME="); ok && v != "" {
			add(v)
		}
		if v, ok := strings.CutPrefix(kv, "PATH="); ok {
			for _, d := range filepath.SplitList(v) {
				candidates = append(candidates, filepath.Join(d, "java"), filepath.Join(d, "java.exe"))
			}
		}
	}
	for _, pat := range usualPlaces {
		found, _ := filepath.Glob(pat)
		add(found...)
	}
	var out []Runtime
	seen := map[string]bool{}
	for _, c := range candidates {
		real, err := filepath.EvalSymlinks(c)
		if err != nil || seen[real] {
			continue
		}
		seen[real] = true
		if rt, err := ReadRuntime(ctx, c); err == nil {
			out = append(out, *rt)
		}
	}
	return out
}
