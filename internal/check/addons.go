package check

import (
	"context"
	"fmt"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/profile"
	"freshkeel/internal/swap"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// checkAddons holds each add-on that will stand in the install against the
// version that is to run: by its own descriptor.
func checkAddons(_ context.Context, s *situation) (out []Finding) {
	rules := s.k.Profile.Addons
	ver := s.plan.To
	if len(rules.Files) == 0 || ver == "" {
		return nil
	}
	var stay, gone []string
	removed := map[string]bool{}
	for _, st := range s.plan.Steps {
		removed[st.Path] = st.Do == swap.Remove || st.Do == swap.DropDir
	}
	for _, e := range s.ahead.Before {
		at := e.Path
		if removed[at] {
			gone = append(gone, at)
		} else {
			stay = append(stay, at)
		}
	}
	for _, c := range s.ahead.Coming() {
		stay = append(stay, c.At)
	}
	var mute, fine []string
	for _, a := range s.ahead.Addons(rules, stay) {
		field := fmt.Sprintf("%s, %s: %s = %s", s.k.Path(a.Path), rules.Descriptor, rules.Fits,
			strings.Join(a.Fits, " or "))
		fits, text, err := a.FitsVersion(ver)
		switch {
		case a.Lacks != "":
			mute = append(mute, fmt.Sprintf("%s (%s)", a.Path, a.Lacks))
		case err != nil && !fits:
			mute = append(mute, fmt.Sprintf("%s (%v)", a.Path, err))
		case fits:
			fine = append(fine, a.Path)
		case s.staysAsIs(a.Path) && (s.cand.Stays || s.saidThatBefore(a)):
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("%s says that it fits %s, and not %s", a, text, ver), Where: field,
				Why: "nothing of that changes now: it says the same of what is installed",
				Do:  "nothing, if the server runs well with it; else take another version of it"})
		default:
			do := fmt.Sprintf("take a newer one; or leave it out this time: --hold-back %s", a.Path)
			if version.IsBare(text) && !a.Newer {
				do += fmt.Sprintf("; if a version alone means \"that or newer\" there: bare = %q under [addons]",
					profile.BareAtLeast)
			}
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%s says that it fits %s, and not %s", a, text, ver), Where: field,
				Why: "a server that meets an add-on it can't load may end, or go on without it", Do: do})
		}
	}
	if len(mute) > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s not tell which versions they fit: %s", words.Does(len(mute), "add-on"),
				words.Some(mute, 3)), Where: s.k.Dir,
			Why: "whether the new build loads them is known only when it starts", Do: "look on their makers' pages"})
	}
	for _, a := range s.ahead.Now().Addons(rules, gone) {
		held := false
		for _, h := range s.plan.HeldBack {
			held = held || h == a.Path
		}
		f := Finding{Level: Warn, What: fmt.Sprintf("%s is left behind", a), Where: s.k.Path(a.Path),
			Why: "what brought it has it no longer",
			Do:  "nothing, if that is right; the backup that the refit takes has it"}
		if held {
			f.What, f.Why = fmt.Sprintf("%s is held back", a), "it was asked for with --hold-back"
			f.Do = fmt.Sprintf("once it fits, take it back from the backup: freshkeel backup restore BACKUP "+
				"--only '%s'", s.plan.OnlyThat(a.Path))
		}
		out = append(out, f)
	}
	if len(fine) > 0 {
		out = append(out, ok("%s that %s with %s: %s", words.Plural(len(fine), "add-on"), agree(len(fine)), ver,
			words.Some(fine, 3))...)
	}
	return out
}

// staysAsIs tells whether the plan brings nothing of an add-on.
func (s *situation) staysAsIs(at string) bool {
	return !s.ahead.Brings(at) && !s.ahead.BringsBelow(at)
}

// saidThatBefore tells whether an add-on's word is against the version that is installed
// too.
func (s *situation) saidThatBefore(a ahead.Addon) bool {
	if s.plan.From == "" {
		return false
	}
	fits, _, err := a.FitsVersion(s.plan.From)
	return err == nil && !fits
}

func agree(n int) string {
	if n == 1 {
		return "says it goes"
	}
	return "say they go"
}
