package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// BackupView is what a backup holds, and how it differs from the one before.
type BackupView struct {
	*Backup
	Before  string        `json:"before,omitempty"` // the backup that it is held against
	Added   []string      `json:"added,omitempty"`
	Removed []string      `json:"removed,omitempty"`
	Changed []string      `json:"changed,omitempty"` // in content, kind or target
	Moving  []string      `json:"moving,omitempty"`  // they changed while they were read
	Needed  string        `json:"needed_by,omitempty"`
	Entries []locker.File `json:"-"`
}

// ShowBackup reads a backup and compares it with the whole one before it. Its
// entries are kept where all are asked for.
func (k *Keel) ShowBackup(id string, all bool) (*BackupView, error) {
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	heads, err := k.Backups()
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(heads, func(b *Backup) bool { return b.ID == id })
	if at < 0 {
		return nil, tell.Advise(fmt.Errorf("%s: %w", id, locker.ErrNoSet), "freshkeel backup list")
	}
	v := &BackupView{Backup: heads[at]}
	if needed, err := k.neededBackups(heads); err == nil {
		v.Needed = needed[id]
	}
	// What the one before had, each path with a hash of all that counts as its
	// content: the entries of two backups are many to hold.
	var was map[string]tree.Sum
	for _, h := range slices.Backward(heads[:at]) {
		if v.Partial() || h.Partial() || h.Damage != "" {
			continue
		}
		was = make(map[string]tree.Sum, h.Files)
		if err := l.Each(h.Owner, h.ID, func(f *locker.File) { was[f.Path] = alike(f) }); err == nil {
			v.Before = h.ID
			break
		}
	}
	if err := l.Each(v.Owner, id, func(f *locker.File) {
		if f.Moving {
			v.Moving = append(v.Moving, f.Path)
		}
		if all {
			v.Entries = append(v.Entries, *f)
		}
		if v.Before == "" {
			return
		}
		if old, had := was[f.Path]; !had {
			v.Added = append(v.Added, f.Path)
		} else if old != alike(f) {
			v.Changed = append(v.Changed, f.Path)
		}
		delete(was, f.Path)
	}); err != nil {
		return nil, err
	}
	if v.Before != "" {
		v.Removed = slices.Sorted(maps.Keys(was))
	}
	return v, nil
}

// alike hashes what makes two entries of one path the same: kind, target, pieces.
func alike(f *locker.File) tree.Sum {
	b := append([]byte(f.Kind), 0)
	b = append(append(b, f.Target...), 0)
	for _, p := range f.Pieces {
		b = append(b, p[:]...)
	}
	return tree.SumBytes(b)
}

// CheckBackups reads backups back and compares hashes: the one given, or all of
// this install for "". A share reads a part, another each day, so that as many
// days as it has parts read everything.
func (k *Keel) CheckBackups(ctx context.Context, id string, parts int) (out *locker.Checked, err error) {
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	sets, err := k.Backups()
	if err != nil {
		return nil, err
	}
	if id != "" {
		sets = slices.DeleteFunc(sets, func(s *Backup) bool { return s.ID != id })
		if len(sets) == 0 {
			return nil, fmt.Errorf("%s: %w", id, locker.ErrNoSet)
		}
	}
	share := locker.Share{Of: uint64(max(parts, 1)), At: uint64(time.Now().Unix() / 86400)}
	_, err = k.in.Step("read back", func() (string, error) {
		out, err = l.Check(ctx, sets, share, k.in.Moves("read back"))
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s of %s, %s", words.Plural(out.Pieces, "piece"), words.Plural(out.Sets, "backup"), words.Bytes(out.Bytes)), nil
	})
	return out, err
}

// Keeping is how many backups to keep: the newest Last, and of each of so many
// days, weeks and months the newest. All zero: what the profile says.
type Keeping struct {
	Last   int `json:"last"`
	Days   int `json:"days"`
	Weeks  int `json:"weeks"`
	Months int `json:"months"`
}

func (n Keeping) none() bool { return n == Keeping{} }

// Thinning is what a thinning would drop, or has dropped.
type Thinning struct {
	Drop  []*Backup         `json:"drop"`
	Keep  map[string]string `json:"keep"` // backup → why
	Freed int64             `json:"freed_bytes"`
	Later bool              `json:"later,omitempty"` // something else was writing: the space is given back next time
}

// PlanThin decides which backups to drop. Kept are always those with a label of
// the operator's, and those that a rollback needs.
func (k *Keel) PlanThin(n Keeping) (*Thinning, error) {
	if n.none() {
		b := k.in.Profile.Backup
		n = Keeping{b.Last, b.Days, b.Weeks, b.Months}
	}
	if n.none() {
		return nil, tell.Misuse("nothing says how many backups to keep", "freshkeel backup thin --last 5 --days 7, or set [backup] last in freshkeel.toml")
	}
	all, err := k.Backups()
	if err != nil {
		return nil, err
	}
	needed, err := k.neededBackups(all)
	if err != nil {
		return nil, err
	}
	return n.thin(all, needed), nil
}

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
		{n.Weeks, func(at time.Time) string { y, w := at.ISOWeek(); return fmt.Sprint(y, "-", w) }, "the last of its week"},
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

// neededBackups are those of some that a rollback, a recovery or the newest run
// needs, each with the run that it belongs to.
func (k *Keel) neededBackups(of []*Backup) (map[string]string, error) {
	stack, err := k.inEffect()
	if err != nil {
		return nil, err
	}
	all, err := k.in.Book.All()
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

// Thin drops what PlanThin decided, and gives the space back.
func (k *Keel) Thin(ctx context.Context, n Keeping) (*Thinning, error) {
	unlock, err := k.begin(ctx, "thin")
	if err != nil {
		return nil, err
	}
	defer unlock()
	t, err := k.PlanThin(n)
	if err != nil {
		return nil, err
	}
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	id, err := k.in.Identity()
	if err != nil {
		return nil, err
	}
	_, err = k.in.Step("thin", func() (string, error) {
		for _, b := range t.Drop {
			if err := ctx.Err(); err != nil {
				return "", err
			}
			if err := l.Drop(id, b.ID); err != nil {
				return "", err
			}
			if err := k.in.Halt("dropped"); err != nil {
				return "", err
			}
		}
		t.Freed, err = l.GiveBack(ctx, k.in.Halt)
		if errors.Is(err, locker.ErrBusy) {
			t.Later, err = true, nil
			return fmt.Sprintf("%s dropped; their space is given back next time: something is being written", words.Plural(len(t.Drop), "backup")), nil
		}
		return fmt.Sprintf("%s dropped, %s given back", words.Plural(len(t.Drop), "backup"), words.Bytes(t.Freed)), err
	})
	return t, err
}

// Choice is what part of the install a backup takes: what Only matches, all for
// none, less what Leave matches.
type Choice struct {
	Only  tree.Patterns `json:"only,omitempty"`
	Leave tree.Patterns `json:"leave,omitempty"`

	Reread bool `json:"reread,omitempty"` // read again what its times prove to be unchanged
}

// takes is what the choice says of an entry; nil: it takes all.
func (c Choice) takes() func(tree.Entry) bool {
	if len(c.Only)+len(c.Leave) == 0 {
		return nil
	}
	return func(e tree.Entry) bool {
		return (len(c.Only) == 0 || c.Only.Match(e.Path)) && !c.Leave.Match(e.Path)
	}
}
