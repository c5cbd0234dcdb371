package install

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// place is where an install stands, in .freshkeel/place.json: by it a folder that was copied or moved is known.
// Devices and inodes say nothing of that, as they change with a restored disk.
type place struct {
	Dir string   `json:"dir"`               // the folder, links followed
	Was []string `json:"was,omitempty"`     // where it stood before it was moved
	Of  string   `json:"copy_of,omitempty"` // the folder that it is a copy of
}

// standing is how the place of an install is to its state.
type standing int

const (
	here   standing = iota
	moved           // it stood elsewhere, and there is none of its identity there now
	copied          // it stands elsewhere too: what our folder says is the other's
)

func placeFile(in *Install) string { return in.State("place.json") }

// readPlace finds out how the install came to be where it is. It changes nothing.
func readPlace(in *Install) {
	var p place
	if b, err := tree.ReadOwn(placeFile(in)); err == nil && json.Unmarshal(b, &p) == nil && filepath.IsAbs(p.Dir) {
		in.place = p
	} else if p.Dir = firstElsewhere(in); p.Dir == "" {
		return
	}
	if p.Dir == tree.Real(in.Dir) || sameFolder(p.Dir, in.Dir) { // by another mount, say
		in.sharesHost = p.Of != "" && hasHostOf(in, p.Of)
		return
	}
	in.standing, in.from = moved, p.Dir
	if id := identityIn(p.Dir); id != "" && id == identityIn(in.Dir) {
		in.standing, in.sharesHost = copied, hasHostOf(in, p.Dir)
	}
}

// firstElsewhere is another folder of this home that has the identity of this one, which was never changed
// from here; "" where there is none. Installs of before have no note of their place.
func firstElsewhere(in *Install) string {
	id := identityIn(in.Dir)
	if id == "" || in.Home == "" || in.enlisted() {
		return ""
	}
	for _, dir := range in.Servers() {
		if dir != in.Dir && identityIn(dir) == id && !sameFolder(dir, in.Dir) {
			return tree.Real(dir)
		}
	}
	return ""
}

// identityIn is the identity of the install in a folder; "" where there is none, or it can't be read.
func identityIn(dir string) string {
	b, err := tree.ReadOwn(filepath.Join(dir, tree.StateFolder, "identity"))
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

// sameFolder tells whether two paths lead to one folder, by a link or a mount.
func sameFolder(a, b string) bool {
	x, err := os.Stat(a)
	y, err2 := os.Stat(b)
	return err == nil && err2 == nil && os.SameFile(x, y)
}

// hasHostOf tells whether the profile names the very service, or the very commands, that run another install.
func hasHostOf(in *Install, dir string) bool {
	kind := in.Profile.Host.Kind
	if kind != profile.ByService && kind != profile.ByCommands {
		return false
	}
	other, err := profile.Read(dir)
	if err != nil || other.Host.Kind != kind {
		return false
	}
	mine := in.Profile.Host
	return kind == profile.ByService && other.Host.Unit == mine.Unit ||
		kind == profile.ByCommands && slices.Equal(other.Host.Start, mine.Start)
}

// tellPlace says that the install was moved or copied, until a command changes something in it.
func tellPlace(in *Install) {
	switch {
	case in.standing == moved && slices.Contains(in.place.Was, tree.Real(in.Dir)):
		// It goes between two places, as one does that a container sees elsewhere than its host.
	case in.standing == moved:
		in.Note("this install stood in %s, and was moved: its backups and its history are its own as before", in.from)
	case in.standing == copied:
		in.Note("this is a copy of %s, which still stands there: the server that runs there, and what was under way "+
			"there, are not this one's. The first command that changes something gives it an identity of its own", in.from)
	}
}

// settlePlace writes down where the install stands, under its lock. A copy becomes an install of its own: it has the
// history that it was copied with, and none of the original's server, guard or run under way.
//
// Where its profile names what runs the original, nothing but the profile may be changed.
func settlePlace(in *Install, doing string) error {
	if in.sharesHost && doing != "profile" {
		from := cmp.Or(in.from, in.place.Of)
		what := "the same commands run the server"
		if in.Profile.Host.Kind == profile.ByService {
			what = in.Profile.Host.Unit + " runs the server"
		}
		return tell.Advise(fmt.Errorf("this is a copy of %s, and its profile says, as that one's does, that %s: that "+
			"server is the original's", from, what), "say in [host] of "+in.Path(profile.FileName)+" what runs this one "+
			"(freshkeel profile set host.unit UNIT, for a service); or take [host] out of it, and Fresh Keel runs it")
	}
	now := in.place
	if in.standing == here && now.Dir != "" {
		return nil
	}
	if in.standing == copied {
		if err := becomeOwn(in); err != nil {
			return fmt.Errorf("make an install of its own of this copy of %s: %w", in.from, err)
		}
		now = place{Of: in.from}
	} else if in.standing == moved && !slices.Contains(now.Was, in.from) {
		now.Was = append(now.Was, in.from)
	}
	if now.Dir = tree.Real(in.Dir); now.Dir == in.place.Dir {
		return nil
	}
	b, err := json.Marshal(now)
	if err != nil {
		return err
	}
	// A full disk must not keep anybody from stopping a server: the note is made by a later command.
	if err := tree.WriteFile(placeFile(in), append(b, '\n'), 0o600); err == nil {
		in.place, in.standing, in.from = now, here, ""
	}
	return nil
}

// becomeOwn gives a copy its own identity, under which the backups of the original are listed too: each names its
// folder. What is cut short here is done again by the next command.
func becomeOwn(in *Install) error {
	old := identityIn(in.Dir)
	for _, dir := range append([]string{""}, partNames(in)...) {
		run := in.State("run")
		if dir != "" {
			run = in.State("run-" + dir)
		}
		if err := host.Dir(run).Forget(); err != nil {
			return err
		}
	}
	if err := os.RemoveAll(in.State("guard")); err != nil {
		return err
	}
	l, err := in.Locker()
	if err != nil {
		return err
	}
	id := newIdentity()
	heads, err := l.Heads(old)
	if err != nil {
		return err
	}
	w := l.Writer()
	defer w.Close()
	for _, h := range heads {
		s, err := l.Read(old, h.ID)
		if err != nil {
			in.Warn("backup %s of %s can't be listed here too: %v", h.ID, in.from, err)
			continue
		}
		s.Owner = id
		if s.Root == "" {
			s.Root = in.from
		}
		if err := w.PublishAs(s); err != nil {
			return err
		}
	}
	if e, err := in.Book.Unfinished(); err == nil && e != nil {
		e.Phase, e.Outcome, e.Ended = logbook.Done, logbook.Left, time.Now().Round(0)
		e.Why = "this folder was copied from " + in.from + " while it was under way there"
		if err := in.Book.Save(e); err != nil {
			return err
		}
		in.Warn("it was copied while %s %s was under way there: files may be of two builds. What to do: freshkeel -d "+
			"%s audit",
			e.Kind, e.ID, words.Shell(in.Dir))
	}
	return tree.WriteFile(in.State("identity"), []byte(id+"\n"), 0o600)
}

func partNames(in *Install) (out []string) {
	for _, p := range in.Profile.Parts {
		out = append(out, p.Name)
	}
	return out
}

// Mine tells whether a backup was taken of this folder, where it stands or stood. One of which that is not known is.
func (in *Install) Mine(s *locker.Set) bool {
	return s.Root == "" || s.Root == in.Dir || s.Root == tree.Real(in.Dir) || s.Root == in.place.Dir &&
		in.standing != copied ||
		slices.Contains(in.place.Was, s.Root) || in.standing == moved && s.Root == in.from
}

// lost finds the identity of an install whose own folder of ours was taken away, by the backups that the locker has
// of this very folder; n is how many those are. It is nobody's where another install has it.
func lost(in *Install) (id string, n int, newest *locker.Set) {
	if identityIn(in.Dir) != "" || in.Home == "" {
		return "", 0, nil
	}
	l, err := in.Locker()
	if err != nil {
		return "", 0, nil
	}
	owners, err := l.Owners()
	if err != nil {
		return "", 0, nil
	}
	for _, owner := range owners {
		heads, err := l.Heads(owner)
		if err != nil || owner == locker.Builds || len(heads) == 0 {
			continue
		}
		last := heads[len(heads)-1]
		if last.Root != in.Dir && last.Root != tree.Real(in.Dir) || slices.ContainsFunc(in.Servers(),
			func(dir string) bool {
				return dir != in.Dir && identityIn(dir) == owner
			}) {
			continue
		}
		if newest == nil || last.Taken.After(newest.Taken) {
			id, n, newest = owner, len(heads), last
		}
	}
	return id, n, newest
}

// tellLost says what was found again.
func tellLost(in *Install, n int, newest *locker.Set) {
	in.Warn("%s is gone; the locker has %s of this folder, the newest %s of %s: they are this install's again",
		in.State(), words.Plural(n, "backup"), newest.ID, newest.Taken.Local().Format("2006-01-02 15:04"))
	if newest.Run != "" {
		in.Warn("%s was taken for %s (%s), and whether that ended is not known any more: files may be of two builds. "+
			"What would change: freshkeel -d %s compare %s now; to put it back: freshkeel -d %s backup restore "+
			"%s", newest.ID, newest.Run,
			newest.Label, words.Shell(in.Dir), newest.ID, words.Shell(in.Dir), newest.ID)
	}
}

// findAgain finds the running server of an install whose own folder of ours was taken away.
func findAgain(in *Install) {
	if _, err := os.Stat(in.State("identity")); err == nil || len(in.Self) < 2 {
		return
	}
	for _, part := range in.Parts() {
		if !part.outside && part.Minded() && part.RunDir().Awaken(in.Self[len(in.Self)-1]) {
			in.Warn("%s is gone; the server that runs here was found by the mark on its processes", in.State())
		}
	}
}
