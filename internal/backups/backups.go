// Package backups is the backups of one install: to list, show, check, thin, export and
// lay them out elsewhere, and their copy in a second place. Backups of another machine,
// or of a copy, are read through a Shelf too: see Away.
package backups

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"freshkeel/internal/acquire"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/locker/mirror"
	"freshkeel/internal/logbook"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Shelf is one install's backups, in one locker.
type Shelf struct {
	*install.Install
	acq *acquire.Acquirer
	res *resolve.Resolver

	copy *mirror.Copy   // of a copy that is read: itself,
	here *locker.Locker // and the locker of this machine that it is a copy of; nil: not known
}

// New is the shelf of an install.
func New(in *install.Install, acq *acquire.Acquirer, res *resolve.Resolver) *Shelf {
	return &Shelf{Install: in, acq: acq, res: res}
}

// Backup is a stored backup, without its entries.
type Backup = locker.Set

// List lists the install's backups, oldest first.
func (sh *Shelf) List() ([]*Backup, error) {
	l, err := sh.Locker()
	if err != nil {
		return nil, err
	}
	id, err := sh.Identity()
	if err != nil {
		return nil, err
	}
	return l.Heads(id)
}

// Read reads a backup of the install by its number; one that is not there gives
// locker.ErrNoSet.
func (sh *Shelf) Read(id string) (*locker.Set, error) {
	l, err := sh.Locker()
	if err != nil {
		return nil, err
	}
	owner, err := sh.Identity()
	if err != nil {
		return nil, err
	}
	return l.Read(owner, id)
}

// Meant is the number of the backup that a person names: by that number, by its label, or by a time: a day, a
// minute, «yesterday», «last» or «last-good». A time means a backup of this folder alone, where the list has those
// of the folder that it was copied from.
func (sh *Shelf) Meant(name string) (id string, err error) {
	heads, err := sh.List()
	if err != nil {
		return "", err
	}
	if id, said, err := sh.byTime(name, heads); said {
		return id, err
	}
	var labelled, labels []string
	for _, h := range heads {
		switch {
		case h.ID == name:
			return name, nil
		case strings.EqualFold(h.Label, name):
			labelled = append(labelled, h.ID)
		case h.Label != "":
			labels = append(labels, h.Label)
		}
	}
	switch len(labelled) {
	case 1:
		return labelled[0], nil
	case 0:
		do := "freshkeel backup list"
		if near := words.Near(name, labels); near != "" {
			do = fmt.Sprintf("did you mean the label %s? else: %s", words.Quote(near), do)
		}
		return "", tell.Advise(fmt.Errorf("%s: %w", name, locker.ErrNoSet), do)
	}
	return "", tell.Misuse(
		fmt.Sprintf("%s have the label %s: %s", words.Plural(len(labelled), "backup"), words.Quote(name),
			strings.Join(labelled, ", ")),
		"name one by its number; when each was taken: freshkeel backup list",
	)
}

// ReadMeant reads the backup that a person names: see Meant.
func (sh *Shelf) ReadMeant(name string) (*locker.Set, error) {
	id, err := sh.Meant(name)
	if err != nil {
		return nil, err
	}
	return sh.Read(id)
}

// Of reads the backup that a run took. A number alone does not tell it: the
// same install may have been backed up into another locker too, by another user.
func (sh *Shelf) Of(e *logbook.Entry) (*locker.Set, error) {
	is := func(b *locker.Set) bool { return b.Run == e.ID && b.Taken.Equal(e.BackupTaken) }
	if e.BackupTaken.IsZero() { // of version 0.1, which noted the number alone
		is = func(b *locker.Set) bool {
			return b.Run == e.ID && !b.Taken.Before(e.Started) && (e.Ended.IsZero() || !b.Taken.After(e.Ended))
		}
	}
	return sh.Named(e.Backup, is, "taken for "+e.ID+" on "+e.Started.Local().Format(time.DateTime), e.Locker)
}

// HeadOf is backupOf without the entries, which are many.
func (sh *Shelf) HeadOf(e *logbook.Entry) (*locker.Set, error) {
	heads, err := sh.List()
	if err != nil {
		return nil, err
	}
	for _, b := range heads {
		if b.Run == e.ID && b.Taken.Equal(e.BackupTaken) {
			return b, nil
		}
	}
	return nil, fmt.Errorf("%s: %w", e.Backup, locker.ErrNoSet)
}

// Named reads a backup by its number, held to what it must be; under another
// number where it was brought here from another locker. what and where tell of it.
func (sh *Shelf) Named(id string, is func(*locker.Set) bool, what, where string) (*locker.Set, error) {
	set, err := sh.Read(id)
	if err == nil && is(set) {
		return set, nil
	}
	if err != nil && !errors.Is(err, locker.ErrNoSet) {
		return nil, err
	}
	heads, herr := sh.List()
	if herr != nil {
		return nil, herr
	}
	for _, b := range heads {
		if b.Damage == "" && is(b) {
			return sh.Read(b.ID)
		}
	}
	l, lerr := sh.Locker()
	if lerr != nil {
		return nil, lerr
	}
	why := fmt.Sprintf("backup %s, %s, is not in this locker, %s", id, what, l.Dir())
	if err == nil {
		why = fmt.Sprintf("the backup %s in this locker, %s, is another one than the %s that was %s", id, l.Dir(), id,
			what)
	}
	do := "look for the locker of the user who took it, root's say: ~root/.local/state/freshkeel/locker; then, " +
		"with a copy of it that you may read: freshkeel backup bring --from COPY"
	if where != "" && where != l.Dir() {
		why += "; it was put into " + where
		do = fmt.Sprintf("make a copy of %s that you may read, and: freshkeel backup bring --from COPY", where)
	}
	return nil, tell.Advise(errors.New(why), do)
}

// Last indexes the newest backup, as what the next one need not read.
func (sh *Shelf) Last() (*locker.Base, error) {
	return sh.last((*locker.Locker).Base)
}

// Glance is Last for whoever only goes through it once.
func (sh *Shelf) Glance() (*locker.Base, error) {
	return sh.last((*locker.Locker).Look)
}

func (sh *Shelf) last(open func(l *locker.Locker, owner, id string) (*locker.Base, error)) (*locker.Base, error) {
	l, err := sh.Locker()
	if err != nil {
		return nil, err
	}
	id, err := sh.Identity()
	if err != nil {
		return nil, err
	}
	heads, err := l.Heads(id)
	if err != nil {
		return nil, err
	}
	for i := len(heads) - 1; i >= 0; i-- {
		if heads[i].Partial() {
			continue
		}
		base, err := open(l, id, heads[i].ID)
		if err == nil {
			return base, nil
		}
		// Damage there must not keep a new backup from being made.
		sh.Warn("backup %s can't be read: %v", heads[i].ID, err)
	}
	return nil, nil
}

// Doubt tells of damage in the backup that a pass leant on.
func (sh *Shelf) Doubt(t *locker.Taken) {
	if t.Doubt != nil {
		sh.Warn("the last backup can't be read to its end (%v): the files behind that were read again", t.Doubt)
	}
}

// Publish makes a finished pass a backup of the install: set, which says of what
// version it is and what it was taken for.
func (sh *Shelf) Publish(w *locker.Writer, taken *locker.Taken, set *locker.Set) error {
	id, err := sh.Identity()
	if err != nil {
		return err
	}
	set.Owner, set.Server, set.Root, set.Taken, set.Skipped = id, sh.Profile.Server.Name, sh.Dir, time.Now().Round(0),
		sh.Profile.Server.Skip
	taken.Fill(set)
	return w.Publish(set)
}

// Choice is what part of the install a backup takes: what Only matches, all for
// none, less what Leave matches.
type Choice struct {
	Only  tree.Patterns `json:"only,omitempty"`
	Leave tree.Patterns `json:"leave,omitempty"`

	Reread bool `json:"reread,omitempty"` // read again what its times prove to be unchanged
}

// Takes is what the choice says of an entry; nil: it takes all.
func (c Choice) Takes() func(tree.Entry) bool {
	if len(c.Only)+len(c.Leave) == 0 {
		return nil
	}
	return func(e tree.Entry) bool {
		return (len(c.Only) == 0 || c.Only.Match(e.Path)) && !c.Leave.Match(e.Path)
	}
}

// TellLinks names what a backup has as a link alone: what lies behind one that leads
// out of the install is not in it.
func (sh *Shelf) TellLinks(t *locker.Taken) {
	for _, f := range t.Entries {
		if f.Kind == tree.Link && sh.LeadsOut(f.Entry) {
			sh.Warn("%s is a link to %s, outside the install: what lies there is not in this backup", f.Path, f.Target)
		}
	}
}
