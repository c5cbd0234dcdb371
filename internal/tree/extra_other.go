//go:build !unix

package tree

import "os"

// Sparse, Xattrs, XattrsOf and SetXattrs know of nothing here.
func Sparse(*os.File) bool                                   { return false }
func (*Root) Xattrs(string, Kind) (map[string][]byte, error) { return nil, nil }
func XattrsOf(*os.File) (map[string][]byte, error)           { return nil, nil }
func SetXattrs(string, map[string][]byte) error              { return nil }
