package check

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/logbook"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// checkScripts looks at each script and program that is started by its name, as
// it will stand there: whether it may be run, by what, and with which line ends.
func checkScripts(_ context.Context, s *situation) (out []Finding) {
	if !host.HasModes {
		return nil
	}
	looked := 0
	for _, st := range s.started() {
		head, err := s.ahead.Head(st.at)
		if err != nil || strings.HasSuffix(strings.ToLower(st.at), ".exe") || isBatch(st.at) {
			continue // checkNames tells what is missing; the others are for another system
		}
		looked++
		full := s.k.Path(st.at)
		if st.byName && s.ahead.Mode(st.at)&0o111 == 0 {
			f := Finding{Level: Stop, What: fmt.Sprintf("%s may not be run: it has no execute bit", st.at),
				Where: st.where,
				Why:   "the shell says «permission denied», and the server does not start", Do: "chmod +x " + words.Shell(full)}
			if s.ahead.Brings(st.at) {
				f.Do = fmt.Sprintf(
					"let the script run it by its interpreter (sh %s); or ask the makers for an archive that "+
						"keeps modes",
					st.at,
				)
			}
			out = append(out, f)
		}
		line, _, _ := bytes.Cut(head, []byte("\n"))
		if bytes.HasPrefix(line, []byte("#!")) && bytes.HasSuffix(line, []byte("\r")) ||
			(launch.LooksShell(st.at, head) && bytes.HasSuffix(line, []byte("\r"))) {
			out = append(out, Finding{Level: Stop, What: st.at + " has Windows line ends", Where: full + ":1",
				Why: "the system looks for names that end in a carriage return, and finds none",
				Do:  s.withoutReturns(st.at)})
			continue
		}
		if program, found, is := needs.Interpreter(head, s.k.Env); is && found == "" && st.byName {
			out = append(out, Finding{Level: Stop,
				What:  fmt.Sprintf("%s is run by %s, which is not here", st.at, program),
				Where: full + ":1: " + string(line),
				Why:   "the system says «not found», and the server does not start",
				Do:    fmt.Sprintf("install %s, or let the first line name the one that is here", path.Base(program))})
		}
	}
	if isBatch(s.k.Profile.Launch.Script) {
		out = append(out, s.k.OtherSystem()...)
	}
	out = append(out, s.k.Ways(s.lines.commands)...)
	if out == nil && looked > 0 {
		if looked == 1 {
			return ok("the one script or program may be run, by what its first line names")
		}
		return ok("%d scripts and programs may be run, by what their first lines name", looked)
	}
	return out
}

// OtherSystem tells of a launch script that this system can't run: one for Windows, or one
// with Windows' line ends as it stands now.
func (ck *Checker) OtherSystem() []Finding {
	script := ck.Profile.Launch.Script
	if !host.HasModes || script == "" {
		return nil
	}
	if isBatch(script) {
		return []Finding{{Level: Stop, What: script + " is a batch script, which Windows alone runs",
			Where: ck.Path(script), Why: "the server would not start on this machine",
			Do: "name the shell script of this server under [launch] script in " + profile.FileName}}
	}
	if line, _, _ := bytes.Cut(tree.Head(ck.Path(script)), []byte("\n")); bytes.HasPrefix(line, []byte("#!")) &&
		bytes.HasSuffix(line, []byte("\r")) {
		return []Finding{{Level: Stop, What: script + " has Windows line ends", Where: ck.Path(script) + ":1",
			Why: "the system looks for names that end in a carriage return, and finds none",
			Do:  withoutReturns(ck.Path(script))}}
	}
	return nil
}

// Ways tells of ways to run a server that keep its console, its end or its start from
// whoever started the script.
func (ck *Checker) Ways(commands []launch.Command) (out []Finding) {
	late := fmt.Sprintf("after %s", ck.Profile.Stop.Wait)
	for _, c := range commands {
		where := fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
		if why := hidden(c); why != "" && len(ck.Profile.Parts) == 0 && !ck.Minded() {
			out = append(out, ck.inSession(why, where)...)
		} else if why != "" {
			f := Finding{Level: Stop, What: why, Where: where,
				Why: "its lines would not be seen and it could not be told to stop: a refit would go back as soon as the " +
					"time for its ready line is over",
				Do: fmt.Sprintf(
					"let the script run the server itself, without %s: Fresh Keel keeps it running when you "+
						"log out, and its console is there with freshkeel log -f and freshkeel send",
					c.Screen,
				)}
			if !ck.Profile.Ready.Line.Given() {
				f.Level, f.Why = Warn, "its lines will not be seen, and it can't be told to stop: it is ended by a signal"
			}
			out = append(out, f)
		}
		if c.Waits != nil {
			out = append(out, Finding{Level: Stop,
				What: "the launch script waits for a key before it starts the server", Where: c.Waits.String(),
				Why: "nobody is there to press it: the server would never start", Do: "take that line out"})
		}
		if c.Loop != nil && !host.HasModes { // elsewhere it is held still while the server stops
			out = append(out, Finding{Level: Warn, What: "the launch script starts the server again whenever it ends",
				Where: c.Loop.String(),
				Why: fmt.Sprintf(
					"told to stop, it comes up again, and is ended %s by a signal in the middle of its start",
					late,
				),
				Do: "take the loop out, and let the script run the server once"})
		}
	}
	return out
}

// inSession tells what is missing of a server that a service, or commands of the operator's, run in a terminal
// multiplexer: where it is heard, and how a line comes to its console.
func (ck *Checker) inSession(why, where string) (out []Finding) {
	h, r := ck.Profile.Host, ck.Profile.Ready
	if r.Log == "" && len(h.Follow) == 0 && r.Line.Given() {
		out = append(out, Finding{Level: Stop, What: why, Where: where,
			Why: "its lines are not heard: a refit would go back as soon as the time for its ready line is over",
			Do:  "freshkeel profile set ready.log FILE, the log that the server writes"})
	}
	if h.Console == "" && len(h.Say) == 0 {
		out = append(out, Finding{Level: Warn, What: why + ", and how a line comes there is not known", Where: where,
			Why: "it can't be told to stop at its console, nor can its players be warned: it is ended by a signal",
			Do:  "freshkeel adopt --dry-run, while it runs, shows the line «say» for [host]"})
	}
	return out
}

// hidden tells why a command's console is not that of the script; "" where it is.
func hidden(c launch.Command) string {
	if c.Screen == "" {
		return ""
	}
	return fmt.Sprintf("the launch script hands the server to %s, which keeps its console", c.Screen)
}

func (s *situation) withoutReturns(at string) string {
	if s.ahead.Brings(at) {
		return "ask the makers; or name it in [server] settings, and put one with plain line ends there"
	}
	return withoutReturns(s.k.Path(at))
}

func withoutReturns(full string) string { return fmt.Sprintf("sed -i 's/\\r$//' %s", full) }

// checkWishes tells which lines of the launch script change with the build, and what the
// profile asks of it that could not be written.
func checkWishes(_ context.Context, s *situation) (out []Finding) {
	for _, e := range s.plan.Edits {
		if i := slices.IndexFunc(s.plan.Lines, func(l logbook.Lined) bool { return l.Unit == e.Path }); i >= 0 {
			out = append(out, ok("the service %s runs another line, by %s: %s", e.Path, s.plan.Lines[i].File, e.Why)...)
		} else if e.Runtime.Path == "" && !e.Consent {
			out = append(out, ok("line %d of %s changes: %s", e.Line, e.Path, e.Why)...)
		}
	}
	for _, r := range s.plan.Scripts {
		if len(r.Both) > 0 {
			var list []string
			for _, b := range r.Both {
				list = append(list, fmt.Sprintf("%s (its makers say %s now)", b.Mine, b.Now))
			}
			out = append(
				out,
				Finding{Level: Warn, What: fmt.Sprintf("%s: the makers' new script with your changes; both "+
					"changed %s", r.Path, words.Some(list, 3)), Where: s.k.Path(r.Path),
					Why: "yours stands, and may be meant for the old build",
					Do:  "preflight --all shows the script as it will be; [launch] in the profile says what must stand there"},
			)
		} else if r.Merged {
			out = append(out, ok("%s: the makers' new script, with your changes in it", r.Path)...)
		}
	}
	for _, l := range s.plan.Lacking {
		if s.ofUnit(l) {
			continue // the check of what runs the server tells
		}
		out = append(
			out,
			Finding{Level: Warn, What: "the profile asks for something that could not be written into the " +
				"launch script: " + l, Where: s.k.Path(profile.FileName) + ", [launch]",
				Why: "the server would start without it",
				Do:  "write it into the script, or for a program into [launch] args, by hand; freshkeel launch shows what it runs"},
		)
	}
	return out
}

// ofUnit tells whether something lacks in a service's own line.
func (s *situation) ofUnit(lacking string) bool {
	unit, _, _ := strings.Cut(lacking, ":")
	return slices.ContainsFunc(s.k.Parts(), func(part *install.Install) bool {
		sv := part.Service()
		return sv != nil && sv.Name == unit
	})
}

// startedFile is a file of the install that is run: byName says that the system
// runs it, by mode and first line, not an interpreter that is given it.
type startedFile struct {
	at, where string
	byName    bool
}

// started lists the launch script and what it runs of the install.
func (s *situation) started() (out []startedFile) {
	add := func(at, where string, byName bool) {
		if at == "" || filepath.IsAbs(at) || slices.ContainsFunc(out, func(o startedFile) bool { return o.at == at }) {
			return
		}
		out = append(out, startedFile{at, where, byName})
	}
	script := s.k.Profile.Launch.Script
	add(script, s.k.Path(script), false) // one that may not be run is run with sh
	for _, c := range s.lines.commands {
		where := fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
		at := tree.Rel(s.k.Dir, c.Path)
		if at == "" && strings.Contains(c.Program, "/") && !filepath.IsAbs(c.Program) {
			at = tree.Rel(s.k.Dir, filepath.Join(c.Dir, c.Program))
		}
		add(at, where, !c.Given)
		for by := c.By; by != nil; by = by.By {
			add(tree.Rel(s.k.Dir, by.Path), fmt.Sprintf("%s:%d: %s", by.File, by.Line, by.Text), true)
		}
		add(c.File, where, false)
	}
	return out
}

func isBatch(at string) bool {
	ext := strings.ToLower(path.Ext(at))
	return ext == ".bat" || ext == ".cmd"
}

// checkOtherScripts finds scripts beside the launch script that would start the
// same server in another way: the one that somebody starts by hand next time.
func checkOtherScripts(_ context.Context, s *situation) (out []Finding) {
	if len(s.lines.commands) == 0 {
		return nil
	}
	mine := s.lines.commands[len(s.lines.commands)-1]
	seen := map[string]bool{}
	for _, c := range s.lines.commands {
		seen[c.File] = true
	}
	looked := 0
	for _, e := range s.ahead.Before {
		at := e.Path
		shell := strings.HasSuffix(at, ".sh")
		if strings.Contains(at, "/") || e.Kind != tree.File || seen[at] || e.Size > 64<<10 || !(shell || isBatch(at)) ||
			s.ahead.Removed(at) {
			continue
		}
		out = append(out, killsOf(s, at)...)
		list, err := launch.Read(s.k.Dir, at, s.k.ServerEnv())
		if err != nil {
			continue
		}
		for _, c := range list {
			if c.Java() != mine.Java() || (c.Jar == "") != (mine.Jar == "") || seen[c.File] {
				continue
			}
			looked++
			if how := s.disagree(mine, c, shell == strings.HasSuffix(mine.File, ".sh")); how != "" {
				out = append(out, Finding{Level: Warn,
					What:  fmt.Sprintf("%s and %s disagree: %s", mine.File, c.File, how),
					Where: fmt.Sprintf("%s:%d: %s\n%s:%d: %s", mine.File, mine.Line, mine.Text, c.File, c.Line, c.Text),
					Why:   "whoever starts the other one by hand gets another server than this",
					Do:    fmt.Sprintf("make %s say the same, or remove it", c.File)})
				break
			}
		}
	}
	for at := range seen {
		out = append(out, killsOf(s, at)...)
	}
	if out == nil && looked > 0 {
		return ok("%s says the same as %s", words.Plural(looked, "other script"), mine.File)
	}
	return out
}

// disagree says how another script's command differs where it matters; sameKind
// are scripts for one system, whose programs can be compared.
func (s *situation) disagree(a, b launch.Command, sameKind bool) string {
	var how []string
	if a.Jar != b.Jar {
		gone := ""
		if !filepath.IsAbs(b.Jar) && !s.ahead.Has(b.Jar) {
			gone = ", which will not exist"
		}
		how = append(how, fmt.Sprintf("%s runs %s, %s runs %s%s", a.File, a.Jar, b.File, b.Jar, gone))
	}
	if sameKind && a.Java() && a.Path != b.Path {
		how = append(how, fmt.Sprintf("by %s and by %s", cmp.Or(a.Path, a.Program), cmp.Or(b.Path, b.Program)))
	}
	for _, flag := range []string{"-Xmx", "-Xms"} {
		if x, y := launch.LastFlag(a.Args, flag), launch.LastFlag(b.Args, flag); a.Java() &&
			launch.HeapBytes(x) != launch.HeapBytes(y) {
			how = append(how, fmt.Sprintf("%s and %s", cmp.Or(x, "no "+flag), cmp.Or(y, "no "+flag)))
		}
	}
	return strings.Join(how, "; ")
}

// killsOf finds lines of a script that would end this server with every other one of its kind on the machine.
func killsOf(s *situation, at string) (out []Finding) {
	text, err := s.ahead.Text(at)
	if err != nil {
		return nil
	}
	for _, k := range launch.KillsIn(at, text) {
		for _, c := range s.lines.commands {
			names := []string{strings.TrimSuffix(strings.ToLower(path.Base(filepath.ToSlash(c.Program))), ".exe"),
				path.Base(c.Jar)}
			if slices.ContainsFunc(names, func(name string) bool { return strings.EqualFold(name, k.Program) }) {
				out = append(out, Finding{Level: Warn, Routine: true,
					What:  fmt.Sprintf("%s ends every %s of this machine, this server and others", at, k.Program),
					Where: k.Place.String(), Why: "who runs it, by hand or at a time, ends servers that nobody " +
						"meant, unsaved",
					Do: "have it run: freshkeel stop"})
				break
			}
		}
	}
	return out
}
