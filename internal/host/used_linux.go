package host

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Used lists the files that some processes have open or mapped, and how, by their absolute paths; as far as the system
// lets this user see it (proc(5): fd, fdinfo, maps).
func Used(pids []int) map[string]Use {
	out := map[string]Use{}
	for _, pid := range pids {
		dir := fmt.Sprintf("/proc/%d", pid)
		list, err := os.ReadDir(dir + "/fd")
		if err != nil {
			continue
		}
		for _, d := range list {
			at, err := os.Readlink(filepath.Join(dir, "fd", d.Name()))
			if err != nil || !filepath.IsAbs(at) {
				continue
			}
			u := out[at]
			switch openedFor(filepath.Join(dir, "fdinfo", d.Name())) {
			case os.O_WRONLY:
				u.Writes = true
			case os.O_RDWR:
				u.Writes, u.Reads = true, true
			default:
				u.Reads = true
			}
			u.Says = u.Says || d.Name() == "1" || d.Name() == "2"
			out[at] = u
		}
		maps, _ := os.ReadFile(dir + "/maps")
		for line := range strings.Lines(string(maps)) {
			words := strings.Fields(line)
			i := strings.Index(line, " /")
			if len(words) < 6 || i < 0 {
				continue
			}
			at := strings.TrimSpace(line[i+1:])
			u := out[at]
			u.Runs = u.Runs || strings.Contains(words[1], "x")
			u.Writes = u.Writes || strings.HasPrefix(words[1], "rw") && strings.HasSuffix(words[1], "s")
			out[at] = u
		}
	}
	return out
}

// openedFor is the mode in which a file is open, of open(2): O_RDONLY, O_WRONLY or O_RDWR.
func openedFor(fdinfo string) int {
	b, err := os.ReadFile(fdinfo)
	if err != nil {
		return os.O_RDONLY
	}
	for line := range strings.Lines(string(b)) {
		if value, is := strings.CutPrefix(line, "flags:"); is {
			if n, err := strconv.ParseUint(strings.TrimSpace(value), 8, 64); err == nil {
				return int(n & 3)
			}
		}
	}
	return os.O_RDONLY
}
