package plan

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"freshkeel/internal/asked"
	"freshkeel/internal/install"
	"freshkeel/internal/launch"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// grant has a launch script do what its profile wishes, and proves it by another reader: the script is run apart as it was and
// as it will be, and the wish is all that may differ in what it starts. What is not proven is not written, and told. Where it
// can't be run apart, what was read counts, as far as all of it is known.
func (pr *Planner) grant(p *Plan, part *install.Install, s *launch.Script) (edits []launch.Edit, lacking []string, err error) {
	wish := WishOf(part.Profile)
	was := s.Copy()
	edits, lacking, err = s.Grant(wish)
	if err != nil || wish.Nothing() {
		return edits, lacking, err
	}
	before, err := pr.ask(p, part, was)
	if err != nil {
		return edits, lacking, nil
	}
	read, err := was.Commands()
	if err != nil {
		return nil, nil, err
	}
	if len(lacking) > 0 && slices.ContainsFunc(read, func(c launch.Command) bool { return len(c.Unknown) > 0 }) {
		s.Restore(was)
		s.Unread = true // what it starts says whether that was right
		edits, lacking, err = s.Grant(wish)
		s.Unread = false
		if err != nil {
			return nil, nil, err
		}
	}
	if len(edits) == 0 {
		if len(lacking) == 0 && !wish.Has(s, before) {
			lacking = append(lacking, told(s, before, "and not what the profile asks, although its text reads so"))
		}
		return nil, lacking, nil
	}
	after, err := pr.ask(p, part, s)
	if err == nil && wish.Has(s, after) && wish.Alone(s, before, after) {
		return edits, lacking, nil
	}
	var whys []string
	for _, e := range edits {
		whys = append(whys, e.Why)
	}
	what := "and nothing at all once it is edited"
	if err == nil {
		what = "and with the text edited: " + line(after)
	}
	s.Restore(was)
	return nil, append(lacking, fmt.Sprintf("%s: %s", strings.Join(whys, ", "), told(s, before, what))), nil
}

// told is what a script starts as it stands, and what is wrong with that.
func told(s *launch.Script, c launch.Command, what string) string {
	at := s.Name
	if at == "" {
		at = s.Label
	}
	return fmt.Sprintf("%s, run apart, starts %s, %s", at, line(c), what)
}

func line(c launch.Command) string {
	return words.Quote(strings.Join(append([]string{c.Program}, c.Args...), " "))
}

// heard is what a script started, or why that can't be known.
type heard struct {
	c   launch.Command
	err error
}

// ask runs a launch script apart, once for each text of it, over the files that the plan will have.
func (pr *Planner) ask(p *Plan, part *install.Install, s *launch.Script) (launch.Command, error) {
	q := asked.Question{Script: s, Texts: s.Now()}
	for _, c := range p.Coming() {
		if c.File != nil && c.File.Kind == tree.File {
			q.Brings = append(q.Brings, c.At)
		}
	}
	key := part.Dir + "\n" + s.Name + s.Label
	for _, at := range slices.Sorted(maps.Keys(s.Texts())) {
		key += "\n" + at + " " + tree.SumBytes(s.Texts()[at]).String()
	}
	if h, is := pr.heard[key]; is {
		return h.c, h.err
	}
	c, err := asked.Of(context.Background(), part, q)
	if pr.heard == nil {
		pr.heard = map[string]heard{}
	}
	pr.heard[key] = heard{c, err}
	return c, err
}
