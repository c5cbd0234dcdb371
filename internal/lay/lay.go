// Package lay makes a server from nothing: the build of a source laid out in a new folder, or
// a second instance beside one that is there. It deletes nothing; until all of it is there it
// stands beside the folder under another name.
package lay

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/acquire"
	"freshkeel/internal/adopt"
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

// Order says what is to be laid, and where.
type Order struct {
	Dir     string
	Source  string // where builds come from; with Other, "" is its own source
	Version string // "": the newest; with Other, the one that it has
	Name    string
	Ports   map[string]string // of the other's ports, as numbers: what each is to be here
	Other   *Other            // the install that it is to be like; nil: none
}

// Other is an install that a new one is to be like.
type Other struct {
	*install.Install
	Version string
	// Files lays files of a backup of it out in a folder: those that match, none given: all
	Files func(ctx context.Context, into string, only tree.Patterns) error
	World bool // its world comes too
	Whole bool // all of it comes, as it was then: no build is fetched
}

// Laid is what was laid.
type Laid struct {
	Dir     string   `json:"dir"`
	Version string   `json:"version"`
	Files   int      `json:"files"`
	Bytes   int64    `json:"bytes"`
	Script  string   `json:"script"`
	Changed []string `json:"ports_changed,omitempty"` // lines in which a port is another now
	Left    []string `json:"ports_left,omitempty"`    // lines in which the old number stands, and is not said to be a port
	Notes   []string `json:"notes,omitempty"`
}

// marker says that a folder was begun by lay, and is no install yet.
const marker = ".freshkeel-lays-this"

// Lay lays a server out in a new folder, and takes it under care.
func Lay(ctx context.Context, a Order, o install.Options) (*Laid, error) {
	dir, err := filepath.Abs(a.Dir)
	if err != nil {
		return nil, err
	}
	if err := free(dir, o); err != nil {
		return nil, err
	}
	if a.Source, err = adopt.FromInstall(dir, a.Source); err != nil {
		return nil, err
	}
	work, err := begin(dir)
	if err != nil {
		return nil, err
	}
	l := &laying{a: a, o: o, dir: dir, work: work, out: &Laid{Dir: dir}, swapped: map[string]bool{}}
	err = l.fill(ctx)
	if err == nil {
		err = l.portsMeant()
	}
	if err != nil {
		os.RemoveAll(work) // nothing but what was just laid
		return nil, err
	}
	if err := os.Remove(filepath.Join(work, marker)); err != nil {
		return nil, err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, fs.ErrNotExist) { // one that is empty
		return nil, err
	}
	if err := tree.Rename(work, dir); err != nil {
		return nil, err
	}
	if err := tree.SyncDir(filepath.Dir(dir)); err != nil {
		return nil, err
	}
	return l.out, l.adopt(ctx)
}

// free refuses a folder that holds anything.
func free(dir string, o install.Options) error {
	list, err := os.ReadDir(dir)
	switch {
	case err == nil && len(list) > 0:
		return tell.Misuse(
			dir+" is not empty",
			"name a folder that does not exist yet; a server that is there already is "+
				"taken under care by: freshkeel adopt "+words.Shell(dir),
		)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if fi, err := os.Stat(filepath.Dir(dir)); err != nil || !fi.IsDir() {
		return tell.Misuse(filepath.Dir(dir)+" is not a folder", "make it first")
	}
	if above, err := install.Find(filepath.Dir(dir)); err == nil {
		return tell.Misuse(
			fmt.Sprintf("%s lies within %s, which is under care already", dir, above),
			"name a folder outside of it",
		)
	}
	return install.Apart(dir, o.Home)
}

// begin makes the folder beside dir in which it is laid. One that an earlier call left, killed
// in the middle, is begun anew: nothing in it is anybody's.
func begin(dir string) (string, error) {
	work := dir + ".laying"
	if _, err := os.Lstat(work); err == nil {
		if _, err := os.Lstat(filepath.Join(work, marker)); err != nil {
			return "", fmt.Errorf("%s is there already, and is not of an earlier lay: move it away", work)
		}
		if err := os.RemoveAll(work); err != nil {
			return "", err
		}
	}
	if err := os.Mkdir(work, 0o755); err != nil {
		return "", err
	}
	if err := install.Settled(work); err != nil {
		return "", err
	}
	return work, os.WriteFile(filepath.Join(work, marker), nil, 0o600)
}

// laying is one lay under way.
type laying struct {
	a         Order
	o         install.Options
	dir, work string
	out       *Laid

	text profile.Text // the profile, where it is another's
	set  *locker.Set
	src  *feed.Proposal

	swapped map[string]bool // ports that some line named, and that are others now
}

// fill lays all of it out in the folder beside.
func (l *laying) fill(ctx context.Context) error {
	p := &profile.Profile{}
	if other := l.a.Other; other != nil {
		var err error
		if p, err = l.likeOther(other); err != nil {
			return err
		}
		if other.Whole {
			if err := other.Files(ctx, l.work+".files", nil); err != nil {
				return err
			}
			l.out.Version = other.Version
			return l.takeIn(l.work + ".files")
		}
	}
	if err := l.layBuild(ctx, p); err != nil {
		return err
	}
	if l.a.Other == nil {
		return nil
	}
	return l.ownFiles(ctx, p)
}

// likeOther is the profile of the other install, under its new name, ports and source.
func (l *laying) likeOther(other *Other) (*profile.Profile, error) {
	raw, err := tree.ReadOwn(other.Path(profile.FileName))
	if err != nil {
		return nil, err
	}
	name := l.a.Name
	if name == "" {
		name = filepath.Base(l.dir)
	}
	l.text = raw
	if l.text, err = l.text.With("server.name", words.Quote(name), ""); err != nil {
		return nil, err
	}
	if err := errors.Join(l.apart(other), l.otherNames(other)); err != nil {
		return nil, err
	}
	for _, key := range []string{"ready.port", "ready.ports"} {
		value, _, there := l.text.Value(key)
		if !there {
			continue
		}
		for from, to := range l.a.Ports {
			value = swapNumber(value, from, to)
		}
		if l.text, err = l.text.With(key, value, ""); err != nil {
			return nil, err
		}
	}
	p, err := profile.Parse(filepath.Join(l.dir, profile.FileName), l.text)
	if err != nil {
		return nil, err
	}
	// A path of the other's source counts from there.
	if at := p.Source.Feed; l.a.Source == "" && at != "" && !fetch.IsURL(at) && !filepath.IsAbs(at) {
		rel, err := filepath.Rel(l.dir, filepath.Join(other.Dir, filepath.FromSlash(at)))
		if err != nil {
			return nil, err
		}
		p.Source.Feed = filepath.ToSlash(rel)
		if l.text, err = l.text.With("source.feed", words.Quote(p.Source.Feed), ""); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// apart leaves out of the profile the folders that belong to the other server and stand
// elsewhere: two servers must not exchange files in one folder. What the build has there is
// laid out here under the same name.
func (l *laying) apart(other *Other) (err error) {
	e := other.Profile.Elsewhere
	if len(e) == 0 {
		return nil
	}
	for _, name := range e.Names() {
		if l.text, err = l.text.Without("elsewhere." + name); err != nil {
			return err
		}
	}
	for from, to := range other.Profile.Place { // which may be written there with its whole path
		if l.text, err = l.text.With("place."+from, words.Quote(to), profile.NoComment); err != nil {
			return err
		}
	}
	l.out.Notes = append(l.out.Notes, fmt.Sprintf("%s has folders that stand elsewhere (%s); here they stand in the "+
		"install, under the same names: a script that names them with their whole path has to be edited", other.Dir, e))
	return nil
}

// otherNames puts names into the profile that the other's files have without a rule of its
// [place]: they were seen by content.
func (l *laying) otherNames(other *Other) error {
	head, err := inventory.New(other.Install).Head()
	if err != nil {
		return err
	}
	for _, m := range head.Names {
		if _, there := other.Profile.Place[m.From]; there {
			continue
		}
		if l.text, err = l.text.With("place."+m.From, words.Quote(m.To), "# learned from: the content of "+m.To+" in "+other.Dir); err != nil {
			return err
		}
	}
	return nil
}

// proven brings what good starts of the other have proven: the same rules hold here.
func (l *laying) proven() error {
	if l.a.Other == nil {
		return nil
	}
	seen := learn.ReadSeen(l.a.Other.State(learn.FileName))
	seen.Edits, seen.Starts, seen.Heard = nil, 0, ""
	for i := range seen.Proven {
		for from, to := range l.a.Ports {
			seen.Proven[i] = swapNumber(seen.Proven[i], from, to)
		}
	}
	for i, p := range seen.Ports {
		if to, err := strconv.Atoi(l.a.Ports[fmt.Sprint(p.Number)]); err == nil {
			seen.Ports[i].Number = to
		} else {
			l.out.Notes = append(l.out.Notes, fmt.Sprintf("%s wants %s too: only one of the two can run at a time; lay it with "+
				"--port %d=NUMBER for another one", l.a.Other.Dir, p, p.Number))
		}
	}
	return seen.Write(filepath.Join(l.dir, tree.StateFolder, learn.FileName))
}

// layBuild fetches the build and lays its files out, each under the name that the install uses.
func (l *laying) layBuild(ctx context.Context, p *profile.Profile) error {
	in := install.New(l.work, p, l.o)
	inv := inventory.New(in)
	res := resolve.New(in, inv)
	if l.a.Source != "" {
		src, err := feed.Propose(ctx, l.a.Source, feed.Place{Dir: l.dir, Client: res.Client(profile.Source{})})
		if err != nil {
			return err
		}
		l.src, p.Source = src, src.Source
	}
	if l.src != nil && l.a.Version == "" && l.a.Other == nil {
		l.chooseChannel(ctx, res, p)
	}
	want := resolve.Want{Version: l.a.Version}
	if want.Version == "" && l.a.Other != nil {
		want.Version = l.a.Other.Version
	}
	acq := acquire.New(inv, res)
	f, err := acq.Goal(ctx, want)
	if err != nil {
		return err
	}
	if top := wrapper(f.Set); top != "" && p.Source.Strip == 0 {
		p.Source.Strip = 1 // all of it lies in one folder, which no server runs from
		if l.src != nil {
			l.src.Source.Strip = 1
		}
		if f, err = acq.Goal(ctx, want); err != nil {
			return err
		}
	}
	l.set, l.out.Version = f.Set, f.Version
	l.nameArtifact(p)
	items, bad, _ := plan.Placed(f.Set, p.Place)
	if len(bad) > 0 {
		return errors.New(bad[0].Why)
	}
	store, err := in.Locker()
	if err != nil {
		return err
	}
	var files []locker.Laying
	for _, it := range items {
		if it.File.Kind == tree.Dir || profile.Reserved(it.At) {
			continue
		}
		if !tree.Local(it.At) {
			return fmt.Errorf("%q is not a path in the install", it.At)
		}
		files = append(files, locker.Laying{Full: filepath.Join(l.work, filepath.FromSlash(it.At)), File: it.File})
		l.out.Files, l.out.Bytes = l.out.Files+1, l.out.Bytes+it.File.Size
	}
	_, err = in.Step("lay", func() (string, error) {
		if err := store.LayAll(ctx, files, 0o755, []string{l.work}, nil); err != nil {
			return "", err
		}
		return fmt.Sprintf("%s, %s", words.Plural(l.out.Files, "file"), words.Bytes(l.out.Bytes)), nil
	})
	return err
}

// chooseChannel takes the channel of most of a source's builds: the newest of all may be a trial.
func (l *laying) chooseChannel(ctx context.Context, res *resolve.Resolver, p *profile.Profile) {
	f, err := res.List(ctx, res.Base())
	if err != nil {
		return // Goal says it better
	}
	count := map[string]int{}
	for _, b := range f.Builds {
		if count[b.Channel]++; count[b.Channel] > count[p.Source.Channel] || p.Source.Channel == "" {
			p.Source.Channel = b.Channel
		}
	}
}

// nameArtifact gives the one jar of a build that no script runs a name that the next build's gets
// too: its own has a version in it.
func (l *laying) nameArtifact(p *profile.Profile) {
	jar := ""
	for i := range l.set.Entries {
		e := &l.set.Entries[i]
		if e.Kind != tree.File || strings.Contains(e.Path, "/") {
			continue
		}
		switch ext := strings.ToLower(path.Ext(e.Path)); {
		case ext == ".sh" || ext == ".bat" || ext == ".jar" && jar != "":
			return
		case ext == ".jar":
			jar = e.Path
		}
	}
	pattern := resolve.PatternFor(jar)
	if jar == "" || pattern == jar || len(p.Place) > 0 {
		return
	}
	name := regexp.MustCompile(`[-_. ]*\*`).ReplaceAllString(pattern, "")
	p.Place = map[string]string{pattern: name}
}

// wrapper is the one folder in which all of a build lies; "" where there is none.
func wrapper(set *locker.Set) (top string) {
	for i := range set.Entries {
		first, _, below := strings.Cut(set.Entries[i].Path, "/")
		if !below && set.Entries[i].Kind != tree.Dir || top != "" && first != top {
			return ""
		}
		top = first
	}
	return top
}

// ownFiles brings the other's settings, its launch script, and its world where that is wanted.
func (l *laying) ownFiles(ctx context.Context, p *profile.Profile) error {
	only := slices.Clone(p.Server.Settings)
	if p.Launch.Script != "" && !l.has(p.Launch.Script) {
		only = append(only, p.Launch.Script)
	}
	if l.a.Other.World {
		only = append(only, p.Server.Keep...)
	}
	if len(only) == 0 {
		return nil
	}
	at := l.work + ".files"
	if err := l.a.Other.Files(ctx, at, only); err != nil {
		return err
	}
	return l.takeIn(at)
}

func (l *laying) has(at string) bool {
	_, err := os.Lstat(filepath.Join(l.work, filepath.FromSlash(at)))
	return err == nil
}

// takeIn moves what was laid out beside into the new folder, in place of what the build has
// there, and changes the ports in it.
func (l *laying) takeIn(from string) error {
	defer os.RemoveAll(from)
	err := filepath.WalkDir(from, func(at string, d fs.DirEntry, err error) error {
		if err != nil || at == from {
			return err
		}
		rel := tree.Rel(from, at)
		to := filepath.Join(l.work, filepath.FromSlash(rel))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		if rel == profile.FileName { // the one that is written says more
			return nil
		}
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := tree.Rename(at, to); err != nil {
			return err
		}
		if l.set == nil {
			l.out.Files++
		}
		return l.changePorts(rel, to)
	})
	if err != nil {
		return err
	}
	return nil
}

// changePorts gives a port of the other another number, in those lines of a settings file or a
// script that name it as a port.
func (l *laying) changePorts(rel, full string) error {
	script := slices.Contains([]string{"", ".sh", ".bat", ".cmd"}, strings.ToLower(path.Ext(rel)))
	if len(l.a.Ports) == 0 || !script && !profile.SettingsByName(rel) {
		return nil
	}
	fi, err := os.Lstat(full)
	if err != nil || !fi.Mode().IsRegular() || fi.Size() > 1<<20 {
		return err
	}
	b, err := os.ReadFile(full)
	if err != nil {
		return err
	}
	rows := strings.SplitAfter(string(b), "\n")
	changed := false
	for i, row := range rows {
		for _, n := range learn.PortsIn(rel, row, false) {
			from := fmt.Sprint(n.Number)
			to := l.a.Ports[from]
			if now := swapNumber(rows[i], from, to); to != "" && now != rows[i] {
				rows[i], changed, l.swapped[from] = now, true, true
				l.out.Changed = append(l.out.Changed, fmt.Sprintf("%s:%d: %s", rel, i+1, strings.TrimSpace(now)))
			}
		}
		for from := range l.a.Ports {
			if swapNumber(rows[i], from, "-") != rows[i] {
				l.out.Left = append(l.out.Left, fmt.Sprintf("%s:%d: %s", rel, i+1, strings.TrimSpace(rows[i])))
			}
		}
	}
	if !changed {
		return nil
	}
	return tree.WriteFile(full, []byte(strings.Join(rows, "")), fi.Mode().Perm())
}

func swapNumber(text, from, to string) string {
	if to == "" {
		return text
	}
	return regexp.MustCompile(`\b`+regexp.QuoteMeta(from)+`\b`).ReplaceAllString(text, to)
}

// portsMeant refuses a port that no line names: the second server would hold the first one's.
func (l *laying) portsMeant() error {
	for _, from := range slices.Sorted(maps.Keys(l.a.Ports)) {
		if l.swapped[from] {
			continue
		}
		do := "name the number that stands in its settings"
		if len(l.out.Left) > 0 {
			do = "it stands in " + words.Some(l.out.Left, 4) + ", where nothing says that it is a port: lay the " +
				"server without --port, and change it there by hand"
		}
		return tell.Misuse(fmt.Sprintf("no line of the settings or scripts says that %s is a port", from), do)
	}
	return nil
}

// adopt takes the new folder under care.
func (l *laying) adopt(ctx context.Context) error {
	if l.text != nil {
		if err := tree.WriteFile(filepath.Join(l.dir, profile.FileName), l.text, 0o644); err != nil {
			return err
		}
	}
	got, err := adopt.Install(
		ctx,
		adopt.Order{Dir: l.dir, Set: l.set, Version: l.out.Version, Name: l.a.Name, Source: l.a.Source,
			Strip: l.stripped()},
		l.o,
	)
	if err != nil {
		return err
	}
	l.out.Notes = append(l.out.Notes, got.Notes...)
	if err := l.proven(); err != nil {
		return err
	}
	p, err := profile.Read(l.dir)
	if err != nil {
		return err
	}
	l.out.Script = p.Launch.Script
	return nil
}

func (l *laying) stripped() int {
	if l.src == nil {
		return 0
	}
	return l.src.Source.Strip
}
