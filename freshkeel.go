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
// A caller opens an install, asks what a refit would do, and has it done:
//
//	k, err := freshkeel.Open(dir, freshkeel.Options{Home: home, Self: self, Env: os.Environ()})
//	pre, err := k.Preflight(ctx, freshkeel.Want{})     // the newest build of the profile's channel
//	e, err := k.Refit(ctx, freshkeel.Want{Version: pre.To})
//
// Sizes are in bytes, times are the machine's, and paths of an install are relative to it,
// with slashes. A Keel is for one command: it is not safe for use by several goroutines.
//
// Everything about one install that is not the operator's stands in its folder
// .freshkeel; builds and backups stand in the locker, under Options.Home. The rooms
// behind this package are drawn in docs/architecture.md.
package freshkeel

import (
	"context"
	"os"

	"freshkeel/internal/acquire"
	"freshkeel/internal/audit"
	"freshkeel/internal/backups"
	"freshkeel/internal/change"
	"freshkeel/internal/check"
	"freshkeel/internal/data"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/kept"
	"freshkeel/internal/lessons"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/putback"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/server"
)

// Keel is one install under care.
type Keel struct {
	Dir     string // absolute
	Profile *profile.Profile

	in      *install.Install
	inv     *inventory.Kept
	res     *resolve.Resolver
	acq     *acquire.Acquirer
	rts     *runtimes.Rack
	planner *plan.Planner
	shelf   *backups.Shelf
	checker *check.Checker
	outside *data.Outside
	srv     *server.Server
	changer *change.Changer

	Auditor *audit.Auditor // holds the install against what was put there
	Keeper  *kept.Keeper   // what the locker holds besides backups
	Lessons *lessons.Book  // what the server was seen to do, and the profile's text
}

// AnswerWord is the hidden word by which this program answers as root: see AnswerBySudo.
const AnswerWord = "answer-as-root"

// ErrNotAdopted says that a folder has no profile.
var ErrNotAdopted = profile.ErrNone

// Open opens the install at dir, which must have a profile.
func Open(dir string, o Options) (*Keel, error) {
	in, err := install.Open(dir, o)
	if err != nil {
		return nil, err
	}
	for _, part := range in.Parts() {
		if part.Profile.Host.Rights == profile.BySudo && os.Geteuid() > 0 && len(o.Self) > 0 && !part.Outside() {
			if err := host.AskBySudo(o.Self[0], AnswerWord, in.Dir); err != nil {
				in.Warn("%v; freshkeel unit --rights prints the rule", err)
			}
			break
		}
	}
	return newKeel(in), nil
}

func newKeel(in *install.Install) *Keel {
	inv := inventory.New(in)
	res := resolve.New(in, inv)
	rts := runtimes.New(in, res)
	acq := acquire.New(inv, res)
	planner, shelf := plan.New(inv, res, rts), backups.New(in, acq, res)
	k := &Keel{Dir: in.Dir, Profile: in.Profile, in: in, inv: inv, res: res, acq: acq, rts: rts, planner: planner,
		shelf: shelf, checker: check.New(inv, res, rts, planner, shelf), outside: data.New(in), srv: server.New(in),
		Lessons: lessons.New(in, inv), Auditor: audit.New(inv), Keeper: kept.New(in)}
	k.changer = &change.Changer{In: in, Inv: inv, Res: res, Acq: acq, Planner: planner, Shelf: shelf, Outside: k.outside, Srv: k.srv,
		Returner: putback.New(in), Auditor: k.Auditor}
	return k
}

// begin is how every command that changes the install starts: alone, and with
// what a crash left behind settled.
func (k *Keel) begin(ctx context.Context, doing string) (unlock func(), err error) {
	if unlock, err = k.in.Lock(doing); err != nil {
		return nil, err
	}
	if doing != "stop" { // a server can be stopped when a disk of it is lost
		if err := k.in.Bind(); err != nil {
			unlock()
			return nil, err
		}
	}
	k.srv.TakeOver(ctx)
	k.srv.LetGo()
	if _, err := k.changer.Recover(ctx); err != nil {
		unlock()
		return nil, err
	}
	return unlock, nil
}
