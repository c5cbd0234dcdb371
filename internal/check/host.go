package check

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/guard"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/learn"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// checkHost looks at what runs the server where no minder does: whether it is there, may be
// started and stopped by this user, and lets the server do what it must.
func checkHost(_ context.Context, s *situation) (out []Finding) {
	for _, part := range s.k.Parts() {
		if !part.Minded() {
			out = append(out, s.hostOf(part)...)
		}
	}
	return out
}

func (s *situation) hostOf(part *install.Install) (out []Finding) {
	where, st := s.k.Path(profile.FileName)+", [host]", part.Host().Status()
	name := "the server"
	if part.PartName() != "" {
		where, name = s.k.Path(profile.FileName)+", part "+part.PartName(), part.PartName()
	}
	switch {
	case st.Silent:
		return []Finding{
			{Level: Stop, What: fmt.Sprintf("how %s stands can't be told: %s", name, st.Trouble), Where: where,
				Why: "a server that is not known to be down is not touched",
				Do:  "see to it that the host in the profile is the one that runs the server, and that it answers"},
		}
	case st.Trouble != "" && !part.Outside():
		return []Finding{{Level: Stop, What: st.Trouble, Where: where,
			Why: "two servers of one install would spoil its world",
			Do:  "end those processes, or correct [host] status: it is to end with status 0 as long as the server runs"}}
	case part.Outside() && !st.Running && !startable(part):
		return []Finding{{Level: Stop, What: name + ", which the server needs, is down, and can't be started from here",
			Where: where,
			Why:   "the new build would not come up without it, and the old one neither", Do: "start it: " + startsIt(part)}}
	case part.Outside() && !st.Running:
		out = append(out, Finding{Level: Warn, What: name + ", which the server needs, is down", Where: where,
			Why: "it is started before the new build is", Do: "see that it comes up, before the old server is gone"})
	}
	sv := part.Service()
	if sv == nil {
		return append(out, s.checkCommands(part, where)...)
	}
	u, err := sv.Unit()
	if err != nil {
		return append(out, Finding{Level: Stop, What: err.Error(), Where: where, Why: "it is what runs the server",
			Do: "see whether the service manager runs: systemctl status " + sv.Name})
	}
	if !u.Known {
		return append(
			out,
			Finding{Level: Stop, What: fmt.Sprintf("the service %s can't be started: %s", sv.Name, u.Why),
				Where: where, Why: "the new server would not come up, and the old one neither",
				Do: "systemctl " + userFlag(
					u,
				) + "cat " + sv.Name + "; one that is masked: systemctl " + userFlag(
					u,
				) + "unmask " + sv.Name},
		)
	}
	if err := sv.May(); err != nil && !part.Outside() {
		f := Finding{Level: Stop, What: err.Error(), Where: where,
			Why: "the server could not be stopped for the swap, or not be started after it",
			Do:  "take out of the unit what the line names, or do it by hand, with that command"}
		if not := (*host.Forbidden)(nil); errors.As(err, &not) {
			f.Do = not.Do()
		}
		out = append(out, f)
	}
	if !part.Outside() {
		if len(out) == 0 { // else it is told already that this user may not touch it
			out = append(out, s.unguarded(sv)...)
		}
		out = append(out, s.stopsInTime(part, sv, u)...)
		out = append(out, stopsWith(sv, u)...)
		out = append(out, s.unitRules(sv, u)...)
		out = append(out, unheard(part, u)...)
	}
	if len(out) > 0 {
		return out
	}
	what := fmt.Sprintf("the service %s runs %s", sv.Name, name)
	if u.Owner != "" {
		what += " as " + u.Owner
	}
	if u.Restart != "no" && u.Restart != "" {
		what += fmt.Sprintf(
			"; its manager starts it again (Restart=%s), and is kept from that while files are exchanged",
			u.Restart,
		)
	}
	return ok("%s", what)
}

// startable tells whether a part that is none of the install's may be started by this user: a service of
// theirs, or one that root's own command runs beside.
func startable(part *install.Install) bool {
	sv := part.Service()
	return sv == nil || sv.May() == nil
}

func startsIt(part *install.Install) string {
	sv := part.Service()
	if sv.User {
		return "systemctl --user start " + sv.Name
	}
	return "sudo systemctl start " + sv.Name
}

// stopsInTime holds how long a unit's manager lets the server take to stop, before it kills it, against what
// the profile allows and what was seen.
func (s *situation) stopsInTime(part *install.Install, sv *host.Service, u *host.Unit) (out []Finding) {
	where := u.File
	edit := "systemctl " + userFlag(u) + "edit " + u.Name
	stop, slowest := part.Profile.Stop, learn.ReadSeen(part.State(learn.FileOf(part.PartName()))).Slowest
	need, by := stop.Wait.Std(), "[stop] wait"
	if slowest > need {
		need, by = slowest, "the longest stop that was seen here"
	}
	if u.Kills && u.Within > 0 && u.Within < need {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("the service is killed %s after it was told to stop (TimeoutStopSec), and %s is %s", u.Within, by,
				need.Round(time.Second)), Where: where,
			Why: "what the server has not saved by then is lost: here, and whenever the machine is shut down",
			Do:  fmt.Sprintf("%s, with the lines «[Service]», «TimeoutStopSec=%d»", edit, int(need.Seconds())+10)})
	}
	if u.Signal == 9 && !u.Stops && (stop.Send == "" || !sv.Hears()) {
		out = append(out, Finding{Level: Warn, What: "the service is not told to stop: it is killed at once (KillSignal=SIGKILL)",
			Where: where, Why: "what the server has not saved is lost at each stop",
			Do: edit + ", with the lines «[Service]», «KillSignal=SIGTERM»; or name its console: [host] console, or say"})
	}
	return out
}

// stopsWith tells of units that stop with the server's.
func stopsWith(sv *host.Service, u *host.Unit) []Finding {
	bound, err := sv.Bound()
	if err != nil || len(bound) == 0 {
		return nil
	}
	return []Finding{{Level: Warn, What: fmt.Sprintf("what is bound to %s stops with it, and is started again once it is up: %s",
		u.Name, words.Some(bound, 6)), Where: u.File,
		Why: "its manager does that (PartOf, Requires or BindsTo)",
		Do:  "nothing, if that may be down as long as the server is"}}
}

// unguarded tells of a unit that its manager could start at a boot while files are of two builds.
func (s *situation) unguarded(sv *host.Service) []Finding {
	mark := guard.Mark(s.k.Install, sv.Name)
	err := sv.MayGuard(mark)
	if err == nil {
		return nil
	}
	user := map[bool]string{true: "--user "}[sv.User]
	return []Finding{{Level: Warn,
		What:  fmt.Sprintf("%s can't be kept from starting while files are exchanged: %v", sv.Name, err),
		Where: s.k.Path(profile.FileName) + ", [host]",
		Why:   "after a power cut in that moment, a boot would start it with files of two builds",
		Do: fmt.Sprintf("let it refuse that by itself, once and for all: systemctl %sedit %s, with the lines %s", user,
			sv.Name,
			sv.GuardLines(mark))}}
}

// unheard tells of a unit whose lines would not be heard.
func unheard(part *install.Install, u *host.Unit) []Finding {
	r := part.Profile.Ready
	if !r.Line.Given() || r.Log != "" || len(part.Profile.Host.Follow) > 0 ||
		!u.Unheard() {
		return nil
	}
	return []Finding{{Level: Stop,
		What: fmt.Sprintf("the lines of %s don't go to the journal (StandardOutput=%s): its ready line would not be "+
			"heard", u.Name, u.Output), Where: u.File,
		Why: "a refit would go back as soon as the time for that line is over",
		Do: "freshkeel profile set ready.log FILE, if it is in the install; else [host] follow, with a command that " +
			"prints them (tail -n 0 -F FILE)"}}
}

// editOf is how somebody changes the line of a unit by hand: what stands over it from here counts more than
// what an editor of units writes, and has to go first.
func editOf(u *host.Unit) string {
	edit := "systemctl " + userFlag(u) + "edit " + u.Name
	if o, err := host.OpenService(u.Name, u.User, "", nil, nil, "").Over(); err == nil && o.Words != nil {
		return "delete " + o.File + ", which stands over it; then " + edit
	}
	return edit
}

func userFlag(u *host.Unit) string {
	if u.User {
		return "--user "
	}
	return ""
}

// checkCommands looks whether the operator's own commands are there.
func (s *situation) checkCommands(part *install.Install, where string) (out []Finding) {
	h := part.Profile.Host
	for key, argv := range map[string][]string{"start": h.Start, "stop": h.Stop, "status": h.Status} {
		at := argv[0]
		if strings.Contains(at, "/") && !filepath.IsAbs(at) {
			at = s.k.Path(at)
		}
		if !host.Runs(at, s.k.ServerEnv()) {
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("[host] %s: there is no program %s", key, argv[0]),
				Where: where, Why: "it is how the server is run", Do: "correct the profile, or put the program there"})
		}
	}
	slices.SortFunc(out, func(a, b Finding) int { return strings.Compare(a.What, b.What) })
	if out == nil {
		return ok("%s, %s and %s run the server", h.Start[0], h.Stop[0], h.Status[0])
	}
	return out
}

// unitRules holds what a unit forbids and bounds against what the server needs.
func (s *situation) unitRules(sv *host.Service, u *host.Unit) (out []Finding) {
	where := u.File
	writes := func(dir string) bool {
		return slices.ContainsFunc(u.Writes, func(w string) bool {
			return tree.Inside(strings.TrimLeft(w, "-+"), dir)
		})
	}
	if u.Locked && !writes(tree.Real(s.k.Dir)) && !writes(s.k.Dir) {
		var inside []string
		for _, w := range u.Writes {
			if tree.Inside(s.k.Dir, strings.TrimLeft(w, "-+")) {
				inside = append(inside, path.Base(w))
			}
		}
		f := Finding{Level: Warn, What: "the service may write to nothing of the install (ProtectSystem=strict)",
			Where: where, Why: "a new build that writes to another file of its own than the old one ends with an error",
			Do: "add ReadWritePaths=" + s.k.Dir + " by: systemctl edit " + u.Name}
		if len(inside) > 0 {
			f.What = fmt.Sprintf(
				"the service may write to %s of the install alone (ProtectSystem=strict)",
				words.Some(inside, 4),
			)
		}
		out = append(out, f)
	}
	for _, c := range s.lines.commands {
		if _, most := c.Heap(); u.Memory > 0 && most > u.Memory {
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("the server may take a heap of %s, and the service ends it at %s (MemoryMax)",
					words.Bytes(most), words.Bytes(u.Memory)), Where: where,
				Why: "the system would kill it once it fills its heap",
				Do:  "give it less ([launch] memory), or raise MemoryMax by: systemctl edit " + u.Name})
		}
	}
	edit := editOf(u)
	for _, l := range s.plan.Lacking {
		if strings.HasPrefix(l, u.Name+":") {
			out = append(
				out,
				Finding{Level: Warn, What: "the service's own line would have to change: " + l, Where: where,
					Why: "it stands in no word of that line: a shell's, or a variable's", Do: edit},
			)
		}
	}
	for _, l := range s.plan.Unlined {
		if l.Unit != u.Name {
			continue
		}
		f := Finding{Level: Warn, What: "the service's own line would have to change, and can't be written: " + l.Why,
			Where: where, Why: "the server would run by the line that it has",
			Do: "run the command with sudo; or by hand: " + edit}
		if l.Line != "" {
			f.Do += ", with the lines «[Service]», «ExecStart=» and «ExecStart=" + l.Line + "»"
		}
		out = append(out, f)
	}
	return append(out, s.laidOver(sv, u)...)
}

// laidOver tells of a unit whose own line was changed since a drop-in of ours stands over it.
func (s *situation) laidOver(sv *host.Service, u *host.Unit) []Finding {
	o, err := sv.Over()
	if err != nil || !o.Hides() {
		return nil
	}
	return []Finding{{Level: Warn,
		What: fmt.Sprintf(
			"the line of %s was changed since a refit wrote its own over it, and does not count",
			u.Name,
		),
		Where: fmt.Sprintf("%s\nthen: %s\nnow:  %s", o.File, o.Base, o.Now),
		Why:   "the service runs: " + host.UnitLine(o.Words),
		Do: fmt.Sprintf("if yours is to count: delete %s, and systemctl %sdaemon-reload; then preflight again", o.File,
			userFlag(u))}}
}
