package change

import (
	"time"

	"freshkeel/internal/acquire"
	"freshkeel/internal/audit"
	"freshkeel/internal/backups"
	"freshkeel/internal/data"
	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/plan"
	"freshkeel/internal/putback"
	"freshkeel/internal/resolve"
	"freshkeel/internal/run"
	"freshkeel/internal/server"
)

// Changer makes the changes of one install.
type Changer struct {
	In       *install.Install
	Inv      *inventory.Kept
	Res      *resolve.Resolver
	Acq      *acquire.Acquirer
	Planner  *plan.Planner
	Shelf    *backups.Shelf
	Outside  *data.Outside
	Srv      *server.Server
	Returner *putback.Returner
	Auditor  *audit.Auditor
}

// only is an install of which a run stops and starts some parts alone.
func (k *Changer) only(parts []string) *Changer {
	if len(parts) == 0 {
		return k
	}
	one := *k
	one.In = k.In.All().Only(parts)
	one.Srv = server.New(one.In)
	return &one
}

// transaction is a refit, a rollback or a restore with what its steps use. Its logbook entry is on disk from the beginning and
// says how far it got.
type transaction struct {
	*run.Run
	k *Changer

	writer *locker.Writer
	copied *locker.Taken // the first backup pass
	told   time.Time     // when the server was told to stop
	gone   time.Time     // when its last process ended
	early  bool          // it goes back from before the new server was started
}

// begin is a run that is to begin.
func (k *Changer) begin(e *logbook.Entry) *transaction {
	t := k.open(e)
	st := t.In.Host().Status()
	e.WasRunning, e.RanSince = st.Running, st.Since
	e.EndRunning = e.EndRunning || e.WasRunning
	e.Boot = host.BootID()
	return t
}

// open is a run by its entry, with the steps of its kind.
func (k *Changer) open(e *logbook.Entry) *transaction {
	k = k.only(e.Alone)
	t := &transaction{Run: &run.Run{In: k.In, E: e, Dir: k.In.Run(e.ID), Moving: k.Srv.MarkLogs}, k: k}
	t.Way = t.way()
	switch e.Kind {
	case logbook.Refit:
		t.Steps = t.refit(nil, resolve.Want{})
	case logbook.Rollback:
		t.Steps = t.rollback()
	case logbook.Restore:
		t.Steps = t.restore(false)
	}
	return t
}

func (t *transaction) close() {
	if t.writer != nil {
		t.writer.Close()
	}
	t.writer, t.copied = nil, nil
}
