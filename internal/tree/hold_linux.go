package tree

import "golang.org/x/sys/unix"

// lookOnly opens a folder that this user may go through, though not list.
const lookOnly = unix.O_PATH

// ShowsOpen tells whether an open file has a path, /proc/self/fd/N.
const ShowsOpen = true
