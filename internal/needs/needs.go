// Package needs tells what a build needs to run, from the build itself, and
// which runtimes this machine has.
package needs

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zip"
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

// Jar is what a jar needs.
type Jar struct {
	MainClass string
	Entry     string // the class file looked at
	Major     int
	Release   int
	Version   string // Implementation-Version of the manifest, "" when none
}

// ErrNoMain says that a jar's manifest names no main class.
var ErrNoMain = errors.New("its manifest names no Main-Class")

// ReadJar reads a jar's manifest and the head of its main class. It reads the
// zip's directory and these two entries, no more.
func ReadJar(r io.ReaderAt, size int64) (*Jar, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("it is not a jar: %w", err)
	}
	j := &Jar{}
	for _, f := range z.File {
		if f.Name != "META-INF/MANIFEST.MF" {
			continue
		}
		main, err := readManifest(f)
		if err != nil {
			return nil, err
		}
		j.MainClass, j.Version = main["Main-Class"], main["Implementation-Version"]
	}
	if j.MainClass == "" {
		return j, ErrNoMain
	}
	j.Entry = strings.ReplaceAll(j.MainClass, ".", "/") + ".class"
	for _, f := range z.File {
		if f.Name != j.Entry {
			continue
		}
		rc, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", j.Entry, err)
		}
		defer rc.Close()
		if j.Major, _, err = ClassVersion(rc); err != nil {
			return nil, fmt.Errorf("%s: %w", j.Entry, err)
		}
		j.Release = Release(j.Major)
		return j, nil
	}
	return j, fmt.Errorf("its manifest names the main class %s, and it holds no %s", j.MainClass, j.Entry)
}

// readManifest reads the main section of a jar manifest (JAR File
// Specification, "Name-Value pairs and Sections"): a line that begins with a
// space goes on from the one before.
func readManifest(f *zip.File) (map[string]string, error) {
	rc, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name, err)
	}
	defer rc.Close()
	b, err := io.ReadAll(io.LimitReader(rc, 1<<20))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.Name, err)
	}
	out, last := map[string]string{}, ""
	for s := bufio.NewScanner(bytes.NewReader(b)); s.Scan(); {
		line := s.Text()
		if line == "" && len(out) > 0 {
			break
		}
		if rest, ok := strings.CutPrefix(line, " "); ok {
			out[last] += rest
		} else if k, v, ok := strings.Cut(line, ":"); ok {
			last = k
			out[k] = strings.TrimSpace(v)
		}
	}
	return out, nil
}

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
