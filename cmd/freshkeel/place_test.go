//go:build unix

package main

import (
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"
)

// place is one install under test, with what these tests ask of it besides.
type place struct{ *proving.Place }

func bare(t *testing.T) *place {
	t.Helper()
	return &place{proving.Bare(t)}
}

func mossgate(t *testing.T, releases ...demo.Release) *place {
	t.Helper()
	return &place{proving.Mossgate(t, releases...)}
}
