// Package adopt takes an existing install under care: it looks at what is there, guesses
// what the profile should say, each guess with where it comes from, and writes the
// profile's text and the first inventory.
package adopt

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"freshkeel/internal/acquire"
	"freshkeel/internal/feed"
	"freshkeel/internal/fetch"
	"freshkeel/internal/install"
	"freshkeel/internal/inventory"
	"freshkeel/internal/learn"
	"freshkeel/internal/locker"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Adopter looks at one install that may have no profile yet.
type Adopter struct {
	*install.Install
	inv *inventory.Kept
	res *resolve.Resolver
	acq *acquire.Acquirer
}

func newAdopter(in *install.Install) *Adopter {
	inv := inventory.New(in)
	res := resolve.New(in, inv)
	return &Adopter{in, inv, res, acquire.New(inv, res)}
}

// Order says how to take an install under care.
type Order struct {
	Dir     string
	Build   string      // the archive or folder that the install was made from
	Set     *locker.Set // or that build, where it stands in the locker
	Version string      // what is installed, where it can't be told
	Name    string      // of the server; "": the folder's
	Strip   int         // folders around everything that the source's builds have
	Source  string      // where builds come from: a path or URL of any kind
	Replace bool        // write a new profile in place of the one there, which is kept beside it
	DryRun  bool
	Ask     func(Question) string // asks a person; nil: nobody is there
}

// Question is one thing that nothing tells, and that matters.
type Question struct {
	Key string // server.keep, with yes or no; version; source
	Of  string // of server.keep: the pattern
	Why string // what it is asked for
}

// Adopted is what Adopt found and wrote.
type Adopted struct {
	Dir     string  `json:"dir"`
	Version string  `json:"version"`
	Source  string  `json:"source,omitempty"`  // its kind, where one was read
	Profile string  `json:"profile,omitempty"` // its text; "": the one that is there was left as it is
	Kept    string  `json:"kept,omitempty"`    // where the profile before is kept
	Guesses []Guess `json:"guesses"`
	// of a profile that is there: what would complete it
	Proposed []learn.Proposal `json:"proposed,omitempty"`
	Files    int              `json:"files"`
	Known    bool             `json:"build_known"`              // which files are the build's is known
	Of       int              `json:"of_build"`                 // files exactly as the build has them
	Script   string           `json:"script_written,omitempty"` // a launch script that had to be written
	ByHand   bool             `json:"runs_by_hand,omitempty"`   // a server runs that neither a service nor a supervisor keeps
	Notes    []string         `json:"notes,omitempty"`          // what the operator should know before it matters
	Doubts   []Doubt          `json:"doubts,omitempty"`         // files of which nothing tells whose they are
	Changed  []string         `json:"changed,omitempty"`
	Missing  []string         `json:"missing,omitempty"`
	Foreign  []string         `json:"foreign,omitempty"` // not the build's
}

// Guess is one thing that Adopt concluded, and from what.
type Guess struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	From  string `json:"from"`
}

// Install takes an existing install under care: it looks at it, writes a
// commented profile and records the inventory. It touches nothing else. A profile that is
// there stays as it is: what would complete it is proposed.
func Install(ctx context.Context, a Order, o install.Options) (*Adopted, error) {
	dir, err := folderOf(a, o)
	if err != nil {
		return nil, err
	}
	if a.Source, err = FromInstall(dir, a.Source); err != nil {
		return nil, err
	}
	old := profileThere(dir)
	ad := newAdopter(install.New(dir, &profile.Profile{Elsewhere: elsewhereIn(dir, old)}, o))
	list, err := tree.Walk(dir, nil)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, tell.Misuse(dir+" is empty", "name the folder that the server runs from")
	}
	if err := notAbove(dir, list); err != nil {
		return nil, err
	}
	stays := old != nil && !a.Replace // a profile belongs to the operator
	l := &lookout{a: a, k: ad, dir: dir, list: list, files: list, content: ad.inv.SumsKept()}
	switch {
	case a.Set != nil:
		l.set, l.known = a.Set, true
	case a.Build != "":
		if err := l.readBuild(ctx); err != nil {
			return nil, err
		}
	}
	l.look()
	if !stays {
		if err := l.isAServer(); err != nil {
			return nil, err
		}
	}
	if !stays && a.Ask != nil {
		l.ask()
	}
	l.lookAtSource(ctx)
	text := writing{l}.profileText()
	p, err := profile.Parse(filepath.Join(dir, profile.FileName), []byte(text))
	if err != nil {
		return nil, fmt.Errorf("the profile that adopt would write can't be read back: %w", err)
	}
	out := &Adopted{Dir: dir, Profile: text, Guesses: l.guesses}
	if l.source != nil {
		out.Source = l.source.Source.Kind()
	}
	if l.a.Source != "" {
		// The file gets the feed's address as it was given; what is shown does not
		// show what opens it (P9).
		out.Profile = strings.ReplaceAll(text, l.a.Source, fetch.Shown(l.a.Source))
	}
	if stays {
		if p, err = profile.Read(dir); err != nil {
			return nil, err
		}
		out.Proposed = l.proposals(p)
		text, out.Profile, out.Guesses = "", "", nil
	}
	ad.Profile = p
	return out, l.finish(ctx, out, text, old)
}

// folderOf is the whole path of the folder that is to be adopted, once it was seen that it may be.
func folderOf(a Order, o install.Options) (string, error) {
	dir, err := filepath.Abs(a.Dir)
	if err != nil {
		return "", err
	}
	if fi, err := os.Stat(dir); err != nil || !fi.IsDir() {
		return "", tell.Misuse(dir+" is not a folder", "name the folder that the server runs from")
	}
	if err := install.Trusted(dir); err != nil {
		return "", err
	}
	return dir, install.Apart(dir, o.Home)
}

// notAbove refuses a folder of servers that are under care already, and one that lies within
// such a server.
func notAbove(dir string, list []tree.Entry) error {
	var below []string
	for _, e := range list {
		if path.Base(e.Path) == profile.FileName && e.Path != profile.FileName && strings.Count(e.Path, "/") < 3 {
			below = append(below, path.Dir(e.Path))
		}
	}
	if len(below) > 0 {
		return tell.Misuse(fmt.Sprintf("%s holds %s under care already: %s", dir, words.Plural(len(below), "server"),
			words.Some(below, 4)), "name one server's own folder")
	}
	if up := filepath.Dir(dir); up != dir {
		if above, err := install.Find(up); err == nil {
			return tell.Misuse(fmt.Sprintf("%s lies within %s, which is under care already", dir, above),
				"freshkeel -d "+words.Shell(above)+" status; or adopt a folder outside of it")
		}
	}
	return nil
}

// finish records what is there, and writes the profile's text, "" for none; old is the one before.
func (l *lookout) finish(ctx context.Context, out *Adopted, text string, old []byte) (err error) {
	head, names := l.head(l.k.Profile)
	out.Version, out.Known = head.Version, head.Known
	files := func(add func(*inventory.Owned) error) error { return l.record(ctx, names, add) }
	switch {
	case l.a.DryRun:
		err = files(func(*inventory.Owned) error { return nil })
	case text == "" && !l.known && l.k.hasInventory():
		err = l.k.renameVersion(l.a.Version)
		out.Version, out.Known = l.k.recorded()
	default:
		if text != "" {
			err = l.writeOwnScript()
		}
		if err == nil {
			out.Kept, err = l.k.write(head, files, text, old)
		}
	}
	if err != nil {
		return err
	}
	if err := l.noteHeard(); err != nil {
		return err
	}
	if l.known && l.same == 0 && len(l.changed) > 0 {
		l.note("not one of the build's %s is as the build has it: %s may be of another version than what is installed",
			words.Plural(len(l.changed), "file"), fetch.NameOf(l.a.Build))
	}
	out.Notes, out.Doubts = l.notes, l.doubts
	out.ByHand = len(l.outside) > 0 && l.unit == nil && len(l.supervised()) == 0
	if l.written != "" {
		out.Script = OwnScript
	}
	out.Files, out.Of, out.Changed, out.Missing, out.Foreign = l.recorded, l.same, l.changed, l.missing, l.foreign
	return nil
}

// noteHeard notes a version that only the server's own words say, in a log or a script: it
// proves no rule that was made of the same words.
func (l *lookout) noteHeard() error {
	if l.a.DryRun || l.version == "" || !l.heard {
		return nil
	}
	seen := learn.ReadSeen(l.k.State(learn.FileName))
	seen.Heard = l.version
	return seen.Write(l.k.State(learn.FileName))
}

// profileThere is the profile that an install has already, nil where it has none.
func profileThere(dir string) []byte {
	old, err := tree.ReadOwn(filepath.Join(dir, profile.FileName))
	if err != nil {
		return nil
	}
	return old
}

// hasInventory tells whether it was recorded what is installed.
func (ad *Adopter) hasInventory() bool {
	_, err := os.Stat(ad.inv.File())
	return err == nil
}

// recorded is what is known of what is installed.
func (ad *Adopter) recorded() (version string, known bool) {
	head, err := ad.inv.Head()
	if err != nil {
		return "", false
	}
	return head.Version, head.Known
}

// renameVersion notes the version that the operator says is installed.
func (ad *Adopter) renameVersion(version string) error {
	if version == "" {
		return nil
	}
	unlock, err := ad.Lock("adopt")
	if err != nil {
		return err
	}
	defer unlock()
	return ad.inv.Rewrite(func(head *inventory.Inventory) { head.Version = version })
}

// write writes what was found: the inventory, and the profile's text, "" for none. A
// profile that stood there, old, is kept beside it; kept is where.
func (ad *Adopter) write(head *inventory.Inventory, files func(add func(*inventory.Owned) error) error, text string,
	old []byte) (kept string, err error) {
	unlock, err := ad.Lock("adopt")
	if err != nil {
		return "", err
	}
	defer unlock()
	if _, err := ad.Identity(); err != nil {
		return "", err
	}
	if err := ad.Bind(); err != nil {
		return "", err
	}
	if err := inventory.WriteBy(ad.inv.File(), head, files); err != nil || text == "" {
		return "", err
	}
	at := filepath.Join(ad.Dir, profile.FileName)
	if old != nil {
		if kept, err = keepBeside(at, old); err != nil {
			return "", err
		}
	}
	return kept, tree.WriteFile(at, []byte(text), 0o644)
}

// keepBeside writes what a file held beside it, under the next free name.
func keepBeside(path string, text []byte) (string, error) {
	for n := 1; ; n++ {
		at := fmt.Sprintf("%s.before-%d", path, n)
		if _, err := os.Lstat(at); err == nil {
			continue
		}
		return at, tree.WriteFile(at, text, 0o644)
	}
}

// FromInstall is a source that was named on the command line as the profile has it: a
// relative path counts from here there, and from the install in the profile.
func FromInstall(dir, source string) (string, error) {
	if source == "" || fetch.IsURL(source) || strings.Contains(source, "://") || filepath.IsAbs(source) {
		return source, nil
	}
	full, err := filepath.Abs(source)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(full); err != nil {
		if _, err := os.Stat(filepath.Join(dir, filepath.FromSlash(source))); err == nil {
			return source, nil // as it would stand in the profile
		}
		return "", tell.Misuse(fmt.Sprintf("the source %s is neither here, at %s, nor seen from the install", source,
			full), "give a path that counts from the folder that you are in, or a whole one")
	}
	rel, err := filepath.Rel(dir, full)
	if err != nil { // on another drive
		return full, nil
	}
	return filepath.ToSlash(rel), nil
}

// lookAtSource finds out what kind of source was named, and which channel the
// installed version belongs to. A source that can't be read now is no reason
// not to adopt.
func (l *lookout) lookAtSource(ctx context.Context) {
	if l.a.Source == "" {
		return
	}
	client := l.k.res.Client(profile.Source{})
	p, err := feed.Propose(ctx, l.a.Source, feed.Place{Dir: l.dir, Client: client})
	if err != nil {
		l.guess("source", "", "it could not be read: "+err.Error())
		return
	}
	p.Source.Strip = l.a.Strip
	l.source = p
	l.guess("source", p.Source.Kind(), p.From)
	l.k.Profile.Source = p.Source
	f, err := l.k.res.List(ctx, l.k.res.Base())
	if err != nil {
		l.guess("source.channel", "", "its builds could not be listed: "+err.Error())
		return
	}
	if b, ok := f.Find(l.version); ok && b.Channel != "" {
		l.channel = b.Channel
		l.guess("source.channel", b.Channel, "the source lists "+b.Version+" there")
	}
}

// readBuild brings the build that the install was made from into the locker,
// as any other build, and finds which installed file is which of its files.
func (l *lookout) readBuild(ctx context.Context) error {
	c, err := l.k.res.FromPlace(resolve.Want{From: l.a.Build, As: l.a.Version})
	if err != nil {
		return err
	}
	f, err := l.k.acq.Fetch(ctx, c)
	if err != nil {
		return err
	}
	l.set, l.known = f.Set, true
	if !sharesAny(l.set, l.list) {
		return tell.Advise(
			fmt.Errorf("not one file of %s is in %s, under its own name or another: it is not what this server "+
				"was made from", fetch.NameOf(l.a.Build), l.dir),
			"name the archive or folder of the build that is installed; or leave --build out",
		)
	}
	if l.a.Version == "" {
		l.version, l.versionFrom = f.Version, "the name of "+fetch.NameOf(l.a.Build)
	}
	return nil
}

// sharesAny tells whether anything of the build is in the install: a name, or a content.
func sharesAny(set *locker.Set, list tree.List) bool {
	sizes := map[int64]bool{}
	for i := range set.Entries {
		b := &set.Entries[i]
		if b.Kind != tree.File || b.Size == 0 {
			continue
		}
		if e, ok := list.Get(b.Path); ok && e.Kind == tree.File {
			return true
		}
		sizes[b.Size] = true
	}
	alike := 0
	for _, e := range list {
		if e.Kind == tree.File && (sizes[e.Size] || strings.HasSuffix(e.Path, ".jar")) {
			alike++
		}
	}
	return alike > 0
}

// head is the inventory's, and names are the rules by which the build's files get other
// names in the install.
func (l *lookout) head(p *profile.Profile) (head *inventory.Inventory, names map[string]string) {
	head = &inventory.Inventory{Version: l.version, At: time.Now().Round(0), Known: l.known}
	if !l.known {
		return head, nil
	}
	head.Build, head.Channel, names = l.set.ID, l.set.Channel, p.Place
	if len(names) == 0 && len(l.place) > 0 { // of a profile that stays: seen by content
		names = map[string]string{}
		for _, rule := range l.place {
			names[rule[0]] = rule[1]
			head.Names = append(head.Names, inventory.Move{From: rule[0], To: rule[1]})
		}
	}
	return head, names
}

// record tells what is there, each file once and in the order of their paths. With a build
// known its files are told, each as the build has it; without one, all that was found is.
func (l *lookout) record(ctx context.Context, names map[string]string, add func(*inventory.Owned) error) error {
	l.content.InOrder()
	each := func(o *inventory.Owned) error {
		l.recorded++
		if err := ctx.Err(); err != nil {
			return err
		}
		return add(o)
	}
	if l.known {
		return l.recordBuild(names, each)
	}
	own := l.k.Profile.Server
	for _, e := range l.list {
		if e.Kind == tree.Dir || own.Own(e.Path) || own.Skip.Match(e.Path) {
			continue
		}
		o := inventory.Owned{Entry: e, SeenAt: time.Now().UnixNano()}
		if e.Kind == tree.File {
			var err error
			if o.Sum, err = tree.SumFile(filepath.Join(l.dir, filepath.FromSlash(e.Path))); err != nil {
				return err
			}
		}
		if err := each(&o); err != nil {
			return err
		}
	}
	return nil
}

// recordBuild is record for a build that is known.
func (l *lookout) recordBuild(names map[string]string, add func(*inventory.Owned) error) error {
	files, bad, _ := plan.Placed(l.set, names)
	if len(bad) > 0 {
		return errors.New(bad[0].Why)
	}
	if tree.FoldsCase(filepath.Join(l.dir, l.anyFile())) {
		files = files.Respelled(tree.SpelledAs(l.list))
	}
	own := l.k.Profile.Server
	for _, it := range files {
		at, f := it.At, it.File
		if f.Kind == tree.Dir || own.Skip.Match(at) {
			continue
		}
		o := inventory.Owned{Entry: f.Entry, Sum: f.Sum}
		o.Path = at
		here, there := l.files.Get(at)
		same := false
		if there {
			seen := time.Now().UnixNano()
			var err error
			if same, err = l.content.SameAs(here, nil, f); err != nil {
				return err
			}
			if same {
				o.Entry, o.SeenAt = here, seen
			}
		}
		switch {
		case same:
			l.same++
		case there:
			l.changed = append(l.changed, at)
		default:
			l.missing = append(l.missing, at)
		}
		if err := add(&o); err != nil {
			return err
		}
	}
	for _, e := range l.list {
		if files.Find(e.Path) == nil && e.Kind != tree.Dir && e.Path != profile.FileName && !own.Own(e.Path) &&
			!own.Skip.Match(e.Path) {
			l.foreign = append(l.foreign, e.Path)
		}
	}
	return nil
}

// anyFile is a file of the install whose name has letters, by which its file system is
// asked; "" where there is none.
func (l *lookout) anyFile() string {
	for _, e := range l.list {
		if base := path.Base(e.Path); e.Kind == tree.File && strings.ToLower(base) != strings.ToUpper(base) {
			return filepath.FromSlash(e.Path)
		}
	}
	return ""
}
