package settings

import (
	"bytes"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/placed"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"github.com/pelletier/go-toml/v2"
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
	Unkept  Fate = "unkept"  // a comment of the operator's, for which there is no place: told; it has no key
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
	return c.Fate == Both || c.Fate == Lost || c.Fate == Unkept || (c.Fate == Dropped && c.Mine != c.Was)
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

// merging is one merge under way.
type merging struct {
	old, now, mine *Doc // old: nil where it is not known
	r              Rules
	out            *Merged
	edits          []placed.Edit
	gone           []placed.Span   // of the new default: values that are taken out of a text that commas part
	placed         map[string]bool // sections of the operator's that were set in whole
	theirs         map[string]bool // the comments of both defaults, once they are asked for
	lost           []Change        // comments of the operator's that have no place
	over           map[int]bool    // lines of the operator's above which their comments were put in place
	brought        []*Item         // keys that the new default alone has, once they are asked for
	inline         bool            // it merges the elements of one list, which stand in brackets
}

// edit puts a text in the place of a part of the new default.
func (m *merging) edit(start, end int, text string) {
	m.edits = append(m.edits, placed.Edit{Span: placed.Span{Start: start, End: end}, Text: text})
}

// Merge sets the operator's changes, which are what differs between mine and old, in the text of
// now. old may be nil. The error is a *Wrong where the two can't be set into one text. Whether the text is right is
// not for the merge to say: see package proof.
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
		old:    old,
		now:    now,
		mine:   mine,
		r:      r,
		out:    &Merged{Format: now.Format, Unsure: old == nil, Changes: make([]Change, 0, 64+len(mine.Items)/4)},
		placed: map[string]bool{},
		over:   map[int]bool{},
	}
	m.severalAreOfAList()
	done := map[string]bool{}
	if old != nil {
		m.sectionsOut(done)
	}
	for i := range m.mine.Items {
		it := &m.mine.Items[i]
		was, now := m.old.item(it.Key), m.now.item(it.Key)
		switch {
		case !it.list && (was == nil || !was.list) && (now == nil || !now.list): // each one of a list says so
			m.one(i, was, now, done)
		case !done[it.Key]:
			if err := m.list(it.Key); err != nil {
				return nil, err
			}
			done[it.Key] = true
		}
	}
	if old != nil {
		m.takenOut(done)
		m.sectionsIn()
		m.comments()
	}
	m.fresh(done)
	m.always()
	m.cut()
	m.out.Text = placed.Apply(m.now.text, m.edits)
	if old != nil {
		m.unkept()
	}
	return m.out, nil
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

// same tells whether two values are: quotes around one make no other value where a format has none, and of lines that go
// on their ends do not count. A number and the same one in quotes are two values where a format has kinds.
func (d *Doc) same(a, b string) bool {
	if strings.Contains(a, "\r") || strings.Contains(b, "\r") {
		a, b = strings.ReplaceAll(a, "\r\n", "\n"), strings.ReplaceAll(b, "\r\n", "\n")
	}
	return a == b || d.canon(a) == d.canon(b)
}

// canon is a value in the one way in which all are written that are the same.
func (d *Doc) canon(v string) string {
	switch d.Format {
	case "json":
		return compact(v)
	case "toml":
		if quoted(v) && !strings.Contains(v, `\`) {
			return `"` + bare(v) + `"`
		}
		var is struct{ V any }
		if (strings.HasPrefix(v, "[") || strings.HasPrefix(v, "{")) && toml.Unmarshal([]byte("V = "+v), &is) == nil {
			return fmt.Sprintf("%#v", is.V)
		}
		return v
	case "yaml":
		if quoted(v) && kinded.MatchString(bare(v)) {
			return `"` + bare(v) + `"`
		}
	}
	return bare(v)
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
func (m *merging) one(i int, was, now *Item, done map[string]bool) {
	it := &m.mine.Items[i]
	key := it.Key
	if to := m.r.Rename[key]; to != "" {
		key, now = to, m.now.item(to)
	}
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
		if c.Fate != Both || !m.elements(it, was, now) {
			m.exchange(now, it)
		}
	case m.instead(it, done):
		c.Fate = Carried
	case was != nil:
		c.Fate = Dropped
		if !m.now.same(it.Value, was.Value) {
			c.Like = m.probably(it, was)
		}
	case m.never(it.Key):
		return
	default:
		if c.Fate = Added; !m.insert(it) {
			c.Fate = Lost
		}
	}
	m.tell(c)
}

// exchange has an item of the new default say what one of the operator's does.
func (m *merging) exchange(now, it *Item) {
	if now.closed || it.closed && it.start == it.end {
		m.edit(now.from, now.to, m.raw(it.from, it.to))
		return
	}
	m.edit(now.start, now.end, m.behindSign(now, strings.ReplaceAll(strings.ReplaceAll(it.Value, "\r\n", "\n"), "\n", m.now.nl)))
}

// behindSign is a value that takes the place of an empty one: behind a colon a blank stands before it, and behind another sign
// where one stands before that, as in «key = value».
func (m *merging) behindSign(now *Item, value string) string {
	if now.start != now.end || value == "" || now.start < 2 {
		return value
	}
	sign, before := m.now.text[now.start-1], m.now.text[now.start-2]
	if sign == ':' || sign == '=' && before == ' ' {
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

// takenOut takes out again what the operator took out of the old default.
func (m *merging) takenOut(done map[string]bool) {
	for i := range m.old.Items {
		it := &m.old.Items[i]
		if done[it.Key] || m.mine.item(it.Key) != nil {
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
		m.edits = slices.DeleteFunc(m.edits, func(e placed.Edit) bool { return e.Start == now.start && e.End == now.end })
		m.out.Changes = slices.DeleteFunc(m.out.Changes, func(c Change) bool { return c.Key == key })
		if value != now.Value {
			m.edit(now.start, now.end, m.behindSign(now, value))
		}
		m.tell(Change{Key: key, Fate: Set, Mine: value, Now: now.Value, Line: now.Line})
	}
}
