//go:build unix && !linux

package tree

func openBeneath(dir int, rel string, flags int) (int, error) { return byFolder(dir, rel, flags) }
