package tree

import "os"

// Hold opens the folder at dir. This system has no users as the others have them: nobody else is
// known to decide the way.
func Hold(dir string) (*Held, error) {
	real := Real(dir)
	d, err := os.Open(real)
	if err != nil {
		return nil, err
	}
	return HoldOpen(d, real)
}

// WritersOf can't be told here.
func WritersOf(*os.File) ([]Decider, error) { return nil, nil }

// again opens the folder once more.
func (h *Held) again() (*os.File, error) { return os.Open(h.Dir) }

// Writers can't be told here.
func (h *Held) Writers(string) ([]Decider, error) { return nil, nil }
