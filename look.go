package freshkeel

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"freshkeel/internal/audit"
	"freshkeel/internal/check"
	"freshkeel/internal/compare"
	"freshkeel/internal/locker"
	"freshkeel/internal/migrate"
	"freshkeel/internal/plan"
	"freshkeel/internal/run"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Preflight fetches the build that is wanted, makes the plan and runs every
// check. It changes nothing of the install.
func (k *Keel) Preflight(ctx context.Context, w Want) (*Preflight, error) {
	for _, a := range w.Accept {
		if !slices.Contains(check.Acceptable, a) {
			return nil, tell.Misuse(fmt.Sprintf("check %q can't be accepted; these can: %s", a,
				strings.Join(check.Acceptable, ", ")), "freshkeel preflight --all")
		}
	}
	if err := k.in.Whole(); err != nil {
		return nil, err
	}
	fetched, err := k.acq.Chain(ctx, w)
	if err != nil {
		return nil, err
	}
	for _, f := range fetched {
		if err := k.planner.Harvest(ctx, f, w); err != nil {
			return nil, err
		}
	}
	var pre *Preflight
	_, err = k.in.Step("check", func() (sum string, err error) {
		for n, f := range fetched {
			one, err := k.checker.Run(ctx, w, f, n)
			if err != nil {
				return "", err
			}
			one.Alone, one.All = k.alone(one, w)
			if pre == nil {
				pre = one
			} else {
				pre.Later(one)
			}
			if len(fetched) > 1 {
				pre.Chain = append(pre.Chain, one.To)
			}
		}
		return fmt.Sprintf("%d checks: %d stop, %d warn", len(check.Checks)*len(fetched), len(pre.Stops()),
			len(pre.Warnings())), nil
	})
	return pre, err
}

// alone names the parts that a refit stops, where the profile lets others run on; nil: it stops
// all of them, and why tells why, where some could run on. Data outside, what its makers want done to it,
// and a consent that may be given at the start are of the whole server.
func (k *Keel) alone(pre *Preflight, w Want) (names []string, why string) {
	st := k.in.Host().Status()
	if len(k.Profile.Parts) == 0 || !st.Running || st.Partly || pre.Plan.Nothing() {
		return nil, ""
	}
	names = k.couldAlone(pre)
	var stopping []string
	for _, part := range k.in.Parts() {
		if !part.Outside() {
			stopping = append(stopping, part.PartName())
		}
	}
	all := strings.Join(stopping, ", ")
	switch {
	case len(names) == 0:
		return nil, ""
	case len(k.Profile.Data) > 0:
		why = fmt.Sprintf("%s are stopped, though only files of %s change: the data outside ([[data]] %s) is of the whole server, and "+
			"its dump is taken with all of them down", all, strings.Join(names, ", "), k.Profile.Data[0].Name)
	case len(migrate.Due(k.Profile, pre.From, pre.To)) > 0:
		why = fmt.Sprintf("%s are stopped, though only files of %s change: a migration is of the whole server", all,
			strings.Join(names, ", "))
	case len(w.Consent)+len(k.Profile.Server.Consent) > 0:
		why = fmt.Sprintf("%s are stopped, though only files of %s change: a consent may be asked of any of them at its start", all,
			strings.Join(names, ", "))
	}
	if why != "" {
		return nil, why
	}
	return names, ""
}

// couldAlone names the parts whose files, or whose service's line, a plan changes, and those after them.
func (k *Keel) couldAlone(pre *Preflight) []string {
	var paths, lined []string
	for _, s := range pre.Plan.Steps {
		paths = append(paths, s.Path)
	}
	for _, l := range pre.Plan.Lines {
		for _, part := range k.Profile.Parts {
			if part.Host.Unit == l.Unit {
				lined = append(lined, part.Name)
			}
		}
	}
	return k.Profile.Alone(paths, lined)
}

// What an audit finds: see Keel.Auditor.
type (
	AuditOrder   = audit.Order   // how to look
	AuditReport  = audit.Report  // what was found
	AuditFinding = audit.Finding // one path
)

// These say how a finding is put right.
const (
	MendNow     = audit.Now
	MendStopped = audit.Stopped
)

// FoundForeign is the kind of a finding that nobody put there.
const FoundForeign = audit.Foreign

// MendAudit audits an install, and puts back what can be put back as things are.
func (k *Keel) MendAudit(ctx context.Context, o AuditOrder) (*AuditReport, error) {
	unlock, err := k.begin(ctx, "audit")
	if err != nil {
		return nil, err
	}
	defer unlock()
	r, err := k.Auditor.Look(ctx, o)
	if err != nil {
		return nil, err
	}
	err = k.Auditor.Mend(ctx, r)
	run.Prune(k.in)
	return r, err
}

// How two trees differ: see Compare.
type (
	CompareOrder = compare.Order
	Comparison   = compare.Result
	Difference   = compare.Difference
)

// Compare tells how two trees differ, each named by a word: «now» for the install as it is, a
// path, a backup, a refit, a version (docs/commands.md). Without an install, k being nil, only
// paths can be meant.
func Compare(ctx context.Context, k *Keel, first, second string, how CompareOrder, o Options) (*Comparison, error) {
	n := compare.Namer{}
	if k != nil {
		n.Inv, n.Shelf, n.Res, n.Acq = k.inv, k.shelf, k.res, k.acq
	}
	a, b, err := n.Sides(ctx, first, second)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	defer b.Close()
	return compare.Sides(ctx, a, b, how, tell.Teller(o.Observe).Moves("compare"))
}

// TellOnce is which routine findings of a preflight were told before, by what they say; now they are told.
func (k *Keel) TellOnce(pre *Preflight) map[string]bool { return pre.TellOnce(k.in) }

// Settings of the operator's.
type (
	SettingsChanged = plan.Changed  // what was changed in one file
	Carry           = plan.Carry    // what becomes of one file with a new build
	Rescript        = plan.Rescript // a launch script that changes with a build
)

// ChangedSettings tells what the operator changed in settings against the defaults of the build
// that is installed, or of another version. of is the version that it was held against.
func (k *Keel) ChangedSettings(ctx context.Context, against string, only []string) (list []SettingsChanged, of string,
	err error) {
	if against != "" {
		f, err := k.acq.Goal(ctx, Want{Version: against, Back: true})
		if err != nil {
			return nil, "", err
		}
		list, err = k.planner.SettingsChanged(f.Set, only)
		return list, f.Version, err
	}
	head, err := k.inv.Head()
	if err != nil {
		return nil, "", err
	}
	l, err := k.in.Locker()
	if err != nil {
		return nil, "", err
	}
	if head.Build == "" || !l.Has(locker.Builds, head.Build) {
		return nil, "", tell.Advise(
			errors.New("the locker does not have the build that is installed, so its defaults are "+
				"not known"),
			"freshkeel adopt "+words.Shell(k.Dir)+" --build PATH, with the archive that it came from",
		)
	}
	set, err := l.Read(locker.Builds, head.Build)
	if err != nil {
		return nil, "", err
	}
	pats := tree.Patterns(only)
	if err := k.in.Choose(&pats); err != nil {
		return nil, "", err
	}
	own, err := k.planner.Unshipped(set, pats)
	if err != nil {
		return nil, "", err
	}
	ruleless, why := k.planner.WrittenBy(ctx, own, Want{})
	if list, err = k.planner.SettingsChanged(set, pats); err != nil {
		return nil, "", err
	}
	for _, at := range own {
		i := slices.IndexFunc(list, func(c SettingsChanged) bool { return c.Path == at })
		if i < 0 {
			said := "the build does not ship it, and did not write it at its first start in a folder apart: no " +
				"default of it is known"
			if why != nil {
				said = "the build does not ship it, and could not be booted apart for what it writes itself: " +
					why.Error()
			}
			list = append(list, SettingsChanged{Path: at, Wrong: said})
			continue
		}
		list[i].Rule = slices.Contains(ruleless, at)
	}
	return list, head.Version, nil
}

// CarryWritten adds rules to the profile by which settings that the server writes itself are carried over.
func (k *Keel) CarryWritten(list []SettingsChanged) (files []string, err error) {
	for _, c := range list {
		if c.Rule {
			files = append(files, c.Path)
		}
	}
	return files, k.Lessons.CarryWritten(files)
}
