package freshkeel

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/edited"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/putback"
	"freshkeel/internal/server"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// goBack undoes what the transaction did to the files, as far as it got, until
// the install is byte for byte what the backup holds (P3), and brings the old
// server up where one ran. It may be called again after a crash at any point.
func (t *transaction) goBack(why string, lines []string) error {
	t.e.Why, t.e.Lines = why, lines
	t.early = t.e.Phase == logbook.Swapping || t.e.Phase == logbook.Migrating
	stuck := func(err error) error { return t.stuck("going back", err) }
	// A disk too full for the logbook must not keep renames from going back:
	// from the phase before, recover leads to the same place.
	if err := mixes(t); err != nil {
		t.k.in.Warn("%v", err)
	}
	t.e.Intact = (t.e.Intact || untouched(t)) && !ranMixed(t)
	t.e.Phase = logbook.RollingBack
	if err := t.k.in.Book.Save(t.e); err != nil {
		t.k.in.Warn("%v", err)
	}
	if err := t.k.in.Halt("phase:rolling-back"); err != nil {
		return stuck(err)
	}
	if t.k.in.Host().Status().Running {
		if t.files {
			return stuck(errors.New("the server runs"))
		}
		if err := t.step("stop new server", func() (string, error) {
			exit, err := t.k.srv.HalfStop()
			if exit == nil {
				return "it had ended", err
			}
			return exit.Status, err
		}); err != nil {
			return stuck(err)
		}
	}
	err := t.step("roll back", func() (string, error) {
		if err := writeLines(t, before); err != nil {
			return "", err
		}
		swapped, err := reverse(t.dir, t.k.in.Halt)
		if err != nil {
			return "", err
		}
		back, err := t.toBackup(swapped)
		if err != nil {
			return "", err
		}
		t.e.Told = append(t.e.Told, back.Told()...)
		if !t.e.Intact {
			if err := t.loadBack(back.Set); err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("%s put back by renames, %s from backup %s%s", words.Plural(len(swapped), "path"),
			words.Plural(back.Restored, "file"), t.e.Backup, relined(t.e, before)), nil
	})
	if err != nil {
		return stuck(err)
	}
	if err := t.enter(logbook.Returning); err != nil {
		return stuck(err)
	}
	if t.files {
		return nil
	}
	return t.returned()
}

// ranMixed tells of a server that somebody, or a boot, started while its files may have been of two
// builds. What it wrote since is moved aside by going back, and not lost.
func ranMixed(t *transaction) (ran bool) {
	if t.e.Mixed.IsZero() || t.e.Spawned.After(t.e.Mixed) || len(t.e.Migrations) > 0 { // which may need parts up
		return false
	}
	st := t.k.in.Host().Status()
	when := st.Since
	if !st.Running && st.Last != nil {
		when = st.Last.Began
	}
	if st.Silent || !when.After(t.e.Mixed) {
		return false
	}
	told := fmt.Sprintf("the server was started %s at %s, while its files were of two builds: what it wrote since is not in "+
		"place any more, and is kept below %s", st.How(), when.Format("15:04:05"), t.dir.Dir)
	if !slices.Contains(t.e.Told, told) {
		t.e.Told = append(t.e.Told, told)
		t.k.in.Warn("%s", told)
	}
	return true
}

// untouched tells whether nothing but this run can have changed data outside since the backup: neither the
// new build nor a migration ever ran, and nobody can have started a server unseen.
func untouched(t *transaction) bool {
	byCommands := slices.ContainsFunc(t.k.in.Parts(), func(part *install.Install) bool {
		return !part.Outside() && part.Profile.Host.Kind == profile.ByCommands
	})
	return t.e.Phase == logbook.Swapping && len(t.e.Migrations) == 0 && !(byCommands && rebooted(t))
}

// reverse undoes one exchange by renames alone, and returns the paths it knew.
func reverse(run swap.Run, halt func(string) error) (map[string]bool, error) {
	p, err := run.Read()
	if err != nil {
		return nil, err
	}
	return p.Paths(), run.Reverse(p, halt)
}

// toBackup makes the whole install, skip aside, what the transaction's backup
// holds; of one whose other parts ran on, the files of those that did not. trusted are paths
// that renames have just brought back.
func (t *transaction) toBackup(trusted map[string]bool) (*putback.Report, error) {
	set, err := t.k.shelf.Of(t.e)
	if err != nil {
		return nil, err
	}
	return t.k.returner.Put(t.attempt(), set, putback.AllOf(set, trusted), t.k.in.Halt)
}

// returned ends a rolled-back transaction: its files are in place.
func (t *transaction) returned() error {
	if t.e.WasRunning {
		if err := t.comeBack(t.e.From); err != nil {
			return err
		}
	} else if t.k.in.Host().Status().Running && !rebooted(t) { // else it is the boot's to start it
		if _, _, err := t.k.srv.Stop(context.Background()); err != nil {
			return t.stuck("going back", err)
		}
	}
	t.dropStaging()
	if err := t.finish(logbook.RolledBack); err != nil {
		return t.stuck("going back", err)
	}
	return &RolledBack{Kind: t.e.Kind, Refit: t.e.ID, From: t.e.From, To: t.e.To, Why: t.e.Why, Lines: t.e.Lines,
		Told: t.e.Told, Running: t.e.WasRunning, Early: t.early, Asked: t.e.Why == server.WhyInterrupted}
}

// attempt is a fresh folder for one attempt at putting files back: each begins
// with a look at what is there, so an earlier one's plan is of no use to it.
func (t *transaction) attempt() swap.Run {
	old := attempts(t.k.in, t.e.ID)
	for _, run := range old { // what they laid out is laid out anew, and takes room meanwhile
		run.DropStaging()
	}
	run := t.k.in.Run(t.e.ID)
	run.Dir = filepath.Join(run.Dir, fmt.Sprintf("back-%d", len(old)+1))
	return run
}

// loadBack loads the data outside the install back from a backup.
func (t *transaction) loadBack(set *locker.Set) error {
	if len(t.k.in.Profile.Data) == 0 {
		return nil
	}
	loaded, err := t.k.outside.Load(context.Background(), set)
	if len(loaded) > 0 {
		t.e.Told = append(t.e.Told, fmt.Sprintf("loaded back from backup %s: %s", set.ID, strings.Join(loaded, ", ")))
	}
	return err
}

// A rollback or a restore that does not end well goes back to where it began: the
// server that was stopped for it ran a minute ago, with the files that its own
// backup holds.

// notUp says that the server does not come up with what was put back.
type notUp struct {
	hands *NeedsHands
	v     *Verdict
}

func (n *notUp) Error() string { return n.hands.What }

// reverts tells whether the run can go back to where it began.
func (t *transaction) reverts() bool {
	return t.e.Kind != logbook.Refit && !t.e.Reverted && t.e.Phase == logbook.Returning && t.e.WasRunning &&
		t.e.Backup != ""
}

// revert makes the install what it was when the run stopped the server, and brings
// that server up again. Each step may be done again after a crash.
func (t *transaction) revert(why string, lines []string) error {
	stuck := func(err error) error { return t.stuck("going back to where it began", err) }
	t.e.Why, t.e.Lines = why, lines
	// A disk too full for the logbook must not keep renames from going back.
	if err := mixes(t); err != nil {
		t.k.in.Warn("%v", err)
	}
	ranMixed(t)
	t.e.Phase = logbook.Reverting
	if err := t.k.in.Book.Save(t.e); err != nil {
		t.k.in.Warn("%v", err)
	}
	if err := t.k.in.Halt("phase:reverting"); err != nil {
		return stuck(err)
	}
	if t.k.in.Host().Status().Running {
		if t.files {
			return stuck(errors.New("the server runs"))
		}
		if _, err := t.k.srv.HalfStop(); err != nil {
			return stuck(err)
		}
	}
	err := t.step("undo", func() (string, error) {
		if err := writeLines(t, before); err != nil {
			return "", err
		}
		moved, err := t.unmove()
		if err != nil {
			return "", err
		}
		back, err := t.toBackup(moved)
		if err != nil {
			return "", err
		}
		t.e.Told = append(t.e.Told, back.Told()...)
		if t.e.World || (t.e.Kind == logbook.Restore && len(t.e.Only) == 0 && !t.e.NoData) {
			if err := t.loadBack(back.Set); err != nil {
				return "", err
			}
		}
		return fmt.Sprintf("%s moved back by renames, %s from backup %s", words.Plural(len(moved), "path"),
			words.Plural(back.Restored, "file"), t.e.Backup), nil
	})
	if err != nil {
		return stuck(err)
	}
	if inv := keptBefore(t.dir); inv != "" {
		if err := t.takeInventory(t.dir, inv); err != nil {
			return stuck(err)
		}
	}
	t.e.Reverted = true
	if err := t.enter(logbook.Returning); err != nil {
		return stuck(err)
	}
	if t.files {
		return nil
	}
	return t.returned()
}

// unmove takes the renames of the run back: its own attempts at putting files back,
// then, of a rollback, the refits that it undid are done again.
func (t *transaction) unmove() (map[string]bool, error) {
	moved := map[string]bool{}
	for _, run := range slices.Backward(attempts(t.k.in, t.e.ID)) {
		paths, err := reverse(run, t.k.in.Halt)
		if err != nil {
			return nil, err
		}
		for at := range paths {
			moved[at] = true
		}
	}
	if t.e.Kind != logbook.Rollback {
		return moved, nil
	}
	p, err := t.undone()
	if err != nil {
		return nil, err
	}
	for _, e := range slices.Backward(p.Undo) {
		run := t.k.in.Run(e.ID)
		plan, err := run.Read()
		if err != nil {
			return nil, err
		}
		if err := run.Apply(plan, t.k.in.Halt); err != nil {
			return nil, err
		}
		for at := range plan.Paths() {
			moved[at] = true
		}
	}
	return moved, nil
}

// inventoryBefore is the inventory as it was when the run began, inventoryAfter as it is
// to be.
const (
	inventoryBefore = "inventory-before.json"
	inventoryAfter  = "inventory-after.json"
)

// keepInventory notes the inventory that holds now, for a way back.
func (t *transaction) keepInventory() error {
	s, err := t.k.inv.Scan()
	if err != nil {
		return err
	}
	defer s.Close()
	return s.CopyTo(filepath.Join(t.dir.Dir, inventoryBefore), nil)
}

// keptBefore names the inventory that was kept; "" where a version of before kept none.
func keptBefore(run swap.Run) string {
	if _, _, err := tree.Describe(filepath.Join(run.Dir, inventoryBefore), ""); errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	return inventoryBefore
}

// helps are the commands that may get the server up again, most hopeful first: what
// was edited since the server that ran had been started was never tried.
func (t *transaction) helps() (out []string) {
	set, err := t.k.shelf.Of(t.e)
	if err != nil || t.e.RanSince.IsZero() {
		return nil
	}
	heads, err := t.k.shelf.List()
	if err != nil {
		return nil
	}
	since, read := t.e.RanSince.UnixNano(), edited.Known(t.k.in)
	for _, f := range set.Entries {
		if f.Kind != tree.File || f.Mtime <= since || !t.k.in.Profile.ByHand(f.Path) || read(f.Entry, f.Sum) {
			continue
		}
		for _, b := range slices.Backward(heads) {
			if b.ID == set.ID || b.Damage != "" || b.Taken.After(set.Taken) {
				continue
			}
			old, err := t.k.shelf.Read(b.ID)
			if err != nil {
				continue
			}
			if o := old.Find(f.Path); o != nil && o.Mtime <= since && !o.SameContent(&f) && !sameValues(t.k, o, &f) {
				out = append(
					out,
					fmt.Sprintf("freshkeel backup restore %s --only '%s' (it was edited after the last good "+
						"start), then: freshkeel start", b.ID, f.Path),
				)
				break
			}
		}
	}
	return out
}

// hopeful are the commands that may get the server up again: first what its console speaks of, then what was edited,
// then the world as it was in the backup before.
func hopeful(t *transaction, lines []string) []string {
	edits, world := t.helps(), worldOffer(t.k, t.e.BackupTaken)
	if world == "" {
		return edits
	}
	if len(worldIn(t.k.in, lines)) > 0 {
		return append([]string{world}, edits...)
	}
	return append(edits, world)
}

// WorldOffer is the command that puts the world of the newest backup back, for a server that does not come up; "" for
// none.
func WorldOffer(k *Keel) string { return worldOffer(k, time.Now()) }

// worldOffer is the command that puts the world of the newest backup before a moment back, with what that costs; ""
// where there is none.
func worldOffer(k *Keel, before time.Time) string {
	heads, err := k.shelf.List()
	if err != nil || len(k.Profile.Server.Keep) == 0 {
		return ""
	}
	for _, b := range slices.Backward(heads) {
		if b.Damage != "" || b.Partial() || !k.in.Mine(b) || !b.Taken.Before(before) {
			continue
		}
		set, err := k.shelf.Read(b.ID)
		if err != nil {
			continue
		}
		only := onlyWorld(k.in, set)
		if only == "" {
			continue
		}
		return fmt.Sprintf("freshkeel backup restore %s%s (if the world is what it can't read: as it was %s ago, on %s; "+
			"what was played since is lost), then: freshkeel start", b.ID, only, words.Age(time.Since(b.Taken)),
			b.Taken.Local().Format("2006-01-02 15:04"))
	}
	return ""
}

// onlyWorld are the options of a restore that take the operator's own files of a backup: the patterns that match
// something in it, since one that matches nothing is refused.
func onlyWorld(in *install.Install, set *locker.Set) (options string) {
	for _, pat := range in.Profile.Server.Keep {
		of := tree.Patterns{pat}
		if slices.ContainsFunc(set.Entries, func(f locker.File) bool { return of.Match(f.Path) }) {
			options += " --only " + words.Shell(pat)
		}
	}
	return options
}

// sameValues tells whether two files of settings say the same, whatever the server wrote anew in them.
func sameValues(k *Keel, a, b *locker.File) bool {
	l, err := k.in.Locker()
	if err != nil || max(a.Size, b.Size) > 1<<20 {
		return false
	}
	var texts [2]bytes.Buffer
	for i, f := range []*locker.File{a, b} {
		if err := l.Copy(&texts[i], *f); err != nil {
			return false
		}
	}
	return edited.SaysTheSame(a.Path, texts[0].Bytes(), texts[1].Bytes())
}

// worldIn finds the operator's own files that console lines name: what a version
// says of a file that it can't read.
func worldIn(in *install.Install, lines []string) (out []string) {
	list, err := tree.Walk(in.Dir, in.Profile.Server.Skip)
	if err != nil {
		return nil
	}
	said := map[string]bool{}
	for _, l := range lines {
		for _, word := range words.PathLike.FindAllString(l, -1) {
			said[strings.Trim(word, ".")] = true
			said[path.Base(word)] = true
		}
	}
	for _, e := range list {
		if e.Kind == tree.File && in.Profile.Server.Keep.Match(e.Path) && (said[e.Path] || said[path.Base(e.Path)]) {
			out = append(out, e.Path)
		}
	}
	return out
}

// wontRun is how a rollback or restore ends whose server does not come up: all goes
// back to where it began, and what would help is told.
func (t *transaction) wontRun(n *notUp) error {
	lines := n.v.Lines
	if tail, err := t.k.in.Host().Tail(40); err == nil && len(worldIn(t.k.in, lines)) == 0 {
		lines = append(slices.Clone(lines), tail...)
	}
	world := worldIn(t.k.in, lines)
	to := cmp.Or(t.e.To, "the version before")
	t.e.Told = nil // notes about a state that is undone now
	if t.e.Kind == logbook.Rollback && !t.e.World {
		if len(world) > 0 {
			t.e.Told = append(t.e.Told, fmt.Sprintf("%s can't read %s as the newer version left it", to,
				strings.Join(world, ", ")))
		}
		then := "then"
		if target, err := t.k.in.Book.Get(t.e.Target); err != nil {
			t.k.in.Note("%v", err)
		} else if set, err := t.k.shelf.Of(target); err == nil {
			then = fmt.Sprintf("on %s, %s ago, without what was played since",
				set.Taken.Local().Format("2006-01-02 15:04"),
				words.Age(time.Since(set.Taken)))
		}
		t.e.Told = append(t.e.Told, fmt.Sprintf("to go back with the world as it was %s: freshkeel rollback %s "+
			"--world", then,
			t.e.Target))
	}
	return t.revert(fmt.Sprintf("%s did not come up with what was put back: %s", to, n.v.Why), n.v.Lines)
}
