//go:build linux

package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshkeel"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A native program is held against this machine's loader, libraries and their
// symbols, while the old server runs on: a real program, and copies of it that
// ask for what is not here.
func TestANativeBuildIsHeldAgainstThisMachine(t *testing.T) {
	t.Parallel()
	real, err := os.ReadFile("/bin/cat")
	require.NoError(t, err)
	require.Contains(t, string(real), "libc.so.6", "it is linked against the C library")
	p := scripted(t, patient)
	p.OK("start")
	pid := p.Status().Server.PID
	p.Put("run.sh", "#!/bin/sh\necho ready\n./pondserver --lilies\n")
	for name, c := range map[string]struct {
		program []byte
		parts   []string
	}{
		"a library": {bytes.ReplaceAll(real, []byte("libc.so.6"), []byte("libq.so.6")),
			[]string{"pondserver needs the library libq.so.6, and it is neither here nor in the build",
				"run.sh:3: ./pondserver --lilies", "before the server's first line",
				"install the package that brings libq.so.6"}},
		"a symbol version": {regexp.MustCompile(`GLIBC_2\.\d\d\x00`).ReplaceAll(real, []byte("GLIBC_2.99\x00")),
			[]string{"pondserver needs GLIBC_2.99 of libc.so.6, and this machine's has up to GLIBC_2.", "run.sh:3",
				"first line", "made for an older system"}},
		"a loader": {bytes.ReplaceAll(real, []byte("/ld-linux"), []byte("/zz-linux")),
			[]string{"pondserver is started by /lib", "zz-linux", "which is not here", "run.sh:3",
				"install the C library that has it"}},
	} {
		at := filepath.Join(p.Dir, name+"-2.0.zip")
		writeZip(t, at, map[string]string{"pondserver": string(c.program), "pads/lily": "x"})
		f := p.preflight(exitRefused, "--from", at)["native"]
		assert.Equal(t, freshkeel.Stop, f.Level, name)
		for _, part := range c.parts {
			assert.Contains(t, f.What+"\n"+f.Where+"\n"+f.Why+"\n"+f.Do, part, name)
		}
		p.Exits(exitRefused, "refit", "--from", at)
	}
	// A library that the build brings counts where the script says to look, and
	// is missed when it is taken away.
	p.Put("run.sh", "#!/bin/sh\necho ready\nexport LD_LIBRARY_PATH=\"$PWD/lib\"\nexec ./pondserver\n")
	own := bytes.ReplaceAll(real, []byte("libc.so.6"), []byte("libq.so.6"))
	libc, err := exec.Command("sh", "-c", "ls /lib/*/libc.so.6 /lib64/libc.so.6 2>/dev/null | head -1").Output()
	require.NoError(t, err)
	lib, err := os.ReadFile(strings.TrimSpace(string(libc)))
	require.NoError(t, err)
	brought := filepath.Join(p.Dir, "brought-2.0.zip")
	writeZip(t, brought, map[string]string{"pondserver": string(own), "lib/libq.so.6": string(lib), "pads/lily": "x"})
	assert.Equal(t, freshkeel.OK, p.preflight(exitDone, "--from", brought)["native"].Level)
	writeZip(t, brought, map[string]string{"pondserver": string(own), "pads/lily": "x"})
	p.parts(p.preflight(exitRefused, "--from", brought)["native"], freshkeel.Stop,
		"pondserver needs the library libq.so.6", "run.sh:4: exec ./pondserver", "first line",
		"put it where the program looks")
	p.Put("run.sh", "#!/bin/sh\necho ready\n./pondserver --lilies\n")
	assert.Equal(t, pid, p.Status().Server.PID, "the server was never stopped")
	at := filepath.Join(p.Dir, "pond-2.0.zip")
	writeZip(t, at, map[string]string{"pondserver": string(real), "pads/lily": "x"})
	// What no package mends comes first, and nothing is to be installed for the rest.
	if two, err := os.ReadFile("/bin/ls"); err == nil && bytes.Contains(two, []byte("libselinux.so.1")) {
		two = regexp.MustCompile(`GLIBC_2\.\d\d\x00`).ReplaceAll(bytes.ReplaceAll(two, []byte("libselinux.so.1"),
			[]byte("libselinuq.so.1")), []byte("GLIBC_2.99\x00"))
		hopeless := filepath.Join(p.Dir, "hopeless-2.0.zip")
		writeZip(t, hopeless, map[string]string{"pondserver": string(two), "pads/lily": "x"})
		assert.Regexp(t, `pondserver needs GLIBC_2\.99 .* pondserver needs the library libselinuq\.so\.1, .* do that alone would not do: see the stop above it`, p.Exits(exitRefused, "preflight", "--from", hopeless).Said())
	}
	// What was broken off on its way is told by its own headers.
	for _, left := range []int{len(real) / 3, len(real) - 100} {
		cut := filepath.Join(p.Dir, "cut-2.0.zip")
		os.Remove(cut)
		writeZip(t, cut, map[string]string{"pondserver": string(real[:left]), "pads/lily": "x"})
		p.parts(p.preflight(exitRefused, "--from", cut)["native"], freshkeel.Stop, "pondserver is cut short",
			"cut-2.0.zip", "would not run it", "get the build anew")
	}
	f := p.preflight(exitDone, "--from", at)["native"]
	assert.Equal(t, freshkeel.OK, f.Level)
	assert.Contains(t, f.What, "pondserver finds its ")
}
