//go:build !linux

package host

func unitOf(int, []int) (unit string, user bool) { return "", false }
