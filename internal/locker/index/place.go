package index

import (
	"cmp"

	"freshkeel/internal/tree"
)

// Place is where a piece lies.
type Place struct {
	Pack   int32
	Stored int32 // bytes of its frame
	Size   int32
	At     int32 // in the frame's content
	Off    int64 // of the frame in the pack
}

// Compare puts places in the order in which they lie.
func (p Place) Compare(o Place) int {
	return cmp.Or(cmp.Compare(p.Pack, o.Pack), cmp.Compare(p.Off, o.Off), cmp.Compare(p.At, o.At))
}

// Line is where one piece lies.
type Line struct {
	Sum tree.Sum
	Place
}
