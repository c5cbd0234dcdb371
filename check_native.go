package freshkeel

import (
	"context"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"

	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
)

// checkNative looks whether this machine has what the native programs that the
// launch script runs ask of it: a loader, shared libraries, versions of their
// symbols.
func checkNative(_ context.Context, s *situation) (out []Finding) {
	if runtime.GOOS != "linux" {
		return nil
	}
	for _, c := range s.nativePrograms() {
		n, err := s.readNative(c.at)
		if err != nil || n.Arch != runtime.GOARCH {
			continue // no program, or one that checkKind tells of
		}
		lacks := n.Lacks(filepath.Dir(s.k.path(c.at)), s.brings, c.libraries)
		for _, l := range lacks {
			out = append(out, lacking(c, l))
		}
		if len(lacks) == 0 {
			out = append(out, ok("%s finds its %s here", c.at, libraries(len(n.Needs)))...)
		}
	}
	return out
}

// program is a native program of the install, and the script's line that runs
// it.
type program struct {
	at, where string
	libraries []string // where its loader looks first
}

func (s *situation) nativePrograms() (out []program) {
	for _, c := range s.lines.commands {
		full := c.Path
		if full == "" && !filepath.IsAbs(c.Program) && strings.Contains(c.Program, "/") {
			full = filepath.Join(c.Dir, c.Program)
		}
		if at := relTo(s.k.Dir, full); at != "" && !c.Java() {
			out = append(out, program{at, fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text), c.Libraries})
		} else if strings.HasSuffix(strings.ToLower(c.Script), ".exe") { // what runs Windows programs here is given one
			out = append(out, program{c.Script, fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text), nil})
		}
	}
	if script := s.k.Profile.Launch.Script; script != "" && len(s.lines.commands) == 0 {
		out = append(out, program{script, "[launch] script", nil})
	}
	return
}

func (s *situation) readNative(at string) (*needs.Native, error) {
	r, _, done, err := s.content(at)
	if err != nil {
		return nil, err
	}
	defer done()
	return needs.ReadNative(r)
}

// brings tells whether a file will stand in the install after the swap.
func (s *situation) brings(full string) bool {
	return tree.Inside(s.k.Dir, full) && s.willBe(relTo(s.k.Dir, full))
}

func libraries(n int) string {
	if n == 1 {
		return "shared library"
	}
	return fmt.Sprintf("%d shared libraries", n)
}

func lacking(c program, l needs.Lack) Finding {
	f := Finding{Level: Stop, Where: c.where, Why: "its loader ends before the server's first line"}
	switch {
	case l.Version != "":
		has := "none of that kind"
		if l.Has != "" {
			has = "up to " + l.Has
		}
		f.What = fmt.Sprintf("%s needs %s of %s, and this machine's has %s", c.at, l.Version, l.Library, has)
		f.Do = "take a build that was made for an older system, or upgrade this one"
	case filepath.IsAbs(l.Library):
		f.What = fmt.Sprintf("%s is started by %s, which is not here", c.at, l.Library)
		f.Do = "take the build for this system: it was made for one with another C library"
		if !strings.Contains(l.Library, "musl") {
			f.Do = "install the C library that has it, or take the build for this system"
		}
	default:
		f.What = fmt.Sprintf("%s needs the library %s, and it is neither here nor in the build", c.at, l.Library)
		f.Do = fmt.Sprintf("install the package that brings %s, or put it where the program looks", l.Library)
		if p := needs.PackageOf(l.Library, "/"); p != "" {
			f.Do = fmt.Sprintf("install %s, which by this machine's package lists brings it: apt install %s", p, p)
		}
	}
	return f
}
