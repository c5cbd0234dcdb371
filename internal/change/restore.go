package change

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"freshkeel/internal/backups"
	"freshkeel/internal/data"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/putback"
	"freshkeel/internal/run"
	"freshkeel/internal/swap"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

var errSame = errors.New("nothing differs")

// IsSame tells whether a restore had nothing to do.
func IsSame(err error) bool { return errors.Is(err, errSame) }

// PlanRestore tells what a restore into the install would exchange, as things
// are now. It changes nothing.
func (k *Changer) PlanRestore(r backups.Restore) ([]swap.Step, error) {
	set, err := k.Meant(&r)
	if err != nil {
		return nil, err
	}
	p, err := k.Returner.Plan(set, putback.ForRestore(set, r.Only))
	if err != nil {
		return nil, err
	}
	return p.Steps, nil
}

// loads tells whether a restore loads data; the error is a tell.Usage where nobody said whether it is to.
func loads(k *Changer, set *locker.Set, r backups.Restore) (bool, error) {
	in := k.Outside.In(set)
	switch {
	case len(r.Only) > 0 && r.Data == backups.LoadData:
		return false, tell.Misuse("a part of a backup loads no data", "leave out --only, or --data")
	case len(r.Only) > 0 || len(in) == 0 || r.Data == backups.LeaveData:
		return false, nil
	case r.Data == "":
		return false, tell.Misuse(fmt.Sprintf("%s has a dump of %s: what was written there since %s would be undone", set.ID,
			namesOf(in), in[0].Taken.Local().Format(time.DateTime)),
			"add --data to load it, or --no-data to leave the data as it is")
	}
	return true, nil
}

func namesOf(in []data.Dumped) string {
	var names []string
	for _, d := range in {
		names = append(names, d.Name)
	}
	return strings.Join(names, ", ")
}

// Meant is the backup that a restore is of; what is chosen of it is made definite.
func (k *Changer) Meant(r *backups.Restore) (*locker.Set, error) {
	set, err := k.Shelf.ReadMeant(r.Backup)
	if err != nil {
		return nil, err
	}
	if err := k.Shelf.Told(set, r.Of); err != nil {
		return nil, err
	}
	if r.Only, err = k.Shelf.Chosen(set, r.Only); err != nil {
		return nil, err
	}
	r.Backup = set.ID
	return set, nil
}

// Restore brings a backup back: the server stops, what is there is backed up, only what differs is
// exchanged, and what is not in the backup is moved aside.
func (k *Changer) Restore(ctx context.Context, set *locker.Set, r backups.Restore) (*logbook.Entry, error) {
	inv, err := k.Inv.Head()
	if err != nil {
		return nil, err
	}
	if err := k.Srv.NoneOutside(); err != nil {
		return nil, err
	}
	if err := mayRestoreLive(k, set, r); err != nil {
		return nil, err
	}
	loading, err := loads(k, set, r)
	if err != nil {
		return nil, err
	}
	if some, err := k.Returner.Differs(ctx, set, r.Only, loading); err != nil {
		return nil, err
	} else if !some {
		return nil, errSame
	}
	e := &logbook.Entry{Kind: logbook.Restore, From: inv.Version, To: inv.Version, Target: r.Backup,
		TargetTaken: set.Taken, Only: r.Only, NoData: r.Data == backups.LeaveData}
	if len(r.Only) == 0 && !set.Partial() {
		e.To = set.Version
		since, err := k.In.Book.Since(set.Taken)
		if err != nil {
			return nil, err
		}
		if e.Relined, err = linesBack(since); err != nil {
			return nil, err
		}
	}
	t := k.begin(e)
	defer t.close()
	if r.Live {
		t.Steps = t.restore(true)
		t.E.EndRunning = false // it is neither stopped nor started
		t.E.Told = append(t.E.Told, "the server ran on: what it has of these files in its memory, it may write over "+
			"them; have the player leave first, and come back afterwards")
	}
	if err := t.Begin(); err != nil {
		return nil, err
	}
	return t.E, t.Go(ctx)
}

// mayRestoreLive refuses a restore while the server runs of anything but named files of the operator's own.
func mayRestoreLive(k *Changer, set *backups.Backup, r backups.Restore) error {
	switch {
	case !r.Live:
		return nil
	case len(r.Only) == 0:
		return tell.Misuse("--while-running is for a few files of yours, and none is named",
			"add --only PATH, a player's file say")
	case !k.In.Host().Status().Running:
		return tell.Misuse("the server does not run", "leave --while-running out")
	}
	for _, f := range set.Entries {
		if f.Kind == tree.File && r.Only.Match(f.Path) && !k.In.Profile.Server.Keep.Match(f.Path) {
			return tell.Misuse(f.Path+" is none of your own files ([server] keep): the running server may be of "+
				"another build",
				"leave --while-running out: the server is then stopped for it")
		}
	}
	return nil
}

// putBack makes files what the backup holds. It may be done again after a crash.
func (t *transaction) putBack(context.Context) (note string, err error) {
	defer func() {
		if err != nil {
			err = &run.Cause{Why: "the restore failed: " + err.Error(), Err: err}
		}
	}()
	set, err := t.target()
	if err != nil {
		return "", err
	}
	for _, f := range set.Entries {
		if !tree.Makeable(f.Path) && (len(t.E.Only) == 0 || tree.Patterns(t.E.Only).Match(f.Path)) {
			t.E.Told = append(t.E.Told, "left out, since this system can't have its name: "+f.Path)
		}
	}
	if err := t.writeLines(after); err != nil {
		return "", err
	}
	report, err := t.k.Returner.Put(t.Attempt(), set, putback.ForRestore(set, t.E.Only), t.In.Halt)
	if err != nil {
		return "", err
	}
	t.E.Told = append(t.E.Told, report.Told()...)
	if len(t.E.Only) == 0 && !t.E.NoData {
		if err := t.loadBack(set); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("%s from backup %s, %s moved aside", words.Plural(report.Restored, "file"), t.E.Target,
		words.Plural(report.Aside, "file")), nil
}

// target reads the backup that a restore goes back to.
func (t *transaction) target() (*locker.Set, error) {
	e := t.E
	if e.TargetTaken.IsZero() {
		return t.k.Shelf.Read(e.Target)
	}
	is := func(b *locker.Set) bool { return b.Taken.Equal(e.TargetTaken) }
	return t.k.Shelf.Named(e.Target, is, "taken on "+e.TargetTaken.Local().Format(time.DateTime), "")
}
