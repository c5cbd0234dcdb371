package plan

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/settings"
	"freshkeel/internal/settings/proof"
	"freshkeel/internal/staging"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
	"freshkeel/internal/written"

	"github.com/aymanbagabas/go-udiff"
)

// Carry is what becomes of one file of settings: the operator's changes are set in the new
// build's own default.
type Carry struct {
	Path    string            `json:"path"`
	Changes []settings.Change `json:"changes"`
	Unsure  bool              `json:"unsure,omitempty"`  // the old default is not known
	Diff    string            `json:"diff,omitempty"`    // from what is installed
	Wrong   string            `json:"wrong,omitempty"`   // why it is left as it is
	Unknown bool              `json:"unknown,omitempty"` // for no default is known: nothing of the new build is lost
	Missing []string          `json:"missing,omitempty"` // keys that the profile sets to a number which the build does not say
	Stop    bool              `json:"stop,omitempty"`    // the profile wants doubts to stop the refit
}

// Count tells how many values have a fate.
func (c *Carry) Count(f settings.Fate) int { return (&settings.Merged{Changes: c.Changes}).Count(f) }

// Doubts are the values that an operator should look at.
func (c *Carry) Doubts() []settings.Change { return (&settings.Merged{Changes: c.Changes}).Doubts() }

// toCarry is a file of settings that the build brings and the operator has.
type toCarry struct {
	at   string       // of the operator's file
	file *locker.File // the new default, under whichever name the build ships it
	here *tree.Entry
	was  *inventory.Owned // the old default, as the inventory has it; nil: not known

	now, old []byte // the defaults themselves, where no file of a build has them
}

// carries notes a file of settings that is the operator's and that the build brings too.
func (d *decider) carries(it *Item, here *tree.Entry, was *inventory.Owned) {
	if here == nil || here.Kind != tree.File || it.File.Kind != tree.File || d.Profile.Server.Keep.Match(it.At) || d.Profile.Starts(it.At) ||
		slices.Contains(d.Profile.Server.Consent, it.At) {
		return
	}
	if max(it.File.Size, here.Size) > settingsMost {
		if d.Profile.Server.Settings.Match(it.At) && (was == nil || was.Sum != it.File.Sum) {
			d.p.Carried = append(d.p.Carried, Carry{Path: it.At,
				Wrong: "it is larger than " + words.Bytes(settingsMost) + ", which settings are not"})
		}
		return
	}
	c := toCarry{at: it.At, file: it.File, here: here}
	if was != nil && was.Kind == tree.File && !was.Sum.IsZero() {
		one := *was
		c.was = &one
	}
	d.carry = append(d.carry, c)
}

// settingsMost bounds a file of settings, in bytes.
const settingsMost = 1 << 20

// mergeScript sets in the makers' new launch script what the operator changed in the old one.
// It tells whether that decides about the file; where it can't be merged it does not.
func (d *decider) mergeScript(it *Item, here *tree.Entry, was *inventory.Owned) (merged bool, err error) {
	p, at := d.p, it.At
	if !d.Profile.Starts(at) || here == nil || was == nil || here.Kind != tree.File || d.replaceDrift ||
		d.Profile.Server.Keep.Match(at) || it.File.Kind != tree.File || it.File.Sum == was.Sum ||
		max(it.File.Size, here.Size) > install.MaxScript {
		return false, nil
	}
	old, err := d.oldDefault(was)
	if err != nil || old == nil {
		return false, err
	}
	now, err := stored(p.Store, it.File)
	if err != nil {
		return false, err
	}
	mine, err := tree.ReadUpTo(d.Path(at), install.MaxScript)
	if err != nil || bytes.Equal(mine, now) || bytes.Equal(mine, old) {
		return false, err
	}
	m := launch.Merge(at, old, now, mine)
	out := Rescript{Path: at, Both: m.Both, Conflicts: m.Conflicts}
	if len(m.Conflicts) == 0 {
		out.Merged, it.owned = true, asBuilt
		if !bytes.Equal(m.Text, mine) {
			p.rewrite(*here, m.Text)
		}
	}
	p.Scripts = append(p.Scripts, out)
	return len(m.Conflicts) == 0, nil
}

// carrySettings sets the operator's changes in the new build's defaults.
func (d *decider) carrySettings() error {
	if err := d.examples(); err != nil {
		return err
	}
	if err := d.writtenOnes(); err != nil {
		return err
	}
	if err := d.unshipped(); err != nil {
		return err
	}
	for _, c := range d.carry {
		rule := d.Profile.CarryOf(c.at)
		if rule.Merge != nil && !*rule.Merge {
			continue
		}
		if err := d.carryOne(c, rule); err != nil {
			return fmt.Errorf("carry %s over: %w", c.at, err)
		}
	}
	return nil
}

// unshipped finds files that a rule sets values in and that the build does not bring: each is its own default.
// A rule that names no file at all is noted.
func (d *decider) unshipped() error {
	known := map[string]bool{}
	for _, c := range d.carry {
		known[c.at] = true
	}
	for _, rule := range d.Profile.Carry {
		named := tree.Patterns{rule.File}
		found := slices.ContainsFunc(d.p.items, func(it Item) bool { return named.Match(it.At) })
		for i := range d.p.Before {
			here := &d.p.Before[i]
			if here.Kind != tree.File || !named.Match(here.Path) || tree.Ours(here.Path) {
				continue
			}
			found = true
			if known[here.Path] || len(rule.Always) == 0 || d.Profile.CarryOf(here.Path).File != rule.File ||
				here.Size > settingsMost || d.p.Brings(here.Path) {
				continue
			}
			mine, err := tree.ReadUpTo(d.Path(here.Path), settingsMost)
			if err != nil {
				return fmt.Errorf("carry %s over: %w", here.Path, err)
			}
			known[here.Path] = true
			d.carry = append(d.carry, toCarry{at: here.Path, here: here, now: mine, old: mine})
		}
		if !found {
			d.p.Uncarried = append(d.p.Uncarried, rule.File)
		}
	}
	return nil
}

// ExampleNames are under which names, the profile's where it says one, builds ship the default of a file that they do not ship
// under its own: an update is not to lay it over what somebody has written.
func ExampleNames(at, named string) []string {
	if named != "" {
		return []string{named}
	}
	dir, name := path.Split(at)
	ext := path.Ext(name)
	stem := strings.TrimSuffix(name, ext)
	out := []string{dir + "defaults/" + name, "defaults/" + at, dir + "default/" + name}
	for _, word := range []string{"default", "example", "sample", "dist"} {
		out = append(out, at+"."+word, dir+stem+"."+word+ext, dir+stem+"-"+word+ext, dir+word+"-"+name)
	}
	return out
}

// defaultsOf is the path in the build that the profile says a file's default has; "" where it
// says none.
func (d *decider) defaultsOf(at string) string {
	if named := d.Profile.CarryOf(at).Defaults; named != profile.Written {
		return named
	}
	return ""
}

// examples finds the defaults of settings that the build ships under another name.
func (d *decider) examples() error {
	p := d.p
	shipped := map[string]bool{}
	for _, c := range d.carry {
		shipped[c.at] = true
	}
	var found []toCarry
	for i := range p.Before {
		here := &p.Before[i]
		at := here.Path
		if here.Kind != tree.File || here.Size > settingsMost || shipped[at] || d.Profile.Starts(at) ||
			!(d.Profile.Server.Settings.Match(at) || d.defaultsOf(at) != "") || d.Profile.Server.Keep.Match(at) ||
			slices.Contains(d.Profile.Server.Consent, at) || p.items.Find(at) != nil {
			continue
		}
		for _, name := range ExampleNames(at, d.defaultsOf(at)) {
			if it := p.items.Find(name); it != nil && it.File.Kind == tree.File && it.File.Size <= settingsMost {
				found = append(found, toCarry{at: at, file: it.File, here: here})
				break
			}
		}
	}
	if len(found) == 0 {
		return nil
	}
	// What the old build had under that name is in the inventory.
	s, err := d.inv.Scan()
	if err != nil {
		return err
	}
	defer s.Close()
	old := map[string]inventory.Owned{}
	for o := s.Next(); o != nil; o = s.Next() {
		if o.Kind == tree.File && !o.Sum.IsZero() {
			for _, c := range found {
				if slices.Contains(ExampleNames(c.at, d.defaultsOf(c.at)), o.Path) {
					old[c.at] = *o
				}
			}
		}
	}
	for _, c := range found {
		if was, known := old[c.at]; known {
			c.was = &was
		}
		d.carry = append(d.carry, c)
	}
	return s.Err()
}

func (d *decider) carryOne(c toCarry, rule profile.Carry) error {
	p, at := d.p, c.at
	if c.was != nil && c.was.Sum == c.file.Sum && len(rule.Always) == 0 {
		return nil // the maker changed nothing
	}
	f, err := d.Open(at)
	if err != nil {
		return err
	}
	mine, err := io.ReadAll(io.LimitReader(f, settingsMost+1))
	f.Close()
	if err != nil {
		return err
	}
	old, now, err := d.defaults(c, mine)
	if err != nil || (c.now != nil && bytes.Equal(old, now) && len(rule.Always) == 0) {
		return err
	}
	out := Carry{Path: at, Stop: rule.Stop}
	always, missing := filled(rule.Always, p.To, d.number)
	out.Missing = missing
	merged, err := mergeSettings(
		at,
		old,
		now,
		mine,
		settings.Rules{Always: always, Never: rule.Never,
			Rename: rule.Rename},
	)
	if err != nil {
		if wrong := (*settings.Wrong)(nil); !errors.As(err, &wrong) {
			return err
		}
		out.Wrong = err.Error()
		p.Carried = append(p.Carried, out)
		return nil
	}
	if why := disproved(merged, old, now, mine, settings.Rules{Always: always, Never: rule.Never, Rename: rule.Rename}); why != "" {
		out.Wrong = why
		p.Carried = append(p.Carried, out)
		return nil
	}
	if merged.Format == "list" && rule.File == "" && !listName.MatchString(path.Base(at)) && !bytes.Equal(mine, old) {
		// It may be prose, of which lines are no entries.
		out.Wrong = "it has no keys that are known here, and whether its lines are entries of a list is not: [[carry]] file = " +
			words.Quote(at) + " in the profile says so"
		p.Carried = append(p.Carried, out)
		return nil
	}
	out.Changes, out.Unsure = merged.Changes, merged.Unsure
	if !bytes.Equal(merged.Text, mine) {
		out.Diff = udiff.Unified(at, at, string(mine), string(merged.Text))
		p.Kept = slices.DeleteFunc(p.Kept, func(k string) bool { return k == at })
		p.Both = slices.DeleteFunc(p.Both, func(k string) bool { return k == at })
		p.Stale = slices.DeleteFunc(p.Stale, func(k string) bool { return k == at })
		p.Differs = slices.DeleteFunc(p.Differs, func(k string) bool { return k == at })
		p.rewrite(*c.here, merged.Text)
	}
	p.Carried = append(p.Carried, out)
	return nil
}

// disproved says why a merge is not what the operator's changes and the maker's ask for, by readers that are not the merge's
// own; "" where it is. Then the file stays as the operator has it.
func disproved(merged *settings.Merged, old, now, mine []byte, r settings.Rules) string {
	if bytes.Equal(merged.Text, mine) {
		return ""
	}
	wrong, err := proof.Check(merged.Format, old, now, mine, merged.Text, proof.Rules{Always: r.Always, Never: r.Never, Rename: r.Rename})
	switch {
	case err != nil:
		return "another reader does not read it as the merge does: " + err.Error()
	case len(wrong) > 0:
		return fmt.Sprintf("your changes and its makers' could not be set into one text rightly: %s", words.Some(wrong, 6))
	}
	return ""
}

// defaults are the old and the new default of a file; the old one is nil where it is not known.
func (d *decider) defaults(c toCarry, mine []byte) (old, now []byte, err error) {
	if c.now != nil {
		return c.old, c.now, nil
	}
	if now, err = stored(d.p.Store, c.file); err != nil {
		return nil, nil, err
	}
	switch {
	case c.was == nil:
		return nil, now, nil
	case c.was.Sum == tree.SumBytes(mine): // nobody changed it
		return mine, now, nil
	case c.was.Sum == c.file.Sum:
		return now, now, nil
	}
	old, err = d.oldDefault(c.was)
	return old, now, err
}

// listName is what files are called in which each line is an entry of its own. Of other texts
// without keys nobody can tell, and one that the operator changed is merged by a rule alone.
var listName = regexp.MustCompile(`(?i)(^|[-_.])(bans?|banned|allow(ed)?|deny|denied|block(ed)?|admins?|stewards?|` +
	`members?|players?|users?|ops)([-_.]|$)|list`)

// mergeSettings merges three texts of a file; old is nil where it is not known.
func mergeSettings(at string, old, now, mine []byte, r settings.Rules) (*settings.Merged, error) {
	n, err := settings.Read(at, now)
	if err != nil {
		return nil, fmt.Errorf("the new build's: %w", err)
	}
	m, err := settings.Read(at, mine)
	if err != nil {
		return nil, fmt.Errorf("yours: %w", err)
	}
	format := n.Format
	if format == "list" { // it may say too little to tell what it is
		format = m.Format
	}
	if n, err = settings.ReadAs(format, now); err != nil {
		return nil, fmt.Errorf("the new build's: %w", err)
	}
	if m, err = settings.ReadAs(format, mine); err != nil {
		return nil, fmt.Errorf("yours: %w", err)
	}
	var o *settings.Doc
	if old != nil {
		if o, err = settings.ReadAs(format, old); err != nil {
			o = nil // as if it were not known
		}
	}
	return settings.Merge(o, n, m, r)
}

// filled are values with {version} and {build} filled in; missing are the keys of those that ask
// for a number of the build where that has none.
func filled(always map[string]string, version, number string) (out map[string]string, missing []string) {
	out = map[string]string{}
	for _, key := range slices.Sorted(maps.Keys(always)) {
		value := always[key]
		if strings.Contains(value, "{build}") && number == "" {
			missing = append(missing, key)
			continue
		}
		out[key] = strings.NewReplacer("{version}", version, "{build}", number).Replace(value)
	}
	return out, missing
}

// oldDefault is the text that the old build had of a file, out of the locker; nil where that
// does not have it.
func (d *decider) oldDefault(was *inventory.Owned) ([]byte, error) {
	if d.stored == nil {
		d.stored = inventory.ContentOf(d.p.Store, d.p.oldSets)
	}
	f, ok := d.stored[was.Sum]
	if !ok || f.Size > settingsMost {
		return nil, nil
	}
	return stored(d.p.Store, &f)
}

func stored(l *locker.Locker, f *locker.File) ([]byte, error) {
	var b bytes.Buffer
	err := l.Copy(&b, *f)
	return b.Bytes(), err
}

// SameButCarried tells whether two plans differ in nothing but the texts of settings, which the
// server wrote anew as it stopped.
func SameButCarried(a, b *Plan) bool {
	carried := map[string]bool{}
	for _, c := range append(slices.Clone(a.Carried), b.Carried...) {
		carried[c.Path] = true
	}
	for at, text := range a.Texts {
		if !carried[at] && !bytes.Equal(text, b.Texts[at]) {
			return false
		}
	}
	return len(a.Texts) == len(b.Texts) && slices.Equal(a.Steps, b.Steps) && slices.Equal(a.Drifted, b.Drifted) &&
		slices.Equal(a.Mended, b.Mended) && sameLines(a, b)
}

// Restage lays the settings of a plan out once more, in place of those that were staged before.
func (pr *Planner) Restage(run swap.Run, p *Plan) error {
	for _, c := range p.Carried {
		text, ok := p.Texts[c.Path]
		if !ok {
			continue
		}
		now, _, err := tree.Describe(pr.Path(c.Path), c.Path)
		if err != nil {
			return err
		}
		if err := staging.Text(run.Staged(c.Path), text, now); err != nil {
			return fmt.Errorf("stage %s again: %w", c.Path, err)
		}
	}
	return nil
}

// Changed is what the operator changed in one file of settings against a default.
type Changed struct {
	Path    string            `json:"path"`
	Changes []settings.Change `json:"changes"`
	Wrong   string            `json:"wrong,omitempty"` // why it can't be told
	Rule    bool              `json:"rule,omitempty"`  // the profile has no rule yet by which it would be carried
}

// SettingsChanged tells, for each file of settings that set ships, what the operator's differs
// from it in. Files that nothing matches in only are left out; none: all. set is a build of the
// locker, whose files have the names that the install uses by [place].
func (pr *Planner) SettingsChanged(set *locker.Set, only tree.Patterns) ([]Changed, error) {
	l, err := pr.Locker()
	if err != nil {
		return nil, err
	}
	items, _, _ := Placed(set, pr.Profile.Place)
	out := []Changed{}
	for _, it := range items {
		if it.File.Kind != tree.File || it.File.Size > settingsMost || !pr.Profile.Server.Settings.Match(it.At) ||
			pr.Profile.Starts(it.At) || (len(only) > 0 && !only.Match(it.At)) {
			continue
		}
		f, err := pr.Open(it.At)
		if err != nil {
			continue // the operator has none of it
		}
		mine, err := io.ReadAll(io.LimitReader(f, settingsMost+1))
		f.Close()
		if err != nil {
			return nil, err
		}
		shipped, err := stored(l, it.File)
		if err != nil {
			return nil, err
		}
		out = append(out, changedFrom(it.At, shipped, mine))
	}
	d, err := written.Of(pr.Home, set.ID)
	if err != nil || d == nil {
		return out, err
	}
	for _, at := range d.Files {
		mine, err := tree.ReadUpTo(pr.Path(at), settingsMost)
		if err != nil || (len(only) > 0 && !only.Match(at)) ||
			slices.ContainsFunc(out, func(c Changed) bool { return c.Path == at }) {
			continue
		}
		text, err := d.Text(at)
		if err != nil {
			return nil, err
		}
		out = append(out, changedFrom(at, text, mine))
	}
	return out, nil
}

// Unshipped lists the files of settings, of those that only names, of which neither a build nor an example of it has a
// default: the server writes them itself.
func (pr *Planner) Unshipped(set *locker.Set, only tree.Patterns) (out []string, err error) {
	list, err := tree.Walk(pr.Dir, pr.Profile.Server.Skip)
	if err != nil {
		return nil, err
	}
	items, _, _ := Placed(set, pr.Profile.Place)
	for _, e := range list {
		at := e.Path
		if e.Kind != tree.File || e.Size > settingsMost || tree.Ours(at) || pr.Profile.Starts(at) ||
			at == profile.FileName ||
			pr.Profile.Server.Keep.Match(at) || !pr.Profile.Server.Settings.Match(at) ||
			len(only) > 0 && !only.Match(at) || !profile.SettingsByName(at) || items.Find(at) != nil ||
			slices.ContainsFunc(ExampleNames(at, pr.Profile.CarryOf(at).Defaults),
				func(name string) bool { return items.Find(name) != nil }) {
			continue
		}
		out = append(out, at)
	}
	return out, nil
}

// changedFrom tells what differs between a default and the operator's file.
func changedFrom(at string, text, mine []byte) Changed {
	c := Changed{Path: at, Changes: []settings.Change{}}
	merged, err := mergeSettings(at, text, text, mine, settings.Rules{})
	if err != nil {
		c.Wrong = err.Error()
	} else {
		c.Changes = append(c.Changes, merged.Changes...)
	}
	return c
}
