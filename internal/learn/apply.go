package learn

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/profile"
	"freshkeel/internal/words"
)

// Apply puts proposals into a profile's text, each with what it was learned from, and
// returns what it takes to take them back. All else of the text stays as it is.
func Apply(text profile.Text, list []Proposal) (profile.Text, []Edit, error) {
	now := time.Now().Round(time.Second)
	text, edits, err := otherSource(text, list, now)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range list {
		e := Edit{At: now, Key: p.Key, Item: p.Item, Value: p.Value, From: p.From}
		from := "# learned from: " + words.Printable(strings.Join(strings.Fields(p.From), " "))
		if p.Item != "" {
			text, err = text.WithItem(p.Key, p.Item, from)
		} else {
			e.Before, e.Comment, _ = text.Value(p.Key)
			text, err = text.With(p.Key, p.Value, from)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", p.Key, err)
		}
		edits = append(edits, e)
	}
	return text, edits, nil
}

// otherSource takes the keys of another kind of source out of a profile: it has one.
func otherSource(text profile.Text, list []Proposal, now time.Time) (_ profile.Text, edits []Edit, err error) {
	kind := func(key string) string {
		rest, is := strings.CutPrefix(key, "source.")
		k, _, _ := strings.Cut(rest, ".")
		if !is || !slices.Contains(profile.SourceKinds, k) {
			return ""
		}
		return k
	}
	comes := ""
	for _, p := range list {
		if k := kind(p.Key); k != "" {
			comes = k
		}
	}
	for _, key := range text.Keys() {
		if k := kind(key); comes == "" || k == "" || k == comes {
			continue
		}
		e := Edit{At: now, Key: key, From: "another source took its place"}
		e.Before, e.Comment, _ = text.Value(key)
		if text, err = text.Without(key); err != nil {
			return nil, nil, err
		}
		edits = append(edits, e)
	}
	return text, edits, nil
}

// Forget takes what was learned of a key, "" for all, out of a profile's text again. A key
// that was edited by hand since stays as it is, and is told.
func Forget(
	text profile.Text,
	edits []Edit,
	key string,
) (_ profile.Text, left []Edit, gone, stays []string, err error) {
	left = slices.Clone(edits)
	for i := len(left) - 1; i >= 0; i-- {
		e := left[i]
		if key != "" && e.Key != key {
			continue
		}
		name := e.Key
		if e.Item != "" {
			name += " " + e.Item
			text, err = text.WithoutItem(e.Key, e.Item)
		} else if now, _, there := text.Value(e.Key); there && now != e.Value && e.Value != "" {
			stays = append(stays, e.Key)
			continue
		} else if e.Before == "" {
			text, err = text.Without(e.Key)
		} else {
			comment := e.Comment
			if comment == "" {
				comment = profile.NoComment
			}
			text, err = text.With(e.Key, e.Before, comment)
		}
		if err != nil {
			return nil, nil, nil, nil, err
		}
		gone = append(gone, name)
		left = slices.Delete(left, i, i+1)
	}
	return text, left, gone, stays, nil
}
