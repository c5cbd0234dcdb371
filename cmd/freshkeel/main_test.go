//go:build unix

package main

import (
	"flag"
	"os"
	"testing"

	"freshkeel/proving"
)

func TestMain(m *testing.M) {
	os.Exit(proving.Main(m, func() {
		if f := flag.Lookup("test.run"); f.Value.String() == "" {
			go s3Program() // it takes long: meanwhile the others run
		}
	}))
}
