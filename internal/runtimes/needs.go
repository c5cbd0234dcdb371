package runtimes

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/needs"
	"freshkeel/internal/version"
)

// JavaNeed is which Java runtimes will do: by the class files, and by the
// feed's word where that asks for more.
type JavaNeed struct {
	release int
	exactly bool   // a preview class file: this release alone
	feed    string // the feed's range, "" for none
	jar     *needs.Jar
}

func (n JavaNeed) fitsClasses(rt *needs.Runtime) bool {
	return rt.Release == n.release || (rt.Release > n.release && !n.exactly)
}

// Fits tells whether a runtime will do.
func (n JavaNeed) Fits(rt *needs.Runtime) bool {
	return rt.Broken == "" && n.fitsClasses(rt) && (n.feed == "" || version.Fits(n.feed, rt.Version))
}

func (n JavaNeed) String() string {
	s := fmt.Sprintf("Java %d", n.release)
	if n.exactly {
		s = fmt.Sprintf("exactly Java %d", n.release)
	}
	if n.feed != "" && !version.Fits(n.feed, fmt.Sprint(n.release)) {
		s = "Java " + n.feed
	}
	return s
}

// Words is the need after "a Java runtime of".
func (n JavaNeed) Words() string {
	switch {
	case n.feed != "" && !version.Fits(n.feed, fmt.Sprint(n.release)):
		return "version " + n.feed
	case n.exactly:
		return fmt.Sprintf("release %d exactly", n.release)
	}
	return fmt.Sprintf("release %d or newer", n.release)
}

// Why tells a runtime that does not fit what it lacks, with both numbers.
func (n JavaNeed) Why(rt *needs.Runtime) string {
	switch {
	case n.fitsClasses(rt):
		return fmt.Sprintf("the feed says so of this build; its class files alone would do with %d", n.release)
	case n.exactly && rt.Release > n.release:
		return fmt.Sprintf("%s is a preview class file of release %d (version %d), which that release alone reads",
			n.jar.Entry, n.release, n.jar.Major)
	}
	return fmt.Sprintf("%s is class file version %d; this runtime reads up to %d and would end with an error",
		n.jar.Entry, n.jar.Major, rt.Release+44)
}

// Best is the runtime to recommend: of those that fit, the lowest release that
// is kept up for years, else the lowest there is; of one release the newest.
func (n JavaNeed) Best(list []needs.Runtime) (best *needs.Runtime) {
	for i := range list {
		rt := &list[i]
		switch {
		case !n.Fits(rt):
		case best == nil, rt.LongTerm() && !best.LongTerm():
			best = rt
		case best.LongTerm() && !rt.LongTerm():
		case rt.Release < best.Release, rt.Release == best.Release && version.Compare(rt.Version, best.Version) > 0:
			best = rt
		}
	}
	return best
}

// Chosen are the runtimes that a choice means: a release, a range, or a program's full path.
func Chosen(list []needs.Runtime, choice string) (out []needs.Runtime) {
	for _, rt := range list {
		real, err := filepath.EvalSymlinks(choice)
		switch {
		case filepath.IsAbs(choice):
			if rt.Path == choice || (err == nil && rt.Path == real) || rt.Home == choice {
				out = append(out, rt)
			}
		case strconv.Itoa(rt.Release) == choice, version.Fits(choice, rt.Version):
			out = append(out, rt)
		}
	}
	return out
}

// WhyNone tells why none of the runtimes that a choice means will do.
func WhyNone(chosen []needs.Runtime, choice string, n JavaNeed) string {
	if len(chosen) == 0 {
		return fmt.Sprintf("the runtime %s was chosen, and none here is that", choice)
	}
	why := chosen[0].Broken
	if why == "" {
		why = n.Why(&chosen[0])
	}
	return fmt.Sprintf("the runtime %s was chosen, which is %s, and it will not do: %s", choice, chosen[0].Path, why)
}

// chosen says why a runtime is the one to recommend.
func (n JavaNeed) chosen(rt *needs.Runtime) string {
	switch {
	case n.feed != "" && !version.Fits(n.feed, fmt.Sprint(n.release)):
		return "the lowest here that the feed's word allows"
	case rt.LongTerm():
		return "the lowest long-term release here that will do"
	}
	return "the lowest release here that will do"
}

// short says in a few words why a runtime does not fit.
func (n JavaNeed) short(rt *needs.Runtime) string {
	switch {
	case rt.Release < n.release:
		return "too old"
	case n.fitsClasses(rt):
		return "not in " + n.feed
	}
	return fmt.Sprintf("not %d", n.release)
}

// engineNeed is what a script asks of its interpreter.
type engineNeed struct {
	kind  string
	asked []needs.Range
}

func (n engineNeed) String() string {
	s := needs.Named(n.kind)
	for i, r := range n.asked {
		if i > 0 {
			s += " and"
		}
		s += " " + r.Text
	}
	return s
}

func (n engineNeed) Fits(rt *needs.Runtime) bool { return rt.Broken == "" && fitsAll(rt, n.asked) }

func (n engineNeed) Best(list []needs.Runtime) *needs.Runtime { return BestEngine(list, n.asked) }

func (n engineNeed) chosen(*needs.Runtime) string { return "the lowest version here that will do" }

func (n engineNeed) short(*needs.Runtime) string {
	return "not in " + strings.TrimPrefix(n.String(), needs.Named(n.kind)+" ")
}

// dotnetNeed is what a .NET application asks of the machine's frameworks.
type dotnetNeed struct {
	f    needs.Framework
	feed string // the feed's range, "" for none
	host string // the program that would run it; "" where it finds one by itself
	pick string // the version that it would take
}

func (n dotnetNeed) String() string { return strings.TrimSpace(n.f.String() + " " + n.feed) }

func (n dotnetNeed) Fits(rt *needs.Runtime) bool {
	return rt.Broken == "" && n.f.Fits(rt.Version) && (n.feed == "" || version.Fits(n.feed, rt.Version))
}

func (n dotnetNeed) Best([]needs.Runtime) *needs.Runtime { return nil } // its host picks by itself

func (n dotnetNeed) chosen(*needs.Runtime) string { return "" }

func (n dotnetNeed) short(rt *needs.Runtime) string {
	if version.Compare(rt.Version, n.f.Version) < 0 {
		return "too old"
	}
	return "not " + n.f.Rule()
}

// RangeFits holds a version against a range: of a feed's notation, or of the
// runtime's own.
func RangeFits(r needs.Range, ver string) (bool, error) {
	if r.Kind == "" {
		return version.Fits(r.Text, ver), nil
	}
	return r.Fits(ver)
}

// BestEngine is the lowest version that fits: what the makers tried.
func BestEngine(list []needs.Runtime, asked []needs.Range) (best *needs.Runtime) {
	for i := range list {
		rt := &list[i]
		if rt.Broken == "" && fitsAll(rt, asked) && (best == nil || version.Compare(rt.Version, best.Version) < 0) {
			best = rt
		}
	}
	return best
}

func fitsAll(rt *needs.Runtime, asked []needs.Range) bool {
	return !slices.ContainsFunc(asked, func(r needs.Range) bool {
		fits, err := RangeFits(r, rt.Version)
		return err != nil || !fits
	})
}
