// Package plan decides what a refit does to each path of an install, by comparing three
// things: the new build with its layers, what was put there before (the inventory), and
// what stands there now. It changes nothing; a refit follows its plan to the letter, or
// not at all.
package plan

import (
	"bytes"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/launch"
	"freshkeel/internal/locker"
	"freshkeel/internal/logbook"
	"freshkeel/internal/needs"
	"freshkeel/internal/resolve"
	"freshkeel/internal/runtimes"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Planner makes plans for one install.
type Planner struct {
	*install.Install
	inv *inventory.Kept
	res *resolve.Resolver
	rts *runtimes.Rack

	heard map[string]heard // what launch scripts started that were run apart
}

// New is the planner of an install.
func New(inv *inventory.Kept, res *resolve.Resolver, rts *runtimes.Rack) *Planner {
	return &Planner{Install: inv.Install, inv: inv, res: res, rts: rts}
}

// Plan is what a refit would do to the files of the install, each by name. The
// refit follows it to the letter, or not at all.
type Plan struct {
	*ahead.Ahead // the install as it will stand

	From, To string
	Channel  string

	Steps     []swap.Step
	Bytes     int64 // to be laid out beside the install
	Unchanged int   // build files that are installed already

	// These say what the inventory before has: how many files, of how many bytes, and how many below each
	// folder right in the install.
	Had      int
	HadBytes int64
	HadBelow map[string]int

	// These say what becomes of files, by their paths.
	Kept        []string  // the operator's own that the build brings too: not touched
	Stale       []string  // of Kept: as the old build brought them, and the new one brings others
	Differs     []string  // of Kept: another content than the build's, and whether you changed them is not known
	OldPrograms []string  // of Differs: programs, and what they load, which people do not write
	Left        []string  // build files that the operator changed and the maker did not: not touched
	Drifted     []string  // build files that both changed
	Both        []string  // settings that both changed: yours stay
	Claims      []Claim   // files that the build would replace, and that may be yours: not touched
	Taken       []string  // files that become the build's by your word, though they may be yours
	Unclaimed   []string  // words of the operator's that files become the build's, where there are none such
	Mended      []string  // build files that were damaged here: put back
	Swapped     []Swapped // build files in whose place another build's were put by hand
	Foreign     []string  // neither the build's nor named in the profile: not touched

	// These say how the build and its layers were put together.
	Layers   []inventory.Laid
	Without  []string // layers that are left out
	Overlaid []Overlaid
	Renamed  []inventory.Move // files of the build that get the name that the launch script runs
	Followed []inventory.Move // what the launch script runs, and the build's file of another version that it will run
	Dropped  []Drop           // folders of a build that the install does not have
	Relaid   []inventory.Move // files of the build that are laid in another folder, where the install has them
	Apart    []inventory.Move // files of the build of whose name there is one elsewhere here: both will stand
	Hidden   []inventory.Move // files of the build that [place] lays where the build has another: that one is left out
	Moved    []inventory.Move // content that lies elsewhere in the new build
	Unfound  []string         // [place] patterns that match nothing
	Reserved []string         // Fresh Keel's own, of another install: left out
	Blocked  []Blocked

	// These are the operator's own files that change with the build.
	Carried   []Carry         // settings of the operator's, set in the new build's defaults
	Uncarried []string        // rules for settings that name no file, neither here nor of the build
	Edits     []Edit          // of the operator's own files: shown, backed up, rolled back like any other file
	Asked     []Consent       // consents that are asked for and were not accepted
	Scripts   []Rescript      // launch scripts that the build brings anew and the operator changed
	Lacking   []string        // what the profile asks of the launch script and could not be written into it
	Lines     []logbook.Lined // services whose own line changes
	Unlined   []Unlined       // services whose own line would have to, and can't be written
	Unchosen  []string        // why the runtime that was chosen is not run
	HeldBack  []string        // add-ons that are left out of this refit, by their paths

	Places  []string // folders of the install on file systems of their own
	Mounted []string // files that are mounted one by one: nothing can be exchanged there

	Set   *locker.Set // the build
	Known bool        // the old build's files are known

	items    Items                      // what the build and its layers bring
	was      map[string]inventory.Owned // of items that are owned asWas
	oldSets  []string                   // where the installed files came from
	named    []inventory.Move           // rules by which files get the name that the launch script runs
	sure     bool                       // the new build's files are all known
	recorded bool                       // what stood here was recorded once
	units    map[string][]byte          // what services will run, see launch.UnitText
}

// Rescript is a script that changes: its makers and the operator both changed it, or lines of
// it follow the build and the profile.
type Rescript struct {
	Path      string            `json:"path"`
	Both      []launch.Conflict `json:"both,omitempty"`      // flags of which the operator's value stands
	Conflicts []launch.Conflict `json:"conflicts,omitempty"` // why it is not merged
	Merged    bool              `json:"merged,omitempty"`
	Diff      string            `json:"diff,omitempty"` // from what is installed
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

// Swapped is a file in the place of which that of another build was put, by hand.
type Swapped struct{ Path, Of string }

// Unlined is a service whose line can't be written from here.
type Unlined struct{ Unit, Line, Why string }

// Nothing tells whether there is nothing to do.
func (p *Plan) Nothing() bool { return len(p.Steps)+len(p.Lines) == 0 }

// sameLines tells whether two plans have services run the same.
func sameLines(a, b *Plan) bool {
	return slices.EqualFunc(a.Lines, b.Lines, func(a, b logbook.Lined) bool {
		return a.Unit == b.Unit && slices.Equal(a.Was, b.Was) && slices.Equal(a.Now, b.Now)
	})
}

// Blocked is a path where the plan can't be carried out.
type Blocked struct{ Path, Why, Do string }

// Overlaid is a path that two layers bring: the later one's file is used.
type Overlaid struct {
	Path  string `json:"path"`
	Under string `json:"under"` // layer; "": the build
	Over  string `json:"over"`
}

// OfBuild tells whether the build, or a layer, has a file that is laid at a path.
func (p *Plan) OfBuild(at string) bool {
	it := p.items.Find(p.Spelling.Of(at))
	return it != nil && it.File.Kind == tree.File
}

// count counts a file of the inventory before.
func (p *Plan) count(had *inventory.Owned) {
	if had.Kind == tree.Dir || had.Layer != "" {
		return
	}
	p.Had++
	p.HadBytes += had.Size
	if top, _, below := strings.Cut(had.Path, "/"); below {
		p.HadBelow[top]++
	}
}

// Held is how many files of the build, or of a layer, the profile holds back though they are not what
// stands here, and how many it has in all.
func (p *Plan) Held(layer string) (held, all int) {
	out := map[string]bool{}
	for _, at := range append(slices.Clone(p.Stale), p.Differs...) {
		out[strings.TrimSuffix(at, " (not there)")] = true
	}
	for _, it := range p.items {
		if it.File.Kind == tree.File && p.Whose[it.At] == layer {
			if all++; out[it.At] {
				held++
			}
		}
	}
	return held, all
}

// Removes lists the paths that the swap takes away.
func (p *Plan) Removes() (out []string) {
	for _, s := range p.Steps {
		if s.Do == swap.Remove {
			out = append(out, s.Path)
		}
	}
	return out
}

// ByFolder names paths, those of one folder as one: "maps/ (3 files)".
func (p *Plan) ByFolder(paths []string) (out []string) {
	in := map[string][]string{}
	for _, at := range paths {
		in[path.Dir(at)] = append(in[path.Dir(at)], at)
	}
	for _, dir := range slices.Sorted(maps.Keys(in)) {
		if list := in[dir]; dir != "." && len(list) > 1 {
			out = append(out, fmt.Sprintf("%s/ (%s)", dir, words.Plural(len(list), "file")))
		} else {
			out = append(out, list...)
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

// come has a file of the build come to its path.
func (p *Plan) come(do string, it *Item, c ahead.Coming) {
	p.Steps = append(p.Steps, swap.Step{Do: do, Path: it.At})
	p.Come(c)
	p.Bytes += c.Size
	it.owned = asBuilt
}

// rewrite has a text come in the place of a file that stands here.
func (p *Plan) rewrite(here tree.Entry, text []byte) {
	p.Texts[here.Path] = text
	f := &locker.File{Entry: here}
	f.Size, f.Mtime, f.Inode = int64(len(text)), 0, 0 // no stamp proves that it is the build's
	p.Steps = append(p.Steps, swap.Step{Do: swap.Replace, Path: here.Path})
	p.Come(ahead.Coming{At: here.Path, File: f, Mode: here.Mode, UID: here.UID, GID: here.GID})
	p.Bytes += f.Size
}

// Exchanges tells whether a file or link comes to a path.
func (p *Plan) Exchanges(at string) bool {
	return slices.Contains(p.Steps, swap.Step{Do: swap.Add, Path: at}) ||
		slices.Contains(p.Steps, swap.Step{Do: swap.Replace, Path: at})
}

// Edit is what is changed of a script; nil for nothing.
func (p *Plan) Edit(at string) *Edit {
	for i := range p.Edits {
		if p.Edits[i].Path == at {
			return &p.Edits[i]
		}
	}
	return nil
}

// OnlyThat is the pattern that a restore takes for a path: a folder with all in it.
func (p *Plan) OnlyThat(at string) string {
	if p.Before.At(at).Kind == tree.Dir {
		return at + "/**"
	}
	return at
}

// inventory gives the files of the inventory afterwards, in the order of their paths.
func (p *Plan) inventory(add func(*inventory.Owned) error) error {
	for i := range p.items {
		it := &p.items[i]
		o := inventory.Owned{Entry: it.File.Entry, Sum: it.File.Sum, Layer: p.Whose[it.At]}
		switch it.owned {
		case unowned:
			continue
		case asHere, asEdited:
			o.Entry = p.Before[it.here]
			if it.owned == asEdited {
				o.Mtime, o.Inode = 0, 0
			}
		case asWas:
			o.Entry = p.was[it.At].Entry
		case asBuilt:
			if c, comes := p.Comes(it.At); comes {
				o.Entry = c.Entry().Entry
			}
		}
		o.Path = it.At
		if err := add(&o); err != nil {
			return err
		}
	}
	return nil
}

// WriteInventory writes the inventory as it will be to the file at path.
func (p *Plan) WriteInventory(path string) error {
	head := &inventory.Inventory{Version: p.To, Channel: p.Channel, Build: p.Set.ID, Known: p.sure, Layers: p.Layers,
		Without: p.Without, Names: p.named}
	return inventory.WriteBy(path, head, p.inventory)
}

// Checked lets go of lists that only checks ask for, or that the inventory is written from:
// of the install as the plan saw it, what the plan touches is all that is asked for
// later. From here on the entries of the build's sets are as they will be laid out, and
// good for nothing else: a build may have too many to be copied.
func (p *Plan) Checked() {
	p.items, p.was, p.Set = nil, nil, nil
	var paths []string
	for _, s := range p.Steps {
		if _, stands := p.Before.Get(s.Path); stands {
			paths = append(paths, s.Path)
		}
	}
	slices.Sort(paths)
	kept := make(tree.List, 0, len(paths))
	for _, at := range slices.Compact(paths) {
		kept = append(kept, p.Before.At(at))
	}
	p.Before = kept
	for _, c := range p.Coming() {
		*c.File = c.Entry()
	}
}

// Still tells whether the install is what the plan saw, as far as the plan
// touches it: the server was running since, and may have written.
func (pr *Planner) Still(p *Plan) error {
	for _, s := range p.Steps {
		if s.Do == swap.MakeDir || s.Do == swap.DropDir {
			continue
		}
		was, had := p.Before.Get(s.Path)
		now, ok, err := tree.Describe(pr.Path(s.Path), s.Path)
		gone := err != nil || !ok
		if had == gone || (had && !(now.SameIdentity(was) ||
			(was.Inode == 0 && now.Size == was.Size && now.Mtime == was.Mtime))) {
			return fmt.Errorf("%s changed while the refit was prepared", s.Path)
		}
	}
	return nil
}

// Same tells whether two plans do the same to the same files.
func Same(a, b *Plan) bool {
	return slices.Equal(a.Steps, b.Steps) && slices.Equal(a.Drifted, b.Drifted) && slices.Equal(a.Mended, b.Mended) &&
		maps.EqualFunc(a.Texts, b.Texts, bytes.Equal) && sameLines(a, b)
}
