package check

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/edited"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/learn"
	"freshkeel/internal/locker"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/settings"
	"freshkeel/internal/staging"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/watch"
	"freshkeel/internal/words"

	"github.com/shirou/gopsutil/v4/disk"
)

func ok(format string, a ...any) []Finding {
	return []Finding{{Level: OK, What: fmt.Sprintf(format, a...)}}
}

// checkDirection keeps a step back from being an accident.
func checkDirection(_ context.Context, s *situation) []Finding {
	from, to := s.plan.From, s.plan.To
	switch {
	case from == "" || to == "":
		return nil
	case from == to && len(s.plan.Steps) == 0:
		return []Finding{{Level: Warn, What: fmt.Sprintf("%s is what is installed: nothing would change", to)}}
	case from == to || s.want.Back:
		return nil
	}
	if newer, _ := s.cand.Newer(from); newer || s.hop > 0 || version.Compare(to, from) == 0 {
		return ok("%s is newer than the installed %s", to, from)
	}
	return []Finding{{Level: Stop, What: fmt.Sprintf("%s is older than the installed %s", to, from),
		Where: s.cand.Source,
		Why:   "an older build often can't read a world that a newer one has written to",
		Do:    "to undo the last refit: freshkeel rollback; to step back in any case, add --back"}}
}

// checkSteps holds the build to the versions that its maker lets step to it.
func checkSteps(_ context.Context, s *situation) []Finding {
	f := s.cand.Offer
	if s.hop > 0 || f == nil || s.plan.From == "" || s.plan.From == s.plan.To || s.want.Back ||
		f.MayStep(s.plan.From, s.cand.Build) {
		return nil
	}
	if newer, known := s.cand.Newer(s.plan.From); known && !newer {
		return nil // a step back is told by itself
	}
	why, do := "its maker allows updates only from the version directly before it",
		"say what is installed, if that is not known rightly; else ask the makers"
	if len(s.cand.Build.From) > 0 {
		why = "it is to be reached from " + strings.Join(s.cand.Build.From, " or ") + ", which converts what it needs"
		do = "no chain of builds that the source offers leads there; refit to one of those first, with --from PATH"
	}
	return []Finding{{Level: Stop,
		What:  fmt.Sprintf("the maker does not let %s step to %s directly", s.plan.From, s.plan.To),
		Where: s.cand.Source, Why: why, Do: do}}
}

// checkChannel tells when a refit leaves the channel that the installed build
// came from.
func checkChannel(_ context.Context, s *situation) []Finding {
	from, to := s.inv.Channel, s.plan.Channel
	if from == "" || to == "" || from == to {
		return nil
	}
	return []Finding{{Level: Warn, What: fmt.Sprintf("it crosses from channel %s to %s", from, to),
		Where: s.cand.Source,
		Why:   "players need a client of that channel to join",
		Do:    "nothing, if that is meant; [source] channel says which one is followed"}}
}

// checkDamage tells of installed files that are broken and put back.
func checkDamage(_ context.Context, s *situation) []Finding {
	if n := len(s.plan.Mended); n > 0 {
		return []Finding{{Level: Warn,
			What: fmt.Sprintf("%s not as the build has %s, and will be restored: %s", words.Is(n, "installed file"),
				words.It(n), words.Some(s.plan.Mended, 4)), Where: s.k.Dir,
			Why: "nobody wrote to it, or it was cut short: a disk that forgets does that",
			Do:  "look at the disk's own log, should it happen again"}}
	}
	return nil
}

// checkLaunch looks whether the launch script, or each part's, can be run at all.
func checkLaunch(_ context.Context, s *situation) (out []Finding) {
	for _, part := range s.k.Parts() {
		if part.Outside() {
			continue
		}
		script, of := part.Profile.Launch.Script, ""
		if part.PartName() != "" {
			of = " of " + part.PartName()
		}
		if part.Service() != nil {
			if read := part.Script(nil); read.Name == "" {
				out = append(out, s.unitRuns(read, script)...)
				continue
			}
		}
		switch {
		case script == "" && !part.Minded():
		case script == "":
			out = append(out, Finding{Level: Stop, What: "no launch script is named",
				Where: s.k.Path(profile.FileName) + ", [launch] script",
				Why:   "the new build is only known to work once it was started",
				Do:    "set script to the file that starts the server"})
		case !s.ahead.Has(script):
			out = append(out, Finding{Level: Stop, What: script + " will not exist", Where: s.k.Path(script),
				Why: "it is what starts the server" + of, Do: "correct [launch] script in " + profile.FileName})
		case s.lines.err != nil:
			return append(out, Finding{Level: Warn, What: fmt.Sprintf("%s can't be read: %v", script, s.lines.err),
				Where: s.k.Path(script),
				Why:   "what it runs is not known, so the runtime was not checked",
				Do:    "mend the script, if the server does not start by it"})
		default:
			out = append(out, ok("%s starts the server%s", script, of)...)
		}
	}
	return out
}

// unitRuns tells what a service runs, and of a script that the profile names and it does not run.
func (s *situation) unitRuns(unit *launch.Script, script string) (out []Finding) {
	commands, err := unit.Commands()
	if err != nil || len(commands) == 0 {
		return nil
	}
	out = ok("%s runs %s", unit.Label, commands[0].Program)
	if script == "" || slices.ContainsFunc(commands, func(c launch.Command) bool {
		for by := &c; by != nil; by = by.By {
			if by.File == script || tree.Rel(s.k.Dir, by.Path) == script {
				return true
			}
		}
		return false
	}) {
		return out
	}
	return append(out, Finding{Level: Warn,
		What:  fmt.Sprintf("the profile names %s as the launch script, and the service does not run it", script),
		Where: fmt.Sprintf("%s: %s", unit.Label, commands[0].Text),
		Why:   "what is changed in that script changes nothing of the server",
		Do:    "freshkeel profile set launch.script ''; or let the unit run the script"})
}

// checkNames looks whether the files that the launch script names will exist.
func checkNames(_ context.Context, s *situation) (out []Finding) {
	for _, c := range s.lines.commands {
		at := c.Jar
		if at == "" && c.Path == "" && strings.Contains(c.Program, "/") && !filepath.IsAbs(c.Program) {
			at = path.Clean(c.Program)
		}
		if at == "" || filepath.IsAbs(at) {
			continue
		}
		where := fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
		if s.ahead.Has(at) {
			out = append(out, ok("%s, which %s runs, will exist", at, c.File)...)
			continue
		}
		if strings.HasPrefix(at, "../") {
			out = append(out, Finding{Level: Stop, What: c.Program + " is not there", Where: where,
				Why: "the launch script runs it", Do: "put it there, or correct the script"})
			continue
		}
		out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s will not exist after the swap", at), Where: where,
			Why: "the launch script runs it by this name", Do: s.whichIs(at)})
	}
	for _, list := range []struct {
		key  string
		pats tree.Patterns
	}{{"keep", s.k.Profile.Server.Keep}, {"settings", s.k.Profile.Server.Settings}, {"skip", s.k.Profile.Server.Skip}} {
		for _, pat := range list.pats {
			if like := s.ahead.Spelling.Like(pat); like != "" {
				out = append(out, Finding{Level: Stop,
					What: fmt.Sprintf("the %s pattern %s matches nothing, and %s is spelled otherwise", list.key,
						words.Quote(pat), like), Where: s.k.Path(profile.FileName),
					Why: "this file system takes both for the same name; the pattern would not protect the file",
					Do:  fmt.Sprintf("write the pattern under %s with the letters as in %s", list.key, like)})
			}
		}
	}
	for _, pat := range s.plan.Unfound {
		out = append(out, Finding{Level: Warn,
			What:  fmt.Sprintf("the [place] pattern %s matches no file of the build", words.Quote(pat)),
			Where: s.k.Path(profile.FileName),
			Why:   "makers rename files; the file may now come under another name",
			Do:    "compare it with the build's files, and change the pattern"})
	}
	return out
}

// whichIs advises how to tell which file of the build is to have a name.
func (s *situation) whichIs(at string) string {
	if like := plan.AlikeIn(s.plan.Set, at); like != "" {
		return fmt.Sprintf("freshkeel -d %s profile set %s %s", s.k.Dir, words.Quote("place."+like), words.Quote(at))
	}
	return fmt.Sprintf("tell in %s under [place] which file of the build is to be %s", profile.FileName, at)
}

// checkReady looks whether there is a way to tell that the server came up.
func checkReady(_ context.Context, s *situation) (out []Finding) {
	r, seen := s.k.Profile.Ready, s.k.Seen()
	where := s.k.Path(profile.FileName) + ", [ready]"
	if !r.Line.Given() && len(r.Held()) == 0 && len(seen.Ports) == 0 {
		return []Finding{{Level: Warn,
			What:  "no ready line and no port are given: a server that runs on and comes to rest counts as up",
			Where: where,
			Why:   "a server that hangs while it loads would be taken for one that came up",
			Do: "freshkeel adopt " + s.k.Dir + " while the server runs: it finds both; or set line to a pattern of the " +
				"console line that says it is ready"}}
	}
	last, err := s.k.Host().Tail(5000)
	strict := r.Strict != nil && *r.Strict
	if r.Line.Given() && r.Log == "" && err == nil && len(last) > 20 &&
		!slices.ContainsFunc(last, func(l string) bool { p, _ := r.Line.Match(words.Printable(l)); return p != nil }) {
		f := Finding{
			Level: Warn,
			What:  fmt.Sprintf("the ready line %s matches nothing in the last console log", r.Line),
			Where: where,
			Why:   "if it does not match, the new build counts as up once it is quiet, with a warning",
			Do:    "compare it with: freshkeel log",
		}
		if strict {
			f.Why = fmt.Sprintf(
				"if it never matches, the new build is rolled back after %s although it came up",
				r.Within,
			)
		}
		out = append(out, f)
	}
	if out == nil {
		var by []string
		if r.Line.Given() {
			by = append(by, "its ready line")
		}
		for _, p := range r.Held() {
			by = append(by, "port "+p.String())
		}
		if len(by) == 0 {
			by = append(by, "holding a port, as it did when it was last up")
		}
		out = ok("the server is known to be up by %s, within %s", strings.Join(by, " and "), r.Within)
	}
	return out
}

func checkPaths(_ context.Context, s *situation) (out []Finding) {
	for _, d := range s.plan.Dropped {
		out = append(out, ok("%s", d)...)
	}
	if n := len(s.plan.Reserved); n > 0 {
		out = append(out, ok("%s of Fresh Keel's own, from another install, in the build: left out",
			words.Plural(n, "file"))...)
	}
	// A path that is too long for the system would fail in the middle of staging.
	for _, st := range s.plan.Steps {
		full := len(s.k.Path(st.Path)) + len("/.freshkeel/refits/r0000/displaced/") + 64
		switch long := slices.MaxFunc(strings.Split(st.Path, "/"), func(a, b string) int { return len(a) - len(b) }); {
		case len(long) > tree.MaxName:
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%.60s… is a name of %d bytes", long, len(long)),
				Where: s.k.Path(path.Dir(st.Path)),
				Why:   fmt.Sprintf("this system has names of at most %d bytes", tree.MaxName),
				Do:    "ask the makers; or leave the file out, with [source] leave"})
		case full > tree.MaxPath:
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%.80s… makes a path of %d bytes", st.Path, full),
				Where: s.k.Dir,
				Why: fmt.Sprintf("this system has paths of at most %d bytes, and files are staged below %s",
					tree.MaxPath, tree.StateFolder), Do: "move the install to a shorter path"})
		}
	}
	for _, b := range s.plan.Blocked {
		out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s can't be exchanged", b.Path),
			Where: s.k.Path(b.Path), Why: b.Why, Do: b.Do})
	}
	return out
}

func checkDrift(_ context.Context, s *situation) (out []Finding) {
	for _, r := range s.plan.Scripts {
		for _, c := range r.Conflicts {
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%s: its makers and you both changed line %d, each in another way", r.Path, c.Line),
				Where: fmt.Sprintf("%s:%d\n  old build  %s\n  new build  %s\n  yours      %s", s.k.Path(r.Path), c.Line,
					oneLine(c.Old), oneLine(c.Now), oneLine(c.Mine)),
				Why: "one of the two would be lost, and the server may not start by what is left",
				Do: fmt.Sprintf(
					"take the makers', and let [launch] in the profile say what you need (memory, flags, with, "+
						"without): --accept drift; or keep yours: freshkeel profile set --add server.keep %s",
					r.Path,
				)})
		}
	}
	drifted := slices.DeleteFunc(slices.Clone(s.plan.Drifted), func(at string) bool {
		return slices.ContainsFunc(s.plan.Scripts, func(r plan.Rescript) bool {
			return r.Path == at && len(r.Conflicts) > 0
		})
	})
	if n := len(drifted); n > 0 {
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("%s changed here, and the new build changes %s too", words.Were(n, "file"), words.It(n)),
			Where: words.Some(drifted, 8),
			Why:   "replacing " + words.It(n) + " would lose what was changed",
			Do:    "name " + words.It(n) + " in [server] settings or keep to have yours stay"})
	}
	if n := len(s.plan.Both); n > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf(
				"%s of settings changed here, and the new build changes %s too: yours stay",
				words.Were(n, "file"),
				words.It(n),
			),
			Where: words.Some(s.plan.Both, 8),
			Why:   "what the new build sets in " + words.It(n) + " is not in yours",
			Do:    "compare them once it runs; --accept drift takes the build's instead"})
	}
	if n := len(s.plan.Left); n > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s of the old build with your changes will be left as you have %s",
				words.Plural(n, "file"), words.It(n)), Where: words.Some(s.plan.Left, 8)})
	}
	if n := len(s.plan.Kept); n > 0 {
		out = append(out, ok("%s of your own that the build brings too will be left as you have %s: %s",
			words.Plural(n, "file"), words.It(n), words.Some(s.plan.Kept, 3))...)
	}
	return out
}

// oneLine is a text of several lines on one.
func oneLine(s string) string {
	if s == "" {
		return "-"
	}
	return strings.Join(strings.Fields(s), " ")
}

func checkRemovals(_ context.Context, s *situation) (out []Finding) {
	if !s.plan.Known {
		out = append(out, Finding{Level: Warn, Routine: true,
			What:  "which files the old build put there is not known: none will be removed",
			Where: s.k.State("inventory.json"),
			Why:   "left-over files of an old build are sometimes loaded by a new one",
			Do: "freshkeel adopt --build PATH " + s.k.Dir +
				" (the archive or folder it was made from; your profile stays as it is)"})
		return out
	}
	var removed []string
	for _, st := range s.plan.Steps {
		if st.Do == swap.Remove {
			removed = append(removed, st.Path)
		}
	}
	if n := len(removed); n >= fewFiles && 2*n > s.plan.Had {
		level := Warn
		if s.want.From != "" { // nobody has said of it that it is a whole build
			level = Stop
		}
		out = append(out, Finding{Level: level,
			What: fmt.Sprintf("it would remove %d of the %s of the old build: %s", n, words.Plural(s.plan.Had, "file"),
				words.Some(removed, 4)), Where: s.cand.Source,
			Why: "an increment that is taken for a whole build removes what it is to be laid over",
			Do:  "if it is an increment, add --over: it is laid over what is installed"})
	}
	out = append(out, s.namedInSettings(removed)...)
	if n := len(s.plan.Foreign); n > 0 {
		out = append(out, ok("%s neither the build's nor named in the profile will be left alone: %s",
			words.Plural(n, "file"), words.Some(s.plan.Foreign, 3))...)
	}
	return out
}

// fewFiles is how many removals are too few to tell an increment by.
const fewFiles = 5

// namedInSettings finds removed files that the operator's settings name.
func (s *situation) namedInSettings(removed []string) (out []Finding) {
	if len(removed) == 0 {
		return nil
	}
	for _, e := range s.ahead.Before {
		if e.Kind != tree.File || !s.k.Profile.Server.Settings.Match(e.Path) || e.Size > ahead.MaxText {
			continue
		}
		b, err := s.ahead.Text(e.Path) // as it will be
		if err != nil {
			continue
		}
		said := map[string]bool{}
		for _, word := range words.PathLike.FindAllString(string(b), -1) {
			said[word], said[path.Base(word)] = true, true
		}
		for _, at := range removed {
			if name := path.Base(at); said[at] || (len(name) > 4 && strings.Contains(name, ".") && said[name]) {
				out = append(out, Finding{Level: Stop,
					What: fmt.Sprintf("it would remove %s, which your settings name", at), Where: s.k.Path(e.Path),
					Why: "the server would look for it in vain",
					Do:  "correct the settings; or name the file in [server] keep"})
			}
		}
	}
	return out
}

// checkHeld finds files of the build that stay out because the profile says that they
// are yours, and that are not what the build brings.
func checkHeld(_ context.Context, s *situation) (out []Finding) {
	for _, m := range s.plan.Hidden {
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("%s of the build would not be laid: [place] lays %s there", m.To, m.From),
			Where: s.k.Path(profile.FileName) + ", [place]",
			Why:   "two files of one name: the build's own one would be missing",
			Do: fmt.Sprintf("take the line out of [place] that names %s, if the build's own %s is meant", m.From,
				m.To)})
	}
	if n := len(s.plan.Stale); n > 0 {
		out = append(out, Finding{Level: Stop,
			What: fmt.Sprintf("%s not changed by you, and held back from the build's newer one by your profile: %s",
				words.Is(n, "file"), words.Some(s.plan.Stale, 6)), Where: s.k.Path(profile.FileName) + ", [server] " +
				s.ownBy(s.plan.Stale[0]),
			Why: "the new program would run with data of the old one",
			Do:  "take what the build brings out of those patterns; or name the files in them that are yours one by one"})
	}
	if n := len(s.plan.Differs); n > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s left as you have %s, and not what the build brings: %s", words.Is(n, "file"),
				words.It(n), words.Some(s.plan.Differs, 6)), Where: s.k.Path(profile.FileName) + ", [server] " +
				s.ownBy(strings.TrimSuffix(s.plan.Differs[0], " (not there)")),
			Why: "whether you changed it is not known, since the old build is not",
			Do:  "look whether the new build needs its own; freshkeel adopt --build PATH tells which ones you changed"})
	}
	return out
}

// ownBy is the key of the profile by which a path is the operator's own.
func (s *situation) ownBy(at string) string {
	if pat := s.k.Profile.Server.Keep.Which(at); pat != "" {
		return "keep, " + words.Quote(pat)
	}
	return "settings, " + words.Quote(s.k.Profile.Server.Settings.Which(at))
}

// checkProcesses finds a server of this install that nobody here started.
func checkProcesses(_ context.Context, s *situation) []Finding {
	var out []Finding
	for _, p := range host.Outside(s.k.Dir, s.status) {
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("process %d runs from this install and was not started by Fresh Keel", p.PID),
			Where: fmt.Sprintf("%s, user %s, since %s", p.Command, p.User, p.Since.Format("2006-01-02 15:04:05")),
			Why:   "two servers on one world destroy it, and its files can't be exchanged under it",
			Do:    p.HowToStop() + "; then: freshkeel start"})
	}
	if out == nil {
		return ok("no other process runs from this install")
	}
	return out
}

func checkPort(_ context.Context, s *situation) (out []Finding) {
	mine, free := 0, 0
	for _, p := range s.k.Profile.Ready.Held() {
		pids, err := host.PortHolders(p.Net, p.Number)
		switch {
		case err != nil:
		case len(pids) == 0:
			free++
		case s.status.Running && slices.ContainsFunc(pids, func(pid int) bool {
			return slices.Contains(s.status.Processes, pid)
		}):
			mine++
		default:
			where, do := holderOf(p, pids[0])
			out = append(
				out,
				Finding{Level: s.k.portLevel(p), What: fmt.Sprintf("port %s is held by another process", p),
					Where: where, Why: "the new server could not bind it and would end", Do: do},
			)
		}
	}
	if out == nil && mine+free > 0 {
		state := "free"
		if mine > 0 {
			state = "held by this server"
		}
		return ok("%s %s %s", ports(s.k.Profile.Ready.Held()), words.Are(mine+free), state)
	}
	return out
}

func ports(list []profile.Port) string {
	var all []string
	for _, p := range list {
		all = append(all, p.String())
	}
	if len(all) == 1 {
		return "port " + all[0]
	}
	return "ports " + strings.Join(all, ", ")
}

// portLevel is how much it weighs that somebody else holds a port: one that is only guessed
// may not be this server's at all.
func (ck *Checker) portLevel(p profile.Port) Level {
	strict := ck.Profile.Ready.Strict
	if strict == nil || *strict || ck.Seen().Bears(watch.KeyPort, p.String()) {
		return Stop
	}
	return Warn
}

// Seen is what good starts and stops have shown of the server.
func (ck *Checker) Seen() *learn.Seen { return learn.ReadSeen(ck.State(learn.FileName)) }

// holderOf says which process holds a port, and what to do about it; 0 is one that
// can't be seen.
func holderOf(p profile.Port, pid int) (where, do string) {
	if h, seen := host.Find(pid); seen {
		return fmt.Sprintf("process %d, %s, user %s, since %s", h.PID, h.Command, h.User,
			h.Since.Format("2006-01-02 15:04:05")), "stop that process, or correct [ready] port"
	}
	return "a process of another user, which can't be seen from here",
		fmt.Sprintf("look who it is: sudo ss -lpn 'sport = :%d'; end it, or correct [ready] port", p.Number)
}

// PortFree refuses to start a server whose port somebody else holds: its own words for
// that are a stack trace.
func (ck *Checker) PortFree() error {
	for _, p := range ck.Profile.Ready.Held() {
		pids, err := host.PortHolders(p.Net, p.Number)
		if err != nil || len(pids) == 0 {
			continue
		}
		where, do := holderOf(p, pids[0])
		err = fmt.Errorf("port %s, which the server wants, is held already by %s", p, where)
		if ck.portLevel(p) == Stop {
			return tell.Advise(err, do)
		}
		ck.Warn("port %s, which is only guessed to be the server's, is held by %s", p, where)
	}
	return nil
}

// checkOwner tells when root would run a server that nobody should run as root.
func checkOwner(_ context.Context, s *situation) []Finding {
	if os.Geteuid() != 0 {
		return nil
	}
	for _, script := range s.k.Profile.Scripts() {
		err := install.TrustedScript(s.k.Path(script))
		if err == nil {
			continue
		}
		f := Finding{Level: Stop, What: err.Error(), Where: s.k.Dir,
			Why: "whoever may write to what root runs has the whole machine"}
		if a := (*tell.Advised)(nil); errors.As(err, &a) {
			f.Do = a.Do
		}
		return []Finding{f}
	}
	return []Finding{{Level: Warn, What: "the install belongs to root, so the server runs as root", Where: s.k.Dir,
		Why: "many servers refuse to, and whoever breaks into one has the whole machine",
		Do:  "chown -R USER " + s.k.Dir}}
}

// checkWritable asks, for every folder whose entries will change, whether they may.
func checkWritable(_ context.Context, s *situation) (out []Finding) {
	dirs := map[string]bool{"": true}
	for _, st := range s.plan.Steps {
		for d := path.Dir(st.Path); ; d = path.Dir(d) {
			if d == "." {
				break
			}
			if _, ok := s.ahead.Before.Get(d); ok {
				dirs[d] = true
				break
			}
		}
	}
	for _, d := range slices.Sorted(maps.Keys(dirs)) {
		full := s.k.Path(d)
		err := tree.Writable(full)
		if err == nil {
			continue
		}
		out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s can't be written to: %v", full, err), Where: full,
			Why: "files there have to be exchanged", Do: "run as the install's owner, or: chown/chmod that folder"})
	}
	if out == nil {
		return ok("every folder that changes can be written to")
	}
	return out
}

// checkFilesystem looks at the file systems that the install is on. Each is
// staged on by itself, since only a rename within one is atomic.
func checkFilesystem(_ context.Context, s *situation) (out []Finding) {
	for _, at := range s.plan.Places {
		if err := staging.Usable(s.k.Install, []string{at}); err != nil {
			out = append(out, Finding{Level: Stop, What: err.Error(), Where: s.k.Path(at),
				Why: "what is exchanged there, or put back after a failure, has to be laid out on that file system first",
				Do: fmt.Sprintf("let the install's owner write to %s; or name it in [server] skip: it is then neither "+
					"replaced nor backed up", s.k.Path(at))})
		}
	}
	for _, at := range s.plan.Mounted {
		out = append(out, Finding{Level: Stop, What: at + " is mounted there as a single file", Where: s.k.Path(at),
			Why: "the system lets nobody rename it, so it can be neither exchanged nor put back",
			Do:  "name it in [server] skip, or mount the folder that holds it instead"})
	}
	home, _, err := tree.Describe(s.k.State("refits"), "")
	if err != nil { // the first refit will make it
		if home, _, err = tree.Describe(s.k.State(), ""); err != nil {
			return out
		}
	}
	if top, _, err := tree.Describe(s.k.Dir, ""); err == nil && top.Dev != home.Dev {
		out = append(out, Finding{Level: Stop, What: tree.StateFolder + " is on another file system than the install",
			Where: s.k.State(),
			Why:   "the new build is staged there, and only a rename within one file system is atomic",
			Do:    "put it back onto the install's own file system"})
	}
	if n := len(s.plan.Places); out == nil && n > 0 {
		return ok("%s on file systems of their own or elsewhere, where files are staged by themselves: %s",
			words.Is(n, "folder"), words.Some(s.plan.Places, 3))
	}
	return out
}

// slack is what a file system should keep free besides, in bytes.
const slack = 64 << 20

// checkDisk holds what staging and backup need against what is free, for each
// file system once.
func checkDisk(_ context.Context, s *situation) []Finding {
	type need struct {
		what   []string
		bytes  int64
		inodes uint64
		at     string
		spare  int64
	}
	needs := map[uint64]*need{}
	add := func(at, what string, bytes, spare int64, inodes int) {
		e, _, err := tree.Describe(at, "")
		if err != nil {
			return
		}
		n := needs[e.Dev]
		if n == nil {
			n = &need{at: at}
			needs[e.Dev] = n
		}
		n.bytes += bytes
		n.spare = max(n.spare, spare)
		n.inodes += uint64(inodes)
		n.what = append(n.what, fmt.Sprintf("%s for the %s", words.Bytes(bytes), what))
	}
	base, err := s.k.shelf.Glance()
	if err != nil {
		return []Finding{{Level: Warn, What: "what the backup needs can't be told: " + err.Error(),
			Where: s.store.Dir(), Why: "a full disk would end it before anything is changed",
			Do: "freshkeel backup list"}}
	}
	backup := base.Unproven(s.ahead.Before)
	// A new file and, on the way, its folder: what is displaced needs none.
	for place, n := range s.plan.Staging() {
		spare := int64(slack)
		if place != "" { // nothing else of ours grows there
			spare = n.Bytes / 8
		}
		add(s.k.Path(place), "staging", n.Bytes, spare, 2*n.Steps+64)
	}
	add(s.store.Dir(), "backup (at most)", backup, slack, int(backup/locker.PackSize)+64)
	var out []Finding
	for _, n := range needs {
		u, err := disk.Usage(n.at)
		if err != nil {
			continue
		}
		if free := int64(u.Free); free < n.bytes+n.spare {
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%s needed, %s free", words.Bytes(n.bytes+n.spare), words.Bytes(free)), Where: n.at,
				Why: strings.Join(n.what, ", ") + fmt.Sprintf(", %s to spare", words.Bytes(n.spare)),
				Do:  "free space there, or move FRESHKEEL_HOME to another disk"})
		}
		if u.InodesTotal > 0 && u.InodesFree < n.inodes {
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%d inodes needed, %d free", n.inodes, u.InodesFree), Where: n.at,
				Why: "its file system can hold so many files and no more, whatever their size",
				Do:  "remove small files there: old logs and caches first"})
		}
	}
	if out == nil {
		return ok("disk space: %s for staging, at most %s for the backup", words.Bytes(s.plan.Bytes),
			words.Bytes(backup))
	}
	return out
}

func checkStopping(_ context.Context, s *situation) []Finding {
	st, seen := s.k.Profile.Stop, s.k.Seen().Stop
	switch {
	case st.Send == "" && seen != nil && seen.Signals:
		return ok("the server takes signals only, as it was seen to")
	case st.Send == "" && seen != nil && slices.Contains(st.Try, seen.Line):
		return ok("the line that ends the server is %q, as it was seen to", seen.Line)
	case st.Send == "" && len(st.Try) > 0:
		return ok("which line ends the server is found out at its stop, from: %s", words.Some(st.Try, 8))
	}
	if st.Send == "" && s.status.Running {
		return []Finding{{Level: Warn, What: "no stop line is given: the server will be ended by a signal",
			Where: s.k.Path(profile.FileName) + ", [stop] send",
			Why:   "many servers save the world only when told to stop at their console",
			Do:    "set send to the line you type to stop it"}}
	}
	return nil
}

// checkLinks reports files that a backup can't hold: it stores a link, not what
// lies behind it.
func checkLinks(_ context.Context, s *situation) (out []Finding) {
	var folders []string // in the order of their paths
	links := map[string][]tree.Entry{}
	for _, e := range s.ahead.Before {
		if e.Kind == tree.Link && s.k.LeadsOut(e) {
			dir := path.Dir(e.Path)
			if links[dir] == nil {
				folders = append(folders, dir)
			}
			links[dir] = append(links[dir], e)
		}
	}
	const why = "what lies there is neither backed up nor put back by a rollback"
	for _, dir := range folders {
		if list := links[dir]; dir != "." && len(list) > 2 { // a folder of fonts, say: one finding of them all
			var names []string
			for _, e := range list {
				names = append(names, path.Base(e.Path)+" to "+e.Target)
			}
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("%d links in %s lead outside the install: %s",
				len(list), dir, words.Some(names, 3)), Where: s.k.Path(dir), Why: why,
				Do: "move what they lead to into the install, or back it up yourself"})
			continue
		}
		for _, e := range links[dir] {
			out = append(out, Finding{Level: Warn,
				What:  fmt.Sprintf("%s is a link to %s, outside the install", e.Path, e.Target),
				Where: s.k.Path(e.Path), Why: why, Do: s.linkedAway(e)})
		}
	}
	return out
}

// linkedAway advises what to do about a link that leads out of the install.
func (s *situation) linkedAway(e tree.Entry) string {
	at := s.k.Path(e.Path)
	if fi, err := os.Stat(at); err == nil && fi.IsDir() && !strings.Contains(e.Path, "/") {
		return fmt.Sprintf(
			"if the folder belongs to this server alone: freshkeel profile set elsewhere.%s %s; else back "+
				"it up yourself",
			e.Path,
			tree.Real(at),
		)
	}
	return "move it into the install, or back it up yourself"
}

// checkEdited tells of settings, scripts and add-ons that were edited since the server last
// came up: if it does not come up with the new build, these may be why.
func checkEdited(_ context.Context, s *situation) []Finding {
	edits, read := edited.Since(s.k.Install, s.ahead.Before)
	if len(edits) == 0 {
		return nil
	}
	var list []string
	for _, e := range edits {
		list = append(list, e.String())
	}
	return []Finding{{Level: Warn,
		What: fmt.Sprintf("%s edited since the server last came up, at %s: %s", words.Were(len(edits), "file"),
			read.Local().Format("2006-01-02 15:04"), words.Some(list, 3)), Where: s.k.Dir,
		Why: "no server has read that yet: if the new build does not come up, it may be the edit and not the build, and " +
			"the old one would meet it too",
		Do: "where you are not sure of it, see the old server come up with it first: freshkeel stop; freshkeel start"}}
}

// checkSettings tells what becomes of the operator's settings: a line a file, and what has to be
// looked at.
func checkSettings(_ context.Context, s *situation) (out []Finding) {
	for _, c := range s.plan.Carried {
		if c.Unknown {
			out = append(out, ok("%s stays as you have it: %s", c.Path, c.Wrong)...)
			continue
		}
		if c.Wrong != "" {
			out = append(out, Finding{Level: Warn, What: c.Path + " stays as you have it: " + c.Wrong,
				Where: s.k.Path(c.Path), Why: "what the new build sets in it is not in yours",
				Do: "compare them once it runs, or mend the file"})
			continue
		}
		if len(c.Missing) > 0 {
			level := Warn
			if c.Stop {
				level = Stop
			}
			out = append(out, Finding{Level: level,
				What: fmt.Sprintf("%s: %s is to be the build's own number, and the source says none of %s", c.Path,
					words.Some(c.Missing, 3), s.plan.To), Where: s.k.Path(profile.FileName) + ", [carry.always]",
				Why: "the value stays as it is, and players of the new build may be sent away",
				Do:  "write {version} there, or set it by hand; a source says the number by «number»"})
		}
		sum := carriedWords(c)
		doubts := c.Doubts()
		if len(doubts) == 0 {
			out = append(out, ok("%s: %s", c.Path, sum)...)
			continue
		}
		var list []string
		for _, d := range doubts {
			list = append(list, doubtWords(d))
		}
		level := Warn
		if c.Stop {
			level = Stop
		}
		out = append(out, Finding{Level: level, What: fmt.Sprintf("%s: %s; to look at: %s", c.Path, sum,
			words.Some(list, 6)), Where: s.k.Path(c.Path),
			Why: "a value that the maker changed too, or has no more, may not mean what it did",
			Do: "preflight --all shows the whole file as it will be; [[carry]] in the profile says otherwise " +
				"(docs/profile.md); the file as it is now is in the backup"})
	}
	return out
}

// carriedWords counts what becomes of a file's values.
func carriedWords(c plan.Carry) string {
	var parts []string
	for _, f := range []settings.Fate{settings.Carried, settings.Both, settings.Set, settings.Added, settings.Removed,
		settings.Default, settings.New, settings.Dropped, settings.Lost} {
		if n := c.Count(f); n > 0 {
			w := fateWords[f]
			if n > 1 {
				w[0] = w[1]
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, w[0]))
		}
	}
	sum := strings.Join(parts, ", ")
	if sum == "" {
		sum = "nothing to carry"
	}
	if c.Unsure {
		sum += " (the old build's default is not known: whatever differs from the new one counts as yours)"
	}
	return sum
}

// fateWords are what a fate is called of one value, and of several.
var fateWords = map[settings.Fate][2]string{
	settings.Carried: {"value of yours carried over", "values of yours carried over"},
	settings.Both: {
		"value of yours kept that the maker changed too",
		"values of yours kept that the maker changed too",
	},
	settings.Set:     {"value set by the profile", "values set by the profile"},
	settings.Added:   {"key of your own kept", "keys of your own kept"},
	settings.Removed: {"key that you took out stays out", "keys that you took out stay out"},
	settings.Default: {"default that the maker changed", "defaults that the maker changed"},
	settings.New:     {"new key", "new keys"},
	settings.Dropped: {"key that the maker dropped", "keys that the maker dropped"},
	settings.Lost:    {"value for which there is no place", "values for which there is no place"},
}

// doubtWords is one value to look at.
func doubtWords(d settings.Change) string {
	switch d.Fate {
	case settings.Both:
		return fmt.Sprintf("%s = %s (the default was %s, and is %s)", d.Key, d.Mine, d.Was, d.Now)
	case settings.Dropped:
		if d.Like != "" {
			return fmt.Sprintf("%s = %s is dropped; probably it is %s now", d.Key, d.Mine, d.Like)
		}
		return fmt.Sprintf("%s = %s is dropped by the maker", d.Key, d.Mine)
	}
	return fmt.Sprintf("%s = %s has no place in the new file", d.Key, d.Mine)
}
