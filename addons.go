package freshkeel

import (
	"fmt"
)

// tellHeldBack tells how what was left out of a refit comes back.
func (t *transaction) tellHeldBack(p *Plan) {
	for _, at := range p.HeldBack {
		t.e.Told = append(t.e.Told, fmt.Sprintf("held back: %s; once it fits: freshkeel backup restore %s --only '%s'", at, t.e.Backup, p.OnlyThat(at)))
	}
}
