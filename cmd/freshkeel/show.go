package main

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
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
	Steps     any                  `json:"steps"`
	Unchanged int                  `json:"unchanged"`
	Bytes     int64                `json:"stage_bytes"`
	Kept      []string             `json:"kept"`
	Left      []string             `json:"left"`
	Foreign   []string             `json:"foreign"`
	Edits     []freshkeel.Edit     `json:"edits"`
	Mended    []string             `json:"mended"`
	Renamed   []freshkeel.Move     `json:"renamed"`
	Dropped   []freshkeel.Drop     `json:"dropped"`
	Moved     []freshkeel.Move     `json:"moved"`
	Carried   []freshkeel.Carry    `json:"carried"`
	Scripts   []freshkeel.Rescript `json:"scripts"`
	Overlaid  []freshkeel.Overlaid `json:"overlaid"`
	Layers    []freshkeel.Laid     `json:"layers"`
	Lines     []freshkeel.Lined    `json:"relined"`
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
	}{"result", outcome, pre, planJSON{nonNil(pre.Plan.Steps), pre.Plan.Unchanged, pre.Plan.Bytes,
		nonNil(pre.Plan.Kept), nonNil(pre.Plan.Left), nonNil(pre.Plan.Foreign), nonNil(pre.Plan.Edits),
		nonNil(pre.Plan.Mended), nonNil(pre.Plan.Renamed), nonNil(pre.Plan.Dropped), nonNil(pre.Plan.Moved),
		nonNil(pre.Plan.Carried), nonNil(pre.Plan.Scripts), nonNil(pre.Plan.Overlaid), nonNil(pre.Plan.Layers),
		nonNil(pre.Plan.Lines)}}
}

// title heads a run, where there is a person to read it.
func (v *screen) title(s string) {
	if v.live {
		fmt.Fprintln(v.p.err, v.paint(strong, s))
	}
}

func (v *view) adopted(a *freshkeel.Adopted, dry bool) {
	if dry && a.Profile == "" {
		v.outcome(calm, "WOULD RECORD", "which files of "+a.Dir+" are the build's; the profile stays as it is")
		return
	}
	if dry {
		v.outcome(calm, "WOULD WRITE", a.Dir+"/freshkeel.toml")
		fmt.Fprint(v.p.out, a.Profile)
		for _, n := range a.Notes {
			v.fact("note", n)
		}
		return
	}
	if a.Profile == "" {
		v.outcome(good, "UNDER CARE", a.Dir)
	} else {
		v.outcome(good, "ADOPTED", a.Dir)
	}
	v.fact("version", adoptedVersion(a))
	switch {
	case a.Profile == "" && a.Files == 0 && a.Known:
		v.fact("build", "which files are its own is known")
	case a.Profile == "" && a.Files == 0:
		v.fact("build", "which files are its own is not known (adopt --build PATH tells)")
	case a.Known:
		v.fact("build", fmt.Sprintf("%s exactly as the build has them", count(a.Of, "file")))
		v.fact("changed", short(a.Changed))
		v.fact("missing", short(a.Missing))
		v.fact("not of it", short(a.Foreign))
	default:
		v.fact("inventory", fmt.Sprintf("%s; which of them are the build's is not known (adopt --build PATH tells)",
			count(a.Files, "file")))
	}
	v.fact("before", a.Kept)
	if a.Script != "" {
		v.fact("written", a.Script+", a launch script: the profile says why")
	}
	for _, n := range a.Notes {
		v.fact("note", n)
	}
	if a.Profile != "" {
		v.guesses(a)
	}
	doubts(v, a)
	if a.Profile == "" {
		v.fact("profile", "left as it is")
	}
}

// adoptedVersion is what is installed, and what says so.
func adoptedVersion(a *freshkeel.Adopted) string {
	if a.Version != "" {
		if g := guessOf(a, "version"); g.From != "" {
			from, _, _ := strings.Cut(g.From, ": ") // of a line its place is enough
			return a.Version + " (" + from + ")"
		}
		return a.Version
	}
	if guessOf(a, "ready.version").Value != "" {
		return "not known: --version says it, or it is read when the server next starts"
	}
	return "not known: --version says it"
}

// guessOf is the first guess of a key.
func guessOf(a *freshkeel.Adopted, key string) (g freshkeel.Guess) {
	if i := slices.IndexFunc(a.Guesses, func(g freshkeel.Guess) bool { return g.Key == key }); i >= 0 {
		return a.Guesses[i]
	}
	return g
}

// guesses shows what was guessed, a line for each thing that matters: what each was guessed from stands in the profile,
// above its line.
func (v *view) guesses(a *freshkeel.Adopted) {
	all := func(keys ...string) string {
		var list []string
		for _, g := range a.Guesses {
			if slices.Contains(keys, g.Key) && g.Value != "" {
				list = append(list, g.Value)
			}
		}
		return short(list)
	}
	script, runs := guessOf(a, "launch.script").Value, guessOf(a, "artifact").Value
	if unit := guessOf(a, "host.unit").Value; unit != "" {
		script = strings.TrimSuffix(unit+", "+script, ", ")
	}
	if runs != "" && runs != script && script != "" {
		script += ", which runs " + runs
	}
	v.fact("starts", script)
	v.fact("yours", cmp.Or(all("server.keep"), "nothing was found: worlds and lists belong in [server] keep"))
	v.fact("settings", all("server.settings"))
	v.fact("skipped", all("server.skip"))
	v.fact("addons", all("addons.files"))
	v.fact("place", all("place"))
	v.fact("carried", all("carry.file"))
	if source := guessOf(a, "source"); source.From != "" {
		v.fact("source", strings.TrimPrefix(strings.TrimSuffix(source.Value+": "+source.From, ": it is a "+source.Value), ": "))
	}
	if send := guessOf(a, "stop.send"); send.Value != "" {
		v.fact("stops", fmt.Sprintf("by %q (%s)", send.Value, send.From))
	} else {
		v.fact("stops", "by a line that the first stop looks for, else by a signal")
	}
	var open []string
	for _, one := range [][2]string{{"ready.line", "ready line"}, {"ready.version", "version line"}, {"ready.ports", "ports"}} {
		if guessOf(a, one[0]).Value == "" {
			open = append(open, one[1])
		}
	}
	if line := guessOf(a, "ready.line").Value; line != "" {
		v.fact("ready", "once a line matches "+line)
	}
	if len(open) > 0 {
		v.fact("open", "its "+strings.Join(open, ", ")+": a start shows what is right")
	}
	v.fact("why", "what each was guessed from stands above its line in "+a.Dir+"/freshkeel.toml")
}

// mostDoubts is how many questions are put at once.
const mostDoubts = 4

// doubts asks what nothing tells: those of which the same is to be said as one question.
func doubts(v *view, a *freshkeel.Adopted) {
	var whys []string
	by := map[string][]string{}
	for _, d := range a.Doubts {
		if by[d.Why] == nil {
			whys = append(whys, d.Why)
		}
		by[d.Why] = append(by[d.Why], d.Pattern)
	}
	for i, why := range whys {
		if i == mostDoubts {
			v.fact("", fmt.Sprintf("and %d more of the kind: freshkeel adopt --json %s", len(whys)-i, freshkeel.Shell(a.Dir)))
			break
		}
		list := by[why]
		v.fact("yours?", short(list)+": "+why+"; taken for the build's")
		var names []string
		for _, pat := range list[:min(len(list), 6)] {
			names = append(names, freshkeel.Shell(pat))
		}
		v.fact("", "if yours: freshkeel profile set --add server.keep "+strings.Join(names, " "))
	}
}

// adoptedNext says what comes after an adoption.
func (v *view) adoptedNext(a *freshkeel.Adopted) {
	if a.ByHand {
		v.fact("next", "freshkeel -d "+freshkeel.Shell(a.Dir)+" start --take-over --learn (it is stopped, and "+
			"started under Fresh Keel)")
		return
	}
	v.fact("next", "freshkeel -d "+freshkeel.Shell(a.Dir)+" start --learn")
	v.fact("", "what is guessed only warns until a start bears it out")
}

// quote writes a word so that a shell takes it as it is.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func short(list []string) string {
	if len(list) > 6 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:6], ", "), len(list)-6)
	}
	return strings.Join(list, ", ")
}

func (v *view) wouldFetch(rows []freshkeel.Build, w freshkeel.Want) {
	if w.From != "" {
		v.outcome(calm, "WOULD FETCH", freshkeel.Shown(w.From))
		return
	}
	for i := len(rows) - 1; i >= 0; i-- {
		if b := rows[i]; b.Version == w.Version || (w.Version == "" && b.InChannel) {
			if b.Fetched {
				v.outcome(good, "FETCHED", b.Version+" is in the locker already")
			} else {
				v.outcome(calm, "WOULD FETCH", fmt.Sprintf("%s, %s", b.Version, freshkeel.Bytes(b.Bytes)))
			}
			return
		}
	}
	v.outcome(bad, "NOT OFFERED", w.Version)
}

func (v *view) preflight(pre *freshkeel.Preflight, w freshkeel.Want, all bool, told map[string]bool) {
	stops, warns := pre.Stops(), pre.Warnings()
	to := orBuild(pre.Goal())
	switch {
	case len(stops) > 0:
		v.outcome(bad, "STOPPED", fmt.Sprintf("%s can't be installed as things are: %s. Nothing was changed.", to,
			count(len(stops), "stop")))
	case pre.Plan.Nothing():
		v.outcome(good, "NOTHING TO DO", to+" is what is installed")
	default:
		known := 0
		for _, f := range warns {
			if f.Routine {
				known++
			}
		}
		what, colour := fmt.Sprintf("%s → %s can go ahead", orUnknown(pre.From), to), good
		if n := len(warns) - known; n > 0 {
			what, colour = what+fmt.Sprintf("; %s to mind", count(n, "thing")), minded
		}
		if known > 0 {
			what += fmt.Sprintf("; %s about this install, as before", count(known, "thing"))
		}
		v.outcome(colour, "CLEAR", what)
	}
	if len(pre.Chain) > 1 {
		v.fact("steps", orUnknown(pre.From)+" → "+strings.Join(pre.Chain, " → ")+
			": the maker allows updates only from the build directly before; each is brought up and confirmed")
	}
	for _, l := range pre.Layers {
		v.fact("layer", l)
	}
	alone(v, pre.Alone)
	if pre.All != "" {
		v.fact("stops", pre.All)
	}
	fine, wrong := len(pre.Ran), map[string]bool{}
	var before []string
	for _, f := range pre.Findings {
		if f.Level != freshkeel.OK && !wrong[f.Check] {
			wrong[f.Check] = true
			fine--
		}
		if f.Level == freshkeel.OK {
			if !all {
				continue
			}
		}
		if f.Routine && told[f.What] && !all {
			before = append(before, f.Check)
			continue
		}
		v.finding(f)
	}
	if len(before) > 0 {
		fmt.Fprintf(v.p.out, "  %s%s, told before (--all shows them)\n", v.paint(minded, pad("warn", 6)),
			strings.Join(slices.Compact(before), ", "))
	}
	if all {
		v.checksRan(pre)
	}
	if !all && fine > 0 {
		fmt.Fprintf(v.p.out, "  %s%s\n", v.paint(good, pad("ok", 6)),
			fmt.Sprintf("%s found nothing wrong (--all shows them)", count(fine, "check")))
	}
	v.plan(pre.Plan, all)
	if len(stops) == 0 && !pre.Plan.Nothing() {
		v.fact("next", strings.Join(append([]string{"freshkeel refit"}, wantWords(pre, w)...), " "))
	}
}

// alone tells which parts of a server are stopped, where others run on.
func alone(v *view, parts []string) {
	if len(parts) > 0 {
		v.fact("stops", strings.Join(parts, ", ")+"; no file of another part changes, and the others run on")
	}
}

// checksRan lists every check with how long it took, what does not apply apart.
func (v *view) checksRan(pre *freshkeel.Preflight) {
	var slow, quick, not []string
	for _, c := range pre.Ran {
		switch {
		case c.Found == 0:
			not = append(not, c.Check)
		case c.Took < time.Millisecond:
			quick = append(quick, c.Check)
		default:
			slow = append(slow, c.Check+" "+freshkeel.Age(c.Took))
		}
	}
	if len(quick) > 0 {
		slow = append(slow, "under 1 ms each: "+strings.Join(quick, ", "))
	}
	v.fact("checked", strings.Join(slow, ", "))
	if len(not) > 0 {
		v.fact("not here", strings.Join(not, ", "))
	}
}

// wantWords writes what was asked for as arguments, so that the next command
// asks for the same.
func wantWords(pre *freshkeel.Preflight, w freshkeel.Want) (out []string) {
	switch {
	case w.From != "":
		out = append(out, "--from "+freshkeel.Shell(freshkeel.Shown(w.From)))
		if w.As != "" {
			out = append(out, "--as "+freshkeel.Shell(w.As))
		}
		if w.Over {
			out = append(out, "--over")
		}
	case len(pre.Chain) > 1:
		out = append(out, pre.Chain[len(pre.Chain)-1])
	case w.Version != "" || (len(w.Layers) == 0 && pre.To != pre.From):
		out = append(out, pre.To)
	}
	for _, name := range slices.Sorted(maps.Keys(w.Layers)) {
		l := name
		if v := w.Layers[name]; v != "" {
			l += "=" + v
		}
		out = append(out, "--layer "+l)
	}
	for _, n := range w.Without {
		out = append(out, "--without "+n)
	}
	if w.Back {
		out = append(out, "--back")
	}
	if w.Mend {
		out = append(out, "--mend")
	}
	if w.Runtime != "" {
		out = append(out, "--runtime "+freshkeel.Shell(w.Runtime))
	}
	if w.LetBoot {
		out = append(out, "--let-boot")
	}
	for option, names := range map[string][]string{"--consent": w.Consent, "--hold-back": w.Hold, "--data-has": w.Has,
		"--data-lacks": w.Lacks} {
		for _, name := range names {
			out = append(out, option+" "+freshkeel.Shell(name))
		}
	}
	for _, a := range w.Accept {
		out = append(out, "--accept "+a)
	}
	return out
}

// fewSteps is how many files of a plan a dry run shows unless it is asked for all.
const fewSteps = 12

func (v *view) plan(p *freshkeel.Plan, all bool) {
	replaced, added, removed := p.Changes()
	v.fact("plan", fmt.Sprintf("%s: replace %d, add %d, remove %d, leave %d unchanged; %s to lay out", orBuild(p.To),
		replaced, added, removed, p.Unchanged, freshkeel.Bytes(p.Bytes)))
	if gone := p.ByFolder(p.Removes()); len(gone) > 0 && !all { // which shows each by itself
		some := gone[:min(len(gone), fewSteps)]
		if len(gone) > len(some) {
			some = append(slices.Clone(some), fmt.Sprintf("and %d more", len(gone)-len(some)))
		}
		v.fact("removes", strings.Join(some, ", "))
	}
	for _, m := range p.Relaid {
		v.fact("becomes", m.From+" of the build becomes "+m.To+", which stands here")
	}
	for _, m := range p.Renamed {
		v.fact("becomes", m.From+" of the build becomes "+m.To+", which the launch script runs")
	}
	for _, m := range p.Followed {
		v.fact("becomes", m.To+" takes the place of "+m.From)
		for _, e := range p.Edits {
			if !e.Consent && strings.Contains(e.New, path.Base(m.To)) {
				v.fact("", fmt.Sprintf("%s:%d will be: %s", e.Path, e.Line, strings.TrimSpace(e.New)))
			}
		}
	}
	for _, d := range p.Dropped {
		v.fact("folder", d.String())
	}
	for _, l := range p.Lines {
		v.fact("service", l.Unit+" will run: "+strings.Join(l.Now, " "))
		v.fact("", "by "+l.File+", which a rollback takes back")
	}
	for _, m := range p.Moved {
		v.fact("moved", m.From+" → "+m.To+" (the same content)")
	}
	if !all && v.first {
		for i, s := range p.Steps {
			if i == fewSteps {
				v.fact("", fmt.Sprintf("and %d more: --all shows each", len(p.Steps)-i))
				break
			}
			v.fact("", fmt.Sprintf("%-11s %s%s", s.Do, s.Path, ofLayer(p, s.Path)))
		}
	}
	if !all {
		return
	}
	for _, s := range p.Steps {
		v.fact("", fmt.Sprintf("%-11s %s%s", s.Do, s.Path, ofLayer(p, s.Path)))
	}
	for _, c := range p.Carried {
		v.diff("settings", c.Path, c.Diff)
	}
	for _, r := range p.Scripts {
		v.diff("script", r.Path, r.Diff)
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

// standing shows by what the server is run, and how it ended.
func (v *view) standing(s *freshkeel.Status) {
	v.parts(s.Parts)
	if s.Server.Running && len(s.Parts) > 0 { // which were told one by one
	} else if s.Server.Running && s.Server.By != "" {
		v.fact("run", s.Server.By)
		if s.Server.Trouble != "" {
			v.fact("trouble", s.Server.Trouble)
		}
		if s.Server.Restarts > 0 {
			v.fact("restarts", fmt.Sprintf("its service manager has started it %s since somebody did",
				count(s.Server.Restarts, "more time")))
		}
		v.fact("processes", numbers(s.Server.Processes))
	} else if s.Server.Running {
		v.fact("processes", fmt.Sprintf("%s starts it as %d; all: %s; minder %d", s.Server.Script, s.Server.PID,
			numbers(s.Server.Processes), s.Server.Minder))
	} else if x := s.Server.Last; x != nil && !x.At.IsZero() {
		how := "by itself"
		if x.Asked {
			how = "as told"
		}
		v.fact("ended", fmt.Sprintf("%s, %s (%s)", when(x.At), how, x.Status))
	}
}

// parts shows a line for each part of a server.
func (v *view) parts(list []freshkeel.PartStatus) {
	if len(list) == 0 {
		return
	}
	var rows [][]string
	for _, part := range list {
		st := part.Server
		state, since := "down", "-"
		switch {
		case st.Silent:
			state = "not known"
		case st.Running && st.Stopping:
			state = "stopping"
		case st.Running:
			state = "up"
		}
		if st.Running && !st.Since.IsZero() {
			since = freshkeel.Age(time.Since(st.Since))
		}
		by := st.By
		if by == "" {
			by = "under a minder"
		}
		if part.Outside {
			by += ", outside the install"
		}
		said := part.Said
		if st.Trouble != "" {
			said = st.Trouble
		}
		rows = append(rows, []string{part.Name, state, since, by, v.clip(freshkeel.Printable(said), 40)})
	}
	v.table([]string{"part", "stands", "for", "run", "last line"}, rows, func(row, col int) string {
		switch {
		case col != 1:
			return ""
		case rows[row][1] == "up":
			return good
		}
		return minded
	})
	fmt.Fprintln(v.p.out)
}

func ofLayer(p *freshkeel.Plan, at string) string {
	if l := p.LayerOf(at); l != "" {
		return "   (layer " + l + ")"
	}
	return ""
}

func (v *view) refitted(e *freshkeel.Entry) {
	state := "and runs"
	if !e.EndRunning {
		state = "came up, and is stopped again as it was before"
	}
	v.outcome(good, "REFITTED", fmt.Sprintf("%s → %s %s", orUnknown(e.From), orBuild(e.To), state))
	if e.Down > 0 {
		v.fact("down", fmt.Sprintf("%s from the stop line to ready; %s of it between the old process's end and the "+
			"new one's start", freshkeel.Age(e.Down), freshkeel.Age(e.Exchange)))
	}
	for _, l := range e.Lines {
		v.fact("console", shortLine(l))
	}
	for _, l := range e.Layers {
		v.fact("layer", l)
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

// dumped tells what loading a dump does.
func dumped(d freshkeel.Dumped) string {
	return fmt.Sprintf("%s is loaded as it was %s ago, on %s (%s): what was written to it since is undone, and is in the "+
		"backup that is taken first", d.Name, freshkeel.Age(time.Since(d.Taken)), d.Taken.Local().Format(time.DateTime),
		freshkeel.Bytes(d.Bytes))
}

func (v *view) backPlan(p *freshkeel.BackPlan, keep []string) {
	v.outcome(calm, "WOULD GO BACK", fmt.Sprintf("to %s, before %s", orUnknown(p.To.From), p.To.ID))
	alone(v, p.Alone)
	for _, e := range p.Undo {
		v.fact("undo", fmt.Sprintf("%s: %s → %s of %s", e.ID, orUnknown(e.From), orUnknown(e.To), when(e.Started)))
	}
	for _, at := range p.Paths {
		v.fact("", at)
	}
	if len(p.Migrated) > 0 && !p.World {
		v.fact("data", p.MigratedWords())
	}
	v.fact("from", "backup "+p.Backup+", for settings and for what renames don't bring back")
	for _, at := range p.Edited {
		v.fact("edited", at+" was edited since, and goes back too; your edits are backed up first")
	}
	for _, d := range p.Data {
		v.fact("data", dumped(d))
	}
	if p.World {
		v.fact("world", "put back as it was then; what is there now is backed up first")
	} else {
		v.fact("world", "left as it is now: "+short(keep))
	}
}

func (v *view) verdict(w *freshkeel.Verdict) {
	v.fact("why", w.Why)
	for _, l := range w.Lines {
		v.fact("console", shortLine(l))
	}
	for _, d := range w.Doubts {
		v.fact("doubt", d)
	}
}

func (v *view) status(s *freshkeel.Status) {
	name := s.Name
	if s.Version != "" {
		name += " " + s.Version
	}
	switch {
	case s.State == freshkeel.Unsettled:
		v.outcome(bad, "UNSETTLED", fmt.Sprintf("%s: %s %s of %s was interrupted while %s, and waits to be settled",
			name,
			s.Run.Kind, s.Run.ID, when(s.Run.Started), s.Run.Phase))
	case s.State == freshkeel.Changing:
		v.outcome(minded, "CHANGING", fmt.Sprintf("%s: %s %s to %s is %s", s.Name, s.Run.Kind, s.Run.ID, reached(s.Run),
			s.Run.Phase))
	case s.Server.Running && s.Server.Stopping:
		v.outcome(minded, "STOPPING", name)
	case s.Server.Running:
		lasts := ""
		if !s.Server.Since.IsZero() {
			lasts = ", for " + freshkeel.Age(time.Since(s.Server.Since))
		}
		v.outcome(good, "RUNNING", name+lasts)
	case len(s.Outside) > 0:
		v.outcome(minded, "RUNNING", name+", but not started by Fresh Keel")
	default:
		v.outcome(minded, "DOWN", name)
	}
	if len(s.Mixed) > 0 {
		v.fact("mixed", "some of its files are of "+strings.Join(s.Mixed, ", ")+
			", since a part of a backup was restored; a refit makes it whole")
	}
	v.fact("install", s.Install)
	v.standing(s)
	for _, o := range s.Outside {
		v.fact("outside", fmt.Sprintf("process %d: %s, user %s, since %s", o.PID, o.Command, o.User, when(o.Since)))
	}
	for i, e := range s.Edited {
		if i == 0 {
			v.fact("edited", fmt.Sprintf("since the server last came up, at %s; it has not read this:", when(s.Read)))
		}
		if i == most {
			v.fact("", fmt.Sprintf("and %d more", len(s.Edited)-i))
			break
		}
		v.fact("", e.String())
	}
	v.fact("busy", s.Busy)
	if s.LastLine != "" && len(s.Parts) == 0 {
		v.fact("console", shortLine(s.LastLine))
	}
	if e := s.Last; e != nil && s.Run == nil {
		v.fact("last run", fmt.Sprintf("%s %s %s, %s → %s: %s", when(e.Started), e.Kind, e.ID, orUnknown(e.From),
			reached(e), orRunning(e)))
	}
	switch s.State {
	case freshkeel.Down:
		if s.Busy == "" {
			v.fact("next", "freshkeel start")
		}
	case freshkeel.Unsettled:
		if s.Run.Stuck != "" {
			v.fact("why", s.Run.Stuck)
		}
		v.fact("next", "freshkeel recover")
	case freshkeel.Outside:
		v.fact("next", s.Outside[0].HowToStop()+"; then: freshkeel start")
	}
}

// reached is the version that a run led to.
func reached(e *freshkeel.Entry) string {
	switch {
	case e.To != "":
		return e.To
	case e.Kind == freshkeel.KindRestore && len(e.Only) > 0:
		return orUnknown(e.From) + " in part"
	case e.Kind == freshkeel.KindRestore, e.Kind == freshkeel.KindRollback:
		return orUnknown("")
	}
	return orBuild("")
}

func numbers(list []int) string { return strings.Trim(fmt.Sprint(list), "[]") }

// backups lists backups; hasCopy: those that the copy has not are told, which was
// last written to at. next is what to do with one, where that is not plain.
func (v *view) backups(list []listed, hasCopy bool, at time.Time, next string) {
	if len(list) == 0 {
		v.outcome(minded, "NONE", "there is no backup of this install yet")
		v.fact("next", "freshkeel backup take")
		return
	}
	v.outcome(good, "BACKUPS", fmt.Sprintf("%s, newest last", count(len(list), "backup")))
	var rows [][]string
	var only []string
	head, folders := []string{"backup", "taken", "build", "files", "content", "new", "label"}, 0
	for i := range list {
		if list[i].Root != list[0].Root {
			folders++
		}
	}
	for _, b := range list {
		if b.Damage != "" {
			rows = append(rows, []string{b.ID, "-", "-", "-", "-", "-", "DAMAGED: " + b.Damage})
			continue
		}
		if !b.Copied {
			only = append(only, b.ID)
		}
		rows = append(rows, []string{b.ID, when(b.Taken), orUnknown(b.Version), fmt.Sprint(b.Files),
			freshkeel.Bytes(b.Bytes), freshkeel.Bytes(b.New), b.Label})
		if folders > 0 { // of a copy, or one that was moved
			rows[len(rows)-1] = append(rows[len(rows)-1], beside(b.Root, list[len(list)-1].Root))
		}
	}
	fmt.Fprintln(v.p.out)
	if folders > 0 {
		head = append(head, "folder")
	}
	v.table(head, rows, nil)
	if hasCopy || next != "" {
		fmt.Fprintln(v.p.out)
	}
	v.fact("next", next)
	switch {
	case !hasCopy:
		return
	case at.IsZero():
		v.fact("copy", "none of them was sent to the other place yet (freshkeel backup push)")
	case len(only) > 0:
		v.fact("copy", fmt.Sprintf("not in the other place when it was last looked at, %s: %s (freshkeel backup push)", when(at),
			strings.Join(only, ", ")))
	default:
		v.fact("copy", "all were in the other place when it was last looked at, "+when(at)+" (freshkeel backup check --copy looks again)")
	}
}

// beside is a folder by its name alone where it stands beside another one.
func beside(folder, other string) string {
	if filepath.Dir(folder) == filepath.Dir(other) {
		return filepath.Base(folder)
	}
	return folder
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
	if e.Outcome == "rolled back" && e.Kind != "refit" { // "a rollback, rolled back" says nothing
		return "not done"
	}
	return string(e.Outcome)
}

func (v *view) logbook(all []*freshkeel.Entry, name string) {
	if len(all) == 0 {
		v.outcome(minded, "EMPTY", "nothing was done to "+name+" yet")
		return
	}
	last := all[len(all)-1]
	v.outcome(outcomeColour(last), strings.ToUpper(orRunning(last)),
		fmt.Sprintf("%s %s of %s, the newest of %d", last.Kind, last.ID, name, len(all)))
	var rows [][]string
	for _, e := range all {
		down := "-"
		if e.Down > 0 {
			down = freshkeel.Age(e.Down)
		}
		rows = append(rows, []string{e.ID, e.Started.Local().Format("2006-01-02 15:04"), string(e.Kind),
			orUnknown(e.From) + " → " + reached(e), orRunning(e), down, e.Backup})
	}
	fmt.Fprintln(v.p.out)
	v.table([]string{"entry", "when", "what", "build", "outcome", "down", "backup"}, rows, func(row, col int) string {
		if col == 4 {
			return outcomeColour(all[row])
		}
		return ""
	})
	fmt.Fprintln(v.p.out)
	for _, e := range all[max(0, len(all)-shownWhy):] {
		if e.Outcome != "confirmed" { // what went as it should needs no reason
			v.fact(e.ID, e.Why)
		}
	}
	v.fact("more", "freshkeel logbook "+last.ID)
}

// shownWhy is of how many of the newest entries the list tells why they did not go well.
const shownWhy = 5

func (v *view) entry(e *freshkeel.Entry, kept string) {
	v.outcome(outcomeColour(e), strings.ToUpper(orRunning(e)),
		fmt.Sprintf("%s %s: %s → %s", e.Kind, e.ID, orUnknown(e.From), reached(e)))
	v.fact("when", when(e.Started))
	for _, l := range e.Layers {
		v.fact("layer", l)
	}
	v.fact("why", e.Why)
	for _, l := range e.Lines {
		v.fact("console", shortLine(l))
	}
	if e.Down > 0 {
		s := freshkeel.Age(e.Down) + " from the stop line to ready"
		if e.Exchange > 0 {
			s += fmt.Sprintf("; %s between the old process's end and the new one's start", freshkeel.Age(e.Exchange))
		}
		v.fact("down", s)
	}
	v.fact("backup", e.Backup)
	if len(e.Consents) > 0 {
		v.fact("consent", "given in "+strings.Join(e.Consents, ", "))
	}
	if len(e.HeldBack) > 0 {
		v.fact("held back", strings.Join(e.HeldBack, ", "))
	}
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
