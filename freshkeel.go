// Package freshkeel keeps a dedicated game server at the build its players
// have. It takes an install under care (Adopt), says what builds there are
// (Builds), checks whether one can run here (Preflight), and exchanges the
// installed build for it in one transaction that goes back by itself when the
// new build does not come up (Refit). Rollback, Recover, backups and the
// server's own start and stop are the rest.
//
// The package has no interface: it prints nothing, asks nothing and never
// exits. Progress goes to Options.Observe; what a caller must decide on comes
// back as a typed error (Refused, RolledBack, NeedsHands, Busy).
//
// Everything about one install that is not the operator's stands in its folder
// .freshkeel; builds and backups stand in the locker, under Options.Home.
package freshkeel

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/host"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/profile"
	"freshkeel/internal/store"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Options are what the core needs from outside.
type Options struct {
	Home    string                // holds the locker; see DefaultHome
	Self    []string              // command that becomes a minder: this program and its hidden word
	Env     []string              // the environment, "NAME=value"
	Observe func(Event)           // hears what happens; may be nil
	Halt    func(at string) error // asked at every step a crash could fall between; for tests, may be nil
}

// Keel is one install under care.
type Keel struct {
	Dir     string // absolute
	Profile *profile.Profile

	o      Options
	store  *locker.Locker
	as     string // whose backups are read, where it isn't this folder's: see Away
	book   logbook.Book
	offers map[string]*offer // what sources offer, asked once

	known   *Inventory // as last read,
	knownAs tree.Entry // from this file
}

// ErrNotAdopted says that a folder has no profile.
var ErrNotAdopted = profile.ErrNone

// Open opens the install at dir, which must have a profile.
func Open(dir string, o Options) (*Keel, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := trusted(dir); err != nil {
		return nil, err
	}
	p, err := profile.Read(dir)
	if err != nil {
		return nil, err
	}
	if err := homeApart(dir, o.Home); err != nil {
		return nil, err
	}
	return newKeel(dir, p, o), nil
}

// homeApart keeps the locker out of what it backs up.
func homeApart(dir, home string) error {
	if home, err := filepath.Abs(home); err == nil && tree.Inside(tree.Real(dir), tree.Real(home)) {
		return &Usage{fmt.Sprintf("FRESHKEEL_HOME, %s, lies in the install: every backup would hold all backups before it", home), "set it to a folder elsewhere"}
	}
	return nil
}

func newKeel(dir string, p *profile.Profile, o Options) *Keel {
	k := &Keel{Dir: dir, Profile: p, o: o, offers: map[string]*offer{}}
	k.book = logbook.Book{Dir: k.state("logbook")}
	return k
}

// Find returns the nearest folder from start upwards that has a profile.
func Find(start string) (string, error) {
	start, err := filepath.Abs(start)
	if err != nil {
		return "", err
	}
	for dir := start; ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, profile.FileName)); err == nil {
			return dir, nil
		}
		if dir == filepath.Dir(dir) {
			return "", fmt.Errorf("%w in %s or above it", ErrNotAdopted, start)
		}
	}
}

// DefaultHome is where locker and runtimes stand when nobody says otherwise:
// the user's state folder (XDG Base Directory Specification), or the
// platform's own place for a program's data.
func DefaultHome() (string, error) {
	if s := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(s) {
		return filepath.Join(s, "freshkeel"), nil
	}
	if s := os.Getenv("LocalAppData"); s != "" {
		return filepath.Join(s, "freshkeel"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(home, ".local", "state", "freshkeel"), nil
}

// state is a path in the install's own folder of ours.
func (k *Keel) state(elem ...string) string {
	return filepath.Join(append([]string{k.Dir, tree.StateFolder}, elem...)...)
}

func (k *Keel) runDir() host.Dir { return host.Dir(k.state("run")) }

// run is the folder in which one run stages and keeps files.
func (k *Keel) run(id string) swap.Run {
	return swap.Run{Root: k.Dir, Dir: k.state("refits", id)}
}

func (k *Keel) locker() (*locker.Locker, error) {
	if k.store == nil {
		l, err := locker.Open(filepath.Join(k.o.Home, "locker"))
		if err != nil {
			return nil, err
		}
		k.store = l
	}
	return k.store, nil
}

// identity is the install's own, under which its backups are kept.
func (k *Keel) identity() (string, error) {
	if k.as != "" {
		return k.as, nil
	}
	path := k.state("identity")
	if b, err := tree.ReadOwn(path); err == nil && len(strings.TrimSpace(string(b))) > 0 {
		return strings.TrimSpace(string(b)), nil
	}
	if err := tree.MakeDirs(k.state(), 0o700); err != nil {
		return "", err
	}
	var b [6]byte
	rand.Read(b[:])
	id := "server-" + hex.EncodeToString(b[:])
	return id, tree.WriteFile(path, []byte(id+"\n"), 0o600)
}

// holder is who has an install's lock.
type holder struct {
	PID   int       `json:"pid"`
	Doing string    `json:"doing"`
	Since time.Time `json:"since"`
}

// lock keeps every other command that changes the install out (P7). It returns
// the unlock function, or Busy.
func (k *Keel) lock(doing string) (unlock func(), err error) {
	if err := tree.MakeDirs(k.state(), 0o700); err != nil {
		return nil, k.notMine(err)
	}
	l := tree.NewLock(k.state("lock"))
	// Tried for a moment: a status command may be looking at the lock.
	for try := 0; ; try++ {
		ok, err := l.TryLock()
		if err != nil {
			return nil, k.notMine(err)
		}
		if ok {
			break
		}
		if try == 5 {
			return nil, k.holder()
		}
		time.Sleep(10 * time.Millisecond)
	}
	// Who holds it is only for telling others: a full disk must not keep
	// anybody from the lock.
	if b, err := json.Marshal(holder{os.Getpid(), doing, time.Now().Round(0)}); err == nil {
		tree.WriteFile(k.state("holder.json"), b, 0o600)
	}
	k.enlist()
	return func() {
		os.Remove(k.state("holder.json"))
		l.Unlock()
	}, nil
}

// holder tells who has the lock. Whoever has just taken it may not have said
// so yet, and a dead holder's word may still stand there.
func (k *Keel) holder() *Busy {
	var h holder
	for range 20 {
		if b, err := tree.ReadOwn(k.state("holder.json")); err == nil && json.Unmarshal(b, &h) == nil && host.Alive(h.PID) {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	return &Busy{h.PID, h.Doing, h.Since}
}

// busy tells what another command is doing here, "" for nothing.
func (k *Keel) busy() string {
	if _, err := os.Stat(k.state("holder.json")); err != nil {
		return ""
	}
	l := tree.NewLock(k.state("lock"))
	if ok, err := l.TryRLock(); err != nil || ok { // a dead command's word
		l.Unlock()
		return ""
	}
	return k.holder().Error()
}

// notMine explains why the install can't be locked.
func (k *Keel) notMine(err error) error {
	err = fmt.Errorf("lock the install: %w", err)
	if e, _, derr := tree.Describe(k.Dir, ""); derr == nil && errors.Is(err, fs.ErrPermission) {
		return &Advised{err, fmt.Sprintf("run it as the install's owner, user %d, or as root", e.UID)}
	}
	return err
}

// begin is how every command that changes the install starts: alone, and with
// what a crash left behind settled.
func (k *Keel) begin(ctx context.Context, doing string) (unlock func(), err error) {
	if unlock, err = k.lock(doing); err != nil {
		return nil, err
	}
	k.takeOver(ctx)
	if _, err := k.recoverLocked(ctx); err != nil {
		unlock()
		return nil, err
	}
	return unlock, nil
}

func (k *Keel) halt(at string) error {
	if k.o.Halt == nil {
		return nil
	}
	return k.o.Halt(at)
}

// exists tells whether something stands at a path of the install.
func (k *Keel) exists(p string) bool {
	_, err := os.Lstat(k.path(p))
	return !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, syscall.ENOTDIR) // which is "file/sub"
}

// maxScript bounds a script or a text of the install that is read whole, in bytes.
const maxScript = 16 << 20

// open opens a file of the install to be read, no link being followed.
func (k *Keel) open(p string) (*os.File, error) {
	in, err := tree.OpenRoot(k.Dir)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return in.Open(p)
}

func (k *Keel) path(p string) string { return filepath.Join(k.Dir, filepath.FromSlash(p)) }

// Bytes and Age write sizes and lengths of time as the core's own messages do.
func Bytes(n int64) string { return words.Bytes(n) }

// Age is how long something lasted, as a person reads it.
func Age(d time.Duration) string { return words.Age(d) }

// Near is the word of a list that a mistyped one may be meant for, "" for none.
func Near(word string, list []string) string { return words.Near(word, list) }

// What callers meet of the rooms below, by the names they know it by here.
type (
	ProfileError   = profile.Error
	AlreadyRunning = host.AlreadyRunning
	Damage         = locker.Damage
	Checked        = locker.Checked
	Unreachable    = store.Unreachable // a place that can't be used: Do is what helps
)

// Shown is an address without what opens it: names, passwords, tokens.
func Shown(where string) string { return fetch.Shown(where) }

// Printable is a text without anything that a terminal would obey: what comes from
// a console, a feed or a file's name is shown as that.
func Printable(s string) string { return words.Printable(s) }

// Answer turns this process into the one that stays root: see BecomeOwner.
func Answer(in io.Reader, out io.Writer) error { return host.Answer(in, out) }

// Mind turns this process into a minder: see Options.Self. It reads its order
// from in, answers on out, and returns when the server is gone.
func Mind(in io.Reader, out io.WriteCloser) error { return host.Mind(in, out) }
