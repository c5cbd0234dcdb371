//go:build !linux

package tree

import "os"

// HoleEnd tells how far a hole reaches that an open file has at a place; here it is not asked.
func HoleEnd(_ *os.File, at, _ int64) int64 { return at }
