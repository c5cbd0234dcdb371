package check

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/launch"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"github.com/shirou/gopsutil/v4/mem"
)

// checkMemory holds the heap that the launch script gives the server against
// what the machine has, or lets this program's group of processes have.
func checkMemory(_ context.Context, s *situation) (out []Finding) {
	have, from := machineMemory()
	for _, c := range s.lines.commands {
		if have == 0 {
			continue
		}
		first, most := launch.LastFlag(c.Args, "-Xms"), launch.LastFlag(c.Args, "-Xmx")
		if c.Java() && launch.HeapBytes(most) > 0 && launch.HeapBytes(first) > launch.HeapBytes(most) {
			out = append(out, Finding{Level: Stop,
				What:  fmt.Sprintf("%s begins with more memory than %s allows", first, most),
				Where: fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text),
				Why:   "the runtime refuses to start with that",
				Do:    fmt.Sprintf("make -Xms as large as %s or smaller", most)})
			continue
		}
		for _, a := range c.Args {
			heap := launch.HeapBytes(a)
			if heap == 0 {
				continue
			}
			if heap <= have {
				if !strings.HasPrefix(a, "-Xms") {
					out = append(out, ok("%s of %s fits into %s of memory", a, c.File, words.Bytes(have))...)
				}
				continue
			}
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("%s asks for more memory than there is: %s, and %s has %s", a, words.Bytes(heap),
					from, words.Bytes(have)),
				Where: fmt.Sprintf("%s:%d: %s", c.File, c.Line, c.Text),
				Why:   "a server that fills its heap is slowed by swapping, or ended by the system",
				Do:    fmt.Sprintf("give it less than %s, so that the system keeps some", words.Bytes(have))})
		}
	}
	return out
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
		Do:  fmt.Sprintf("chmod -R o-w %s", s.k.Dir)}}
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
