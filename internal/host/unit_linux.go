package host

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/tree"
)

// unitOf is the unit of the system's service manager that a process belongs to with all
// of its control group, and whether it is a user's own; "" for none. A unit that holds
// more than the install's own processes (a scheduler's, a terminal server's) is one only where it
// names the install: one that runs a multiplexer, in which the server is.
func unitOf(pid int, theirs []int, install string) (unit string, user bool) {
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
				own := strings.Contains(group, "/user@")
				if u, err := OpenService(path.Base(group), own, "", nil, nil, install).Unit(); err != nil || !u.Names(install) {
					return "", false
				}
				break
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

// inputOf is the named pipe that is a process's standard input; "" where it is none.
func inputOf(pid int) string {
	at, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/0", pid))
	if err != nil || !path.IsAbs(at) {
		return ""
	}
	if fi, err := os.Stat(at); err != nil || fi.Mode()&os.ModeNamedPipe == 0 {
		return ""
	}
	return at
}

// Units are the services of the machine, and of this user's own manager, that run something of an install:
// running or down, templates with their instances. What a unit says is read as its manager has it.
func Units(install string) (out []*Unit) {
	for _, own := range []bool{false, true} {
		b := &bus{user: own}
		if _, err := b.conn(); err != nil {
			continue
		}
		for _, name := range b.candidates(install) {
			u, err := OpenService(name, own, "", nil, nil, install).Unit()
			if err == nil && u.Known && u.Names(install) {
				out = append(out, u)
			}
		}
	}
	return out
}

// candidates are names of units of which a file names the install, or has a part that only its manager
// knows (%h, %i): those of files, and of links by which instances of templates are enabled.
func (b *bus) candidates(install string) (names []string) {
	dirs := []string{"/etc/systemd/system", "/run/systemd/system", "/usr/local/lib/systemd/system",
		"/usr/lib/systemd/system"}
	if b.user {
		dirs = []string{"/etc/systemd/user", "/usr/lib/systemd/user"}
		if config, err := os.UserConfigDir(); err == nil {
			dirs = append(dirs, filepath.Join(config, "systemd/user"))
		}
	}
	real := tree.Real(install)
	may := map[string]bool{} // by the file's name
	var links []string
	for _, dir := range dirs {
		files, _ := filepath.Glob(dir + "/*.service")
		for _, f := range files {
			text, err := tree.ReadUpTo(f, mostUnit)
			if err != nil {
				continue
			}
			says := string(text)
			if strings.Contains(says, install) || strings.Contains(says, real) || strings.Contains(says, "%i") ||
				strings.Contains(says, "%I") || strings.Contains(says, "%h") || strings.Contains(says, "%j") {
				may[filepath.Base(f)] = true
			}
		}
		wanted, _ := filepath.Glob(dir + "/*.wants/*@*.service")
		links = append(links, wanted...)
	}
	for name := range may {
		if !strings.Contains(name, "@.") {
			names = append(names, name)
		}
	}
	instance := func(name string) {
		before, _, _ := strings.Cut(name, "@")
		if may[before+"@.service"] && !slices.Contains(names, name) && !strings.Contains(name, "@.") {
			names = append(names, name)
		}
	}
	for _, l := range links {
		instance(filepath.Base(l))
	}
	if c, err := b.conn(); err == nil { // those that run, or ran
		ctx, cancel := context.WithTimeout(context.Background(), busLimit)
		defer cancel()
		list, _ := c.ListUnitsByPatternsContext(ctx, nil, []string{"*@*.service"})
		for _, u := range list {
			instance(u.Name)
		}
	}
	slices.Sort(names)
	return names
}
