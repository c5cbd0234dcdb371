package settings

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"freshkeel/internal/placed"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// yamlEntry is a key, or a dash, that stands first on its line: the library tells where. What stands behind it until the next
// entry is its own.
type yamlEntry struct {
	parent, name string
	at           int      // the key or the dash
	behind       int      // behind its sign
	node         ast.Node // its value; nil: entries below it are
	depth        int      // how many sections are open around it
	facts        []fact
}

// readYAML reads YAML as settings have it: keys and values by lines, one below the other by how far they are set in. A value
// that goes on over lines, and one in brackets, is one value.
func readYAML(d *Doc) error {
	file, err := parser.ParseBytes(bytes.ReplaceAll(d.text[d.mark:], []byte("\r\n"), []byte("\n")), 0)
	if err != nil {
		return &Wrong{Why: "it is no YAML: " + strings.SplitN(err.Error(), "\n", 2)[0]}
	}
	y := &yamlReader{d: d, lines: []int{d.mark}}
	for l := range placed.Lines(d.text, d.mark) {
		y.lines = append(y.lines, l.Next)
	}
	for i, doc := range file.Docs {
		top := ""
		if i > 0 {
			top = fmt.Sprintf("document %d", i+1)
		}
		if doc.Body == nil {
			continue
		}
		if err := y.walk(doc.Body, top, 0); err != nil {
			return err
		}
	}
	for i, e := range y.entries {
		next := len(d.text)
		if i+1 < len(y.entries) {
			next = placed.LineStart(d.text, y.entries[i+1].at)
		}
		y.take(e, next)
	}
	for range len(d.above) {
		d.shut(y.end)
	}
	return nil
}

type yamlReader struct {
	d       *Doc
	lines   []int // where each begins
	entries []yamlEntry
	end     int // behind the last line that says something
}

// place is where a token stands in the text: the library counts lines and letters.
func (y *yamlReader) place(t *token.Token) (int, error) {
	if t == nil || t.Position == nil || t.Position.Line < 1 || t.Position.Line >= len(y.lines)+1 {
		return 0, &Wrong{Why: "a place in it can't be told"}
	}
	at := y.lines[t.Position.Line-1]
	for range t.Position.Column - 1 {
		_, n := utf8.DecodeRune(y.d.text[at:])
		at += n
	}
	return min(at, len(y.d.text)), nil
}

// within is a value without the anchor and the tag before it.
func within(n ast.Node) ast.Node {
	for {
		switch is := n.(type) {
		case *ast.AnchorNode:
			n = is.Value
		case *ast.TagNode:
			n = is.Value
		default:
			return n
		}
	}
}

// hasEntries tells whether a value is keys or dashes on lines of their own.
func hasEntries(n ast.Node) bool {
	switch is := within(n).(type) {
	case *ast.MappingNode:
		return !is.IsFlowStyle
	case *ast.MappingValueNode:
		return !is.IsFlowStyle
	case *ast.SequenceNode:
		return !is.IsFlowStyle
	}
	return false
}

// pairs are the keys and values of a mapping; none of anything else.
func pairs(n ast.Node) []*ast.MappingValueNode {
	switch is := within(n).(type) {
	case *ast.MappingNode:
		return is.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{is}
	}
	return nil
}

// walk lists the entries of a value.
func (y *yamlReader) walk(n ast.Node, parent string, depth int) error {
	if depth > maxDepth {
		return &Wrong{Why: errDeep.Error()}
	}
	if !hasEntries(n) {
		if depth == 0 && within(n) != nil && within(n).Type() != ast.NullType {
			return &Wrong{Why: "it has no keys"}
		}
		return nil
	}
	if list, is := within(n).(*ast.SequenceNode); is {
		for _, e := range list.Entries {
			at, err := y.place(e.Start)
			if err != nil || at >= len(y.d.text) || y.d.text[at] != '-' {
				return &Wrong{Why: "the place of an entry of a list can't be told"}
			}
			one := yamlEntry{parent: parent, name: "-", at: at, behind: at + 1, node: e.Value, depth: depth}
			for _, p := range pairs(e.Value) {
				if t := p.Value.GetToken(); t != nil && !hasEntries(p.Value) {
					one.facts = append(one.facts, fact{p.Key.GetToken().Value, t.Value})
				}
			}
			y.entries = append(y.entries, one)
		}
		return nil
	}
	for _, p := range pairs(n) {
		key := p.Key.GetToken()
		at, err := y.place(key)
		if err != nil {
			return err
		}
		sign, err := y.place(p.Start)
		if err != nil || sign >= len(y.d.text) || y.d.text[sign] != ':' || key.Type == token.MappingKeyType {
			return &Wrong{Line: key.Position.Line, Why: "the place of a key can't be told"}
		}
		one := yamlEntry{parent: parent, name: key.Value, at: at, behind: sign + 1, node: p.Value, depth: depth}
		below := hasEntries(p.Value)
		if below {
			one.node = nil
		}
		y.entries = append(y.entries, one)
		if below {
			if err := y.walk(p.Value, joined(parent, key.Value), depth+1); err != nil {
				return err
			}
		}
	}
	return nil
}

// take takes an entry in; next is where the line of the next one begins.
func (y *yamlReader) take(e yamlEntry, next int) {
	d, t := y.d, y.d.text
	for len(d.above) > e.depth {
		d.shut(y.end)
	}
	from := placed.LineStart(t, e.at)
	if e.node == nil {
		y.end = placed.LineEnd(t, e.at)
		d.open(joined(e.parent, e.name), from)
		return
	}
	block := within(e.node).Type() == ast.LiteralType
	in := e.at - from
	// The last line that says something of it: comments below a value are not its own, but within a text of several lines.
	to := placed.LineEnd(t, e.behind)
	for l := range placed.Lines(t[:next], to) {
		s := bytes.TrimLeft(t[l.From:l.End], " \t")
		set := l.End - l.From - len(s)
		if len(s) == 0 || bytes.HasPrefix(t[l.From:l.End], []byte("---")) || bytes.HasPrefix(t[l.From:l.End], []byte("...")) ||
			s[0] == '#' && !(block && set > in) {
			continue
		}
		to = l.Next
	}
	y.end = to
	v := placed.Trim(t, placed.Span{Start: e.behind, End: lineText(t, to)})
	if rest := placed.LineEnd(t, e.behind); !block && rest < to { // on the next line
		if first := placed.Trim(t, placed.Span{Start: e.behind, End: lineText(t, rest)}); first.None() || t[first.Start] == '#' {
			for v.Start = rest; v.Start < v.End && bytes.IndexByte([]byte(" \t\r\n"), t[v.Start]) >= 0; v.Start++ {
			}
		}
	}
	if last := max(v.Start, placed.LineStart(t, max(v.End, 1)-1)); !block && last <= v.End {
		if c := comment(t[last:v.End]); c >= 0 {
			v.End = placed.Trim(t, placed.Span{Start: v.Start, End: last + c}).End
		}
	}
	if v.None() || t[v.Start] == '#' {
		v = placed.Span{Start: e.behind, End: e.behind}
	}
	it := d.add(e.parent, e.name, v.Start, v.End, from, to)
	it.list, it.facts = e.name == "-", e.facts
}

// lineText is where the text of a line ends behind which another begins.
func lineText(t []byte, next int) int {
	for next > 0 && (t[next-1] == '\n' || t[next-1] == '\r') {
		next--
	}
	return next
}
