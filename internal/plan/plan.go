// Package plan decides what a refit does to each path of an install, by comparing three
// things: the new build with its layers, what was put there before (the inventory), and
// what stands there now. It changes nothing; a refit follows its plan to the letter, or
// not at all.
package plan

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/ahead"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/needs"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// Planner makes plans for one install.
type Planner struct {
	*install.Install
	inv *inventory.Kept
	res *resolve.Resolver
	rts *runtimes.Rack
}

// New is the planner of an install.
func New(inv *inventory.Kept, res *resolve.Resolver, rts *runtimes.Rack) *Planner {
	return &Planner{inv.Install, inv, res, rts}
}

// Plan is what a refit would do to the files of the install, each by name. The
// refit follows it to the letter, or not at all.
type Plan struct {
	*ahead.Ahead // the install as it will stand

	From, To string
	Channel  string

	Steps     []swap.Step
	Unchanged int              // build files that are installed already
	Bytes     int64            // to be laid out beside the install
	Stale     []string         // of Kept: as the old build brought them, and the new one brings others
	Differs   []string         // of Kept: another content than the build's, and whether you changed them is not known
	Kept      []string         // the operator's own that the build brings too: not touched
	Left      []string         // build files that the operator changed and the maker did not: not touched
	Drifted   []string         // build files that both changed
	Mended    []string         // build files that were damaged here: put back
	Foreign   []string         // neither the build's nor named in the profile: not touched
	Renamed   []inventory.Move // files of the build that get the name that the launch script runs
	Dropped   []Drop           // folders around everything that the install does not have
	Hidden    []inventory.Move // files of the build that [place] lays where the build has another: that one is left out
	Moved     []inventory.Move // content that lies elsewhere in the new build
	Overlaid  []Overlaid
	Layers    []inventory.Laid
	Without   []string  // layers that are left out
	Edits     []Edit    // of the operator's own files: shown, backed up, rolled back like any other file
	Asked     []Consent // consents that are asked for and were not accepted
	HeldBack  []string  // add-ons that are left out of this refit, by their paths
	Blocked   []blocked
	Reserved  []string // Fresh Keel's own, of another install: left out
	Places    []string // folders of the install on file systems of their own
	Mounted   []string // files that are mounted one by one: nothing can be exchanged there

	Set     *locker.Set
	Owned   []inventory.Owned        // the inventory afterwards
	Unfound []string                 // [place] patterns that match nothing
	Known   bool                     // the old build's files are known
	oldSets []string                 // where the installed files came from
	stored  map[tree.Sum]locker.File // their content, once it is asked for
	Named   []inventory.Move         // rules by which files get the name that the launch script runs
	mend    bool                     // put changed files back as the build has them
	Sure    bool                     // the new build's files are all known
}

// OnlyThat is the pattern that a restore takes for a path: a folder with all in it.
func (p *Plan) OnlyThat(at string) string {
	if p.Before.At(at).Kind == tree.Dir {
		return at + "/**"
	}
	return at
}

// leaveOut takes a path, and all below it, out of what will stand in the
// install.
func (p *Plan) leaveOut(top string) {
	below := func(at string) bool { return at == top || strings.HasPrefix(at, top+"/") }
	p.HeldBack = append(p.HeldBack, top)
	p.Steps = slices.DeleteFunc(p.Steps, func(st swap.Step) bool { return below(st.Path) })
	for at, f := range p.Files {
		if below(at) {
			p.Bytes -= f.Size
			delete(p.Files, at)
		}
	}
	p.Owned = slices.DeleteFunc(p.Owned, func(o inventory.Owned) bool { return below(o.Path) })
	p.Kept = slices.DeleteFunc(p.Kept, below)
	for _, e := range p.Before {
		at := e.Path
		switch {
		case !below(at):
		case e.Kind == tree.Dir:
			p.Steps = append(p.Steps, swap.Step{Do: swap.DropDir, Path: at})
		default:
			p.remove(at)
		}
	}
}

// Staging is what the plan lays out, by the folder in which each file system
// begins; "" is the install itself.
func (p *Plan) Staging() map[string]staged {
	out := map[string]staged{"": {}}
	for _, st := range p.Steps {
		on := ""
		for _, place := range p.Places {
			if strings.HasPrefix(st.Path, place+"/") && len(place) > len(on) {
				on = place
			}
		}
		n := out[on]
		n.Bytes += p.Files[st.Path].Size
		n.Steps++
		out[on] = n
	}
	return out
}

// Consents lists the files whose consent the plan gives.
func (p *Plan) Consents() (out []string) {
	for _, e := range p.Edits {
		if e.Consent {
			out = append(out, e.Path)
		}
	}
	return out
}

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

// remove has what stands at a path moved aside by the swap.
func (p *Plan) remove(at string) {
	p.Steps = append(p.Steps, swap.Step{Do: swap.Remove, Path: at})
	p.Ahead.Remove(at)
}

// take has a file come to a path.
func (p *Plan) take(do, at string, f locker.File) {
	p.Steps = append(p.Steps, swap.Step{Do: do, Path: at})
	p.Files[at] = f
	p.Owned = append(p.Owned, inventory.Owned{Entry: f.Entry, Sum: f.Sum})
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
				p.Moved = append(p.Moved, inventory.Move{From: from, To: s.Path})
				delete(gone, f.Sum)
			}
		}
	}
}

// Checked lets go of what only checks ask for: of the install as the plan saw it, what
// the plan touches is all that is held against it later.
func (p *Plan) Checked() {
	var kept tree.List
	for _, s := range p.Steps {
		if e, ok := p.Before.Get(s.Path); ok {
			kept = append(kept, e)
		}
	}
	slices.SortFunc(kept, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	p.Before = slices.CompactFunc(kept, func(a, b tree.Entry) bool { return a.Path == b.Path })
}

func (p *Plan) Edit(at string) *Edit {
	for i := range p.Edits {
		if p.Edits[i].Path == at {
			return &p.Edits[i]
		}
	}
	return nil
}

func (p *Plan) editScript(k *Planner, c launch.Command, rt *needs.Runtime, why string) error {
	here, ours := p.Before.Get(c.File)
	if _, brought := p.Files[c.File]; brought || !ours || here.Kind != tree.File || p.Edit(c.File) != nil {
		return nil // the build brings its own, or it is nothing that is swapped
	}
	text, err := tree.ReadUpTo(k.Path(c.File), install.MaxScript)
	if errors.Is(err, fs.ErrPermission) {
		return nil
	}
	if err != nil {
		return err
	}
	edited, err := c.WithProgram(text, rt.Path)
	if err != nil {
		return nil // it is told, with what to do by hand
	}
	line := func(b []byte) string {
		all := strings.Split(string(b), "\n")
		if c.Line < 1 || c.Line > len(all) {
			return ""
		}
		return strings.TrimSpace(all[c.Line-1])
	}
	p.Edits = append(p.Edits, Edit{Path: c.File, Line: c.Line, Old: line(text), New: line(edited), Why: why, Runtime: *rt})
	p.Texts[c.File] = edited
	p.Steps = append(p.Steps, swap.Step{Do: swap.Replace, Path: c.File})
	f := locker.File{Entry: here}
	f.Size = int64(len(edited))
	p.Files[c.File] = f
	p.Bytes += f.Size
	for i := range p.Owned { // it is the operator's now, if it was the build's
		if p.Owned[i].Path == c.File {
			p.Owned[i].Mtime, p.Owned[i].Inode = 0, 0
		}
	}
	return nil
}

// unwrap drops the folders around a build's files that the install does not have. into
// is where a layer is laid.
func (p *Plan) unwrap(files map[string]locker.File, layer, into string, old map[string]inventory.Owned) map[string]locker.File {
	var paths []string
	for at, f := range files {
		if f.Kind != tree.Dir {
			paths = append(paths, at)
		}
	}
	has := func(at string) bool {
		if into != "" {
			at = into + "/" + at
		}
		at = p.Spelling.Of(at)
		e, here := p.Before.Get(at)
		o, was := old[at]
		return (here && e.Kind != tree.Dir) || (was && o.Kind != tree.Dir)
	}
	folder := resolve.Wrapping(paths, has)
	if folder == "" {
		return files
	}
	p.Dropped = append(p.Dropped, Drop{layer, folder})
	out := make(map[string]locker.File, len(files))
	for at, f := range files {
		if f.Path = strings.TrimPrefix(at, folder+"/"); f.Path != at {
			out[f.Path] = f
		}
	}
	return out
}

// Edit is one line of a script, or of a consent, that is changed.
type Edit struct {
	Path string `json:"path"`
	Line int    `json:"line"`
	Old  string `json:"old"`
	New  string `json:"new"`
	Why  string `json:"why"`

	Runtime needs.Runtime `json:"-"`
	Consent bool          `json:"-"`
}

// blocked is a path where the plan can't be carried out.
type blocked struct{ Path, Why, Do string }

// Overlaid is a path that two layers bring: the later one's file is used.
type Overlaid struct {
	Path  string `json:"path"`
	Under string `json:"under"` // layer; "": the build
	Over  string `json:"over"`
}

// Make compares a build with the install and decides for every path.
func (k *Planner) Make(f *acquire.Fetched, w resolve.Want) (*Plan, error) {
	inv, err := k.inv.Read()
	if err != nil {
		return nil, err
	}
	list, err := tree.Walk(k.Dir, k.Profile.Server.Skip)
	if err != nil {
		return nil, fmt.Errorf("look at the install: %w", err)
	}
	store, err := k.Locker()
	if err != nil {
		return nil, err
	}
	p := &Plan{From: inv.Version, To: f.Version, Channel: cmp.Or(f.Candidate.Channel, f.Set.Channel), Set: f.Set, Known: inv.Known, Ahead: ahead.New(k.Install, store, list),
		oldSets: inv.Sets(), Named: slices.Clone(inv.Names), mend: w.Mend, Sure: !f.Candidate.AsInstalled || inv.Known}
	p.Places, p.Mounted = tree.Places(k.Dir, list)
	if tree.FoldsCase(k.Path(profile.FileName)) {
		p.Spelling = tree.SpelledAs(list)
	}
	old := inv.ByPath(p.Spelling)
	build := k.compose(p, f, old)
	look := k.inv.Sums(old)
	replaceDrift := slices.Contains(w.Accept, "drift")

	for _, at := range slices.Sorted(maps.Keys(build)) {
		if err := k.decide(p, build[at], old, look, replaceDrift); err != nil {
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
		if e.Kind != tree.Dir && !ours && !(was && inv.Known && o.Kind == e.Kind) && !k.Profile.Server.Own(e.Path) && e.Path != k.Profile.Launch.Script {
			p.Foreign = append(p.Foreign, e.Path)
		}
	}
	for i := range p.Owned {
		p.Owned[i].Layer = p.Whose[p.Owned[i].Path]
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

// decide decides what becomes of one file of the new build.
func (k *Planner) decide(p *Plan, f locker.File, old map[string]inventory.Owned, look inventory.Sums, replaceDrift bool) error {
	at := f.Path
	if profile.Reserved(at) {
		p.Reserved = append(p.Reserved, at)
		return nil
	}
	if k.Profile.Server.Skip.Match(at) {
		return nil
	}
	here, exists := p.Before.Get(at)
	was, had := old[at]
	own := k.Profile.Server.Own(at)
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
	case own && (exists || had || !p.Known):
		p.Kept = append(p.Kept, at)
		if err := p.heldBack(f, here, was, had, look); err != nil {
			return err
		}
		// That the build ships it is noted all the same: one that the operator
		// deleted is not new in the next build either.
		p.Owned = append(p.Owned, inventory.Owned{Entry: f.Entry, Sum: f.Sum})
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
		p.Owned = append(p.Owned, inventory.Owned{Entry: here, Sum: f.Sum})
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
				p.Owned = append(p.Owned, inventory.Owned{Entry: was.Entry, Sum: f.Sum})
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

// otherKind advises what to do about a path that is of another kind in the install than
// in the build. What stands there may be the operator's, a world on another disk say, and
// the running server's: nothing is to be moved under it.
func (k *Planner) otherKind(at string, here tree.Entry, below string) string {
	do := fmt.Sprintf("if it is yours, name it in [server] keep: %q; else ", at+below)
	if here.Kind == tree.Link {
		return do + fmt.Sprintf("stop the server, and put the folder that it leads to in its place: cd %s && rm %s && cp -a %s %s", k.Dir, at, here.Target, at)
	}
	return do + fmt.Sprintf("stop the server, and give it another name: mv %s %s.old", k.Path(at), k.Path(at))
}

// planRemovals takes out what the old build put there and the new one no
// longer has. Without knowledge of the old build nothing is removed.
func (k *Planner) planRemovals(p *Plan, build map[string]locker.File, old map[string]inventory.Owned, look inventory.Sums) error {
	for _, at := range slices.Sorted(maps.Keys(old)) {
		was := old[at]
		if !p.Known && was.Layer == "" {
			continue
		}
		here, exists := p.Before.Get(at)
		if _, stays := build[at]; stays || !exists || was.Kind == tree.Dir || here.Kind != was.Kind || k.Profile.Server.Own(at) || at == k.Profile.Launch.Script {
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
func (k *Planner) damaged(p *Plan, was inventory.Owned, here tree.Entry) (bool, error) {
	if was.Mtime != 0 && here.Mtime == was.Mtime {
		return true, nil
	}
	if here.Size >= was.Size {
		return false, nil
	}
	l, err := k.Locker()
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
	src, err := k.Open(here.Path)
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

// planFolders makes the folders that new files need and drops those that
// removals leave empty.
func (k *Planner) planFolders(p *Plan, build map[string]locker.File) {
	need := map[string]bool{}
	drop := map[string]bool{}
	above := func(at string, each func(dir string)) {
		for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
			each(dir)
		}
	}
	for at, f := range build {
		if _, exists := p.Before.Get(at); f.Kind == tree.Dir && !exists && !profile.Reserved(at) && !k.Profile.Server.Own(at) && !k.Profile.Server.Skip.Match(at) && !p.isBehind(at) {
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

// Still tells whether the install is what the plan saw, as far as the plan
// touches it: the server was running since, and may have written.
func (k *Planner) Still(p *Plan) error {
	for _, s := range p.Steps {
		if s.Do == swap.MakeDir || s.Do == swap.DropDir {
			continue
		}
		was, had := p.Before.Get(s.Path)
		now, ok, err := tree.Describe(k.Path(s.Path), s.Path)
		gone := err != nil || !ok
		if had == gone || (had && !(now.SameIdentity(was) || (was.Inode == 0 && now.Size == was.Size && now.Mtime == was.Mtime))) {
			return fmt.Errorf("%s changed while the refit was prepared", s.Path)
		}
	}
	return nil
}

// Same tells whether two plans do the same to the same files.
func Same(a, b *Plan) bool {
	return slices.Equal(a.Steps, b.Steps) && slices.Equal(a.Drifted, b.Drifted) && slices.Equal(a.Mended, b.Mended) && maps.EqualFunc(a.Texts, b.Texts, bytes.Equal)
}
