package main

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshkeel"

	"github.com/urfave/cli/v3"
)

func (p *program) backupShow(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	if c.NArg() != 1 {
		return &freshkeel.Usage{What: "which backup?", Do: "freshkeel backup list"}
	}
	b, err := k.ShowBackup(c.Args().First())
	if err != nil {
		return err
	}
	doc := map[string]any{"backup": b}
	if c.Bool("all") {
		doc["files"] = b.Entries
	}
	return p.result(doc, func() { p.view.backup(b, c.Bool("all")) })
}

func (p *program) backupCheck(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	parts := c.Int("sample")
	checked, err := k.CheckBackups(ctx, c.Args().First(), parts)
	if err != nil {
		return err
	}
	fine := len(checked.Damaged)+len(checked.Broken) == 0
	if err := p.result(checked, func() { p.view.checked(checked, parts) }); err != nil || fine {
		return err
	}
	return cli.Exit("", exitFailed)
}

func (p *program) backupThin(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	n := freshkeel.Keeping{Last: c.Int("last"), Days: c.Int("days"), Weeks: c.Int("weeks"), Months: c.Int("months")}
	plan, err := k.PlanThin(n)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		return p.result(plan, func() { p.view.thinning(plan, "WOULD DROP") })
	}
	p.view.thinningFirst(plan)
	done, err := k.Thin(ctx, n)
	if err != nil {
		return err
	}
	return p.result(done, func() { p.view.thinning(done, "DROPPED") })
}

func (p *program) backupExport(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	if c.NArg() != 2 {
		return &freshkeel.Usage{What: "which backup, into which file?", Do: "freshkeel backup export BACKUP FILE.tar.zst"}
	}
	to := c.Args().Get(1)
	files, told, err := k.ExportBackup(ctx, c.Args().First(), to)
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

func (p *program) backupImport(ctx context.Context, c *cli.Command) error {
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
	return p.result(map[string]any{"backup": set}, func() {
		p.view.outcome(good, "TAKEN IN", fmt.Sprintf("%s: %s, %s, %s of it new", set.ID, count(set.Files, "file"), freshkeel.Bytes(set.Bytes), freshkeel.Bytes(set.New)))
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

func (v *view) backup(b *freshkeel.BackupView, all bool) {
	v.outcome(good, b.ID, fmt.Sprintf("%s, %s, %s of it new", count(b.Files, "file"), freshkeel.Bytes(b.Bytes), freshkeel.Bytes(b.New)))
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
		v.fact("mind", "these changed while they were read, and may be half old, half new: "+strings.Join(b.Moving, ", "))
	}
	if b.Before != "" {
		v.fact("since", fmt.Sprintf("%s: %d changed, %d added, %d removed", b.Before, len(b.Changed), len(b.Added), len(b.Removed)))
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
			switch f.Kind {
			case "dir":
				v.fact("", fmt.Sprintf("%10s  %s/", "", f.Path))
			case "link":
				v.fact("", fmt.Sprintf("%10s  %s → %s", "", f.Path, f.Target))
			default:
				v.fact("", fmt.Sprintf("%10s  %s", freshkeel.Bytes(f.Size), f.Path))
			}
		}
	}
	v.fact("next", fmt.Sprintf("freshkeel backup restore %s [--only PATTERN] [--to DIR]", b.ID))
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

func (v *view) checked(c *freshkeel.Checked, parts int) {
	share := ""
	if parts > 1 {
		share = fmt.Sprintf(" (one part of %d; another tomorrow)", parts)
	}
	read := fmt.Sprintf("%s of %s read back, %s%s", count(c.Pieces, "piece"), count(c.Sets, "backup"), freshkeel.Bytes(c.Bytes), share)
	if len(c.Damaged)+len(c.Broken) == 0 {
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
	v.fact("do", "all else can be restored. Take a new backup now: what is damaged is stored anew where the install still has it. And look at the disk's own log")
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
