//go:build !linux

package tree

import "os"

// Frozen tells of nothing: that a file can't be replaced is met when it is tried.
func Frozen(string) string { return "" }

// FlushAll knows no way here: each file is flushed by itself.
func FlushAll(string) (ok bool, err error) { return false, nil }

// BeginFlush has the system begin to write a file to its disk, where it can be told.
func BeginFlush(*os.File) {}
