package freshkeel

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Programs are what a launch script runs of an install as it will stand, and what each
// asks of the runtime that runs it.
type programs struct {
	in    *install.Install
	ahead *Ahead
	needs map[string]string // runtime → range of versions, as the build's list says; may be nil
}

// untold says why it can't be told what a Java runtime would run.
type untold struct{ why string }

func (u *untold) Error() string { return u.why }

// javaMain finds the jar whose main class a line runs, as it will stand after the swap,
// and looks at it. The error is an untold where the line runs something that is no jar.
func (p *programs) javaMain(c launch.Command) (at string, jar *needs.Jar, err error) {
	line, err := c.JavaLine(func(name string) ([]byte, error) {
		r, size, done, err := p.ahead.Content(c.At(p.in.Dir, name))
		if err != nil {
			return nil, err
		}
		defer done()
		return io.ReadAll(io.NewSectionReader(r, 0, min(size, install.MaxScript)))
	})
	switch {
	case err != nil:
		return "", nil, &untold{err.Error()}
	case line.Jar != "":
		at = c.At(p.in.Dir, line.Jar)
		jar, err = p.ahead.Jar(at, "")
		return at, jar, err
	case line.Main == "" && line.Module != "":
		return "", nil, &untold{"the line runs the module " + line.Module}
	case line.Source != "":
		return "", nil, &untold{"the line runs the source file " + line.Source}
	case line.Main == "":
		return "", nil, &untold{"the line names nothing that it runs, as far as it can be read"}
	}
	class := strings.ReplaceAll(line.Main, ".", "/") + ".class"
	path := line.ClassPath
	if len(path) == 0 {
		path = []string{"."}
	}
	jars, foreign := p.classPath(c, path)
	for _, at := range jars {
		if strings.HasSuffix(at, "/") { // a folder of classes
			if r, _, done, err := p.ahead.Content(at + class); err == nil {
				defer done()
				major, _, err := needs.ClassVersion(io.NewSectionReader(r, 0, 64))
				if err != nil {
					return "", nil, fmt.Errorf("%s: %w", at+class, err)
				}
				return at + class, &needs.Jar{MainClass: line.Main, Entry: class, Major: major, Release: needs.Release(major)}, nil
			}
			continue
		}
		if r, size, done, err := p.ahead.Content(at); err == nil {
			holds := needs.Holds(r, size, class)
			done()
			if holds {
				jar, err := p.ahead.Jar(at, line.Main)
				return at, jar, err
			}
		}
	}
	if foreign > 0 || len(jars) == 0 {
		return "", nil, &untold{fmt.Sprintf("the class %s is in none of %s of the class path that lie in the install", line.Main, words.Plural(len(jars), "jar"))}
	}
	return strings.Join(line.ClassPath, ":"), nil, fmt.Errorf("the line runs the class %s, and none of %s of its class path will hold it", line.Main, words.Plural(len(jars), "jar"))
}

// classPath lists the jars of a class path, and its folders with a slash behind, as they
// will stand after the swap; foreign counts what lies outside the install.
func (p *programs) classPath(c launch.Command, elems []string) (jars []string, foreign int) {
	for _, e := range elems {
		at := c.At(p.in.Dir, e)
		switch {
		case filepath.IsAbs(at):
			foreign++
		case path.Base(at) == "*":
			jars = append(jars, p.ahead.In(strings.TrimPrefix(path.Dir(at)+"/", "./"), ".jar")...)
		case p.ahead.Has(at):
			jars = append(jars, at)
		case at == "." || p.ahead.HasBelow(at):
			jars = append(jars, strings.TrimPrefix(at+"/", "./"))
		}
	}
	return jars, foreign
}

func (p *programs) javaNeed(jar *needs.Jar) javaNeed {
	n := javaNeed{release: jar.Release, exactly: jar.Preview, jar: jar}
	for runtime, want := range p.needs {
		if strings.EqualFold(runtime, "java") && version.CheckRange(want) == nil {
			n.feed = want
		}
	}
	return n
}

// engineRanges is what is asked of an interpreter: by the build, and by the
// feed.
func (p *programs) engineRanges(kind string, c launch.Command) (list []needs.Range, err error) {
	at := c.Script
	if at == "" || filepath.IsAbs(at) {
		at = path.Join(cmp.Or(tree.Rel(p.in.Dir, c.Dir), "."), "-")
	}
	r, ok, err := needs.EngineRange(kind, at, p.ahead.Text)
	if ok {
		list = append(list, r)
	}
	if want, source := p.declared(kind); want != "" {
		list = append(list, needs.Range{Kind: "", Text: want, Where: source})
	}
	return list, err
}

// declared is what the feed says of a runtime, and where.
func (p *programs) declared(kind string) (want, where string) {
	for name, want := range p.needs {
		if strings.EqualFold(name, kind) && version.CheckRange(want) == nil {
			return want, "the feed"
		}
	}
	return "", ""
}

// dotnetApp is the .NET application that a command runs: by its host, or by the
// program that stands beside it. at is its runtimeconfig; "" for none.
func (p *programs) dotnetApp(c launch.Command) (app *needs.DotnetApp, at, host string, err error) {
	file := tree.Rel(p.in.Dir, c.Path)
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
		b, err := p.ahead.Text(at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, at, host, err
		}
		app, err = needs.ReadDotnet(b, p.in.Env)
		return app, at, host, err
	}
	return nil, "", host, nil
}
