//go:build unix && !linux

package host

import "syscall"

// endSignal is the signal that asks a process to end: which ones it takes can't be told here.
func endSignal(int) syscall.Signal { return syscall.SIGTERM }
