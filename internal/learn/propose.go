package learn

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/watch"
	"freshkeel/internal/words"
)

// Proposal is one key of the profile that would be set, or an item that its list would get.
type Proposal struct {
	Key   string     `json:"key"`
	Item  string     `json:"item,omitempty"`  // of a list that it is added to
	Value string     `json:"value,omitempty"` // else what the key is set to, as TOML writes it
	From  string     `json:"from"`            // what it was seen by
	Sure  Confidence `json:"confidence"`
	Says  string     `json:"says,omitempty"` // of a version's rule: the version that the server said
}

// Shown is what is proposed, as the profile would have it.
func (p Proposal) Shown() string {
	if p.Item != "" {
		return words.Quote(p.Item)
	}
	return strings.Join(strings.Fields(p.Value), " ")
}

// Merged puts what two looks propose together: of one key, or one item of it, the first counts.
func Merged(first, second []Proposal) []Proposal {
	out := slices.Clone(first)
	for _, p := range second {
		if !slices.ContainsFunc(first, func(q Proposal) bool { return q.Key == p.Key && q.Item == p.Item }) {
			out = append(out, p)
		}
	}
	return out
}

// Use is how a server's processes use a file: it is open for reading, or open or mapped for writing, or mapped as a
// program; Says is for what a process says its lines to.
type Use struct{ Reads, Writes, Runs, Says bool }

// Observation is what a server was seen to do from its start until it came to rest.
type Observation struct {
	Console     []string            // its lines
	Logs        map[string][]string // the lines that its log files got meanwhile
	Changed     bool                // the start before was one of the build before
	Earlier     []string            // its console's at the start before; nil where that is not known
	LogsEarlier map[string][]string // the lines of these that stood there before, the last run's
	Ports       []profile.Port      // that it holds
	Since       time.Time           // when it was started
	Written     []tree.Entry        // the files that it wrote, and what came since they were last recorded
	Version     string              // what is installed, where that is known
	Named       map[int]string      // ports that scripts and settings name, and where
	Twice       []profile.Port      // that it held at the start before too
	People      func(string) bool   // whether a file is a list of people; nil: by its name
	OfBuild     func(string) bool   // whether a file was there with the build, as far as is known
	Known       bool                // the build's own files are known: else all count that were there first
	Files       []tree.Entry        // of the install
	Used        map[string]Use      // how its processes use them, by their paths
	Head        func(string) []byte // how a file begins; nil: not known
	Stop        *StopSeen
	Words       []Word   // that may be its stop line
	Names       []string // of its program and script
}

func (o *Observation) people(at string) bool {
	if o.People != nil {
		return o.People(at)
	}
	return profile.PeopleByName(at)
}

// Propose makes rules of what was seen, for those keys that the profile leaves open, or that
// it guessed and this start did not bear out. What was written by hand is never proposed
// otherwise.
func Propose(text profile.Text, p *profile.Profile, seen *Seen, o Observation) (out []Proposal) {
	add := func(key, value, from string, sure Confidence) {
		out = append(out, Proposal{Key: key, Value: value, From: from, Sure: sure})
	}
	lines, log := o.Console, ""
	if open(text, "ready.log", p.Ready.Log == "") {
		if name, why := logOf(o); name != "" {
			lines, log = o.Logs[why], name
			add("ready.log", words.Quote(name), fmt.Sprintf("the console said %s, and %s got %s",
				words.Plural(len(o.Console), "line"), why, words.Plural(len(lines), "line")), Likely)
		}
	} else {
		lines = o.logged(p.Ready.Log)
	}
	where := "the console"
	if log != "" {
		where = log
	}
	early := slices.ContainsFunc(p.Ready.Line, func(r profile.Pattern) bool { return slices.Contains(seen.Early, r.String()) })
	if open(text, "ready.line", !p.Ready.Line.Given()) && (early || !heard(seen, watch.KeyLine, p.Ready.Line)) {
		s := Start{Lines: lines, Ports: o.Ports, AtRest: true, Not: seen.Early, Before: o.earlier(log, p)}
		if r := Ready(s); r != nil && !has(p.Ready.Line, r.Pattern) {
			from := fmt.Sprintf("line %d of %s: %s", r.Line+1, where, Clip(r.From))
			if r.Resting {
				from += " (the last before it came to rest)"
			}
			if early {
				from += "; the rule before came while it was loading"
			}
			add("ready.line", words.Quote(r.Pattern), from, r.Sure)
		}
	}
	if !heard(seen, watch.KeyVersion, p.Ready.Version) && open(text, "ready.version", !p.Ready.Version.Given()) {
		if r := o.versionRule(seen, p, lines, log); r != nil {
			add("ready.version", words.Quote(r.Pattern), fmt.Sprintf("line %d of %s: %s", r.Line+1, where, Clip(r.From)), r.Sure)
			out[len(out)-1].Says = r.Version
		}
	}
	if pr := proposePorts(text, p, o); pr != nil {
		out = append(out, *pr)
	}
	out = append(out, proposeStop(text, p, o)...)
	return append(out, proposeFiles(p, o)...)
}

// versionRule is the line of a version, where enough speaks for it and it does not stand in the profile already.
func (o Observation) versionRule(seen *Seen, p *profile.Profile, lines []string, log string) *Rule {
	r := Version(lines, o.Version, o.Names...)
	if r == nil {
		return nil
	}
	if seen.Heard != "" && seen.Heard == o.Version && r.Sure == Sure { // which agrees with itself alone
		r.Sure = Likely
	}
	if o.Changed && o.otherVersion(r, log, p) {
		r.Sure = Sure
	}
	if r.Sure == Maybe || r.Sure != Sure && has(p.Ready.Version, r.Pattern) {
		return nil
	}
	return r
}

// has tells whether a pattern stands in the profile.
func has(list profile.Patterns, pattern string) bool {
	return slices.ContainsFunc(list, func(p profile.Pattern) bool { return p.String() == pattern })
}

// otherVersion tells whether the line of a version said another one at the start before: of the build before.
func (o Observation) otherVersion(r *Rule, log string, p *profile.Profile) bool {
	re, err := regexp.Compile(r.Pattern)
	if err != nil {
		return false
	}
	for _, l := range o.earlier(log, p) {
		if m := new(logline.Reader).Read(l).Find(re); m != nil {
			return version.Alike(m[1], r.Version) == version.Other
		}
	}
	return false
}

// heard tells whether a good start has borne out one of a key's patterns.
func heard(seen *Seen, key string, list profile.Patterns) bool {
	return slices.ContainsFunc(list, func(p profile.Pattern) bool { return seen.Bears(key, p.String()) })
}

// open tells whether a key may be set: it is empty, or what stands there is a guess of ours.
func open(text profile.Text, key string, empty bool) bool {
	if empty {
		return true
	}
	return text.Guessed(key)
}

// logOf is the log file in which a server says what it does not say at its console: its name
// as the profile has it, and as it stands there.
func logOf(o Observation) (name, at string) {
	ready := func(lines []string) bool { return Ready(Start{Lines: lines, Ports: o.Ports}) != nil }
	if ready(o.Console) {
		return "", ""
	}
	most := 0
	for file, lines := range o.Logs {
		if !ready(lines) && Version(lines, o.Version, o.Names...) == nil {
			continue // it says nothing that the console does not
		}
		score := min(len(lines), 50)
		if ready(lines) {
			score += 100
		}
		if score > most || score == most && file < at {
			most, at = score, file
		}
	}
	if len(o.Console) == 0 && at == "" && len(o.Logs) == 1 { // it speaks nowhere else
		for at = range o.Logs {
			return Undated(at), at
		}
	}
	if at == "" || most < 100 && (most <= len(o.Console) || Version(o.Console, o.Version, o.Names...) != nil) {
		return "", ""
	}
	return Undated(at), at
}

// dated are the parts of a file's name that are another time's next time.
var dated = regexp.MustCompile(`\d{2,4}([-_.]\d{2}){2,}([-_T]\d{2}([-_.]?\d{2})*)?|\d{8,14}([-_]\d{4,6})?`)

// Undated is a file's name without the parts that are another time's next time.
func Undated(at string) string {
	return path.Join(path.Dir(at), dated.ReplaceAllString(path.Base(at), "*"))
}

// logged are the lines of the log that the profile names.
func (o Observation) logged(pattern string) []string {
	for file, lines := range o.Logs {
		if (tree.Patterns{pattern}).Match(file) {
			return lines
		}
	}
	return o.Console
}

// earlier is what was said at the start before where the rules are read from: in the log that is proposed, in that of
// the profile, at the console.
func (o Observation) earlier(log string, p *profile.Profile) []string {
	if log = cmp.Or(log, p.Ready.Log); log == "" {
		return o.Earlier
	}
	for file, lines := range o.LogsEarlier {
		if (tree.Patterns{log}).Match(file) {
			return lines
		}
	}
	return nil
}

// fewPorts is how many ports a server may hold of which nothing names any: more are of its inner life.
const fewPorts = 4

// proposePorts are the ports that the server holds and that are its own: its settings or its script name them, or two
// starts held them. What its console says of a port is no evidence: it names those that the system chose, too.
func proposePorts(text profile.Text, p *profile.Profile, o Observation) *Proposal {
	given := p.Ready.Held()
	if len(given) > 0 &&
		(!open(text, "ready.ports", len(p.Ready.Ports) == 0) || !open(text, "ready.port", !p.Ready.Port.Given())) {
		return nil
	}
	var all []profile.Port
	var where, twice []string
	sure := Sure
	for _, q := range o.Ports {
		switch at := o.Named[q.Number]; {
		case at != "":
			all = append(all, q)
			where = append(where, fmt.Sprintf("%s is named in %s", q, at))
		case slices.Contains(o.Twice, q):
			all = append(all, q)
			twice = append(twice, q.String())
		}
	}
	if len(twice) > fewPorts { // so many are of its inner life
		all = slices.DeleteFunc(all, func(q profile.Port) bool { return o.Named[q.Number] == "" })
		twice = nil
	}
	lacks := func(list, of []profile.Port) bool {
		return slices.ContainsFunc(of, func(q profile.Port) bool { return !slices.Contains(list, q) })
	}
	if len(all) == 0 || len(given) > 0 && !lacks(o.Ports, given) && !lacks(given, all) {
		return nil
	}
	if len(twice) > 0 {
		where, sure = append(where, fmt.Sprintf("two starts held %s", strings.Join(twice, " and "))), Likely
	}
	from := "its processes hold "
	slices.SortFunc(all, func(a, b profile.Port) int { return a.Number - b.Number })
	var quoted, plain []string
	for _, q := range all {
		quoted, plain = append(quoted, words.Quote(q.String())), append(plain, q.String())
	}
	from += strings.Join(plain, " and ")
	if len(where) > 0 {
		from += "; " + strings.Join(where, ", ")
	}
	pr := &Proposal{Key: "ready.ports", Value: "[" + strings.Join(quoted, ", ") + "]", From: from, Sure: sure}
	if p.Ready.Port.Given() && len(all) == 1 {
		pr.Key, pr.Value = "ready.port", quoted[0]
	}
	return pr
}

// proposeStop is the stop line: the one that ended it, or those that may.
func proposeStop(text profile.Text, p *profile.Profile, o Observation) (out []Proposal) {
	switch {
	case o.Stop != nil && o.Stop.Line != "" && p.Stop.Send != o.Stop.Line && open(text, "stop.send", p.Stop.Send == ""):
		out = append(out, Proposal{Key: "stop.send", Value: words.Quote(o.Stop.Line), Sure: Sure,
			From: fmt.Sprintf("it ended the server within %s", words.Age(o.Stop.Took))})
	case o.Stop == nil && p.Stop.Send == "" && len(o.Words) > 0 && o.Words[0].Plain &&
		open(text, "stop.try", len(p.Stop.Try) == 0):
		out = append(out, Proposal{Key: "stop.send", Value: words.Quote(o.Words[0].Line), Sure: Likely,
			From: o.Words[0].From})
	}
	return out
}

var (
	leftover = regexp.MustCompile(`(?i)(\.(pid|lock|lck|sock|tmp|temp|swp)|~)$|^(pid|lock)$`)
	logName  = regexp.MustCompile(`(?i)(\.(log|out|err)(\.\d+)?(\.gz)?$|^(console|server|output|debug|error)s?\.txt$)`)
	logDir   = regexp.MustCompile(`(?i)^(logs?|cache|caches|tmp|temp|crash-?reports|dumps)$`)
)

// IsLeftover tells whether a file is of no use once its server has ended, by its name.
func IsLeftover(base string) bool { return leftover.MatchString(base) }

// IsLogFolder tells whether a folder holds logs or what can be made again, by its name.
func IsLogFolder(name string) bool { return logDir.MatchString(name) }

// IsLog tells whether a file is a log, by its name and where it lies.
func IsLog(at string) bool {
	top, _, below := strings.Cut(at, "/")
	return logName.MatchString(path.Base(at)) || below && logDir.MatchString(top) && strings.HasSuffix(at, ".txt")
}

// proposeFiles sorts the files that the server wrote and that no pattern of the profile names.
func proposeFiles(p *profile.Profile, o Observation) (out []Proposal) {
	add := func(key, item, from string, sure Confidence) {
		if !slices.ContainsFunc(out, func(q Proposal) bool { return q.Key == key && q.Item == item }) {
			out = append(out, Proposal{Key: key, Item: item, From: from, Sure: sure})
		}
	}
	shipped := o.shippedFolders()
	for _, e := range o.Written {
		if e.Kind != tree.File || p.Server.Own(e.Path) || p.Server.Skip.Match(e.Path) || profile.Reserved(e.Path) {
			continue
		}
		head, use := o.head(e.Path), o.Used[e.Path]
		if use.Runs || IsProgramPart(e.Path, head, e.Mode) { // a library that it unpacked for itself, say
			continue
		}
		top, _, below := strings.Cut(e.Path, "/")
		item, base := tree.Literally(e.Path), path.Base(e.Path)
		if below && !shipped[top] {
			item = top + "/**"
		}
		beside := Beside{Names: o.Beside(e.Path), Told: use.Says}
		wrote := "the server wrote it while it ran"
		switch {
		case use.Writes && !use.Says:
			wrote = "the server has it open for writing"
		case time.Unix(0, e.Mtime).Before(o.Since):
			wrote = "it was written since the files were last recorded, and no build is known to have it"
		}
		notLog := DataNotLog(e.Path, head, beside)
		if IsLog(e.Path) && notLog == "" && use.Reads && use.Writes {
			notLog = "the server reads it again"
		}
		switch {
		case below && logDir.MatchString(top):
			add("server.skip", top+"/**", wrote, Sure)
		case IsLog(e.Path) && notLog == "":
			add("server.skip", path.Join(path.Dir(e.Path), Undated(base)), "a log: "+wrote, Sure)
		case IsLog(e.Path):
			add("server.keep", item, notLog+"; "+wrote, Likely)
		case leftover.MatchString(base):
			add("server.skip", tree.Literally(e.Path), wrote+", and it is of no use once it has ended", Sure)
		case o.people(e.Path) && !(below && !shipped[top]):
			add("server.keep", tree.Literally(e.Path), "a list of people: "+wrote, Likely)
		case profile.SettingsByName(base) && !(below && !shipped[top]) && IsData(e.Path, head, beside) == "":
			add("server.settings", tree.Literally(e.Path), wrote, Likely)
		case o.OfBuild(e.Path) && o.Known:
			add("server.keep", tree.Literally(e.Path), "the build ships it, and "+wrote, Maybe)
		default:
			add("server.keep", item, wrote, Likely)
		}
	}
	return out
}

// shippedFolders are the folders at the top in which the build has something, as far as that is known; else those in
// which programs or their parts lie.
func (o *Observation) shippedFolders() map[string]bool {
	out := map[string]bool{}
	for _, e := range o.Files {
		top, _, below := strings.Cut(e.Path, "/")
		if !below || e.Kind != tree.File || out[top] {
			continue
		}
		out[top] = o.Known && o.OfBuild(e.Path) || !o.Known && (Shipped(e.Path) || o.Used[e.Path].Runs)
	}
	return out
}

// shippedKind is what only builds ship.
var shippedKind = regexp.MustCompile(
	`(?i)\.(pak|pk3|vpk|wad|bsp|lua|py|js|rb|png|jpe?g|tga|dds|ogg|wav|mp3|ttf|otf|glsl|shader|hlsl|obj|fbx|mdl|` +
		`html?|css|md|dtd)$`,
)

// Shipped tells whether a file is, by its name, of a kind that only builds ship.
func Shipped(at string) bool {
	return shippedKind.MatchString(at) || programKind.MatchString(at) || profile.Vendored(at)
}

// head is how a file begins; nil where that is not known.
func (o *Observation) head(at string) []byte {
	if o.Head == nil {
		return nil
	}
	return o.Head(at)
}

// Beside are the names of the files in a file's folder.
func (o *Observation) Beside(at string) (names []string) {
	for _, e := range o.Files {
		if e.Kind == tree.File && path.Dir(e.Path) == path.Dir(at) {
			names = append(names, path.Base(e.Path))
		}
	}
	return names
}

// Clip is a line as evidence shows it: cut where it is long.
func Clip(s string) string {
	const n = 70
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
