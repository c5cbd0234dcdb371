package launch

import (
	"bytes"
	"path"
	"regexp"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Kill is a line of a script that ends every process of a name, whoever's server that is.
type Kill struct {
	Place
	Program string // the name, without its folder
}

var taskkill = regexp.MustCompile(`(?i)\btaskkill\b.*?/im\s+"?([^\s"]+)`)

// KillsIn lists the lines of a script that end processes by their name.
func KillsIn(name string, text []byte) (out []Kill) {
	lines := strings.Split(string(text), "\n")
	if !LooksShell(name, text) {
		for i, l := range lines {
			if m := taskkill.FindStringSubmatch(l); m != nil {
				program := strings.TrimSuffix(strings.ToLower(m[1]), ".exe")
				out = append(out, Kill{Place{name, i + 1, strings.TrimSpace(l)}, program})
			}
		}
		return out
	}
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(text), name)
	if err != nil {
		return nil
	}
	syntax.Walk(f, func(n syntax.Node) bool {
		c, is := n.(*syntax.CallExpr)
		if !is {
			return true
		}
		killer := false
		for i, w := range c.Args {
			word := w.Lit()
			if word == "" && len(w.Parts) == 1 {
				switch q := w.Parts[0].(type) {
				case *syntax.SglQuoted:
					word = q.Value
				case *syntax.DblQuoted:
					if len(q.Parts) == 1 {
						if l, is := q.Parts[0].(*syntax.Lit); is {
							word = l.Value
						}
					}
				}
			}
			switch base := path.Base(word); {
			case base == "killall" || base == "pkill":
				killer = i < 3 // behind sudo, say
			case killer && word != "" && !strings.HasPrefix(word, "-"):
				line := int(c.Pos().Line())
				out = append(out, Kill{Place{name, line, strings.TrimSpace(lines[line-1])}, base})
				killer = false
			}
		}
		return true
	})
	return out
}
