// Package swap exchanges files of an install in one journaled transaction.
//
// All it does is rename. A plan is written and flushed before the first
// rename; what it takes out goes to the run folder's displaced/, what it puts
// in stands ready in staged/, so the way back is renames too.
//
// How far a plan got is read from where the files are, not believed from the
// journal: every rename is atomic and leaves its own trace (a file in staged/
// is not in yet; one in displaced/ is out). So a journal that lost its last
// lines in a power cut misleads nobody, and Apply and Reverse may both be
// called again after any crash, any number of times.
//
// It reads no content, it decides nothing, and it follows no
// link. A path of a plan that leads out of the install, or into Fresh Keel's own
// state, is refused.
package swap

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"freshkeel/internal/tree"
)

const format = "freshkeel-swap/1"

// Kinds of step.
const (
	Replace = "replace"     // the file at Path goes out, the staged one comes in
	Add     = "add"         // nothing is at Path; the staged one comes in
	Remove  = "remove"      // what is at Path goes out
	MakeDir = "new-folder"  // an empty staged folder comes in
	DropDir = "drop-folder" // an empty folder goes out; one that is not empty stays
)

// Step is one exchange.
type Step struct {
	Do   string `json:"do"`
	Path string `json:"path"` // slash-separated, in the install
}

// rawStep is a step as it is written down: JSON can't hold a name that is not
// UTF-8, so its bytes stand beside it.
type rawStep struct {
	Do   string `json:"do"`
	Path string `json:"path"`
	Raw  []byte `json:"raw_path,omitempty"`
}

func (s Step) MarshalJSON() ([]byte, error) {
	r := rawStep{Do: s.Do, Path: s.Path}
	if !utf8.ValidString(s.Path) {
		r.Raw = []byte(s.Path)
	}
	return json.Marshal(r)
}

func (s *Step) UnmarshalJSON(b []byte) error {
	var r rawStep
	if err := json.Unmarshal(b, &r); err != nil {
		return err
	}
	s.Do, s.Path = r.Do, r.Path
	if r.Raw != nil {
		s.Path = string(r.Raw)
	}
	return nil
}

// Plan is the whole exchange, in the order in which it is done.
type Plan struct {
	Format string   `json:"format"`
	Places []string `json:"places,omitempty"` // folders of the install on file systems of their own
	// of those, the ones that stand outside of the install's folder, and where
	Elsewhere tree.Elsewhere `json:"elsewhere,omitempty"`
	Steps     []Step         `json:"steps"`
}

// check holds a plan to what a swap may touch. A plan that was read is no more
// trustworthy than whoever can write to the folder that it lies in.
func (p *Plan) check() error {
	bad := func(what, at string) error {
		return fmt.Errorf("the plan names the %s %q, which is outside the install or Fresh Keel's own: it is "+
			"not followed", what, at)
	}
	for _, at := range p.Places {
		if !tree.Local(at) || tree.Ours(at) {
			return bad("place", at)
		}
	}
	for _, s := range p.Steps {
		if !tree.Local(s.Path) || tree.Ours(s.Path) {
			return bad("path", s.Path)
		}
		switch s.Do {
		case Replace, Add, Remove, MakeDir, DropDir:
		default:
			return fmt.Errorf("the plan has a step %q of %s, which this program does not know", s.Do, s.Path)
		}
	}
	return nil
}

// Paths is every path that the plan touches but for folders.
func (p *Plan) Paths() map[string]bool {
	m := map[string]bool{}
	for _, s := range p.Steps {
		if s.Do != MakeDir && s.Do != DropDir {
			m[s.Path] = true
		}
	}
	return m
}

// Run is the folder of one exchange: plan, journal, staged, displaced, aside.
//
// A rename can't cross from one file system to another. So each of Places, which
// are folders of the install where another one is mounted, has a folder of the
// same name of its own at its top, in its own state folder: what belongs there is
// staged there, and displaced to there.
type Run struct {
	Root   string // the install
	Dir    string // in Root; on Root's own file system
	Places []string
}

func (r Run) planFile() string    { return filepath.Join(r.Dir, "plan.json") }
func (r Run) journalFile() string { return filepath.Join(r.Dir, "journal") }

// side is the run's folder, relative to Root, on the file system that p is on.
func (r Run) side(p string) string {
	place := ""
	for _, at := range r.Places {
		if strings.HasPrefix(p, at+"/") && len(at) > len(place) {
			place = at
		}
	}
	return path.Join(place, r.rel())
}

// rel is Dir, relative to Root.
func (r Run) rel() string {
	rel, err := filepath.Rel(r.Root, r.Dir)
	if err != nil {
		return ""
	}
	return filepath.ToSlash(rel)
}

func (r Run) full(rel string) string { return tree.Full(r.Root, rel) }

func (r Run) staged(p string) string       { return r.side(p) + "/staged/" + p }
func (r Run) stagedDir(p string) string    { return r.side(p) + "/folders/" + flat(p) }
func (r Run) displaced(p string) string    { return r.side(p) + "/displaced/" + p }
func (r Run) displacedDir(p string) string { return r.side(p) + "/displaced-folders/" + flat(p) }

// Staged is where the new file for path stands until it is swapped in. New
// folders stand apart from files, since a staged folder must be empty.
func (r Run) Staged(p string) string { return r.full(r.staged(p)) }

// StagedDir is where a new folder for path stands until then.
func (r Run) StagedDir(p string) string { return r.full(r.stagedDir(p)) }

// Displaced is where what stood at path is kept.
func (r Run) Displaced(p string) string { return r.full(r.displaced(p)) }

// Plan is a plan of this run.
func (r Run) Plan(steps []Step) *Plan {
	return &Plan{Places: r.Places, Elsewhere: tree.Grafted(r.Root), Steps: steps}
}

// Sides are the run's folders, one on each file system concerned, Dir first.
func (r Run) Sides() []string {
	out := []string{r.Dir}
	for _, at := range r.Places {
		out = append(out, r.full(r.side(at+"/x")))
	}
	return out
}

// Planned are the run's folders by the plan that was written, where the run itself was not told
// of its places.
func (r Run) Planned() []string {
	if p, err := r.Read(); err == nil && len(r.Places) == 0 {
		r.Places = p.Places
	}
	return r.Sides()
}

// DropStaging removes what was laid out and never swapped in.
func (r Run) DropStaging() error {
	var errs []error
	for _, side := range r.Planned() {
		errs = append(errs, os.RemoveAll(filepath.Join(side, "staged")), os.RemoveAll(filepath.Join(side, "folders")))
	}
	return errors.Join(errs...)
}

// flat makes one name of a path: folders are kept side by side, so that each
// stays empty.
func flat(p string) string { return tree.SumBytes([]byte(p)).Short() }

// Sort orders steps so that each is possible: removals deepest first, their
// folders after them, then new folders from the top, then what comes in.
func Sort(steps []Step) {
	rank := map[string]int{Remove: 0, DropDir: 1, MakeDir: 2, Replace: 3, Add: 4}
	sort.SliceStable(steps, func(i, j int) bool {
		a, b := steps[i], steps[j]
		if rank[a.Do] != rank[b.Do] {
			return rank[a.Do] < rank[b.Do]
		}
		if a.Do == DropDir {
			return a.Path > b.Path
		}
		return a.Path < b.Path
	})
}

// Write makes the plan durable. Nothing may have been renamed before.
func (r Run) Write(p *Plan) error {
	p.Format, p.Places, p.Elsewhere = format, r.Places, tree.Grafted(r.Root)
	if err := p.check(); err != nil {
		return fmt.Errorf("write the swap's plan: %w", err)
	}
	b, err := json.MarshalIndent(p, "", " ")
	if err != nil {
		return err
	}
	for _, dir := range r.Sides() {
		if err := tree.MakeDirs(dir, 0o700); err != nil {
			return fmt.Errorf("write the swap's plan: %w", err)
		}
	}
	if err := tree.WriteFile(r.planFile(), b, 0o600); err != nil {
		return fmt.Errorf("write the swap's plan: %w", err)
	}
	return nil
}

// Begun tells whether the exchange was begun: before that, nothing was renamed.
func (r Run) Begun() bool {
	_, err := os.Lstat(r.journalFile())
	return err == nil
}

// Read reads the plan. A run that has none never renamed anything, and gives
// an empty plan.
func (r Run) Read() (*Plan, error) {
	b, err := tree.ReadOwn(r.planFile())
	if errors.Is(err, fs.ErrNotExist) {
		return &Plan{Format: format}, nil
	}
	if err != nil {
		return nil, err
	}
	p := &Plan{}
	if err := json.Unmarshal(b, p); err != nil || p.Format != format {
		return nil, fmt.Errorf("read %s: not a plan of format %s (%v)", r.planFile(), format, err)
	}
	if err := p.check(); err != nil {
		return nil, fmt.Errorf("read %s: %w", r.planFile(), err)
	}
	return p, nil
}

// journal appends what was done and flushes folders at the end. Halt, which
// may be nil, is asked before each rename; its error stops the run there.
type journal struct {
	r    Run
	in   *tree.Root
	f    *os.File
	dirs map[string]bool // relative to Root
	halt func(at string) error
	n    int
	verb string
}

// Unmounted says that a file system on which files were exchanged is not there.
type Unmounted struct{ Place string }

func (u *Unmounted) Error() string {
	return fmt.Sprintf("%s was on a file system of its own when files were exchanged there, and it is not mounted now",
		u.Place)
}

// Mounted tells, with Unmounted, which of the file systems of a plan is not there. Folders
// elsewhere must be those with which the plan was made: where the profile was edited
// since, the plan does not follow it, and its files would be looked for in vain.
func (r Run) Mounted(p *Plan) error {
	if now := tree.Grafted(r.Root); p.movedElsewhere(now) {
		return fmt.Errorf("files were exchanged when the profile's [elsewhere] had: %s; now it has: %s; "+
			"write it as it was until this is finished", p.Elsewhere, now)
	}
	r.Places = p.Places
	for i, side := range r.Sides() {
		if _, err := os.Lstat(side); i > 0 && err != nil {
			return &Unmounted{r.Places[i-1]}
		}
	}
	return nil
}

// movedElsewhere tells whether a path of the plan stands in another folder now.
func (p *Plan) movedElsewhere(now tree.Elsewhere) bool {
	return !now.Same(p.Elsewhere) && slices.ContainsFunc(p.Steps, func(s Step) bool {
		top, _, _ := strings.Cut(s.Path, "/")
		return now[top] != p.Elsewhere[top]
	})
}

func (r Run) journal(p *Plan, verb string, halt func(string) error) (*journal, error) {
	r.Places = p.Places
	if err := p.check(); err != nil {
		return nil, err
	}
	in, err := tree.OpenRoot(r.Root)
	if err != nil {
		return nil, err
	}
	if err := r.Mounted(p); err != nil {
		in.Close()
		return nil, err
	}
	f, err := tree.OpenRegularTo(r.journalFile(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		in.Close()
		return nil, fmt.Errorf("open the journal: %w", err)
	}
	return &journal{r: r, in: in, f: f, dirs: map[string]bool{}, halt: halt, verb: verb}, nil
}

func (j *journal) close() {
	j.f.Close()
	j.in.Close()
}

// rename moves what stands at a path, relative to the install, to another.
func (j *journal) rename(what, from, to string) error {
	j.n++
	if j.halt != nil {
		if err := j.halt(fmt.Sprintf("%s:%d", j.verb, j.n)); err != nil {
			return fmt.Errorf("%s %s: %w", j.verb, what, err)
		}
	}
	if err := j.in.MkdirAll(path.Dir(to), 0o700); err != nil {
		return err
	}
	if err := j.in.Rename(from, to); err != nil {
		return fmt.Errorf("%s %s: %w", j.verb, what, err)
	}
	j.dirs[path.Dir(from)], j.dirs[path.Dir(to)] = true, true
	// For people to read. A full disk must not stop a way back that needs no
	// space, and nothing is decided by this line.
	fmt.Fprintf(j.f, "%s %d %s\n", j.verb, j.n, what)
	return nil
}

// done flushes every folder whose entries changed, then the journal.
func (j *journal) done() error {
	for d := range j.dirs {
		if d == "." {
			d = ""
		}
		if err := j.in.Sync(d); err != nil {
			return fmt.Errorf("flush %s: %w", j.in.Full(d), err)
		}
	}
	fmt.Fprintf(j.f, "%s done\n", j.verb)
	j.f.Sync()
	return nil
}

// Apply carries the plan out, or on from where a crash left it.
func (r Run) Apply(p *Plan, halt func(at string) error) error {
	j, err := r.journal(p, "swap", halt)
	if err != nil {
		return err
	}
	defer j.close()
	for _, s := range p.Steps {
		if err := j.apply(s); err != nil {
			return err
		}
	}
	return j.done()
}

// empty tells whether an empty folder stands at a path.
func (j *journal) empty(p string) bool {
	list, err := j.in.Names(p)
	return err == nil && len(list) == 0
}

func (j *journal) apply(s Step) error {
	r, at := j.r, s.Path
	switch s.Do {
	case MakeDir:
		if j.in.Has(r.stagedDir(at)) {
			return j.rename("folder "+at, r.stagedDir(at), at)
		}
		return nil
	case DropDir:
		if !j.empty(at) || slices.Contains(r.Places, at) {
			return nil
		}
		return j.rename("drop "+at, at, r.displacedDir(at))
	}
	if s.Do != Add && !j.in.Has(r.displaced(at)) {
		if err := j.rename("out "+at, at, r.displaced(at)); err != nil {
			return err
		}
	}
	if s.Do == Remove || !j.in.Has(r.staged(at)) {
		return nil
	}
	if j.in.Has(at) {
		return fmt.Errorf("swap in %s: something new stands there since the plan was made", at)
	}
	return j.rename("in "+at, r.staged(at), at)
}

// Reverse undoes the plan as far as it got. What it finds in the way, because
// the new build made it, is moved to aside/, never destroyed.
func (r Run) Reverse(p *Plan, halt func(at string) error) error {
	j, err := r.journal(p, "reverse", halt)
	if err != nil {
		return err
	}
	defer j.close()
	for i := len(p.Steps) - 1; i >= 0; i-- {
		if err := j.reverse(p.Steps[i]); err != nil {
			return err
		}
	}
	return j.done()
}

func (j *journal) reverse(s Step) error {
	r, at := j.r, s.Path
	switch s.Do {
	case MakeDir:
		// Only an empty folder goes back: one that the new build filled is the
		// caller's to clear, who knows what was there before.
		if !j.empty(at) || j.in.Has(r.stagedDir(at)) {
			return nil
		}
		return j.rename("folder "+at, at, r.stagedDir(at))
	case DropDir:
		if !j.in.Has(r.displacedDir(at)) {
			return nil
		}
		if err := j.clear(at); err != nil {
			return err
		}
		return j.rename("drop "+at, r.displacedDir(at), at)
	case Add:
		if j.in.Has(r.staged(at)) || !j.in.Has(at) {
			return nil
		}
		return j.rename("in "+at, at, r.staged(at))
	}
	// Out and in are one exchange: with nothing in displaced/, it has not begun
	// or is undone already, and what stands at the place is the old file.
	if !j.in.Has(r.displaced(at)) {
		return nil
	}
	if j.in.Has(at) && s.Do == Replace && !j.in.Has(r.staged(at)) {
		if err := j.rename("in "+at, at, r.staged(at)); err != nil {
			return err
		}
	}
	if err := j.clear(at); err != nil {
		return err
	}
	return j.rename("out "+at, r.displaced(at), at)
}

// clear moves what stands at p aside, if anything does, under a name that is
// free there.
func (j *journal) clear(p string) error {
	if !j.in.Has(p) {
		return nil
	}
	aside := j.r.side(p) + "/aside/"
	to := aside + p
	for n := 2; j.in.Has(to); n++ {
		to = aside + path.Join(path.Dir(p), fmt.Sprintf("%s~%d", path.Base(p), n))
	}
	return j.rename("aside "+p, p, to)
}
