//go:build !unix

package tree

import (
	"errors"
	"io/fs"
)

// list describes what a folder of the tree holds, but for what keep refuses.
func (r *Root) list(rel string, keep func(path string) bool) (out []Entry, err error) {
	found, err := r.Names(rel)
	if err != nil {
		return nil, err
	}
	for _, name := range found {
		p := under(rel, name)
		if !keep(p) {
			continue
		}
		e, ok, err := r.Describe(p)
		switch {
		case errors.Is(err, fs.ErrNotExist), err == nil && !ok:
		case err != nil:
			return nil, err
		default:
			out = append(out, e)
		}
	}
	return out, nil
}
