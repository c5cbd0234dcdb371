package lessons

import (
	"fmt"
	"slices"
	"strings"

	"freshkeel/internal/host"
	"freshkeel/internal/learn"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/watch"
	"freshkeel/internal/words"
)

// Remark is one thing worth minding in a profile that reads well.
type Remark struct {
	Key  string `json:"key"`
	What string `json:"what"`
	Do   string `json:"do"`
}

// Value is a key of the profile as it is written there; "" where it is not.
func (b *Book) Value(key string) string {
	text, _, err := b.text()
	if err != nil {
		return ""
	}
	v, _, _ := text.Value(key)
	return v
}

// Check tells what is worth minding in the profile: patterns that match nothing, rules that no
// good start has borne out, names of files that are not there.
func (b *Book) Check() (out []Remark) {
	p := b.Profile
	add := func(key, do, format string, a ...any) { out = append(out, Remark{key, fmt.Sprintf(format, a...), do}) }
	list, err := tree.Walk(b.Dir, nil)
	if err == nil {
		for key, pats := range map[string]tree.Patterns{"server.keep": p.Server.Keep, "server.settings": p.Server.Settings} {
			for _, pat := range pats {
				if !slices.ContainsFunc(list, func(e tree.Entry) bool {
					return (tree.Patterns{pat}).Match(e.Path) ||
						e.Kind == tree.Dir && (tree.Patterns{pat}).Match(e.Path+"/x")
				}) {
					add(
						key,
						"correct it, or: freshkeel -d "+words.Shell(b.Dir)+" profile set --drop "+key+" "+
							words.Quote(pat),
						"%s matches no file of the install",
						words.Quote(pat),
					)
				}
			}
		}
		slices.SortFunc(out, func(x, y Remark) int { return strings.Compare(x.Key+x.What, y.Key+y.What) })
	}
	for _, at := range p.PeopleAsSettings(list, func(at string) ([]byte, error) { return tree.ReadUpTo(b.Path(at), 1<<20) }) {
		add("server.settings", "freshkeel profile set --add server.keep "+words.Shell(at),
			"%s is a list of people: as settings, a rollback brings yesterday's list back", at)
	}
	minded := len(p.Parts) == 0 && (p.Host.Kind == "" || p.Host.Kind == profile.ByMinder)
	if p.Launch.Script == "" && minded {
		add(
			"launch.script",
			"freshkeel -d "+words.Shell(b.Dir)+" profile set launch.script NAME",
			"no launch script is named: the server can't be started",
		)
	}
	for _, at := range p.Scripts() {
		if !b.Exists(at) {
			add("launch.script", "correct the name", "%s is not there", at)
		}
	}
	for from, to := range p.Place {
		if !b.Exists(to) {
			add("place", "correct the name", "%s is not there, which %s is to become", to, words.Quote(from))
		}
	}
	seen := learn.ReadSeen(b.State(learn.FileName))
	start := "freshkeel -d " + words.Shell(b.Dir) + " start; then read what it says"
	for key, pats := range map[string]profile.Patterns{watch.KeyLine: p.Ready.Line, watch.KeyVersion: p.Ready.Version} {
		for _, one := range pats {
			if !seen.Bears(key, one.String()) {
				add(
					key,
					start,
					"no good start has borne out %s: until one does, it only warns",
					words.Quote(one.String()),
				)
			}
		}
	}
	for _, q := range p.Ready.Held() {
		if !seen.Bears(watch.KeyPort, q.String()) {
			add("ready.ports", start, "no good start has held %s: until one does, it only warns", q)
		}
	}
	if minded && p.Stop.Send == "" && len(p.Stop.Try) == 0 && (seen.Stop == nil || !seen.Stop.Signals) {
		add("stop.send", "freshkeel -d "+words.Shell(b.Dir)+" profile set stop.send LINE; or stop.try with those "+
			"worth trying",
			"no line is given that ends the server: it is ended by a signal")
	}
	if host.HasModes && (strings.HasSuffix(p.Launch.Script, ".bat") || strings.HasSuffix(p.Launch.Script, ".cmd")) {
		add("launch.script", "name the shell script of this server", "%s is a script for Windows", p.Launch.Script)
	}
	return out
}
