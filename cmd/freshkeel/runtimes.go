package main

import (
	"fmt"
	"strings"

	"freshkeel"
)

// runtimes says first whether what the launch script runs will do.
func (v *view) runtimes(r *freshkeel.Runtimes, w freshkeel.Want) {
	var used, best *freshkeel.Runtime
	for i := range r.All {
		if r.All[i].Used != "" {
			used = &r.All[i]
		}
		if r.All[i].Best {
			best = &r.All[i]
		}
	}
	what := strings.TrimSpace(r.Runs + " of " + orUnknown(r.For))
	switch {
	case r.Need == "":
		v.outcome(minded, "UNKNOWN", "the launch script runs nothing whose need could be read")
	case used == nil:
		v.outcome(bad, "NOT THERE", fmt.Sprintf("%s needs %s, and %s, which the launch script runs, is not there", what,
			r.Need, r.Lacks))
	case used.Fits:
		v.outcome(good, "FITS", fmt.Sprintf("%s needs %s, the launch script runs %s", what, r.Need, named(used)))
	default:
		v.outcome(bad, "DOES NOT FIT", fmt.Sprintf("%s needs %s, the launch script runs %s", what, r.Need, named(used)))
	}
	v.fact("script", r.Where)
	fmt.Fprintln(v.p.out)
	for _, rt := range r.All {
		v.runtime(rt, r.Need != "")
	}
	fmt.Fprintln(v.p.out)
	switch {
	case r.Need == "" || (used != nil && used.Fits):
	case best != nil && w.Version != "":
		v.fact("next", fmt.Sprintf("freshkeel preflight %s shows the script's line as a refit would change "+
			"it, to run %s", w.Version, best.Path))
	case best != nil:
		v.fact("do", fmt.Sprintf("let the launch script run %s", best.Path))
	case !strings.HasPrefix(r.Need, "Java"):
		v.fact("do", fmt.Sprintf("get %s (none is here), and name where it is in [runtime] search of freshkeel.toml",
			r.Need))
	default:
		v.fact("do", fmt.Sprintf("get a runtime for %s (none is here): freshkeel runtimes take PATH|URL of its "+
			"archive; or name where it is in [runtime] search of freshkeel.toml", r.Need))
	}
}

// named is a runtime by its kind and version, as a sentence has it.
func named(rt *freshkeel.Runtime) string {
	return map[string]string{"java": "Java ", "node": "Node ", "python": "Python ", "dotnet": rt.Name +
		" "}[rt.Kind] + rt.Version
}

// runtime prints one of them: its version and how it stands, and below where it
// is and whose.
func (v *view) runtime(rt freshkeel.Runtime, judged bool) {
	const margin = 16
	word, colour := "does not fit", ""
	switch {
	case rt.Broken != "":
		word, colour = "broken", bad
	case !judged:
		word = ""
	case rt.Fits:
		word, colour = "fits", good
	}
	said := []string{}
	if rt.Used != "" {
		said = append(said, "used by "+rt.Used)
	}
	switch {
	case rt.Best && rt.Used == "":
		said = append(said, "recommended: "+rt.Why)
	case rt.Broken != "":
		said = append(said, rt.Broken)
	default:
		said = append(said, nonEmpty(rt.Why)...)
	}
	rows := wrap(strings.Join(said, "; "), v.width-margin-16)
	for i, row := range rows {
		head, mark := orDash(rt.Version), word
		if i > 0 {
			head, mark = "", ""
		}
		fmt.Fprintln(v.p.out, strings.TrimRight("  "+
			v.paint(strong, pad(head, margin-2))+v.paint(colour, pad(mark, 14))+row, " "))
	}
	where := rt.Path
	if rt.Vendor != "" {
		where += "  (" + rt.Vendor + ")"
	}
	for _, row := range wrap(where, v.width-margin) {
		fmt.Fprintf(v.p.out, "%s%s\n", strings.Repeat(" ", margin), v.paint(dim, row))
	}
}
