package check

import (
	"cmp"
	"context"
	"fmt"

	"freshkeel/internal/feed"
	"freshkeel/internal/plan"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// checkLayers holds every layer to the versions of the build that it fits, and
// tells where two bring one file.
func checkLayers(ctx context.Context, s *situation) (out []Finding) {
	for _, lf := range s.fetched.Layers {
		c := lf.Candidate
		where := c.Source
		if was, ok := s.inv.Laid(lf.Layer); ok && was.Version != "" && lf.Version != "" && was.Version != lf.Version &&
			!s.want.Back {
			if newer, known := c.Newer(was.Version); known && !newer {
				out = append(out, Finding{Level: Stop,
					What:  fmt.Sprintf("%s %s is older than the installed %s", lf.Layer, lf.Version, was.Version),
					Where: where,
					Why:   "a step back is never an accident", Do: "add --back if it is meant"})
			}
		}
		switch {
		case c.Fits == "":
		case s.plan.To == "":
			out = append(out, Finding{Level: Warn,
				What:  fmt.Sprintf("%s %s fits %s, and the build's version is not known", lf.Layer, lf.Version, c.Fits),
				Where: where,
				Why:   "an add-on for another version often keeps the server from coming up",
				Do:    "say the version with --as"})
		case !version.Fits(c.Fits, s.plan.To):
			f := Finding{Level: Stop, What: fmt.Sprintf("layer %s %s fits %s, not %s", lf.Layer, lf.Version, c.Fits,
				s.plan.To), Where: where,
				Why: "it says so itself; a layer that does not fit often keeps the server from coming up",
				Do:  s.otherLayer(ctx, lf.Layer)}
			out = append(out, f)
		default:
			out = append(out, ok("layer %s %s fits %s", lf.Layer, lf.Version, s.plan.To)...)
		}
	}
	for _, g := range s.fetched.Gone {
		f := Finding{Level: Warn, What: fmt.Sprintf("layer %s is left out: %s", g.Layer, g.Why),
			Where: "[[layer]] in freshkeel.toml",
			Why:   "the server runs without it",
			Do:    fmt.Sprintf("nothing, if that is meant; --layer %s=VERSION lays it on", g.Layer)}
		if !g.Said {
			f.Level, f.Why, f.Do = Stop, "what it brings would be missing",
				fmt.Sprintf("go without it: --without %s", g.Layer)
		}
		out = append(out, f)
	}
	if n := len(s.plan.Overlaid); n > 0 {
		var list []string
		for _, o := range s.plan.Overlaid {
			list = append(list, fmt.Sprintf("%s (%s over %s)", o.Path, plan.Whose(o.Over), plan.Whose(o.Under)))
		}
		out = append(out, Finding{Level: Warn,
			What:  fmt.Sprintf("%s brought twice: %s", words.Plural(n, "path"), words.Some(list, 4)),
			Where: "the order of [[layer]] in freshkeel.toml",
			Why:   "the later layer's file is used", Do: "change the order of the layers if the other one is meant"})
	}
	return out
}

// otherLayer advises a version of a layer that fits, or going without it.
func (s *situation) otherLayer(ctx context.Context, name string) string {
	without := fmt.Sprintf("go without it: --without %s", name)
	o, err := s.k.res.Layer(name)
	if err != nil {
		return without
	}
	f, err := s.k.res.List(ctx, o)
	if err != nil {
		return without
	}
	if b, ok := f.Newest(o.Source.Channel,
		func(b feed.Build) bool { return version.Fits(cmp.Or(b.Fits, o.Fits), s.plan.To) }); ok {
		return fmt.Sprintf("take %s %s, which fits: --layer %s=%s; or %s", name, b.Version, name, b.Version, without)
	}
	return "none of its versions fits; " + without
}
