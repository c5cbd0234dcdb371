package host

import "golang.org/x/sys/unix"

// holdChildren makes this process the one to which orphans below it go
// (prctl(2), PR_SET_CHILD_SUBREAPER), so that a launch script which puts its
// server in the background and ends does not lose it.
func holdChildren() error { return unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// keepMemory lets no other process of the user whom this one has become read its
// memory, which has what root knew (prctl(2), PR_SET_DUMPABLE).
func keepMemory() error { return unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0) }
