package backups

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/locker/mirror"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/store"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// AwayWant says which copy is to be read.
type AwayWant struct {
	From     string // a folder or an address; "": the copy that the profile names
	Identity string // path of a file with an age identity, where the copy is encrypted
	Server   string // whose backups: a server's name or its identity; "": this install's, or the only one's
}

// Away opens a copy of backups for reading: what Backups, ShowBackup, CheckBackups,
// ExportBackup and Restore into another folder then work on. here is the install
// that asks, nil where there is none, as on a fresh machine. done lets go of what
// was brought here meanwhile.
func Away(ctx context.Context, o install.Options, here *Shelf, w AwayWant) (*Shelf, func(), error) {
	var logins []profile.Login
	at := where{to: w.From, identity: w.Identity, typed: w.From != ""}
	dir := ""
	if here != nil {
		logins, dir = here.Profile.Logins, here.Dir
		if at.to == "" {
			at.to = here.Profile.Copy.To
		}
	}
	if at.to == "" {
		return nil, nil, errNoCopy
	}
	if full, err := filepath.Abs(at.to); at.typed && !store.IsAddress(at.to) && err == nil {
		for _, dir := range []string{full, filepath.Join(full, "locker")} { // or the home that it stands in
			if l, ok := locker.OpenOther(dir); ok {
				in := install.New(dir, &profile.Profile{}, o)
				as, err := ownerIn(l, here, w.Server)
				in.Instead(l, as)
				return reading(in), func() {}, err
			}
		}
	}
	c, err := at.open(o, logins, dir)
	if err != nil {
		return nil, nil, err
	}
	tmp, done, err := readingRoom(filepath.Join(o.Home, "copies"))
	if err != nil {
		return nil, nil, err
	}
	l, err := c.Open(ctx, filepath.Join(tmp, "locker"))
	as := ""
	if err == nil {
		as, err = ownerIn(l, here, w.Server)
	}
	if err != nil {
		done()
		return nil, nil, err
	}
	in := install.New(tmp, &profile.Profile{}, o)
	in.Instead(l, as)
	sh := reading(in)
	sh.copy = c
	if here != nil {
		if sh.here, err = here.Locker(); err != nil {
			done()
			return nil, nil, err
		}
	}
	return sh, done, nil
}

// reading is the shelf of a folder that is no install: for reading backups alone.
func reading(in *install.Install) *Shelf {
	inv := inventory.New(in)
	res := resolve.New(in, inv)
	return New(in, acquire.New(inv, res), res)
}

// ownerIn finds the identity under which backups are meant.
func ownerIn(l *locker.Locker, here *Shelf, want string) (string, error) {
	owners, err := l.Owners()
	if err != nil {
		return "", err
	}
	owners = slices.DeleteFunc(owners, func(s string) bool { return s == locker.Builds })
	if here != nil && want == "" {
		if id, err := here.Identity(); err == nil && slices.Contains(owners, id) {
			return id, nil
		}
	}
	var named []string
	for _, o := range owners {
		heads, err := l.Heads(o)
		if err != nil {
			return "", err
		}
		name := "" // as its newest backup that can be read says
		for _, h := range heads {
			if h.Damage == "" {
				name = h.Server
			}
		}
		if o == want || (name == want && want != "") || (len(owners) == 1 && want == "") {
			return o, nil
		}
		named = append(named, fmt.Sprintf("%s (%s, %s)", name, o, words.Plural(len(heads), "backup")))
	}
	switch {
	case len(owners) == 0:
		return "", tell.Misuse("there is no backup in it", "")
	case want != "":
		return "", tell.Misuse(fmt.Sprintf("no server %s has backups in it: there are %s", want,
			strings.Join(named, ", ")), "")
	}
	return "", tell.Misuse("several servers have backups in it: "+strings.Join(named, ", "), "--server NAME")
}

// readingRoom is a folder for files that are read from a copy. Folders of dead readers go.
func readingRoom(in string) (dir string, done func(), err error) {
	if err := os.MkdirAll(in, 0o700); err != nil {
		return "", nil, err
	}
	all := tree.NewLock(filepath.Join(in, "lock")) // none is swept between its making and its locking
	if err := all.Lock(); err != nil {
		return "", nil, err
	}
	defer all.Unlock()
	old, _ := filepath.Glob(filepath.Join(in, "reading-*"))
	for _, d := range old {
		lock := tree.NewLock(filepath.Join(d, "lock"))
		if ok, err := lock.TryLock(); err == nil && ok {
			lock.Unlock()
			os.RemoveAll(d)
		}
	}
	if dir, err = os.MkdirTemp(in, "reading-"); err != nil {
		return "", nil, err
	}
	lock := tree.NewLock(filepath.Join(dir, "lock"))
	if _, err := lock.TryLock(); err != nil {
		return "", nil, err
	}
	return dir, func() {
		lock.Unlock()
		os.RemoveAll(dir)
	}, nil
}

// Bring takes a backup of a copy, opened by Away, into this machine's locker, under
// this install's name: from there it is restored like any other. Of one that is
// there already only what is missing, or was found damaged, is brought. One whose
// number is another's here gets the next one; as is its number here.
func (sh *Shelf) Bring(ctx context.Context, from *Shelf, id string, owners Owners) (as string, err error) {
	l, err := sh.Locker()
	if err != nil {
		return "", err
	}
	us, err := sh.Identity()
	if err != nil {
		return "", err
	}
	theirs, err := from.List()
	if err != nil {
		return "", err
	}
	if id, err = from.Meant(id); err != nil {
		return "", tell.Advise(err, "freshkeel backup list --copy")
	}
	i := slices.IndexFunc(theirs, func(b *Backup) bool { return b.ID == id })
	if owner, err := from.Identity(); err != nil || owner != us {
		return "", tell.Misuse(fmt.Sprintf("%s is a backup of %s, another install", id, theirs[i].Server),
			"add --to DIR: it is laid out there")
	}
	mine, err := sh.List()
	if err != nil {
		return "", err
	}
	as = id
	for _, b := range mine {
		switch same := b.Taken.Equal(theirs[i].Taken); {
		case same && b.Damage == "":
			as = b.ID
		case b.ID == id && b.Damage == "" && as == id:
			as = ""
		}
	}
	other, err := from.Locker()
	if err != nil {
		return "", err
	}
	_, err = sh.Step("bring", func() (sum string, err error) {
		moves, done := sh.Moves("bring"), int64(0)
		as, err = mirror.Bring(ctx, l, other, us, id, mirror.Brought{As: as, Change: owners.Change(),
			Note: func(n int64) { done += n; moves(done, 0) }})
		sum = fmt.Sprintf("%s from its copy, %s", id, words.Bytes(done))
		if as != id {
			sum += "; here it is " + as
		}
		return sum, err
	})
	return as, err
}

// MendFrom brings from a copy, opened by Away, what a check of this install's
// backups found damaged, and names the backups that are whole again.
func (sh *Shelf) MendFrom(ctx context.Context, from *Shelf, c *locker.Checked) (whole []string, err error) {
	l, err := sh.Locker()
	if err != nil {
		return nil, err
	}
	mine, err := sh.List()
	if err != nil {
		return nil, err
	}
	for _, b := range mine {
		hurt := slices.ContainsFunc(c.Damaged, func(h locker.Hurt) bool { return h.Set == b.ID })
		if !hurt && b.Damage == "" && l.Each(b.Owner, b.ID, func(*locker.File) {}) == nil {
			continue
		}
		if _, err := sh.Bring(ctx, from, b.ID, Tamed); errors.Is(err, locker.ErrNoSet) {
			sh.Warn("%s is not in the copy", b.ID)
		} else if err != nil {
			return whole, err
		} else {
			whole = append(whole, b.ID)
		}
	}
	return whole, l.TidyIndexes()
}

// MendCopy sends anew what a check of the copy, opened by Away, found damaged there,
// as far as it is here. What is not stays as it is.
// identity is the age identity file that an encrypted copy was opened with.
func (sh *Shelf) MendCopy(ctx context.Context, away *Shelf, identity string) (*Pushed, error) {
	l, err := away.Locker()
	if err != nil {
		return nil, err
	}
	return sh.Push(ctx, PushHow{mend: true, doubt: l.Spoilt(), identity: identity})
}
