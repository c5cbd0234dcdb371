//go:build !linux

package host

func unitOf(int, []int, string) (unit string, user bool) { return "", false }

func inputOf(int) string { return "" }

// Units are the services of the machine that run something of an install: not known here.
func Units(string) []*Unit { return nil }
