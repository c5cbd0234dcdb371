package freshkeel

import (
	"fmt"
	"strings"

	"freshkeel/internal/logbook"
	"freshkeel/internal/version"
)

// Refused says that checks stopped a run before anything was changed.
type Refused struct {
	To    string
	Stops []Finding
	Done  []string // versions of the chain that were installed before
}

func (r *Refused) Error() string {
	var what []string
	for _, f := range r.Stops {
		what = append(what, f.What)
	}
	return fmt.Sprintf("refused: %s", strings.Join(what, "; "))
}

// RolledBack says that the new build did not come up, and that the old tree is
// back (and running, where the server ran before).
type RolledBack struct {
	Kind     logbook.Kind // of the run: one that undoes or restores goes back to where it began
	Refit    string
	From, To string // the version that is back, the one that failed
	Why      string
	Lines    []string
	Told     []string // what else to know
	Done     []string // versions of the chain that were installed before
	Running  bool
	Early    bool // the new server was not started at all
	Asked    bool // by an interrupt, of a person most often
}

func (r *RolledBack) Error() string {
	return fmt.Sprintf("rolled back to %s: %s", version.OrUnknown(r.From), r.Why)
}

// NeedsHands says that Fresh Keel can't bring things in order by itself.
// Everything is kept.
type NeedsHands struct {
	What  string
	State string   // where things stand
	Do    []string // exact commands, in order
	Lines []string // console lines that tell why
}

func (n *NeedsHands) Error() string { return n.What }
