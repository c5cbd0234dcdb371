package host

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// unitOf is the unit of the system's service manager that a process belongs to with all
// of its control group, and whether it is a user's own; "" for none. A unit that holds
// more than the install's own processes (a scheduler's, a terminal server's) is none.
func unitOf(pid int, theirs []int) (unit string, user bool) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/cgroup", pid))
	if err != nil {
		return "", false
	}
	group := unitGroup(string(b))
	if group == "" {
		return "", false
	}
	for _, root := range []string{"/sys/fs/cgroup", "/sys/fs/cgroup/systemd", "/sys/fs/cgroup/unified"} {
		b, err := os.ReadFile(filepath.Join(root, group, "cgroup.procs"))
		if err != nil {
			continue
		}
		for _, f := range strings.Fields(string(b)) {
			if n, err := strconv.Atoi(f); err != nil || !slices.Contains(theirs, n) {
				return "", false
			}
		}
		return path.Base(group), strings.Contains(group, "/user@")
	}
	return "", false
}

// unitGroup is the control group of a service in what /proc/PID/cgroup says
// (cgroups(7)): a line "0::/system.slice/x.service", or that of the hierarchy
// "name=systemd".
func unitGroup(text string) string {
	for line := range strings.Lines(text) {
		f := strings.SplitN(strings.TrimSpace(line), ":", 3)
		if len(f) == 3 && (f[1] == "" || f[1] == "name=systemd") && strings.HasSuffix(f[2], ".service") &&
			path.Clean(f[2]) == f[2] {
			return f[2]
		}
	}
	return ""
}
