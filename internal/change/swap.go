package change

import (
	"fmt"
	"slices"

	"freshkeel/internal/host"
	"freshkeel/internal/logbook"
	"freshkeel/internal/plan"
	"freshkeel/internal/swap"
	"freshkeel/internal/words"
)

// swap exchanges the files: renames, nothing else.
func (t *transaction) swap(p *plan.Plan) (string, error) {
	if err := t.writeLines(after); err != nil {
		return "", err
	}
	if err := t.Dir.Apply(t.Dir.Plan(p.Steps), t.In.Halt); err != nil {
		return "", err
	}
	return words.Plural(len(p.Steps), "exchange") + relined(t.E, after), nil
}

// unswap takes the exchange back.
func (t *transaction) unswap() (map[string]bool, error) { return reverse(t.Dir, t.In.Halt) }

// reverse undoes one exchange by renames alone, and returns the paths it knew.
func reverse(run swap.Run, halt func(string) error) (map[string]bool, error) {
	p, err := run.Read()
	if err != nil {
		return nil, err
	}
	return p.Paths(), run.Reverse(p, halt)
}

// unmove takes the renames of the run back: its own attempts at putting files back,
// then, of a rollback, the refits that it undid are done again.
func (t *transaction) unmove() (map[string]bool, error) {
	moved := map[string]bool{}
	for _, run := range slices.Backward(t.Attempts()) {
		paths, err := reverse(run, t.In.Halt)
		if err != nil {
			return nil, err
		}
		for at := range paths {
			moved[at] = true
		}
	}
	if t.E.Kind != logbook.Rollback {
		return moved, nil
	}
	p, err := t.undone()
	if err != nil {
		return nil, err
	}
	for _, e := range slices.Backward(p.Undo) {
		run := t.In.Run(e.ID)
		plan, err := run.Read()
		if err != nil {
			return nil, err
		}
		if err := run.Apply(plan, t.In.Halt); err != nil {
			return nil, err
		}
		for at := range plan.Paths() {
			moved[at] = true
		}
	}
	return moved, nil
}

// before and after are the two ends of what a run does to a service's line.
func before(l logbook.Lined) []string { return l.Was }

func after(l logbook.Lined) []string { return l.Now }

// writeLines has services run one end of what the run does to their lines. It comes before
// files move, and may be done again after a crash.
func (t *transaction) writeLines(end func(logbook.Lined) []string) error {
	for _, l := range t.E.Relined {
		if err := t.In.Halt("line"); err != nil {
			return err
		}
		sv := host.OpenService(l.Unit, l.User, "", nil, nil, t.In.Dir)
		if err := sv.Write(end(l)); err != nil {
			return err
		}
		if err := t.In.Halt("lined"); err != nil {
			return err
		}
	}
	return nil
}

// linesBack is what taking runs back, newest first, does to the lines of services.
func linesBack(undo []*logbook.Entry) (out []logbook.Lined, err error) {
	for _, e := range undo {
		for _, l := range e.Relined {
			i := slices.IndexFunc(out, func(o logbook.Lined) bool { return o.Unit == l.Unit && o.User == l.User })
			if i >= 0 {
				out[i].Now = l.Was
				continue
			}
			now, err := host.OpenService(l.Unit, l.User, "", nil, nil, "").Over()
			if err != nil {
				return nil, err
			}
			out = append(out, logbook.Lined{Unit: l.Unit, User: l.User, File: l.File, Was: now.Words, Now: l.Was})
		}
	}
	return out, nil
}

// relined tells of services whose line one end of the run says.
func relined(e *logbook.Entry, end func(logbook.Lined) []string) (told string) {
	for _, l := range e.Relined {
		if end(l) == nil {
			told += "; " + l.Unit + " has its own line again"
		} else {
			told += fmt.Sprintf("; %s has its line from %s", l.Unit, l.File)
		}
	}
	return told
}
