// Package written is what a build writes at its first start: the defaults of settings that it
// does not ship. The build is booted once in an empty folder of its own, shut off from network,
// world and other processes, and what it wrote is kept with the build.
package written

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Defaults are the files of settings that a build wrote at its first start.
type Defaults struct {
	Build   string    `json:"build"` // in the locker
	Version string    `json:"version"`
	At      time.Time `json:"at"`
	Rules   []string  `json:"rules,omitempty"` // patterns of the files that were looked for
	Files   []string  `json:"files"`
	Sums    []string  `json:"sums"`           // of each
	Said    []string  `json:"said,omitempty"` // the last lines of a server that did not come up
	Shut    bool      `json:"shut_off"`       // whether it was shut off

	dir string
}

const recordName, filesName = "first-start.json", "files"

func folder(home, build string) string { return filepath.Join(home, "first-starts", build) }

// Of is what a build wrote, where it was booted before; nil where it was not.
func Of(home, build string) (*Defaults, error) {
	dir := folder(home, build)
	if build == "" || !tree.Local(build) {
		return nil, nil
	}
	b, err := tree.ReadUpTo(filepath.Join(dir, recordName), mostRecord)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	d := &Defaults{dir: dir}
	err = json.Unmarshal(b, d)
	if err == nil && len(d.Sums) != len(d.Files) {
		err = errors.New("it does not have a sum for each file")
	}
	if err != nil {
		return nil, fmt.Errorf("read %s, which can be removed (the build is booted anew): %w", filepath.Join(dir, recordName), err)
	}
	return d, nil
}

const mostRecord = 4 << 20

// Forget removes what is kept of a build.
func Forget(home, build string) error {
	if build == "" || !tree.Local(build) {
		return nil
	}
	return os.RemoveAll(folder(home, build))
}

// Covers tells whether all that is looked for now was looked for then.
func (d *Defaults) Covers(rules []string) bool {
	for _, r := range rules {
		if !slices.Contains(d.Rules, r) && !slices.ContainsFunc(d.Files,
			func(at string) bool { return (tree.Patterns{r}).Match(at) }) {
			return false
		}
	}
	return true
}

// Text is a file as the build wrote it; nil where it wrote none of that name.
func (d *Defaults) Text(at string) ([]byte, error) {
	i := slices.Index(d.Files, at)
	if i < 0 || !tree.Local(at) {
		return nil, nil
	}
	b, err := tree.ReadUpTo(filepath.Join(d.dir, filesName, filepath.FromSlash(at)), Most)
	if err != nil {
		return nil, err
	}
	if tree.SumBytes(b).String() != d.Sums[i] {
		return nil, fmt.Errorf(
			"%s is not what the build wrote at its first start: remove %s, and it is booted anew",
			at,
			d.dir,
		)
	}
	return b, nil
}

// Most bounds a file of settings, in bytes.
const Most = 1 << 20

// mostFiles bounds how many files are taken.
const mostFiles = 500

// Laid is one file, folder or link of the build, where the install has it.
type Laid struct {
	At   string
	File *locker.File
	Text []byte // instead of what the locker has
}

// Start is what is booted.
type Start struct {
	Build   string // in the locker
	Version string
	Lay     []Laid
	Run     []string // instead of the launch script: a program and its words, as in the install
	In      string   // the folder that it runs in
	Openly  bool     // by the operator's word, where the system does not shut it off
	Rules   []string // patterns of the files that are looked for
}

// Harvest boots a build once and keeps what it wrote: files that it did not ship and that wanted
// tells apart. The error says why it could not be booted; a server that did not come up is none.
func Harvest(ctx context.Context, in *install.Install, store *locker.Locker, s Start, wanted func(at string) bool) (
	d *Defaults, err error) {
	_, err = in.Step("first start", func() (string, error) {
		d, err = harvest(ctx, in, store, s, wanted)
		if err != nil {
			return "", err
		}
		how := fmt.Sprintf("%s in a folder apart", s.Version)
		if len(d.Files) == 0 {
			return how + ": it wrote no settings", nil
		}
		return fmt.Sprintf("%s: it wrote %s", how, words.Some(d.Files, 3)), nil
	})
	return d, err
}

func harvest(ctx context.Context, in *install.Install, store *locker.Locker, s Start, wanted func(string) bool) (
	*Defaults, error) {
	parent := filepath.Join(in.Home, "first-starts")
	if err := os.MkdirAll(parent, 0o700); err != nil {
		return nil, err
	}
	sweep(parent)
	scratch, err := os.MkdirTemp(parent, "tmp-")
	if err != nil {
		return nil, err
	}
	defer tree.RemoveAll(scratch)
	root, err := os.MkdirTemp(cmp.Or(host.ApartDir(), scratch), "freshkeel-first-start-")
	if err != nil {
		return nil, err
	}
	defer tree.RemoveAll(root)
	laid, size, err := layOut(ctx, store, root, s.Lay)
	if err != nil {
		return nil, fmt.Errorf("lay the build out: %w", err)
	}
	if err := in.Halt("first-start"); err != nil {
		return nil, err
	}
	d := &Defaults{Build: s.Build, Version: s.Version, Rules: s.Rules, At: time.Now().Round(0), Shut: !s.Openly}
	if d.Said, err = boot(ctx, in, root, size, s, func() bool { return len(found(root, laid, wanted)) > 0 }); err != nil {
		return nil, err
	}
	return d, d.keep(in.Home, root, scratch, found(root, laid, wanted))
}

// sweep removes what commands that were killed left behind: no first start lasts a day.
func sweep(parent string) {
	list, _ := filepath.Glob(filepath.Join(parent, "tmp-*"))
	for _, at := range list {
		if fi, err := os.Lstat(at); err == nil && time.Since(fi.ModTime()) > 24*time.Hour {
			tree.RemoveAll(at)
		}
	}
}

// layOut lays a build out in a folder, and tells what it laid and how much.
func layOut(
	ctx context.Context,
	store *locker.Locker,
	root string,
	list []Laid,
) (laid map[string]bool, size int64, err error) {
	laid = map[string]bool{}
	var files []locker.Laying
	for _, l := range list {
		if !tree.Local(l.At) || profile.Reserved(l.At) {
			continue
		}
		full := filepath.Join(root, filepath.FromSlash(l.At))
		laid[l.At] = true
		if l.Text == nil {
			f := *l.File
			f.UID, f.GID = tree.NoID, tree.NoID
			if f.Kind == tree.Dir {
				if err := os.MkdirAll(full, 0o755); err != nil {
					return nil, 0, err
				}
				continue
			}
			f.Mode |= 0o600
			size += f.Size
			files = append(files, locker.Laying{Full: full, File: &f})
			continue
		}
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			return nil, 0, err
		}
		if err := os.WriteFile(full, l.Text, 0o755); err != nil {
			return nil, 0, err
		}
	}
	if len(files) > 0 {
		if err := store.LayAll(ctx, files, 0o755, []string{root}, func(locker.Laying) {}); err != nil {
			return nil, 0, err
		}
	}
	return laid, size, host.OwnApart(root)
}

// bounds of a first start.
const (
	mostMemory = 4 << 30
	mostDisk   = 2 << 30
	quiet      = 2 * time.Second  // without a line, and with settings written, it has come as far as it will
	idle       = 20 * time.Second // without a line, and without settings: where no rule says when it is ready, no more comes
	endWait    = 10 * time.Second // for each way to end it
	leastTime  = 30 * time.Second
)

// boot starts the server and ends it again when it is ready, or says nothing more. said are its
// last lines where it ended by itself with an error.
func boot(
	ctx context.Context,
	in *install.Install,
	root string,
	size int64,
	s Start,
	wrote func() bool,
) (said []string,
	err error) {
	l := in.Profile.Launch
	programs := []string{in.Options.Apart[0]}
	if len(s.Run) > 0 {
		programs = append(programs, s.Run[0])
	}
	a := host.Apart{Dir: root, At: in.Dir, Env: in.ServerEnv(), Openly: s.Openly, Show: host.ShowsFor(in.Dir, root, in.Profile.Launch.Script, in.ServerEnv(), programs...)}
	a.Argv = host.Argv(host.Launch{Install: root, Script: l.Script, Args: l.Args})
	if len(s.Run) > 0 {
		a.Argv = append([]string{"/bin/sh", "-c", `cd "$0" && exec "$@"`, s.In}, s.Run...)
	}
	if s.Openly && len(s.Run) > 0 {
		return nil, notApart(errors.New("what a service runs by its own line leads out of the folder in which the build is booted"))
	}
	if s.Openly {
		if err := staysIn(root, l.Script, a.Env); err != nil {
			return nil, err
		}
	} else {
		for i, w := range a.Argv { // as it finds itself there
			if rest, ok := strings.CutPrefix(w, root+string(filepath.Separator)); ok {
				a.Argv[i] = filepath.Join(in.Dir, rest)
			}
		}
	}
	h := &hearing{ready: make(chan struct{}), last: time.Now(), rules: in.Profile.Ready.Line}
	run, err := host.RunApart(ctx, in.Options.Apart, a, host.Bounds{
		Time:   max(in.Profile.Ready.Within.Std(), leastTime),
		Memory: mostMemory,
		Disk:   func() bool { return sizeOf(root) > size+mostDisk },
	}, h.line)
	if err != nil {
		return nil, notApart(err)
	}
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for begun := true; begun; {
		select {
		case <-run.Done():
			begun = false
		case <-h.ready:
			time.Sleep(300 * time.Millisecond) // what it writes when it is ready
			begun = false
		case <-tick.C:
			begun = h.rules.Given() || !(h.quiet(quiet) && wrote() || h.quiet(idle))
		}
	}
	run.End(in.Profile.Stop.Send, endWait)
	err = run.Err()
	switch {
	case errors.Is(err, host.ErrNotApart):
		return nil, notApart(fmt.Errorf("%w: %s", err, strings.Join(h.lines, "; ")))
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case h.up || wrote():
		return nil, nil // it came far enough
	case err != nil:
		return append(h.lines, err.Error()), nil
	}
	return h.lines, nil
}

// hearing is what a server says that is booted.
type hearing struct {
	mu    sync.Mutex
	rules profile.Patterns
	lines []string // the last ones
	last  time.Time
	up    bool
	ready chan struct{}
}

func (h *hearing) line(line string) {
	line = words.Printable(strings.TrimRight(line, "\r\n"))
	h.mu.Lock()
	defer h.mu.Unlock()
	h.last = time.Now()
	if h.lines = append(h.lines, line); len(h.lines) > 40 {
		h.lines = h.lines[1:]
	}
	if by, _ := h.rules.In(new(logline.Reader).Read(line)); by != nil && !h.up {
		h.up = true
		close(h.ready)
	}
}

// quiet tells whether nothing was said for a while.
func (h *hearing) quiet(long time.Duration) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return time.Since(h.last) > long
}

// notApart advises what to do where a program can't be shut off.
func notApart(err error) error {
	return tell.Advise(err, "--let-boot boots it all the same, in a folder of its own; or let the profile say another "+
		"kind of default ([[carry]] defaults)")
}

// staysIn looks whether a launch script stays in a folder: one that is not shut off must not
// reach the server that runs.
func staysIn(root, script string, env []string) error {
	commands, err := launch.Read(root, script, env)
	if err != nil {
		return err
	}
	for _, c := range commands {
		if !tree.Inside(root, c.Dir) || (c.Jar != "" && filepath.IsAbs(c.Jar)) {
			return fmt.Errorf(
				"%s:%d leads out of the folder in which the build is booted, and it can't be shut off: %s",
				c.File,
				c.Line,
				c.Text,
			)
		}
	}
	return nil
}

func sizeOf(root string) (sum int64) {
	filepath.WalkDir(root, func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if fi, err := e.Info(); err == nil && fi.Mode().IsRegular() {
			sum += fi.Size()
		}
		return nil
	})
	return sum
}

// found are the files that a program wrote and that are wanted, in the order of their paths.
func found(root string, laid map[string]bool, wanted func(string) bool) (out []string) {
	list, err := tree.Walk(root, nil)
	if err != nil {
		return nil
	}
	for _, e := range list {
		if e.Kind == tree.File && !laid[e.Path] && e.Size <= Most && wanted(e.Path) && len(out) < mostFiles {
			out = append(out, e.Path)
		}
	}
	return out
}

// keep notes what a build wrote, whole or not at all.
func (d *Defaults) keep(home, root, scratch string, files []string) error {
	next := filepath.Join(scratch, "kept")
	in, err := tree.OpenRoot(root)
	if err != nil {
		return err
	}
	defer in.Close()
	for _, at := range files {
		f, err := in.Open(at)
		if err != nil {
			continue // it went again
		}
		b, err := io.ReadAll(io.LimitReader(f, Most))
		f.Close()
		if err != nil {
			return err
		}
		full := filepath.Join(next, filesName, filepath.FromSlash(at))
		if err := os.MkdirAll(filepath.Dir(full), 0o700); err != nil {
			return err
		}
		if err := tree.WriteFile(full, b, 0o600); err != nil {
			return err
		}
		d.Files, d.Sums = append(d.Files, at), append(d.Sums, tree.SumBytes(b).String())
	}
	b, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(next, 0o700); err != nil {
		return err
	}
	if err := tree.WriteFile(filepath.Join(next, recordName), b, 0o600); err != nil {
		return err
	}
	d.dir = folder(home, d.Build)
	if err := os.RemoveAll(d.dir); err != nil {
		return err
	}
	return tree.Rename(next, d.dir)
}
