package main

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel"

	"github.com/urfave/cli/v3"
)

// lookCommands are the commands by which an operator looks before acting, and after.
type lookCommands struct{ *program }

func (p lookCommands) commands() []*cli.Command {
	return []*cli.Command{
		{Name: "audit", Usage: "what is missing, changed or nobody's in the install; exit 13 unless it is clean",
			Action: p.audit, Flags: []cli.Flag{
				&cli.BoolFlag{Name: "deep", Usage: "read every file, whatever its times prove"},
				&cli.BoolFlag{Name: "mend", Usage: "put back what can be put back while the server runs"},
				&cli.StringSliceFlag{Name: "only", Usage: "only what matches `PATTERN`"},
				&cli.BoolFlag{Name: "all", Usage: "every finding"},
				dryRun()}},
		{
			Name:      "settings",
			Usage:     "what you changed in settings against the defaults of what runs",
			ArgsUsage: "[FILE…]",
			Action:    p.settings,
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "against", Usage: "against the defaults of `VERSION` instead"},
				&cli.BoolFlag{Name: "learn", Usage: "write a rule for what the server writes itself into the profile"}},
		},
		{Name: "launch", Usage: "what the launch script really runs: program, runtime, memory, arguments, folder",
			Action: p.launch, Flags: []cli.Flag{
				&cli.BoolFlag{Name: "ask", Usage: "run the launch script apart, over a copy that is thrown away, and tell what it would start: " +
					"nothing of the server runs"},
				&cli.StringFlag{
					Name:  "write",
					Usage: "write a launch script for this server to the new `FILE` (.sh or .bat)",
				},
				dryRun()}},
		{Name: "compare", Usage: "how two trees, archives, builds or backups differ, by content; exit 13 where they do",
			ArgsUsage: "FIRST SECOND", Action: p.compare, Flags: []cli.Flag{
				&cli.StringSliceFlag{Name: "only", Usage: "only what matches `PATTERN`"},
				&cli.StringSliceFlag{Name: "leave", Usage: "all but what matches `PATTERN`"},
				&cli.StringSliceFlag{
					Name: "list",
					Usage: "print the paths of `KIND` as patterns for [source] take, and " +
						"nothing else: added, changed, moved, gone, same, both",
				},
				&cli.BoolFlag{Name: "all", Usage: "every path, and each diff whole"}}},
	}
}

// diffText is how much of each text's diff is shown, in bytes; with --all nearly all.
const diffText, diffWhole = 600, 4 << 20

func (p lookCommands) compare(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 2 {
		return &freshkeel.Usage{
			What: "which two are to be compared?",
			Do: "freshkeel compare FIRST SECOND; each is: now, a " +
				"path, a backup's number or label, a refit's number (the state before it), a version",
		}
	}
	order := freshkeel.CompareOrder{Only: c.StringSlice("only"), Leave: c.StringSlice("leave"), Text: diffText,
		Same: len(c.StringSlice("list")) > 0}
	if c.Bool("all") || p.json {
		order.Text = diffWhole
	}
	p.view.quiet = p.json || order.Same
	k, err := p.look(ctx)
	if wrong := (*freshkeel.Usage)(nil); errors.As(err, &wrong) && p.dir == "" { // two paths need no install
		k, err = nil, nil
	}
	if err != nil {
		return err
	}
	o, err := p.options()
	if err != nil {
		return err
	}
	r, err := freshkeel.Compare(ctx, k, c.Args().Get(0), c.Args().Get(1), order, o)
	if err != nil {
		return err
	}
	if order.Same {
		list, err := r.List(c.StringSlice("list"))
		if err != nil {
			return err
		}
		return p.result(map[string]any{"patterns": nonNil(list)}, func() {
			for _, at := range list {
				fmt.Fprintln(p.out, at)
			}
		})
	}
	if err := p.result(r, func() { p.view.compared(r, c.Bool("all")) }); err != nil || len(r.Differences) == 0 {
		return err
	}
	return cli.Exit("", exitDiffers)
}

func (v *view) compared(r *freshkeel.Comparison, all bool) {
	if len(r.Differences) == 0 {
		v.outcome(good, "THE SAME", fmt.Sprintf("%s and %s: %s", r.A, r.B, count(r.Same, "file")))
		return
	}
	n := map[string]int{}
	for _, d := range r.Differences {
		n[string(d.Kind)]++
	}
	var said []string
	for _, kind := range []string{"changed", "added", "gone", "moved"} {
		if n[kind] > 0 {
			said = append(said, fmt.Sprintf("%d %s", n[kind], kind))
		}
	}
	v.outcome(minded, "DIFFER", fmt.Sprintf("%s → %s: %s; %d the same", r.A, r.B, strings.Join(said, ", "), r.Same))
	shown := map[string]int{}
	for _, kind := range []string{"changed", "added", "gone", "moved"} {
		for _, d := range r.Differences {
			if string(d.Kind) != kind {
				continue
			}
			if shown[kind]++; shown[kind] > most && !all {
				continue
			}
			v.difference(d, all)
		}
		if left := n[kind] - most; left > 0 && !all {
			v.fact("", fmt.Sprintf("and %d more %s (--all)", left, kind))
		}
	}
}

func (v *view) difference(d freshkeel.Difference, all bool) {
	switch d.Kind {
	case "moved":
		v.fact("moved", d.From+" → "+d.Path)
		return
	case "changed":
		v.fact("changed", d.Path+": "+d.What)
	case "gone":
		v.fact("gone", fmt.Sprintf("%s (%s)", d.Path, freshkeel.Bytes(d.Before)))
	default:
		v.fact(string(d.Kind), fmt.Sprintf("%s (%s)", d.Path, freshkeel.Bytes(d.After)))
	}
	for i, in := range d.Inside {
		if i == most && !all {
			v.fact("", fmt.Sprintf("and %d more in it (--all)", len(d.Inside)-i))
			break
		}
		v.fact("", fmt.Sprintf("%-8s %s", in.Kind, in.Path))
	}
	v.diffLines(d.Diff)
}

// diff shows how a file changes.
func (v *view) diff(kind, name, diff string) {
	if diff == "" {
		return
	}
	v.fact(kind, name+" as it will be:")
	_, diff, _ = strings.Cut(diff, "\n")
	_, diff, _ = strings.Cut(diff, "\n")
	v.diffLines(diff)
}

func (v *view) diffLines(diff string) {
	for line := range strings.Lines(diff) {
		line = freshkeel.Printable(strings.TrimRight(line, "\r\n"))
		colour := dim
		switch {
		case strings.HasPrefix(line, "+"):
			colour = good
		case strings.HasPrefix(line, "-"):
			colour = bad
		}
		fmt.Fprintf(v.p.out, "            %s\n", v.paint(colour, line))
	}
}

// auditJSON is what an audit found.
type auditJSON struct {
	Event string `json:"event"`
	Clean bool   `json:"clean"`
	*freshkeel.AuditReport
}

func (p lookCommands) audit(ctx context.Context, c *cli.Command) error {
	order := freshkeel.AuditOrder{Deep: c.Bool("deep"), Only: c.StringSlice("only")}
	p.view.quiet = p.json // one document
	if !c.Bool("mend") {
		k, err := p.look(ctx)
		if err != nil {
			return err
		}
		r, err := k.Auditor.Look(ctx, order)
		if err != nil {
			return err
		}
		return p.audited(r, k.Profile.Server.Name, c)
	}
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		r, err := k.Auditor.Look(ctx, order)
		if err != nil {
			return err
		}
		return p.audited(r, k.Profile.Server.Name, c)
	}
	r, err := k.MendAudit(ctx, order)
	if err != nil {
		return err
	}
	return p.audited(r, k.Profile.Server.Name, c)
}

func (p lookCommands) audited(r *freshkeel.AuditReport, name string, c *cli.Command) error {
	show := func() { p.view.audited(r, name, c.Bool("all")) }
	if err := p.result(auditJSON{"result", r.Clean(), r}, show); err != nil {
		return err
	}
	if !r.Clean() {
		return cli.Exit("", exitDiffers)
	}
	return nil
}

func (v *view) audited(r *freshkeel.AuditReport, name string, all bool) {
	if len(r.Mended) > 0 {
		v.outcome(good, "MENDED", fmt.Sprintf("%s put back", count(len(r.Mended), "path")))
		v.some("back", r.Mended, all)
		v.fact("record", r.Run+"; what was taken out is kept in .freshkeel/refits/"+r.Run+"/displaced")
	}
	against := "as " + orUnknown(r.Version) + " put it there"
	if !r.Known {
		against = "as it was found when it was adopted"
		defer v.fact("build", "which files are its own is not known (freshkeel adopt --build PATH tells)")
	}
	wrong, foreign := 0, 0
	for _, f := range r.Findings {
		if f.Kind == freshkeel.FoundForeign {
			foreign += max(f.Files, 1)
		} else {
			wrong++
		}
	}
	switch {
	case r.Clean():
		v.outcome(good, "CLEAN", fmt.Sprintf("%s: every one of %s is %s", name, count(r.Files, "file"), against))
	case wrong == 0:
		v.outcome(minded, "NOT CLEAN", fmt.Sprintf("%s: %s that nobody put there; every other one is %s", name,
			count(foreign, "file"), against))
	default:
		if wrong != 1 {
			against = strings.ReplaceAll(strings.ReplaceAll(against, "put it", "put them"), "it was", "they were")
		}
		what := fmt.Sprintf("%s: of %s, %d %s not %s", name, count(r.Files, "file"), wrong,
			map[bool]string{true: "is", false: "are"}[wrong == 1], against)
		if foreign > 0 {
			what += fmt.Sprintf("; %d foreign", foreign)
		}
		v.outcome(bad, "NOT CLEAN", what)
	}
	for i, f := range r.Findings {
		if i == most && !all {
			v.fact("", fmt.Sprintf("and %d more (--all)", len(r.Findings)-i))
			break
		}
		path := f.Path
		if f.Files > 0 {
			path = fmt.Sprintf("%s/ (%s)", path, count(f.Files, "file"))
		}
		v.fact(string(f.Kind), path)
		if f.Kind != freshkeel.FoundForeign {
			v.fact("", fmt.Sprintf("%s: %s", f.Whose, f.What))
		}
	}
	if len(r.Yours) > 0 {
		v.fact("yours", short(r.Yours)+": the build brought it, and you or the server changed it since; it stays")
	}
	v.fact("read", auditRead(r))
	v.auditNext(r)
}

// auditRead tells what the verdict rests on.
func auditRead(r *freshkeel.AuditReport) string {
	switch {
	case r.Files == 0:
		return ""
	case r.Read == 0 && len(r.Findings) > 0:
		return "no file: sizes and times tell what differs (--deep reads them all)"
	case r.Read == 0:
		return "no file: the times of all prove that nobody wrote to them (--deep reads them)"
	case r.Listed > 0:
		return fmt.Sprintf(
			"%s, %s; %s held against what the makers list",
			count(r.Read, "file"),
			freshkeel.Bytes(r.Bytes),
			count(r.Listed, "file"),
		)
	}
	return fmt.Sprintf("%s, %s", count(r.Read, "file"), freshkeel.Bytes(r.Bytes))
}

// auditNext tells the commands that put findings right, each once.
func (v *view) auditNext(r *freshkeel.AuditReport) {
	label, said, files := "next", map[string]int{}, map[string]string{}
	var order, patterns []string
	for _, f := range r.Findings {
		if f.Pattern != "" {
			patterns = append(patterns, quote(f.Pattern))
			continue
		}
		if said[f.Do] == 0 {
			order = append(order, f.Do)
		}
		said[f.Do]++
		switch f.Way {
		case freshkeel.MendNow:
			files[f.Do] = "the server may run on"
		case freshkeel.MendStopped:
			files[f.Do] = "the running server uses it"
		}
	}
	for i, do := range order {
		if i == most {
			v.fact(label, "and so on")
			return
		}
		if files[do] != "" {
			do += fmt.Sprintf("   (%s: %s)", count(said[do], "path"), files[do])
		}
		v.fact(label, do)
		label = ""
	}
	if n := len(patterns); n > 0 {
		v.fact(label, "if what nobody put there is yours: freshkeel profile set --add server.keep "+
			strings.Join(patterns[:min(n, most)], " "))
		v.fact("", "if it is not, remove it: an audit removes nothing")
	}
}

func (p lookCommands) drop(ctx context.Context, c *cli.Command) error {
	if c.NArg() == 0 {
		return &freshkeel.Usage{
			What: "which builds?",
			Do:   "freshkeel builds --kept lists them; freshkeel builds drop BUILD",
		}
	}
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	plan, err := k.Keeper.PlanDrop(c.Args().Slice(), c.Bool("anyway"))
	if err != nil {
		return err
	}
	show := func(word string) func() {
		return func() {
			var names []string
			for _, b := range plan.Builds {
				names = append(names, keptName(b))
			}
			v := p.view
			v.outcome(calm, word, strings.Join(names, ", "))
			if plan.Later {
				v.fact(
					"space",
					"something else is writing to the locker: it is given back when next something is dropped",
				)
				return
			}
			v.fact("space", freshkeel.Bytes(plan.Freed)+" given back; what backups and other builds need stays")
		}
	}
	if c.Bool("dry-run") {
		return p.result(plan, show("WOULD DROP"))
	}
	var lost []string
	for _, b := range plan.Builds {
		lost = append(lost, fmt.Sprintf("%s, %s, from %s", keptName(b), freshkeel.Bytes(b.Bytes), b.Source))
	}
	if !c.Bool("yes") && !p.sure(lost) {
		return errors.New("nothing was dropped")
	}
	if err := k.DropBuilds(ctx, plan); err != nil {
		return err
	}
	return p.result(plan, show("DROPPED"))
}

func keptName(b freshkeel.Kept) string {
	name := orUnknown(b.Version)
	if b.Layer != "" {
		name = b.Layer + " " + name
	}
	return name
}

func (v *view) kept(h *freshkeel.Holding) {
	if len(h.Builds)+len(h.Runtimes) == 0 {
		v.outcome(minded, "NONE", h.Locker+" holds no build and no runtime yet")
		return
	}
	var rows [][]string
	for _, b := range h.Builds {
		var by []string
		for _, n := range b.Needs {
			by = append(by, filepath.Base(n.Server)+": "+n.Why)
		}
		if len(by) == 0 {
			by = []string{"nobody that is known: " + b.Source}
		}
		if b.Damage != "" {
			by = append(by, "DAMAGED: "+b.Damage)
		}
		rows = append(rows, []string{keptName(b), b.Taken.Local().Format("2006-01-02 15:04"), freshkeel.Bytes(b.Bytes),
			freshkeel.Bytes(b.Alone), by[0]})
		for _, more := range by[1:] {
			rows = append(rows, []string{"", "", "", "", more})
		}
		rows = append(rows, []string{"", b.ID, "", "", sharesWith(b, h)})
	}
	v.outcome(calm, "KEPT", fmt.Sprintf("%s and %s in %s", count(len(h.Builds), "build"),
		count(len(h.Runtimes), "runtime"), filepath.Dir(h.Locker)))
	v.table([]string{"build", "taken", "size", "alone", "needed by"}, rows, nil)
	for _, rt := range h.Runtimes {
		by := "nobody runs it: freshkeel runtimes drop " + rt.Name
		if len(rt.Needs) > 0 {
			by = rt.Needs[0].Why
		}
		v.fact("runtime", fmt.Sprintf("%s, %s; %s", rt.Name, freshkeel.Bytes(rt.Bytes), by))
	}
	if len(h.Builds) > 0 {
		v.fact("", "alone is what dropping that build gives back; the rest others need too")
		v.fact("next", "freshkeel builds drop BUILD --dry-run")
	}
}

// sharesWith tells with what a build shares content.
func sharesWith(b freshkeel.Kept, h *freshkeel.Holding) string {
	var with []string
	for _, id := range b.With {
		for _, other := range h.Builds {
			if other.ID == id {
				with = append(with, keptName(other))
			}
		}
	}
	if b.Backups {
		with = append(with, "backups")
	}
	if len(with) == 0 {
		return "shares nothing"
	}
	return "shares with " + short(with)
}

func (p lookCommands) settings(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	list, of, err := k.ChangedSettings(ctx, c.String("against"), c.Args().Slice())
	if err != nil {
		return err
	}
	var learned []string
	if c.Bool("learn") {
		if learned, err = k.CarryWritten(list); err != nil {
			return err
		}
	}
	return p.result(map[string]any{"against": of, "files": nonNil(list), "learned": nonNil(learned)}, func() {
		p.view.settings(list, of)
		switch rules := slices.ContainsFunc(list, func(f freshkeel.SettingsChanged) bool { return f.Rule }); {
		case len(learned) > 0:
			p.view.fact("learned", strings.Join(learned, ", ")+": carried over by [[carry]] defaults = 'written' "+
				"from now on")
		case c.Bool("learn"):
			p.view.fact("learned", "nothing: the profile has a rule for each already")
		case rules:
			p.view.fact("next", "freshkeel settings --learn")
			p.view.fact("", "writes the rule for what the server writes itself into the profile, [[carry]] defaults "+
				"= 'written': without it nothing of yours in it is carried over")
		}
	})
}

func (v *view) settings(list []freshkeel.SettingsChanged, of string) {
	n := 0
	for _, f := range list {
		n += len(f.Changes)
	}
	if len(list) == 0 {
		v.outcome(minded, "NONE", "the build ships no file that [server] settings names")
		v.fact("next", "freshkeel profile set --add server.settings FILE")
		return
	}
	v.outcome(calm, "SETTINGS", fmt.Sprintf("%s of yours in %s, held against the defaults of %s", count(n, "value"),
		count(len(list), "file"), orUnknown(of)))
	for _, f := range list {
		if f.Wrong != "" {
			v.fact("file", f.Path+": "+f.Wrong)
			continue
		}
		var rows [][]string
		for _, ch := range f.Changes {
			switch ch.Fate {
			case "added":
				rows = append(rows, []string{ch.Key, freshkeel.Hidden(ch.Key, ch.Mine), "yours alone"})
			case "removed":
				rows = append(rows, []string{ch.Key, "-", "taken out; the default is " + freshkeel.Hidden(ch.Key, ch.Was)})
			default:
				rows = append(rows, []string{ch.Key, freshkeel.Hidden(ch.Key, ch.Mine), "the default is " +
					freshkeel.Hidden(ch.Key, ch.Now)})
			}
		}
		if len(rows) == 0 {
			v.fact("file", f.Path+": as the build has it")
			continue
		}
		v.fact("file", f.Path)
		v.table([]string{"key", "yours", ""}, rows, nil)
	}
}

func (p lookCommands) launch(ctx context.Context, c *cli.Command) error {
	if name := c.String("write"); name != "" {
		return p.writeLaunch(ctx, c, name)
	}
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	list, err := k.LaunchLines(ctx)
	if err != nil {
		return err
	}
	said := map[string]any{"script": k.StartedBy(), "args": nonNil(k.Profile.Launch.Args),
		"commands": nonNil(known(list, true)), "not_known": nonNil(known(list, false))}
	if !c.Bool("ask") {
		return p.result(said, func() { p.view.launch(k.StartedBy(), list) })
	}
	asked, why, err := k.AskLaunch(ctx)
	if err != nil {
		return err
	}
	said["asked"], said["not_asked"] = nonNil(asked), nonNil(why)
	return p.result(said, func() { showAsked(p.view, k.StartedBy(), list, asked, why) })
}

func (p lookCommands) writeLaunch(ctx context.Context, c *cli.Command, name string) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	text, err := k.WriteLaunch(ctx, name, c.Bool("dry-run"))
	if err != nil {
		return err
	}
	return p.result(map[string]any{"script": name, "text": text}, func() {
		v := p.view
		if c.Bool("dry-run") {
			v.outcome(calm, "WOULD WRITE", name)
			fmt.Fprint(p.out, text)
			return
		}
		v.outcome(good, "WRITTEN", name)
		fmt.Fprint(p.out, text)
		if k.Profile.Launch.Script != name {
			v.fact("next", "freshkeel profile set launch.script "+quote(name))
		}
	})
}

// known are the commands of which all is known, or those of which not all is.
func known(list []freshkeel.LaunchLine, all bool) (out []freshkeel.LaunchLine) {
	for _, l := range list {
		if (len(l.Unknown) == 0) == all {
			out = append(out, l)
		}
	}
	return out
}

func (v *view) launch(script string, list []freshkeel.LaunchLine) {
	switch {
	case len(list) == 0:
		v.outcome(minded, "NOT KNOWN", script+": no command in it is known to run the server")
		return
	case len(known(list, true)) == 0:
		v.outcome(minded, "NOT KNOWN", script+": what it runs depends on what can't be known before it runs")
	default:
		v.outcome(calm, "RUNS", script)
	}
	for _, l := range list {
		launchLine(v, l)
	}
}

// launchLine shows one command of a launch script.
func launchLine(v *view, l freshkeel.LaunchLine) {
	if len(l.Unknown) > 0 {
		v.fact("not known", strings.Join(l.Unknown, ", "))
	}
	if l.Line > 0 {
		v.fact("line", fmt.Sprintf("%s:%d: %s", l.File, l.Line, l.Text))
	}
	program := l.Program
	switch {
	case l.Missing:
		program += ", which is not there"
	case l.Runtime != "":
		program += ", Java " + l.Runtime
	}
	v.fact("program", program)
	v.fact("runs", l.Runs)
	if l.Most > 0 || l.First > 0 {
		var heap []string
		if l.First > 0 {
			heap = append(heap, freshkeel.Bytes(l.First)+" at first")
		}
		if l.Most > 0 {
			heap = append(heap, freshkeel.Bytes(l.Most)+" at most")
		}
		v.fact("memory", strings.Join(heap, ", "))
	}
	v.fact("with", strings.Join(l.Args, " "))
	v.fact("folder", l.Folder)
	v.fact("loop", l.Loop)
	for _, w := range l.Waits {
		v.fact("waits", w)
	}
	for _, w := range l.Wishes {
		v.fact("profile", "asks for more, which the next refit writes: "+w)
	}
	v.fact("known by", map[string]string{"read": "reading the script", "asked": "running the script apart: nothing of the server ran",
		"unknown": "nothing for certain: freshkeel launch --ask runs the script apart"}[l.Known])
}

// showAsked shows what launch scripts start that were run apart, beside what was read in them.
func showAsked(v *view, script string, list, asked []freshkeel.LaunchLine, why []string) {
	for _, w := range why {
		v.outcome(minded, "NOT ASKED", w)
	}
	if len(asked) == 0 {
		v.launch(script, list)
		return
	}
	v.outcome(calm, "WOULD START", script+", run apart over a copy, which is thrown away")
	for _, l := range asked {
		launchLine(v, l)
		same := slices.ContainsFunc(list, func(r freshkeel.LaunchLine) bool {
			return r.Program == l.Program && slices.Equal(r.Args, l.Args) && r.Folder == l.Folder
		})
		if same {
			v.fact("read", "the script reads the same")
			continue
		}
		for _, r := range list {
			v.fact("read", fmt.Sprintf("%s:%d reads otherwise: %s", r.File, r.Line, strings.Join(append([]string{r.Program}, r.Args...), " ")))
		}
	}
}
