package freshkeel

import (
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
)

// Makers name a file after its version, and launch scripts run it by one name. A build
// that is laid beside what the script runs would change nothing: the commonest mistake.

// seenToRun holds what the new processes have open against what was swapped in: lines of
// a console may be said by anything. A runtime keeps its jar open, and a native program
// is what a process runs; a script that is read and closed can't be seen so. What can't
// be seen is told as that.
func (t *transaction) seenToRun(p *Plan) {
	var brought []string
	for _, at := range t.k.planner.Runs() {
		if f, ok := p.Files[at]; ok && f.Kind == tree.File {
			brought = append(brought, at)
		}
	}
	if len(brought) == 0 {
		return
	}
	used, visible := host.Using(t.k.in.RunDir().Status().Processes)
	real := tree.Real(t.k.in.Dir)
	for _, at := range brought {
		full := filepath.Join(real, filepath.FromSlash(at))
		switch {
		case !visible:
			t.e.Told = append(t.e.Told, "which files the server's processes run can't be seen from here: "+at+" is known to be new by its name alone")
		case slices.Contains(used, full):
			t.e.Told = append(t.e.Told, "the server's processes were seen to run the new "+at)
		case t.staysOpen(at):
			t.e.Told = append(t.e.Told, "no process of the server has "+at+" open: look whether it runs the new build")
		}
	}
}

// staysOpen tells whether a process that runs a file has it open as long as it runs.
func (t *transaction) staysOpen(at string) bool {
	if strings.HasSuffix(at, ".jar") {
		return true
	}
	f, err := t.k.in.Open(at)
	if err != nil {
		return false
	}
	defer f.Close()
	_, native := needs.ReadProgram(f)
	return native
}
