package main

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"freshkeel"

	"github.com/urfave/cli/v3"
)

// acting are the commands that act on the server, or on its files: none of them is ever guessed, as whoever is told
// of one at midnight types it.
var acting = []string{"start", "stop", "restart", "refit", "rollback", "recover", "run", "send", "restore", "drop",
	"thin"}

// answerMistakes has every command answer a mistyped option or word in one line, and
// name the nearest one that there is.
func answerMistakes(c *cli.Command, path string) {
	c.OnUsageError = func(_ context.Context, _ *cli.Command, err error, _ bool) error {
		return &freshkeel.Usage{What: mistake(err.Error(), c.Flags), Do: path + " --help"}
	}
	if c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if word := c.Args().First(); word != "" {
				what := fmt.Sprintf("there is no command %q", word)
				var names []string
				for _, sub := range c.Commands {
					if !slices.Contains(acting, sub.Name) {
						names = append(names, sub.Name)
					}
				}
				if near := freshkeel.Near(word, names); near != "" {
					what += "; did you mean " + near + "?"
				}
				return &freshkeel.Usage{What: what, Do: path + " --help"}
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	if act, most := c.Action, wordsOf(c.ArgsUsage); act != nil && most >= 0 && len(c.Commands) == 0 {
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if c.NArg() > most {
				return &freshkeel.Usage{What: fmt.Sprintf("a word too many: %q", c.Args().Get(most)),
					Do: strings.TrimSpace(path + " " + c.ArgsUsage)}
			}
			return act(ctx, c)
		}
	}
	if len(c.Commands) == 0 {
		c.HideHelpCommand = true // «send help» is a word for the server; --help is ours
	}
	for _, sub := range c.Commands {
		answerMistakes(sub, path+" "+sub.Name)
	}
}

var (
	wrongValue = regexp.MustCompile(`^invalid value "(.*)" for flag -(\S+): (.*)$`)
	unknown    = regexp.MustCompile(`^flag provided but not defined: -+(.+)$`)
	needsValue = regexp.MustCompile(`^flag needs an argument: -+(.+)$`)
)

// mistake says what is wrong with an option, in the words that were typed.
func mistake(said string, flags []cli.Flag) string {
	if m := wrongValue.FindStringSubmatch(said); m != nil {
		what := "is no value for it: " + m[3]
		switch {
		case strings.Contains(m[3], "ParseInt"), strings.Contains(m[3], "ParseUint"):
			what = "is no whole number"
		case strings.Contains(m[3], "duration"):
			what = "is no length of time: 90s and 2m are"
		case strings.Contains(m[3], "ParseBool"):
			what = "is neither true nor false"
		}
		return fmt.Sprintf("%s: %q %s", dashed(m[2]), m[1], what)
	}
	if m := unknown.FindStringSubmatch(said); m != nil {
		what := "there is no option " + dashed(m[1])
		var names []string
		for _, f := range flags {
			names = append(names, f.Names()...)
		}
		if near := freshkeel.Near(m[1], names); near != "" {
			what += "; did you mean " + dashed(near) + "?"
		}
		return what
	}
	if m := needsValue.FindStringSubmatch(said); m != nil {
		return dashed(m[1]) + " wants a value behind it"
	}
	return said
}

// dashed is an option as it is typed.
func dashed(name string) string {
	if len(name) == 1 {
		return "-" + name
	}
	return "--" + name
}

// wordsOf is how many words a command takes, by its usage; -1: any number.
func wordsOf(usage string) int {
	if strings.HasSuffix(usage, "…") {
		return -1
	}
	return len(strings.Fields(usage))
}

// helpOf shows the help of a command that is named by its words: help backup restore.
func helpOf(_ context.Context, c *cli.Command) error {
	at, path := c.Root(), "freshkeel"
	for _, word := range c.Args().Slice() {
		sub := at.Command(word)
		if sub == nil {
			return &freshkeel.Usage{What: fmt.Sprintf("%s has no command %q", path, word), Do: path + " --help"}
		}
		at, path = sub, path+" "+word
	}
	switch {
	case at == c.Root():
		return cli.ShowRootCommandHelp(at)
	case len(at.Commands) > 0:
		cli.HelpPrinter(c.Root().Writer, cli.SubcommandHelpTemplate, at)
	default:
		cli.HelpPrinter(c.Root().Writer, cli.CommandHelpTemplate, at)
	}
	return nil
}
