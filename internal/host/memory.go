package host

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
)

// memoryGroup is a control group that bounds the memory of a program that runs apart (cgroups(7)): all of
// it, memory files and folders in memory too.
type memoryGroup struct {
	dir     string
	version int
}

// groupPlan is how a group for a bound is made beneath another, in either version: its folder, and the files
// that are written in it, in their order, with the number of the process last.
func groupPlan(version int, above string, pid int, most int64) (dir string, files [][2]string) {
	dir = path.Join(above, fmt.Sprintf("freshkeel-apart-%d", pid))
	bytes, number := strconv.FormatInt(most, 10), strconv.Itoa(pid)
	if version == 2 {
		return dir, [][2]string{{"memory.max", bytes}, {"memory.swap.max", "0"}, {"memory.oom.group", "1"}, {"cgroup.procs", number}}
	}
	return dir, [][2]string{{"memory.limit_in_bytes", bytes}, {"memory.memsw.limit_in_bytes", bytes}, {"cgroup.procs", number}}
}

// optional are the files of a group that a system may not have: without swap, or of an older version.
var optional = map[string]bool{"memory.swap.max": true, "memory.memsw.limit_in_bytes": true, "memory.oom.group": true}

// groupAbove is the folder beneath which a group of this process's own may stand: the group that it is in, for
// version 1, and the one above that for version 2, which holds no processes itself. text is
// /proc/self/cgroup.
func groupAbove(text, mounts string) (version int, dir string) {
	for line := range strings.Lines(text) {
		f := strings.SplitN(strings.TrimSpace(line), ":", 3)
		if len(f) != 3 {
			continue
		}
		for _, controller := range strings.Split(f[1], ",") {
			if controller == "memory" {
				return 1, path.Join(mounts, "memory", f[2])
			}
		}
		if f[0] == "0" && f[1] == "" {
			version, dir = 2, path.Join(mounts, path.Dir(path.Clean("/"+f[2])))
		}
	}
	return version, dir
}

// noGroups has memory counted where a group could be had: for tests.
var noGroups bool

// boundGroup puts a process, and all that it starts, into a group with a bound; nil where none can be had. drop
// removes it.
func boundGroup(pid int, most int64) (g *memoryGroup, drop func()) {
	nothing := func() {}
	text, err := os.ReadFile("/proc/self/cgroup")
	if err != nil || most <= 0 || noGroups {
		return nil, nothing
	}
	version, above := groupAbove(string(text), "/sys/fs/cgroup")
	if version == 0 {
		return nil, nothing
	}
	dir, files := groupPlan(version, above, pid, most)
	if os.Mkdir(dir, 0o755) != nil {
		return nil, nothing
	}
	drop = func() { os.Remove(dir) }
	for _, f := range files {
		if err := os.WriteFile(filepath.Join(dir, f[0]), []byte(f[1]), 0o644); err != nil && !optional[f[0]] {
			drop()
			return nil, nothing
		}
	}
	return &memoryGroup{dir, version}, drop
}

// killed tells whether the bound ended something of the group.
func (g *memoryGroup) killed() bool {
	if g == nil {
		return false
	}
	name := map[int]string{1: "memory.oom_control", 2: "memory.events"}[g.version]
	b, err := os.ReadFile(filepath.Join(g.dir, name))
	return err == nil && oomKills(string(b)) > 0
}

// oomKills is how often a bound ended a process, by what the group's own file says.
func oomKills(text string) (n int) {
	for line := range strings.Lines(text) {
		if f := strings.Fields(line); len(f) == 2 && f[0] == "oom_kill" {
			n, _ = strconv.Atoi(f[1])
		}
	}
	return n
}
