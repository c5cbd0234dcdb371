package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel"

	"github.com/urfave/cli/v3"
)

func dryRun() cli.Flag {
	return &cli.BoolFlag{Name: "dry-run", Usage: "say what would be done, and do nothing"}
}

func ownersFlag() cli.Flag {
	return &cli.BoolFlag{Name: "owners",
		Usage: "run as root: give files the owners, setuid bits and capabilities that the copy says"}
}

// wantFlags are those of every command that chooses a build.
func wantFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{
			Name:  "from",
			Usage: "take the build from `PATH|URL` (file, folder or archive) instead of the source",
		},
		&cli.StringFlag{
			Name:  "as",
			Usage: "the `VERSION` of a build taken --from somewhere, where its name does not tell",
		},
		&cli.BoolFlag{Name: "over", Usage: "it is an increment: lay it over the build that is installed"},
		&cli.BoolFlag{Name: "back", Usage: "an older version than the installed one is meant"},
		&cli.StringSliceFlag{Name: "layer",
			Usage: "change the layer `NAME[=VERSION]` too; without a VERSION argument the build itself stays"},
		&cli.StringSliceFlag{Name: "without", Usage: "go without the layer `NAME`"},
		&cli.BoolFlag{Name: "mend", Usage: "put build files that were changed here back as the build has them"},
		&cli.StringSliceFlag{Name: "consent",
			Usage: "give the consent that the makers ask for in `FILE` (recorded in the logbook)"},
		&cli.StringFlag{Name: "runtime",
			Usage: "have the launch script run the runtime `RELEASE|RANGE|PATH` of those that are here"},
		&cli.BoolFlag{Name: "let-boot",
			Usage: "boot a build once for its default settings even where this system can't shut it off"},
		&cli.StringSliceFlag{Name: "data-has", Usage: "the data has had the migration `NAME`: it is left out"},
		&cli.StringSliceFlag{Name: "data-lacks", Usage: "the data has not had the migration `NAME`: it is run"},
		&cli.StringSliceFlag{Name: "hold-back", Usage: "leave the `ADD-ON` out this time"},
		&cli.StringSliceFlag{Name: "overwrite", Usage: "`PATH` becomes the build's, though it may be yours: a file, a folder, a pattern"},
		&cli.StringSliceFlag{Name: "accept", Usage: "go past `CHECK` although it says stop (recorded in the logbook)"},
	}, more...)
}

func want(c *cli.Command) (freshkeel.Want, error) {
	if c.NArg() > 1 {
		return freshkeel.Want{}, &freshkeel.Usage{What: "one version at a time", Do: "freshkeel " + c.Name + " VERSION"}
	}
	w := freshkeel.Want{
		Version: c.Args().First(),
		From:    c.String("from"),
		As:      c.String("as"),
		Over:    c.Bool("over"),
		Back:    c.Bool("back"),
		Start:   c.Bool("start"),
		Accept:  c.StringSlice("accept"),
		Without: c.StringSlice("without"), Overwrite: c.StringSlice("overwrite"),
		Mend:    c.Bool("mend"),
		Has:     c.StringSlice("data-has"),
		Lacks:   c.StringSlice("data-lacks"),
		Consent: c.StringSlice("consent"),
		Hold:    c.StringSlice("hold-back"),
		Runtime: c.String("runtime"),
		LetBoot: c.Bool("let-boot"),
		Layers:  map[string]string{},
	}
	for _, l := range c.StringSlice("layer") {
		name, version, _ := strings.Cut(l, "=")
		w.Layers[name] = version
	}
	return w, nil
}

func (p *program) commands() []*cli.Command {
	backups := backupCommands{p}
	list := []*cli.Command{
		{Name: "adopt", Usage: "take an existing install under care", ArgsUsage: "DIR", Action: p.adopt,
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "build", Usage: "`PATH` of the archive or folder that the install was made from"},
				&cli.StringFlag{Name: "source",
					Usage: "where builds come from: `PATH|URL` of a feed, page, JSON, folder, archives or file"},
				&cli.BoolFlag{
					Name:  "no-try",
					Usage: "of --source: do not fetch its newest build to see what that would change",
				},
				&cli.StringFlag{Name: "name", Usage: "the server's `NAME` (default: the folder's)"},
				&cli.StringFlag{Name: "version", Usage: "the `VERSION` installed, where it can't be told"},
				&cli.BoolFlag{Name: "replace",
					Usage: "write a new profile in place of the one that is there, which is kept beside it"},
				&cli.BoolFlag{Name: "release", Usage: "give the install back: what Fresh Keel put there goes"},
				&cli.BoolFlag{
					Name:  "keep-backups",
					Usage: "of a release: they stay in the locker, and are found again",
				},
				&cli.BoolFlag{Name: "drop-backups", Usage: "of a release: they go too"},
				&cli.BoolFlag{Name: "keep-profile", Usage: "of a release: freshkeel.toml stays"},
				&cli.BoolFlag{Name: "yes", Usage: "of a release: what is lost by it was read, and may be"},
				&cli.BoolFlag{Name: "learn",
					Usage: "complete the profile that is there by what the install and the running server show"},
				dryRun(),
			}},
		lessonCommands{p}.lay(),
		{
			Name:   "builds",
			Usage:  "what the source offers, and how each stands to what is installed",
			Action: p.builds,
			Flags: []cli.Flag{
				&cli.BoolFlag{
					Name: "kept",
					Usage: "what the locker holds instead: builds, layers, runtimes; what each takes, " +
						"and who needs it",
				}},
			Commands: []*cli.Command{
				{
					Name:      "drop",
					Usage:     "give the space of kept builds back",
					ArgsUsage: "BUILD…",
					Action:    lookCommands{p}.drop,
					Flags: []cli.Flag{
						&cli.BoolFlag{Name: "anyway", Usage: "although a server runs it"},
						&cli.BoolFlag{Name: "yes", Usage: "what is lost by it was read, and may be"}, dryRun()},
				},
			},
		},
		{Name: "fetch", Usage: "download and verify a build into the locker", ArgsUsage: "[VERSION]", Action: p.fetch,
			Flags: wantFlags(&cli.BoolFlag{Name: "check",
				Usage: "only tell whether something newer exists: one line and exit 10, or nothing"}, dryRun())},
		{Name: "preflight", Usage: "every check and the plan; changes nothing", ArgsUsage: "[VERSION]",
			Action: p.preflight, Flags: wantFlags(&cli.BoolFlag{Name: "all",
				Usage: "show the checks that found nothing too, and every file of the plan"})},
		{Name: "refit", Usage: "the whole job: fetch, check, back up, swap, start, and roll back if it does " +
			"not come up", ArgsUsage: "[VERSION]", Action: p.refit,
			Flags: wantFlags(partingFlags(
				&cli.BoolFlag{Name: "start", Usage: "leave the server running even if it was not"},
				&cli.BoolFlag{
					Name:  "all",
					Usage: "of --dry-run: every check, and every file of the plan",
				},
				dryRun(),
			)...)},
		{Name: "rollback", Usage: "undo the last refit, or go back to before an earlier one", ArgsUsage: "[REFIT]",
			Action: p.rollback, Flags: partingFlags(
				&cli.BoolFlag{Name: "world", Usage: "put the world back too, as it was then (what is there now is " +
					"backed up first)"}, dryRun())},
		{Name: "recover", Usage: "finish or reverse what a crash interrupted (each command that changes something " +
			"does this first)", Action: p.recover, Flags: []cli.Flag{
			&cli.BoolFlag{Name: "leave-as-is", Usage: "give up what was interrupted: the install stays as it is now"},
			&cli.BoolFlag{Name: "no-start", Usage: "only make the files whole, before something else starts the server: " +
				"start and stop nothing"},
			dryRun()}},
		{Name: "backup", Usage: "backups by hand", Commands: []*cli.Command{
			{Name: "take", Usage: "back the install up as it is now", Action: backups.take,
				Flags: []cli.Flag{&cli.StringFlag{Name: "label",
					Usage: "a `TEXT` to know it by; one with a label is never thinned"},
					&cli.StringSliceFlag{Name: "only", Usage: "only what matches `PATTERN`"},
					&cli.StringSliceFlag{Name: "leave", Usage: "all but what matches `PATTERN`"},
					&cli.BoolFlag{Name: "reread", Usage: "read every file again, whatever its times prove"}, dryRun()}},
			{Name: "list", Usage: "the backups of this install", Action: backups.list, Flags: awayFlags()},
			{Name: "show", Usage: "what a backup holds, and how it differs from the one before", ArgsUsage: "BACKUP",
				Action: backups.show, Flags: awayFlags(&cli.BoolFlag{Name: "all", Usage: "every file"})},
			{Name: "check", Usage: "read backups back and compare hashes", ArgsUsage: "[BACKUP]", Action: backups.check,
				Flags: awayFlags(
					&cli.IntFlag{
						Name:  "sample",
						Usage: "one part of `N`, another each day: as many days read everything",
					},
					&cli.BoolFlag{
						Name:  "mend",
						Usage: "bring what is damaged from the copy; with --copy, send it there anew",
					},
				)},
			{Name: "thin", Usage: "drop old backups and give their space back", Action: backups.thin, Flags: []cli.Flag{
				&cli.IntFlag{Name: "last", Usage: "keep the newest `N`"},
				&cli.IntFlag{Name: "days", Usage: "and the newest of each of `N` days"},
				&cli.IntFlag{Name: "weeks", Usage: "of each of `N` weeks"},
				&cli.IntFlag{Name: "months", Usage: "of each of `N` months"}, dryRun()}},
			{Name: "export", Usage: "write a backup as an archive: FILE.tar.zst, .tar or .zip",
				ArgsUsage: "BACKUP FILE", Action: backups.export, Flags: awayFlags()},
			{Name: "import", Usage: "make a backup of a folder or archive that you have from before", ArgsUsage: "PATH",
				Action: backups.takeIn, Flags: []cli.Flag{&cli.StringFlag{Name: "label",
					Usage: "a `TEXT` to know it by"}}},
			{Name: "push", Usage: "copy new backups to the second place (runs by itself after each backup)",
				Action: backups.push, Flags: []cli.Flag{
					&cli.BoolFlag{Name: "claim", Usage: "take a place over that is not empty, or that another " +
						"machine wrote to"}, dryRun()}},
			{Name: "bring", Usage: "take backups of a copy, or of another user's locker, into this locker",
				ArgsUsage: "[BACKUP]", Action: backups.bring, Flags: awayFlags(ownersFlag(), dryRun())},
			{Name: "restore", Usage: "bring a backup back", ArgsUsage: "BACKUP", Action: backups.restore,
				Flags: awayFlags(
					&cli.StringSliceFlag{Name: "only", Usage: "only what matches `PATTERN`"},
					&cli.StringFlag{Name: "to", Usage: "into the new folder `DIR` instead of the install"},
					&cli.BoolFlag{Name: "while-running", Usage: "of --only: the server runs on; it may write over " +
						"what it has in its memory"},
					&cli.StringFlag{Name: "of", Usage: "it was taken of the other `FOLDER`, and is meant all the same"},
					&cli.BoolFlag{Name: "data", Usage: "load the data outside the install back too, as it was then"},
					&cli.BoolFlag{Name: "no-data", Usage: "leave the data outside the install as it is"},
					ownersFlag(),
					dryRun())},
		}},
		{Name: "feed", Usage: "publish builds of your own", Commands: []*cli.Command{
			{Name: "write", Usage: "write feed.json for a folder of archives, each named after its version",
				ArgsUsage: "DIR", Action: p.feedWrite, Flags: []cli.Flag{
					&cli.StringFlag{Name: "name", Usage: "`NAME` of the software"},
					&cli.BoolFlag{Name: "listing",
						Usage: "publish each file by itself too, so that only what changed is fetched"}}},
			{Name: "check", Usage: "read a feed strictly, and look at every file that it names", ArgsUsage: "PATH|URL",
				Action: p.feedCheck, Flags: []cli.Flag{
					&cli.BoolFlag{Name: "whole", Usage: "fetch each file and hold it against its digests"},
					&cli.StringFlag{Name: "key", Usage: "the minisign public `KEY` that it must be signed by"}}},
		}},
		{Name: "runtimes", Usage: "what runtimes are here, which fit, which the launch script uses",
			ArgsUsage: "[VERSION]", Action: p.runtimes, Flags: []cli.Flag{
				&cli.StringFlag{Name: "from", Usage: "hold them against the build at `PATH|URL`"}},
			Commands: []*cli.Command{
				{Name: "take", Usage: "take a Java runtime in from an archive, without administrator's rights",
					ArgsUsage: "[PATH|URL]", Action: p.runtimeTake, Flags: []cli.Flag{
						&cli.StringFlag{Name: "for", Usage: "take the one that the source names for `VERSION`"},
						&cli.StringFlag{Name: "digest", Usage: "what the archive must hash to: `sha256:HEX`"},
						dryRun()}},
				{Name: "drop", Usage: "remove one that was taken in and that no server runs", ArgsUsage: "NAME|VERSION",
					Action: p.runtimeDrop, Flags: []cli.Flag{
						&cli.BoolFlag{Name: "anyway", Usage: "although a backup needs it to be gone back to"}}},
			}},
		{Name: "start", Usage: "start the server and watch it come up", Action: p.start, Flags: []cli.Flag{
			&cli.BoolFlag{Name: "learn", Usage: "write what this start shows into the profile"},
			&cli.BoolFlag{Name: "take-over", Usage: "end a server that was started by hand first: at its console where that can be " +
				"reached, else by the terminate signal"}, dryRun()}},
		lessonCommands{p}.profile(),
		{Name: "stop", Usage: "stop the server as the profile says", Action: p.stop,
			Flags: partingFlags(dryRun())},
		{Name: "restart", Usage: "stop the server as the profile says, and start it again",
			Action: func(ctx context.Context, c *cli.Command) error { return restart(ctx, p, c) },
			Flags:  partingFlags(dryRun())},
		{
			Name: "run",
			Usage: "the server in the foreground, for a service manager, a container or a terminal: it ends " +
				"when the server has, and stays while a refit exchanges it",
			Action: p.run,
		},
		{
			Name:   "unit",
			Usage:  "print a unit of the system's service manager that runs the server at boot",
			Action: p.unit,
			Flags: []cli.Flag{
				&cli.BoolFlag{Name: "user", Usage: "for the manager of a user's own"},
				&cli.BoolFlag{Name: "rights", Usage: "print instead a rule of sudo's that lets the install's user manage the services that run " +
					"the server, and nothing else"},
				&cli.StringFlag{Name: "write", Usage: "write it to the new `FILE`"}},
		},
		{Name: "after-crash", Hidden: true, ArgsUsage: "[PART]", Action: p.afterCrash},
		{Name: "status", Usage: "whether the server runs; the exit code says so too: 0 up, 11 down, 12 in between, " +
			"5 unsettled", Action: p.status},
		{Name: "send", Usage: "type a line at the server's console", ArgsUsage: "LINE…", Action: p.send,
			Flags: []cli.Flag{dryRun()}, SkipFlagParsing: true},
		{Name: "log", Usage: "the server's console log", Action: p.log, Flags: []cli.Flag{
			&cli.BoolFlag{Name: "f", Usage: "go on as lines come"},
			&cli.IntFlag{Name: "n", Value: 40, Usage: "the last `N` lines"}}},
		{Name: "logbook", Usage: "what was done here, and how it went", ArgsUsage: "[REFIT]", Action: p.logbook},
		{Name: "demo", Usage: "the full example on made-up data, in DIR or a temporary folder", ArgsUsage: "[DIR]",
			Action: p.demo},
		{Name: "help", Usage: "what a command does, and its options", ArgsUsage: "COMMAND…", Action: helpOf},
	}
	after := slices.IndexFunc(list, func(c *cli.Command) bool { return c.Name == "backup" })
	return slices.Insert(list, after, lookCommands{p}.commands()...)
}

func (p *program) adopt(ctx context.Context, c *cli.Command) error {
	dir := c.Args().First()
	if dir == "" {
		dir = p.dir
	}
	if dir == "" {
		return &freshkeel.Usage{What: "which folder?", Do: "freshkeel adopt DIR"}
	}
	if p.dir == "" {
		p.dir = dir // which commands that are advised name
	}
	if err := p.asOwner(dir); err != nil {
		return err
	}
	o, err := p.options()
	if err != nil {
		return err
	}
	if c.Bool("release") {
		return lessonCommands{p}.release(ctx, c, dir, o)
	}
	o.Observe = nil
	var ask func(freshkeel.Question) string
	if p.asks() && !c.Bool("dry-run") {
		ask = p.question
	}
	a, err := freshkeel.AdoptInstall(ctx, freshkeel.Adopt{Dir: dir, Ask: ask, Build: c.String("build"),
		Source: c.String("source"), Name: c.String("name"),
		Version: c.String("version"), Replace: c.Bool("replace"), DryRun: c.Bool("dry-run")}, o)
	if err != nil {
		return err
	}
	if a.Profile != "" || c.Bool("dry-run") {
		err := p.result(a, func() { p.view.adopted(a, c.Bool("dry-run")) })
		if k, kerr := freshkeel.Open(a.Dir, o); kerr == nil && !p.json && !c.Bool("dry-run") &&
			!c.Bool("no-try") && a.Source != "" {
			lessonCommands{p}.tryOut(ctx, k)
		}
		if p.json || c.Bool("dry-run") {
			return err
		}
		if a.ByHand && p.asks() && isYes(p.ask(asking{Key: "take over"})) {
			o, oerr := p.options()
			if oerr != nil {
				return oerr
			}
			k, kerr := freshkeel.Open(a.Dir, o)
			if kerr != nil {
				return kerr
			}
			p.seeThrough()
			return errors.Join(err, startUp(ctx, p, k, true, true))
		}
		p.view.adoptedNext(a)
		return err
	}
	return lessonCommands{p}.complete(ctx, c, a, o)
}

func (p *program) builds(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	if c.NArg() > 0 {
		return &freshkeel.Usage{
			What: "a word too many: " + c.Args().First(),
			Do:   "freshkeel builds --kept, or freshkeel builds drop BUILD",
		}
	}
	if c.Bool("kept") {
		list, err := k.Keeper.List()
		if err != nil {
			return err
		}
		return p.result(list, func() { p.view.kept(list) })
	}
	offers, err := k.Builds(ctx)
	if err != nil {
		return err
	}
	return p.result(map[string]any{"offers": offers}, func() { p.view.offers(offers) })
}

func (p *program) fetch(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	w, err := want(c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		offers, err := k.Builds(ctx)
		if err != nil {
			return err
		}
		return p.result(map[string]any{"would_fetch": offers[0].Builds},
			func() { p.view.wouldFetch(offers[0].Builds, w) })
	}
	if c.Bool("check") {
		return p.news(ctx, k)
	}
	f, err := k.Fetch(ctx, w)
	if err != nil {
		return err
	}
	return p.result(f, func() {
		word := "FETCHED"
		if f.Cached {
			word = "FETCHED BEFORE"
		}
		p.view.outcome(good, word, fmt.Sprintf("%s: %s, %s, verified in the locker", orBuild(f.Version),
			count(f.Files, "file"), freshkeel.Bytes(f.Bytes)))
		if f.Version != "" && w.From == "" {
			p.view.fact("next", "freshkeel preflight "+f.Version)
		}
	})
}

// news is for cron: one line where something is newer, nothing where nothing is.
func (p *program) news(ctx context.Context, k *freshkeel.Keel) error {
	p.view.quiet = true // a mail a day about nothing is not read for long
	list, err := k.News(ctx)
	if err != nil {
		return err
	}
	p.view.end()
	if p.json {
		if err := p.result(map[string]any{"newer": nonNil(list)}, nil); err != nil {
			return err
		}
	} else if len(list) > 0 {
		var said []string
		for _, n := range list {
			what := orUnknown(n.Version)
			if n.Version == "" || n.Version == n.Installed {
				what = "a build with other files"
			}
			if n.Layer != "" {
				what = n.Layer + " " + what
			}
			said = append(said, fmt.Sprintf("%s (%s is installed)", what, orUnknown(n.Installed)))
		}
		fmt.Fprintf(p.out, "%s: newer: %s\n", k.Profile.Server.Name, strings.Join(said, ", "))
	}
	if len(list) > 0 {
		return cli.Exit("", exitNewer)
	}
	return nil
}

func (p *program) feedWrite(ctx context.Context, c *cli.Command) error {
	dir := c.Args().First()
	if dir == "" {
		return &freshkeel.Usage{What: "which folder of archives?", Do: "freshkeel feed write DIR"}
	}
	if err := p.asOwner(dir); err != nil {
		return err
	}
	f, err := freshkeel.WriteFeed(ctx, freshkeel.FeedOrder{Dir: dir, Name: c.String("name"),
		Listing: c.Bool("listing")})
	if err != nil {
		return err
	}
	return p.result(f, func() {
		at := filepath.Join(dir, "feed.json")
		p.view.outcome(good, "WRITTEN", fmt.Sprintf("%s: %s", at, count(len(f.Builds), "build")))
		var rows [][]string
		for _, b := range f.Builds {
			rows = append(rows, []string{b.Version, b.Channel, b.Date, fmt.Sprint(max(len(b.Parts), len(b.Variants))),
				b.Notes})
		}
		fmt.Fprintln(p.out)
		p.view.table([]string{"build", "channel", "date", "files", "notes"}, rows, nil)
		fmt.Fprintln(p.out)
		p.view.fact("next", "add channels, notes, needs and from by hand where you like (they are kept), then: "+
			"freshkeel feed check "+at)
	})
}

func nonEmpty(list ...string) (out []string) {
	for _, s := range list {
		if s != "" {
			out = append(out, s)
		}
	}
	return
}

func (p *program) feedCheck(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return &freshkeel.Usage{What: "which feed?", Do: "freshkeel feed check PATH|URL"}
	}
	o, err := p.options()
	if err != nil {
		return err
	}
	r, err := freshkeel.CheckFeed(ctx, c.Args().First(), c.String("key"), c.Bool("whole"), o)
	if err != nil {
		return err
	}
	if err := p.result(r, func() { p.view.feedChecked(r, c.Args().First()) }); err != nil {
		return err
	}
	if len(r.Wrong) > 0 {
		return cli.Exit("", exitFailed)
	}
	return nil
}

func (p *program) preflight(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	w, err := want(c)
	if err != nil {
		return err
	}
	return p.check(ctx, k, w, c.Bool("all"))
}

// check prints a preflight and gives Refused where it stops.
func (p *program) check(ctx context.Context, k *freshkeel.Keel, w freshkeel.Want, all bool) error {
	pre, err := k.Preflight(ctx, w)
	if err != nil {
		return err
	}
	if err := p.result(preflightJSON(pre), func() {
		p.view.preflight(pre, w, all, k.TellOnce(pre))
	}); err != nil {
		return err
	}
	if len(pre.Stops()) > 0 {
		return cli.Exit("", exitRefused)
	}
	return nil
}

func (p *program) refit(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	w, err := want(c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		p.view.first = true
		return p.check(ctx, k, w, c.Bool("all"))
	}
	p.view.title("refit " + k.Profile.Server.Name)
	e, err := k.Refit(ctx, w)
	if errors.As(err, new(*freshkeel.RolledBack)) { // it made a backup all the same
		p.later = func() { k.Shelf().PushAfter(ctx) }
	}
	if err != nil {
		return err
	}
	if e == nil {
		return p.result(map[string]any{"event": "result", "changed": false}, func() {
			p.view.outcome(good, "NOTHING TO DO", "what is installed is that build already")
		})
	}
	return p.resultThenPush(ctx, k, entryJSON{"result", e}, func() { p.view.refitted(e) })
}

func (p *program) rollback(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	b := freshkeel.Back{Refit: c.Args().First(), World: c.Bool("world")}
	if c.Bool("dry-run") {
		plan, err := k.PlanRollback(b)
		if err != nil {
			return err
		}
		return p.result(plan, func() { p.view.backPlan(plan, k.Profile.Server.Keep) })
	}
	p.view.title("rollback " + k.Profile.Server.Name)
	e, err := k.Rollback(ctx, b)
	if err != nil {
		return err
	}
	return p.resultThenPush(ctx, k, entryJSON{"result", e}, func() { p.view.wentBack(e) })
}

func (p *program) recover(ctx context.Context, c *cli.Command) error {
	if c.Bool("no-start") && c.Bool("leave-as-is") {
		return &freshkeel.Usage{What: "--no-start makes the files whole, and --leave-as-is leaves them", Do: "one of them"}
	}
	if !c.Bool("dry-run") {
		p.seeThrough()
	}
	k, err := p.open()
	if err != nil {
		return err
	}
	var e *freshkeel.Entry
	if c.Bool("dry-run") {
		if e, err = k.PendingRecovery(); err == nil && e != nil {
			return p.result(e, func() {
				p.view.outcome(minded, "INTERRUPTED", fmt.Sprintf("%s %s, while %s", e.Kind, e.ID, e.Phase))
				p.view.fact("next", "freshkeel recover")
			})
		}
	} else if c.Bool("leave-as-is") {
		if run, err := k.PendingRecovery(); err == nil && run != nil && p.asks() &&
			!p.sure([]string{fmt.Sprintf("the way back of %s %s, which was interrupted while %s", run.Kind, run.ID,
				run.Phase)}) {
			return errors.New("nothing was given up")
		}
		if e, err = k.GiveUp(); err == nil && e != nil {
			return p.result(entryJSON{"result", e}, func() {
				p.view.outcome(minded, "GIVEN UP", fmt.Sprintf("%s %s: the install stays as it is now", e.Kind, e.ID))
				p.view.told(e)
				p.view.fact("kept", k.RunDir(e.ID))
				p.view.fact("next", nextAfterGivingUp(e))
			})
		}
	} else if c.Bool("no-start") {
		if e, err = k.SettleFiles(ctx); err == nil && e != nil {
			return p.result(entryJSON{"result", e}, func() {
				p.view.outcome(good, "FILES WHOLE", fmt.Sprintf("%s %s: nothing was started or stopped", e.Kind, e.ID))
				p.view.fact("why", e.Why)
				p.view.fact("next", "freshkeel recover sees to the rest, once the server was started")
			})
		}
	} else {
		e, err = k.Recover(ctx)
	}
	if err != nil {
		return err
	}
	return p.result(entryJSON{"result", e}, func() {
		if e == nil {
			p.view.outcome(good, "NOTHING TO DO", "nothing was interrupted")
			return
		}
		p.view.outcome(good, "RECOVERED", fmt.Sprintf("%s %s: %s", e.Kind, e.ID, orRunning(e)))
		p.view.fact("why", e.Why)
		p.view.fact("more", "freshkeel logbook "+e.ID)
	})
}

func nextAfterGivingUp(e *freshkeel.Entry) string {
	if e.Backup == "" {
		return "freshkeel status"
	}
	return "freshkeel backup restore " + e.Backup + " brings the state before it back"
}

func (p backupCommands) take(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		return p.result(map[string]any{"would_back_up": k.Dir}, func() {
			p.view.outcome(calm, "WOULD BACK UP", k.Dir)
			p.view.fact("but for", strings.Join(k.Profile.Server.Skip, ", "))
		})
	}
	set, moving, err := k.TakeBackup(ctx, c.String("label"), freshkeel.Choice{Only: c.StringSlice("only"),
		Leave: c.StringSlice("leave"), Reread: c.Bool("reread")})
	if err != nil {
		return err
	}
	return p.resultThenPush(ctx, k, map[string]any{"backup": set, "moving": moving}, func() {
		p.view.outcome(good, "BACKED UP",
			fmt.Sprintf("%s: %s, %s, %s of it new", set.ID, count(set.Files, "file"), freshkeel.Bytes(set.Bytes),
				freshkeel.Bytes(set.New)))
		if len(moving) > 0 {
			p.view.fact("mind", "these changed while they were read, and may be half old, half new: "+
				strings.Join(moving, ", "))
		}
		p.view.partOf(set)
	})
}

func (p backupCommands) list(ctx context.Context, c *cli.Command) error {
	shelf, done, err := p.backupsOf(ctx, c)
	if err != nil {
		return err
	}
	defer done()
	list, err := shelf.List()
	if err != nil {
		return err
	}
	copied, at := shelf.Copied()
	lines := make([]listed, len(list))
	for i, b := range list {
		lines[i] = listed{b, copied[b.ID]}
	}
	next := ""
	if len(list) > 0 && (c.String("from") != "" || c.Bool("copy")) {
		next = restoreLine(c, list[len(list)-1].ID)
	}
	return p.result(map[string]any{"backups": lines}, func() { p.view.backups(lines, copied != nil, at, next) })
}

// askData asks whether a backup's dumps are to be loaded, where it has some.
func (p backupCommands) askData(k *freshkeel.Keel, backup string) (load string, err error) {
	dumps, err := k.DumpsOf(backup)
	if err != nil || len(dumps) == 0 {
		return "", err
	}
	for _, d := range dumps {
		p.view.noteLine(dumped(d))
	}
	if !isYes(p.ask(asking{Key: "data"})) {
		return "", &freshkeel.Advised{Err: errors.New("nothing was restored"),
			Do: "--no-data restores the files, and leaves the data as it is"}
	}
	return freshkeel.LoadData, nil
}

func (p backupCommands) restore(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return &freshkeel.Usage{What: "which backup?", Do: "freshkeel backup list"}
	}
	r := freshkeel.Restore{Backup: c.Args().First(), Only: c.StringSlice("only"), To: c.String("to"),
		Of: c.String("of"), Live: c.Bool("while-running"),
		Owners: freshkeel.Owners(c.Bool("owners"))}
	switch load, leave := c.Bool("data"), c.Bool("no-data"); {
	case load && leave:
		return &freshkeel.Usage{What: "--data and --no-data say the opposite", Do: "one of them"}
	case load:
		r.Data = freshkeel.LoadData
	case leave:
		r.Data = freshkeel.LeaveData
	}
	if r.To != "" {
		return p.restoreTo(ctx, c, r)
	}
	k, err := p.restoreInto(ctx, c, &r)
	if err != nil || k == nil {
		return err
	}
	if c.Bool("dry-run") {
		steps, err := k.PlanRestore(r)
		if err != nil {
			return err
		}
		var dumps []freshkeel.Dumped
		if len(r.Only) == 0 && r.Data != freshkeel.LeaveData {
			if dumps, err = k.DumpsOf(r.Backup); err != nil {
				return err
			}
		}
		return p.result(map[string]any{"steps": nonNil(steps), "data": nonNil(dumps)}, func() {
			p.view.outcome(calm, "WOULD RESTORE",
				fmt.Sprintf("%s into the install: %s", r.Backup, count(len(steps), "exchange")))
			p.view.fact("server", "down meanwhile, if it runs; what is there is backed up first")
			for _, d := range dumps {
				p.view.fact("data", dumped(d))
			}
			if len(dumps) > 0 && r.Data == "" {
				p.view.fact("say", "--data to load it, or --no-data to leave it as it is")
			}
			for _, s := range steps {
				p.view.fact("", fmt.Sprintf("%-11s %s", s.Do, s.Path))
			}
		})
	}
	if len(r.Only) == 0 && r.Data == "" && p.asks() {
		if r.Data, err = p.askData(k, r.Backup); err != nil {
			return err
		}
	}
	e, err := k.Restore(ctx, r)
	if freshkeel.IsSame(err) {
		return p.result(map[string]any{"event": "result", "changed": false}, func() {
			p.view.outcome(good, "NOTHING TO DO", "what is installed is as it is in "+r.Backup+
				" already; the server was left alone")
		})
	}
	if err != nil {
		return err
	}
	return p.resultThenPush(ctx, k, entryJSON{"result", e}, func() {
		p.view.outcome(good, "RESTORED", "from backup "+e.Target)
		if e.From != e.To {
			p.view.fact("build", orUnknown(e.From)+" → "+reached(e))
		}
		p.view.fact("before", "what was there is backup "+e.Backup)
		p.view.told(e)
	})
}

func (p *program) runtimes(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	w, err := want(c)
	if err != nil {
		return err
	}
	r, err := k.Runtimes(ctx, w)
	if err != nil {
		return err
	}
	return p.result(r, func() { p.view.runtimes(r, w) })
}

func (p *program) runtimeTake(ctx context.Context, c *cli.Command) error {
	if (c.NArg() != 1) == (c.String("for") == "") || c.NArg() > 1 {
		return &freshkeel.Usage{What: "which archive?", Do: "freshkeel runtimes take PATH|URL, or --for VERSION"}
	}
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	where := c.Args().First()
	if c.Bool("dry-run") {
		where = strings.TrimSpace(where + " " + c.String("for"))
		return p.result(map[string]any{"would_take": where}, func() { p.view.outcome(calm, "WOULD TAKE", where) })
	}
	take := func() (*freshkeel.FoundRuntime, bool, error) { return k.TakeRuntime(ctx, where, c.String("digest")) }
	if v := c.String("for"); v != "" {
		take = func() (*freshkeel.FoundRuntime, bool, error) {
			return k.TakeRuntimeFor(ctx, freshkeel.Want{Version: v})
		}
	}
	rt, there, err := take()
	if err != nil {
		return err
	}
	return p.result(map[string]any{"runtime": rt, "there_already": there}, func() {
		word := "TAKEN IN"
		if there {
			word = "TAKEN IN BEFORE"
		}
		p.view.outcome(good, word, "Java "+rt.Version)
		p.view.fact("where", rt.Home)
		p.view.fact(
			"next",
			"freshkeel preflight: where a build needs it, the launch script's line is changed to run it",
		)
	})
}

func (p *program) runtimeDrop(ctx context.Context, c *cli.Command) error {
	if c.NArg() != 1 {
		return &freshkeel.Usage{What: "which runtime?", Do: "freshkeel runtimes"}
	}
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	at, err := k.DropRuntime(c.Args().First(), c.Bool("anyway"))
	if err != nil {
		return err
	}
	return p.result(map[string]any{"dropped": at}, func() { p.view.outcome(good, "DROPPED", at) })
}

func (p *program) start(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		return p.result(map[string]any{"would_run": k.StartedBy()},
			func() { p.view.outcome(calm, "WOULD START", k.StartedBy()+" in "+k.Dir) })
	}
	return startUp(ctx, p, k, c.Bool("learn"), c.Bool("take-over"))
}

// exchangeEarly writes a better ready line in the place of one of ours that came while the server was loading, and gives
// what else is proposed.
func exchangeEarly(p *program, k *freshkeel.Keel, v *freshkeel.Verdict, seen []freshkeel.Proposal) (rest []freshkeel.Proposal) {
	for _, one := range seen {
		if one.Key != "ready.line" {
			rest = append(rest, one)
			continue
		}
		if err := k.Lessons.Accept([]freshkeel.Proposal{one}); err != nil {
			p.view.noteLine("the ready line could not be exchanged: " + err.Error())
			return seen
		}
		p.view.noteLine(fmt.Sprintf("the ready line %s came too early: it was exchanged for %s (%s)", freshkeel.Quote(v.Early),
			one.Shown(), one.From))
	}
	return rest
}

// startUp starts the server, and tells what that showed.
func startUp(ctx context.Context, p *program, k *freshkeel.Keel, learn, takeOver bool) error {
	if takeOver {
		if err := k.TakeOver(ctx); err != nil {
			return err
		}
	}
	v, err := k.Start(ctx)
	if learn && errors.As(err, new(*freshkeel.AlreadyRunning)) { // it has shown what there is to learn
		p.view.noteLine(err.Error())
		seen, err := k.Lessons.Propose()
		if err != nil {
			return err
		}
		if p.json {
			return errors.Join(k.Lessons.Accept(seen), p.result(startJSON{nil, nonNil(seen), true}, nil))
		}
		return lessonCommands{p}.learned(k, seen, true)
	}
	if err != nil {
		return err
	}
	if !v.Up {
		if p.json {
			p.result(v, nil)
			return cli.Exit("", exitFailed)
		}
		p.view.end()
		p.view.outcome(bad, "NOT UP", k.Profile.Server.Name+" did not come up, and was stopped again")
		p.view.verdict(v)
		p.view.fact("or", k.WorldOffer())
		p.view.fact("more", "freshkeel log")
		return cli.Exit("", exitFailed)
	}
	seen, err := k.Lessons.Propose()
	if err != nil {
		p.view.noteLine("what the server shows could not be looked at: " + err.Error())
	}
	if p.json && learn {
		if err := k.Lessons.Accept(seen); err != nil {
			return err
		}
	} else if v.Early != "" { // a rule of ours is exchanged without being asked for
		seen = exchangeEarly(p, k, v, seen)
	}
	if err := p.result(startJSON{v, nonNil(seen), learn}, func() {
		p.view.outcome(good, "UP", fmt.Sprintf("%s is ready after %s", k.Profile.Server.Name, freshkeel.Age(v.Took)))
		p.view.verdict(v)
	}); err != nil || p.json {
		return err
	}
	return lessonCommands{p}.learned(k, seen, learn)
}

// startJSON is the result of a start.
type startJSON struct {
	*freshkeel.Verdict
	Seen    []freshkeel.Proposal `json:"seen"` // what may be learned by it
	Learned bool                 `json:"learned"`
}

func (p *program) stop(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		s := k.Profile.Stop
		order := map[string]any{"tell": s.Tell, "notice_ns": s.Notice, "send": s.Send, "wait_ns": s.Wait,
			"terminate_ns": s.Terminate, "kill": s.MayKill()}
		return p.result(order, func() {
			p.view.outcome(calm, "WOULD STOP",
				fmt.Sprintf("send %q, wait %s, terminate signal, wait %s, kill: %v", s.Send, s.Wait, s.Terminate,
					s.MayKill()))
		})
	}
	exit, took, err := k.Stop(ctx)
	if err != nil {
		return err
	}
	return p.result(map[string]any{"exit": exit}, func() {
		if exit == nil {
			p.view.outcome(good, "STOPPED", "it was not running")
			return
		}
		p.view.outcome(good, "STOPPED",
			fmt.Sprintf("%s ended after %s (%s)", k.Profile.Server.Name, freshkeel.Age(took), exit.Status))
		if lost := exit.Lost(); lost != "" {
			p.view.fact("mind", lost)
		}
	})
}

// restart stops the server and starts it again. One that is down is started, which is told.
func restart(ctx context.Context, p *program, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		return p.result(map[string]any{"would_run": k.StartedBy(), "would_stop": true}, func() {
			p.view.outcome(calm, "WOULD RESTART", fmt.Sprintf("send %q, then start %s in %s", k.Profile.Stop.Send,
				k.StartedBy(), k.Dir))
		})
	}
	exit, took, err := k.Stop(ctx)
	if err != nil {
		return err
	}
	if exit == nil {
		p.view.noteLine("it was not running: it is started")
	} else {
		p.view.noteLine(fmt.Sprintf("it ended after %s (%s)", freshkeel.Age(took), exit.Status))
	}
	return startUp(ctx, p, k, false, false)
}

// status tells how things stand; its exit code is the answer for scripts.
func (p *program) status(ctx context.Context, _ *cli.Command) error {
	var s *freshkeel.Status
	k, err := p.glance(ctx)
	switch {
	case err == nil:
		s, err = k.Status()
	case p.dir != "" && freshkeel.IsStranger(p.dir):
		seen, gerr := freshkeel.Glimpse(p.dir)
		if gerr != nil {
			return errors.Join(err, gerr)
		}
		p.view.noteLine("another user's server: told is what anybody may see")
		s, err = seen, nil
	}
	if err != nil {
		return err
	}
	if err := p.result(s, func() { p.view.status(s) }); err != nil {
		return err
	}
	code := map[freshkeel.State]int{freshkeel.Down: exitDown, freshkeel.Stopping: exitBetween,
		freshkeel.Changing: exitBetween, freshkeel.Unsettled: exitHands}[s.State]
	if code != exitDone {
		return cli.Exit("", code)
	}
	return nil
}

func (p *program) send(ctx context.Context, c *cli.Command) error {
	k, err := p.glance(ctx)
	if err != nil {
		return err
	}
	// Every word is the server's, but for ours in front.
	words, dry := c.Args().Slice(), false
	if len(words) == 1 && (words[0] == "--help" || words[0] == "-h") {
		return cli.ShowSubcommandHelp(c)
	}
	if len(words) > 0 && words[0] == "--dry-run" {
		words, dry = words[1:], true
	}
	if len(words) > 0 && words[0] == "--" {
		words = words[1:]
	}
	line := strings.Join(words, " ")
	if line == "" {
		return &freshkeel.Usage{What: "which line?", Do: "freshkeel send LINE"}
	}
	if dry {
		return p.result(map[string]any{"would_send": line}, func() { p.view.outcome(calm, "WOULD SEND", line) })
	}
	if err := k.Send(line); err != nil {
		return &freshkeel.Advised{Err: err, Do: "freshkeel status"}
	}
	return p.result(map[string]any{"sent": line}, func() {})
}

func (p *program) log(ctx context.Context, c *cli.Command) error {
	k, err := p.glance(ctx)
	if err != nil {
		return err
	}
	p.view.end()
	each := func(l string) { fmt.Fprintln(p.out, l) }
	if p.json {
		enc := json.NewEncoder(p.out)
		enc.SetEscapeHTML(false)
		each = func(l string) { enc.Encode(map[string]string{"event": "console", "text": l}) }
	}
	return k.Log(ctx, c.Int("n"), c.Bool("f"), each)
}

func (p *program) logbook(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	if id := c.Args().First(); id != "" {
		e, err := k.LogbookEntry(id)
		if err != nil {
			return &freshkeel.Advised{Err: err, Do: "freshkeel logbook"}
		}
		return p.result(e, func() { p.view.entry(e, k.RunDir(id)) })
	}
	all, err := k.Logbook()
	if err != nil {
		return err
	}
	return p.result(map[string]any{"entries": nonNil(all)}, func() { p.view.logbook(all, k.Profile.Server.Name) })
}

// nonNil has an empty list print as [] and not as null.
func nonNil[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func (p *program) run(ctx context.Context, c *cli.Command) error {
	k, err := p.change(ctx, c)
	if err != nil {
		return err
	}
	if err := freshkeel.HearTyped(); err != nil { // where this is not root any more
		return err
	}
	p.view.quiet = true // the server's lines alone
	err = k.Run(ctx, os.Stdin, func(l string) { fmt.Fprintln(p.out, freshkeel.Printable(l)) })
	p.view.quiet = false
	return err
}

func (p *program) afterCrash(ctx context.Context, c *cli.Command) error {
	k, err := p.open()
	if err != nil {
		return err
	}
	return k.AfterCrash(ctx, c.Args().First())
}

func (p *program) unit(ctx context.Context, c *cli.Command) error {
	k, err := p.glance(ctx)
	if err != nil {
		return err
	}
	if c.Bool("rights") && (c.Bool("user") || c.String("write") != "") {
		return &freshkeel.Usage{What: "--rights prints a rule of sudo's, and no unit", Do: "freshkeel unit --rights, alone"}
	}
	if c.Bool("rights") {
		at, text, err := k.Rights()
		if err != nil {
			return err
		}
		return p.result(map[string]any{"name": at, "text": text}, func() {
			fmt.Fprint(p.out, text)
			p.view.noteLine("put it at " + at + " (sudo visudo -f " + at + "); then: freshkeel profile set host.rights sudo")
		})
	}
	name, text := k.BootUnit(c.Bool("user"))
	at := c.String("write")
	if at != "" {
		if err := p.intoTarget(at, true); err != nil {
			return err
		}
		f, err := os.OpenFile(at, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if err != nil && p.became != nil {
			return &freshkeel.Advised{Err: fmt.Errorf("%w: this is not root any more, as the install is another user's", err),
				Do: fmt.Sprintf("freshkeel -d %s unit > %s (your shell writes it)", freshkeel.Shell(k.Dir),
					freshkeel.Shell(at))}
		}
		if err != nil {
			return err
		}
		if _, err := f.WriteString(text); err != nil {
			return err
		}
		if err := f.Close(); err != nil {
			return err
		}
	}
	return p.result(map[string]any{"name": name, "text": text}, func() {
		if at == "" {
			fmt.Fprint(p.out, text)
			return
		}
		manager, where := "sudo systemctl", "/etc/systemd/system/"
		if c.Bool("user") {
			manager, where = "systemctl --user", "~/.config/systemd/user/"
		}
		p.view.outcome(good, "WRITTEN", at)
		p.view.fact(
			"next",
			fmt.Sprintf("put it at %s%s; then: %s daemon-reload; %s enable --now %s", where, name, manager,
				manager, name),
		)
	})
}
