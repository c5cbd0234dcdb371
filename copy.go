package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/store"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Pushed is what a push to the copy sent, or would send.
type Pushed struct {
	To     string            `json:"to"`
	Sent   []*Backup         `json:"sent"`
	Bytes  int64             `json:"bytes"`             // of packs, before they are encrypted
	Held   int               `json:"held"`              // backups of this install that the copy has now
	Failed map[string]string `json:"failed,omitempty"`  // backup → why it was not sent
	Drop   []string          `json:"dropped,omitempty"` // from the copy, as [copy] says how many it keeps
	Freed  int64             `json:"freed_bytes,omitempty"`
}

// PushHow is how a push goes about it.
type PushHow struct {
	Claim  bool // take a place over that another locker wrote to, or that is not empty
	DryRun bool // only say what would be sent

	mend  bool     // look closer at what is there,
	doubt []string // and send anew what these packs hold, which did not read back

	identity string
}

// where is a place as a profile, or somebody at the prompt, names it.
type where struct {
	to         string
	recipients []string
	identity   string // of a file with an age identity; "": nothing can be read that is encrypted
	typed      bool   // at the prompt: whoever types http means it
}

// open opens the place. dir and home must lie apart from it.
func (w where) open(o Options, logins []profile.Login, dir string) (*locker.Copy, error) {
	c := fetch.New(fetch.Options{Env: o.Env, Logins: resolve.LoginsOf(logins)})
	var place store.Store
	if store.IsAddress(w.to) {
		a, err := store.ParseAddress(w.to)
		if err != nil {
			return nil, tell.Misuse(fetch.Shown(w.to)+": "+err.Error(), "")
		}
		key, secret, plain, err := c.Keys(a.Host)
		switch {
		case err != nil:
			return nil, tell.Advise(fmt.Errorf("no keys for %s: %w", a.Host, err), "a [[login]] with host, user (the key) and from (where its secret is) in freshkeel.toml, or a line in the netrc")
		case a.Plain && !plain && !w.typed:
			return nil, tell.Advise(fmt.Errorf("%s is asked over plain http, where everybody on the way can read the backups", a.Host), "s3+https://, or plain = true in its [[login]] where the line is safe")
		}
		if place, err = store.OpenS3(a, key, secret); err != nil {
			return nil, err
		}
	} else if strings.Contains(w.to, "://") {
		return nil, tell.Misuse(fmt.Sprintf("%s is no address of an object store", fetch.Shown(w.to)), "s3+https://HOST/BUCKET/PREFIX, or a folder")
	} else {
		full, err := c.Folder(w.to)
		if err != nil {
			return nil, err
		}
		for _, apart := range []struct{ dir, what string }{{dir, "the install"}, {o.Home, "FRESHKEEL_HOME"}} {
			if apart.dir != "" && tree.Inside(tree.Real(apart.dir), tree.Real(full)) {
				return nil, tell.Misuse(fmt.Sprintf("%s lies in %s: a copy belongs on another disk", full, apart.what), "")
			}
		}
		if place, err = store.OpenFolder(full); err != nil {
			return nil, err
		}
	}
	var sealed *store.Sealed
	if len(w.recipients) > 0 || w.identity != "" {
		text := ""
		if w.identity != "" {
			b, err := os.ReadFile(w.identity)
			if err != nil {
				return nil, fmt.Errorf("the identity: %w", err)
			}
			text = string(b)
		}
		s, err := store.Seal(place, w.recipients, text)
		if err != nil {
			return nil, tell.Misuse(fmt.Sprintf("%s: %v", w.identity, err), "")
		}
		sealed = s
	}
	return locker.NewCopy(place, sealed, filepath.Join(o.Home, "copies")), nil
}

// copy is the copy that the profile names; nil where it names none.
func (k *Keel) copy(identity string) (*locker.Copy, error) {
	p := k.in.Profile.Copy
	if p.To == "" {
		return nil, nil
	}
	return where{to: p.To, recipients: p.Recipients, identity: identity}.open(k.in.Options, k.in.Profile.Logins, k.in.Dir)
}

var errNoCopy = tell.Misuse("the profile names no other place for the backups", "set [copy] to in freshkeel.toml: a folder on another disk, or s3+https://HOST/BUCKET/PREFIX")

// Copied tells which backups the copy held when it was last written to from this
// machine, and when that was. The place itself is not asked.
func (k *Keel) Copied() (has map[string]bool, at time.Time) {
	to := k.in.Profile.Copy.To
	id, err := k.in.Identity()
	if to == "" || err != nil {
		return nil, at
	}
	if a, err := store.ParseAddress(to); err == nil {
		to = a.String()
	} else if to, err = k.res.Client(profile.Source{}).Folder(to); err != nil {
		return nil, at
	}
	known := locker.KnownOf(filepath.Join(k.in.Home, "copies"), to)
	has = map[string]bool{}
	for _, key := range known.Sets {
		if b, ok := strings.CutPrefix(key, id+"/"); ok {
			has[b] = true
		}
	}
	return has, known.At
}

// Push sends the backups that the copy has not, oldest first, and then drops from
// it what [copy] does not keep. It takes no lock of the install: a server can be
// refitted meanwhile. What a push before was cut off in goes on where it was.
func (k *Keel) Push(ctx context.Context, how PushHow) (out *Pushed, err error) {
	c, err := k.copy(how.identity)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, errNoCopy
	}
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	all, err := k.Backups()
	if err != nil {
		return nil, err
	}
	id, err := k.in.Identity()
	if err != nil {
		return nil, err
	}
	out = &Pushed{To: c.Where(), Failed: map[string]string{}}
	_, err = k.in.Step("copy", func() (string, error) {
		p, err := l.Begin(ctx, c, locker.How{Claim: how.Claim, Dry: how.DryRun, Mend: how.mend, Doubt: how.doubt, Halt: k.in.Halt})
		if err != nil {
			return "", err
		}
		defer p.Close()
		var todo []*Backup
		keep := k.keptThere(p.Copied(id), all)
		for _, b := range all {
			whole, other := p.Holds(ctx, b)
			switch {
			case keep != nil && keep[b.ID] == "": // it would be dropped there again
			case b.Damage != "":
				out.Failed[b.ID] = b.Damage
			case !other.IsZero():
				out.Failed[b.ID] = "the copy has another backup of that name, taken " + other.Local().Format(time.DateTime)
			case whole:
				out.Held++
			default:
				todo = append(todo, b)
			}
		}
		total := p.Total(todo)
		if how.DryRun {
			out.Sent, out.Bytes = todo, total
			return fmt.Sprintf("would send %s", words.Plural(len(todo), "backup")), nil
		}
		moves, done := k.in.Moves("copy"), int64(0)
		for _, b := range todo {
			err := p.Push(ctx, b, func(n int64) { done += n; moves(done, max(total, done)) })
			var d *Damage
			switch {
			case errors.As(err, &d):
				out.Failed[b.ID] = d.Error()
			case errors.Is(err, locker.ErrNoSet): // thinned meanwhile
			case err != nil:
				return "", err
			default:
				out.Sent = append(out.Sent, b)
				out.Held++
			}
		}
		out.Bytes = p.Sent()
		if err := k.thinCopy(ctx, p, id, out); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s sent to %s, %s", words.Plural(len(out.Sent), "backup"), out.To, words.Bytes(out.Bytes)), nil
	})
	if f := (*locker.Foreign)(nil); errors.As(err, &f) {
		err = tell.Advise(err, "another folder or prefix in [copy] to; or, where this is right and nothing else writes there: freshkeel backup push --claim")
	}
	return out, err
}

// keptThere decides which backups the copy keeps, of those there and those here,
// each with why; nil: all.
func (k *Keel) keptThere(there, here []*Backup) map[string]string {
	n := Keeping{k.in.Profile.Copy.Last, k.in.Profile.Copy.Days, k.in.Profile.Copy.Weeks, k.in.Profile.Copy.Months}
	if n.none() {
		return nil
	}
	all := slices.Clone(here)
	for _, b := range there {
		if !slices.ContainsFunc(all, func(h *Backup) bool { return h.ID == b.ID }) {
			all = append(all, b)
		}
	}
	slices.SortFunc(all, func(a, b *Backup) int { return strings.Compare(a.ID, b.ID) })
	return n.thin(all, nil).Keep
}

// thinCopy drops from the copy what [copy] does not keep.
func (k *Keel) thinCopy(ctx context.Context, p *locker.Pushing, id string, out *Pushed) error {
	there := p.Copied(id)
	if keep := k.keptThere(there, nil); keep != nil {
		for _, b := range there {
			if keep[b.ID] != "" {
				continue
			}
			if err := p.Drop(ctx, b); err != nil {
				return err
			}
			out.Drop = append(out.Drop, b.ID)
			out.Held--
		}
		if len(out.Drop) > 0 {
			if err := p.Wear(ctx, nil); err != nil {
				return err
			}
		}
	}
	freed, err := p.GiveBack(ctx)
	out.Freed = freed
	return err
}

// PushAfter is Push for the end of a command that made a backup: nil where the
// profile names no copy, or wants it by hand. The command has done its work, so
// that what goes wrong here is only told.
func (k *Keel) PushAfter(ctx context.Context) *Pushed {
	if k.in.Profile.Copy.To == "" || k.in.Profile.Copy.ByHand {
		return nil
	}
	p, err := k.Push(ctx, PushHow{})
	if errors.Is(err, locker.ErrPushing) {
		k.in.Note("another command is writing to the copy: what is not there yet goes with the next push")
		return nil
	}
	if err != nil {
		do := "freshkeel backup push"
		if a := (*Advised)(nil); errors.As(err, &a) {
			do = a.Do
		} else if u := (*Unreachable)(nil); errors.As(err, &u) && u.Do != "" {
			do = u.Do
		}
		if errors.Is(err, context.Canceled) {
			err = errors.New("it was broken off, and goes on where it was")
		}
		k.in.Warn("the backups are not in their other place: %v (try: %s)", err, do)
		return nil
	}
	for id, why := range p.Failed {
		k.in.Warn("backup %s was not sent: %s", id, why)
	}
	return p
}

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
func Away(ctx context.Context, o Options, here *Keel, w AwayWant) (*Keel, func(), error) {
	var logins []profile.Login
	at := where{to: w.From, identity: w.Identity, typed: w.From != ""}
	dir := ""
	if here != nil {
		logins, dir = here.in.Profile.Logins, here.in.Dir
		if at.to == "" {
			at.to = here.in.Profile.Copy.To
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
				return newKeel(in), func() {}, err
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
	return newKeel(in), done, nil
}

// ownerIn finds the identity under which backups are meant.
func ownerIn(l *locker.Locker, here *Keel, want string) (string, error) {
	owners, err := l.Owners()
	if err != nil {
		return "", err
	}
	owners = slices.DeleteFunc(owners, func(s string) bool { return s == locker.Builds })
	if here != nil && want == "" {
		if id, err := here.in.Identity(); err == nil && slices.Contains(owners, id) {
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
		return "", tell.Misuse(fmt.Sprintf("no server %s has backups in it: there are %s", want, strings.Join(named, ", ")), "")
	}
	return "", tell.Misuse("several servers have backups in it: "+strings.Join(named, ", "), "--server NAME")
}

// readingRoom is a folder for what is read of a copy. Those of dead readers go.
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
func (k *Keel) Bring(ctx context.Context, from *Keel, id string, owners Owners) (as string, err error) {
	l, err := k.in.Locker()
	if err != nil {
		return "", err
	}
	us, err := k.in.Identity()
	if err != nil {
		return "", err
	}
	theirs, err := from.Backups()
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(theirs, func(b *Backup) bool { return b.ID == id })
	if i < 0 {
		return "", tell.Advise(fmt.Errorf("%s: %w", id, locker.ErrNoSet), "freshkeel backup list --copy")
	}
	if owner, err := from.in.Identity(); err != nil || owner != us {
		return "", tell.Misuse(fmt.Sprintf("%s is a backup of %s, another install", id, theirs[i].Server), "add --to DIR: it is laid out there")
	}
	mine, err := k.Backups()
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
	other, err := from.in.Locker()
	if err != nil {
		return "", err
	}
	_, err = k.in.Step("bring", func() (sum string, err error) {
		moves, done := k.in.Moves("bring"), int64(0)
		as, err = l.Bring(ctx, other, us, id, locker.Brought{As: as, Change: owners.change(), Note: func(n int64) { done += n; moves(done, 0) }})
		sum = fmt.Sprintf("%s from its copy, %s", id, words.Bytes(done))
		if as != id {
			sum += "; here it is " + as
		}
		return sum, err
	})
	return as, err
}

// Owners says what becomes of the owners, the setuid and setgid bits and the
// capabilities that a copy's files have. A copy has been in other hands, so that
// root gives none of them out unless that is asked for; nobody else could.
type Owners bool

const (
	Tamed Owners = false // root's, without such rights
	AsIs  Owners = true  // as the copy has them
)

// change is what becomes of each entry; nil: nothing.
func (o Owners) change() func(*locker.File) {
	if o == AsIs || os.Geteuid() != 0 {
		return nil
	}
	return func(f *locker.File) {
		f.UID, f.GID = 0, 0
		f.Mode &^= fs.ModeSetuid | fs.ModeSetgid
		delete(f.Xattr, "security.capability")
	}
}

// BringAll brings every backup of this install that a copy has and this locker has
// not, or the one that is named, and tells under which numbers they stand here.
func (k *Keel) BringAll(ctx context.Context, from *Keel, id string, owners Owners) (brought map[string]string, err error) {
	unlock, err := k.begin(ctx, "bring")
	if err != nil {
		return nil, err
	}
	defer unlock()
	theirs, err := from.Backups()
	if err != nil {
		return nil, err
	}
	mine, err := k.Backups()
	if err != nil {
		return nil, err
	}
	brought = map[string]string{}
	for _, b := range theirs {
		here := slices.ContainsFunc(mine, func(m *Backup) bool { return m.Damage == "" && m.Taken.Equal(b.Taken) })
		if (id != "" && b.ID != id) || (id == "" && (here || b.Damage != "")) {
			continue
		}
		if brought[b.ID], err = k.Bring(ctx, from, b.ID, owners); err != nil {
			return brought, err
		}
	}
	if id != "" && len(brought) == 0 {
		return nil, tell.Advise(fmt.Errorf("%s: %w", id, locker.ErrNoSet), "freshkeel backup list --from the same place")
	}
	return brought, nil
}

// MendFrom brings from a copy, opened by Away, what a check of this install's
// backups found damaged, and names the backups that are whole again.
func (k *Keel) MendFrom(ctx context.Context, from *Keel, c *Checked) (whole []string, err error) {
	l, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	mine, err := k.Backups()
	if err != nil {
		return nil, err
	}
	for _, b := range mine {
		hurt := slices.ContainsFunc(c.Damaged, func(h locker.Hurt) bool { return h.Set == b.ID })
		if !hurt && b.Damage == "" && l.Each(b.Owner, b.ID, func(*locker.File) {}) == nil {
			continue
		}
		if _, err := k.Bring(ctx, from, b.ID, Tamed); errors.Is(err, locker.ErrNoSet) {
			k.in.Warn("%s is not in the copy", b.ID)
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
func (k *Keel) MendCopy(ctx context.Context, away *Keel, identity string) (*Pushed, error) {
	l, err := away.in.Locker()
	if err != nil {
		return nil, err
	}
	return k.Push(ctx, PushHow{mend: true, doubt: l.Spoilt(), identity: identity})
}
