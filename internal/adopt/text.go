package adopt

import (
	"fmt"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strings"

	"freshkeel/internal/locker"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/words"
)

// writing writes what a look found.
type writing struct{ *lookout }

// profileText writes the profile: each guess with what it was guessed from.
func (l writing) profileText() string {
	var b strings.Builder
	w := func(format string, a ...any) { fmt.Fprintf(&b, format+"\n", a...) }
	l.serverText(&b, w)
	l.sourceText(w)
	l.elsewhereText(w)
	l.hostText(w)
	l.launchText(w)
	l.addonsText(w)
	w("")
	w("[stop]")
	l.stopText(&b, w)
	w("wait = '60s'        # for the stop line to work")
	w("terminate = '20s'   # then, for a terminate signal to this server's processes")
	w("kill = true         # then kill them; false: leave them and say so")
	l.readyText(&b, w)
	l.carryText(w)
	l.partsText(w)
	return b.String()
}

// partsText proposes the scripts beside the launch script as parts of the server, as comments: nothing tells which of
// them belongs to it, and in which order they start.
func (l writing) partsText(w func(string, ...any)) {
	if len(l.parts) == 0 {
		return
	}
	w("")
	w("# Scripts that start something else too. If the server has them as parts, take the signs off, give each its")
	w("# place in the order by after = ['NAME'], and take [launch] script out (docs/profile.md, [[part]]).")
	for _, p := range append([][2]string{{l.script, l.artifact}}, l.parts...) {
		name := strings.ToLower(strings.TrimSuffix(path.Base(p[1]), path.Ext(p[1])))
		w("# [[part]]")
		w("# name = %s", words.Quote(regexp.MustCompile(`[^a-z0-9-]+`).ReplaceAllString(name, "-")))
		w("# [part.launch]")
		w("# script = %s", words.Quote(p[0]))
	}
}

// mostCarried bounds how many files are named that a server may have written by itself.
const mostCarried = 6

// carryText writes which settings the known build does not ship: the server writes these at its
// first start.
func (l writing) carryText(w func(string, ...any)) {
	if !l.known || l.set == nil {
		return
	}
	n := 0
	for _, f := range l.settings {
		ships := func(at string) bool {
			return slices.ContainsFunc(l.set.Entries, func(e locker.File) bool { return strings.EqualFold(e.Path, at) })
		}
		if strings.ContainsAny(f.pattern, "*?[{") || !profile.SettingsByName(f.pattern) || f.pattern == l.script ||
			ships(f.pattern) || slices.ContainsFunc(plan.ExampleNames(f.pattern, ""), ships) || n == mostCarried {
			continue
		}
		n++
		w("")
		w("[[carry]]")
		w("# guessed from: the build does not ship it, so the server writes it at its first start; for its")
		w("# defaults each build is booted once in an empty folder apart, without network and world")
		w("file = %s", words.Quote(f.pattern))
		w("defaults = 'written'")
		l.guesses = append(l.guesses, Guess{"carry.file", f.pattern, "the build does not ship it"})
	}
}

// serverText writes the server's name, and whose its files are.
func (l writing) serverText(b *strings.Builder, w func(string, ...any)) {
	name := l.a.Name
	if name == "" {
		name = filepath.Base(l.dir)
	}
	w("# What Fresh Keel knows about this server. Written by adopt; yours to correct.")
	w("# A comment behind «guessed from» says what led to the line below it.")
	w("")
	w("[server]")
	w("name = %s", words.Quote(name))
	l.listKey(b, "keep", "Your own files: worlds, lists. No build replaces them, no rollback takes them back in time.",
		l.keep)
	l.listKey(b, "settings", "Yours too, but tied to the build: a rollback by hand puts them back with it.",
		l.settings)
	l.listKey(b, "skip", "Neither replaced nor backed up.", l.skip)
}

// sourceText writes where builds come from, and which of their files have another name here.
func (l writing) sourceText(w func(string, ...any)) {
	w("")
	w("[source]")
	switch {
	case l.source != nil:
		w("# guessed from: %s (docs/sources.md tells of every kind)", l.source.From)
		for _, line := range l.source.Text(words.Quote) {
			w("%s", line)
		}
	case l.a.Source != "":
		w("# The source that was named could not be read, so it is not followed yet: docs/sources.md tells of every " +
			"kind.")
		w("# feed = %s", words.Quote(l.a.Source))
		w("feed = ''")
	default:
		w("# Where builds come from: docs/sources.md tells of every kind. Without it, use --from.")
		w("feed = ''")
	}
	w("channel = %s   # only builds of this channel; '' takes any", words.Quote(l.channel))
	w("")
	w("[place]   # file in the build = name that the install uses")
	for _, p := range l.place {
		w("# guessed from: %s", p[2])
		w("%s = %s", words.Quote(p[0]), words.Quote(p[1]))
		l.guess("place", p[0]+" = "+p[1], p[2])
	}
}

// elsewhereText writes the folders that stand elsewhere, as the profile that was there had them.
func (l writing) elsewhereText(w func(string, ...any)) {
	e := l.k.Profile.Elsewhere
	if len(e) == 0 {
		return
	}
	w("")
	w("[elsewhere]   # name in the install = folder outside of it that belongs to this server alone")
	for _, name := range e.Names() {
		w("%s = %s", words.Quote(name), words.Quote(e[name]))
	}
}

// hostText writes what runs the server, where no minder is to.
func (l writing) hostText(w func(string, ...any)) {
	if l.unit == nil {
		l.commandsText(w)
		return
	}
	w("")
	w("[host]   # what runs the server: docs/hosts.md")
	w("# guessed from: %s", oneLine(l.unitFrom))
	w("unit = %s", words.Quote(l.unit.Name))
	if l.unit.User {
		w("user = true   # of the user's own manager")
	}
	l.consoleText(w)
	l.guess("host.unit", l.unit.Name, l.unitFrom)
}

// launchText writes how the server is started.
func (l writing) launchText(w func(string, ...any)) {
	w("")
	w("[launch]")
	w("# guessed from: %s", oneLine(l.from("launch.script")))
	w("script = %s", words.Quote(l.script))
	if len(l.args) > 0 {
		w("args = [%s]", quoted(l.args))
	}
	if len(l.others) > 0 {
		var all []string
		for _, c := range l.others {
			if c.File != l.script && c.File != l.artifact && (l.unit == nil || c.File != l.unit.Name) {
				all = append(all, c.File)
			}
		}
		if len(all) > 0 {
			slices.Sort(all)
			w("# others that run something of the install: %s", strings.Join(slices.Compact(all), ", "))
		}
	}
}

// readyText writes how it is told that the server is up.
func (l writing) readyText(b *strings.Builder, w func(string, ...any)) {
	w("")
	w("[ready]")
	w("# What no good start has proven only warns. freshkeel start --learn writes what the server shows.")
	if l.log[0] != "" {
		l.valueKey(b, "log", "ready.log", l.log, "")
	}
	l.valueKey(b, "line", "ready.line", l.ready, "a pattern of the console line that says players can join")
	l.valueKey(b, "version", "ready.version", l.said, "a pattern of the line that says the version, with it in (…)")
	w("# guessed from: words of the trade")
	w(
		"fail = ['^FATAL', '(?i)could not bind', 'OutOfMemoryError']   # any of these lines means that it did not come up",
	)
	w("within = '2m'       # for the ready line to come")
	w("steady = '5s'       # that it must then run on")
	l.portsText(w)
	w("strict = false      # true: a line that does not come means that it did not come up")
}

func (l writing) listKey(b *strings.Builder, key, what string, list []found) {
	fmt.Fprintf(b, "# %s\n", what)
	sort.SliceStable(list, func(i, j int) bool { return list[i].pattern < list[j].pattern })
	if len(list) == 0 {
		fmt.Fprintf(b, "%s = []\n", key)
		return
	}
	fmt.Fprintf(b, "%s = [\n", key)
	for _, f := range list {
		fmt.Fprintf(b, "  %s,   # guessed from: %s\n", words.Quote(f.pattern), oneLine(f.from))
		l.guesses = append(l.guesses, Guess{"server." + key, f.pattern, f.from})
	}
	b.WriteString("]\n")
}

func (l writing) valueKey(b *strings.Builder, key, full string, v [2]string, what string) {
	if v[0] == "" {
		fmt.Fprintf(b, "# not found; set it: %s\n%s = ''\n", what, key)
		l.guess(full, "", "not found")
		return
	}
	fmt.Fprintf(b, "# guessed from: %s\n%s = %s\n", oneLine(v[1]), key, words.Quote(v[0]))
	l.guess(full, v[0], v[1])
}

// oneLine is a comment that stays one.
func oneLine(s string) string { return words.Printable(strings.Join(strings.Fields(s), " ")) }

func quoted[T ~string](list []T) string {
	var all []string
	for _, one := range list {
		all = append(all, words.Quote(string(one)))
	}
	return strings.Join(all, ", ")
}

// stopText writes the line that ends the server, or those that are worth trying.
func (l writing) stopText(b *strings.Builder, w func(string, ...any)) {
	if l.stop[0] != "" {
		l.valueKey(b, "send", "stop.send", l.stop, "")
		return
	}
	var lines []string
	for _, one := range l.words {
		lines = append(lines, one.Line)
	}
	w("# not found; set it: the line you type at the console to stop the server")
	w("send = ''")
	w("# guessed from: words of the trade; at the first stop they are tried in turn, and the one that works is kept")
	w("try = [%s]", quoted(lines))
	l.guess("stop.try", strings.Join(lines, ", "), "words of the trade: the first stop tells which one works")
}

// portsText writes the ports that the server is known to want.
func (l writing) portsText(w func(string, ...any)) {
	var all []string
	for _, p := range l.ports {
		all = append(all, p.String())
	}
	if len(all) == 0 {
		w("# not found; set it: ['udp/27750', 'tcp/27751']: ports that the server must hold")
		w("ports = []")
		l.guess("ready.ports", "", "not found: a start shows which ones it holds")
		return
	}
	from := strings.Join(l.portsFrom, "; ")
	w("# guessed from: %s", oneLine(from))
	w("ports = [%s]", quoted(all))
	l.guess("ready.ports", strings.Join(all, ", "), from)
}
