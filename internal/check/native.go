package check

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// checkNative looks whether this machine has what the native programs that the
// launch script runs ask of it: a loader, shared libraries, versions of their
// symbols.
func checkNative(_ context.Context, s *situation) (out []Finding) {
	out = s.cutShort()
	if !host.KnowsLoader {
		return out
	}
	for _, c := range s.nativePrograms() {
		n, err := s.ahead.Native(c.at)
		if errors.Is(err, needs.ErrNotNative) || errors.Is(err, fs.ErrNotExist) {
			continue // a script, or one that checkNames tells of
		}
		if err != nil && slices.ContainsFunc(out,
			func(f Finding) bool { return f.Level == Stop && strings.HasPrefix(f.What, c.at+" ") }) {
			continue // it is cut short, and told
		}
		if err != nil {
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("which libraries %s needs can't be told: %v", c.at, err), Where: c.where,
				Why: "a library that is missing would be found out only at the start, with the old server gone",
				Do:  "ask its makers; whether the file is what they made is told by its checksum"})
			continue
		}
		if n.Arch != runtime.GOARCH {
			continue // checkKind tells
		}
		lacks := n.Lacks(filepath.Dir(s.k.Path(c.at)), s.ahead.HasFull, c.libraries)
		// Faults that no package mends come first: a reader of those need not install
		// anything for it.
		slices.SortStableFunc(lacks, func(a, b needs.Lack) int { return hopeless(b) - hopeless(a) })
		for _, l := range lacks {
			f := lacking(c, l)
			if hopeless(l) == 0 && hopeless(lacks[0]) == 1 {
				f.Do = "that alone would not do: see the stop above it"
			}
			out = append(out, f)
		}
		if len(lacks) == 0 {
			out = append(out, ok("%s finds its %s here", c.at, libraries(len(n.Needs)))...)
		}
	}
	return out
}

// cutShortLook bounds how many programs and libraries of a build are looked at for their
// length: each costs a read.
const cutShortLook = 400

// cutShort finds programs and libraries of the new build that end before their own
// headers say so: a copy that was broken off, before its maker took its checksum.
func (s *situation) cutShort() (out []Finding) {
	looked := 0
	for _, f := range s.ahead.Coming() {
		at := f.At
		if f.Kind != tree.File || f.Size < 64 || !mayRun(at, f.Mode) || s.plan.Edit(at) != nil ||
			looked == cutShortLook {
			continue
		}
		looked++
		if end, cut := needs.CutShort(s.store.Content(*f.File), f.Size); cut {
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%s is cut short: it has %s, and its own headers speak of %s", at,
					words.Bytes(f.Size), words.Bytes(end)), Where: s.cand.Source,
				Why: "the system would not run it, or it would end as soon as it needs the rest",
				Do:  "get the build anew from its makers, and tell them if it is the same"})
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
		if at := tree.Rel(s.k.Dir, full); at != "" && !c.Java() {
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

func libraries(n int) string {
	if n == 1 {
		return "shared library"
	}
	return fmt.Sprintf("%d shared libraries", n)
}

// hopeless is 1 for a fault that no package mends.
func hopeless(l needs.Lack) int {
	if l.Version != "" || filepath.IsAbs(l.Library) {
		return 1
	}
	return 0
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
