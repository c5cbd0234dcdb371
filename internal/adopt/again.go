package adopt

import (
	"cmp"
	"slices"
	"strings"

	"freshkeel/internal/learn"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// proposals are what would complete a profile that is there: keys that are empty, files that
// no pattern names, and the source that was given. What stands in it stays.
func (l *lookout) proposals(p *profile.Profile) (out []learn.Proposal) {
	add := func(key, value, from string, sure learn.Confidence) {
		if value != "''" && value != "[]" && value != "" {
			out = append(out, learn.Proposal{Key: key, Value: value, From: from, Sure: sure})
		}
	}
	if l.source != nil {
		source := profile.Text("[source]\n" + strings.Join(l.source.Text(words.Quote), "\n") + "\n")
		for _, key := range source.Keys() {
			value, _, _ := source.Value(key)
			add(key, value, "your word: "+l.source.From, learn.Sure)
		}
		if p.Source.Channel != l.channel {
			out = append(out, learn.Proposal{Key: "source.channel", Value: words.Quote(l.channel), Sure: learn.Sure,
				From: cmp.Or(l.from("source.channel"), "its builds have no channels that "+l.version+" is of")})
		}
	}
	if p.Launch.Script == "" && l.written == "" && len(p.Parts) == 0 &&
		(p.Host.Kind == "" || p.Host.Kind == profile.ByMinder) {
		add("launch.script", words.Quote(l.script), l.from("launch.script"), learn.Likely)
	}
	if !p.Ready.Line.Given() && l.ready[0] != "" {
		if p.Ready.Log == "" {
			add("ready.log", words.Quote(l.log[0]), l.log[1], learn.Likely)
		}
		add("ready.line", words.Quote(l.ready[0]), l.ready[1], learn.Maybe)
	}
	if !p.Ready.Version.Given() {
		add("ready.version", words.Quote(l.said[0]), l.said[1], learn.Maybe)
	}
	if len(p.Ready.Held()) == 0 && len(l.ports) > 0 {
		var all []string
		for _, q := range l.ports {
			all = append(all, q.String())
		}
		add("ready.ports", "["+quoted(all)+"]", strings.Join(l.portsFrom, "; "), learn.Likely)
	}
	if p.Stop.Send == "" && len(p.Stop.Try) == 0 {
		if l.stop[0] != "" {
			add("stop.send", words.Quote(l.stop[0]), l.stop[1], learn.Likely)
		}
	}
	for _, rule := range l.place {
		if _, there := p.Place[rule[0]]; !there && !slices.Contains(names(p.Place), rule[1]) {
			add("place."+rule[0], words.Quote(rule[1]), rule[2], learn.Sure)
		}
	}
	items := func(key string, list []found) {
		for _, f := range list {
			sample := strings.ReplaceAll(f.pattern, "**", "x")
			named := p.Server.Own(sample) || p.Server.Skip.Match(sample) || p.Server.Own(f.pattern) ||
				p.Server.Skip.Match(f.pattern)
			if !named && !slices.ContainsFunc(l.list, func(e tree.Entry) bool {
				return (tree.Patterns{f.pattern}).Match(e.Path) && (p.Server.Own(e.Path) || p.Server.Skip.Match(e.Path))
			}) {
				out = append(out, learn.Proposal{Key: key, Item: f.pattern, From: f.from, Sure: learn.Likely})
			}
		}
	}
	items("server.keep", l.keep)
	items("server.settings", l.settings)
	items("server.skip", l.skip)
	return out
}

func names(place map[string]string) (out []string) {
	for _, to := range place {
		out = append(out, to)
	}
	return out
}
