package freshkeel

import (
	"fmt"
	"strings"
)

// consented changes the line of each consent that the new server has just asked
// for, where the operator accepted it by name beforehand, and tells whether the
// server may be started once more. Otherwise it adds to the verdict what to do.
func (t *transaction) consented(w Want, v *Verdict) (again bool) {
	if t.k.in.RunDir().Status().Running {
		return false
	}
	asked := t.k.planner.OpenConsents()
	for _, c := range asked {
		if t.k.planner.Accepts(c.Path, w) == "" {
			v.Why += fmt.Sprintf("; its makers want a consent: %s, line %d says «%s»", c.Path, c.Line, c.Says)
			t.e.Told = append(t.e.Told, fmt.Sprintf("the server asks in %s: %s", c.Path, strings.Join(c.Asks, " ")),
				fmt.Sprintf("to accept it by name: freshkeel refit %s --consent %s", t.e.To, c.Path))
			return false
		}
	}
	for _, c := range asked {
		err := t.k.planner.Agree(c)
		if err != nil {
			v.Why += fmt.Sprintf("; %s could not be changed: %v", c.Path, err)
			return false
		}
		t.k.in.Note("%s: line %d is now «%s», as accepted; the server is started once more", c.Path, c.Line, c.Yes)
		t.e.Consents = append(t.e.Consents, c.Path)
	}
	return len(asked) > 0
}
