package settings

import (
	"bytes"
	"slices"
	"strings"

	"freshkeel/internal/placed"
)

// unit is what stands below a key: a value, or a section with all that is in it.
type unit struct {
	key       string
	from, to  int
	value     string // of one of a list
	isSection bool
}

// units are what stands below a key, in the order of the text.
func (d *Doc) units(parent string) (out []unit) {
	starts := map[int]bool{}
	for i := range d.Items {
		if it := &d.Items[i]; it.parent == parent {
			u := unit{key: it.Key, from: it.from, to: it.to}
			if it.list {
				u.value = d.element(it)
			}
			out = append(out, u)
			starts[it.from] = true
		}
	}
	for i := range d.sections {
		if s := &d.sections[i]; s.parent == parent && s.key != parent && !starts[s.from] {
			out = append(out, unit{key: s.key, from: s.from, to: s.to, isSection: true})
		}
	}
	slices.SortStableFunc(out, func(a, b unit) int { return a.from - b.from })
	return out
}

// section is the first section of a key; nil for none. A nil Doc has none.
func (d *Doc) section(key string) *section {
	if d == nil {
		return nil
	}
	for i := range d.sections {
		if d.sections[i].key == key {
			return &d.sections[i]
		}
	}
	return nil
}

// insert puts an item of the operator's where it stood: behind the one before it, as far as the new default has that, or
// before the one behind it. Where the section that it is in is not there, that is put in whole.
func (m *merging) insert(it *Item) bool {
	if m.inside(it) {
		return true
	}
	u := unit{key: it.Key, from: it.from, to: it.to}
	if it.list {
		u.value = m.now.element(it)
	}
	if m.beside(u, it.parent) {
		return true
	}
	if s := m.now.section(it.parent); s != nil && slices.Contains(openEnded, m.now.Format) { // of a head alone
		raw := m.raw(it.from, it.to)
		if s.to > 0 && m.now.text[s.to-1] != '\n' {
			raw = m.now.nl + raw
		}
		m.edit(s.to, s.to, strings.TrimRight(raw, "\r\n")+m.now.nl)
		return true
	}
	return m.whole(it) || m.atEnd(it)
}

// openEnded are the formats in which a section ends where the next one begins: what stands behind it is in it.
var openEnded = []string{"lines", "toml"}

// inside tells whether an item is in a section that was put in whole.
func (m *merging) inside(it *Item) bool {
	for key := range m.placed {
		if it.Key != key && strings.HasPrefix(it.Key, key+".") {
			return true
		}
	}
	return false
}

// beside puts a unit of the operator's beside one that both have.
func (m *merging) beside(u unit, parent string) bool {
	yours, theirs := m.mine.units(parent), m.now.units(parent)
	if len(theirs) == 0 {
		return false
	}
	at := slices.IndexFunc(yours, func(y unit) bool { return y.from == u.from })
	last := at >= 0 && u.value != "" && !slices.ContainsFunc(yours[at+1:], func(y unit) bool { return y.key == u.key })
	open := slices.Contains(openEnded, m.now.Format) && !u.isSection
	find := func(y unit) (found *unit) {
		for i := range theirs {
			if t := &theirs[i]; t.key == y.key && (t.value == y.value || t.key == u.key && last) {
				found = t
			}
		}
		if found == nil {
			for i := range theirs {
				if theirs[i].key == y.key {
					found = &theirs[i]
				}
			}
		}
		return found
	}
	for j := at - 1; j >= 0 && !(u.isSection && at == len(yours)-1 && m.byLines()); j-- {
		if t := find(yours[j]); t != nil && !(open && t.isSection) {
			return m.place(u, *t, true)
		}
	}
	for j := at + 1; at >= 0 && j < len(yours); j++ {
		if t := find(yours[j]); t != nil {
			return m.place(u, *t, false)
		}
	}
	for _, t := range slices.Backward(theirs) {
		if !(open && t.isSection) {
			return m.place(u, t, true)
		}
	}
	return m.place(u, theirs[0], false)
}

// whole puts the outermost section in that an item is in and the new default has not, with all that is in it.
func (m *merging) whole(it *Item) bool {
	for i := range m.mine.sections {
		s := &m.mine.sections[i]
		if s.from > it.from || s.to < it.to || m.now.section(s.key) != nil && !m.empty(s.key) {
			continue
		}
		if m.old.section(s.key) != nil && !m.empty(s.key) { // its makers took it out: what they had in it stays out
			return false
		}
		switch now := m.now.item(s.key); {
		case now != nil && m.old.item(s.key) != nil && !m.now.same(m.old.item(s.key).Value, now.Value):
			return false // they said something else there
		case now != nil:
			m.edit(now.from, now.to, m.raw(s.from, s.to))
		case m.empty(s.key):
			there := m.now.section(s.key).body
			m.edit(there.Start, there.End, m.raw(s.body.Start, s.body.End))
		case !m.beside(unit{key: s.key, from: s.from, to: s.to, isSection: true}, s.parent):
			return false
		}
		m.placed[s.key] = true
		return true
	}
	return false
}

// empty tells whether the new default has a section in braces with nothing in it.
func (m *merging) empty(key string) bool {
	s := m.now.section(key)
	return s != nil && m.now.Format == "json" && s.first == s.last
}

// instead puts a value of the operator's in the place of a section that its makers did not change; false where there is none.
func (m *merging) instead(it *Item, done map[string]bool) bool {
	now, old := m.now.section(it.Key), m.old.section(it.Key)
	if now == nil || old == nil || m.old.plain[old.from:old.to] != m.now.plain[now.from:now.to] {
		return false
	}
	for _, n := range m.now.Items[now.first:now.last] {
		done[n.Key] = true
	}
	m.edit(now.from, now.to, m.raw(it.from, it.to))
	return true
}

// atEnd puts an item at the end of a text that has no place for it: one of keys in a section that is not there gets its head.
func (m *merging) atEnd(it *Item) bool {
	if !slices.Contains([]string{"lines", "words", "toml", "list"}, m.now.Format) || m.inline {
		return false
	}
	end, text := len(m.now.text), ""
	if end > 0 && m.now.text[end-1] != '\n' {
		text = m.now.nl
	}
	if it.parent != "" {
		head := "[" + it.parent + "]" + m.now.nl
		if !slices.ContainsFunc(m.edits, func(e placed.Edit) bool { return e.Start == end && strings.Contains(e.Text, head) }) {
			text += m.now.nl + head
		}
	} else if len(m.now.sections) > 0 {
		return false // at the end it would be of another section
	}
	m.edit(end, end, text+strings.TrimRight(m.raw(it.from, it.to), "\r\n")+m.now.nl)
	return true
}

// raw is a part of the operator's text, with the line ends of the new one.
func (m *merging) raw(from, to int) string {
	s := strings.ReplaceAll(string(m.mine.text[from:to]), "\r\n", "\n")
	return strings.ReplaceAll(s, "\n", m.now.nl)
}

// byLines tells whether what belongs to a value is whole lines.
func (m *merging) byLines() bool {
	return !m.inline && m.now.Format != "json" && m.now.Format != "xml"
}

// place puts a unit of the operator's beside one of the new text.
func (m *merging) place(u, beside unit, behind bool) bool {
	raw := m.raw(u.from, u.to)
	t := m.now.text
	if m.byLines() {
		raw = strings.TrimRight(raw, "\r\n") + m.now.nl
		raw = reindented(raw, indentOf(t, beside.from))
		if own := m.ownAbove(u.from); own != "" {
			raw = own + raw
		}
		if u.isSection && m.now.Format != "yaml" && behind {
			raw = m.now.nl + raw
		}
		if !behind {
			at := m.now.commentsAbove(beside.from)
			if at == m.now.mark { // those are the head of the text
				at = beside.from
			}
			m.edit(at, at, raw)
			return true
		}
		if beside.to > 0 && t[beside.to-1] != '\n' {
			raw = m.now.nl + strings.TrimRight(raw, "\r\n")
		}
		m.edit(beside.to, beside.to, raw)
		return true
	}
	indent := string(t[placed.LineStart(t, beside.from):beside.from])
	sep := m.now.nl + indent
	if strings.TrimSpace(indent) != "" { // several stand on one line
		sep = " "
	} else if strings.Contains(raw, "\n") {
		raw = strings.TrimLeft(reindented(string(m.mine.text[placed.LineStart(m.mine.text, u.from):u.from])+raw, indent), " \t")
	}
	if own := m.ownAbove(u.from); own != "" && sep != " " {
		raw = strings.TrimLeft(own, " \t") + indent + raw
	}
	if m.now.Format == "xml" {
		if t[beside.from] != '<' || m.mine.text[u.from] != '<' {
			return false // an attribute
		}
		if behind {
			m.edit(beside.to, beside.to, sep+raw)
		} else {
			m.edit(beside.from, beside.from, raw+sep)
		}
		return true
	}
	if comma := m.sign(beside.to); behind && comma < len(t) && t[comma] == ',' {
		at := comma + 1
		if end := placed.LineEnd(t, at); m.sign(at) >= end && bytes.Count(t[at:end], []byte("/*")) == bytes.Count(t[at:end], []byte("*/")) { // a comment behind it is its own
			for at = end; t[at-1] == '\n' || t[at-1] == '\r'; at-- {
			}
		}
		m.edit(at, at, sep+raw+",")
	} else if behind {
		m.edit(beside.to, beside.to, ","+sep+raw)
	} else {
		m.edit(beside.from, beside.from, raw+","+sep)
	}
	return true
}

// indentOf are the blanks before what stands first on the line of an offset.
func indentOf(t []byte, at int) string {
	from := placed.LineStart(t, at)
	to := from
	for to < len(t) && (t[to] == ' ' || t[to] == '\t') {
		to++
	}
	return string(t[from:to])
}

// reindented are lines of which the first is set in as a text says, and the others as much more or less.
func reindented(raw, indent string) string {
	had := raw[:len(raw)-len(strings.TrimLeft(raw, " \t"))]
	if had == indent {
		return raw
	}
	var out strings.Builder
	for line := range strings.Lines(raw) {
		if rest, is := strings.CutPrefix(line, had); is && strings.TrimSpace(line) != "" {
			line = indent + rest
		}
		out.WriteString(line)
	}
	return out.String()
}

// remove takes an item out.
func (m *merging) remove(it *Item) bool { return m.takeOut(it.from, it.to) }

// takeOut takes a part of the new default out: whole lines, or what commas or blanks part from its neighbours.
func (m *merging) takeOut(from, to int) bool {
	t := m.now.text
	switch {
	case m.byLines():
		m.edit(from, to, "")
	case m.now.Format == "xml":
		for from > 0 && strings.IndexByte(" \t\r\n", t[from-1]) >= 0 {
			from--
		}
		m.edit(from, to, "")
	default:
		m.gone = append(m.gone, placed.Span{Start: from, End: to})
	}
	return true
}

// cut takes out what commas part: up to the one behind it, and where nothing that stays is behind it, from the one before it.
func (m *merging) cut() {
	t := m.now.text
	slices.SortFunc(m.gone, func(a, b placed.Span) int { return a.Start - b.Start })
	for i := 0; i < len(m.gone); {
		run := m.gone[i]
		comma := false
		for i++; ; i++ {
			after := m.sign(run.End)
			if comma = after < len(t) && t[after] == ','; !comma {
				break
			}
			next := m.sign(after + 1)
			if i >= len(m.gone) || m.gone[i].Start != next {
				if next < len(t) && (t[next] == '}' || t[next] == ']') { // a comma too many
					comma = false
					break
				}
				run.End = next
				if bytes.IndexByte(t[after:next], '\n') < 0 || !m.firstOnLine(run.Start) {
					break
				}
				// Its own lines go; what is set in before the next one stays with that.
				run.Start, run.End = placed.LineStart(t, run.Start), placed.LineEnd(t, after)
				break
			}
			run.End = m.gone[i].End
		}
		if !comma { // the last ones: the comma before them goes too
			for run.Start > 0 && strings.IndexByte(" \t\r\n", t[run.Start-1]) >= 0 {
				run.Start--
			}
			if run.Start > 0 && t[run.Start-1] == ',' {
				run.Start--
			}
		}
		m.edit(run.Start, run.End, "")
	}
	m.gone = nil
}

// firstOnLine tells whether only blanks stand before an offset on its line.
func (m *merging) firstOnLine(at int) bool {
	return len(bytes.TrimSpace(m.now.text[placed.LineStart(m.now.text, at):at])) == 0
}

// sign is where the next sign stands that is neither a blank nor of a comment.
func (m *merging) sign(at int) int {
	t := m.now.text
	for at < len(t) {
		switch {
		case strings.IndexByte(" \t\r\n", t[at]) >= 0:
			at++
		case m.now.Format == "toml" && t[at] == '#', bytes.HasPrefix(t[at:], []byte("//")):
			at = placed.LineEnd(t, at)
		case bytes.HasPrefix(t[at:], []byte("/*")):
			end := bytes.Index(t[at:], []byte("*/"))
			if end < 0 {
				return len(t)
			}
			at += end + 2
		default:
			return at
		}
	}
	return at
}

// sectionsIn puts in the sections of the operator's that have nothing in them.
func (m *merging) sectionsIn() {
	for i := range m.mine.sections {
		s := &m.mine.sections[i]
		if s.first < s.last || m.old.section(s.key) != nil || m.now.section(s.key) != nil || m.now.item(s.key) != nil ||
			slices.ContainsFunc(m.mine.sections[i+1:], func(in section) bool { return in.from < s.to }) {
			continue
		}
		it := &Item{Key: s.key, parent: s.parent, from: s.from, to: s.to, start: s.from, end: s.to}
		if !m.inside(it) && !m.beside(unit{key: s.key, from: s.from, to: s.to, isSection: true}, s.parent) {
			m.tell(Change{Key: s.key, Fate: Lost, Line: placed.LineOf(m.mine.text, s.from)})
		}
	}
}

// sectionsOut takes out the sections that the operator took out whole, where their makers set nothing new in them.
func (m *merging) sectionsOut(done map[string]bool) {
	gone := 0 // up to here, in the new default
	for i := range m.now.sections {
		s := &m.now.sections[i]
		was := m.old.section(s.key)
		if s.from < gone || was == nil || m.mine.section(s.key) != nil || m.mine.item(s.key) != nil ||
			s.first == s.last && was.first < was.last {
			continue
		}
		items := m.now.Items[s.first:s.last]
		if slices.ContainsFunc(items, func(it Item) bool { return m.old.item(it.Key) == nil || m.mine.item(it.Key) != nil || m.never(it.Key) }) {
			continue
		}
		gone = s.to
		m.takeOut(s.from, s.to)
		for _, it := range items {
			if !done[it.Key] {
				m.tell(Change{Key: it.Key, Fate: Removed, Was: m.old.item(it.Key).Value, Now: it.Value, Line: it.Line})
			}
			done[it.Key] = true
		}
	}
}
