package learn

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
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

// Observation is what a server was seen to do from its start until it came to rest.
type Observation struct {
	Console []string            // its lines
	Logs    map[string][]string // the lines that its log files got meanwhile
	Ports   []profile.Port      // that it holds
	Written []tree.Entry        // the files that it wrote
	Version string              // what is installed, where that is known
	Named   map[int]string      // ports that scripts, settings and logs name, and where
	People  func(string) bool   // whether a file is a list of people; nil: by its name
	OfBuild func(string) bool   // whether a file is the build's, as far as is known
	Stop    *StopSeen
	Words   []Word   // that may be its stop line
	Names   []string // of its program and script
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
	if !heard(seen, watch.KeyLine, p.Ready.Line) && open(text, "ready.line", !p.Ready.Line.Given()) {
		if r := Ready(lines, o.Ports); r != nil {
			add(
				"ready.line",
				words.Quote(r.Pattern),
				fmt.Sprintf("line %d of %s: %s", r.Line+1, where, Clip(r.From)),
				r.Sure,
			)
		}
	}
	if !heard(seen, watch.KeyVersion, p.Ready.Version) && open(text, "ready.version", !p.Ready.Version.Given()) {
		if r := Version(lines, o.Version, o.Names...); r != nil && r.Sure != Maybe {
			add(
				"ready.version",
				words.Quote(r.Pattern),
				fmt.Sprintf("line %d of %s: %s", r.Line+1, where, Clip(r.From)),
				r.Sure,
			)
			out[len(out)-1].Says = r.Version
		}
	}
	if pr := proposePorts(text, p, o); pr != nil {
		out = append(out, *pr)
	}
	out = append(out, proposeStop(text, p, o)...)
	return append(out, proposeFiles(p, o)...)
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
	_, comment, there := text.Value(key)
	return there && (strings.HasPrefix(comment, "# guessed from: ") || strings.HasPrefix(comment, "# learned from: "))
}

// logOf is the log file in which a server says what it does not say at its console: its name
// as the profile has it, and as it stands there.
func logOf(o Observation) (name, at string) {
	if Ready(o.Console, o.Ports) != nil {
		return "", ""
	}
	most := 0
	for file, lines := range o.Logs {
		if Ready(lines, o.Ports) == nil && Version(lines, o.Version, o.Names...) == nil {
			continue // it says nothing that the console does not
		}
		score := min(len(lines), 50)
		if Ready(lines, o.Ports) != nil {
			score += 100
		}
		if score > most || score == most && file < at {
			most, at = score, file
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

// fewPorts is how many ports a server may hold of which nothing names any: more are of its inner life.
const fewPorts = 4

// ephemeral is from where on a port may be one that the system chose.
const ephemeral = 32768

// proposePorts are the ports that the server holds, as far as they are its own.
func proposePorts(text profile.Text, p *profile.Profile, o Observation) *Proposal {
	given := p.Ready.Held()
	if len(given) > 0 &&
		(!open(text, "ready.ports", len(p.Ready.Ports) == 0) || !open(text, "ready.port", !p.Ready.Port.Given()) ||
			!slices.ContainsFunc(given, func(q profile.Port) bool { return !slices.Contains(o.Ports, q) })) {
		return nil
	}
	var named, others []profile.Port
	var where []string
	for _, q := range o.Ports {
		switch at := o.Named[q.Number]; {
		case at != "":
			named = append(named, q)
			where = append(where, fmt.Sprintf("%s is named in %s", q, at))
		case q.Number < ephemeral:
			others = append(others, q)
		}
	}
	all, sure, from := append(named, others...), Sure, "its processes hold "
	switch {
	case len(named) == 0 && (len(others) == 0 || len(others) > fewPorts):
		return nil
	case len(named) == 0:
		sure = Likely
	case len(all) > fewPorts:
		all = named
	}
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
	case o.Stop == nil && p.Stop.Send == "" && open(text, "stop.try", len(p.Stop.Try) == 0) && newWord(o.Words, p.Stop.Try):
		var quoted, from []string
		for _, w := range o.Words {
			quoted = append(quoted, words.Quote(w.Line))
			if w.From != "" {
				from = append(from, w.From)
			}
		}
		if len(from) == 0 {
			from = []string{"words of the trade"}
		}
		out = append(out, Proposal{Key: "stop.try", Value: "[" + strings.Join(quoted, ", ") + "]", Sure: Maybe,
			From: strings.Join(from, "; ")})
	}
	return out
}

// newWord tells whether something speaks for a line that would not be tried yet.
func newWord(found []Word, tried []string) bool {
	return slices.ContainsFunc(found, func(w Word) bool { return w.Plain && !slices.Contains(tried, w.Line) })
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
	folders := map[string]bool{} // at the top, which hold something of the build
	var fresh []tree.Entry
	for _, e := range o.Written {
		if e.Kind != tree.File || p.Server.Own(e.Path) || p.Server.Skip.Match(e.Path) || profile.Reserved(e.Path) {
			continue
		}
		fresh = append(fresh, e)
	}
	add := func(key, item, from string, sure Confidence) {
		if !slices.ContainsFunc(out, func(q Proposal) bool { return q.Key == key && q.Item == item }) {
			out = append(out, Proposal{Key: key, Item: item, From: from, Sure: sure})
		}
	}
	for _, e := range fresh {
		top, _, below := strings.Cut(e.Path, "/")
		if below {
			if _, known := folders[top]; !known {
				folders[top] = o.OfBuild(top + "/")
			}
		}
		item, base := e.Path, path.Base(e.Path)
		if below && !folders[top] {
			item = top + "/**"
		}
		const wrote = "the server wrote it while it ran"
		switch {
		case below && logDir.MatchString(top):
			add("server.skip", top+"/**", wrote, Sure)
		case IsLog(e.Path):
			add("server.skip", path.Join(path.Dir(e.Path), Undated(base)), "a log, which "+wrote, Sure)
		case leftover.MatchString(base):
			add("server.skip", e.Path, wrote+", and it is of no use once it has ended", Sure)
		case o.people(e.Path) && !(below && !folders[top]):
			add("server.keep", e.Path, "a list of people, which "+wrote, Likely)
		case profile.SettingsByName(base) && !(below && !folders[top]):
			add("server.settings", e.Path, wrote, Likely)
		case o.OfBuild(e.Path):
			add("server.keep", e.Path, "the build ships it, and "+wrote, Maybe)
		default:
			add("server.keep", item, wrote, Likely)
		}
	}
	return out
}

// Clip is a line as evidence shows it: cut where it is long.
func Clip(s string) string {
	const n = 70
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
