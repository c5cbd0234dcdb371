package launch

import (
	"bytes"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Conflict is a part of a script that its makers and the operator both changed, each in
// another way.
type Conflict struct {
	Line int    `json:"line"` // of the operator's script, counted from 1
	Old  string `json:"old"`
	Now  string `json:"now"`  // the makers'
	Mine string `json:"mine"` // the operator's
}

// Merged is the makers' new script with the operator's changes in it.
type Merged struct {
	Text      []byte
	Both      []Conflict // flags that both changed: the operator's value stands
	Conflicts []Conflict // nothing is merged where there are any
}

// Merge sets in the makers' new script what the operator changed in the old one: by statement,
// and by word where both changed the same statement. Of one flag that both gave another value
// the operator's stands, and is told. name tells a batch script from a shell script.
func Merge(name string, old, now, mine []byte) *Merged {
	out := &Merged{}
	o, a, b := statements(name, old), statements(name, now), statements(name, mine)
	line := 1
	var text strings.Builder
	for _, ch := range threeWay(o, a, b) {
		text.WriteString(out.merge(ch, line, 0))
		line += strings.Count(strings.Join(ch.mine, ""), "\n")
	}
	out.Text = []byte(text.String())
	if len(out.Conflicts) == 0 && !isBatch(name) && parses(now) && !parses(out.Text) {
		out.Conflicts = append(out.Conflicts, Conflict{Line: 1, Now: string(now), Mine: string(mine)})
	}
	return out
}

func parses(text []byte) bool {
	_, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(bytes.ReplaceAll(text,
		[]byte("\r\n"), []byte("\n"))), "")
	return err == nil
}

// merge is what becomes of one part of three texts; depth is how far it was taken apart.
func (m *Merged) merge(ch chunk, line, depth int) string {
	o, a, b := strings.Join(ch.old, ""), strings.Join(ch.now, ""), strings.Join(ch.mine, "")
	switch {
	case o == a, a == b:
		return b
	case o == b, strings.TrimSpace(a) == strings.TrimSpace(b): // but for blanks
		return a
	}
	both := Conflict{line, strings.TrimSpace(o), strings.TrimSpace(a), strings.TrimSpace(b)}
	key := keyOf(both.Now)
	flag := strings.HasPrefix(both.Now, "-") && !strings.ContainsAny(both.Now+both.Mine, " \n")
	if flag && key == keyOf(both.Mine) && (both.Old == "" || keyOf(both.Old) == key) {
		m.Both = append(m.Both, both)
		return b
	}
	if flag && strings.TrimSpace(o) == "" && strings.HasPrefix(both.Mine, "-") { // each added one of their own
		return strings.TrimRight(a, " \t\r\n") + " " + b
	}
	if depth < 3 {
		var text strings.Builder
		inner := &Merged{}
		for _, part := range threeWay(words(o, depth), words(a, depth), words(b, depth)) {
			text.WriteString(inner.merge(part, line, depth+1))
		}
		if len(inner.Conflicts) == 0 {
			m.Both = append(m.Both, inner.Both...)
			return text.String()
		}
	}
	m.Conflicts = append(m.Conflicts, both)
	return b
}

// statements takes a script apart: into lines, where a command of several lines is one.
func statements(name string, text []byte) []string {
	lines := strings.SplitAfter(string(text), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	joined := make([]bool, len(lines)+2) // a line that goes on with the one before
	if !isBatch(name) {
		f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(bytes.ReplaceAll(text,
			[]byte("\r\n"), []byte("\n"))), "")
		if err == nil {
			syntax.Walk(f, func(n syntax.Node) bool {
				switch n.(type) {
				case *syntax.CallExpr, *syntax.DeclClause:
					for i := n.Pos().Line() + 1; i <= n.End().Line() && int(i) < len(joined); i++ {
						joined[i] = true
					}
				}
				return true
			})
		}
	}
	var out []string
	for i, l := range lines {
		if joined[i+1] && len(out) > 0 {
			out[len(out)-1] += l
		} else {
			out = append(out, l)
		}
	}
	return out
}

// words takes a text apart into words, each with the blanks behind it: at first those that
// quotes hold together, then what is in the quotes, then the parts of a word.
func words(s string, depth int) (out []string) {
	quote, blank := byte(0), true
	from := 0
	cut := func(at int) {
		if at > from {
			out = append(out, s[from:at])
		}
		from = at
	}
	for i := 0; i < len(s); i++ {
		c := s[i]
		if depth == 0 && quote != 0 {
			if c == quote {
				quote = 0
			}
			continue
		}
		space := c == ' ' || c == '\t' || c == '\n' || c == '\r'
		if !space && blank {
			cut(i)
		}
		if depth == 0 && (c == '"' || c == '\'') {
			quote = c
		}
		if depth > 0 && (c == '"' || c == '\'' || (depth > 1 && strings.IndexByte("=:,/", c) >= 0)) {
			cut(i)
			cut(i + 1)
		}
		blank = space
	}
	cut(len(s))
	return out
}

// chunk is a part of three lists: one element that all share, or what stands between such.
type chunk struct{ old, now, mine []string }

// apart takes a chunk apart: element by element where all have as many, and where one side only
// put something before or behind what the other one changed, and put nothing there itself.
func (c chunk) apart() []chunk {
	n := len(c.old)
	switch {
	case n == 0:
	case len(c.now) == n && len(c.mine) == n:
		var out []chunk
		for i := range n {
			out = append(out, chunk{c.old[i : i+1], c.now[i : i+1], c.mine[i : i+1]})
		}
		return out
	case len(c.now) > n && len(c.mine) > n:
	case len(c.now) > n && alikeWords(c.now[:n], c.old):
		return []chunk{{c.old, c.now[:n], c.mine}, {nil, c.now[n:], nil}}
	case len(c.mine) > n && alikeWords(c.mine[:n], c.old):
		return []chunk{{c.old, c.now, c.mine[:n]}, {nil, nil, c.mine[n:]}}
	case len(c.now) > n && alikeWords(c.now[len(c.now)-n:], c.old):
		return []chunk{{nil, c.now[:len(c.now)-n], nil}, {c.old, c.now[len(c.now)-n:], c.mine}}
	case len(c.mine) > n && alikeWords(c.mine[len(c.mine)-n:], c.old):
		return []chunk{{nil, nil, c.mine[:len(c.mine)-n]}, {c.old, c.now, c.mine[len(c.mine)-n:]}}
	}
	return []chunk{c}
}

func alikeWords(a, b []string) bool { return slices.EqualFunc(a, b, alikeWord) }

// alikeWord tells whether two words are the same but for the blanks around them.
func alikeWord(a, b string) bool { return a == b || strings.TrimSpace(a) == strings.TrimSpace(b) }

// threeWay takes three lists apart, at what the old one shares with each of the others.
func threeWay(o, a, b []string) (out []chunk) {
	inA, inB := pairs(o, a), pairs(o, b)
	i, j, k := 0, 0, 0
	for n := 0; n < len(o); n++ {
		x, y := inA[n], inB[n]
		if x < 0 || y < 0 {
			continue
		}
		if n > i || x > j || y > k {
			out = append(out, chunk{o[i:n], a[j:x], b[k:y]}.apart()...)
		}
		out = append(out, chunk{o[n : n+1], a[x : x+1], b[y : y+1]})
		i, j, k = n+1, x+1, y+1
	}
	if i < len(o) || j < len(a) || k < len(b) {
		out = append(out, chunk{o[i:], a[j:], b[k:]}.apart()...)
	}
	return out
}

// mostPairs bounds what a comparison costs: beyond it all between beginning and end differs.
const mostPairs = 4 << 20

// pairs tells for each element of a list which one of another it is, in a longest common
// subsequence; -1 for none.
func pairs(o, a []string) []int {
	out := slices.Repeat([]int{-1}, len(o))
	begin := 0
	for begin < min(len(o), len(a)) && alikeWord(o[begin], a[begin]) {
		out[begin] = begin
		begin++
	}
	eo, ea := len(o), len(a)
	for eo > begin && ea > begin && alikeWord(o[eo-1], a[ea-1]) {
		eo, ea = eo-1, ea-1
		out[eo] = ea
	}
	n, m := eo-begin, ea-begin
	if n == 0 || m == 0 || n*m > mostPairs {
		return out
	}
	long := make([][]int32, n+1)
	for i := range long {
		long[i] = make([]int32, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if alikeWord(o[begin+i], a[begin+j]) {
				long[i][j] = long[i+1][j+1] + 1
			} else {
				long[i][j] = max(long[i+1][j], long[i][j+1])
			}
		}
	}
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case alikeWord(o[begin+i], a[begin+j]):
			out[begin+i] = begin + j
			i, j = i+1, j+1
		case long[i+1][j] >= long[i][j+1]:
			i++
		default:
			j++
		}
	}
	return out
}
