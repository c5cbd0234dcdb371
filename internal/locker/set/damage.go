package set

import (
	"fmt"
)

// Damage is stored content that does not read back as what was stored.
type Damage struct {
	Where string // file in the locker
	Piece string // its hash, "" where the whole file is meant
	Why   string
}

func (d *Damage) Error() string {
	if d.Piece == "" {
		return fmt.Sprintf("damaged: %s: %s", d.Where, d.Why)
	}
	return fmt.Sprintf("damaged: %s, piece %.12s: %s", d.Where, d.Piece, d.Why)
}
