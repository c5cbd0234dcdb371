package check

import (
	"context"
	"fmt"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/edited"
	"freshkeel/internal/plan"
	"freshkeel/internal/profile"
	"freshkeel/internal/secrets"
	"freshkeel/internal/settings"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// checkEdited tells of settings, scripts and add-ons that were edited since the server last
// came up: if it does not come up with the new build, these may be why.
func checkEdited(_ context.Context, s *situation) []Finding {
	edits, read := edited.Since(s.k.Install, s.ahead.Before)
	if len(edits) == 0 {
		return nil
	}
	var list []string
	for _, e := range edits {
		list = append(list, e.String())
	}
	return []Finding{{Level: Warn,
		What: fmt.Sprintf("%s edited since the server last came up, at %s: %s", words.Were(len(edits), "file"),
			read.Local().Format("2006-01-02 15:04"), words.Some(list, 3)), Where: s.k.Dir,
		Why: "no server has read that yet: if the new build does not come up, it may be the edit and not the build, and " +
			"the old one would meet it too",
		Do: "where you are not sure of it, see the old server come up with it first: freshkeel stop; freshkeel start"}}
}

// checkSettings tells what becomes of the operator's settings: a line a file, and what has to be
// looked at.
func checkSettings(_ context.Context, s *situation) (out []Finding) {
	people := s.k.Profile.PeopleAsSettings(s.ahead.Before, func(at string) ([]byte, error) {
		return tree.ReadUpTo(s.k.Path(at), ahead.MaxText)
	})
	if len(people) > 0 {
		out = append(out, Finding{Level: Warn, Routine: true,
			What:  "named as settings, and lists of people: " + words.Some(people, 4),
			Where: s.k.Path(profile.FileName) + ", [server] settings",
			Why:   "a rollback brings settings back as they were: yesterday's bans and members",
			Do:    "freshkeel profile set --add server.keep " + words.Shell(people[0])})
	}
	for _, file := range s.plan.Uncarried {
		out = append(out, Finding{Level: Warn,
			What:  fmt.Sprintf("[[carry]] file = %s names no file, neither here nor in the build", words.Quote(file)),
			Where: s.k.Path(profile.FileName) + ", [[carry]]", Why: "what it asks for is done nowhere",
			Do: "correct the name, or take the rule out"})
	}
	for _, c := range s.plan.Carried {
		if c.Unknown {
			out = append(out, ok("%s stays as you have it: %s", c.Path, c.Wrong)...)
			continue
		}
		if c.Wrong != "" {
			out = append(out, Finding{Level: Warn, What: c.Path + " stays as you have it: " + c.Wrong,
				Where: s.k.Path(c.Path), Why: "what the new build sets in it is not in yours",
				Do: "compare them once it runs, or mend the file"})
			continue
		}
		if len(c.Missing) > 0 {
			level := Warn
			if c.Stop {
				level = Stop
			}
			out = append(out, Finding{Level: level,
				What: fmt.Sprintf("%s: %s is to be the build's own number, and the source says none of %s", c.Path,
					words.Some(c.Missing, 3), s.plan.To), Where: s.k.Path(profile.FileName) + ", [carry.always]",
				Why: "the value stays as it is, and players of the new build may be sent away",
				Do:  "write {version} there, or set it by hand; a source says the number by «number»"})
		}
		sum := carriedWords(c)
		doubts := c.Doubts()
		if len(doubts) == 0 {
			out = append(out, ok("%s: %s", c.Path, sum)...)
			continue
		}
		var list []string
		for _, d := range doubts {
			list = append(list, doubtWords(d))
		}
		level := Warn
		if c.Stop {
			level = Stop
		}
		out = append(out, Finding{Level: level, What: fmt.Sprintf("%s: %s; to look at: %s", c.Path, sum,
			words.Some(list, 6)), Where: s.k.Path(c.Path),
			Why: "a value that the maker changed too, or has no more, may not mean what it did",
			Do: "preflight --all shows the whole file as it will be; [[carry]] in the profile says otherwise " +
				"(docs/profile.md); the file as it is now is in the backup"})
	}
	return out
}

// carriedWords counts what becomes of a file's values.
func carriedWords(c plan.Carry) string {
	var parts []string
	for _, f := range []settings.Fate{settings.Carried, settings.Both, settings.Set, settings.Added, settings.Removed,
		settings.Default, settings.New, settings.Dropped, settings.Lost, settings.Unkept} {
		if n := c.Count(f); n > 0 {
			w := fateWords[f]
			if n > 1 {
				w[0] = w[1]
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, w[0]))
		}
	}
	sum := strings.Join(parts, ", ")
	if sum == "" {
		sum = "nothing to carry"
	}
	if c.Unsure {
		sum += " (the old build's default is not known: whatever differs from the new one counts as yours)"
	}
	return sum
}

// fateWords are what a fate is called of one value, and of several.
var fateWords = map[settings.Fate][2]string{
	settings.Carried: {"value of yours carried over", "values of yours carried over"},
	settings.Both: {
		"value of yours kept that the maker changed too",
		"values of yours kept that the maker changed too",
	},
	settings.Set:     {"value set by the profile", "values set by the profile"},
	settings.Added:   {"key of your own kept", "keys of your own kept"},
	settings.Removed: {"key that you took out stays out", "keys that you took out stay out"},
	settings.Default: {"default that the maker changed", "defaults that the maker changed"},
	settings.New:     {"new key", "new keys"},
	settings.Dropped: {"key that the maker dropped", "keys that the maker dropped"},
	settings.Lost:    {"value for which there is no place", "values for which there is no place"},
	settings.Unkept:  {"comment of yours that is not kept", "comments of yours that are not kept"},
}

// doubtWords is one value to look at.
func doubtWords(d settings.Change) string {
	mine := secrets.Of(d.Key, d.Mine)
	switch d.Fate {
	case settings.Both:
		return fmt.Sprintf("%s = %s (the default was %s, and is %s)", d.Key, mine, secrets.Of(d.Key, d.Was), secrets.Of(d.Key, d.Now))
	case settings.Dropped:
		if d.Like != "" {
			return fmt.Sprintf("%s = %s is dropped; probably it is %s now", d.Key, mine, d.Like)
		}
		return fmt.Sprintf("%s = %s is dropped by the maker", d.Key, mine)
	}
	if d.Fate == settings.Unkept {
		first, _, _ := strings.Cut(d.Mine, "\n")
		return fmt.Sprintf("your comment in line %d, %s, has no place in the new file", d.Line, words.Quote(secrets.Of("", first)))
	}
	return fmt.Sprintf("%s = %s has no place in the new file", d.Key, mine)
}
