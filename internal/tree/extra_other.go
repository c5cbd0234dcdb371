//go:build !unix

package tree

// Sparse, Xattrs and SetXattrs know of nothing here.
func Sparse(string) bool                        { return false }
func Xattrs(string) (map[string][]byte, error)  { return nil, nil }
func SetXattrs(string, map[string][]byte) error { return nil }
