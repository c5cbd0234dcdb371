package settings

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Fate is what becomes of a value.
type Fate string

// Fates.
const (
	Carried Fate = "carried" // the operator's stays, in the new default's text
	Both    Fate = "both"    // the maker changed the default and so did the operator: the operator's stays
	Default Fate = "default" // the maker changed the default, and the operator never had: the maker's
	Dropped Fate = "dropped" // the maker has it no more
	Added   Fate = "added"   // the operator's own, unknown to the maker: it stays
	Removed Fate = "removed" // the operator took it out: it stays out
	New     Fate = "new"     // the maker's
	Set     Fate = "set"     // the profile says it
	Lost    Fate = "lost"    // the operator's own, for which there is no place in the new text: told
)

// Change is what became of one value.
type Change struct {
	Key  string `json:"key"`
	Fate Fate   `json:"fate"`
	Mine string `json:"mine,omitempty"` // the operator's
	Was  string `json:"was,omitempty"`  // the old default
	Now  string `json:"now,omitempty"`  // the new default
	Like string `json:"like,omitempty"` // of what was dropped: the new key that it probably is now
	Line int    `json:"line,omitempty"` // in the operator's file, or in the new default
}

// Doubtful tells whether an operator should look at it.
func (c Change) Doubtful() bool {
	return c.Fate == Both || c.Fate == Lost || (c.Fate == Dropped && c.Mine != c.Was)
}

// Rules are what a profile says of one file.
type Rules struct {
	Always map[string]string // values that are set, whoever says otherwise
	Never  tree.Patterns     // keys of which the operator's value is not carried; dots part them as slashes do paths
	Rename map[string]string // old key → new key
}

// Merged is what a merge made.
type Merged struct {
	Text    []byte
	Format  string
	Changes []Change // in the order of the operator's file, then of the new default
	Unsure  bool     // the old default is not known: whatever differs from the new one was taken for the operator's
}

// Count tells how many values had a fate.
func (m *Merged) Count(f Fate) (n int) {
	for _, c := range m.Changes {
		if c.Fate == f {
			n++
		}
	}
	return n
}

// Doubts are the changes that an operator should look at.
func (m *Merged) Doubts() (out []Change) {
	for _, c := range m.Changes {
		if c.Doubtful() {
			out = append(out, c)
		}
	}
	return out
}

// splice is one edit of the new default's text.
type splice struct {
	start, end int
	text       string
}

// merging is one merge under way.
type merging struct {
	old, now, mine *Doc // old: nil where it is not known
	r              Rules
	out            *Merged
	edits          []splice
	brought        []*Item // keys that the new default alone has, once they are asked for
}

// Merge sets the operator's changes, which are what differs between mine and old, in the text of
// now. old may be nil. The error is a *Wrong where the result would not be read back as it should.
func Merge(old, now, mine *Doc, r Rules) (*Merged, error) {
	if now.Format != mine.Format || (old != nil && old.Format != now.Format) {
		return nil, &Wrong{
			Why: fmt.Sprintf("the new default is of format %s, and yours of %s", now.Format, mine.Format),
		}
	}
	if err := sameRest(old, now, mine); err != nil {
		return nil, err
	}
	m := &merging{
		old:  old,
		now:  now,
		mine: mine,
		r:    r,
		out:  &Merged{Format: now.Format, Unsure: old == nil, Changes: make([]Change, 0, 64)},
	}
	done := map[string]bool{}
	for i := range mine.Items {
		it := &mine.Items[i]
		switch {
		case done[it.Key]:
		case m.isList(it.Key):
			m.list(it.Key)
		default:
			m.one(i)
		}
		done[it.Key] = true
	}
	if old != nil {
		m.takenOut(done)
	}
	m.fresh(done)
	m.always()
	m.out.Text = m.apply()
	return m.out, m.proof()
}

// sameRest refuses a file in which the operator wrote lines that nobody knows how to carry.
func sameRest(old, now, mine *Doc) error {
	known := map[string]bool{}
	for _, d := range []*Doc{old, now} {
		if d != nil {
			for _, it := range d.rest {
				known[it.Value] = true
			}
		}
	}
	for _, it := range mine.rest {
		if !known[it.Value] {
			return &Wrong{
				Line:   it.Line,
				Column: 1,
				Why: fmt.Sprintf("%s is no setting that is known here, and no default "+
					"has it", words.Quote(it.Value)),
			}
		}
	}
	return nil
}

func (m *merging) isList(key string) bool {
	list := false
	for _, d := range []*Doc{m.old, m.now, m.mine} { // each item of a list says so
		it := d.item(key)
		list = list || (it != nil && it.list)
	}
	return list
}

// same tells whether two values are: quotes around one make no other value where a format has none, and of lines that go
// on their ends do not count. A number and the same one in quotes are two values where a format has kinds.
func (d *Doc) same(a, b string) bool {
	if strings.Contains(a, "\r") || strings.Contains(b, "\r") {
		a, b = strings.ReplaceAll(a, "\r\n", "\n"), strings.ReplaceAll(b, "\r\n", "\n")
	}
	if a == b {
		return true
	}
	switch d.Format {
	case "json":
		return compact(a) == compact(b)
	case "toml":
		return quoted(a) && quoted(b) && bare(a) == bare(b) && !strings.Contains(a+b, `\`)
	case "yaml":
		if quoted(a) != quoted(b) && kinded.MatchString(bare(a)) {
			return false
		}
	}
	return bare(a) == bare(b)
}

func quoted(s string) bool { return bare(s) != s }

// kinded are scalars that YAML reads as something else than text, where no quotes are around them.
var kinded = regexp.MustCompile(`^(?i:|~|null|true|false|yes|no|on|off|y|n|[-+]?[.\d][\d_.,:eExXa-fA-FoO+-]*|[-+]?\.inf|\.nan)$`)

// compact is a value of JSON without the blanks between its parts.
func compact(s string) string {
	if !strings.HasPrefix(s, "[") && !strings.HasPrefix(s, "{") {
		return s
	}
	var b bytes.Buffer
	if json.Compact(&b, []byte(s)) != nil {
		return s
	}
	return b.String()
}

func bare(s string) string {
	if n := len(s); n > 1 && (s[0] == '"' || s[0] == '\'') && s[n-1] == s[0] {
		return s[1 : n-1]
	}
	return s
}

func (m *merging) tell(c Change) { m.out.Changes = append(m.out.Changes, c) }

// never tells whether the operator's value of a key is not to be carried.
func (m *merging) never(key string) bool {
	return m.r.Never.Match(strings.ReplaceAll(key, ".", "/")) || m.r.Never.Match(key)
}

// one is for a key of the operator's that stands once.
func (m *merging) one(i int) {
	it := &m.mine.Items[i]
	key := it.Key
	if to := m.r.Rename[key]; to != "" {
		key = to
	}
	was, now := m.old.item(it.Key), m.now.item(key)
	c := Change{Key: key, Mine: it.Value, Line: it.Line}
	if was != nil {
		c.Was = was.Value
	}
	if now != nil {
		c.Now = now.Value
	}
	switch {
	case now != nil && (m.now.same(it.Value, now.Value) || m.never(it.Key)):
		return
	case now != nil && was != nil && m.now.same(it.Value, was.Value):
		c.Fate = Default
	case now != nil:
		if c.Fate = Carried; was != nil && !m.now.same(was.Value, now.Value) {
			c.Fate = Both
		}
		m.edits = append(m.edits, splice{now.start, now.end, m.behindSign(now, it.Value)})
	case was != nil:
		c.Fate = Dropped
		if !m.now.same(it.Value, was.Value) {
			c.Like = m.probably(it, was)
		}
	case m.never(it.Key):
		return
	default:
		if c.Fate = Added; !m.insert(i) {
			c.Fate = Lost
		}
	}
	m.tell(c)
}

// behindSign is a value that takes the place of an empty one: behind a colon a blank stands before it.
func (m *merging) behindSign(now *Item, value string) string {
	if now.start == now.end && value != "" && now.start > 0 && m.now.text[now.start-1] == ':' {
		return " " + value
	}
	return value
}

// mostLikely bounds how many new keys a dropped one is compared with.
const mostLikely = 500

// probably is a key that is new, has the default that a dropped one had, and a name like it.
func (m *merging) probably(it, was *Item) (key string) {
	if m.brought == nil {
		m.brought = []*Item{}
		for i := range m.now.Items {
			if n := &m.now.Items[i]; m.old.item(n.Key) == nil && m.mine.item(n.Key) == nil {
				m.brought = append(m.brought, n)
			}
		}
	}
	if len(m.brought) > mostLikely { // it is another file
		return ""
	}
	best := len(it.Key)/2 + 1
	for _, n := range m.brought {
		if !m.now.same(n.Value, was.Value) {
			continue
		}
		if d := words.Distance(it.Key, n.Key); d < best {
			best, key = d, n.Key
		}
	}
	return key
}

// list is for a key that may be repeated: what the operator added or took out stays so.
func (m *merging) list(key string) {
	values := func(d *Doc) map[string]bool {
		out := map[string]bool{}
		d.all(key, func(it *Item) { out[it.Value] = true })
		return out
	}
	was, now, mine := values(m.old), values(m.now), values(m.mine)
	if m.never(key) {
		return
	}
	for n, is := m.mine.first[key]; is; n = m.mine.next[n] {
		it := &m.mine.Items[n]
		if !was[it.Value] && !now[it.Value] {
			c := Change{Key: key, Fate: Added, Mine: it.Value, Line: it.Line}
			if !m.insert(int(n)) {
				c.Fate = Lost
			}
			m.tell(c)
		}
		if m.mine.next[n] == 0 {
			break
		}
	}
	if m.old == nil {
		return
	}
	m.now.all(key, func(it *Item) {
		if was[it.Value] && !mine[it.Value] && m.remove(it) {
			m.tell(Change{Key: key, Fate: Removed, Was: it.Value, Line: it.Line})
		}
	})
}

// takenOut takes out again what the operator took out of the old default.
func (m *merging) takenOut(done map[string]bool) {
	for i := range m.old.Items {
		it := &m.old.Items[i]
		if done[it.Key] {
			continue
		}
		found := false
		m.now.all(it.Key, func(now *Item) {
			if !found && (!now.list || now.Value == it.Value) && m.remove(now) {
				m.tell(Change{Key: it.Key, Fate: Removed, Was: it.Value, Now: now.Value, Line: now.Line})
			}
			found = found || (now.list && now.Value == it.Value)
		})
		if !it.list {
			done[it.Key] = true
		}
	}
}

// byLines tells whether what belongs to a value is whole lines.
func (m *merging) byLines() bool { return m.now.Format != "json" && m.now.Format != "xml" }

// remove takes an item's lines out, where it has lines of its own.
func (m *merging) remove(it *Item) bool {
	from, to := it.from, it.to
	if !m.byLines() {
		var ok bool
		if from, to, ok = m.apartFrom(it); !ok {
			return false
		}
	}
	m.edits = append(m.edits, splice{from, to, ""})
	return true
}

// apartFrom is what goes with a value of JSON or XML that is taken out: the comma behind it, or before the last one, and the
// blanks before it.
func (m *merging) apartFrom(it *Item) (from, to int, ok bool) {
	t := m.now.text
	from, to = it.from, it.to
	blank := func(at int) bool { return at < len(t) && strings.IndexByte(" \t\r\n", t[at]) >= 0 }
	for from > 0 && blank(from-1) {
		from--
	}
	if m.now.Format == "xml" {
		return from, to, from > 0
	}
	after := to
	for blank(after) {
		after++
	}
	switch {
	case after < len(t) && t[after] == ',':
		return from, after + 1, true
	case after < len(t) && t[after] == '}' && from > 0 && t[from-1] == ',':
		return from - 1, to, true
	case after < len(t) && t[after] == '}' && from > 0 && t[from-1] == '{':
		return from, to, true
	}
	return 0, 0, false // a comment stands there
}

// fresh tells what is new in the new default.
func (m *merging) fresh(done map[string]bool) {
	renamed := map[string]bool{}
	for _, to := range m.r.Rename {
		renamed[to] = true
	}
	for _, it := range m.now.Items {
		if m.mine.item(it.Key) == nil && m.old.item(it.Key) == nil && !done[it.Key] && !renamed[it.Key] {
			m.tell(Change{Key: it.Key, Fate: New, Now: it.Value, Line: it.Line})
		}
	}
}

// always sets the values that the profile says.
func (m *merging) always() {
	keys := make([]string, 0, len(m.r.Always))
	for key := range m.r.Always {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		now, value := m.now.item(key), m.r.Always[key]
		if now == nil || now.list {
			m.tell(Change{Key: key, Fate: Lost, Mine: value})
			continue
		}
		if q := now.Value; len(q) > 0 && (q[0] == '"' || q[0] == '\'') && bare(value) == value {
			value = q[:1] + value + q[:1] // in the quoting that the file uses
		}
		m.edits = slices.DeleteFunc(m.edits, func(s splice) bool { return s.start == now.start && s.end == now.end })
		m.out.Changes = slices.DeleteFunc(m.out.Changes, func(c Change) bool { return c.Key == key })
		if value != now.Value {
			m.edits = append(m.edits, splice{now.start, now.end, m.behindSign(now, value)})
		}
		m.tell(Change{Key: key, Fate: Set, Mine: value, Now: now.Value, Line: now.Line})
	}
}

// insert puts an item of the operator's where it stood: behind the one before it, as far as the
// new default has that, or before the one behind it, or at the end of its section.
func (m *merging) insert(i int) bool {
	it := &m.mine.Items[i]
	beside := func(j int) (last *Item) {
		if j < 0 || j >= len(m.mine.Items) || m.mine.Items[j].parent != it.parent {
			return nil
		}
		m.now.all(m.mine.Items[j].Key, func(b *Item) { last = b })
		return last
	}
	for j := i; j >= 0 && m.mine.Items[j].parent == it.parent; j-- {
		if b := beside(j); b != nil {
			return m.place(it, b, true)
		}
	}
	for j := i + 1; j < len(m.mine.Items) && m.mine.Items[j].parent == it.parent; j++ {
		if b := beside(j); b != nil {
			return m.place(it, b, false)
		}
	}
	for n := len(m.now.Items) - 1; n >= 0; n-- {
		if m.now.Items[n].parent == it.parent {
			return m.place(it, &m.now.Items[n], true)
		}
	}
	return m.section(it)
}

// raw is what belongs to an item of the operator's, with the line ends of the new text.
func (m *merging) raw(it *Item) string {
	s := strings.ReplaceAll(string(m.mine.text[it.from:it.to]), "\r\n", "\n")
	return strings.ReplaceAll(s, "\n", m.now.nl)
}

// place puts an item beside another of the new text.
func (m *merging) place(it, beside *Item, behind bool) bool {
	raw := m.raw(it)
	if m.byLines() {
		raw = strings.TrimRight(raw, "\r\n") + m.now.nl
		if !behind {
			m.edits = append(m.edits, splice{beside.from, beside.from, raw})
			return true
		}
		if t := m.now.text[:beside.to]; len(t) > 0 && t[len(t)-1] != '\n' {
			raw = m.now.nl + strings.TrimRight(raw, "\r\n")
		}
		m.edits = append(m.edits, splice{beside.to, beside.to, raw})
		return true
	}
	line := bytes.LastIndexByte(m.now.text[:beside.from], '\n') + 1
	indent := string(m.now.text[line:beside.from])
	sep := m.now.nl + indent
	if strings.TrimSpace(indent) != "" { // several stand on one line
		sep = " "
	}
	if m.now.Format == "xml" {
		if m.now.text[beside.from] != '<' || m.mine.text[it.from] != '<' {
			return false // an attribute
		}
		if behind {
			m.edits = append(m.edits, splice{beside.to, beside.to, sep + raw})
		} else {
			m.edits = append(m.edits, splice{beside.from, beside.from, raw + sep})
		}
		return true
	}
	if behind {
		m.edits = append(m.edits, splice{beside.to, beside.to, "," + sep + raw})
	} else {
		m.edits = append(m.edits, splice{beside.from, beside.from, raw + "," + sep})
	}
	return true
}

// section puts an item into a section that the new default has not, at the end.
func (m *merging) section(it *Item) bool {
	if !slices.Contains([]string{"lines", "words", "toml", "list"}, m.now.Format) ||
		strings.HasSuffix(it.parent, "]") {
		return false
	}
	end, text := len(m.now.text), ""
	if end > 0 && m.now.text[end-1] != '\n' {
		text = m.now.nl
	}
	if it.parent != "" {
		head := "[" + it.parent + "]" + m.now.nl
		if !slices.ContainsFunc(
			m.edits,
			func(s splice) bool { return s.start == end && strings.Contains(s.text, head) },
		) {
			text += m.now.nl + head
		}
	} else if len(m.now.Items) > 0 && m.now.Items[len(m.now.Items)-1].parent != "" {
		return false // at the end it would be of another section
	}
	m.edits = append(m.edits, splice{end, end, text + strings.TrimRight(m.raw(it), "\r\n") + m.now.nl})
	return true
}

// apply makes the text. Edits at one place follow each other as they were made.
func (m *merging) apply() []byte {
	slices.SortStableFunc(m.edits, func(a, b splice) int { return a.start - b.start })
	var out bytes.Buffer
	at := 0
	for _, e := range m.edits {
		if e.start < at { // within what was taken out
			continue
		}
		out.Write(m.now.text[at:e.start])
		out.WriteString(e.text)
		at = e.end
	}
	out.Write(m.now.text[at:])
	return out.Bytes()
}

// proof reads the result back: what was to be carried must stand there.
func (m *merging) proof() error {
	if len(m.edits) == 0 {
		return nil
	}
	got, err := Read("", m.out.Text)
	if err != nil || got.Format != m.now.Format {
		if got, err = readAs(m.now.Format, m.out.Text); err != nil {
			return &Wrong{Why: "what the merge makes can't be read back: " + err.Error()}
		}
	}
	for _, c := range m.out.Changes {
		if c.Fate != Carried && c.Fate != Both && c.Fate != Set {
			continue
		}
		value := ""
		it := got.item(c.Key)
		if it != nil {
			value = it.Value
		}
		if it == nil || it.list || !got.same(value, c.Mine) {
			return &Wrong{
				Line:   c.Line,
				Column: 1,
				Why: fmt.Sprintf("%s would be %s in the merged text, and not %s", c.Key,
					words.Quote(value), words.Quote(c.Mine)),
			}
		}
	}
	return nil
}
