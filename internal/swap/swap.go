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
package swap

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
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
	Format string `json:"format"`
	Steps  []Step `json:"steps"`
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
type Run struct {
	Root string // the install
	Dir  string // on the same file system as Root
}

func (r Run) planFile() string    { return filepath.Join(r.Dir, "plan.json") }
func (r Run) journalFile() string { return filepath.Join(r.Dir, "journal") }

// Staged is where the new file for path stands until it is swapped in. New
// folders stand apart from files, since a staged folder must be empty.
func (r Run) Staged(p string) string { return filepath.Join(r.Dir, "staged", filepath.FromSlash(p)) }

// StagedDir is where a new folder for path stands until then.
func (r Run) StagedDir(p string) string { return filepath.Join(r.Dir, "folders", flat(p)) }

// Displaced is where what stood at path is kept.
func (r Run) Displaced(p string) string {
	return filepath.Join(r.Dir, "displaced", filepath.FromSlash(p))
}
func (r Run) displacedDir(p string) string { return filepath.Join(r.Dir, "displaced-folders", flat(p)) }
func (r Run) target(p string) string       { return filepath.Join(r.Root, filepath.FromSlash(p)) }

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
	p.Format = format
	b, err := json.MarshalIndent(p, "", " ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(r.Dir, 0o700); err != nil {
		return fmt.Errorf("write the swap's plan: %w", err)
	}
	if err := tree.WriteFile(r.planFile(), b, 0o600); err != nil {
		return fmt.Errorf("write the swap's plan: %w", err)
	}
	return nil
}

// Read reads the plan. A run that has none never renamed anything, and gives
// an empty plan.
func (r Run) Read() (*Plan, error) {
	b, err := os.ReadFile(r.planFile())
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
	return p, nil
}

// journal appends what was done and flushes folders at the end. Halt, which
// may be nil, is asked before each rename; its error stops the run there.
type journal struct {
	r    Run
	f    *os.File
	dirs map[string]bool
	halt func(at string) error
	n    int
	verb string
}

func (r Run) journal(verb string, halt func(string) error) (*journal, error) {
	f, err := os.OpenFile(r.journalFile(), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the journal: %w", err)
	}
	return &journal{r: r, f: f, dirs: map[string]bool{}, halt: halt, verb: verb}, nil
}

func (j *journal) rename(what, from, to string) error {
	j.n++
	if j.halt != nil {
		if err := j.halt(fmt.Sprintf("%s:%d", j.verb, j.n)); err != nil {
			return fmt.Errorf("%s %s: %w", j.verb, what, err)
		}
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if err := os.Rename(from, to); err != nil {
		return fmt.Errorf("%s %s: %w", j.verb, what, err)
	}
	j.dirs[filepath.Dir(from)], j.dirs[filepath.Dir(to)] = true, true
	// For people to read. A full disk must not stop a way back that needs no
	// space, and nothing is decided by this line.
	fmt.Fprintf(j.f, "%s %d %s\n", j.verb, j.n, what)
	return nil
}

// done flushes every folder whose entries changed, then the journal.
func (j *journal) done() error {
	defer j.f.Close()
	for d := range j.dirs {
		if fi, err := os.Lstat(d); err != nil || !fi.IsDir() {
			continue // it went itself, or a file stands there now
		}
		if err := tree.SyncDir(d); err != nil {
			return fmt.Errorf("flush %s: %w", d, err)
		}
	}
	fmt.Fprintf(j.f, "%s done\n", j.verb)
	j.f.Sync()
	return nil
}

func there(p string) bool { _, err := os.Lstat(p); return err == nil }

// Apply carries the plan out, or on from where a crash left it.
func (r Run) Apply(p *Plan, halt func(at string) error) error {
	j, err := r.journal("swap", halt)
	if err != nil {
		return err
	}
	defer j.f.Close()
	for _, s := range p.Steps {
		if err := r.apply(j, s); err != nil {
			return err
		}
	}
	return j.done()
}

func (r Run) apply(j *journal, s Step) error {
	at := r.target(s.Path)
	switch s.Do {
	case MakeDir:
		if there(r.StagedDir(s.Path)) {
			return j.rename("folder "+s.Path, r.StagedDir(s.Path), at)
		}
		return nil
	case DropDir:
		list, err := os.ReadDir(at)
		if err != nil || len(list) > 0 {
			return nil
		}
		return j.rename("drop "+s.Path, at, r.displacedDir(s.Path))
	}
	if s.Do != Add && !there(r.Displaced(s.Path)) {
		if err := j.rename("out "+s.Path, at, r.Displaced(s.Path)); err != nil {
			return err
		}
	}
	if s.Do == Remove || !there(r.Staged(s.Path)) {
		return nil
	}
	if there(at) {
		return fmt.Errorf("swap in %s: something new stands there since the plan was made", s.Path)
	}
	return j.rename("in "+s.Path, r.Staged(s.Path), at)
}

// Reverse undoes the plan as far as it got. What it finds in the way, because
// the new build made it, is moved to aside/, never destroyed.
func (r Run) Reverse(p *Plan, halt func(at string) error) error {
	j, err := r.journal("reverse", halt)
	if err != nil {
		return err
	}
	defer j.f.Close()
	for i := len(p.Steps) - 1; i >= 0; i-- {
		if err := r.reverse(j, p.Steps[i]); err != nil {
			return err
		}
	}
	return j.done()
}

func (r Run) reverse(j *journal, s Step) error {
	at := r.target(s.Path)
	switch s.Do {
	case MakeDir:
		// Only an empty folder goes back: one that the new build filled is the
		// caller's to clear, who knows what was there before.
		list, err := os.ReadDir(at)
		if err != nil || len(list) > 0 || there(r.StagedDir(s.Path)) {
			return nil
		}
		return j.rename("folder "+s.Path, at, r.StagedDir(s.Path))
	case DropDir:
		if !there(r.displacedDir(s.Path)) {
			return nil
		}
		if err := r.clear(j, s.Path); err != nil {
			return err
		}
		return j.rename("drop "+s.Path, r.displacedDir(s.Path), at)
	case Add:
		if there(r.Staged(s.Path)) || !there(at) {
			return nil
		}
		return j.rename("in "+s.Path, at, r.Staged(s.Path))
	}
	// Out and in are one exchange: with nothing in displaced/, it has not begun
	// or is undone already, and what stands at the place is the old file.
	if !there(r.Displaced(s.Path)) {
		return nil
	}
	if there(at) && s.Do == Replace && !there(r.Staged(s.Path)) {
		if err := j.rename("in "+s.Path, at, r.Staged(s.Path)); err != nil {
			return err
		}
	}
	if err := r.clear(j, s.Path); err != nil {
		return err
	}
	return j.rename("out "+s.Path, r.Displaced(s.Path), at)
}

// clear moves what stands at p aside, if anything does.
func (r Run) clear(j *journal, p string) error {
	if !there(r.target(p)) {
		return nil
	}
	return j.rename("aside "+p, r.target(p), r.Aside(p))
}

// Aside is a free name in aside/ for what stood at p.
func (r Run) Aside(p string) string {
	full := filepath.Join(r.Dir, "aside", filepath.FromSlash(p))
	for n := 2; there(full); n++ {
		full = filepath.Join(r.Dir, "aside", filepath.FromSlash(path.Dir(p)), fmt.Sprintf("%s~%d", path.Base(p), n))
	}
	return full
}
