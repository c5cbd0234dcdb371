package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
)

// lessonCommands are those that make the profile better: by what was seen, and by hand.
type lessonCommands struct{ *program }

func (p lessonCommands) profile() *cli.Command {
	return &cli.Command{Name: "profile", Usage: "look at the profile, and edit one key of it in place",
		Commands: []*cli.Command{
			{Name: "check", Usage: "read the profile, and tell what is wrong or unproven in it", Action: p.check},
			{Name: "set", Usage: "set a key, several values making a list; or several keys at once: KEY=VALUE…",
				ArgsUsage: "KEY VALUE…", Action: p.set,
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "add", Usage: "add to the list that is there"},
					&cli.BoolFlag{Name: "drop", Usage: "take from the list that is there"},
					&cli.BoolFlag{Name: "unset", Usage: "take the key out of the profile"}}},
			{Name: "forget", Usage: "take out again what was learned: of one key, or all of it", ArgsUsage: "[KEY]",
				Action: p.forget},
		}}
}

func (p lessonCommands) check(ctx context.Context, _ *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	found := k.Lessons.Check()
	return p.result(map[string]any{"findings": nonNil(found)}, func() {
		if len(found) == 0 {
			p.view.outcome(good, "FINE", k.Dir+"/freshkeel.toml")
			return
		}
		p.view.outcome(
			minded,
			"READS WELL",
			fmt.Sprintf("%s/freshkeel.toml; %s worth minding", k.Dir, count(len(found), "thing")),
		)
		for _, f := range found {
			p.view.fact("warn", f.Key+": "+f.What)
			p.view.fact("do", f.Do)
		}
	})
}

func (p lessonCommands) set(ctx context.Context, c *cli.Command) error {
	list, err := changesOf(c)
	if err != nil {
		return err
	}
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	if err := k.Lessons.Set(list...); err != nil {
		return err
	}
	now := map[string]string{}
	for _, ch := range list {
		now[ch.Key] = strings.Join(strings.Fields(k.Lessons.Value(ch.Key)), " ")
	}
	var vain []freshkeel.Remark // what was just set, and has no effect
	for _, r := range k.Lessons.Check() {
		if _, set := now[r.Key]; set {
			vain = append(vain, r)
		}
	}
	doc := map[string]any{"set": now, "remarks": nonNil(vain)}
	if len(list) == 1 {
		doc["key"], doc["value"] = list[0].Key, now[list[0].Key]
	}
	return p.result(doc, func() {
		for _, ch := range list {
			if ch.Unset {
				p.view.outcome(good, "UNSET", ch.Key)
				continue
			}
			p.view.outcome(good, "SET", ch.Key+" = "+now[ch.Key])
		}
		for _, r := range vain {
			p.view.fact("but", r.What)
			p.view.fact("do", r.Do)
		}
	})
}

// pair is a key and its value in one word, as several are set at once.
var pair = regexp.MustCompile(`^([a-z]+\.[a-z-]+(?:\.[^=]+)?)=(.*)$`)

// changesOf are the changes that were typed: one key with its values, or pairs of KEY=VALUE. A key that comes
// again makes a list.
func changesOf(c *cli.Command) ([]freshkeel.Change, error) {
	words := c.Args().Slice()
	ch := freshkeel.Change{Add: c.Bool("add"), Drop: c.Bool("drop"), Unset: c.Bool("unset")}
	if c.Bool("add") && c.Bool("drop") || ch.Unset && (ch.Add || ch.Drop) {
		return nil, &freshkeel.Usage{What: "--add, --drop and --unset say different things", Do: "one of them"}
	}
	if len(words) == 0 {
		return nil, &freshkeel.Usage{What: "which key?", Do: "freshkeel profile set KEY VALUE"}
	}
	if ch.Unset {
		var list []freshkeel.Change
		for _, key := range words {
			list = append(list, freshkeel.Change{Key: key, Unset: true})
		}
		return list, nil
	}
	if !pair.MatchString(words[0]) {
		if ch.Key, ch.Values = words[0], words[1:]; len(ch.Values) == 0 {
			return nil, &freshkeel.Usage{What: "what is " + ch.Key + " to be?",
				Do: "freshkeel profile set " + ch.Key + " VALUE; '' makes it empty, and --unset takes it out"}
		}
		return []freshkeel.Change{ch}, nil
	}
	var list []freshkeel.Change
	for _, word := range words {
		m := pair.FindStringSubmatch(word)
		if m == nil {
			return nil, &freshkeel.Usage{What: fmt.Sprintf("%q is no KEY=VALUE, as the words before it are", word),
				Do: "freshkeel profile set host.kind=service host.unit=pond.service"}
		}
		if i := slices.IndexFunc(list, func(ch freshkeel.Change) bool { return ch.Key == m[1] }); i >= 0 {
			list[i].Values = append(list[i].Values, m[2])
			continue
		}
		one := ch
		one.Key, one.Values = m[1], []string{m[2]}
		list = append(list, one)
	}
	return list, nil
}

func (p lessonCommands) forget(ctx context.Context, c *cli.Command) error {
	k, err := p.look(ctx)
	if err != nil {
		return err
	}
	gone, stays, err := k.Lessons.Forget(c.Args().First())
	if err != nil {
		return err
	}
	return p.result(map[string]any{"forgotten": nonNil(gone), "edited_since": nonNil(stays)}, func() {
		p.view.outcome(good, "FORGOTTEN", count(len(gone), "lesson"))
		for _, g := range gone {
			p.view.fact("", g)
		}
		if len(stays) > 0 {
			p.view.fact("stays", strings.Join(stays, ", ")+": edited by hand since")
		}
	})
}

// complete completes a profile that was there: what was found is proposed, and what was named
// is written.
func (p lessonCommands) complete(ctx context.Context, c *cli.Command, a *freshkeel.Adopted, o freshkeel.Options) error {
	k, err := freshkeel.Open(a.Dir, o)
	if err != nil {
		return err
	}
	seen, err := k.Lessons.Propose()
	if err != nil {
		return err
	}
	a.Proposed = freshkeel.MergedProposals(seen, a.Proposed)
	var given []freshkeel.Proposal
	for _, l := range a.Proposed {
		if c.String("source") != "" && strings.HasPrefix(l.Key, "source.") || c.Bool("learn") {
			given = append(given, l)
		}
	}
	if p.json {
		if err := k.Lessons.Accept(given); err != nil {
			return err
		}
		return p.result(a, nil)
	}
	p.result(a, func() { p.view.adopted(a, false) })
	rest := slices.DeleteFunc(
		slices.Clone(a.Proposed),
		func(l freshkeel.Proposal) bool { return slices.Contains(given, l) },
	)
	if len(given) > 0 || c.Bool("learn") {
		if err := p.learned(k, given, true); err != nil {
			return err
		}
		if c.String("source") != "" && !c.Bool("no-try") {
			p.tryOut(ctx, k)
		}
	}
	if len(rest) > 0 {
		return p.learned(k, rest, false)
	}
	p.view.fact("next", "freshkeel -d "+freshkeel.Shell(a.Dir)+" preflight")
	return nil
}

// tryLimit is how long a source that was just named may take to be tried.
const tryLimit = 2 * time.Minute

// tryOut tries a source that was just named: what it offers, and what its newest build would
// change here. It changes nothing.
func (p lessonCommands) tryOut(ctx context.Context, k *freshkeel.Keel) {
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	offers, err := k.Builds(ctx)
	if err != nil || len(offers) == 0 || len(offers[0].Builds) == 0 {
		if err == nil {
			err = errors.New("it offers no build")
		}
		p.view.fact("source", "tried, and "+err.Error())
		return
	}
	builds := offers[0].Builds
	offered := fmt.Sprintf("it offers %s", count(len(builds), "build"))
	newest := ""
	for _, b := range builds {
		if b.InChannel {
			newest = b.Version
		}
	}
	if newest == "" {
		p.view.fact("source", offered+", and none of the channel")
		return
	}
	pre, err := k.Preflight(ctx, freshkeel.Want{Version: newest})
	if err != nil {
		p.view.fact(
			"source",
			fmt.Sprintf("%s, the newest %s; what that would change was not found out: %v", offered, newest, err),
		)
		return
	}
	replaced, added, removed := pre.Plan.Changes()
	if replaced+added+removed == 0 {
		p.view.fact("source", fmt.Sprintf("%s; the newest, %s, is what is installed", offered, newest))
		return
	}
	p.view.fact("source", fmt.Sprintf("%s; the newest, %s, would replace %s, add %d and remove %d", offered, newest,
		count(replaced, "file"), added, removed))
	for i, s := range pre.Stops() {
		if i == 3 {
			p.view.fact("", fmt.Sprintf("and %d more: freshkeel -d %s preflight", len(pre.Stops())-i,
				freshkeel.Shell(k.Dir)))
			break
		}
		p.view.fact("", "it would be stopped: "+s.What)
		p.view.fact("", "do: "+s.Do)
	}
}

// release gives an install back.
func (p lessonCommands) release(ctx context.Context, c *cli.Command, dir string, o freshkeel.Options) error {
	r := freshkeel.Release{Dir: dir, KeepProfile: c.Bool("keep-profile"), KeepBackups: c.Bool("keep-backups"),
		DropBackups: c.Bool("drop-backups"), DryRun: c.Bool("dry-run")}
	if !c.Bool("yes") {
		r.Sure = p.sure
	}
	out, err := freshkeel.ReleaseInstall(ctx, r, o)
	if err != nil {
		return err
	}
	return p.result(out, func() {
		word := "RELEASED"
		if r.DryRun {
			word = "WOULD RELEASE"
		}
		p.view.outcome(good, word, out.Dir)
		p.view.fact("removed", strings.Join(out.Removed, ", "))
		if out.Backups > 0 {
			p.view.fact("dropped", count(out.Backups, "backup"))
		}
		for _, l := range out.Lost {
			p.view.fact("lost", l)
		}
		for _, s := range out.Stays {
			p.view.fact("stays", s)
		}
	})
}

// sure asks before something is lost. Where nobody can be asked, it is not.
func (p *program) sure(lost []string) bool {
	for _, l := range lost {
		p.view.noteLine("this would be lost: " + l)
	}
	if !p.asks() {
		p.view.noteLine("nobody can be asked here: --yes says that it may be")
		return false
	}
	return isYes(p.ask(asking{Key: "go on"}))
}

// asks tells whether there is a person to ask: at a terminal on both sides.
func (p *program) asks() bool {
	if p.became != nil {
		return p.became.Asks && p.view.live
	}
	return p.view.live && term.IsTerminal(int(os.Stdin.Fd()))
}

// asking is a question in its fields. Its words are made where it is drawn, which in a command that
// root began is the process that stays root: no text of others becomes a question.
type asking struct {
	Key string `json:"key"`
	Of  string `json:"of,omitempty"` // of server.keep: the pattern
	N   int    `json:"n,omitempty"`  // of learn: how many lines
}

// text is the question in words.
func (a asking) text() string {
	switch a.Key {
	case "server.keep":
		of := []rune(freshkeel.Printable(a.Of))
		return fmt.Sprintf("is %s yours, so that no build ever replaces it? [y/N]", string(of[:min(len(of), 200)]))
	case "take over":
		return "it runs already: stop it, and start it under Fresh Keel? [y/N]"
	case "data":
		return "load the data back, too? [y/N]"
	case "version":
		return "which version is installed? (empty: it is read when the server starts)"
	case "source":
		return "where do builds come from? (a path or an address; empty: later, or --from)"
	case "learn":
		return fmt.Sprintf("write %s into the profile? [y/N]", lines(a.N))
	}
	return "go on? [y/N]"
}

// ask puts a question to the person at the terminal, and returns the answer; "" is none.
func (p *program) ask(a asking) string {
	p.view.end()
	if p.became != nil {
		said, err := freshkeel.AskPerson(a, said.Load())
		if err != nil {
			p.view.warnLine("the question could not be asked: " + err.Error())
		}
		return said
	}
	p.draw(a)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil {
		fmt.Fprintln(p.err)
	}
	return strings.TrimSpace(line)
}

func (p *program) draw(a asking) { fmt.Fprint(p.err, p.view.paint(strong, a.text())+" ") }

// question puts one of the core's questions, with what it is asked for.
func (p *program) question(q freshkeel.Question) string {
	for _, row := range wrap("why: "+q.Why, p.view.width) {
		fmt.Fprintln(p.err, p.view.paint(dim, row))
	}
	return p.ask(asking{Key: q.Key, Of: q.Of})
}

func isYes(answer string) bool {
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}

// learned shows what may be written into the profile, and writes it where somebody says so:
// learn is that of a command line; a person at the terminal is asked.
func (p lessonCommands) learned(k *freshkeel.Keel, list []freshkeel.Proposal, learn bool) error {
	defer func() { // what only a person can tell comes last
		if !learn {
			return
		}
		for _, a := range k.Lessons.Away() {
			p.view.fact("outside", "the server writes in "+a.Folder+", which no backup holds ("+filepath.Base(a.File)+")")
			p.view.fact("", "is it this server's alone? freshkeel profile set elsewhere."+a.Name+" "+freshkeel.Shell(a.Folder))
		}
	}()
	if len(list) == 0 {
		if learn {
			p.view.fact("learned", "nothing new: the profile has it all")
		}
		return nil
	}
	var rows [][]string
	for _, l := range list {
		rows = append(rows, []string{l.Key, p.view.clip(l.Shown(), 44), string(l.Sure), l.From})
	}
	fmt.Fprintln(p.out)
	p.view.table([]string{"seen", "value", "", "by"}, rows, func(row, col int) string {
		if col == 2 && list[row].Sure != "sure" {
			return minded
		}
		return ""
	})
	fmt.Fprintln(p.out)
	if !learn && p.asks() {
		answer := p.ask(asking{Key: "learn", N: len(list)})
		if learn = isYes(answer); !learn {
			p.view.fact("profile", "left as it is; later: freshkeel adopt "+freshkeel.Shell(k.Dir)+" --learn")
			return nil
		}
	}
	if !learn {
		p.view.fact("next", "freshkeel adopt "+freshkeel.Shell(k.Dir)+" --learn")
		p.view.fact("", "writes "+lines(len(list))+" into the profile; nothing of it is written now")
		return nil
	}
	more, err := k.Lessons.AskHelp()
	if err != nil {
		return err
	}
	list = freshkeel.MergedProposals(more, list)
	if err := k.Lessons.Accept(list); err != nil {
		return err
	}
	for _, l := range more {
		p.view.fact("asked", fmt.Sprintf("the console for its help, which names %s", l.Shown()))
	}
	p.view.fact(
		"learned",
		fmt.Sprintf("%s, in %s/freshkeel.toml; taken out again by: freshkeel profile forget", lines(len(list)), k.Dir),
	)
	return nil
}

func lines(n int) string {
	if n == 1 {
		return "this line"
	}
	return fmt.Sprintf("these %d lines", n)
}
