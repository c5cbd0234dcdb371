package runtimes

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Programs are what a launch script runs of an install as it will stand, and what each
// asks of the runtime that runs it.
type Programs struct {
	In    *install.Install
	Ahead *ahead.Ahead
	Needs map[string]string // runtime → range of versions, as the build's list says; may be nil
}

// Untold says why it can't be told what a Java runtime would run.
type Untold struct{ Why string }

func (u *Untold) Error() string { return u.Why }

// Java finds the jar whose main class a line runs, as it will stand after the swap,
// and looks at it. The error is an untold where the line runs something that is no jar.
func (p *Programs) Java(c launch.Command) (at string, jar *needs.Jar, err error) {
	line, err := c.JavaLine(func(name string) ([]byte, error) {
		r, size, done, err := p.Ahead.Content(c.At(p.In.Dir, name))
		if err != nil {
			return nil, err
		}
		defer done()
		return io.ReadAll(io.NewSectionReader(r, 0, min(size, install.MaxScript)))
	})
	switch {
	case err != nil:
		return "", nil, &Untold{err.Error()}
	case line.Jar != "":
		at = c.At(p.In.Dir, line.Jar)
		jar, err = p.Ahead.Jar(at, "")
		return at, jar, err
	case line.Main == "" && line.Module != "":
		return "", nil, &Untold{"the line runs the module " + line.Module}
	case line.Source != "":
		return "", nil, &Untold{"the line runs the source file " + line.Source}
	case line.Main == "":
		return "", nil, &Untold{"the line names nothing that it runs, as far as it can be read"}
	}
	class := strings.ReplaceAll(line.Main, ".", "/") + ".class"
	path := line.ClassPath
	if len(path) == 0 {
		path = []string{"."}
	}
	jars, foreign := p.classPath(c, path)
	for _, at := range jars {
		if strings.HasSuffix(at, "/") { // a folder of classes
			if r, _, done, err := p.Ahead.Content(at + class); err == nil {
				defer done()
				major, _, err := needs.ClassVersion(io.NewSectionReader(r, 0, 64))
				if err != nil {
					return "", nil, fmt.Errorf("%s: %w", at+class, err)
				}
				return at + class, &needs.Jar{MainClass: line.Main, Entry: class, Major: major,
					Release: needs.Release(major)}, nil
			}
			continue
		}
		if r, size, done, err := p.Ahead.Content(at); err == nil {
			holds := needs.Holds(r, size, class)
			done()
			if holds {
				jar, err := p.Ahead.Jar(at, line.Main)
				return at, jar, err
			}
		}
	}
	if foreign > 0 || len(jars) == 0 {
		return "", nil, &Untold{fmt.Sprintf("the class %s is in none of %s of the class path that lie in the install",
			line.Main, words.Plural(len(jars), "jar"))}
	}
	return strings.Join(line.ClassPath, ":"), nil,
		fmt.Errorf("the line runs the class %s, and none of %s of its class path will hold it", line.Main,
			words.Plural(len(jars), "jar"))
}

// classPath lists the jars of a class path, and its folders with a slash behind, as they
// will stand after the swap; foreign counts what lies outside the install.
func (p *Programs) classPath(c launch.Command, elems []string) (jars []string, foreign int) {
	for _, e := range elems {
		at := c.At(p.In.Dir, e)
		switch {
		case filepath.IsAbs(at):
			foreign++
		case path.Base(at) == "*":
			jars = append(jars, p.Ahead.In(strings.TrimPrefix(path.Dir(at)+"/", "./"), ".jar")...)
		case p.Ahead.Has(at):
			jars = append(jars, at)
		case at == "." || p.Ahead.HasBelow(at):
			jars = append(jars, strings.TrimPrefix(at+"/", "./"))
		}
	}
	return jars, foreign
}

// NeedOf is what a jar asks of its runtime: by its classes, and by the build's list.
func (p *Programs) NeedOf(jar *needs.Jar) JavaNeed {
	n := JavaNeed{release: jar.Release, exactly: jar.Preview, jar: jar}
	for runtime, want := range p.Needs {
		if strings.EqualFold(runtime, "java") && version.CheckRange(want) == nil {
			n.feed = want
		}
	}
	return n
}

// EngineRanges is what is asked of an interpreter: by the build, and by the
// feed.
func (p *Programs) EngineRanges(kind string, c launch.Command) (list []needs.Range, err error) {
	at := c.Script
	if at == "" || filepath.IsAbs(at) {
		at = path.Join(cmp.Or(tree.Rel(p.In.Dir, c.Dir), "."), "-")
	}
	r, ok, err := needs.EngineRange(kind, at, p.Ahead.Text)
	if ok {
		list = append(list, r)
	}
	if want, source := p.Declared(kind); want != "" {
		list = append(list, needs.Range{Kind: "", Text: want, Where: source})
	}
	return list, err
}

// Declared is what the feed says of a runtime, and where.
func (p *Programs) Declared(kind string) (want, where string) {
	for name, want := range p.Needs {
		if strings.EqualFold(name, kind) && version.CheckRange(want) == nil {
			return want, "the feed"
		}
	}
	return "", ""
}

// Dotnet is the .NET application that a command runs: by its host, or by the
// program that stands beside it. at is its runtimeconfig; "" for none.
func (p *Programs) Dotnet(c launch.Command) (app *needs.DotnetApp, at, host string, err error) {
	file := tree.Rel(p.In.Dir, c.Path)
	switch {
	case strings.HasPrefix(path.Base(filepath.ToSlash(c.Program)), "dotnet") && c.Script != "":
		file, host = c.Script, c.Path
	case file == "":
		return nil, "", "", nil
	}
	for _, ext := range []string{".dll", ".exe", ""} {
		stem, cut := strings.CutSuffix(file, ext)
		if !cut {
			continue
		}
		at = stem + ".runtimeconfig.json"
		b, err := p.Ahead.Text(at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, at, host, err
		}
		app, err = needs.ReadDotnet(b, p.In.Env)
		return app, at, host, err
	}
	return nil, "", host, nil
}
