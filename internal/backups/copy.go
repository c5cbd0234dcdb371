package backups

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/locker/mirror"
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
func (w where) open(o install.Options, logins []profile.Login, dir string) (*mirror.Copy, error) {
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
			return nil, tell.Advise(
				fmt.Errorf("no keys for %s: %w", a.Host, err),
				"a [[login]] with host, user (the key) and from (where its secret is) in freshkeel.toml, or a line in the netrc",
			)
		case a.Plain && !plain && !w.typed:
			return nil, tell.Advise(fmt.Errorf("%s is asked over plain http, where everybody on the way can read "+
				"the backups", a.Host), "s3+https://, or plain = true in its [[login]] where the line is safe")
		}
		if place, err = store.OpenS3(a, key, secret); err != nil {
			return nil, err
		}
	} else if strings.Contains(w.to, "://") {
		return nil, tell.Misuse(fmt.Sprintf("%s is no address of an object store", fetch.Shown(w.to)),
			"s3+https://HOST/BUCKET/PREFIX, or a folder")
	} else {
		full, err := c.Folder(w.to)
		if err != nil {
			return nil, err
		}
		for _, apart := range []struct{ dir, what string }{{dir, "the install"}, {o.Home, "FRESHKEEL_HOME"}} {
			if apart.dir != "" && tree.Inside(tree.Real(apart.dir), tree.Real(full)) {
				return nil, tell.Misuse(fmt.Sprintf("%s lies in %s: a copy belongs on another disk", full, apart.what),
					"")
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
			b, err := tree.ReadOwn(w.identity)
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
	return mirror.NewCopy(place, sealed, filepath.Join(o.Home, "copies")), nil
}

// theCopy is the copy that the profile names; nil where it names none.
func (sh *Shelf) theCopy(identity string) (*mirror.Copy, error) {
	p := sh.Profile.Copy
	if p.To == "" {
		return nil, nil
	}
	return where{to: p.To, recipients: p.Recipients, identity: identity}.open(sh.Options, sh.Profile.Logins, sh.Dir)
}

var errNoCopy = tell.Misuse("the profile names no other place for the backups",
	"set [copy] to in freshkeel.toml: a folder on another disk, or s3+https://HOST/BUCKET/PREFIX")

// Copied tells which backups the copy held when it was last written to from this
// machine, and when that was. The place itself is not asked.
func (sh *Shelf) Copied() (has map[string]bool, at time.Time) {
	to := sh.Profile.Copy.To
	id, err := sh.Identity()
	if to == "" || err != nil {
		return nil, at
	}
	if a, err := store.ParseAddress(to); err == nil {
		to = a.String()
	} else if to, err = sh.res.Client(profile.Source{}).Folder(to); err != nil {
		return nil, at
	}
	known := mirror.KnownOf(filepath.Join(sh.Home, "copies"), to)
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
func (sh *Shelf) Push(ctx context.Context, how PushHow) (out *Pushed, err error) {
	c, err := sh.theCopy(how.identity)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, errNoCopy
	}
	l, err := sh.Locker()
	if err != nil {
		return nil, err
	}
	all, err := sh.List()
	if err != nil {
		return nil, err
	}
	id, err := sh.Identity()
	if err != nil {
		return nil, err
	}
	out = &Pushed{To: c.Where(), Failed: map[string]string{}}
	_, err = sh.Step("copy", func() (string, error) {
		p, err := mirror.Begin(ctx, l, c, mirror.How{Claim: how.Claim, Dry: how.DryRun, Mend: how.mend,
			Doubt: how.doubt, Halt: sh.Halt})
		if err != nil {
			return "", err
		}
		defer p.Close()
		var todo []*Backup
		keep := sh.keptThere(p.Copied(id), all)
		for _, b := range all {
			whole, other := p.Holds(ctx, b)
			switch {
			case keep != nil && keep[b.ID] == "": // it would be dropped there again
			case b.Damage != "":
				out.Failed[b.ID] = b.Damage
			case !other.IsZero():
				out.Failed[b.ID] = "the copy has another backup of that name, taken " +
					other.Local().Format(time.DateTime)
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
		moves, done := sh.Moves("copy"), int64(0)
		for _, b := range todo {
			err := p.Push(ctx, b, func(n int64) { done += n; moves(done, max(total, done)) })
			var d *locker.Damage
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
		sh.tellLost(p.Lost, id, out.To)
		if err := sh.thinCopy(ctx, p, id, out); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s sent to %s, %s", words.Plural(len(out.Sent), "backup"), out.To, words.Bytes(out.Bytes)),
			nil
	})
	if f := (*mirror.Foreign)(nil); errors.As(err, &f) {
		err = tell.Advise(err, "another folder or prefix in [copy] to; or, where this is right and nothing else "+
			"writes there: freshkeel backup push --claim")
	}
	return out, err
}

// tellLost tells of backups that were sent once and are nowhere any more.
func (sh *Shelf) tellLost(lost []string, id, to string) {
	for _, key := range lost {
		if owner, b, _ := strings.Cut(key, "/"); owner == id {
			sh.Warn("backup %s was in %s once, and is neither there nor here any more", b, to)
		}
	}
}

// keptThere decides which backups the copy keeps, of those there and those here,
// each with why; nil: all.
func (sh *Shelf) keptThere(there, here []*Backup) map[string]string {
	n := Keeping{sh.Profile.Copy.Last, sh.Profile.Copy.Days, sh.Profile.Copy.Weeks, sh.Profile.Copy.Months}
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
func (sh *Shelf) thinCopy(ctx context.Context, p *mirror.Pushing, id string, out *Pushed) error {
	there := p.Copied(id)
	if keep := sh.keptThere(there, nil); keep != nil {
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

// leaveAfter is how long a push that is broken off is given to end by itself: the place that it writes
// to may answer nothing any more.
const leaveAfter = 3 * time.Second

// pushOrLeave is Push, which is left to itself where it does not end once ctx has.
func (sh *Shelf) pushOrLeave(ctx context.Context) (*Pushed, error) {
	type result struct {
		p   *Pushed
		err error
	}
	done := make(chan result, 1)
	go func() {
		p, err := sh.Push(ctx, PushHow{})
		done <- result{p, err}
	}()
	select {
	case r := <-done:
		return r.p, r.err
	case <-ctx.Done():
	}
	select {
	case r := <-done:
		return r.p, r.err
	case <-time.After(leaveAfter):
		return nil, ctx.Err()
	}
}

// PushAfter is Push for the end of a command that made a backup: nil where the
// profile names no copy, or wants it by hand. The command has done its work, so
// that what goes wrong here is only told.
func (sh *Shelf) PushAfter(ctx context.Context) *Pushed {
	if sh.Profile.Copy.To == "" || sh.Profile.Copy.ByHand {
		return nil
	}
	p, err := sh.pushOrLeave(ctx)
	if errors.Is(err, mirror.ErrPushing) {
		sh.Note("another command is writing to the copy: what is not there yet goes with the next push")
		return nil
	}
	if err != nil {
		do := "freshkeel backup push"
		if a := (*tell.Advised)(nil); errors.As(err, &a) {
			do = a.Do
		} else if u := (*store.Unreachable)(nil); errors.As(err, &u) && u.Do != "" {
			do = u.Do
		}
		if errors.Is(err, context.Canceled) {
			err = errors.New("it was broken off, and goes on where it was")
		}
		sh.Warn("the backups are not in their other place: %v (try: %s)", err, do)
		return nil
	}
	for id, why := range p.Failed {
		sh.Warn("backup %s was not sent: %s", id, why)
	}
	return p
}
