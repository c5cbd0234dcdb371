package lessons

import (
	"regexp"
	"strings"
	"time"

	"freshkeel/internal/learn"
	"freshkeel/internal/logline"
)

// offersHelp is how a console says that it has help, and by which word: a harmless one.
var offersHelp = regexp.MustCompile(
	`(?i)\b(?:type|enter|use|try|say|for)\b[^\n]{0,24}?["'\x60«“/]?(/?help|\?)["'\x60»”]?(?:\s|$|[.,!)])`,
)

// helpWait is how long the answer to it is waited for.
const helpWait = 3 * time.Second

// AskHelp asks the console of a running server for its help, where it says that it has one and
// the line that ends it is not known yet, and proposes what that names. It asks with the word
// that the console itself has named, and nothing else.
func (b *Book) AskHelp() ([]learn.Proposal, error) {
	text, p, err := b.text()
	if err != nil {
		return nil, err
	}
	seen := learn.ReadSeen(b.State(learn.FileName))
	h := b.Host()
	if seen.Stop != nil || p.Stop.Send != "" || !b.Host().Status().Running {
		return nil, nil
	}
	word := ""
	said, _ := h.Tail(mostLines)
	for _, line := range logline.Own(said) {
		if m := offersHelp.FindStringSubmatch(line); m != nil {
			word = m[1]
		}
	}
	if word == "" {
		return nil, nil
	}
	from := h.Mark()
	if err := b.Host().Send(word); err != nil {
		return nil, nil // it reads no console: its stop tells that too
	}
	time.Sleep(helpWait)
	answer, _ := h.After(from)
	answer = logline.Own(append(said, answer...))[len(said):]
	words := learn.WordsIn("what its console says to "+word, strings.Join(answer, "\n"))
	return learn.Propose(
		text,
		p,
		seen,
		learn.Observation{Words: learn.Ranked(words), OfBuild: func(string) bool { return false }},
	), nil
}
