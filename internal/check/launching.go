package check

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/launch"
	"freshkeel/internal/learn"
	"freshkeel/internal/logline"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

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
			Why: "the launch script runs it by this name", Do: s.whichIs(at, c.File)})
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
func (s *situation) whichIs(at, by string) string {
	if slices.ContainsFunc(s.plan.Unlined, func(l plan.Unlined) bool { return l.Unit == by }) {
		return "run the command with sudo, or by the rule that freshkeel unit --rights prints: the line of " + by +
			" is then written with the swap, and taken back with it"
	}
	if s.want.From != "" && !s.want.Over && plan.AlikeIn(s.plan.Set, at) == "" {
		return "if it is an increment, add --over: it is laid over what is installed; else " + placing(s, at)
	}
	return placing(s, at)
}

// placing advises how a file of the build gets the name that the launch script runs.
func placing(s *situation, at string) string {
	if like := plan.AlikeIn(s.plan.Set, at); like != "" {
		return fmt.Sprintf("freshkeel -d %s profile set %s %s", words.Shell(s.k.Dir), words.Shell("place."+like),
			words.Shell(at))
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
			Do: "freshkeel adopt " + words.Shell(s.k.Dir) + " while the server runs: it finds both; or set line to a " +
				"pattern of the console line that says it is ready"}}
	}
	last, err := s.k.Host().Tail(5000)
	strict := r.Strict != nil && *r.Strict
	if r.Line.Given() && r.Log == "" && err == nil && len(last) > 20 &&
		!slices.ContainsFunc(last, func(l string) bool { p, _ := r.Line.In(new(logline.Reader).Read(l)); return p != nil }) {
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

// checkAnswers looks whether a player's line could be taken for an answer of the server's: a pattern
// that does not begin where a line's own words do may match in somebody's.
func checkAnswers(_ context.Context, s *situation) (out []Finding) {
	p := s.k.Profile
	given := []struct {
		key string
		by  profile.Pattern
	}{{"backup.saved", p.Backup.Saved}, {"players.answer", p.Players.Answer}}
	for _, g := range given {
		if !g.by.Given() || strings.HasPrefix(g.by.String(), "^") {
			continue
		}
		out = append(out, Finding{Level: Warn,
			What:  fmt.Sprintf("%s, %s, may match in the middle of a line", g.key, words.Quote(g.by.String())),
			Where: s.k.Path(profile.FileName),
			Why:   "what a player says could be taken for the server's answer, where it is not seen to be chat",
			Do: fmt.Sprintf("freshkeel -d %s profile set %s %s", words.Shell(s.k.Dir), g.key,
				words.Quote("^"+s.leadOf(g.by)+g.by.String()))})
	}
	if len(out) == 0 && (p.Backup.Saved.Given() || p.Players.Answer.Given()) {
		return ok("the server's answers are told from its players' words")
	}
	return out
}

// leadOf is what stood between a line's front and a pattern in the last line that matched it, as a
// pattern; "" for nothing.
func (s *situation) leadOf(p profile.Pattern) (lead string) {
	last, _ := s.k.Host().Tail(5000)
	for _, text := range logline.Own(last) {
		l := new(logline.Reader).Read(text)
		if at := p.FindStringIndex(l.Bare); at != nil {
			lead = learn.PatternOf(l.Bare[:at[0]])
		}
	}
	return lead
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
