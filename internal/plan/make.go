package plan

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/ahead"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// Make compares a build with the install and decides for every path.
//
// It goes through three lists side by side, each in the order of paths: what the build and
// its layers bring, what stands in the install, and what the inventory says was put there.
// So it holds the first two once, and the third not at all.
func (pr *Planner) Make(f *acquire.Fetched, w resolve.Want) (*Plan, error) {
	list, err := tree.WalkAbout(pr.Dir, pr.Profile.Server.Skip, len(f.Set.Entries)+1000)
	if err != nil {
		return nil, fmt.Errorf("look at the install: %w", err)
	}
	store, err := pr.Locker()
	if err != nil {
		return nil, err
	}
	old, err := pr.inv.Scan()
	if err != nil {
		return nil, err
	}
	defer old.Close()
	was := old.Head
	p := &Plan{Ahead: ahead.New(pr.Install, store, list), From: was.Version, To: f.Version,
		Channel: cmp.Or(f.Candidate.Channel, f.Set.Channel), Set: f.Set,
		Known: was.Known, oldSets: was.Sets(), named: slices.Clone(was.Names),
		sure: !f.Candidate.AsInstalled || was.Known, was: map[string]inventory.Owned{}, HadBelow: map[string]int{}}
	if p.recorded, err = pr.recorded(); err != nil {
		return nil, err
	}
	p.Places, p.Mounted = tree.Places(pr.Dir, list)
	if tree.FoldsCase(pr.Path(profile.FileName)) {
		p.Spelling = tree.SpelledAs(list)
	}
	if err := pr.compose(p, f); err != nil {
		return nil, err
	}
	overwrite, err := pr.overwrites(w.Overwrite, list)
	if err != nil {
		return nil, err
	}
	d := &decider{Planner: pr, p: p, look: pr.inv.Sums(), mend: w.Mend, overwrite: overwrite,
		number: f.Candidate.Build.Number, replaceDrift: slices.Contains(w.Accept, "drift"), left: map[tree.Sum]string{}}
	if err := d.all(old); err != nil {
		return nil, err
	}
	pr.planFolders(p)
	if err := pr.holdBack(p, w); err != nil {
		return nil, err
	}
	d.findMoves()
	if err := d.carrySettings(); err != nil {
		return nil, err
	}
	if err := pr.planScript(p, f, w); err != nil {
		return nil, err
	}
	pr.planConsents(p, w)
	for _, o := range overwrite {
		if !o.used {
			p.Unclaimed = append(p.Unclaimed, o.typed)
		}
	}
	touched := map[string]bool{}
	for _, st := range p.Steps {
		touched[st.Path] = true
	}
	p.Foreign = slices.DeleteFunc(p.Foreign, func(at string) bool { return touched[at] })
	swap.Sort(p.Steps)
	return p, nil
}

// decider decides for every path of one plan.
type decider struct {
	*Planner
	p            *Plan
	look         *inventory.Sums
	number       string // the makers' own of the build
	mend         bool   // changed files are put back as the build has them
	replaceDrift bool   // files that both sides changed become the build's

	overwrite []*overwriting  // what the operator said becomes the build's
	laid      map[string]bool // paths at which a build's file replaces whatever stands there, once it is asked for
	made      int64           // when the last of the programs was made, once it is asked for

	left   map[tree.Sum]string      // content of files that go → path
	known  map[tree.Sum][2]string   // content of programs of the locker's builds → version and name, once it is asked for
	stored map[tree.Sum]locker.File // content of the builds before, once it is asked for
	carry  []toCarry                // settings that are the operator's
}

// all goes through the build, the install and the inventory side by side.
func (d *decider) all(old *inventory.Scanner) error {
	p := d.p
	if !p.Known {
		d.readAhead()
	}
	next, err := old.Spelled(p.Spelling)
	if err != nil {
		return err
	}
	i, j, was := 0, 0, next()
	for i < len(p.items) || j < len(p.Before) || was != nil {
		at := ""
		least := func(other string) {
			if at == "" || other < at {
				at = other
			}
		}
		if i < len(p.items) {
			least(p.items[i].At)
		}
		if j < len(p.Before) {
			least(p.Before[j].Path)
		}
		if was != nil {
			least(was.Path)
		}
		var it *Item
		var here *tree.Entry
		var had *inventory.Owned
		if i < len(p.items) && p.items[i].At == at {
			it, i = &p.items[i], i+1
		}
		if j < len(p.Before) && p.Before[j].Path == at {
			here, j = &p.Before[j], j+1
		}
		if was != nil && was.Path == at {
			had = was
			p.count(had)
		}
		switch {
		case it != nil:
			if here != nil {
				it.here = int32(j - 1)
				if it.File.Path == at { // one text for both
					it.At, it.File.Path = here.Path, here.Path
				}
			}
			err = d.file(it, here, had)
		case here != nil:
			err = d.notInBuild(*here, had)
		}
		if err != nil {
			return err
		}
		if had != nil {
			was = next()
		}
	}
	return old.Err()
}

// readAhead reads the installed files that only their content can tell from the build's.
func (d *decider) readAhead() {
	p := d.p
	var list []tree.Entry
	j := 0
	for _, it := range p.items {
		for j < len(p.Before) && p.Before[j].Path < it.At {
			j++
		}
		if j == len(p.Before) {
			break
		}
		if e := p.Before[j]; e.Path == it.At && e.Kind == tree.File && it.File.Kind == tree.File &&
			e.Size == it.File.Size {
			list = append(list, e)
		}
	}
	d.look.Ahead(list)
}

// file decides what becomes of one file, folder or link of the new build; here is what
// stands at its path, and was what the inventory says of it, each nil for nothing.
//
// The order of the cases is promise P3: what is Fresh Keel's own, and what is skipped, is
// nobody's to exchange; then what the operator owns stays, whatever the build brings; only
// then is anything compared. What the operator changed is replaced in no case but drift
// that was accepted.
func (d *decider) file(it *Item, here *tree.Entry, was *inventory.Owned) error {
	p, at, f := d.p, it.At, it.File
	if profile.Reserved(at) {
		p.Reserved = append(p.Reserved, at)
		return nil
	}
	if d.Profile.Server.Skip.Match(at) {
		return nil
	}
	own := d.Profile.Server.Own(at)
	if f.Kind == tree.Dir { // made where a file needs it, or by planFolders
		if here != nil && here.Kind != tree.Dir && !own {
			p.Blocked = append(p.Blocked, Blocked{at, "the build has a folder there, the install has a " +
				here.Kind.Word(), d.otherKind(at, *here, "/**")})
		}
		return nil
	}
	switch why, by := p.behind(at); {
	case why != "" && own:
		p.Kept = append(p.Kept, at) // and what stands in its way is the operator's
		return nil
	case why != "":
		p.Blocked = append(p.Blocked, Blocked{at, why, d.otherKind(by.Path, by, "/**")})
		return nil
	case own && (here != nil || was != nil || !p.Known):
		p.Kept = append(p.Kept, at)
		// It is noted all the same that the build ships the file: one that the operator
		// deleted is not new in the next build either.
		it.owned = asBuilt
		if merged, err := d.mergeScript(it, here, was); merged || err != nil {
			return err
		}
		d.carries(it, here, was)
		return d.heldBack(it, here, was)
	case here == nil:
		p.come(swap.Add, it, ahead.Coming{At: at, File: f, Mode: f.Mode, UID: f.UID, GID: f.GID})
		return nil
	case here.Kind == tree.Dir:
		p.Blocked = append(p.Blocked, Blocked{at, "the build has a file there, the install has a folder",
			d.otherKind(at, *here, "/**")})
		return nil
	}
	same, err := d.look.SameAs(*here, was, f)
	if err != nil {
		return fmt.Errorf("compare %s: %w", at, err)
	}
	if same {
		p.Unchanged++
		it.owned = asHere
		return nil
	}
	if was != nil && was.Kind == tree.File && here.Kind == tree.File {
		if stays, err := d.changedHere(it, here, was); stays || err != nil {
			return err
		}
	}
	if stays, err := d.claims(it, here, was); stays || err != nil {
		return err
	}
	p.come(swap.Replace, it, inPlaceOf(at, f, here, was))
	return nil
}

// changedHere tells whether a file that the operator, or the server, wrote to stays as it
// is. It says so in the plan.
func (d *decider) changedHere(it *Item, here *tree.Entry, was *inventory.Owned) (stays bool, err error) {
	p, f := d.p, it.File
	sum, err := d.look.Of(*here, was)
	if err != nil {
		return false, fmt.Errorf("compare %s: %w", it.At, err)
	}
	if sum == was.Sum {
		return false, nil // nobody did
	}
	if of, err := d.ofBuild(it.At, sum); err != nil {
		return false, err
	} else if of != "" { // nobody wrote to it: another build's was put in its place
		p.Swapped = append(p.Swapped, Swapped{it.At, of})
		return false, nil
	}
	broken, err := d.damaged(*was, *here)
	switch {
	case err != nil:
		return false, fmt.Errorf("compare %s: %w", it.At, err)
	case broken || (f.Sum == was.Sum && d.mend):
		p.Mended = append(p.Mended, it.At)
		return false, nil
	case f.Sum == was.Sum:
		p.Left = append(p.Left, it.At)
		it.owned = asWas
		p.was[it.At] = *was
		return true, nil
	}
	if merged, err := d.mergeScript(it, here, was); merged || err != nil {
		return true, err
	}
	if profile.SettingsByName(it.At) && !d.replaceDrift { // a server that writes its settings anew is no reason to stop
		p.Both = append(p.Both, it.At)
		it.owned = asBuilt
		d.carries(it, here, was)
		return true, nil
	}
	if d.mayTake(it.At) {
		return false, nil
	}
	p.Drifted = append(p.Drifted, it.At)
	return !d.replaceDrift, nil
}

// ofBuild is the version of another build in the locker that has a file of this name and content; "" for none.
func (d *decider) ofBuild(at string, sum tree.Sum) (of string, err error) {
	if d.known == nil {
		d.known = map[tree.Sum][2]string{}
		heads, err := d.p.Store.Heads(locker.Builds)
		if err != nil {
			return "", err
		}
		for _, h := range heads {
			d.p.Store.Each(locker.Builds, h.ID, func(f *locker.File) {
				if f.Kind == tree.File && f.Size > 0 && ofBuilds.MatchString(f.Path) {
					d.known[f.Sum] = [2]string{version.OrUnknown(h.Version), path.Base(f.Path)}
				}
			})
		}
	}
	if k, is := d.known[sum]; is && Versionless(k[1]) == Versionless(path.Base(at)) {
		return k[0], nil
	}
	return "", nil
}

// inPlaceOf is a file that comes in the place of another: the install's own mode and owner
// are kept, and a program stays a program.
func inPlaceOf(at string, f *locker.File, here *tree.Entry, was *inventory.Owned) ahead.Coming {
	c := ahead.Coming{At: at, File: f, Mode: f.Mode, UID: here.UID, GID: here.GID}
	if f.Kind == tree.File && here.Kind == tree.File {
		c.Mode = here.Mode
		if was != nil {
			c.Mode |= f.Mode & 0o111 &^ was.Mode
		}
	}
	return c
}

// heldBack notes a file of the build that stays out because it is the operator's own by
// the profile. Where nobody changed it since the old build brought it, the new program
// runs with what belongs to the old one.
func (d *decider) heldBack(it *Item, here *tree.Entry, was *inventory.Owned) error {
	p := d.p
	switch {
	case it.File.Kind != tree.File:
		return nil
	case here == nil && was == nil: // new in this build, or taken away by the operator: not known
		p.Differs = append(p.Differs, it.At+" (not there)")
		return nil
	case here == nil || here.Kind != tree.File:
		return nil
	}
	sum, err := d.look.Of(*here, was)
	if err != nil {
		return fmt.Errorf("compare %s: %w", it.At, err)
	}
	switch {
	case sum == it.File.Sum:
	case was != nil && sum == was.Sum:
		p.Stale = append(p.Stale, it.At)
	case was == nil:
		p.Differs = append(p.Differs, it.At)
		if IsProgram(it.At) || d.isProgram(it.File) {
			p.OldPrograms = append(p.OldPrograms, it.At)
		}
	}
	return nil
}

// notInBuild decides about a file that stands in the install and is not in the new
// build: what the old build put there, and nobody changed, goes. Without knowledge of the
// old build nothing of it is removed.
func (d *decider) notInBuild(here tree.Entry, was *inventory.Owned) error {
	p, at := d.p, here.Path
	own := d.Profile.Server.Own(at) || d.Profile.Starts(at)
	if here.Kind != tree.Dir && !(was != nil && p.Known && was.Kind == here.Kind) && !own {
		p.Foreign = append(p.Foreign, at)
	}
	if was == nil || (!p.Known && was.Layer == "") || was.Kind == tree.Dir || here.Kind != was.Kind || own ||
		p.isBehind(at) {
		return nil
	}
	if here.Kind == tree.File {
		sum, err := d.look.Of(here, was)
		if err != nil {
			return fmt.Errorf("compare %s: %w", at, err)
		}
		if sum != was.Sum {
			p.Left = append(p.Left, at)
			return nil
		}
		if was.Size > 0 {
			d.left[was.Sum] = at
		}
	}
	p.remove(at)
	return nil
}

// behind tells what stands in the way above a path: a swap goes through real
// folders alone, never through a link to somewhere else.
func (p *Plan) behind(at string) (why string, by tree.Entry) {
	for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
		if e, ok := p.Before.Get(dir); ok && e.Kind != tree.Dir {
			if e.Kind == tree.Link {
				return fmt.Sprintf("%s is a link to %s, and files behind a link are not exchanged", dir, e.Target), e
			}
			return fmt.Sprintf("%s is a file in the install and a folder in the build", dir), e
		}
	}
	return "", tree.Entry{}
}

func (p *Plan) isBehind(at string) bool {
	why, _ := p.behind(at)
	return why != ""
}

// otherKind advises what to do about a path that is of another kind in the install than
// in the build. What stands there may be the operator's, a world on another disk say, and
// the running server's: nothing is to be moved under it.
func (pr *Planner) otherKind(at string, here tree.Entry, below string) string {
	do := fmt.Sprintf("if it is yours, name it in [server] keep: %q; else ", at+below)
	if here.Kind == tree.Link {
		if at := pr.Path(at); !strings.Contains(here.Path, "/") && pr.LeadsOut(here) {
			do = fmt.Sprintf(
				"if the folder belongs to this server alone: freshkeel profile set elsewhere.%s %s; ",
				here.Path,
				words.Shell(tree.Real(at)),
			) + do
		}
		return do + fmt.Sprintf("stop the server, and put the folder that it leads to in its place: cd %s && rm %s && "+
			"cp -a %s %s", words.Shell(pr.Dir), words.Shell(at), words.Shell(here.Target), words.Shell(at))
	}
	return do + fmt.Sprintf("stop the server, and give it another name: mv %s %s", words.Shell(pr.Path(at)), words.Shell(pr.Path(at)+".old"))
}

// damaged tells whether an installed file, known to differ from what was put
// there, was not changed by anybody: its times say that nobody wrote to it, or
// it is a program or data that was cut short. What a person or the server
// wrote is another thing, and stays.
func (d *decider) damaged(was inventory.Owned, here tree.Entry) (bool, error) {
	if was.Mtime != 0 && here.Mtime == was.Mtime {
		return true, nil
	}
	if here.Size >= was.Size {
		return false, nil
	}
	l := d.p.Store
	if d.stored == nil {
		d.stored = inventory.ContentOf(l, d.p.oldSets)
	}
	f, ok := d.stored[was.Sum]
	if !ok {
		return false, nil
	}
	src, err := d.Open(here.Path)
	if err != nil {
		return false, err
	}
	defer src.Close()
	head := make([]byte, min(f.Size, 8<<10))
	if _, err := l.Content(f).ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	if bytes.IndexByte(head, 0) < 0 {
		return false, nil // text, of which a person may take a part
	}
	return begins(io.NewSectionReader(l.Content(f), 0, here.Size), src)
}

// begins tells whether a reader ends as another one goes on: byte for byte its beginning.
func begins(whole, part io.Reader) (bool, error) {
	a, b := make([]byte, 64<<10), make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(part, a)
		m, _ := io.ReadFull(whole, b)
		if !bytes.Equal(a[:n], b[:m]) {
			return false, nil
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return true, nil
		}
		if err != nil {
			return false, err
		}
	}
}

// findMoves finds content that the new build has under another name than the
// installed one had.
func (d *decider) findMoves() {
	p := d.p
	for _, s := range p.Steps {
		if s.Do != swap.Add {
			continue
		}
		c, comes := p.Comes(s.Path)
		if !comes || c.Kind != tree.File {
			continue
		}
		if from, ok := d.left[c.Sum]; ok && p.Removed(from) {
			p.Moved = append(p.Moved, inventory.Move{From: from, To: s.Path})
			delete(d.left, c.Sum)
		}
	}
}

// planFolders makes the folders that new files need and drops those that
// removals leave empty.
func (pr *Planner) planFolders(p *Plan) {
	need := map[string]bool{}
	drop := map[string]bool{}
	above := func(at string, each func(dir string)) {
		for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
			each(dir)
		}
	}
	for _, it := range p.items {
		at := it.At
		if it.File.Kind != tree.Dir || profile.Reserved(at) || pr.Profile.Server.Own(at) ||
			pr.Profile.Server.Skip.Match(at) || p.isBehind(at) {
			continue
		}
		if _, exists := p.Before.Get(at); !exists {
			need[at] = true
			above(at, func(dir string) { need[dir] = true })
		}
	}
	for _, s := range p.Steps {
		switch s.Do {
		case swap.Add:
			above(s.Path, func(dir string) { need[dir] = true })
		case swap.Remove:
			above(s.Path, func(dir string) { drop[dir] = true })
		}
	}
	for i := 0; i < len(p.items) && len(drop) > 0; i++ {
		above(p.items[i].At, func(dir string) { delete(drop, dir) })
		delete(drop, p.items[i].At)
	}
	for dir := range need {
		if _, exists := p.Before.Get(dir); exists {
			continue
		}
		f := &locker.File{Entry: tree.Entry{Path: dir, Kind: tree.Dir, Mode: 0o755, UID: tree.NoID, GID: tree.NoID}}
		if b := p.items.Find(dir); b != nil && b.File.Kind == tree.Dir && b.File.Mode != 0 {
			f.Mode = b.File.Mode | 0o700
		}
		p.Steps = append(p.Steps, swap.Step{Do: swap.MakeDir, Path: dir})
		p.Come(ahead.Coming{At: dir, File: f, Mode: f.Mode, UID: tree.NoID, GID: tree.NoID})
	}
	for dir := range drop {
		p.Steps = append(p.Steps, swap.Step{Do: swap.DropDir, Path: dir})
	}
}
