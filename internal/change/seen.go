package change

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/needs"
	"freshkeel/internal/plan"
	"freshkeel/internal/run"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// seenToRun holds what the new processes have open against what was swapped in: lines of
// a console may be said by anything. A runtime keeps its jar open, and a native program
// is what a process runs; a script that is read and closed can't be seen so. What can't
// be seen is told as that. The error says that the server which came up is another build's.
func (t *transaction) seenToRun(p *plan.Plan) error {
	used, visible := host.Using(t.In.Host().Status().Processes)
	if other := ofAnother(t, used); other != "" {
		return &run.Cause{Why: other}
	}
	var brought []string
	for _, at := range t.k.Planner.Runs() {
		if p.Exchanges(at) {
			brought = append(brought, at)
		}
	}
	real := tree.Real(t.In.Dir)
	for _, at := range brought {
		full := filepath.Join(real, filepath.FromSlash(at))
		switch {
		case !visible:
			t.E.Told = append(t.E.Told, "which files the server's processes run can't be seen from here: "+at+
				" is known to be new by its name alone")
		case slices.Contains(used, full):
			t.E.Told = append(t.E.Told, "the server's processes were seen to run the new "+at)
		case staysOpen(t.In, at):
			t.E.Told = append(t.E.Told, "no process of the server has "+at+" open: look whether it runs the new build")
		}
	}
	t.E.Told = append(append(t.E.Told, heldBack(p, t.E.Backup)...), heldByProfile(p)...)
	return nil
}

// ofAnother finds programs of the install that the new processes run, where none of them is the build's,
// and the build has one of that name or kind: then the old server came up, beside new files.
func ofAnother(t *transaction, used []string) string {
	var run []string
	for _, full := range used {
		if at := tree.Rel(tree.Real(t.In.Dir), full); at != "" && tree.Local(at) && staysOpen(t.In, at) {
			run = append(run, at)
		}
	}
	if len(run) == 0 {
		return ""
	}
	s, err := inventory.Open(filepath.Join(t.Dir.Dir, inventoryAfter))
	if err != nil {
		return ""
	}
	defer s.Close()
	theirs := ""
	for o := s.Next(); o != nil; o = s.Next() {
		if slices.Contains(run, o.Path) {
			return ""
		}
		if slices.ContainsFunc(run, func(at string) bool {
			return plan.Versionless(path.Base(at)) == plan.Versionless(path.Base(o.Path)) ||
				(theirs == "" && strings.HasSuffix(at, ".jar") && strings.HasSuffix(o.Path, ".jar"))
		}) {
			theirs = o.Path
		}
	}
	if theirs == "" || s.Err() != nil {
		return ""
	}
	return fmt.Sprintf("the server that came up runs %s, which is not of the new build: nobody runs the build's own %s",
		words.Some(run, 3), theirs)
}

// staysOpen tells whether a process that runs a file has it open as long as it runs.
func staysOpen(in *install.Install, at string) bool {
	if strings.HasSuffix(at, ".jar") {
		return true
	}
	f, err := in.Open(at)
	if err != nil {
		return false
	}
	defer f.Close()
	_, native := needs.ReadProgram(f)
	return native
}
