package plan

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/ahead"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"

	"github.com/aymanbagabas/go-udiff"
)

// Script is the launch script as it will be, with what it runs.
func (p *Plan) Script(pr *Planner) *launch.Script { return pr.Script(p.texts) }

// Commands are what the launch scripts will run: of each part of the server.
func (p *Plan) Commands(pr *Planner) (out []launch.Command, err error) {
	for _, part := range pr.Parts() {
		if part.Outside() {
			continue
		}
		list, err := part.Script(p.texts).Commands()
		if err != nil {
			return out, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// texts gives the text of a file that comes, or is edited.
func (p *Plan) texts(at string) ([]byte, bool) {
	if b, is := p.units[at]; is {
		return b, true
	}
	if b, edited := p.Texts[at]; edited {
		return b, true
	}
	c, comes := p.Comes(at)
	if !comes || c.Kind != tree.File {
		return nil, false
	}
	b, err := io.ReadAll(io.NewSectionReader(p.Store.Content(*c.File), 0, min(c.Size, install.MaxScript)))
	return b, err == nil
}

// planScript has the launch script, and the scripts and argument files that it reads, follow
// the new build and the profile: the artifact's new name, memory, flags, arguments, folder, and
// a runtime that will do. The rest of each file stays byte for byte. What can't be had is told
// by the checks.
func (pr *Planner) planScript(p *Plan, f *acquire.Fetched, w resolve.Want) error {
	for _, part := range pr.Parts() {
		if part.Outside() {
			continue
		}
		s := part.Script(p.texts)
		if commands, err := s.Commands(); err != nil || len(commands) == 0 { // the check of the launch script tells why
			if !WishOf(part.Profile).Nothing() {
				p.Lacking = append(p.Lacking, pr.whyUnread(cmp.Or(s.Name, s.Label)))
			}
			continue
		}
		if err := pr.planOne(p, part, s, f, w); err != nil {
			return err
		}
		for _, at := range slices.Sorted(maps.Keys(s.Texts())) {
			if s.Name == "" && at == s.Label {
				p.planLine(part, s)
				continue
			}
			if !p.retext(at, s.Texts()[at]) {
				p.Edits = slices.DeleteFunc(p.Edits, func(e Edit) bool { return e.Path == at })
				p.Lacking = append(p.Lacking, at+": it is no file of the install that a refit exchanges")
			}
		}
	}
	return pr.diffScripts(p)
}

// whyUnread tells why nothing can be written into what starts the server.
func (pr *Planner) whyUnread(at string) string {
	if f, err := pr.Open(at); err == nil {
		defer f.Close()
		if _, is := needs.ReadProgram(f); is {
			return at + ": it is a program, and no script: [launch] args are what it is given"
		}
	}
	return at + ": what it runs can't be read"
}

// planLine has a service run what its line was edited to, by a drop-in; where that can't be
// written from here, the line stays and is told.
func (p *Plan) planLine(part *install.Install, s *launch.Script) {
	now, err := s.Unit()
	if err == nil && now == nil {
		return
	}
	line, l := "", logbook.Lined{}
	if err == nil {
		l, line, err = part.Reline(now[0])
	}
	if err != nil {
		p.Edits = slices.DeleteFunc(p.Edits, func(e Edit) bool { return e.Path == s.Label })
		p.Unlined = append(p.Unlined, Unlined{Unit: s.Label, Line: line, Why: err.Error()})
		return
	}
	if p.units == nil {
		p.units = map[string][]byte{}
	}
	p.units[s.Label] = s.Texts()[s.Label]
	p.Lines = append(p.Lines, l)
}

// planOne has one launch script follow the new build and the profile.
func (pr *Planner) planOne(p *Plan, part *install.Install, s *launch.Script, f *acquire.Fetched, w resolve.Want) error {
	if !f.Candidate.Stays {
		for _, m := range pr.newNames(p) {
			edits, lacking, err := s.Artifact(m[0], m[1])
			if err != nil {
				return err
			}
			p.script(edits, lacking)
		}
	}
	edits, lacking, err := pr.grant(p, part, s)
	if err != nil {
		return err
	}
	p.script(edits, lacking)
	return pr.chooseRuntime(p, s, f, w)
}

// diffScripts shows what changes of the scripts, from what is installed.
func (pr *Planner) diffScripts(p *Plan) error {
	for _, e := range p.Edits {
		if _, edited := p.Texts[e.Path]; edited && !e.Consent &&
			!slices.ContainsFunc(p.Scripts, func(r Rescript) bool { return r.Path == e.Path }) {
			p.Scripts = append(p.Scripts, Rescript{Path: e.Path})
		}
	}
	for i := range p.Scripts {
		r := &p.Scripts[i]
		text, edited := p.Texts[r.Path]
		if _, stands := p.Before.Get(r.Path); !edited || !stands {
			continue
		}
		mine, err := tree.ReadUpTo(pr.Path(r.Path), install.MaxScript)
		if err != nil {
			return err
		}
		r.Diff = udiff.Unified(r.Path, r.Path, string(mine), string(text))
	}
	return nil
}

// WishOf is what a profile asks of the launch script.
func WishOf(p *profile.Profile) launch.Wish {
	l := p.Launch
	return launch.Wish{First: l.FirstMemory, Most: l.Memory, Flags: l.Flags, With: l.With, Without: l.Without,
		Folder: l.Folder, NoBackground: l.Background != nil && !*l.Background, NoWait: l.Pause != nil && !*l.Pause}
}

// script takes edits over into the plan.
func (p *Plan) script(edits []launch.Edit, lacking []string) {
	for _, e := range edits {
		p.Edits = append(p.Edits, Edit{Path: e.File, Line: e.Line, Old: e.Old, New: e.New, Why: e.Why})
	}
	p.Lacking = append(p.Lacking, lacking...)
}

// retext has a text stand in a file of the install, or in one that comes; false where neither
// is exchanged.
func (p *Plan) retext(at string, text []byte) bool {
	if c, comes := p.Comes(at); comes {
		f := &locker.File{Entry: c.Entry().Entry}
		p.Bytes += int64(len(text)) - f.Size
		f.Size, f.Mtime, f.Inode = int64(len(text)), 0, 0
		p.Texts[at] = text
		p.Come(ahead.Coming{At: at, File: f, Mode: c.Mode, UID: c.UID, GID: c.GID})
		return true
	}
	here, stands := p.Before.Get(at)
	if !stands || here.Kind != tree.File || p.Removed(at) {
		return false
	}
	p.rewrite(here, text)
	if it := p.items.Find(at); it != nil && it.owned == asHere { // it is the operator's now
		it.owned = asEdited
	}
	return true
}

// newNames tells which files that the launch script runs the new build calls otherwise: the
// installed one goes, or is of another version, and one alone of its kind comes.
func (pr *Planner) newNames(p *Plan) (out [][2]string) {
	for _, at := range pr.Runs() {
		if p.OfBuild(at) || p.Has(at) && (p.Known || pr.Profile.Server.Own(at)) {
			continue
		}
		// Where the old build is not known the old one stays: the script is led past it all the same.
		if now := pr.follows(p, p.items, at); now != "" {
			if m := (inventory.Move{From: at, To: now}); !slices.Contains(p.Followed, m) {
				p.Followed = append(p.Followed, m)
			}
			out = append(out, [2]string{at, now})
		}
	}
	return out
}

// follows is the one file of a build that comes in the place of one with a version in its name;
// "" for none.
func (pr *Planner) follows(p *Plan, build Items, at string) string {
	if version.In(path.Base(at)) == "" {
		return ""
	}
	var found []string
	for _, of := range pr.ofKind(build, endingOf(at)) {
		if _, stands := p.Before.Get(of); !stands && path.Dir(of) == path.Dir(at) && version.In(path.Base(of)) != "" &&
			stemOf(of) == stemOf(at) {
			found = append(found, of)
		}
	}
	if len(found) != 1 {
		return ""
	}
	return found[0]
}

// stemOf is a name without the version in it.
func stemOf(at string) string {
	base := path.Base(at)
	return strings.Replace(base, version.In(base), "", 1)
}

// canFollow tells whether the launch script can be made to run a file by another name.
func (pr *Planner) canFollow(p *Plan, old, now string) bool {
	s := p.Script(pr)
	edits, lacking, err := s.Artifact(old, now)
	return err == nil && len(edits) > 0 && len(lacking) == 0
}

// chooseRuntime has each command that a Java runtime runs run one that will do: the operator's
// choice, else another one only where the one that it runs can't run the new build.
func (pr *Planner) chooseRuntime(p *Plan, s *launch.Script, f *acquire.Fetched, w resolve.Want) error {
	choice := w.Runtime
	if choice == "" {
		choice = pr.Profile.Runtime.Use
	}
	if choice == "" && f.Candidate.Stays {
		return nil
	}
	lines, err := s.Commands()
	if err != nil {
		return err
	}
	runs := &runtimes.Programs{In: pr.Install, Ahead: p.Ahead, Needs: f.Candidate.Build.Needs}
	var have []needs.Runtime
	for i, c := range lines {
		if !c.Java() || (c.Path == "" && choice == "") { // what runs nothing is a mistake that is not the build's
			continue
		}
		at, jar, err := runs.Java(c)
		if err != nil {
			continue // told by the check
		}
		need := runs.NeedOf(jar)
		rt, err := needs.ReadRuntime(context.Background(), c.Path)
		runs := err == nil
		if have == nil {
			have = pr.rts.Java(context.Background())
		}
		var best *needs.Runtime
		why := ""
		switch {
		case choice != "":
			chosen := runtimes.Chosen(have, choice)
			if best = need.Best(chosen); best == nil {
				p.Unchosen = append(p.Unchosen, runtimes.WhyNone(chosen, choice, need))
				continue
			}
			if runs && slices.ContainsFunc(chosen, func(r needs.Runtime) bool { return r.Path == rt.Path }) &&
				need.Fits(rt) {
				continue
			}
			why = fmt.Sprintf("%s was chosen, and %s needs %s", choice, at, need)
		case !runs || need.Fits(rt):
			continue
		default:
			if best = need.Best(have); best == nil {
				continue
			}
			why = fmt.Sprintf("%s needs %s; it ran Java %s", at, need, rt.Version)
		}
		e, ok, err := s.Program(i, best.Path, why)
		if err != nil {
			return err
		}
		if ok { // else it is told, with what to do by hand
			p.Edits = append(
				p.Edits,
				Edit{Path: e.File, Line: e.Line, Old: e.Old, New: e.New, Why: why, Runtime: *best},
			)
		}
	}
	return nil
}

// WriteScript makes the text of a launch script that runs the server: what the present one
// runs, where there is one, else the one program of the install. What the profile asks of it
// stands in it.
func (pr *Planner) WriteScript(name string) ([]byte, error) {
	c := launch.Composed{By: "freshkeel launch --write"}
	commands, err := pr.Launched()
	if err != nil {
		commands = nil
	}
	switch {
	case len(commands) > 0:
		last := commands[len(commands)-1]
		c.Program, c.Args = last.Program, last.Args
		c.Folder = tree.Rel(pr.Dir, last.Dir)
		c.Why = fmt.Sprintf("it runs what %s runs, line %d", last.File, last.Line)
	default:
		program, err := pr.onlyProgram()
		if err != nil {
			return nil, err
		}
		c.Program, c.Why = "./"+program, program+" is the one program of the install"
		if strings.HasSuffix(program, ".jar") {
			c.Program, c.Args = "java", []string{"-jar", program}
		}
	}
	text, err := launch.Compose(name, c)
	if err != nil {
		return nil, err
	}
	s := &launch.Script{Install: pr.Dir, Name: name, Env: pr.ServerEnv(), Args: pr.Profile.Launch.Args, Under: func(at string) ([]byte, bool) {
		return text, at == name
	}}
	if _, _, err := s.Grant(WishOf(pr.Profile)); err != nil {
		return nil, err
	}
	if edited, is := s.Texts()[name]; is {
		text = edited
	}
	return text, nil
}

// onlyProgram is the jar, or the program, at the top of the install, where there is one alone.
func (pr *Planner) onlyProgram() (string, error) {
	list, err := tree.Walk(pr.Dir, pr.Profile.Server.Skip)
	if err != nil {
		return "", err
	}
	var jars, programs []string
	for _, e := range list {
		switch {
		case strings.Contains(e.Path, "/") || e.Kind != tree.File:
		case strings.HasSuffix(e.Path, ".jar"):
			jars = append(jars, e.Path)
		case e.Mode&0o111 != 0 || strings.HasSuffix(e.Path, ".exe"):
			programs = append(programs, e.Path)
		}
	}
	if len(jars) == 1 {
		return jars[0], nil
	}
	if len(jars) == 0 && len(programs) == 1 {
		return programs[0], nil
	}
	return "", tell.Advise(
		fmt.Errorf("which program is the server can't be told: at the top of %s stand %s and %s", pr.Dir,
			words.Plural(len(jars), "jar"), words.Plural(len(programs), "program")),
		"write the script by hand; then freshkeel profile set launch.script FILE",
	)
}
