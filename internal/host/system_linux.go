package host

import (
	"strings"

	"freshkeel/internal/tree"
)

// These say what this system is like, so that nobody has to ask for its name.
const (
	HasModes    = true // files have an execute bit and an owner, and scripts are run by their first line
	OpenIsFree  = true // a file that a program has open can be renamed
	HasFrozen   = true // a file system can forbid a file's exchange to everybody
	KnowsLoader = true // its programs are loaded as package needs reads them
	IsWindows   = false
)

// BootID numbers the start of the machine, or of the container, that this process lives in: "" where it
// can't be told. Of a container the first process's start is what changes.
func BootID() string {
	id := strings.TrimSpace(bootID())
	stat, err := tree.ReadUpTo("/proc/1/stat", mostSaid)
	if err != nil {
		return id
	}
	_, after, _ := strings.Cut(string(stat), ") ")
	if fields := strings.Fields(after); len(fields) > 19 { // proc_pid_stat(5): (22) starttime
		id += " " + fields[19]
	}
	return id
}
