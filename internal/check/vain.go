package check

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/feed"
	"freshkeel/internal/launch"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// checkVain tells of names in the profile, and on the command line, that nothing answers to: whoever wrote one
// expects an effect of it (P13).
func checkVain(_ context.Context, s *situation) (out []Finding) {
	v := &vanity{situation: s, files: map[string]bool{}}
	for _, e := range s.ahead.Before {
		v.see(e.Path, e.Kind == tree.Dir)
	}
	for _, c := range s.plan.Coming() {
		v.see(c.At, false)
	}
	v.patterns()
	v.options()
	v.others()
	for _, name := range s.want.Accept {
		if s.hop > 0 || s.accepted[name] {
			continue
		}
		v.tell(false, "--accept "+name+" has nothing to accept", "that check found nothing to stop", "leave it out")
	}
	return v.out
}

// vanity looks for names that nothing answers to.
type vanity struct {
	*situation
	files map[string]bool // paths as they will stand, and the folders above them
	out   []Finding
}

func (v *vanity) see(at string, folder bool) {
	v.files[at] = folder || v.files[at]
	for dir := path.Dir(at); dir != "."; dir = path.Dir(dir) {
		v.files[dir] = true
	}
}

// tell adds a finding; one that may be meant for what comes later is of the install.
func (v *vanity) tell(routine bool, what, why, do string) {
	v.out = append(v.out, Finding{Level: Warn, Routine: routine, What: what, Where: v.k.Path(profile.FileName),
		Why: why, Do: do})
}

// matches tells whether a pattern matches something that stands or will stand, or a folder of that name does.
func (v *vanity) matches(pat string) bool {
	if _, is := v.files[pat]; is {
		return true
	}
	one := tree.Patterns{pat}
	for at, folder := range v.files {
		if one.Match(at) || folder && one.Match(at+"/x") {
			return true
		}
	}
	return false
}

// stands tells whether something stands where a pattern begins: what is skipped is in no list.
func (v *vanity) stands(pat string) bool {
	top, _, below := strings.Cut(pat, "/")
	if !tree.IsGlob(top) {
		return v.k.Exists(top)
	}
	list, _ := os.ReadDir(v.k.Dir)
	return below || slices.ContainsFunc(list, func(d os.DirEntry) bool { return (tree.Patterns{pat}).Match(d.Name()) })
}

// patterns looks at what the profile says of files.
func (v *vanity) patterns() {
	p := v.k.Profile
	lists := []struct {
		key string
		is  tree.Patterns
	}{{"server.keep", p.Server.Keep}, {"server.settings", p.Server.Settings}, {"server.skip", p.Server.Skip},
		{"server.consent", p.Server.Consent}, {"addons.files", p.Addons.Files}}
	for _, part := range p.Parts {
		lists = append(lists, struct {
			key string
			is  tree.Patterns
		}{"part.files of " + part.Name, part.Files})
	}
	var names []string
	for at := range v.files {
		if !strings.Contains(at, "/") {
			names = append(names, at)
		}
	}
	slices.Sort(names)
	for _, list := range lists {
		var quiet []string
		for _, pat := range list.is {
			if v.matches(pat) || list.key == "server.skip" && v.stands(pat) {
				continue
			}
			top, _, _ := strings.Cut(pat, "/")
			if near := words.Near(top, names); near != "" && near != top && !tree.IsGlob(top) {
				v.tell(false, fmt.Sprintf("%s %s matches no file; there is %s", list.key, words.Quote(pat), near),
					"what it is to protect, or to leave out, is not", "correct the pattern")
				continue
			}
			quiet = append(quiet, words.Quote(pat))
		}
		if len(quiet) > 0 {
			v.tell(true, fmt.Sprintf("%s: nothing matches %s", list.key, strings.Join(quiet, ", ")),
				"it may be for files that are not there yet; else it is misspelled", "look whether it is meant so")
		}
	}
	if vain := v.plan.Set.Vain; len(vain) > 0 {
		v.tell(false, "[source] has patterns that match nothing of the build: "+words.Some(vain, 4),
			"what they take, leave, move or open is not", "compare them with the build's own names")
	}
	for _, c := range v.plan.Carried {
		rule := p.CarryOf(c.Path)
		has := func(key string) bool {
			for _, ch := range c.Changes {
				if (tree.Patterns{key}).Match(ch.Key) {
					return true
				}
			}
			text, err := tree.ReadUpTo(v.k.Path(c.Path), 1<<20)
			return err != nil || strings.Contains(string(text), key[strings.LastIndex(key, ".")+1:]) || tree.IsGlob(key)
		}
		for _, key := range append(slices.Clone([]string(rule.Never)), keysOf(rule.Rename)...) {
			if !has(key) {
				v.tell(false, fmt.Sprintf("[[carry]] of %s names %s, and no such key is in it", c.Path, key),
					"what it asks for is done nowhere", "correct the key")
			}
		}
	}
}

func keysOf(m map[string]string) (out []string) {
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// options looks at what the command line names: whoever typed it waits for its effect, and nothing is done without it.
func (v *vanity) options() {
	stop := func(what, why, do string) {
		v.out = append(v.out, Finding{Level: Stop, What: what, Where: "the command line", Why: why, Do: do})
	}
	var migrations []string
	for _, m := range v.k.Profile.Migrations {
		migrations = append(migrations, m.Name)
	}
	for option, names := range map[string][]string{"--data-has": v.want.Has, "--data-lacks": v.want.Lacks} {
		for _, name := range names {
			if !slices.Contains(migrations, name) {
				stop(option+" "+name+": the profile has no migration of that name", "it would have no effect",
					"the profile has "+words.Some(append(migrations, "no other"), 6))
			}
		}
	}
	for _, at := range v.plan.Unclaimed {
		stop("--overwrite "+at+": nothing there is held back from the build", "it would have no effect",
			"leave it out; freshkeel preflight --all tells what becomes of each file")
	}
	for _, at := range v.want.Consent {
		if _, is := v.files[path.Clean(filepath.ToSlash(at))]; !is {
			v.tell(false, "--consent "+at+": there is no such file, and the build brings none",
				"it is given only where the new build writes that file at its first start", "name the file in which "+
					"the makers ask for it")
		}
	}
	if want := v.want.Runtime; want != "" && !v.runsARuntime() {
		stop("--runtime "+want+" has nothing to change: the launch script runs no runtime",
			"the server would go on as before",
			"leave it out")
	}
}

// others looks at what the profile names besides files of the install.
func (v *vanity) others() {
	p := v.k.Profile
	if p.Runtime.Use != "" && !v.runsARuntime() {
		v.tell(false, "runtime.use "+words.Quote(p.Runtime.Use)+" has nothing to change: the launch script runs no "+
			"runtime",
			"the server runs as before", "take it out")
	}
	if f, channel := v.cand.Offer, p.Source.Channel; f != nil && f.Feed != nil && channel != "" &&
		!slices.ContainsFunc(f.Builds, func(b feed.Build) bool { return b.Channel == channel }) {
		v.tell(false, fmt.Sprintf("source.channel %s: the source has no such channel", words.Quote(channel)),
			"no newer build is found in it; its channels are "+strings.Join(f.Channels(), ", "), "correct the channel")
	}
	if p.Source.Variant != "" && v.cand.Offer != nil && v.cand.Variant == "" {
		v.tell(false, "source.variant "+words.Quote(p.Source.Variant)+" chooses nothing: the source has one kind of "+
			"each build",
			"it has no effect", "take it out")
	}
	for _, c := range p.Carry {
		if c.Defaults != "" && c.Defaults != profile.Written && !v.plan.OfBuild(c.Defaults) &&
			v.plan.Set.Find(c.Defaults) == nil {
			v.tell(false, fmt.Sprintf("[[carry]] defaults = %s: the build has no such file", words.Quote(c.Defaults)),
				"nothing of "+c.File+" is carried over", "name the file by which the build ships its defaults")
		}
	}
	if now, err := v.k.Launched(); err == nil {
		for _, flag := range p.Launch.Without {
			if !slices.ContainsFunc(append(now, v.lines.commands...), func(c launch.Command) bool {
				return slices.ContainsFunc(slices.Concat(c.Flags, c.Args),
					func(a string) bool { return strings.HasPrefix(a, flag) })
			}) {
				v.tell(true, "launch.without "+words.Quote(flag)+": the launch script has no such flag",
					"there is nothing to take away",
					"take it out, unless a later build is to be kept from it")
			}
		}
	}
	for _, pat := range p.Runtime.Search {
		if list, err := filepath.Glob(pat); err == nil && len(list) == 0 && tree.IsGlob(pat) {
			v.tell(true, fmt.Sprintf("runtime.search %s: nothing stands there", words.Quote(pat)),
				"no runtime of it can be run",
				"correct the path, or take it out")
		} else if _, err := os.Stat(pat); err != nil && !tree.IsGlob(pat) {
			v.tell(true, fmt.Sprintf("runtime.search %s is not there", words.Quote(pat)), "no runtime of it can be run",
				"correct the path, or take it out")
		}
	}
	if p.Ready.Log != "" && v.k.Seen().Starts > 0 && !v.matches(p.Ready.Log) && !v.stands(p.Ready.Log) {
		v.tell(false, fmt.Sprintf("ready.log %s: there is no such log, and the server has run before",
			words.Quote(p.Ready.Log)),
			"the lines that tell whether it came up are looked for there", "correct it; its logs: freshkeel log")
	}
	if len(p.Players.Proxies) > 0 && p.Players.Ask == "" {
		v.tell(false, "players.proxies is set, and players.ask is not",
			"nobody asks how many players are on, so it has no effect",
			"set players.ask too, or take it out")
	}
	for _, l := range p.Logins {
		if l.Host != "" && !v.asks(l.Host) {
			v.tell(true, fmt.Sprintf("[[login]] host %s: no address of the profile is of that host",
				words.Quote(l.Host)),
				"it is sent to nobody, unless a source leads there", "correct it, or take it out")
		}
	}
}

// runsARuntime tells whether the launch script runs something that runs programs.
func (v *vanity) runsARuntime() bool {
	return v.lines.err != nil || slices.ContainsFunc(v.lines.commands, func(c launch.Command) bool {
		return c.Java() || c.Script != ""
	})
}

// asks tells whether an address of the profile is of a host.
func (v *vanity) asks(host string) bool {
	p := v.k.Profile
	addresses := []string{feed.Where(p.Source, v.k.Dir), p.Copy.To, v.want.From, v.cand.Source}
	for _, l := range p.Layers {
		addresses = append(addresses, feed.Where(l.Source, v.k.Dir))
	}
	for _, part := range v.cand.Parts {
		addresses = append(addresses, part.URL)
	}
	for _, a := range addresses {
		if u, err := url.Parse(a); err == nil && (u.Host == host || u.Hostname() == host) {
			return true
		}
	}
	return false
}
