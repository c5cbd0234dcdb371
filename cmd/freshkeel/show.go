package main

import (
	"fmt"
	"strings"
	"time"

	"freshkeel"
)

// entryJSON is the last line of a run with --json.
type entryJSON struct {
	Event string           `json:"event"`
	Entry *freshkeel.Entry `json:"entry"`
}

// planJSON is a plan, step by step.
type planJSON struct {
	Steps     any      `json:"steps"`
	Unchanged int      `json:"unchanged"`
	Bytes     int64    `json:"stage_bytes"`
	Kept      []string `json:"kept"`
	Left      []string `json:"left"`
	Foreign   []string `json:"foreign"`
}

func preflightJSON(pre *freshkeel.Preflight) any {
	outcome := "clear"
	if len(pre.Stops()) > 0 {
		outcome = "stopped"
	}
	return struct {
		Event   string `json:"event"`
		Outcome string `json:"outcome"`
		*freshkeel.Preflight
		Plan planJSON `json:"plan"`
	}{"result", outcome, pre, planJSON{nonNil(pre.Plan.Steps), pre.Plan.Unchanged, pre.Plan.Bytes, nonNil(pre.Plan.Kept), nonNil(pre.Plan.Left), nonNil(pre.Plan.Foreign)}}
}

// title heads a run, where there is a person to read it.
func (v *view) title(s string) {
	if v.live {
		fmt.Fprintln(v.p.err, v.paint(strong, s))
	}
}

func (v *view) adopted(a *freshkeel.Adopted, dry bool) {
	if dry {
		v.outcome(calm, "WOULD WRITE", a.Dir+"/freshkeel.toml")
		fmt.Fprint(v.p.out, a.Profile)
		return
	}
	v.outcome(good, "ADOPTED", a.Dir)
	version := a.Version
	if version == "" {
		version = "not known; say it with --version, or it is read when the server next starts"
	}
	v.fact("version", version)
	if a.Known {
		v.fact("build", fmt.Sprintf("%s exactly as the build has them", count(a.Of, "file")))
		v.fact("changed", short(a.Changed))
		v.fact("missing", short(a.Missing))
		v.fact("not of it", short(a.Foreign))
	} else {
		v.fact("inventory", fmt.Sprintf("%s; which of them are the build's is not known (adopt --build PATH tells)", count(a.Files, "file")))
	}
	var rows [][]string
	for _, g := range a.Guesses {
		value := g.Value
		if value == "" {
			value = "-"
		}
		rows = append(rows, []string{g.Key, v.clip(value, 36), g.From})
	}
	fmt.Fprintln(v.p.out)
	v.table([]string{"guessed", "value", "from"}, rows, func(row, col int) string {
		if col == 1 && a.Guesses[row].Value == "" {
			return minded
		}
		return ""
	})
	fmt.Fprintln(v.p.out)
	v.fact("next", "read and correct "+a.Dir+"/freshkeel.toml, then: freshkeel -d "+a.Dir+" start")
}

func short(list []string) string {
	if len(list) > 6 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:6], ", "), len(list)-6)
	}
	return strings.Join(list, ", ")
}

func (v *view) builds(rows []freshkeel.Build, installed, channel string) {
	newest := ""
	for _, b := range rows {
		if b.Newer && b.InChannel {
			newest = b.Version
		}
	}
	switch {
	case newest != "":
		v.outcome(good, "NEWER", fmt.Sprintf("%s is there; %s is installed", newest, orUnknown(installed)))
	case installed == "":
		v.outcome(minded, "UNKNOWN", "which version is installed is not known")
	default:
		v.outcome(good, "CURRENT", installed+" is installed, nothing newer is offered")
	}
	var table [][]string
	for _, b := range rows {
		mark := ""
		switch {
		case b.Installed:
			mark = "installed"
		case b.Newer && !b.InChannel:
			mark = "newer, other channel"
		case b.Newer:
			mark = "newer"
		}
		where := "-"
		if b.Fetched {
			where = "fetched"
		}
		size := "-"
		if b.Bytes > 0 {
			size = freshkeel.Bytes(b.Bytes)
		}
		table = append(table, []string{b.Version, mark, b.Channel, b.Date, size, where, b.Notes})
	}
	fmt.Fprintln(v.p.out)
	v.table([]string{"build", "stands", "channel", "date", "download", "locker", "notes"}, table, func(row, col int) string {
		switch {
		case rows[row].Installed && col < 2:
			return strong
		case rows[row].Newer && rows[row].InChannel && col < 2:
			return good
		}
		return ""
	})
	if newest != "" {
		fmt.Fprintln(v.p.out)
		v.fact("next", "freshkeel preflight "+newest)
	}
}

func (v *view) wouldFetch(rows []freshkeel.Build, w freshkeel.Want) {
	if w.From != "" {
		v.outcome(calm, "WOULD FETCH", w.From)
		return
	}
	for i := len(rows) - 1; i >= 0; i-- {
		if b := rows[i]; b.Version == w.Version || (w.Version == "" && b.InChannel) {
			if b.Fetched {
				v.outcome(good, "THERE", b.Version+" is in the locker already")
			} else {
				v.outcome(calm, "WOULD FETCH", fmt.Sprintf("%s, %s", b.Version, freshkeel.Bytes(b.Bytes)))
			}
			return
		}
	}
	v.outcome(bad, "NOT OFFERED", w.Version)
}

func (v *view) preflight(pre *freshkeel.Preflight, w freshkeel.Want, all bool) {
	stops, warns := pre.Stops(), pre.Warnings()
	to := orBuild(pre.To)
	switch {
	case len(stops) > 0:
		v.outcome(bad, "STOPPED", fmt.Sprintf("%s can't be installed as things are: %s. Nothing was changed.", to, count(len(stops), "stop")))
	case len(pre.Plan.Steps) == 0:
		v.outcome(good, "NOTHING TO DO", to+" is what is installed")
	case len(warns) > 0:
		v.outcome(minded, "CLEAR", fmt.Sprintf("%s → %s can go ahead; %s to mind", orUnknown(pre.From), to, count(len(warns), "thing")))
	default:
		v.outcome(good, "CLEAR", fmt.Sprintf("%s → %s can go ahead", orUnknown(pre.From), to))
	}
	fine := 0
	for _, f := range pre.Findings {
		if f.Level == freshkeel.OK {
			fine++
			if !all {
				continue
			}
		}
		v.finding(f)
	}
	if !all && fine > 0 {
		fmt.Fprintf(v.p.out, "  %s%s\n", v.paint(good, pad("ok", 6)), fmt.Sprintf("%s found nothing wrong (--all shows them)", count(fine, "check")))
	}
	v.plan(pre.Plan, all)
	if len(stops) == 0 && len(pre.Plan.Steps) > 0 {
		next := "freshkeel refit " + pre.To
		if w.From != "" {
			next = "freshkeel refit --from " + w.From
			if w.As != "" {
				next += " --as " + w.As
			}
		}
		v.fact("next", next)
	}
}

func (v *view) plan(p *freshkeel.Plan, all bool) {
	replaced, added, removed := p.Changes()
	v.fact("plan", fmt.Sprintf("replace %d, add %d, remove %d, leave %d unchanged; %s to lay out", replaced, added, removed, p.Unchanged, freshkeel.Bytes(p.Bytes)))
	if !all {
		return
	}
	for _, s := range p.Steps {
		v.fact("", fmt.Sprintf("%-11s %s", s.Do, s.Path))
	}
	for _, list := range []struct {
		what  string
		paths []string
	}{{"yours", p.Kept}, {"changed", p.Left}, {"foreign", p.Foreign}} {
		for _, at := range list.paths {
			v.fact("", fmt.Sprintf("%-11s %s (left alone)", list.what, at))
		}
	}
}

func (v *view) refitted(e *freshkeel.Entry) {
	state := "and runs"
	if !e.EndRunning {
		state = "came up, and is stopped again as it was before"
	}
	v.outcome(good, "REFITTED", fmt.Sprintf("%s → %s %s", orUnknown(e.From), orBuild(e.To), state))
	if e.Down > 0 {
		v.fact("down", fmt.Sprintf("%s from the stop line to ready; %s of it between the old process's end and the new one's start", freshkeel.Age(e.Down), freshkeel.Age(e.Exchange)))
	}
	for _, l := range e.Lines {
		v.fact("console", l)
	}
	v.told(e)
	v.fact("backup", e.Backup)
	v.fact("undo", "freshkeel rollback   (logbook entry "+e.ID+")")
}

func (v *view) told(e *freshkeel.Entry) {
	for _, t := range e.Told {
		v.fact("note", t)
	}
}

func (v *view) wentBack(e *freshkeel.Entry) {
	state := "and runs"
	if !e.EndRunning {
		state = "(not running, as before)"
	}
	v.outcome(good, "WENT BACK", fmt.Sprintf("%s → %s %s", orUnknown(e.From), orUnknown(e.To), state))
	v.told(e)
	v.fact("before", "what was there is backup "+e.Backup)
}

func (v *view) backPlan(p *freshkeel.BackPlan, keep []string) {
	v.outcome(calm, "WOULD GO BACK", fmt.Sprintf("to %s, before %s", orUnknown(p.To.From), p.To.ID))
	for _, e := range p.Undo {
		v.fact("undo", fmt.Sprintf("%s: %s → %s of %s", e.ID, orUnknown(e.From), orUnknown(e.To), when(e.Started)))
	}
	for _, at := range p.Paths {
		v.fact("", at)
	}
	v.fact("from", "backup "+p.Backup+", for settings and for what renames don't bring back")
	if p.World {
		v.fact("world", "put back as it was then; what is there now is backed up first")
	} else {
		v.fact("world", "left as it is now: "+short(keep))
	}
}

func (v *view) verdict(w *freshkeel.Verdict) {
	v.fact("why", w.Why)
	for _, l := range w.Lines {
		v.fact("console", l)
	}
}

func (v *view) status(s *freshkeel.Status) {
	name := s.Name
	if s.Version != "" {
		name += " " + s.Version
	}
	switch {
	case s.Server.Running && s.Server.Stopping:
		v.outcome(minded, "STOPPING", name)
	case s.Server.Running:
		v.outcome(good, "RUNNING", fmt.Sprintf("%s, for %s", name, freshkeel.Age(time.Since(s.Server.Since))))
	case len(s.Outside) > 0:
		v.outcome(minded, "RUNNING", name+", but not started by Fresh Keel")
	default:
		v.outcome(minded, "DOWN", name)
	}
	v.fact("install", s.Install)
	if s.Server.Running {
		v.fact("processes", fmt.Sprintf("%s starts it as %d; all: %s; minder %d", s.Server.Script, s.Server.PID, numbers(s.Server.Processes), s.Server.Minder))
	} else if x := s.Server.Last; x != nil {
		how := "by itself"
		if x.Asked {
			how = "as told"
		}
		v.fact("ended", fmt.Sprintf("%s, %s (%s)", when(x.At), how, x.Status))
	}
	for _, o := range s.Outside {
		v.fact("outside", fmt.Sprintf("process %d: %s, user %s, since %s", o.PID, o.Command, o.User, when(o.Since)))
	}
	v.fact("busy", s.Busy)
	if s.LastLine != "" {
		v.fact("console", s.LastLine)
	}
	if e := s.Last; e != nil {
		v.fact("last run", fmt.Sprintf("%s %s %s, %s → %s: %s", when(e.Started), e.Kind, e.ID, orUnknown(e.From), orBuild(e.To), orRunning(e)))
	}
	if !s.Server.Running && len(s.Outside) == 0 && s.Busy == "" {
		v.fact("next", "freshkeel start")
	}
}

func numbers(list []int) string { return strings.Trim(fmt.Sprint(list), "[]") }

func (v *view) backups(list []*freshkeel.Backup) {
	if len(list) == 0 {
		v.outcome(minded, "NONE", "there is no backup of this install yet")
		v.fact("next", "freshkeel backup take")
		return
	}
	v.outcome(good, "BACKUPS", fmt.Sprintf("%s, newest last", count(len(list), "backup")))
	var rows [][]string
	for _, b := range list {
		if b.Damage != "" {
			rows = append(rows, []string{b.ID, "-", "-", "-", "-", "-", "DAMAGED: " + b.Damage})
			continue
		}
		rows = append(rows, []string{b.ID, when(b.Taken), orUnknown(b.Version), fmt.Sprint(b.Files), freshkeel.Bytes(b.Bytes), freshkeel.Bytes(b.New), b.Label})
	}
	fmt.Fprintln(v.p.out)
	v.table([]string{"backup", "taken", "build", "files", "content", "new", "label"}, rows, nil)
}

func outcomeColour(e *freshkeel.Entry) string {
	switch e.Outcome {
	case "confirmed":
		return good
	case "abandoned", "":
		return minded
	}
	return bad
}

func orRunning(e *freshkeel.Entry) string {
	if e.Outcome == "" {
		return "under way, " + string(e.Phase)
	}
	return string(e.Outcome)
}

func (v *view) logbook(all []*freshkeel.Entry, name string) {
	if len(all) == 0 {
		v.outcome(minded, "EMPTY", "nothing was done to "+name+" yet")
		return
	}
	last := all[len(all)-1]
	v.outcome(outcomeColour(last), strings.ToUpper(orRunning(last)), fmt.Sprintf("%s %s of %s, the newest of %d", last.Kind, last.ID, name, len(all)))
	var rows [][]string
	for _, e := range all {
		down := "-"
		if e.Down > 0 {
			down = freshkeel.Age(e.Down)
		}
		why := ""
		if e.Outcome != "confirmed" { // what went as it should needs no reason
			why = e.Why
		}
		rows = append(rows, []string{e.ID, e.Started.Local().Format("2006-01-02 15:04"), string(e.Kind), orUnknown(e.From) + " → " + orBuild(e.To), orRunning(e), down, e.Backup, why})
	}
	fmt.Fprintln(v.p.out)
	v.table([]string{"entry", "when", "what", "build", "outcome", "down", "backup", "why"}, rows, func(row, col int) string {
		if col == 4 {
			return outcomeColour(all[row])
		}
		return ""
	})
	fmt.Fprintln(v.p.out)
	v.fact("more", "freshkeel logbook "+last.ID)
}

func (v *view) entry(e *freshkeel.Entry, kept string) {
	v.outcome(outcomeColour(e), strings.ToUpper(orRunning(e)), fmt.Sprintf("%s %s: %s → %s", e.Kind, e.ID, orUnknown(e.From), orBuild(e.To)))
	v.fact("when", when(e.Started))
	v.fact("why", e.Why)
	for _, l := range e.Lines {
		v.fact("console", l)
	}
	if e.Down > 0 {
		s := freshkeel.Age(e.Down) + " from the stop line to ready"
		if e.Exchange > 0 {
			s += fmt.Sprintf("; %s between the old process's end and the new one's start", freshkeel.Age(e.Exchange))
		}
		v.fact("down", s)
	}
	v.fact("backup", e.Backup)
	if len(e.Accepted) > 0 {
		v.fact("accepted", strings.Join(e.Accepted, ", "))
	}
	v.told(e)
	var rows [][]string
	for _, s := range e.Steps {
		rows = append(rows, []string{s.Name, freshkeel.Age(s.Took), s.Note})
	}
	if len(rows) > 0 {
		fmt.Fprintln(v.p.out)
		v.table([]string{"step", "took", "what"}, rows, nil)
		fmt.Fprintln(v.p.out)
	}
	v.fact("kept in", kept)
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func orUnknown(version string) string {
	if version == "" {
		return "unknown"
	}
	return version
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }
