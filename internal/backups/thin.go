package backups

import (
	"fmt"
	"slices"
	"time"

	"freshkeel/internal/logbook"
	"freshkeel/internal/tell"
)

// Keeping is how many backups to keep: the newest Last, and of each of so many
// days, weeks and months the newest. All zero: what the profile says.
type Keeping struct {
	Last   int `json:"last"`
	Days   int `json:"days"`
	Weeks  int `json:"weeks"`
	Months int `json:"months"`
}

func (n Keeping) none() bool { return n == Keeping{} }

// thin decides which of all backups, oldest first, to drop; needed are those that a
// run needs, each with that run.
func (n Keeping) thin(all []*Backup, needed map[string]string) *Thinning {
	t := &Thinning{Keep: map[string]string{}}
	keep := func(b *Backup, why string) {
		if t.Keep[b.ID] == "" {
			t.Keep[b.ID] = why
		}
	}
	periods := []struct {
		left int
		name func(time.Time) string
		why  string
	}{
		{n.Days, func(at time.Time) string { return at.Format(time.DateOnly) }, "the last of its day"},
		{n.Weeks, func(at time.Time) string { y, w := at.ISOWeek(); return fmt.Sprint(y, "-", w) },
			"the last of its week"},
		{n.Months, func(at time.Time) string { return at.Format("2006-01") }, "the last of its month"},
	}
	seen := make([]map[string]bool, len(periods))
	last := n.Last
	for _, b := range slices.Backward(all) {
		switch {
		case b.Damage != "":
			keep(b, "it is damaged: look at it first")
			continue
		case needed[b.ID] != "":
			keep(b, "a rollback of "+needed[b.ID]+" needs it")
		case b.Label != "" && b.Run == "":
			keep(b, "it has a label")
		case last > 0:
			keep(b, "one of the newest")
		}
		last--
		for i := range periods {
			p := &periods[i]
			if seen[i] == nil {
				seen[i] = map[string]bool{}
			}
			if name := p.name(b.Taken.Local()); !seen[i][name] && p.left > 0 {
				seen[i][name] = true
				p.left--
				keep(b, p.why)
			}
		}
	}
	for _, b := range all {
		if t.Keep[b.ID] == "" {
			t.Drop = append(t.Drop, b)
		}
	}
	return t
}

// Thinning is what a thinning would drop, or has dropped.
type Thinning struct {
	Drop  []*Backup         `json:"drop"`
	Keep  map[string]string `json:"keep"` // backup → why
	Freed int64             `json:"freed_bytes"`
	Later bool              `json:"later,omitempty"` // something else was writing: the space is given back next time
}

// PlanThin decides which backups to drop. Kept are always those with a label of
// the operator's, and those that a rollback needs.
func (sh *Shelf) PlanThin(n Keeping) (*Thinning, error) {
	if n.none() {
		b := sh.Profile.Backup
		n = Keeping{b.Last, b.Days, b.Weeks, b.Months}
	}
	if n.none() {
		return nil, tell.Misuse("nothing says how many backups to keep",
			"freshkeel backup thin --last 5 --days 7, or set [backup] last in freshkeel.toml")
	}
	all, err := sh.List()
	if err != nil {
		return nil, err
	}
	needed, err := sh.neededBackups(all)
	if err != nil {
		return nil, err
	}
	return n.thin(all, needed), nil
}

// neededBackups are those of some that a rollback, a recovery or the newest run
// needs, each with the run that it belongs to.
func (sh *Shelf) neededBackups(of []*Backup) (map[string]string, error) {
	stack, err := sh.Book.InEffect()
	if err != nil {
		return nil, err
	}
	all, err := sh.Book.All()
	if err != nil {
		return nil, err
	}
	for i, e := range all {
		if e.Backup != "" && (e.Outcome == "" || e.Outcome == logbook.NeedsHands || i == len(all)-1) {
			stack = append(stack, e)
		}
	}
	out := map[string]string{}
	for _, e := range stack {
		for _, b := range of {
			if b.ID == e.Backup || (!e.BackupTaken.IsZero() && b.Taken.Equal(e.BackupTaken)) {
				out[b.ID] = e.ID
			}
		}
	}
	return out, nil
}
