package settings

import (
	"slices"
	"strings"

	"freshkeel/internal/placed"
)

// remark is a comment that has lines of its own: one line, or the lines from the sign that begins it to the one that ends it.
type remark struct {
	placed.Span
	text string // without the blanks at the ends of its lines
}

// around are the signs that a comment of several lines stands between; "" in a format that has none.
func (d *Doc) around() (begin, end string) {
	switch d.Format {
	case "xml":
		return "<!--", "-->"
	case "json", "blocks":
		return "/*", "*/"
	}
	return "", ""
}

// remarks are the comments in some whole lines of the text, in their order.
func (d *Doc) remarks(from, to int) (out []remark) {
	begin, end := d.around()
	for at := from; at < to; {
		next := min(placed.LineEnd(d.text, at), to)
		s := strings.TrimSpace(d.plain[at:next])
		if begin != "" && strings.HasPrefix(s, begin) {
			if i := strings.Index(d.plain[at:to], end); i >= 0 {
				next = min(placed.LineEnd(d.text, at+i), to)
				s = strings.TrimSpace(d.plain[at:next])
			}
			if strings.HasSuffix(s, end) {
				var lines []string
				for l := range strings.Lines(s) {
					lines = append(lines, strings.TrimSpace(l))
				}
				out = append(out, remark{placed.Span{Start: at, End: next}, strings.Join(lines, "\n")})
			}
		} else if s != "" && d.Format != "xml" && d.isComment(s) {
			out = append(out, remark{placed.Span{Start: at, End: next}, s})
		}
		at = next
	}
	return out
}

// remarksAbove are the comments that stand right above the line of an offset, in their order.
func (d *Doc) remarksAbove(at int) []remark {
	at = placed.LineStart(d.text, at)
	top := d.mark // no line of a value is a comment
	i, _ := slices.BinarySearchFunc(d.Items, at, func(it Item, at int) int { return it.from - at })
	if i > 0 {
		if top = d.Items[i-1].to; top != placed.LineStart(d.text, top) {
			top = min(placed.LineEnd(d.text, top), at)
		}
	}
	if top >= at || !d.maybeRemark(at) {
		return nil
	}
	list := d.remarks(top, at)
	n := len(list)
	for n > 0 && list[n-1].End == at {
		n--
		at = list[n].Start
	}
	return list[n:]
}

// maybeRemark tells whether the line before an offset could be the end of a comment.
func (d *Doc) maybeRemark(at int) bool {
	s := strings.TrimSpace(d.plain[placed.LineStart(d.text, at-1):at])
	_, end := d.around()
	return s != "" && (d.isComment(s) || end != "" && strings.HasSuffix(s, end))
}

// commentsAbove is where the comments begin that stand right above an offset.
func (d *Doc) commentsAbove(at int) int {
	if list := d.remarksAbove(at); len(list) > 0 {
		return list[0].Start
	}
	return placed.LineStart(d.text, at)
}

// isOwn tells whether a comment of the operator's is in neither default.
func (m *merging) isOwn(r remark) bool {
	if m.theirs == nil {
		m.theirs = map[string]bool{}
		for _, d := range []*Doc{m.old, m.now} {
			if d == nil {
				continue
			}
			for _, r := range d.remarks(d.mark, len(d.text)) {
				m.theirs[r.text] = true
			}
		}
	}
	return !m.theirs[r.text]
}

// ownAbove are the comments above an offset of the operator's text that neither default has.
func (m *merging) ownAbove(at int) string {
	var own strings.Builder
	for _, r := range m.mine.remarksAbove(at) {
		if m.old == nil && r.Start == m.mine.mark { // the head of a default that is not known
			return ""
		}
		if m.isOwn(r) {
			own.WriteString(strings.TrimRight(m.raw(r.Start, r.End), "\r\n") + m.now.nl)
		}
	}
	return own.String()
}

// behind is what stands on a line behind a value: a comment with the blanks before it.
func (d *Doc) behind(it *Item) placed.Span {
	s, to := placed.Span{Start: it.end, End: it.end}, it.to
	if d.Format == "json" { // and behind the comma
		for to = len(d.text); s.End < to && (d.text[s.End] == ',' || d.text[s.End] == ' '); s.End++ {
		}
	}
	for s.End < to && d.text[s.End] != '\n' && d.text[s.End] != '\r' {
		s.End++
	}
	return s
}

// comments keeps the operator's own comments where their key is: above it, or above its section, and behind its value. One below
// all keys stays below all. One that has no place is told.
func (m *merging) comments() {
	if m.inline {
		return
	}
	for i := range m.mine.sections {
		if s := &m.mine.sections[i]; m.now.section(s.key) != nil {
			m.commentsOver(s.from, m.now.section(s.key).from)
		}
	}
	last := m.mine.mark
	for i := range m.mine.Items {
		it := &m.mine.Items[i]
		last = max(last, it.to)
		now, old := m.now.item(it.Key), m.old.item(it.Key)
		if now == nil || it.list || now.list {
			continue
		}
		m.commentsOver(it.from, now.from)
		m.commentBehind(it, now, old)
	}
	if m.byLines() {
		var end strings.Builder
		for _, r := range m.mine.remarks(placed.LineEnd(m.mine.text, max(last-1, 0)), len(m.mine.text)) {
			if m.isOwn(r) {
				end.WriteString(strings.TrimRight(m.raw(r.Start, r.End), "\r\n") + m.now.nl)
			}
		}
		if n := len(m.now.text); end.Len() > 0 && n > 0 && m.now.text[n-1] == '\n' {
			m.edit(n, n, end.String())
		}
	}
}

// commentsOver puts the operator's own comments above one place of their text above one of the new default.
func (m *merging) commentsOver(mine, now int) {
	a, b := placed.LineStart(m.mine.text, mine), placed.LineStart(m.now.text, now)
	if strings.TrimSpace(m.mine.plain[a:mine]) != "" || strings.TrimSpace(m.now.plain[b:now]) != "" {
		return // it is not the first on its line
	}
	if own := m.ownAbove(mine); own != "" && !m.over[a] {
		m.edit(b, b, own)
		m.over[a] = true
	}
}

// commentBehind keeps the operator's own comment behind a value.
func (m *merging) commentBehind(it, now, old *Item) {
	mine := m.mine.behind(it)
	said := strings.TrimSpace(mine.Of(m.mine.text))
	if m.now.Format == "json" {
		said = strings.TrimLeft(said, ", ")
	}
	if old == nil || !isComment(said) && !(m.now.Format == "json" && strings.HasPrefix(said, "/*")) {
		return
	}
	was, theirs := strings.TrimSpace(m.old.behind(old).Of(m.old.text)), m.now.behind(now)
	is := strings.TrimSpace(theirs.Of(m.now.text))
	switch {
	case strings.HasSuffix(was, said) || strings.HasSuffix(is, said):
	case is == was && m.byLines():
		m.edit(theirs.Start, theirs.End, mine.Of(m.mine.text))
	case strings.Trim(is, ",") == "" && strings.Trim(was, ",") == "" && m.now.Format == "json": // behind the comma, at the end of the line
		m.edit(theirs.End, theirs.End, " "+said)
	default:
		m.lost = append(m.lost, Change{Fate: Unkept, Mine: said, Line: it.Line})
	}
}

// unkept tells of the operator's own comments that are not in the merged text.
func (m *merging) unkept() {
	kept := Doc{Format: m.now.Format, text: m.out.Text, plain: string(m.out.Text), mark: m.now.mark}
	stand := map[string]bool{}
	for _, r := range kept.remarks(kept.mark, len(kept.text)) {
		stand[r.text] = true
	}
	for _, r := range m.mine.remarks(m.mine.mark, len(m.mine.text)) {
		if m.isOwn(r) && !stand[r.text] {
			m.lost = append(m.lost, Change{Fate: Unkept, Mine: r.text, Line: placed.LineOf(m.mine.text, r.Start)})
		}
	}
	slices.SortStableFunc(m.lost, func(a, b Change) int { return a.Line - b.Line })
	m.out.Changes = append(m.out.Changes, m.lost...)
}
