//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wordingFile has what the main commands say on the demo data. FRESHKEEL_TEST_WORDING=new
// writes it anew: read what changed as an operator would. Other tests ask for checks, levels
// and errors, so that a sentence is mended here alone.
const wordingFile = "testdata/wording.txt"

// evened are what differs from run to run, and what stands for it.
var evened = []struct {
	pattern *regexp.Regexp
	by      string
}{
	// A row that was broken is one row again: where it breaks depends on what follows.
	{regexp.MustCompile(`\n {11,}(\S)`), " $1"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?`), "DATE"},
	{regexp.MustCompile(`\d\d:\d\d:\d\d`), "TIME"},
	{regexp.MustCompile(`\b[\d.]+ (ms|s|min)\b|for \d+s\b`), "LONG"},
	{regexp.MustCompile(`process \d+`), "process PID"},
	{regexp.MustCompile(`\b[\d.]+ ([KM]i)?B\b`), "SIZE"},
	{regexp.MustCompile(` {2,}`), "  "},
	{regexp.MustCompile(`(?m) +$`), ""},
	// A server that dies may have ended before it is stopped.
	{regexp.MustCompile(`(?m)^TIME stop new server: .*\n`), ""},
	// Root is told that it is root.
	{regexp.MustCompile(`(?m)^  warn  the install belongs to root.*\n(  (where|why|do) .*\n)+`), ""},
	{regexp.MustCompile(`(?m)^.*warn: the install belongs to root.*\n`), ""},
	{regexp.MustCompile(`; 1 thing about this install, as before`), ""},
	{regexp.MustCompile(`\d+ warn\b|\d+ checks found`), "SOME"},
	{regexp.MustCompile(`read  \d+ files`), "read  SOME files"}, // how many depends on how long ago they were written
}

func TestWording(t *testing.T) {
	t.Parallel()
	// Rows are broken where they are too long, so the folder's name has one length anywhere.
	dir := fmt.Sprintf("/tmp/fk-%06d", os.Getpid()%1_000_000)
	require.NoError(t, os.Mkdir(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	p := proving.MossgateIn(t, dir, demo.Releases[:3]...)
	var said strings.Builder
	say := func(args ...string) {
		r := p.Run(args...)
		text := strings.ReplaceAll(r.Out+r.Err, dir, "/tmp/fk-000000")
		text = regexp.MustCompile(fmt.Sprintf(`\b%d\b`, p.Port)).ReplaceAllString(text, "PORT")
		fmt.Fprintf(&said, "$ freshkeel %s\n%s(exit %d)\n\n",
			strings.ReplaceAll(strings.Join(args, " "), dir, "/tmp/fk-000000"), text, r.Code)
	}
	say("adopt", p.Install)
	say("status")
	say("start")
	say("start")
	say("builds")
	say("fetch", "3.5.0")
	say("preflight", "3.5.0")
	say("refit", "3.5.0")
	say("refit", "3.5.0")
	say("refit", "9.9")
	say("refit")
	say("rollback")
	p.Put("members.txt", "Ada Understone\n")
	say("backup", "take", "--label", "by hand")
	say("backup", "list")
	say("backup", "show", "b0003")
	say("backup", "check")
	say("backup", "restore", "b0001", "--only", "members.txt")
	say("backup", "restore", "b0099")
	say("backup", "thin", "--last", "2", "--dry-run")
	say("send", "help")
	say("logbook")
	say("logbook", "r0001")
	say("audit")
	require.NoError(t, os.Remove(filepath.Join(p.Install, "assets", "night.pak")))
	p.Put("mods/hop.lua", "hop")
	say("audit")
	say("audit", "--mend")
	say("compare", "3.5.0", "now", "--only", "{lib,mods,tracks}/**")
	say("compare", "now", "now")
	say("builds", "--kept")
	say("builds", "drop", "3.5.0", "--dry-run")
	say("stop")
	say("stop")
	say("nonsense")
	text := said.String()
	for _, e := range evened {
		text = e.pattern.ReplaceAllString(text, e.by)
	}
	if os.Getenv("FRESHKEEL_TEST_WORDING") == "new" {
		require.NoError(t, os.WriteFile(wordingFile, []byte(text), 0o644))
	}
	want, err := os.ReadFile(wordingFile)
	require.NoError(t, err)
	assert.Equal(t, string(want), text)
}
