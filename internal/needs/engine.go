package needs

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/version"

	"github.com/pelletier/go-toml/v2"
)

// Kinds of runtime.
const (
	Java   = "java"
	Node   = "node"
	Python = "python"
	Dotnet = "dotnet"
)

// engineName tells an interpreter by the name of its program: node, nodejs,
// python, python3, python3.12.
var engineName = regexp.MustCompile(`^(node|nodejs|python[\d.]*)$`)

// EngineOf is the kind of interpreter that a program is by its name, "" for
// none of those whose versions are known here.
func EngineOf(program string) string {
	base := strings.TrimSuffix(path.Base(strings.ReplaceAll(program, `\`, "/")), ".exe")
	switch {
	case !engineName.MatchString(base):
		return ""
	case strings.HasPrefix(base, "node"):
		return Node
	}
	return Python
}

// Named is the kind of runtime by its name as a person writes it: "Java",
// "node", "Python 3", ".NET".
func Named(kind string) string {
	return map[string]string{Java: "Java", Node: "Node", Python: "Python", Dotnet: ".NET"}[kind]
}

// Range is which versions of a runtime a build asks for, in the notation of its
// kind, and where it says so.
type Range struct {
	Kind  string
	Text  string // as it stands there: ">=20 <23", ">=3.11,<4"
	Where string // file and field: "package.json, engines.node"
}

// Fits tells whether a version lies in the range; an error says that the range
// can't be read.
func (r Range) Fits(is string) (bool, error) {
	if r.Kind == Python {
		return version.FitsPython(r.Text, is)
	}
	return version.FitsNode(r.Text, is)
}

// maxDescriptor bounds a file that describes a build, in bytes.
const maxDescriptor = 1 << 20

// EngineRange finds what a script asks of its interpreter: from the project
// file in its folder or the nearest one above it, within the install. read gives a file of the
// install as it will be; fs.ErrNotExist where there is none. ok is false where
// nothing is asked.
func EngineRange(kind, script string, read func(at string) ([]byte, error)) (r Range, ok bool, err error) {
	for dir := path.Dir(script); ; dir = path.Dir(dir) {
		for _, d := range descriptors[kind] {
			at := path.Join(dir, d.name)
			b, err := read(at)
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return r, false, err
			}
			text, err := d.field(b)
			if err != nil {
				return r, false, fmt.Errorf("%s can't be read: %w", at, err)
			}
			if text != "" {
				return Range{kind, text, at + ", " + d.says}, true, nil
			}
		}
		if dir == "." || dir == "/" {
			return r, false, nil
		}
	}
}

// descriptor is a file in which a build says what it needs.
type descriptor struct {
	name, says string
	field      func([]byte) (string, error)
}

var descriptors = map[string][]descriptor{
	Node: {{"package.json", "engines.node", func(b []byte) (string, error) {
		var p struct{ Engines struct{ Node string } }
		err := json.Unmarshal(b, &p)
		return p.Engines.Node, err
	}}},
	Python: {{"pyproject.toml", "project.requires-python", func(b []byte) (string, error) {
		var p struct {
			Project struct {
				Python string `toml:"requires-python"`
			}
		}
		err := toml.Unmarshal(b, &p)
		return p.Project.Python, err
	}}, {"setup.cfg", "python_requires", func(b []byte) (string, error) {
		for _, line := range strings.Split(string(b), "\n") {
			if k, v, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == "python_requires" {
				return strings.TrimSpace(v), nil
			}
		}
		return "", nil
	}}},
}

// engineSays are the version lines of node --version and python --version.
var engineSays = regexp.MustCompile(`(?m)^(?:v|Python )(\d+(?:\.\d+)*\S*)`)

// ReadEngine asks an interpreter for its version, once, with a time limit.
func ReadEngine(ctx context.Context, kind, program string) (*Runtime, error) {
	real, err := filepath.EvalSymlinks(program)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, "--version")
	cmd.WaitDelay = time.Second // what it left behind may hold the pipe
	out, err := cmd.CombinedOutput()
	m := engineSays.FindSubmatch(out)
	if m == nil {
		if err == nil {
			err = errors.New("it says something else")
		}
		return nil, fmt.Errorf("%s does not say its version (%w)", program, err)
	}
	rt := &Runtime{Kind: kind, Path: program, Home: filepath.Dir(filepath.Dir(real)),
		Version: string(bytes.TrimSpace(m[1])), From: program + " --version"}
	rt.Release = feature(rt.Version)
	return rt, nil
}

// FindEngines lists the interpreters of a kind on PATH in env, in the places
// where systems put them, and where the search patterns lead, each once.
func FindEngines(ctx context.Context, kind string, env, search []string) (out []Runtime) {
	var dirs []seenIn
	for _, pat := range search {
		found, _ := filepath.Glob(pat)
		for _, d := range found {
			dirs = append(dirs, seenIn{filepath.Join(d, "bin"), pat}, seenIn{d, pat})
		}
	}
	for _, kv := range env {
		if v, ok := strings.CutPrefix(kv, "PATH="); ok {
			for _, d := range filepath.SplitList(v) {
				dirs = append(dirs, seenIn{d, "PATH"})
			}
		}
	}
	for _, pat := range []string{"/usr/bin", "/usr/local/bin", "/opt/*/bin", `C:\Program Files\nodejs`,
		`C:\Program Files\Python*`} {
		found, _ := filepath.Glob(pat)
		for _, d := range found {
			dirs = append(dirs, seenIn{d, pat})
		}
	}
	seen := map[string]bool{}
	for _, d := range dirs {
		list, _ := os.ReadDir(d.path)
		for _, f := range list {
			at := filepath.Join(d.path, f.Name())
			real, err := filepath.EvalSymlinks(at)
			if EngineOf(f.Name()) != kind || err != nil || seen[real] {
				continue
			}
			seen[real] = true
			rt, err := ReadEngine(ctx, kind, at)
			if err != nil {
				rt = &Runtime{Kind: kind, Path: at, Home: filepath.Dir(filepath.Dir(real)), Broken: err.Error()}
			}
			rt.Found = d.by
			out = append(out, *rt)
		}
	}
	return out
}

// seenIn is a folder to look in, and what led to it.
type seenIn struct{ path, by string }

// Interpreter is the program that a script's first line names, as the system
// would look for it: found is its file, "" where there is none. ok is false for
// a file that has no such line.
func Interpreter(head []byte, env []string) (program, found string, ok bool) {
	line, _, _ := bytes.Cut(head, []byte("\n"))
	rest, ok := bytes.CutPrefix(line, []byte("#!"))
	words := strings.Fields(string(rest))
	if !ok || len(words) == 0 {
		return "", "", false
	}
	if runs(words[0]) {
		found = words[0]
	}
	if path.Base(words[0]) != "env" {
		return words[0], found, true
	}
	words = slices.DeleteFunc(words[1:],
		func(w string) bool { return strings.HasPrefix(w, "-") || strings.Contains(w, "=") })
	if len(words) == 0 {
		return "env", found, true
	}
	for _, kv := range env {
		if v, ok := strings.CutPrefix(kv, "PATH="); ok {
			for _, d := range filepath.SplitList(v) {
				if at := filepath.Join(d, words[0]); runs(at) {
					return words[0], at, true
				}
			}
		}
	}
	return words[0], "", true
}

func runs(full string) bool {
	fi, err := os.Stat(full)
	return err == nil && fi.Mode().IsRegular() && fi.Mode()&0o111 != 0
}
