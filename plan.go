package freshkeel

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/ahead"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Plan is what a refit would do to the files of the install, each by name. The
// refit follows it to the letter, or not at all.
type Plan struct {
	*ahead.Ahead // the install as it will stand

	From, To string
	Channel  string

	Steps     []swap.Step
	Unchanged int      // build files that are installed already
	Bytes     int64    // to be laid out beside the install
	Stale     []string // of Kept: as the old build brought them, and the new one brings others
	Differs   []string // of Kept: another content than the build's, and whether you changed them is not known
	Kept      []string // the operator's own that the build brings too: not touched
	Left      []string // build files that the operator changed and the maker did not: not touched
	Drifted   []string // build files that both changed
	Mended    []string // build files that were damaged here: put back
	Foreign   []string // neither the build's nor named in the profile: not touched
	Renamed   []Move   // files of the build that get the name that the launch script runs
	Dropped   []Drop   // folders around everything that the install does not have
	Hidden    []Move   // files of the build that [place] lays where the build has another: that one is left out
	Moved     []Move   // content that lies elsewhere in the new build
	Overlaid  []Overlaid
	Layers    []Laid
	Without   []string  // layers that are left out
	Edits     []Edit    // of the operator's own files: shown, backed up, rolled back like any other file
	Asked     []Consent // consents that are asked for and were not accepted
	HeldBack  []string  // add-ons that are left out of this refit, by their paths
	Blocked   []blocked
	Reserved  []string // Fresh Keel's own, of another install: left out
	Places    []string // folders of the install on file systems of their own
	Mounted   []string // files that are mounted one by one: nothing can be exchanged there

	set     *locker.Set
	owned   []inventory.Owned        // the inventory afterwards
	unfound []string                 // [place] patterns that match nothing
	known   bool                     // the old build's files are known
	oldSets []string                 // where the installed files came from
	stored  map[tree.Sum]locker.File // their content, once it is asked for
	named   []Move                   // rules by which files get the name that the launch script runs
	mend    bool                     // put changed files back as the build has them
	sure    bool                     // the new build's files are all known
}

// Edit is one line of a script, or of a consent, that is changed.
type Edit struct {
	Path string `json:"path"`
	Line int    `json:"line"`
	Old  string `json:"old"`
	New  string `json:"new"`
	Why  string `json:"why"`

	runtime needs.Runtime
	consent bool
}

// blocked is a path where the plan can't be carried out.
type blocked struct{ path, why, do string }

// Changes counts the plan's steps by kind.
func (p *Plan) Changes() (replaced, added, removed int) {
	for _, s := range p.Steps {
		switch s.Do {
		case swap.Replace:
			replaced++
		case swap.Add:
			added++
		case swap.Remove:
			removed++
		}
	}
	return
}

// placed gives each file of a build the name that the install uses for it.
func placed(set *locker.Set, place map[string]string) (map[string]locker.File, []blocked, []string) {
	out := map[string]locker.File{}
	var bad []blocked
	used, pats := map[string]string{}, slices.Sorted(maps.Keys(place))
	for _, f := range set.Entries {
		to, by := f.Path, ""
		for _, pat := range pats {
			name := place[pat]
			if f.Kind == tree.File && (tree.Patterns{pat}).Match(f.Path) {
				if by != "" && place[by] != name {
					bad = append(bad, blocked{f.Path, fmt.Sprintf("the [place] patterns %s and %s both match it", words.Quote(by), words.Quote(pat)),
						"make one of the two patterns longer, so that one alone matches it"})
				}
				by = pat
				if first, twice := used[pat]; twice {
					bad = append(bad, blocked{name, fmt.Sprintf("the [place] pattern %s matches both %s and %s of the build", words.Quote(pat), first, f.Path),
						fmt.Sprintf("make the pattern match the one that is to be %s: a longer one, or the whole name", name)})
				}
				used[pat], to = f.Path, name
			}
		}
		if to != f.Path || out[to].Path == "" {
			f.Path = to
			out[to] = f
		}
	}
	var unfound []string
	for pat := range place {
		if used[pat] == "" {
			unfound = append(unfound, pat)
		}
	}
	sort.Strings(unfound)
	return out, bad, unfound
}

// hides lists the files of a build in whose place [place] lays another: what is laid,
// and what is hidden by it.
func hides(set *locker.Set, place map[string]string) (out []Move) {
	laid := map[string]*locker.File{} // by the name that it gets
	moved := map[string]bool{}
	pats := slices.Sorted(maps.Keys(place))
	for i := range set.Entries {
		f := &set.Entries[i]
		for _, pat := range pats {
			if f.Kind == tree.File && place[pat] != f.Path && (tree.Patterns{pat}).Match(f.Path) {
				laid[place[pat]], moved[f.Path] = f, true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(laid)) {
		if f := set.Find(name); f != nil && f.Kind == tree.File && !moved[name] && f.Sum != laid[name].Sum {
			out = append(out, Move{From: laid[name].Path, To: name})
		}
	}
	return out
}

// plan compares a build with the install and decides for every path.
func (k *Keel) plan(f *acquire.Fetched, w Want) (*Plan, error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	list, err := tree.Walk(k.in.Dir, k.in.Profile.Server.Skip)
	if err != nil {
		return nil, fmt.Errorf("look at the install: %w", err)
	}
	store, err := k.in.Locker()
	if err != nil {
		return nil, err
	}
	p := &Plan{From: inv.Version, To: f.Version, Channel: cmp.Or(f.Candidate.Channel, f.Set.Channel), set: f.Set, known: inv.Known, Ahead: ahead.New(k.in, store, list),
		oldSets: inv.Sets(), named: slices.Clone(inv.Names), mend: w.Mend, sure: !f.Candidate.AsInstalled || inv.Known}
	p.Places, p.Mounted = tree.Places(k.in.Dir, list)
	if tree.FoldsCase(k.in.Path(profile.FileName)) {
		p.Spelling = tree.SpelledAs(list)
	}
	old := inv.ByPath(p.Spelling)
	build := k.compose(p, f, old)
	look := k.inv.Sums(old)
	replaceDrift := slices.Contains(w.Accept, "drift")

	for _, at := range slices.Sorted(maps.Keys(build)) {
		if err := k.planFile(p, build[at], old, look, replaceDrift); err != nil {
			return nil, err
		}
	}
	if err := k.planRemovals(p, build, old, look); err != nil {
		return nil, err
	}
	k.planFolders(p, build)
	for _, e := range list {
		_, ours := build[e.Path]
		o, was := old[e.Path]
		if e.Kind != tree.Dir && !ours && !(was && inv.Known && o.Kind == e.Kind) && !k.in.Profile.Server.Own(e.Path) && e.Path != k.in.Profile.Launch.Script {
			p.Foreign = append(p.Foreign, e.Path)
		}
	}
	for i := range p.owned {
		p.owned[i].Layer = p.Whose[p.owned[i].Path]
	}
	if err := k.holdBack(p, w); err != nil {
		return nil, err
	}
	p.findMoves(old)
	if err := k.planScript(p, f); err != nil {
		return nil, err
	}
	if err := k.planConsents(p, w); err != nil {
		return nil, err
	}
	touched := map[string]bool{}
	for _, st := range p.Steps {
		touched[st.Path] = true
	}
	p.Foreign = slices.DeleteFunc(p.Foreign, func(at string) bool { return touched[at] })
	swap.Sort(p.Steps)
	return p, nil
}

// planFile decides what becomes of one file of the new build.
func (k *Keel) planFile(p *Plan, f locker.File, old map[string]inventory.Owned, look inventory.Sums, replaceDrift bool) error {
	at := f.Path
	if profile.Reserved(at) {
		p.Reserved = append(p.Reserved, at)
		return nil
	}
	if k.in.Profile.Server.Skip.Match(at) {
		return nil
	}
	here, exists := p.Before.Get(at)
	was, had := old[at]
	own := k.in.Profile.Server.Own(at)
	if f.Kind == tree.Dir {
		if exists && here.Kind != tree.Dir && !own {
			p.Blocked = append(p.Blocked, blocked{at, "the build has a folder there, the install has a " + here.Kind.Word(), k.otherKind(at, here, "/**")})
		}
		return nil // made where a file needs it, or by planFolders
	}
	if why, by := p.behind(at); why != "" && own {
		p.Kept = append(p.Kept, at) // and what stands in its way is the operator's
		return nil
	} else if why != "" {
		p.Blocked = append(p.Blocked, blocked{at, why, k.otherKind(by.Path, by, "/**")})
		return nil
	}
	switch {
	case own && (exists || had || !p.known):
		p.Kept = append(p.Kept, at)
		if err := p.heldBack(f, here, was, had, look); err != nil {
			return err
		}
		// That the build ships it is noted all the same: one that the operator
		// deleted is not new in the next build either.
		p.owned = append(p.owned, inventory.Owned{Entry: f.Entry, Sum: f.Sum})
		return nil
	case !exists:
		p.take(swap.Add, at, f)
		p.Bytes += f.Size
		return nil
	case here.Kind == tree.Dir:
		p.Blocked = append(p.Blocked, blocked{at, "the build has a file there, the install has a folder", k.otherKind(at, here, "/**")})
		return nil
	}
	same, err := look.SameAs(here, f)
	if err != nil {
		return fmt.Errorf("compare %s: %w", at, err)
	}
	if same {
		p.Unchanged++
		p.owned = append(p.owned, inventory.Owned{Entry: here, Sum: f.Sum})
		return nil
	}
	if had && was.Kind == tree.File && here.Kind == tree.File {
		sum, err := look.Of(here)
		if err != nil {
			return fmt.Errorf("compare %s: %w", at, err)
		}
		if sum != was.Sum { // the operator, or the server, wrote to it
			broken, err := k.damaged(p, was, here)
			switch {
			case err != nil:
				return fmt.Errorf("compare %s: %w", at, err)
			case broken || (f.Sum == was.Sum && p.mend):
				p.Mended = append(p.Mended, at)
			case f.Sum == was.Sum:
				p.Left = append(p.Left, at)
				p.owned = append(p.owned, inventory.Owned{Entry: was.Entry, Sum: f.Sum})
				return nil
			default:
				p.Drifted = append(p.Drifted, at)
				if !replaceDrift {
					return nil
				}
			}
		}
	}
	// The install's own mode and owner are kept; a program stays a program.
	if f.Kind == tree.File && here.Kind == tree.File {
		f.Mode = here.Mode | (f.Mode & 0o111 &^ was.Mode)
		if !had {
			f.Mode = here.Mode
		}
	}
	f.UID, f.GID = here.UID, here.GID
	p.take(swap.Replace, at, f)
	p.Bytes += f.Size
	return nil
}

// remove has what stands at a path moved aside by the swap.
func (p *Plan) remove(at string) {
	p.Steps = append(p.Steps, swap.Step{Do: swap.Remove, Path: at})
	p.Ahead.Remove(at)
}

// take has a file come to a path.
func (p *Plan) take(do, at string, f locker.File) {
	p.Steps = append(p.Steps, swap.Step{Do: do, Path: at})
	p.Files[at] = f
	p.owned = append(p.owned, inventory.Owned{Entry: f.Entry, Sum: f.Sum})
}

// heldBack notes a file of the build that stays out because it is the operator's own by
// the profile. Where nobody changed it since the old build brought it, the new program
// runs with what belongs to the old one.
func (p *Plan) heldBack(f locker.File, here tree.Entry, was inventory.Owned, had bool, look inventory.Sums) error {
	if f.Kind != tree.File {
		return nil
	}
	if here.Kind != tree.File {
		if here.Path == "" && !had { // new in this build, or taken away by the operator: not known
			p.Differs = append(p.Differs, f.Path+" (not there)")
		}
		return nil
	}
	sum, err := look.Of(here)
	if err != nil {
		return fmt.Errorf("compare %s: %w", f.Path, err)
	}
	switch {
	case sum == f.Sum:
	case had && sum == was.Sum:
		p.Stale = append(p.Stale, f.Path)
	case !had:
		p.Differs = append(p.Differs, f.Path)
	}
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
func (k *Keel) otherKind(at string, here tree.Entry, below string) string {
	do := fmt.Sprintf("if it is yours, name it in [server] keep: %q; else ", at+below)
	if here.Kind == tree.Link {
		return do + fmt.Sprintf("stop the server, and put the folder that it leads to in its place: cd %s && rm %s && cp -a %s %s", k.in.Dir, at, here.Target, at)
	}
	return do + fmt.Sprintf("stop the server, and give it another name: mv %s %s.old", k.in.Path(at), k.in.Path(at))
}

// planRemovals takes out what the old build put there and the new one no
// longer has. Without knowledge of the old build nothing is removed.
func (k *Keel) planRemovals(p *Plan, build map[string]locker.File, old map[string]inventory.Owned, look inventory.Sums) error {
	for _, at := range slices.Sorted(maps.Keys(old)) {
		was := old[at]
		if !p.known && was.Layer == "" {
			continue
		}
		here, exists := p.Before.Get(at)
		if _, stays := build[at]; stays || !exists || was.Kind == tree.Dir || here.Kind != was.Kind || k.in.Profile.Server.Own(at) || at == k.in.Profile.Launch.Script {
			continue
		}
		if p.isBehind(at) {
			continue
		}
		if here.Kind == tree.File {
			sum, err := look.Of(here)
			if err != nil {
				return fmt.Errorf("compare %s: %w", at, err)
			}
			if sum != was.Sum {
				p.Left = append(p.Left, at)
				continue
			}
		}
		p.remove(at)
	}
	return nil
}

// damaged tells whether an installed file, known to differ from what was put
// there, was not changed by anybody: its times say that nobody wrote to it, or
// it is a program or data that was cut short. What a person or the server
// wrote is another thing, and stays.
func (k *Keel) damaged(p *Plan, was inventory.Owned, here tree.Entry) (bool, error) {
	if was.Mtime != 0 && here.Mtime == was.Mtime {
		return true, nil
	}
	if here.Size >= was.Size {
		return false, nil
	}
	l, err := k.in.Locker()
	if err != nil {
		return false, err
	}
	if p.stored == nil {
		p.stored = inventory.ContentOf(l, p.oldSets)
	}
	f, ok := p.stored[was.Sum]
	if !ok {
		return false, nil
	}
	src, err := k.in.Open(here.Path)
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
	whole := io.NewSectionReader(l.Content(f), 0, here.Size)
	a, b := make([]byte, 64<<10), make([]byte, 64<<10)
	for {
		n, err := io.ReadFull(src, a)
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
func (p *Plan) findMoves(old map[string]inventory.Owned) {
	gone := map[tree.Sum]string{}
	for _, s := range p.Steps {
		if o, ok := old[s.Path]; ok && s.Do == swap.Remove && o.Kind == tree.File && o.Size > 0 {
			gone[o.Sum] = s.Path
		}
	}
	for _, s := range p.Steps {
		if f := p.Files[s.Path]; s.Do == swap.Add && f.Kind == tree.File {
			if from, ok := gone[f.Sum]; ok {
				p.Moved = append(p.Moved, Move{From: from, To: s.Path})
				delete(gone, f.Sum)
			}
		}
	}
}

// planFolders makes the folders that new files need and drops those that
// removals leave empty.
func (k *Keel) planFolders(p *Plan, build map[string]locker.File) {
	need := map[string]bool{}
	drop := map[string]bool{}
	above := func(at string, each func(dir string)) {
		for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
			each(dir)
		}
	}
	for at, f := range build {
		if _, exists := p.Before.Get(at); f.Kind == tree.Dir && !exists && !profile.Reserved(at) && !k.in.Profile.Server.Own(at) && !k.in.Profile.Server.Skip.Match(at) && !p.isBehind(at) {
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
	for at := range build {
		above(at, func(dir string) { delete(drop, dir) })
		delete(drop, at)
	}
	for dir := range need {
		if _, exists := p.Before.Get(dir); exists {
			continue
		}
		f := locker.File{Entry: tree.Entry{Path: dir, Kind: tree.Dir, Mode: 0o755, UID: -1, GID: -1}}
		if b, ok := build[dir]; ok && b.Kind == tree.Dir && b.Mode != 0 {
			f.Mode = b.Mode | 0o700
		}
		p.Steps = append(p.Steps, swap.Step{Do: swap.MakeDir, Path: dir})
		p.Files[dir] = f
	}
	for dir := range drop {
		p.Steps = append(p.Steps, swap.Step{Do: swap.DropDir, Path: dir})
	}
}

// checked lets go of what only checks ask for: of the install as the plan saw it, what
// the plan touches is all that is held against it later.
func (p *Plan) checked() {
	var kept tree.List
	for _, s := range p.Steps {
		if e, ok := p.Before.Get(s.Path); ok {
			kept = append(kept, e)
		}
	}
	slices.SortFunc(kept, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	p.Before = slices.CompactFunc(kept, func(a, b tree.Entry) bool { return a.Path == b.Path })
}

// still tells whether the install is what the plan saw, as far as the plan
// touches it: the server was running since, and may have written.
func (k *Keel) still(p *Plan) error {
	for _, s := range p.Steps {
		if s.Do == swap.MakeDir || s.Do == swap.DropDir {
			continue
		}
		was, had := p.Before.Get(s.Path)
		now, ok, err := tree.Describe(k.in.Path(s.Path), s.Path)
		gone := err != nil || !ok
		if had == gone || (had && !(now.SameIdentity(was) || (was.Inode == 0 && now.Size == was.Size && now.Mtime == was.Mtime))) {
			return fmt.Errorf("%s changed while the refit was prepared", s.Path)
		}
	}
	return nil
}

// stage lays out beside the install what the plan brings in: read from the
// locker, hashed again (P5), flushed, with mode and owner.
func (k *Keel) stage(run swap.Run, p *Plan, progress func(done, total int64)) error {
	owner, _, err := tree.Describe(k.in.Dir, "")
	if err != nil {
		return err
	}
	l, err := k.in.Locker()
	if err != nil {
		return err
	}
	owned := map[string]*inventory.Owned{}
	for i := range p.owned {
		owned[p.owned[i].Path] = &p.owned[i]
	}
	var done int64
	noted := func(at string, f *locker.File) {
		// The times that it has now prove later that nobody wrote to it.
		if o := owned[at]; o != nil && f.Kind == tree.File {
			if e, ok, err := tree.Describe(run.Staged(at), at); err == nil && ok {
				o.Mtime, o.Inode = e.Mtime, e.Inode
			}
		}
		done += f.Size
		progress(done, p.Bytes)
	}
	mine := map[string]*locker.File{} // each as it is laid out; edited texts are laid out here
	for _, s := range p.Steps {
		f, ok := p.Files[s.Path]
		if !ok {
			continue
		}
		if f.UID < 0 {
			f.UID, f.GID = owner.UID, owner.GID
		}
		if text, edited := p.Texts[s.Path]; edited {
			if err := layStaged(run, f, func(at string) error { return layText(at, text, f.Entry) }); err != nil {
				return fmt.Errorf("stage %s: %w", s.Path, err)
			}
			noted(s.Path, &f)
			continue
		}
		mine[s.Path] = &f
	}
	find := func(at string) *locker.File { return mine[at] }
	if err := stageSteps(context.Background(), l, run, p.Steps, find, func(one locker.Laying) { noted(one.File.Path, one.File) }); err != nil {
		return fmt.Errorf("stage %w", err)
	}
	return nil
}

func layStaged(run swap.Run, f locker.File, lay func(at string) error) error {
	at := run.Staged(f.Path)
	if f.Kind == tree.Dir {
		at = run.StagedDir(f.Path)
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return err
	}
	return lay(at)
}

// layText writes an edited script beside the install, flushed, with the mode and
// owner of the one it takes the place of.
func layText(at string, text []byte, as tree.Entry) error {
	if err := tree.WriteFile(at, text, 0o600); err != nil {
		return err
	}
	as.Mtime = 0 // it is new
	return tree.Mend(at, as)
}

func (p *Plan) edit(at string) *Edit {
	for i := range p.Edits {
		if p.Edits[i].Path == at {
			return &p.Edits[i]
		}
	}
	return nil
}
