package adopt

import (
	"strings"

	"freshkeel/internal/version"
)

// mostQuestions is how many things a person is asked.
const mostQuestions = 3

// ask asks a person what nothing in the install tells, the most important first: whose files
// are, which version is installed, where builds come from.
func (l *lookout) ask() {
	asked := 0
	put := func(q Question) string {
		asked++
		return strings.TrimSpace(l.a.Ask(q))
	}
	var left []Doubt
	for _, d := range l.doubts {
		if asked == mostQuestions-1 {
			left = append(left, d)
			continue
		}
		yes := put(
			Question{
				Key: "server.keep",
				Of:  d.Pattern,
				Why: d.Why + "; a world is yours, and data that the program comes with is the build's",
			},
		)
		if strings.EqualFold(yes, "y") || strings.EqualFold(yes, "yes") {
			l.keep = append(l.keep, found{d.Pattern, "your word"})
		}
	}
	l.doubts = left
	if l.version == "" && asked < mostQuestions {
		if v := put(Question{Key: "version",
			Why: "no name, log or file of the install says it; a newer build is told from an older one by it"}); version.Valid(
			v,
		) {
			l.version, l.versionFrom = v, "your word"
			l.guess("version", v, "your word")
		}
	}
	if l.a.Source == "" && asked < mostQuestions {
		if s := put(Question{Key: "source",
			Why: "refit finds new builds there by itself"}); s != "" {
			at, err := FromInstall(l.dir, s)
			if err != nil {
				l.note("the source that you named: %v", err)
				return
			}
			l.a.Source = at
		}
	}
}
