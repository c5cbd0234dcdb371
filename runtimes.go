package freshkeel

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"freshkeel/internal/adopt"
	"freshkeel/internal/ahead"
	"freshkeel/internal/asked"
	"freshkeel/internal/feed"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/needs"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
)

// Runtimes lists the runtimes of this machine and holds them against what the
// launch script runs: as it is installed or, with a version or place wanted, as
// that build would have it. They are those of the kind that the script runs;
// Java's, where it runs none.
func (k *Keel) Runtimes(ctx context.Context, w Want) (*Runtimes, error) {
	inv, err := k.inv.Head()
	if err != nil {
		return nil, err
	}
	p := &runtimes.Programs{In: k.in, Ahead: ahead.New(k.in, nil, nil)}
	ver := inv.Version
	if w.Version != "" || w.From != "" {
		f, err := k.acq.Goal(ctx, w)
		if err != nil {
			return nil, err
		}
		plan, err := k.planner.Make(f, w)
		if err != nil {
			return nil, err
		}
		p.Ahead, p.Needs, ver = plan.Ahead, f.Candidate.Build.Needs, f.Version
	}
	return k.rts.Hold(ctx, p, ver)
}

// FitRuntime looks whether the runtime that the launch script runs fits what is installed. In a
// script that Fresh Keel wrote another one takes its place where that fits; note says so. lack
// says what is missing, "" for nothing.
func (k *Keel) FitRuntime(ctx context.Context) (note, lack string, err error) {
	rs, err := k.Runtimes(ctx, Want{})
	if err != nil || rs.Need == "" {
		return "", "", err
	}
	var best *Runtime
	for i := range rs.All {
		switch r := &rs.All[i]; {
		case r.Used != "" && r.Fits:
			return "", "", nil
		case r.Best:
			best = r
		}
	}
	script := k.Profile.Launch.Script
	if best == nil || script != adopt.OwnScript {
		return "", fmt.Sprintf("%s needs %s (%s)", rs.Runs, rs.Need, rs.Where), nil
	}
	commands, err := launch.Read(k.Dir, script, k.in.ServerEnv())
	if err != nil || len(commands) == 0 {
		return "", "", err
	}
	text, err := tree.ReadUpTo(k.in.Path(script), install.MaxScript)
	if err != nil {
		return "", "", err
	}
	if text, err = commands[0].WithProgram(text, best.Path); err != nil {
		return "", "", err
	}
	return fmt.Sprintf("%s runs %s: %s needs %s", script, best.Path, rs.Runs, rs.Need), "",
		tree.WriteFile(k.in.Path(script), text, 0o755)
}

// TakeRuntimeFor takes in the Java runtime that the source names for a build.
func (k *Keel) TakeRuntimeFor(ctx context.Context, want Want) (rt *needs.Runtime, there bool, err error) {
	c, err := k.res.Build(ctx, want)
	if err != nil {
		return nil, false, err
	}
	a, ok := c.Build.RuntimeFor(needs.Java, feed.Machine(profile.Source{}))
	if !ok {
		return nil, false, tell.Advise(fmt.Errorf("the source names no runtime of this machine for %s", c.Label()),
			"freshkeel runtimes take PATH|URL of an archive")
	}
	a.Wanted.Archive = true
	return k.rts.Take(ctx, a.Wanted, c.Src)
}

// TakeRuntime takes a Java runtime in from an archive at a path or URL, into a
// folder of our own: no administrator's rights are needed, and the system's
// runtimes stay as they are. digest, "sha256:HEX" say, may be "". The runtime is
// started once to see that it runs here. One of the same version that is there
// already is left as it is, and there is true.
func (k *Keel) TakeRuntime(ctx context.Context, where, digest string) (rt *needs.Runtime, there bool, err error) {
	return k.rts.TakeFrom(ctx, where, digest)
}

// DropRuntime removes a runtime that was taken in, by its version or the name of its
// folder, unless a server's launch script runs it, or that of a backup does, which is
// needed to go back: anyway drops it all the same.
func (k *Keel) DropRuntime(name string, anyway bool) (path string, err error) {
	return k.rts.Drop(name, anyway, k.backupsThatRun)
}

// backupsThatRun lists the backups of an install whose launch script names something in
// a folder.
func (k *Keel) backupsThatRun(dir, folder string) (out []string) {
	p, err := profile.Read(dir)
	if err != nil || p.Launch.Script == "" {
		return nil
	}
	of := newKeel(install.New(dir, p, k.in.Options))
	if _, err := tree.ReadOwn(of.in.State("identity")); err != nil {
		return nil // it has no backups
	}
	heads, err := of.shelf.List()
	if err != nil {
		return nil
	}
	l, err := of.in.Locker()
	if err != nil {
		return nil
	}
	for _, b := range heads {
		set, err := of.shelf.Read(b.ID)
		if err != nil {
			continue
		}
		f := set.Find(p.Launch.Script)
		if f == nil || f.Kind != tree.File || f.Size > install.MaxScript {
			continue
		}
		text, err := io.ReadAll(io.NewSectionReader(l.Content(*f), 0, f.Size))
		if err == nil && bytes.Contains(text, []byte(folder+string(filepath.Separator))) {
			out = append(out, b.ID)
		}
	}
	return out
}

// LaunchLine is one command of the launch script, as it would be run.
type LaunchLine struct {
	File    string   `json:"file"`
	Line    int      `json:"line"`
	Text    string   `json:"text"`
	Program string   `json:"program"`           // the file that runs; as it is written where there is none
	Missing bool     `json:"missing,omitempty"` // nothing is there
	Runtime string   `json:"runtime,omitempty"` // of a Java runtime: its version
	First   int64    `json:"first_heap_bytes,omitempty"`
	Most    int64    `json:"greatest_heap_bytes,omitempty"`
	Runs    string   `json:"runs,omitempty"` // the jar or script that is given to it
	Folder  string   `json:"folder"`         // that it runs in
	Args    []string `json:"args"`
	Unknown []string `json:"unknown,omitempty"` // what can't be known before it runs, and what it is given depends on
	Wishes  []string `json:"wishes,omitempty"`  // what the profile asks and the script does not say yet
	Loop    string   `json:"loop,omitempty"`    // the line of the endless loop that starts it again
	Waits   []string `json:"waits,omitempty"`   // lines that wait for a key, before it or behind it
	Known   string   `json:"known"`             // how: "read", "asked" or "unknown"
}

// AskLaunch runs the launch scripts apart, and tells what each of them starts first; see LaunchLine. Where one can't be run, or
// starts nothing, why says so.
func (k *Keel) AskLaunch(ctx context.Context) (out []LaunchLine, why []string, err error) {
	for _, part := range k.in.Parts() {
		s := part.Script(nil)
		if part.Outside() || s.Name+s.Label == "" {
			continue
		}
		c, err := asked.Of(ctx, part, asked.Question{Script: s})
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err != nil {
			why = append(why, fmt.Sprintf("%s: %v", cmp.Or(s.Name, s.Label), err))
			continue
		}
		one := lineOf(ctx, c)
		one.Known, one.File = "asked", cmp.Or(s.Name, s.Label)
		out = append(out, one)
	}
	return out, why, nil
}

// lineOf is a command as it is told.
func lineOf(ctx context.Context, c launch.Command) LaunchLine {
	one := LaunchLine{File: c.File, Line: c.Line, Text: c.Text, Program: c.Path, Runs: cmp.Or(c.Jar, c.Script),
		Folder: c.Dir, Args: append([]string{}, c.Args...), Unknown: c.Unknown, Known: "read"}
	if len(c.Unknown) > 0 {
		one.Known = "unknown"
		if c.Written != nil {
			one.Args = append([]string{}, c.Written...)
		}
		if one.Runs == "." { // its name is what is not known
			one.Runs = ""
		}
	}
	if one.Program == "" {
		one.Program, one.Missing = c.Program, len(c.Unknown) == 0
	}
	if c.Java() && c.Path != "" {
		if rt, err := needs.ReadRuntime(ctx, c.Path); err == nil {
			one.Runtime = rt.Version
		}
	}
	if one.First, one.Most = c.Heap(); one.Known == "unknown" {
		one.First, one.Most = 0, 0
	}
	if c.Loop != nil {
		one.Loop = c.Loop.String()
	}
	for _, w := range []*launch.Place{c.Waits, c.Stays} {
		if w != nil {
			one.Waits = append(one.Waits, w.String())
		}
	}
	return one
}

// LaunchLines tells what the launch script really runs: variables filled in, the scripts that it
// calls followed.
func (k *Keel) LaunchLines(ctx context.Context) (out []LaunchLine, err error) {
	named := false
	for _, part := range k.in.Parts() {
		s := part.Script(nil)
		if part.Outside() || s.Name+s.Label == "" {
			continue
		}
		named = true
		lines, err := linesOfPart(ctx, s, plan.WishOf(part.Profile))
		if err != nil {
			return nil, err
		}
		out = append(out, lines...)
	}
	if !named {
		return nil, tell.Advise(errors.New("the profile names no launch script"),
			"freshkeel profile set launch.script FILE")
	}
	return out, nil
}

// linesOfPart tells what starts the server, or one of its parts, and what the profile asks of that.
func linesOfPart(ctx context.Context, s *launch.Script, wish launch.Wish) (out []LaunchLine, err error) {
	commands, err := s.Commands()
	if err != nil {
		return nil, err
	}
	for _, c := range commands {
		out = append(out, lineOf(ctx, c))
	}
	edits, lacking, err := s.Grant(wish)
	if err != nil || len(out) == 0 {
		return out, err
	}
	last := &out[len(out)-1]
	for _, e := range edits {
		last.Wishes = append(last.Wishes, e.Why)
	}
	for _, l := range lacking {
		last.Wishes = append(last.Wishes, l+" (it can't be written by itself: do it by hand)")
	}
	return out, nil
}

// WriteLaunch writes a launch script for the server to a new file of the install, and returns
// its text: what the present script runs, or the one program of the install, with what the
// profile asks of it. One that is there is never written over; dry writes nothing.
func (k *Keel) WriteLaunch(ctx context.Context, name string, dry bool) (string, error) {
	if !tree.Local(name) || profile.Reserved(name) {
		return "", tell.Misuse(name+" is no path in the install", "freshkeel launch --write start.sh")
	}
	unlock, err := k.begin(ctx, "launch")
	if err != nil {
		return "", err
	}
	defer unlock()
	if _, err := os.Lstat(k.in.Path(name)); err == nil {
		return "", tell.Advise(fmt.Errorf("%s is there already, and is left as it is", k.in.Path(name)),
			"give the new script another name")
	}
	text, err := k.planner.WriteScript(name)
	if err != nil || dry {
		return string(text), err
	}
	return string(text), tree.WriteFile(k.in.Path(name), text, 0o755)
}
