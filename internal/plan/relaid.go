package plan

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// relaying finds files of a build that the install has in another folder: its operator laid the content
// of program/ at the top, say. A build that were laid as it is would stand beside the old one, and the
// launch script would go on running that.
type relaying struct {
	*Planner
	p     *Plan
	build Items
	fresh map[string][]string // files of the build that stand nowhere here at their path: by base name
	here  map[string][]string // files here that the build has nothing at the path of, and that may be its: by base name
	run   map[string]bool     // of them: what the launch script runs, or names
	laid  map[string]bool     // of them: what gets a file of the build
}

// ofBuilds are endings of files that builds bring and people do not write.
var ofBuilds = regexp.MustCompile(`(?i)\.(jar|zip|7z|t?gz|zst|so(\.\d+)*|dll|exe|pak|pk3|vpk|wad|bin|dylib|node|wasm)$`)

// IsProgram tells whether a file is, by its name, a program or what one loads: builds bring it, and people do not write
// it.
func IsProgram(at string) bool { return programs.MatchString(at) }

var programs = regexp.MustCompile(`(?i)\.(jar|so(\.\d+)*|dll|exe|dylib|node|wasm)$`)

// relaid lays files of the build where the install has them: a whole folder where one of its files
// stands in another one here, else the one file. What can't be told from its name alone is a stop.
func (pr *Planner) relaid(p *Plan, build Items) (Items, error) {
	r := &relaying{pr, p, build, map[string][]string{}, map[string][]string{}, map[string]bool{}, nil}
	if err := r.look(); err != nil || len(r.fresh) == 0 || len(r.here) == 0 {
		return build, err
	}
	folders, alone := map[string]string{}, map[string]string{}
	for _, at := range append(pr.Runs(), pr.Named()...) {
		at = p.Spelling.Of(at)
		r.run[at] = true
		from := r.like(at)
		if from == "" {
			continue
		}
		if a, b := apart(path.Dir(from), path.Dir(at)); a != "." { // what lies at the top may be much else
			folders[a] = b
		} else if a != b {
			alone[from] = path.Join(path.Dir(at), path.Base(from))
		}
	}
	r.apply(folders, alone)
	return r.build, nil
}

// twice tells of files that the build has elsewhere than they stand here, and that nothing places. Where one
// stands at the top it was laid there by hand, and would go on being used.
func (r *relaying) twice(placed map[string]string) {
	for _, name := range slices.Sorted(maps.Keys(r.here)) {
		to := slices.DeleteFunc(slices.Clone(r.here[name]), func(at string) bool { return r.laid[at] })
		from := slices.DeleteFunc(slices.Clone(r.fresh[name]), func(at string) bool { return placed[at] != "" })
		if len(from) == 0 || len(to) == 0 || !(ofBuilds.MatchString(name) || r.run[to[0]]) {
			continue
		}
		slices.Sort(to)
		if _, b := apart(path.Dir(from[0]), path.Dir(to[0])); b != "." && !r.run[to[0]] {
			r.p.Apart = append(r.p.Apart, inventory.Move{From: from[0], To: to[0]})
			continue
		}
		r.p.Blocked = append(r.p.Blocked, Blocked{to[0],
			fmt.Sprintf("the build has a file of that name elsewhere, %s: laid as it is, the server would go on using "+
				"the old one", words.Some(from, 3)),
			fmt.Sprintf("say where it belongs: freshkeel profile set %s %s; or, if the one here is yours: freshkeel "+
				"profile set --add server.keep "+
				"%s", words.Shell("place."+from[0]), words.Shell(to[0]), words.Shell(to[0]))})
	}
}

// look lists what may belong together.
func (r *relaying) look() error {
	standing := map[string]bool{}
	for _, e := range r.p.Before {
		if e.Kind == tree.File && r.build.Find(e.Path) == nil && !r.Profile.Server.Keep.Match(e.Path) &&
			!r.Profile.Server.Skip.Match(e.Path) && !profile.Reserved(e.Path) && !r.Profile.Starts(e.Path) {
			standing[e.Path] = true
		}
	}
	if len(standing) == 0 {
		return nil
	}
	ours, err := r.asMade(standing)
	if err != nil {
		return err
	}
	for at := range standing {
		if !ours[at] {
			r.here[path.Base(at)] = append(r.here[path.Base(at)], at)
		}
	}
	for _, it := range r.build {
		if _, stands := r.p.Before.Get(it.At); stands || it.File.Kind != tree.File || it.At != it.File.Path ||
			profile.Reserved(it.At) || r.Profile.Server.Own(it.At) || r.Profile.Server.Skip.Match(it.At) {
			continue
		}
		r.fresh[path.Base(it.At)] = append(r.fresh[path.Base(it.At)], it.At)
	}
	return nil
}

// asMade lists the files, of those that stand here, that the old build had at the very same path: what
// its makers move from one folder to another is their own to move.
func (r *relaying) asMade(standing map[string]bool) (map[string]bool, error) {
	made := map[string]bool{}
	if !r.p.Known {
		return made, nil
	}
	old := map[string]bool{}
	for _, id := range r.p.oldSets {
		s, err := r.p.Store.Read(locker.Builds, id)
		if err != nil { // not in the locker any more: then what is recorded is taken as its makers' order
			old = nil
			break
		}
		for _, f := range s.Entries {
			old[r.p.Spelling.Of(f.Path)] = true
		}
	}
	s, err := r.inv.Scan()
	if err != nil {
		return nil, err
	}
	defer s.Close()
	for o := s.Next(); o != nil; o = s.Next() {
		if at := r.p.Spelling.Of(o.Path); standing[at] && (old == nil || old[at]) {
			made[at] = true
		}
	}
	return made, s.Err()
}

// like is the file of the build that a file which is run here can only be: of its name, of its name but
// for a version, or the only one of its kind. "" where the build has that path, or none or several are alike.
func (r *relaying) like(at string) string {
	if !slices.Contains(r.here[path.Base(at)], at) {
		return ""
	}
	if same := r.fresh[path.Base(at)]; len(same) > 0 {
		if len(same) == 1 {
			return same[0]
		}
		return "" // which is told
	}
	var alike []string
	for name, all := range r.fresh {
		if Versionless(name) == Versionless(path.Base(at)) {
			alike = append(alike, all...)
		}
	}
	if len(alike) == 0 && endingOf(at) != "" {
		alike = slices.DeleteFunc(r.ofKind(r.build, endingOf(at)), func(at string) bool {
			return !slices.Contains(r.fresh[path.Base(at)], at)
		})
	}
	if len(alike) != 1 {
		return ""
	}
	return alike[0]
}

// Versionless is the name of a file without the version in it.
func Versionless(name string) string {
	if v := version.In(name); v != "" {
		name = strings.Replace(name, v, "", 1)
	}
	return strings.ToLower(strings.NewReplacer("-", "", "_", "", " ", "", "..", ".").Replace(name))
}

// apart is where two folders part, without what they have in common at the end: program/lib and lib are
// program and the top.
func apart(a, b string) (string, string) {
	for a != "." && b != "." && path.Base(a) == path.Base(b) {
		a, b = path.Dir(a), path.Dir(b)
	}
	return a, b
}

// moved is the folder by which a file of the build is laid elsewhere, and where; "" for where it is.
func moved(folders map[string]string, at string) (folder, to string) {
	for dir := path.Dir(at); ; dir = path.Dir(dir) {
		if to, is := folders[dir]; is && dir != to {
			return dir, path.Join(to, strings.TrimPrefix(at, dir+"/"))
		}
		if dir == "." {
			return "", ""
		}
	}
}

// apply lays what was found, where nothing else of the build lies there.
func (r *relaying) apply(folders, alone map[string]string) {
	placed, count, by := alone, map[string]int{}, map[string]string{}
	for _, it := range r.build {
		if it.File.Kind != tree.File || placed[it.At] != "" || !slices.Contains(r.fresh[path.Base(it.At)], it.At) {
			continue
		}
		folder, to := moved(folders, it.At)
		if to == "" || r.build.Find(to) != nil {
			continue
		}
		placed[it.At] = to
		count[folder]++
		if by[folder] == "" || r.run[to] {
			by[folder] = to
		}
	}
	r.laid = map[string]bool{}
	for _, to := range placed {
		r.laid[to] = true
	}
	r.twice(placed)
	if len(placed) == 0 {
		return
	}
	for from, to := range alone {
		if count[path.Dir(from)] == 0 {
			r.p.Relaid = append(r.p.Relaid, inventory.Move{From: from, To: to})
		}
	}
	for folder, n := range count {
		r.p.Dropped = append(r.p.Dropped, Drop{Folder: folder, To: folders[folder], By: by[folder], Files: n})
	}
	// The folders themselves come with their files, where those are laid.
	out := slices.DeleteFunc(r.build, func(it Item) bool { return it.File.Kind == tree.Dir && count[it.At] > 0 })
	for i := range out {
		if to := placed[out[i].At]; to != "" {
			out[i].At = to
		}
	}
	r.build = out.sorted(nil)
}
