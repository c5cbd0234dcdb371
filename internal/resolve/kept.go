package resolve

import (
	"fmt"
	"regexp"

	"freshkeel/internal/fetch"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/version"
)

// Ours tells which builds of the locker are this server's, and why: the locker is shared by
// servers of several games, of which two may have the same version. Of two reasons the weightier
// is told.
func (rs *Resolver) Ours() (map[string]string, error) {
	out := map[string]string{}
	for _, o := range rs.Origins() {
		m := rs.memory(o)
		for _, known := range []map[string]string{m.Sets, m.Marks} {
			for _, id := range known {
				out[id] = "fetched from its source"
			}
		}
	}
	all, err := rs.Book.All()
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		for _, id := range []string{e.FromBuild, e.Build} {
			if id != "" {
				out[id] = "part of " + e.ID
			}
		}
	}
	inv, err := rs.inv.Head()
	if err != nil {
		return nil, err
	}
	for _, id := range inv.Sets() {
		if id != "" {
			out[id] = Installed
		}
	}
	delete(out, "")
	return out, nil
}

// Installed is why a build is a server's that runs it.
const Installed = "installed"

// numbered is what backups and runs are called: no version is meant by it.
var numbered = regexp.MustCompile(`^[br]\d{4,}$`)

// Kept is the newest build of a version that the locker holds and that is this server's, or the
// one of a name in the locker; nil for none.
func (rs *Resolver) Kept(name string) (*locker.Set, error) {
	l, err := rs.Locker()
	if err != nil {
		return nil, err
	}
	heads, err := l.Heads(locker.Builds)
	if err != nil {
		return nil, err
	}
	ours, err := rs.Ours()
	if err != nil {
		return nil, err
	}
	var found *locker.Set
	for _, h := range heads {
		switch {
		case h.Damage != "":
		case h.ID == name:
			return h, nil
		case (ours[h.ID] == "" && h.Root != rs.Dir) || numbered.MatchString(name) || h.Version == "" ||
			version.Alike(h.Version, name) != version.Same:
		case found == nil || ours[h.ID] == Installed || (ours[found.ID] != Installed && h.Taken.After(found.Taken)):
			found = h
		}
	}
	return found, nil
}

// keptBuild is a version that the source does not give, out of the locker: why is what keeps
// the source from it. It is nil where the locker has none either.
func (rs *Resolver) keptBuild(ver string, why error) (*Candidate, error) {
	if ver == "" {
		return nil, nil
	}
	set, err := rs.Kept(ver)
	if set == nil || err != nil {
		return nil, err
	}
	src := rs.Profile.Source
	if src.Key != "" && set.Vouched == "" {
		return nil, nil // it was fetched before there was a key, and nobody can vouch for it now
	}
	rs.Note("%s is taken out of the locker, from %s: %v", set.Version, fetch.Shown(set.Source), why)
	return &Candidate{Version: set.Version, Channel: set.Channel,
		Source: fmt.Sprintf("the locker, where it came from %s", fetch.Shown(set.Source)),
		Src: profile.Source{
			Key:     src.Key,
			Silence: src.Silence,
		}, Place: rs.Profile.Place, Guess: true, Set: set.ID}, nil
}
