//go:build !linux

package host

import "io"

// holdChildren has nothing to ask for here: a process that its parent left is
// found again only while its parents live.
func holdChildren() error { return nil }

// keepMemory has nothing to ask for here.
func keepMemory() error { return nil }

// InheritNothing has the first files that whoever started this process may have given it end with it.
func InheritNothing() error {
	ownFiles(3, 256)
	return nil
}

// mapped can't be told here.
func mapped(int) []string { return nil }

// parents lists the processes that have not ended, each with its parent.
func parents() (out []child) {
	all, err := everyProcess()
	if err != nil {
		return nil
	}
	for _, p := range all {
		if parent, err := p.Ppid(); err == nil && !zombie(p) {
			out = append(out, child{int(p.Pid), int(parent)})
		}
	}
	return out
}

// unread can't be told here.
func unread(io.Writer) int { return -1 }
