package compare

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/acquire"
	"freshkeel/internal/backups"
	"freshkeel/internal/inventory"
	"freshkeel/internal/locker"
	"freshkeel/internal/plan"
	"freshkeel/internal/resolve"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/unpack"
	"freshkeel/internal/version"
	"freshkeel/internal/words"

	"golang.org/x/sync/errgroup"
)

// Here is the word for the install as it is.
const Here = "now"

// Prefixes that say what is meant where a word may mean several things.
const (
	aPath   = "path:"
	aBuild  = "build:"
	aBackup = "backup:"
)

// Namer finds what a person means by the name of a side.
type Namer struct {
	Inv   *inventory.Kept // nil: there is no install, and only paths can be meant
	Shelf *backups.Shelf
	Res   *resolve.Resolver
	Acq   *acquire.Acquirer
	Tmp   string // where archives are laid out meanwhile; "": the system's own folder
}

var runID = regexp.MustCompile(`^r\d{4,}$`)

// Side finds the side that a word means: «now», a folder or file, a backup by its number or
// label, the state before a refit by the refit's number, or a build by its version, which is
// fetched where it is not kept. The error is a tell.Usage where the word means nothing, or two
// things.
func (n Namer) Side(ctx context.Context, word string) (*Side, error) {
	kind, name := "", word
	for _, p := range []string{aPath, aBuild, aBackup} {
		if rest, ok := strings.CutPrefix(word, p); ok {
			kind, name = p, rest
		}
	}
	if kind == aPath || (kind == "" && strings.ContainsRune(filepath.ToSlash(name), '/')) {
		return n.path(ctx, name)
	}
	if n.Inv == nil {
		return n.path(ctx, name)
	}
	if kind == "" && word == Here {
		return n.here()
	}
	backup, berr := n.backup(name)
	kept, err := n.kept(name)
	if err != nil {
		return nil, err
	}
	_, perr := os.Lstat(name)
	var may []string
	for p, is := range map[string]bool{aPath: kind == "" && perr == nil, aBuild: kind != aBackup && kept != nil,
		aBackup: kind != aBuild && berr == nil} {
		if is {
			may = append(may, p)
		}
	}
	slices.Sort(may)
	switch {
	case len(may) > 1:
		return nil, tell.Misuse(
			fmt.Sprintf("%s may mean several things", word),
			"say which: "+may[0]+word+" or "+may[1]+word,
		)
	case len(may) == 1 && may[0] == aPath:
		return n.path(ctx, name)
	case len(may) == 1 && may[0] == aBackup:
		return n.stored(
			backup,
			fmt.Sprintf("backup %s of %s", backup.ID, backup.Taken.Local().Format(time.DateTime)),
			nil,
		)
	case len(may) == 1:
		return n.build(kept)
	case kind == aBackup:
		return nil, berr
	}
	f, err := n.Acq.Goal(ctx, resolve.Want{Version: name, Back: true})
	if err != nil {
		return nil, tell.Misuse(
			fmt.Sprintf("%s is no file or folder, no backup, no kept build, and the source does not "+
				"give it either: %v", word, err),
			"sides are: now, a path, a backup's number or label, a refit's number (the state before it), a version",
		)
	}
	return n.build(f.Set)
}

// Sides finds two sides: both at a time where both are folders, which takes half as long.
func (n Namer) Sides(ctx context.Context, first, second string) (a, b *Side, err error) {
	var g errgroup.Group
	folder := func(at string) bool {
		fi, err := os.Stat(at)
		return err == nil && fi.IsDir() && strings.ContainsRune(filepath.ToSlash(at), '/')
	}
	if !folder(first) || !folder(second) { // builds that have to be fetched go one after the other
		g.SetLimit(1)
	}
	g.Go(func() (err error) {
		a, err = n.Side(ctx, first)
		return err
	})
	g.Go(func() (err error) {
		b, err = n.Side(ctx, second)
		return err
	})
	if err := g.Wait(); err != nil {
		for _, s := range []*Side{a, b} {
			if s != nil {
				s.Close()
			}
		}
		return nil, nil, err
	}
	return a, b, nil
}

// backup is the backup that a name means: by number, by label, or as the one that a refit took.
func (n Namer) backup(name string) (*locker.Set, error) {
	if runID.MatchString(name) {
		if e, err := n.Inv.Book.Get(name); err == nil && e.Backup != "" {
			return n.Shelf.Of(e)
		}
	}
	return n.Shelf.ReadMeant(name)
}

// kept is the kept build that a name means, with its entries; nil for none.
func (n Namer) kept(name string) (*locker.Set, error) {
	found, err := n.Res.Kept(name)
	if found == nil || err != nil {
		return nil, err
	}
	l, err := n.Inv.Locker()
	if err != nil {
		return nil, err
	}
	return l.Read(locker.Builds, found.ID)
}

func (n Namer) stored(set *locker.Set, label string, name func(string) string) (*Side, error) {
	l, err := n.Inv.Locker()
	if err != nil {
		return nil, err
	}
	return Stored(l, set, label, name), nil
}

// build is a build under the names that the install uses for its files.
func (n Namer) build(set *locker.Set) (*Side, error) {
	head, err := n.Inv.Head()
	if err != nil {
		return nil, err
	}
	place := maps.Clone(n.Inv.Profile.Place)
	if place == nil {
		place = map[string]string{}
	}
	for _, m := range head.Names {
		if _, said := place[m.From]; !said {
			place[m.From] = m.To
		}
	}
	items, _, _ := plan.Placed(set, place)
	names := map[string]string{}
	for _, it := range items {
		names[it.File.Path] = it.At
	}
	return n.stored(set, "build "+version.OrUnknown(set.Version), func(at string) string {
		if to, ok := names[at]; ok {
			return to
		}
		return at
	})
}

// here is the install as it is. What times prove is not read.
func (n Namer) here() (*Side, error) {
	if err := n.Inv.Whole(); err != nil {
		return nil, err
	}
	s, err := n.Inv.Scan()
	if err != nil {
		return nil, err
	}
	defer s.Close()
	known := map[string]inventory.Owned{}
	for o := s.Next(); o != nil; o = s.Next() {
		if o.SeenAt != 0 && o.Kind == tree.File {
			known[o.Path] = *o
		}
	}
	if err := s.Err(); err != nil {
		return nil, err
	}
	return Folder(n.Inv.Dir, "the install now", n.Inv.Profile.Server.Skip, func(e tree.Entry) (tree.Sum, bool) {
		o, ok := known[e.Path]
		return o.Sum, ok && e.SameIdentity(o.Entry) && e.Settled(o.SeenAt)
	})
}

// path is a folder, an archive, or a file that is none.
func (n Namer) path(ctx context.Context, at string) (*Side, error) {
	fi, err := os.Stat(at)
	if errors.Is(err, os.ErrNotExist) {
		return nil, tell.Misuse(
			at+" is not there",
			"sides are: now, a path, a backup's number or label, a refit's number "+
				"(the state before it), a version",
		)
	}
	if err != nil {
		return nil, err
	}
	full, err := filepath.Abs(at)
	if err != nil {
		return nil, err
	}
	if fi.IsDir() {
		if n.Inv != nil && tree.Real(full) == tree.Real(n.Inv.Dir) {
			return n.here()
		}
		return Folder(full, at, nil, nil)
	}
	r, size, done, err := tree.OpenSized(full)
	if err != nil {
		return nil, err
	}
	kind, err := unpack.Kind(r, size)
	done()
	if err != nil {
		return nil, err
	}
	if kind == "file" && !isZip(full) {
		return Single(full, at)
	}
	return Archive(ctx, full, at, n.Tmp)
}

// List is what a comparison found as patterns for [source] take: the paths of the second side
// of the kinds that are asked for.
func (r *Result) List(kinds []string) (out []string, err error) {
	all := []string{string(Added), string(Changed), string(Moved), string(Same), "both", string(Gone)}
	for _, k := range kinds {
		if !slices.Contains(all, k) {
			do := strings.Join(all, ", ")
			return nil, tell.Misuse(
				words.Quote(k)+" is no kind of path to list",
				"these are: "+do+"; both is changed and same",
			)
		}
	}
	has := func(k Kind) bool { return slices.Contains(kinds, string(k)) }
	both := slices.Contains(kinds, "both")
	for _, d := range r.Differences {
		if has(d.Kind) || (both && d.Kind == Changed) {
			out = append(out, tree.Literally(d.Path))
		}
	}
	if both || has(Same) {
		for _, at := range r.Alike {
			out = append(out, tree.Literally(at))
		}
	}
	slices.Sort(out)
	return out, nil
}
