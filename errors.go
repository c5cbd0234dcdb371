package freshkeel

import (
	"fmt"
	"strings"

	"freshkeel/internal/run"
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

// How a run ends that did not end well.
type (
	RolledBack = run.RolledBack // the new build did not come up, and the old tree is back
	NeedsHands = run.NeedsHands // it can't be brought in order without a person; everything is kept
)
