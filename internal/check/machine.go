package check

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/launch"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"github.com/shirou/gopsutil/v4/mem"
)

// checkEnvironment looks whether the variables that the profile names are there: those that the server
// is to get, and those that hold a secret.
func checkEnvironment(_ context.Context, s *situation) (out []Finding) {
	why := "the server would start without it"
	own := ""
	if host.HasBecome() {
		own = "; a command that root runs over somebody else's install has that user's environment, and not root's"
	}
	missing := func(key, name, why, do string) {
		out = append(out, Finding{Level: Warn, What: fmt.Sprintf("%s names %s, and the environment has no such variable", key, name),
			Where: filepath.Join(s.k.Dir, profile.FileName), Why: why + own, Do: do})
	}
	for _, pattern := range s.k.Profile.Launch.Pass {
		if len(host.ServerEnv(s.k.Env, []string{pattern})) == len(host.ServerEnv(s.k.Env, nil)) && !host.Handed(pattern) {
			missing("launch.pass", pattern, why, "run the command as the server's user, with the variable set; or take it out of [launch] pass")
		}
	}
	for _, l := range s.k.Profile.Logins {
		if name, is := strings.CutPrefix(l.From, "env:"); is && !slices.ContainsFunc(s.k.Env, func(kv string) bool {
			return strings.HasPrefix(kv, name+"=") && len(kv) > len(name)+1
		}) {
			missing("login.from", name, "what "+l.Host+" asks a login for can't be fetched",
				"run the command as the server's user, with the variable set; or keep the secret in a file: from = \"file:~/…\"")
		}
	}
	if len(out) == 0 {
		return ok("the environment has each variable that the profile names")
	}
	return out
}

// checkMemory holds the heap that the launch script will give the server against what the
// machine has, or lets this program's group of processes have, less what the other adopted
// servers of this user ask for.
func checkMemory(_ context.Context, s *situation) (out []Finding) {
	have, from := machineMemory()
	others, by := s.otherHeaps()
	for _, c := range s.lines.commands {
		first, most := c.Heap()
		begins, ends := c.HeapFlags()
		where := fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text)
		switch {
		case have == 0:
		case c.Java() && most > 0 && first > most:
			out = append(out, Finding{Level: Stop,
				What:  fmt.Sprintf("%s begins with more memory than %s allows", begins, ends),
				Where: where,
				Why:   "the runtime refuses to start with that",
				Do:    fmt.Sprintf("make the first heap as large as %s or smaller", ends)})
		case max(first, most) > have:
			if first > most {
				ends = begins
			}
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("%s asks for more memory than there is: %s, and %s has %s", ends,
					words.Bytes(max(first, most)), from, words.Bytes(have)), Where: where,
				Why: "a server that fills its heap is slowed by swapping, or ended by the system",
				Do:  fmt.Sprintf("give it less than %s, so that the system keeps some", words.Bytes(have))})
		case most+others > have:
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("%s of heap here and %s of other servers are more than %s has: %s", words.Bytes(most),
					words.Bytes(others), from, words.Bytes(have)),
				Where: where + "\n" + strings.Join(by, "\n"),
				Why:   "when all of them run and fill their heaps, the system swaps, or ends one of them",
				Do:    "give one of them less ([launch] memory), or run them at other times"})
		case most > 0:
			out = append(out, ok("%s of %s fits into %s of memory", ends, c.File, words.Bytes(have))...)
		}
	}
	return out
}

// otherHeaps is what other adopted servers of this user give their runtimes, in bytes, and
// which.
func (s *situation) otherHeaps() (sum int64, by []string) {
	for _, dir := range s.k.Servers() {
		if dir == s.k.Dir {
			continue
		}
		p, err := profile.Read(dir)
		if err != nil || p.Launch.Script == "" {
			continue // it is gone, or not ours to read
		}
		commands, err := launch.Read(dir, p.Launch.Script, s.k.Env)
		if err != nil {
			continue
		}
		for _, c := range commands {
			if _, most := c.Heap(); most > 0 {
				sum += most
				by = append(by, fmt.Sprintf("%s, %s: %s", p.Server.Name, dir, words.Bytes(most)))
				break // one of them runs
			}
		}
	}
	return sum, by
}

// machineMemory is what this machine has, or what a control group lets it have
// (Linux, cgroup v2, memory.max).
func machineMemory() (have int64, from string) {
	if v, err := mem.VirtualMemory(); err == nil {
		have, from = int64(v.Total), "the machine"
	}
	if b, err := os.ReadFile("/sys/fs/cgroup/memory.max"); err == nil {
		if n, err := strconv.ParseInt(strings.TrimSpace(string(b)), 10, 64); err == nil && n < have {
			have, from = n, "its control group"
		}
	}
	return have, from
}

// checkWorld finds files and folders of the install that everybody may write.
func checkWorld(_ context.Context, s *situation) []Finding {
	if !host.HasModes {
		return nil
	}
	var open []string
	for _, e := range s.ahead.Before {
		if at := e.Path; e.Kind != tree.Link && e.Mode&0o002 != 0 && e.Mode&fs.ModeSticky == 0 {
			open = append(open, at)
		}
	}
	if len(open) == 0 {
		return ok("nothing of the install may be written by everybody")
	}
	return []Finding{{Level: Warn,
		What: fmt.Sprintf("everybody on this machine may write to %s: %s", words.Plural(len(open), "path"),
			words.Some(open, 3)), Where: s.k.Dir,
		Why: "whoever changes a program or script here runs what they like as the server's user",
		Do:  fmt.Sprintf("chmod -R o-w %s", words.Shell(s.k.Dir))}}
}

// checkClock tells of a clock that is behind the day on which the build was
// published.
func checkClock(_ context.Context, s *situation) []Finding {
	day, err := time.Parse(time.DateOnly, s.cand.Build.Date)
	if err != nil {
		return nil
	}
	if now := time.Now(); day.After(now.Add(36 * time.Hour)) {
		return []Finding{{Level: Warn,
			What: fmt.Sprintf("this machine's clock says %s, and %s is of %s", now.Format(time.DateOnly), s.plan.To,
				s.cand.Build.Date), Where: s.cand.Source,
			Why: "with a clock that is wrong, certificates and the times of backups are wrong too",
			Do:  "set the clock, if it is not the feed that is wrong"}}
	}
	return ok("the clock is past the day of the build, %s", s.cand.Build.Date)
}
