//go:build unix && !linux

package tree

import "golang.org/x/sys/unix"

const lookOnly = unix.O_RDONLY
