//go:build !unix

package tree

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// list describes what a folder of the tree holds, but for what keep refuses.
func list(dir, rel string, keep func(path string) bool) (out []Entry, err error) {
	found, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, d := range found {
		p := under(rel, d.Name())
		if !keep(p) {
			continue
		}
		e, ok, err := Describe(filepath.Join(dir, d.Name()), p)
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
