// Package asked runs a launch script apart to see what it starts: the other reader of launch scripts. It runs over a copy of the
// install that is thrown away, shut off, never as root, and ends before the server's first instruction.
package asked

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
)

// bounds of a run, and of the copy that it runs over.
const (
	mostTime   = 8 * time.Second
	mostMemory = 1 << 30
	mostFiles  = 10_000   // those nearest to the top
	mostText   = 1 << 20  // in bytes: larger files stand there with nothing in them
	mostCopied = 64 << 20 // of all together
)

// Question is what is asked: what a script starts.
type Question struct {
	Script *launch.Script
	Texts  launch.Texts // that files will have; may be nil
	Brings []string     // files that will be there too, relative to the install
}

// Of is the first server program that a launch script starts. The error says why that can't be known: host.ErrNotApart,
// host.ErrStartsNothing, or what went wrong.
func Of(ctx context.Context, in *install.Install, q Question) (launch.Command, error) {
	argv, dir := words(in, q.Script)
	if len(argv) == 0 {
		return launch.Command{}, errors.New("no launch script is known")
	}
	// Nobody but who knows its name comes to it: what is in it may be secret.
	above, err := os.MkdirTemp(cmp.Or(host.ApartDir(), in.Home), "freshkeel-asked-")
	if err != nil {
		return launch.Command{}, err
	}
	defer tree.RemoveAll(above)
	root, err := os.MkdirTemp(above, "install-")
	if err != nil {
		return launch.Command{}, err
	}
	programs, err := copied(ctx, in.Dir, root, q)
	if err != nil {
		return launch.Command{}, fmt.Errorf("copy what the launch script may read: %w", err)
	}
	if err := errors.Join(host.OwnApart(root), os.Chmod(above, 0o711)); err != nil {
		return launch.Command{}, err
	}
	env := q.Script.Env
	a := host.Apart{Dir: root, At: in.Dir, Env: env, Replace: programs, Show: host.ShowsFor(in.Dir, root, q.Script.Name, env, in.Options.Apart[0]), Argv: argv}
	if dir != "" && dir != in.Dir {
		a.Argv = append([]string{"/bin/sh", "-c", `cd "$0" && exec "$@"`, dir}, argv...)
	}
	for _, at := range []string{"/usr/bin/sleep", "/bin/sleep"} { // nothing is waited for
		if fi, err := os.Lstat(at); err == nil && fi.Mode().IsRegular() && regular("/usr/bin/true") {
			a.Replace[at] = "/usr/bin/true"
		}
	}
	s, err := host.Ask(ctx, in.Options.Apart, a, host.Bounds{Time: mostTime, Memory: mostMemory})
	if err != nil {
		return launch.Command{}, err
	}
	c, _ := launch.Started(in.Dir, s.Program, s.Dir, s.Argv, s.Env)
	return c, nil
}

// words are what is run, and the folder that it is run in.
func words(in *install.Install, s *launch.Script) ([]string, string) {
	if s.Name == "" {
		if len(s.Lines) == 0 {
			return nil, ""
		}
		return s.Lines[len(s.Lines)-1], s.Dir
	}
	return host.Argv(host.Launch{Install: in.Dir, Script: s.Name, Args: s.Args}), in.Dir
}

func regular(at string) bool {
	fi, err := os.Lstat(at)
	return err == nil && fi.Mode().IsRegular()
}

// copied lays the install out anew in a folder: texts as they will be, larger files as ones of the same name and size that say
// nothing. programs are the large ones that a script may run: they are shown as they are, by full path.
func copied(ctx context.Context, dir, root string, q Question) (programs map[string]string, err error) {
	list, err := tree.Walk(dir, nil)
	if err != nil {
		return nil, err
	}
	depth := func(e tree.Entry) int { return strings.Count(e.Path, "/") }
	slices.SortStableFunc(list, func(a, b tree.Entry) int { return depth(a) - depth(b) })
	from, err := tree.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	c := copying{from: from, root: root, q: q, programs: map[string]string{}}
	for _, e := range list[:min(len(list), mostFiles)] {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if !profile.Reserved(e.Path) {
			if err := c.one(e); err != nil {
				return nil, err
			}
		}
	}
	for _, at := range q.Brings {
		full := filepath.Join(root, filepath.FromSlash(at))
		if _, err := os.Lstat(full); err == nil || !tree.Local(at) {
			continue
		}
		text, _ := c.text(at)
		if err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, text, 0o755)); err != nil {
			return nil, err
		}
	}
	return c.programs, nil
}

// copying is a copy under way.
type copying struct {
	from     *tree.Root
	root     string
	q        Question
	sum      int64
	programs map[string]string
}

func (c *copying) text(at string) ([]byte, bool) {
	if c.q.Texts == nil {
		return nil, false
	}
	return c.q.Texts(at)
}

// one copies one file, folder or link. What can't be read is left out.
func (c *copying) one(e tree.Entry) error {
	to := filepath.Join(c.root, filepath.FromSlash(e.Path))
	mode := fs.FileMode(e.Mode).Perm() | 0o600
	switch e.Kind {
	case tree.Dir:
		return os.MkdirAll(to, 0o755)
	case tree.Link:
		return os.Symlink(e.Target, to)
	case tree.File:
	default:
		return nil
	}
	text, is := c.text(e.Path)
	if !is && e.Size <= mostText && c.sum+e.Size <= mostCopied {
		f, err := c.from.Open(e.Path)
		if err != nil {
			return nil
		}
		text, err = io.ReadAll(io.LimitReader(f, mostText))
		f.Close()
		if err != nil {
			return nil
		}
		is = true
	}
	c.sum += int64(len(text))
	if err := os.WriteFile(to, text, mode); err != nil || is {
		return errors.Join(err, os.Chmod(to, mode))
	}
	if mode&0o111 != 0 && !strings.HasSuffix(e.Path, ".jar") {
		c.programs[c.from.Full(e.Path)] = c.from.Full(e.Path)
		return nil
	}
	return os.Truncate(to, e.Size)
}
