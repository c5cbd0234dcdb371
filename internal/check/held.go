package check

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/learn"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/watch"
	"freshkeel/internal/words"
)

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
	if stop := allHeld(s); stop != nil {
		return append(out, *stop)
	}
	if programs := s.plan.OldPrograms; len(programs) > 0 {
		out = append(out, Finding{Level: Stop,
			What: fmt.Sprintf("held back by your profile, and programs that people do not write: %s",
				words.Some(programs, 6)),
			Where: s.k.Path(profile.FileName) + ", [server] " + s.ownBy(programs[0]),
			Why:   "what is laid beside them is of another version than they are",
			Do: "if nobody changed them, take that pattern out: freshkeel profile set --drop " + patternBy(s,
				programs[0])})
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

// allHeld finds a build or a layer of which nothing would be laid: the profile holds all of it back.
func allHeld(s *situation) *Finding {
	if len(s.plan.Differs) == 0 {
		return nil
	}
	whose := []string{""}
	for _, l := range s.fetched.Layers {
		whose = append(whose, l.Layer)
	}
	for _, layer := range whose {
		held, all := s.plan.Held(layer)
		if held == 0 || (held < all && !(s.plan.Nothing() && layer == "")) {
			continue
		}
		return &Finding{Level: Stop,
			What: fmt.Sprintf("nothing of %s would be laid: %s of %d held back by your profile: %s", plan.Whose(layer),
				words.Is(held, "file"), all, words.Some(s.plan.Differs, 6)),
			Where: s.k.Path(profile.FileName) + ", [server] " + s.ownBy(strings.TrimSuffix(s.plan.Differs[0],
				" (not there)")),
			Why: "the server would go on with the old ones",
			Do: "if nobody changed them, take that pattern out: freshkeel profile set --drop " +
				patternBy(s, strings.TrimSuffix(s.plan.Differs[0], " (not there)"))}
	}
	return nil
}

// patternBy is the key and the pattern of the profile by which a path is the operator's own, as words of a command.
func patternBy(s *situation, at string) string {
	if pat := s.k.Profile.Server.Keep.Which(at); pat != "" {
		return "server.keep " + words.Shell(pat)
	}
	return "server.settings " + words.Shell(s.k.Profile.Server.Settings.Which(at))
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
