package check

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"freshkeel/internal/plan"
)

// checkConsent tells what consents are asked for: one that is not accepted by
// name stops, since the server would end until its line is changed.
func checkConsent(_ context.Context, s *situation) (out []Finding) {
	for _, c := range s.plan.Asked {
		asks := strings.Join(c.Asks, " ")
		if asks == "" {
			asks = "it says no more than that"
		}
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("%s asks for your consent, and says «%s»", c.Path, c.Says),
			Where: fmt.Sprintf("%s:%d\n%s", s.k.Path(c.Path), c.Line, asks),
			Why:   "the server ends until that line says otherwise",
			Do:    fmt.Sprintf("read it; to accept it by name, which is recorded: --consent %s", c.Path)})
	}
	for _, e := range s.plan.Edits {
		if e.Consent {
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("%s is accepted by %s", e.Path, e.Why),
				Where: fmt.Sprintf("%s:%d\n- %s\n+ %s", s.k.Path(e.Path), e.Line, e.Old, e.New),
				Why:   "its makers want your consent before the server runs",
				Do:    "nothing, if you agree; going back puts the old line back"})
		}
	}
	for _, at := range append(slices.Clone(s.want.Consent), s.k.Profile.Server.Consent...) {
		if !slices.ContainsFunc(s.plan.Edits, func(e plan.Edit) bool { return e.Consent && e.Path == at }) &&
			!s.ahead.Has(at) {
			out = append(out, ok("should the server write %s and end, its line is changed and the server "+
				"started once more", at)...)
		}
	}
	return out
}
