package change

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/edited"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// helps are the commands that may get the server up again, most hopeful first: what
// was edited since the server that ran had been started was never tried.
func (t *transaction) helps() (out []string) {
	set, err := t.k.Shelf.Of(t.E)
	if err != nil || t.E.RanSince.IsZero() {
		return nil
	}
	heads, err := t.k.Shelf.List()
	if err != nil {
		return nil
	}
	since, read := t.E.RanSince.UnixNano(), edited.Known(t.In)
	for _, f := range set.Entries {
		if f.Kind != tree.File || f.Mtime <= since || !t.In.Profile.ByHand(f.Path) || read(f.Entry, f.Sum) {
			continue
		}
		for _, b := range slices.Backward(heads) {
			if b.ID == set.ID || b.Damage != "" || b.Taken.After(set.Taken) {
				continue
			}
			old, err := t.k.Shelf.Read(b.ID)
			if err != nil {
				continue
			}
			if o := old.Find(f.Path); o != nil && o.Mtime <= since && !o.SameContent(&f) && !sameValues(t.k, o, &f) {
				out = append(
					out,
					fmt.Sprintf("freshkeel backup restore %s --only '%s' (it was edited after the last good "+
						"start), then: freshkeel start", b.ID, f.Path),
				)
				break
			}
		}
	}
	return out
}

// hopeful are the commands that may get the server up again: first what its console speaks of, then what was edited,
// then the world as it was in the backup before.
func hopeful(t *transaction, lines []string) []string {
	edits, world := t.helps(), t.k.WorldOffer(t.E.BackupTaken)
	if world == "" {
		return edits
	}
	if len(worldIn(t.In, lines)) > 0 {
		return append([]string{world}, edits...)
	}
	return append(edits, world)
}

// WorldOffer is the command that puts the world of the newest backup before a moment back, with what that costs; ""
// where there is none.
func (k *Changer) WorldOffer(before time.Time) string {
	heads, err := k.Shelf.List()
	if err != nil || len(k.In.Profile.Server.Keep) == 0 {
		return ""
	}
	for _, b := range slices.Backward(heads) {
		if b.Damage != "" || b.Partial() || !k.In.Mine(b) || !b.Taken.Before(before) {
			continue
		}
		set, err := k.Shelf.Read(b.ID)
		if err != nil {
			continue
		}
		only := onlyWorld(k.In, set)
		if only == "" {
			continue
		}
		return fmt.Sprintf("freshkeel backup restore %s%s (if the world is what it can't read: as it was %s ago, on %s; "+
			"what was played since is lost), then: freshkeel start", b.ID, only, words.Age(time.Since(b.Taken)),
			b.Taken.Local().Format("2006-01-02 15:04"))
	}
	return ""
}

// onlyWorld are the options of a restore that take the operator's own files of a backup: the patterns that match
// something in it, since one that matches nothing is refused.
func onlyWorld(in *install.Install, set *locker.Set) (options string) {
	for _, pat := range in.Profile.Server.Keep {
		of := tree.Patterns{pat}
		if slices.ContainsFunc(set.Entries, func(f locker.File) bool { return of.Match(f.Path) }) {
			options += " --only " + words.Shell(pat)
		}
	}
	return options
}

// sameValues tells whether two files of settings say the same, whatever the server wrote anew in them.
func sameValues(k *Changer, a, b *locker.File) bool {
	l, err := k.In.Locker()
	if err != nil || max(a.Size, b.Size) > 1<<20 {
		return false
	}
	var texts [2]bytes.Buffer
	for i, f := range []*locker.File{a, b} {
		if err := l.Copy(&texts[i], *f); err != nil {
			return false
		}
	}
	return edited.SaysTheSame(a.Path, texts[0].Bytes(), texts[1].Bytes())
}

// worldIn finds the operator's own files that console lines name: what a version
// says of a file that it can't read.
func worldIn(in *install.Install, lines []string) (out []string) {
	list, err := tree.Walk(in.Dir, in.Profile.Server.Skip)
	if err != nil {
		return nil
	}
	said := map[string]bool{}
	for _, l := range lines {
		for _, word := range words.PathLike.FindAllString(l, -1) {
			said[strings.Trim(word, ".")] = true
			said[path.Base(word)] = true
		}
	}
	for _, e := range list {
		if e.Kind == tree.File && in.Profile.Server.Keep.Match(e.Path) && (said[e.Path] || said[path.Base(e.Path)]) {
			out = append(out, e.Path)
		}
	}
	return out
}

// worldHint is the command that puts the world back that a rollback left, as far as its backup has
// it; "" for none.
func worldHint(t *transaction, p *BackPlan) string {
	set, err := t.k.Shelf.Of(p.To)
	if err != nil || t.E.World {
		return ""
	}
	hint := onlyWorld(t.In, set)
	if hint == "" {
		return ""
	}
	return "freshkeel backup restore " + p.Backup + hint
}
