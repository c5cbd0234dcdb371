package main

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"freshkeel"

	"github.com/urfave/cli/v3"
)

// completeLimit is how long a completion may take: whoever presses a key waits for it.
const completeLimit = 2 * time.Second

// completions are what the words of commands may be, by the command's path.
func (p *program) completions() map[string]func(context.Context, *freshkeel.Keel) []string {
	return map[string]func(context.Context, *freshkeel.Keel) []string{
		"fetch": offered, "preflight": offered, "refit": offered, "runtimes": offered,
		"rollback": refits, "logbook": refits,
		"builds drop": keptBuilds, "compare": sides,
		"backup show": backupsOf, "backup check": backupsOf, "backup export": backupsOf, "backup restore": backupsOf,
		"profile set": keys, "profile forget": learnedKeys,
	}
}

func offered(ctx context.Context, k *freshkeel.Keel) (out []string) {
	offers, err := k.Builds(ctx)
	if err != nil || len(offers) == 0 {
		return nil
	}
	for _, b := range offers[0].Builds {
		out = append(out, b.Version)
	}
	return out
}

func keptBuilds(_ context.Context, k *freshkeel.Keel) (out []string) {
	h, err := k.Keeper.List()
	if err != nil {
		return nil
	}
	for _, b := range h.Builds {
		out = append(out, b.Version)
	}
	return out
}

// sides are what compare may be asked for besides paths.
func sides(ctx context.Context, k *freshkeel.Keel) []string {
	return slices.Concat([]string{"now"}, backupsOf(ctx, k), refits(ctx, k), keptBuilds(ctx, k))
}

func refits(_ context.Context, k *freshkeel.Keel) (out []string) {
	all, err := k.Logbook()
	if err != nil {
		return nil
	}
	for _, e := range all {
		out = append(out, e.ID)
	}
	return out
}

func backupsOf(_ context.Context, k *freshkeel.Keel) (out []string) {
	all, err := k.Shelf().List()
	if err != nil {
		return nil
	}
	for _, b := range all {
		out = append(out, b.ID)
	}
	return out
}

func keys(context.Context, *freshkeel.Keel) []string { return freshkeel.ProfileKeys() }

func learnedKeys(_ context.Context, k *freshkeel.Keel) []string { return k.Lessons.Learned() }

// completeWords has the shell's completion offer what the words of each command may be:
// versions, backups, refits, checks.
func (p *program) completeWords(c *cli.Command, path string) {
	for _, sub := range c.Commands {
		p.completeWords(sub, strings.TrimSpace(path+" "+sub.Name))
	}
	offer := p.completions()[path]
	if offer == nil {
		return
	}
	c.ShellComplete = func(ctx context.Context, c *cli.Command) {
		last := ""
		if n := len(os.Args); n > 2 {
			last = os.Args[n-2] // the shell's own flag comes last
		}
		if last == "--accept" {
			for _, name := range freshkeel.AcceptableChecks() {
				fmt.Fprintln(c.Root().Writer, name)
			}
			return
		}
		if strings.HasPrefix(last, "-") {
			cli.DefaultCompleteWithFlags(ctx, c)
			return
		}
		if p.view == nil {
			p.view = newView(p)
		}
		p.view.quiet = true
		k, err := p.open()
		if err != nil {
			return
		}
		ctx, cancel := context.WithTimeout(ctx, completeLimit)
		defer cancel()
		for _, word := range offer(ctx, k) {
			fmt.Fprintln(c.Root().Writer, word)
		}
	}
}
