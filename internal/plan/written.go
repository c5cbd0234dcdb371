package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"freshkeel/internal/acquire"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/written"
)

// wantsWritten tells whether the profile has settings whose default a server writes at its first
// start.
func (pr *Planner) wantsWritten() bool {
	return slices.ContainsFunc(pr.Profile.Carry, func(c profile.Carry) bool { return c.Defaults == profile.Written })
}

// Harvest sees to it that the defaults are known which a build writes at its first start: of
// the one that is wanted, and of the installed one. Each is booted once, in a folder apart. A
// build that can't be booted so is told, and its defaults count as not known.
func (pr *Planner) Harvest(ctx context.Context, f *acquire.Fetched, w resolve.Want) error {
	if !pr.wantsWritten() || f.Candidate.AsInstalled {
		return nil
	}
	old, err := pr.installed()
	if err != nil {
		return err
	}
	for _, one := range []*acquire.Fetched{old, f} {
		if one == nil {
			continue
		}
		if err := pr.harvest(ctx, one, w); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			pr.Warn(
				"the defaults that %s writes at its first start are not known: %v",
				version.OrUnknown(one.Version),
				err,
			)
			if a := (*tell.Advised)(nil); errors.As(err, &a) {
				pr.Note("%s", a.Do)
			}
		}
	}
	return nil
}

// WrittenBy sees to it that the defaults are known which the installed build writes of some files at its first start,
// as if the profile had a rule for each. It returns those for which it has none.
func (pr *Planner) WrittenBy(ctx context.Context, files []string, w resolve.Want) (ruleless []string, err error) {
	had := pr.Profile.Carry
	defer func() { pr.Profile.Carry = had }()
	for _, at := range files {
		if pr.Profile.CarryOf(at).File == "" {
			ruleless = append(ruleless, at)
			pr.Profile.Carry = append(slices.Clip(pr.Profile.Carry), profile.Carry{File: tree.Literally(at),
				Defaults: profile.Written})
		}
	}
	old, err := pr.installed()
	if err != nil || old == nil || !pr.wantsWritten() {
		return ruleless, err
	}
	return ruleless, pr.harvest(ctx, old, w)
}

// installed is the build that is installed, with its layers, as far as the locker has it; nil
// where it does not.
func (pr *Planner) installed() (*acquire.Fetched, error) {
	inv, err := pr.inv.Head()
	if err != nil || inv.Build == "" {
		return nil, err
	}
	l, err := pr.Locker()
	if err != nil {
		return nil, err
	}
	read := func(id, ver, layer string, place map[string]string) *acquire.Fetched {
		set, err := l.Read(locker.Builds, id)
		if err != nil {
			return nil
		}
		return &acquire.Fetched{Set: set, Version: ver, Layer: layer,
			Candidate: &resolve.Candidate{Version: ver, Place: place, Set: id, Layer: layer}}
	}
	out := read(inv.Build, inv.Version, "", pr.Profile.Place)
	for _, laid := range inv.Layers {
		if out == nil {
			break
		}
		o, err := pr.res.Layer(laid.Name)
		if err != nil {
			continue
		}
		if one := read(laid.Build, laid.Version, laid.Name, o.Place); one != nil {
			out.Layers = append(out.Layers, one)
		}
	}
	return out, nil
}

// harvest boots one build, if it was not booted before.
func (pr *Planner) harvest(ctx context.Context, f *acquire.Fetched, w resolve.Want) error {
	var rules []string
	for _, c := range pr.Profile.Carry {
		if c.Defaults == profile.Written {
			rules = append(rules, c.File)
		}
	}
	if d, err := written.Of(pr.Home, f.Set.ID); err != nil || d != nil && d.Covers(rules) || f.Set.ID == "" {
		return err
	}
	p, err := pr.Make(f, w)
	if err != nil {
		return err
	}
	read := map[string][]byte{} // of the operator's own files, which the script reads
	s := p.Script(pr)
	under := func(at string) ([]byte, bool) {
		b, ok := p.texts(at)
		if ok {
			read[at] = b
			return b, true
		}
		if tree.Local(at) && p.items.Find(at) == nil {
			if b, err := tree.ReadUpTo(pr.Path(at), mostScript); err == nil {
				read[at] = b
				return b, true
			}
		}
		return nil, false
	}
	s.Under = under
	// It needs no memory for players, and the server that runs needs all that it has.
	if _, _, err := s.Grant(launch.Wish{First: "64M", Most: "1G", Of: func(c launch.Command) bool {
		first, most := c.Heap()
		return first > 64<<20 || most > 1<<30
	}}); err != nil {
		return err
	}
	for at, b := range s.Texts() {
		if at != s.Label { // which is no file
			read[at] = b
		}
	}
	start := written.Start{Build: f.Set.ID, Version: version.OrUnknown(f.Version), Openly: w.LetBoot, Rules: rules}
	if pr.Profile.Launch.Script == "" { // what a service runs by its own line
		commands, err := s.Commands()
		if err != nil {
			return err
		}
		if len(commands) != 1 || commands[0].Path == "" {
			return errors.New("no launch script is named, and what runs the server is not one program that is found")
		}
		start.Run = append([]string{commands[0].Path}, commands[0].Args...)
		start.In = commands[0].Dir
	}
	for i := range p.items {
		it := &p.items[i]
		if _, ours := read[it.At]; !ours {
			start.Lay = append(start.Lay, written.Laid{At: it.At, File: it.File})
		}
	}
	for at, b := range read {
		start.Lay = append(start.Lay, written.Laid{At: at, Text: b})
	}
	for _, at := range pr.Profile.Server.Consent { // it is given for this server
		if b, err := tree.ReadUpTo(pr.Path(at), written.Most); err == nil {
			start.Lay = append(start.Lay, written.Laid{At: at, Text: b})
		}
	}
	d, err := written.Harvest(ctx, pr.Install, p.Store, start, func(at string) bool {
		return pr.Profile.CarryOf(at).Defaults == profile.Written
	})
	if err != nil {
		return err
	}
	if len(d.Said) > 0 {
		pr.Note("%s did not come up in its folder apart; it said: %s", start.Version, d.Said[len(d.Said)-1])
	}
	return nil
}

// mostScript bounds a file of the operator's that a launch script reads, in bytes.
const mostScript = 1 << 20

// writtenOnes finds the defaults of settings that the builds write at their first start.
func (d *decider) writtenOnes() error {
	if !d.wantsWritten() {
		return nil
	}
	p := d.p
	now, err := written.Of(d.Home, p.Set.ID)
	if err != nil {
		return err
	}
	inv, err := d.inv.Head()
	if err != nil {
		return err
	}
	was, err := written.Of(d.Home, inv.Build)
	if err != nil {
		return err
	}
	for i := range p.Before {
		here := &p.Before[i]
		at := here.Path
		if here.Kind != tree.File || here.Size > settingsMost || d.Profile.CarryOf(at).Defaults != profile.Written ||
			d.Profile.Starts(at) || slices.ContainsFunc(d.carry, func(c toCarry) bool { return c.at == at }) {
			continue
		}
		c := toCarry{at: at, here: here}
		if now != nil {
			if c.now, err = now.Text(at); err != nil {
				return err
			}
		}
		if was != nil {
			if c.old, err = was.Text(at); err != nil {
				return err
			}
		}
		if c.now == nil {
			why := "its default is not known: the new build was not booted for it"
			if now != nil {
				why = fmt.Sprintf(
					"its default is not known: %s did not write it at its first start",
					version.OrUnknown(p.To),
				)
			}
			p.Carried = append(p.Carried, Carry{Path: at, Wrong: why, Unknown: now != nil})
			continue
		}
		d.carry = append(d.carry, c)
	}
	return nil
}
