package settings

import (
	"slices"
	"strings"

	"freshkeel/internal/placed"
)

// commentsAbove is where the comments begin that stand right above an offset.
func (d *Doc) commentsAbove(at int) int {
	at = placed.LineStart(d.text, at)
	top := d.mark // no line of a value is a comment
	i, _ := slices.BinarySearchFunc(d.Items, at, func(it Item, at int) int { return it.from - at })
	if i > 0 {
		top = d.Items[i-1].to
	}
	for at > top {
		prev := placed.LineStart(d.text, at-1)
		if s := strings.TrimSpace(d.plain[prev:at]); s == "" || !isComment(s) {
			break
		}
		at = prev
	}
	return at
}

// commentLines are the comments of a text that have lines of their own.
func (d *Doc) commentLines() map[string]bool {
	out := map[string]bool{}
	if d != nil {
		for line := range strings.Lines(d.plain[d.mark:]) {
			if s := strings.TrimSpace(line); s != "" && isComment(s) {
				out[s] = true
			}
		}
	}
	return out
}

// ownAbove are the comments above an offset of the operator's text that neither default has.
func (m *merging) ownAbove(at int) string {
	if m.old == nil {
		return ""
	}
	if m.theirs == nil {
		m.theirs = m.old.commentLines()
		for line := range m.now.commentLines() {
			m.theirs[line] = true
		}
	}
	line := placed.LineStart(m.mine.text, at)
	var own strings.Builder
	for s := range strings.Lines(m.mine.plain[m.mine.commentsAbove(at):line]) {
		if !m.theirs[strings.TrimSpace(s)] {
			own.WriteString(strings.TrimRight(s, "\r\n") + m.now.nl)
		}
	}
	return own.String()
}

// behind is what stands on a line behind a value: a comment with the blanks before it.
func (d *Doc) behind(it *Item) placed.Span {
	s := placed.Span{Start: it.end, End: it.end}
	for s.End < it.to && d.text[s.End] != '\n' && d.text[s.End] != '\r' {
		s.End++
	}
	return s
}

// comments keeps the operator's own comments where their key is: above it, and behind its value.
func (m *merging) comments() {
	if !m.byLines() || m.now.Format == "list" {
		return
	}
	for i := range m.mine.Items {
		it := &m.mine.Items[i]
		own, mine := m.ownAbove(it.from), m.mine.behind(it)
		said := strings.TrimSpace(mine.Of(m.mine.text))
		if own == "" && !isComment(said) {
			continue
		}
		now, old := m.now.item(it.Key), m.old.item(it.Key)
		if now == nil || it.list || now.list {
			continue
		}
		if own != "" {
			m.edit(now.from, now.from, own)
		}
		if old == nil || !isComment(said) {
			continue
		}
		was, theirs := strings.TrimSpace(m.old.behind(old).Of(m.old.text)), m.now.behind(now)
		if said != was && strings.TrimSpace(theirs.Of(m.now.text)) == was {
			m.edit(theirs.Start, theirs.End, mine.Of(m.mine.text))
		}
	}
}
