package main

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshkeel"

	"github.com/urfave/cli/v3"
)

// awayFlags are those of the commands that read backups, wherever these are.
func awayFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.BoolFlag{Name: "copy", Usage: "look in the second place, [copy] to of the profile, instead of the locker"},
		&cli.StringFlag{
			Name:  "from",
			Usage: "look in the second place at `DIR|ADDRESS`; needs no install, as on a fresh machine",
		},
		&cli.StringFlag{Name: "identity", Usage: "`FILE` with the age identity that an encrypted copy is read with"},
		&cli.StringFlag{Name: "server",
			Usage: "`NAME` of the server whose backups are meant, where a copy has several"},
	}, more...)
}

// restoreLine is the command that restores a backup from where it was looked at.
func restoreLine(c *cli.Command, id string) string {
	line := "freshkeel backup restore " + id
	if from := c.String("from"); from != "" {
		line += " --from " + freshkeel.Shown(from)
	} else if c.Bool("copy") {
		line += " --copy"
	}
	if file := c.String("identity"); file != "" {
		line += " --identity " + file
	}
	if name := c.String("server"); name != "" {
		line += " --server " + name
	}
	if c.String("from") != "" {
		return line + " --to DIR"
	}
	return line + " [--only PATTERN] [--to DIR]"
}

// backupCommands are the commands of «backup».
type backupCommands struct{ *program }

// backupsOf opens what holds the backups that are meant: the install's locker, or a
// copy in another place.
func (p backupCommands) backupsOf(ctx context.Context, c *cli.Command) (shelf *freshkeel.Shelf, done func(),
	err error) {
	from := c.String("from")
	if !c.Bool("copy") && from == "" {
		k, err := p.look(ctx)
		if err != nil {
			return nil, nil, err
		}
		return k.Shelf(), func() {}, nil
	}
	here, err := p.open()
	if err != nil && (from == "" || p.dir != "") {
		return nil, nil, err
	}
	return p.away(ctx, c, here)
}

func (p backupCommands) away(ctx context.Context, c *cli.Command, here *freshkeel.Keel) (*freshkeel.Shelf, func(),
	error) {
	o, err := p.options()
	if err != nil {
		return nil, nil, err
	}
	return freshkeel.Away(ctx, o, here, freshkeel.AwayWant{From: c.String("from"), Identity: c.String("identity"),
		Server: c.String("server")})
}

// restoreInto opens the install that a backup is restored into. One of a copy is brought
// here first; a dry run of that only says so, and gives no Keel.
func (p backupCommands) restoreInto(ctx context.Context, c *cli.Command, r *freshkeel.Restore) (*freshkeel.Keel,
	error) {
	here, err := p.change(ctx, c)
	if !c.Bool("copy") && c.String("from") == "" {
		return here, err
	}
	if err != nil {
		if c.String("from") != "" && p.dir == "" {
			return nil, &freshkeel.Usage{What: "there is no install here to restore into",
				Do: "add --to DIR: the backup is laid out there"}
		}
		return nil, err
	}
	away, done, err := p.away(ctx, c, here)
	if err != nil {
		return nil, err
	}
	defer done()
	if c.Bool("dry-run") {
		return nil, p.result(r, func() {
			p.view.outcome(calm, "WOULD RESTORE", r.Backup+" into the install, once it is brought here from its copy")
		})
	}
	r.Backup, err = here.Shelf().Bring(ctx, away, r.Backup, r.Owners)
	return here, err
}

// restoreTo lays a backup out in another folder, from where it stands.
func (p backupCommands) restoreTo(ctx context.Context, c *cli.Command, r freshkeel.Restore) error {
	var here *freshkeel.Keel
	shelf, done, err := (*freshkeel.Shelf)(nil), func() {}, error(nil)
	if c.String("from") != "" && p.dir == "" && !c.Bool("dry-run") { // of a copy, for which no install is needed
		if err := p.intoTarget(r.To, false); err != nil {
			return err
		}
	}
	if c.Bool("copy") || c.String("from") != "" {
		shelf, done, err = p.backupsOf(ctx, c)
	} else if here, err = p.change(ctx, c); err == nil {
		shelf = here.Shelf()
	}
	if err != nil {
		return err
	}
	defer done()
	if c.Bool("dry-run") {
		return p.result(r, func() { p.view.outcome(calm, "WOULD RESTORE", r.Backup+" into "+r.To) })
	}
	if err := p.intoTarget(r.To, true); err != nil {
		return err
	}
	if err := shelf.LayOut(ctx, r); err != nil {
		return err
	}
	show := func() {
		p.view.outcome(good, "RESTORED", "from backup "+r.Backup)
		p.view.fact("into", r.To)
	}
	if here == nil {
		return p.result(entryJSON{"result", nil}, show)
	}
	return p.resultThenPush(ctx, here, entryJSON{"result", nil}, show)
}

// backupBring takes backups of a copy, or of another user's locker, into this one.
func (p backupCommands) bring(ctx context.Context, c *cli.Command) error {
	if c.String("from") == "" && !c.Bool("copy") {
		return &freshkeel.Usage{What: "from where?", Do: "freshkeel backup bring --from DIR|ADDRESS, or --copy"}
	}
	here, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	away, done, err := p.away(ctx, c, here)
	if err != nil {
		return err
	}
	defer done()
	if c.Bool("dry-run") {
		list, err := away.List()
		if err != nil {
			return err
		}
		return p.result(map[string]any{"backups": nonNil(list)}, func() {
			p.view.outcome(calm, "WOULD BRING", count(len(list), "backup")+", less those that are here already")
		})
	}
	brought, err := here.BringAll(ctx, away, c.Args().First(), freshkeel.Owners(c.Bool("owners")))
	if err != nil {
		return err
	}
	return p.result(map[string]any{"brought": brought}, func() {
		if len(brought) == 0 {
			p.view.outcome(good, "NOTHING TO DO", "every backup that is there is here already")
			return
		}
		p.view.outcome(good, "BROUGHT", count(len(brought), "backup"))
		for _, id := range slices.Sorted(maps.Keys(brought)) {
			if brought[id] != id {
				p.view.fact(id, "is "+brought[id]+" here: the number was another backup's")
			}
		}
		p.view.fact("next", "freshkeel backup list")
	})
}

// listed is a backup, and whether the copy has it.
type listed struct {
	*freshkeel.Backup
	Copied bool `json:"copied"`
}

func (p backupCommands) push(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	p.seeThrough()
	done, err := k.Shelf().Push(ctx, freshkeel.PushHow{Claim: c.Bool("claim"), DryRun: c.Bool("dry-run")})
	if err != nil {
		return err
	}
	if err := p.result(done, func() { p.view.pushed(done, c.Bool("dry-run")) }); err != nil || len(done.Failed) == 0 {
		return err
	}
	return cli.Exit("", exitFailed)
}

// resultThenPush is for commands that made a backup: their own outcome is told at
// once, and then the copy is brought up to date. In JSON the result comes last.
func (p *program) resultThenPush(ctx context.Context, k *freshkeel.Keel, v any, show func()) error {
	if p.json {
		k.Shelf().PushAfter(ctx)
		return p.result(v, show)
	}
	if err := p.result(v, show); err != nil {
		return err
	}
	done := k.Shelf().PushAfter(ctx)
	p.view.end()
	if done != nil && len(done.Sent) > 0 {
		p.view.fact("copied", fmt.Sprintf("%s, %s, to %s", count(len(done.Sent), "backup"), freshkeel.Bytes(done.Bytes),
			done.To))
	}
	return nil
}

func (v *view) pushed(d *freshkeel.Pushed, dry bool) {
	word, did := "COPIED", "sent"
	if dry {
		word, did = "WOULD COPY", "to send"
	}
	switch {
	case len(d.Sent) > 0:
		v.outcome(good, word, fmt.Sprintf("%s, %s %s", count(len(d.Sent), "backup"), freshkeel.Bytes(d.Bytes), did))
	case len(d.Failed) > 0:
		v.outcome(bad, "NOT COPIED", count(len(d.Failed), "backup"))
	default:
		v.outcome(good, "NOTHING TO COPY", "all backups are there")
	}
	v.fact("to", d.To)
	for _, b := range d.Sent {
		v.fact("", fmt.Sprintf("%s  %s  %s", b.ID, when(b.Taken), b.Label))
	}
	for _, id := range slices.Sorted(maps.Keys(d.Failed)) {
		v.fact("not sent", id+": "+d.Failed[id])
	}
	if len(d.Drop) > 0 {
		v.fact("dropped", fmt.Sprintf("%s there, as [copy] says; %s given back", strings.Join(d.Drop, ", "),
			freshkeel.Bytes(d.Freed)))
	}
	if !dry {
		v.fact("holds", count(d.Held, "backup")+" of this install")
	}
}

func (p backupCommands) show(ctx context.Context, c *cli.Command) error {
	shelf, done, err := p.backupsOf(ctx, c)
	if err != nil {
		return err
	}
	defer done()
	if c.NArg() != 1 {
		return &freshkeel.Usage{What: "which backup?", Do: "freshkeel backup list"}
	}
	b, err := shelf.Show(c.Args().First(), c.Bool("all"))
	if err != nil {
		return err
	}
	doc := map[string]any{"backup": b}
	if c.Bool("all") {
		doc["files"] = b.Entries
	}
	return p.result(doc, func() { p.view.backup(b, c.Bool("all"), restoreLine(c, b.ID)) })
}

func (p backupCommands) check(ctx context.Context, c *cli.Command) error {
	shelf, done, err := p.backupsOf(ctx, c)
	if err != nil {
		return err
	}
	defer done()
	parts := c.Int("sample")
	checked, err := shelf.Check(ctx, c.Args().First(), parts)
	if err != nil {
		return err
	}
	fine := len(checked.Damaged)+len(checked.Broken) == 0
	if !fine && c.Bool("mend") {
		return p.mend(ctx, c, checked)
	}
	if err := p.result(checked, func() { p.view.checked(checked, parts, shelf.Profile.Copy.To != "") }); err != nil ||
		fine {
		return err
	}
	return cli.Exit("", exitFailed)
}

// mend puts right what a check found: here from the copy, or in the copy from here.
// Then it reads back once more, and once more again: what stands there twice may be
// damaged twice.
func (p backupCommands) mend(ctx context.Context, c *cli.Command, found *freshkeel.Checked) error {
	p.seeThrough()
	here, err := p.open()
	if err != nil {
		return err
	}
	if c.String("from") != "" {
		return &freshkeel.Usage{What: "what to mend, and from what?",
			Do: "freshkeel backup check --mend from the copy, or freshkeel backup check --copy --mend in the copy"}
	}
	round := func() (fine bool, err error) {
		away, done, err := p.away(ctx, c, here)
		if err != nil {
			return false, err
		}
		defer done()
		if c.Bool("copy") {
			if _, err = away.Check(ctx, "", 0); err == nil { // so that it knows what not to trust
				_, err = here.Shelf().MendCopy(ctx, away, c.String("identity"))
			}
		} else {
			_, err = here.Shelf().MendFrom(ctx, away, found)
		}
		if err != nil {
			return false, err
		}
		again, done, err := p.backupsOf(ctx, c)
		if err != nil {
			return false, err
		}
		defer done()
		found, err = again.Check(ctx, c.Args().First(), 0)
		return err == nil && len(found.Damaged)+len(found.Broken) == 0, err
	}
	fine := false
	for try := 0; try < 3 && !fine && err == nil; try++ {
		fine, err = round()
	}
	if err != nil {
		return err
	}
	if err := p.result(found, func() { p.view.checked(found, 0, false) }); err != nil || fine {
		return err
	}
	return cli.Exit("", exitFailed)
}

func (p backupCommands) thin(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	n := freshkeel.Keeping{Last: c.Int("last"), Days: c.Int("days"), Weeks: c.Int("weeks"), Months: c.Int("months")}
	plan, err := k.Shelf().PlanThin(n)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		return p.result(plan, func() { p.view.thinning(plan, "WOULD DROP") })
	}
	p.view.thinningFirst(plan)
	if len(plan.Drop) > 0 && p.asks() && !p.sure([]string{count(len(plan.Drop), "backup")}) {
		return errors.New("nothing was dropped")
	}
	done, err := k.Thin(ctx, n)
	if err != nil {
		return err
	}
	return p.result(done, func() { p.view.thinning(done, "DROPPED") })
}

func (p backupCommands) export(ctx context.Context, c *cli.Command) error {
	shelf, done, err := p.backupsOf(ctx, c)
	if err != nil {
		return err
	}
	defer done()
	if c.NArg() != 2 {
		return &freshkeel.Usage{What: "which backup, into which file?",
			Do: "freshkeel backup export BACKUP FILE.tar.zst"}
	}
	to := c.Args().Get(1)
	if err := p.intoTarget(to, true); err != nil {
		return err
	}
	files, told, err := shelf.Export(ctx, c.Args().First(), to)
	if err != nil {
		return err
	}
	return p.result(map[string]any{"file": to, "files": files, "told": nonNil(told)}, func() {
		p.view.outcome(good, "EXPORTED", fmt.Sprintf("%s, %s", to, count(files, "file")))
		for _, t := range told {
			p.view.fact("mind", t)
		}
	})
}

func (p backupCommands) takeIn(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	if c.NArg() != 1 {
		return &freshkeel.Usage{What: "which folder or archive?", Do: "freshkeel backup import PATH"}
	}
	set, err := k.ImportBackup(ctx, c.Args().First(), c.String("label"))
	if err != nil {
		return err
	}
	return p.resultThenPush(ctx, k, map[string]any{"backup": set}, func() {
		p.view.outcome(good, "TAKEN IN",
			fmt.Sprintf("%s: %s, %s, %s of it new", set.ID, count(set.Files, "file"), freshkeel.Bytes(set.Bytes),
				freshkeel.Bytes(set.New)))
		p.view.fact("next", "freshkeel backup show "+set.ID)
	})
}

// partOf tells what a backup left out.
func (v *view) partOf(b *freshkeel.Backup) {
	if len(b.Only) > 0 {
		v.fact("only", strings.Join(b.Only, ", "))
	}
	if out := slices.Concat(b.Left, b.Skipped); len(out) > 0 {
		v.fact("left out", strings.Join(out, ", "))
	}
}

func (v *view) backup(b *freshkeel.BackupView, all bool, next string) {
	v.outcome(good, b.ID, fmt.Sprintf("%s, %s, %s of it new", count(b.Files, "file"), freshkeel.Bytes(b.Bytes),
		freshkeel.Bytes(b.New)))
	v.fact("taken", when(b.Taken)+" of build "+orUnknown(b.Version))
	if b.Label != "" {
		v.fact("label", b.Label)
	}
	if b.Source != "" {
		v.fact("from", b.Source)
	}
	v.partOf(b.Backup)
	if b.Needed != "" {
		v.fact("needed", "by a rollback of "+b.Needed)
	}
	if len(b.Moving) > 0 {
		v.fact("mind", "these changed while they were read, and may be half old, half new: "+
			strings.Join(b.Moving, ", "))
	}
	if b.Before != "" {
		v.fact("since", fmt.Sprintf("%s: %d changed, %d added, %d removed", b.Before, len(b.Changed), len(b.Added),
			len(b.Removed)))
		for _, list := range []struct {
			what  string
			paths []string
		}{{"changed", b.Changed}, {"added", b.Added}, {"removed", b.Removed}} {
			v.some(list.what, list.paths, all)
		}
	}
	if all {
		fmt.Fprintln(v.p.out)
		for _, f := range b.Entries {
			switch f.Kind.String() {
			case "dir":
				v.fact("", fmt.Sprintf("%10s  %s/", "", f.Path))
			case "link":
				v.fact("", fmt.Sprintf("%10s  %s → %s", "", f.Path, f.Target))
			default:
				v.fact("", fmt.Sprintf("%10s  %s", freshkeel.Bytes(f.Size), f.Path))
			}
		}
	}
	v.fact("next", next)
}

// most is how many paths of a kind are listed unless all are asked for.
const most = 8

func (v *view) some(what string, paths []string, all bool) {
	for i, at := range paths {
		if i == most && !all {
			v.fact("", fmt.Sprintf("and %d more %s (--all)", len(paths)-most, what))
			break
		}
		v.fact("", fmt.Sprintf("%-8s %s", what, at))
	}
}

// checked tells what a check found; hasCopy: it may be mended from there.
func (v *view) checked(c *freshkeel.Checked, parts int, hasCopy bool) {
	share := ""
	if parts > 1 {
		share = fmt.Sprintf(" (one part of %d; another tomorrow)", parts)
	}
	read := fmt.Sprintf("%s of %s read back, %s%s", count(c.Pieces, "piece"), count(c.Sets, "backup"),
		freshkeel.Bytes(c.Bytes), share)
	switch {
	case c.Sets == 0 && len(c.Broken) == 0:
		v.outcome(minded, "NONE", "there is no backup to read back yet")
		v.fact("next", "freshkeel backup take")
		return
	case len(c.Damaged)+len(c.Broken) == 0:
		v.outcome(good, "WHOLE", read)
		return
	}
	v.outcome(bad, "DAMAGED", read)
	for _, b := range c.Broken {
		v.fact("broken", b)
	}
	byFile := map[string][]string{}
	why := map[string]string{}
	for _, h := range c.Damaged {
		byFile[h.Path] = append(byFile[h.Path], h.Set)
		why[h.Path] = h.Why
	}
	for _, at := range slices.Sorted(maps.Keys(byFile)) {
		v.fact("lost", fmt.Sprintf("%s in %s: %s", at, strings.Join(byFile[at], ", "), why[at]))
	}
	if hasCopy {
		v.fact("do", "freshkeel backup check --mend: what is damaged is brought from the copy in the other place")
	}
	v.fact("do", "all else can be restored. Take a new backup now: what is damaged is stored anew where the "+
		"install still has it. And look at the disk's own log")
}

// thinningFirst shows what is about to go before it goes.
func (v *view) thinningFirst(t *freshkeel.Thinning) {
	if v.p.json || len(t.Drop) == 0 {
		return
	}
	for _, b := range t.Drop {
		fmt.Fprintf(v.p.err, "to go: %s, %s, build %s %s\n", b.ID, when(b.Taken), orUnknown(b.Version), b.Label)
	}
}

func (v *view) thinning(t *freshkeel.Thinning, word string) {
	if len(t.Drop) == 0 {
		v.outcome(calm, "NOTHING TO DROP", count(len(t.Keep), "backup")+" kept")
	} else {
		what := count(len(t.Drop), "backup") + " of " + fmt.Sprint(len(t.Drop)+len(t.Keep))
		if word == "DROPPED" {
			what += ", " + freshkeel.Bytes(t.Freed) + " given back"
		}
		v.outcome(good, word, what)
	}
	if t.Later {
		v.fact("mind", "something else was writing to the locker: the space is given back by the next thinning")
	}
	for _, b := range t.Drop {
		v.fact("drop", fmt.Sprintf("%s  %s  %s", b.ID, when(b.Taken), b.Label))
	}
	for _, id := range slices.Sorted(maps.Keys(t.Keep)) {
		v.fact("keep", id+"  "+t.Keep[id])
	}
}
