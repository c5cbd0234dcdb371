package settings

import (
	"fmt"
	"slices"
	"strings"

	"freshkeel/internal/placed"
	"freshkeel/internal/words"

	"github.com/tailscale/hujson"
)

// severalAreOfAList makes one value of each section of which a text has several of the name: which of them is which no place in
// a text tells, so that they are elements of a list.
func (m *merging) severalAreOfAList() {
	several := map[string]bool{}
	for _, d := range []*Doc{m.old, m.now, m.mine} {
		if d == nil {
			continue
		}
		seen := map[string]bool{}
		for i := range d.sections {
			s := &d.sections[i]
			several[s.key] = several[s.key] || s.many || seen[s.key]
			seen[s.key] = true
		}
	}
	for key, is := range several {
		if !is {
			delete(several, key)
		}
	}
	if len(several) > 0 {
		m.old, m.now, m.mine = m.old.folded(several), m.now.folded(several), m.mine.folded(several)
	}
}

// folded is a text with some sections as one value each. A nil Doc stays nil.
func (d *Doc) folded(keys map[string]bool) *Doc {
	if d == nil {
		return nil
	}
	out := *d
	out.Items, out.sections = nil, nil
	at := 0
	var ends []int // of out.sections: those whose last item is to come
	close := func(upTo int) {
		for n := len(ends) - 1; n >= 0 && out.sections[ends[n]].last <= upTo; n-- {
			out.sections[ends[n]].last = len(out.Items)
			ends = ends[:n]
		}
	}
	for i := 0; i < len(d.sections); i++ {
		s := d.sections[i]
		for ; at < s.first; at++ {
			close(at)
			out.Items = append(out.Items, d.Items[at])
		}
		close(at)
		if !keys[s.key] {
			s.first = len(out.Items)
			ends = append(ends, len(out.sections))
			out.sections = append(out.sections, s)
			continue
		}
		one := Item{Key: s.key, start: s.from, end: s.to, from: s.from, to: s.to, parent: s.parent, list: true}
		one.Value = d.plain[s.from:s.to]
		for ; at < s.last; at++ {
			if it := d.Items[at]; it.parent == s.key {
				one.facts = append(one.facts, fact{strings.TrimPrefix(strings.TrimPrefix(it.Key, s.key), "."), it.Value})
			}
		}
		out.Items = append(out.Items, one)
		for i+1 < len(d.sections) && d.sections[i+1].from < s.to {
			i++
		}
	}
	for ; at < len(d.Items); at++ {
		close(at)
		out.Items = append(out.Items, d.Items[at])
	}
	close(at)
	out.repeat()
	return &out
}

// named are what elements are known by, before anything else that each of them has.
var named = []string{"name", "id", "path", "port", "@name", "@id", "@path", "@port"}

// knownBy tells elements of three lists apart: by the first fact that each of them has, and of which no two of one list have
// the same. Where there is none they have no names, "".
func knownBy(lists ...[]*Item) func(it *Item) string {
	none := func(*Item) string { return "" }
	names := slices.Clone(named)
	count := 0
	for _, list := range lists {
		for _, it := range list {
			if count++; count == 1 {
				for _, f := range it.facts {
					names = append(names, f.name)
				}
			}
		}
	}
	value := func(it *Item, name string) string {
		for _, f := range it.facts {
			if f.name == name {
				return bare(f.value)
			}
		}
		return ""
	}
	for _, name := range names {
		good := count > 0
		for _, list := range lists {
			seen := map[string]bool{}
			for _, it := range list {
				v := value(it, name)
				good = good && v != "" && !seen[v]
				seen[v] = true
			}
		}
		if good {
			return func(it *Item) string { return value(it, name) }
		}
	}
	return none
}

// element is an element's text without what makes no other one of it: blanks at the ends of its lines, comments and empty lines.
func (d *Doc) element(it *Item) string {
	if !strings.Contains(it.Value, "\n") {
		return d.canon(strings.TrimRight(it.Value, "\r"))
	}
	if d.Format == "json" {
		return compact(it.Value)
	}
	var out []string
	for line := range strings.Lines(it.Value) {
		s := strings.TrimRight(line, " \t\r\n")
		if t := strings.TrimSpace(s); t == "" || isComment(t) {
			continue
		} else if d.Format != "yaml" {
			s = t
		}
		out = append(out, s)
	}
	return strings.Join(out, "\n")
}

// elementsOf are a text's values of a key.
func (d *Doc) elementsOf(key string) (out []*Item) {
	d.all(key, func(it *Item) { out = append(out, it) })
	return out
}

// list is for a key that may be repeated: what the operator added, changed or took out stays so. Elements are known by what
// names them, and else by what they say, never by their place. One that both changed is a *Wrong.
func (m *merging) list(key string) error {
	if m.never(key) {
		return nil
	}
	old, now, mine := m.old.elementsOf(key), m.now.elementsOf(key), m.mine.elementsOf(key)
	name := knownBy(old, now, mine)
	says := func(list []*Item) (by, named map[string]*Item) {
		by, named = map[string]*Item{}, map[string]*Item{}
		for _, it := range list {
			by[m.now.element(it)] = it
			if n := name(it); n != "" {
				named[n] = it
			}
		}
		return by, named
	}
	was, wasNamed := says(old)
	is, isNamed := says(now)
	own, ownNamed := says(mine)
	both := func(it *Item, name string) error {
		return &Wrong{Line: it.Line, Column: 1, Why: fmt.Sprintf("its makers and you both changed %s of %s", words.Quote(name), words.Quote(key))}
	}
	if m.old != nil && name(mine[0]) == "" {
		if it := m.sameGap(old, now, mine); it != nil {
			return both(it, it.Value)
		}
	}
	changed := map[*Item]bool{} // of the new default
	for _, it := range mine {
		says := m.now.element(it)
		if was[says] != nil || is[says] != nil {
			continue
		}
		n := name(it)
		c := Change{Key: key, Fate: Added, Mine: it.Value, Line: it.Line}
		if to := isNamed[n]; to != nil {
			from := wasNamed[n]
			if from == nil || m.now.element(from) != m.now.element(to) {
				return both(it, n)
			}
			changed[to] = true
			c.Key, c.Fate, c.Was, c.Now = key+"["+n+"]", Carried, from.Value, to.Value
			m.edit(to.from, to.to, m.raw(it.from, it.to))
		} else if !m.insert(it) {
			c.Fate = Lost
		}
		m.tell(c)
	}
	if m.old == nil {
		return nil
	}
	for _, it := range now {
		says, n := m.now.element(it), name(it)
		switch {
		case was[says] != nil && own[says] == nil && !changed[it]:
			if m.remove(it) {
				m.tell(Change{Key: key, Fate: Removed, Was: it.Value, Line: it.Line})
			}
		case was[says] == nil && own[says] == nil && wasNamed[n] != nil && ownNamed[n] == nil: // out of yours, and another in theirs
			return both(it, n)
		}
	}
	return nil
}

// sameGap is an element of the operator's that stands where the makers put another one, in the place of one that both took
// out; nil where there is none. Elements that are in all three lists say what the place is.
func (m *merging) sameGap(old, now, mine []*Item) *Item {
	count := map[string]int{}
	in := func(list []*Item, bit int) {
		for _, it := range list {
			count[m.now.element(it)] |= bit
		}
	}
	in(old, 1)
	in(now, 2)
	in(mine, 4)
	gaps := func(list []*Item, bits int) map[string][]*Item {
		out, after := map[string][]*Item{}, ""
		for _, it := range list {
			switch e := m.now.element(it); count[e] {
			case 7:
				after = e
			case bits:
				out[after] = append(out[after], it)
			}
		}
		return out
	}
	theirs, yours := gaps(now, 2), gaps(mine, 4)
	for after, gone := range gaps(old, 1) {
		if len(gone) > 0 && len(theirs[after]) > 0 && len(yours[after]) > 0 {
			return yours[after][0]
		}
	}
	return nil
}

// elements merges a list that is one value by its elements, where both changed it; false where it has none that are known, and
// stays one value.
func (m *merging) elements(it, was, now *Item) bool {
	if len(it.parts) == 0 || len(was.parts) == 0 || len(now.parts) == 0 {
		return false
	}
	in := &merging{old: m.old.inside(was), now: m.now.inside(now), mine: m.mine.inside(it), out: &Merged{}, inline: true}
	if in.list("[]") != nil || slices.ContainsFunc(in.out.Changes, func(c Change) bool { return c.Fate == Lost }) {
		return false
	}
	in.cut()
	m.edits = append(m.edits, in.edits...)
	return true
}

// inside are the elements of a list as a text of their own, at their places.
func (d *Doc) inside(it *Item) *Doc {
	out := &Doc{Format: d.Format, text: d.text, plain: d.plain, mark: d.mark, nl: d.nl, body: placed.Span{Start: it.start, End: it.end}}
	for _, p := range it.parts {
		one := out.add("", "[]", p.Start, p.End, p.Start, p.End)
		one.list = true
		if d.Format == "json" && d.text[p.Start] == '{' {
			if v, err := hujson.Parse(d.text[p.Start:p.End]); err == nil {
				one.facts = factsOfJSON(&v)
			}
		}
	}
	out.repeat()
	return out
}
