package main

import (
	"context"
	"fmt"
	"strings"

	"freshkeel"

	"github.com/urfave/cli/v3"
)

// lay is the command for a server from nothing.
func (p lessonCommands) lay() *cli.Command {
	return &cli.Command{Name: "lay", Usage: "a new server: a build laid out in a new folder, adopted, started once",
		ArgsUsage: "DIR [VERSION]", Action: p.laid, Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "source",
				Usage: "where builds come from: `PATH|URL` of a feed, page, JSON, folder or archives",
			},
			&cli.StringFlag{Name: "like", Usage: "with profile, settings and version of the install at `OTHER`"},
			&cli.BoolFlag{Name: "world", Usage: "of --like: its world too"},
			&cli.StringFlag{Name: "at", Usage: "of --like: all of it, as it was in `BACKUP`"},
			&cli.StringSliceFlag{Name: "port", Usage: "of --like: `OLD=NEW` in profile, settings and script"},
			&cli.StringFlag{Name: "name", Usage: "the server's `NAME` (default: the folder's)"},
			&cli.StringSliceFlag{Name: "consent", Usage: "give the consent that the makers ask for in `FILE`"},
			&cli.BoolFlag{Name: "no-start", Usage: "lay it out, and start nothing"},
			dryRun()}}
}

// layOrder reads the command's words.
func layOrder(c *cli.Command) (r freshkeel.LayOrder, err error) {
	args := c.Args().Slice()
	r = freshkeel.LayOrder{
		Source: c.String("source"),
		Name:   c.String("name"),
		Like:   c.String("like"),
		World:  c.Bool("world"),
		At:     c.String("at"),
		Ports:  map[string]string{},
	}
	switch {
	case len(args) == 0:
		return r, &freshkeel.Usage{What: "which folder?", Do: "freshkeel lay DIR --source PLACE"}
	case len(args) > 2:
		return r, &freshkeel.Usage{What: fmt.Sprintf("a word too many: %q", args[2]), Do: "freshkeel lay DIR [VERSION]"}
	case r.Source == "" && r.Like == "":
		return r, &freshkeel.Usage{
			What: "where does its build come from?",
			Do:   "freshkeel lay " + args[0] + " --source PLACE, or --like OTHER",
		}
	case r.Like == "" && (r.World || r.At != "" || len(c.StringSlice("port")) > 0):
		return r, &freshkeel.Usage{
			What: "--world, --at and --port are of another install",
			Do:   "name it with --like OTHER",
		}
	}
	if r.Dir = args[0]; len(args) == 2 {
		r.Version = args[1]
	}
	for _, pair := range c.StringSlice("port") {
		from, to, ok := strings.Cut(pair, "=")
		if !ok {
			return r, &freshkeel.Usage{
				What: fmt.Sprintf("%q does not say which port is to be which", pair),
				Do:   "--port 27750=27760",
			}
		}
		r.Ports[from] = to
	}
	return r, nil
}

func (p lessonCommands) laid(ctx context.Context, c *cli.Command) error {
	r, err := layOrder(c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		return p.result(r, func() { p.view.outcome(calm, "WOULD LAY", r.Dir) })
	}
	if r.Like != "" {
		if err := p.asOwner(r.Like); err != nil {
			return err
		}
	}
	if err := p.intoTarget(r.Dir, r.Like != ""); err != nil {
		return err
	}
	o, err := p.options()
	if err != nil {
		return err
	}
	p.seeThrough()
	l, err := freshkeel.LayServer(ctx, r, o)
	if err != nil {
		return err
	}
	if p.json {
		return p.result(l, nil)
	}
	p.result(l, func() {
		p.view.outcome(
			good,
			"LAID",
			fmt.Sprintf("%s: %s, %s, %s", l.Dir, l.Version, count(l.Files, "file"), freshkeel.Bytes(l.Bytes)),
		)
		p.view.fact("script", l.Script)
		for _, line := range l.Left {
			p.view.fact("left", line+" (nothing there says that it is a port)")
		}
		for _, line := range l.Changed {
			p.view.fact("port", line)
		}
		for _, n := range l.Notes {
			p.view.fact("note", n)
		}
	})
	if c.Bool("no-start") || l.Script == "" {
		p.view.fact("next", "freshkeel -d "+freshkeel.Shell(l.Dir)+" start --learn")
		return nil
	}
	return p.startOnce(ctx, c, l, o)
}

// startOnce starts what was laid, shows the consents that it asks for, and what it shows of itself.
func (p lessonCommands) startOnce(
	ctx context.Context,
	c *cli.Command,
	l *freshkeel.NewServer,
	o freshkeel.Options,
) error {
	k, err := freshkeel.Open(l.Dir, o)
	if err != nil {
		return err
	}
	note, lack, err := k.FitRuntime(ctx)
	switch {
	case err != nil:
		return err
	case lack != "":
		p.view.outcome(minded, "NOT STARTED", lack)
		p.view.fact("next", "freshkeel -d "+freshkeel.Shell(l.Dir)+" runtimes; then: freshkeel -d "+
			freshkeel.Shell(l.Dir)+" start --learn")
		return cli.Exit("", exitFailed)
	case note != "":
		p.view.fact("runtime", note)
	}
	v, err := k.Start(ctx)
	if err != nil {
		return err
	}
	open, given, err := k.OpenConsents(c.StringSlice("consent"))
	if err != nil {
		return err
	}
	if !v.Up && len(given) > 0 {
		p.view.noteLine("agreed, as accepted: " + strings.Join(given, ", ") + "; it is started once more")
		if v, err = k.Start(ctx); err != nil {
			return err
		}
	}
	p.view.end()
	switch {
	case !v.Up && len(open) > 0:
		p.view.outcome(minded, "ASKS", k.Profile.Server.Name+" wants a consent before it starts")
		for _, one := range open {
			for _, line := range one.Asks {
				p.view.fact("", line)
			}
			p.view.fact("asks", fmt.Sprintf("%s, line %d: %s", one.Path, one.Line, one.Says))
		}
		p.view.fact(
			"next",
			"read it; if you agree, put "+open[0].Yes+" there, and: freshkeel -d "+freshkeel.Shell(l.Dir)+" start "+
				"--learn",
		)
		return cli.Exit("", exitFailed)
	case !v.Up:
		p.view.outcome(
			bad,
			"NOT UP",
			k.Profile.Server.Name+" did not come up, and was stopped again; what was laid stays",
		)
		p.view.verdict(v)
		p.view.fact("more", "freshkeel -d "+freshkeel.Shell(l.Dir)+" log")
		return cli.Exit("", exitFailed)
	}
	p.view.outcome(good, "UP", fmt.Sprintf("%s is ready after %s", k.Profile.Server.Name, freshkeel.Age(v.Took)))
	p.view.verdict(v)
	seen, err := k.Lessons.Propose()
	if err != nil {
		return err
	}
	// The profile was written a moment ago, and is by hand only where it is another's.
	if err := p.learned(k, seen, c.String("like") == ""); err != nil {
		return err
	}
	p.view.fact("next", "freshkeel -d "+freshkeel.Shell(l.Dir)+" status")
	return nil
}
