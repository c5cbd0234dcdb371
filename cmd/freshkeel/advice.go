package main

import (
	"regexp"
	"slices"
	"strings"

	"freshkeel"
)

// ours is one of our own commands in a text, with the word that says which.
var ours = regexp.MustCompile(`\bfreshkeel ([a-z]+)\b`)

// anywhere are the commands that need no install.
var anywhere = []string{"adopt", "demo", "lay", "feed", "help"}

// runnable makes each of our commands in a text one that does the same where the person is: with the install's
// folder, where that was named.
func runnable(p *program, text string) string {
	if p.dir == "" || !strings.Contains(text, "freshkeel ") {
		return text
	}
	if p.known == nil {
		for _, c := range p.commands() {
			p.known = append(p.known, c.Name)
		}
	}
	at := " -d " + freshkeel.Shell(p.dir)
	return ours.ReplaceAllStringFunc(text, func(found string) string {
		word := ours.FindStringSubmatch(found)[1]
		if slices.Contains(anywhere, word) || !slices.Contains(p.known, word) {
			return found
		}
		return "freshkeel" + at + strings.TrimPrefix(found, "freshkeel")
	})
}
