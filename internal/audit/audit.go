// Package audit holds an install against what was put there, and against what the makers
// list: what is missing, what was changed, what is nobody's. It asks the inventory and the
// locker alone; no source is needed. What it finds it can put back, see Mend.
package audit

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"golang.org/x/sync/errgroup"
)

// Auditor looks at one install.
type Auditor struct {
	*install.Install
	inv *inventory.Kept
}

// New is the auditor of an install.
func New(inv *inventory.Kept) *Auditor { return &Auditor{inv.Install, inv} }

// Kind is what is wrong with a path.
type Kind string

// Kinds, worst first.
const (
	Missing   Kind = "missing"      // it was put there, and is not there
	Changed   Kind = "changed"      // its content is another
	OtherKind Kind = "another kind" // a folder where a file was put, say
	Unlisted  Kind = "not as made"  // it is as it was put there, and its makers list other content
	Mode      Kind = "mode"         // who may read, write or run it is another
	Owner     Kind = "owner"        // whom it belongs to is another
	Foreign   Kind = "foreign"      // nobody put it there, and it is not the operator's by the profile
)

// Way is how a finding is put right.
type Way string

// Ways.
const (
	Now     Way = "now"     // by audit --mend, and the server may run on
	Stopped Way = "stopped" // by audit --mend, once the server is stopped: it runs or uses the file
	Refit   Way = "refit"   // its content is not here: by a refit, which fetches it
	ByHand  Way = "by hand"
)

// Finding is one path with which something is wrong.
type Finding struct {
	Kind  Kind   `json:"kind"`
	Path  string `json:"path"`
	Whose string `json:"whose"`           // "the build", "layer NAME", or "nobody's"
	What  string `json:"what"`            // in words
	Files int    `json:"files,omitempty"` // of a foreign folder
	// of what is foreign: the pattern by which the profile can say that it is the operator's
	Pattern string `json:"pattern,omitempty"`
	Way     Way    `json:"way"`
	Do      string `json:"do"` // the command, where it is one of its own

	was inventory.Owned
}

// Order says how to look.
type Order struct {
	Deep bool          // read every file, whatever its times prove
	Only tree.Patterns // these paths alone; none: all
}

// Report is what an audit found.
type Report struct {
	Version  string           `json:"version"`
	Layers   []inventory.Laid `json:"layers,omitempty"`
	Known    bool             `json:"known"` // which files are the build's is known; else it is what adopt found
	At       time.Time        `json:"recorded"`
	Files    int              `json:"files"`      // that were held against what was put there
	Read     int              `json:"files_read"` // of those, since their times prove nothing or all were to be
	Bytes    int64            `json:"bytes_read"`
	Listed   int              `json:"files_listed"` // of those, that were held against what the makers list
	Own      int              `json:"own"`          // files that are the operator's own
	Yours    []string         `json:"yours"`        // of the build's, those that are the operator's by now, and differ
	Findings []Finding        `json:"findings"`
	Mended   []string         `json:"mended,omitempty"` // what Mend has put back
	Run      string           `json:"run,omitempty"`    // and the logbook's entry of that
}

// Clean tells whether nothing is wrong.
func (r *Report) Clean() bool { return len(r.Findings) == 0 }

// looking is one audit under way.
type looking struct {
	*Auditor
	o      Order
	out    *Report
	root   *tree.Root
	list   tree.List
	read   []reading
	used   []string // files that the running server uses, whole paths
	up     bool
	seen   bool // which files it uses can be seen
	nobody []string
	script string // the launch script, which the operator edits; "" where a program is started itself
}

// reading is a file of which times prove nothing.
type reading struct {
	was inventory.Owned
	at  int32 // in the list
	own bool  // it is the operator's: that it differs is only told
}

// Look audits the install. It changes nothing.
func (a *Auditor) Look(ctx context.Context, o Order) (*Report, error) {
	if err := a.choose(&o); err != nil {
		return nil, err
	}
	if err := a.Whole(); err != nil {
		return nil, err
	}
	old, err := a.inv.Scan()
	if err != nil {
		return nil, err
	}
	defer old.Close()
	if old.Head.At.IsZero() {
		return nil, fmt.Errorf(
			"%s has no inventory: nobody recorded what was put there (freshkeel adopt %s does)",
			a.Dir,
			a.Dir,
		)
	}
	l := &looking{
		Auditor: a,
		o:       o,
		out: &Report{Version: old.Head.Version, Layers: old.Head.Layers, Known: old.Head.Known,
			At: old.Head.At, Yours: []string{}, Findings: []Finding{}},
	}
	if l.root, err = tree.OpenRoot(a.Dir); err != nil {
		return nil, err
	}
	defer l.root.Close()
	if l.list, err = tree.Walk(a.Dir, a.Profile.Server.Skip); err != nil {
		return nil, fmt.Errorf("look at the install: %w", err)
	}
	if at := a.Profile.Launch.Script; at != "" && bytes.IndexByte(tree.Head(a.Path(at)), 0) < 0 {
		l.script = at
	}
	if err := l.holdAgainst(old); err != nil {
		return nil, err
	}
	if err := l.readThem(ctx); err != nil {
		return nil, err
	}
	if err := l.asListed(old.Head); err != nil {
		return nil, err
	}
	l.foreign()
	if err := l.attribute(old.Head); err != nil {
		return nil, err
	}
	l.sort()
	return l.out, nil
}

// holdAgainst goes through the install and the inventory side by side, in the order of
// paths.
func (l *looking) holdAgainst(old *inventory.Scanner) error {
	next, err := old.Spelled(l.spelling())
	if err != nil {
		return err
	}
	was, i := next(), 0
	for i < len(l.list) || was != nil {
		switch {
		case was == nil || (i < len(l.list) && l.list[i].Path < was.Path):
			if l.concerns(l.list[i].Path) {
				l.unknown(l.list[i])
			}
			i++
		case i == len(l.list) || was.Path < l.list[i].Path:
			if l.concerns(was.Path) {
				l.gone(was)
			}
			was = next()
		default:
			if l.concerns(was.Path) {
				l.both(was, i)
			}
			was = next()
			i++
		}
	}
	return old.Err()
}

func (l *looking) spelling() tree.Spelling {
	if tree.FoldsCase(l.Path(profile.FileName)) {
		return tree.SpelledAs(l.list)
	}
	return tree.Spelling{}
}

// choose makes the patterns that a person typed those of what is installed, or was.
func (a *Auditor) choose(o *Order) error {
	if len(o.Only) == 0 {
		return nil
	}
	list, err := tree.Walk(a.Dir, nil)
	if err != nil {
		return err
	}
	inv, err := a.inv.Read()
	if err != nil {
		return err
	}
	o.Only, err = tree.Chosen(o.Only, a.Dir, func(yield func(string, bool) bool) {
		for _, e := range list {
			if !yield(e.Path, e.Kind == tree.Dir) {
				return
			}
		}
		for _, f := range inv.Files {
			if !yield(f.Path, f.Kind == tree.Dir) {
				return
			}
		}
	}, words.Near)
	if err != nil {
		return tell.Misuse(err.Error(), "freshkeel audit")
	}
	return nil
}

func (l *looking) concerns(at string) bool { return len(l.o.Only) == 0 || l.o.Only.Match(at) }

// own tells whether a path is the operator's: what stands there is no business of an audit.
func (l *looking) own(at string) bool {
	p := l.Profile
	return p.Server.Own(at) || at == l.script || p.Addons.Files.Match(at) || p.Server.Skip.Match(at)
}

// unknown is for a path of which the inventory says nothing.
func (l *looking) unknown(here tree.Entry) {
	switch {
	case here.Kind == tree.Dir || profile.Reserved(here.Path):
	case l.own(here.Path):
		l.out.Own++
	default:
		l.nobody = append(l.nobody, here.Path)
	}
}

// gone is for a path where nothing stands any more.
func (l *looking) gone(was *inventory.Owned) {
	switch {
	case l.Profile.Server.Skip.Match(was.Path):
	case l.own(was.Path):
		if was.Kind != tree.Dir && l.out.Known {
			l.out.Yours = append(l.out.Yours, was.Path)
		}
	default:
		l.out.Files++
		l.find(Missing, was, "it was put there, and is not there")
	}
}

// both is for a path that the inventory knows and where something stands.
func (l *looking) both(was *inventory.Owned, i int) {
	here := &l.list[i]
	if l.own(was.Path) {
		if here.Kind != tree.Dir {
			l.out.Own++
		}
		switch {
		case !l.out.Known: // what was found at the adoption was nobody's but the operator's
		case here.Kind != was.Kind || here.Size != was.Size || here.Target != was.Target:
			l.out.Yours = append(l.out.Yours, was.Path)
		case here.Kind == tree.File && !proven(was, here):
			l.read = append(l.read, reading{*was, int32(i), true})
		}
		return
	}
	if was.Kind != tree.Dir {
		l.out.Files++
	}
	switch {
	case here.Kind != was.Kind:
		l.find(
			OtherKind,
			was,
			fmt.Sprintf("a %s stands there, and a %s was put there", here.Kind.Word(), was.Kind.Word()),
		)
		return
	case here.Kind == tree.Link && here.Target != was.Target:
		l.find(Changed, was, fmt.Sprintf("it leads to %s, and was made to lead to %s", here.Target, was.Target))
		return
	case here.Kind == tree.File && here.Size != was.Size:
		l.find(Changed, was, fmt.Sprintf("%s, and %s were put there", words.Bytes(here.Size), words.Bytes(was.Size)))
	case here.Kind == tree.File && (l.o.Deep || !proven(was, here)):
		l.read = append(l.read, reading{*was, int32(i), false})
	}
	l.rights(was, here)
}

// proven tells whether a file's times prove that it still is what was put there.
func proven(was *inventory.Owned, here *tree.Entry) bool {
	return was.SeenAt != 0 && here.SameIdentity(was.Entry) && here.Settled(was.SeenAt)
}

// rights finds a mode or an owner that is another than when the file was put there.
func (l *looking) rights(was *inventory.Owned, here *tree.Entry) {
	if !host.HasModes || was.Kind == tree.Link {
		return
	}
	// What the inventory says before a file was laid out is what its archive says, which is
	// not always what was laid.
	if was.SeenAt != 0 && here.Mode != was.Mode {
		l.find(Mode, was, fmt.Sprintf("its mode is %s, and was %s", modeWord(here.Mode), modeWord(was.Mode)))
	}
	if was.SeenAt != 0 && was.UID != tree.NoID && (here.UID != was.UID || here.GID != was.GID) {
		l.find(Owner, was, fmt.Sprintf("it belongs to %s, and belonged to %s", ownerWord(*here), ownerWord(was.Entry)))
	}
}

func modeWord(m fs.FileMode) string {
	bits := uint32(m.Perm())
	for bit, special := range map[uint32]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if m&special != 0 {
			bits |= bit
		}
	}
	return fmt.Sprintf("%04o", bits)
}

func ownerWord(e tree.Entry) string {
	return fmt.Sprintf("%s (%d:%d)", host.OwnerOf(e.UID.Int(), e.GID.Int()).Name, e.UID, e.GID)
}

func (l *looking) find(k Kind, was *inventory.Owned, what string) {
	whose := "the build"
	switch {
	case was.Layer != "":
		whose = "layer " + was.Layer
	case !l.out.Known:
		whose = "found when it was adopted"
	}
	l.out.Findings = append(l.out.Findings, Finding{Kind: k, Path: was.Path, Whose: whose, What: what, was: *was})
}

// readThem reads the files of which times prove nothing, as many at a time as there are
// processors, and holds what they are against what was put there.
func (l *looking) readThem(ctx context.Context) error {
	var total, done int64
	for _, r := range l.read {
		total += l.list[r.at].Size
	}
	progress := func(int64, int64) {}
	if len(l.read) > 0 {
		progress = l.Moves("read")
	}
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for n := range l.read {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			r := &l.read[n]
			here := &l.list[r.at]
			sum, err := l.sum(here.Path)
			mu.Lock()
			defer mu.Unlock()
			done += here.Size
			progress(done, total)
			l.out.Read++
			l.out.Bytes += here.Size
			switch {
			case r.own:
				if err == nil && sum != r.was.Sum {
					l.out.Yours = append(l.out.Yours, here.Path)
				}
			case err != nil:
				l.find(Changed, &r.was, "it can't be read: "+err.Error())
			case sum != r.was.Sum && proven(&r.was, here):
				l.find(
					Changed,
					&r.was,
					"its content is another, and its times say that nobody wrote to it: the disk or "+
						"the memory of this machine may be failing",
				)
			case sum != r.was.Sum && r.was.SeenAt != 0 && here.Mtime == r.was.Mtime && here.Ctime != 0:
				l.find(Changed, &r.was, "its content is another, though its date is the old one: it was changed at "+
					time.Unix(0, here.Ctime).Format("2006-01-02 15:04"))
			case sum != r.was.Sum:
				l.find(Changed, &r.was, "its content is another; it was last written at "+
					time.Unix(0, here.Mtime).Format("2006-01-02 15:04"))
			}
			return nil
		})
	}
	g.Wait()
	return ctx.Err()
}

func (l *looking) sum(at string) (tree.Sum, error) {
	f, err := l.root.Open(at)
	if err != nil {
		return tree.Sum{}, err
	}
	defer f.Close()
	return tree.SumOf(f)
}

// asListed holds what was put there against what the makers list: the builds in the locker
// that it came from. Only a deep audit does: an inventory is ours, and changed by nobody else.
func (l *looking) asListed(head *inventory.Inventory) error {
	if !l.o.Deep || !head.Known {
		return nil
	}
	store, err := l.Locker()
	if err != nil {
		return err
	}
	listed := map[tree.Sum]bool{}
	for _, id := range head.Sets() {
		if err := store.Each(locker.Builds, id, func(f *locker.File) {
			if f.Kind == tree.File {
				listed[f.Sum] = true
			}
		}); err != nil {
			return nil // a build that is not kept any more: nothing is known of its listing
		}
	}
	wrong := map[string]bool{}
	for _, f := range l.out.Findings {
		wrong[f.Path] = true
	}
	for _, r := range l.read {
		if r.own {
			continue
		}
		l.out.Listed++
		if !listed[r.was.Sum] && !wrong[r.was.Path] && r.was.Size > 0 {
			l.find(
				Unlisted,
				&r.was,
				"it is as it was put there, and is in no build and no layer as their makers list them",
			)
		}
	}
	return nil
}

// foreign tells of what nobody put there: of a folder in which there is nothing else, the
// folder alone.
func (l *looking) foreign() {
	mixed := map[string]bool{".": true} // folders that hold something that is known
	strange := map[string]bool{}
	for _, at := range l.nobody {
		strange[at] = true
	}
	for _, e := range l.list {
		if e.Kind == tree.Dir || strange[e.Path] {
			continue
		}
		for dir := parent(e.Path); !mixed[dir]; dir = parent(dir) {
			mixed[dir] = true
		}
	}
	files := map[string]int{}
	var order []string
	for _, at := range l.nobody {
		top := at
		for dir := parent(at); !mixed[dir]; dir = parent(dir) {
			top = dir
		}
		if files[top] == 0 {
			order = append(order, top)
		}
		files[top]++
	}
	for _, at := range order {
		f := Finding{Kind: Foreign, Path: at, Whose: "nobody's", Way: ByHand, Pattern: tree.Literally(at),
			What: "nothing that was put here brought it, and by the profile it is not yours"}
		if e, _ := l.list.Get(at); e.Kind == tree.Dir {
			f.Files, f.Pattern = files[at], f.Pattern+"/**"
		}
		f.Do = fmt.Sprintf(
			"if it is yours: freshkeel profile set --add server.keep %s; else remove it",
			words.Quote(f.Pattern),
		)
		l.out.Findings = append(l.out.Findings, f)
	}
}

func parent(at string) string {
	i := strings.LastIndexByte(at, '/')
	if i < 0 {
		return "."
	}
	return at[:i]
}

// sort brings findings into the order of how bad they are, then of paths.
func (l *looking) sort() {
	rank := []Kind{Missing, Changed, OtherKind, Unlisted, Mode, Owner, Foreign}
	slices.SortFunc(l.out.Findings, func(a, b Finding) int {
		if a.Kind != b.Kind {
			return slices.Index(rank, a.Kind) - slices.Index(rank, b.Kind)
		}
		return strings.Compare(a.Path, b.Path)
	})
	slices.Sort(l.out.Yours)
}

// uses tells whether the running server runs a path, or has it open. Where that can't be
// seen, it may.
func (l *looking) uses(at string) bool {
	if l.used == nil {
		st := l.Host().Status()
		l.up = st.Running
		l.used, l.seen = host.Using(st.Processes)
		l.used = append(l.used, "")
	}
	if !l.up {
		return false
	}
	full := l.Path(at)
	if real, err := filepath.EvalSymlinks(filepath.Dir(full)); err == nil {
		full = filepath.Join(real, filepath.Base(full))
	}
	return !l.seen || slices.Contains(l.used, full)
}
