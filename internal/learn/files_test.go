package learn

import (
	"testing"

	"freshkeel/internal/profile"
	"freshkeel/internal/tree"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each rule of guessing has a case in which it must hold, and one in which it must not.
func TestWhatAFileIs(t *testing.T) {
	in := func(names ...string) Beside { return Beside{Names: names} }
	for name, c := range map[string]struct {
		at     string
		head   string
		beside Beside
		data   bool // of a log: it is none; else: it is data
	}{
		"a journal beside its database":          {"data/pond.log", "", in("pond.log", "pond.script"), true},
		"a journal that is no text":              {"pond.log", "a\x00b", in("pond.log"), true},
		"a journal among tables":                 {"world/000003.log", "x", in("000003.log", "000005.ldb", "CURRENT"), true},
		"a log with times beside data":           {"data/pond.log", "[12:00:01] open\n", in("pond.log", "pond.script"), false},
		"a log beside settings and a lock":       {"server.log", "open\n", in("server.log", "server.properties", "server.pid"), false},
		"a log beside a program and its script":  {"pond.log", "open\n", in("pond.log", "pond.jar", "pond.sh"), false},
		"a log to which a script writes":         {"data/pond.log", "open\n", Beside{Names: []string{"pond.log", "pond.db"}, Told: true}, false},
		"a database by how it begins":            {"state.bin", "SQLite format 3\x00", in("state.bin"), true},
		"a picture":                              {"state.bin", "\x89PNG", in("state.bin"), false},
		"a part of a database":                   {"data/pond.properties", "a=b\n", in("pond.properties", "pond.log", "pond.script"), true},
		"settings beside a log of the same name": {"server.properties", "a=b\n", in("server.properties", "server.log", "server.jar"), false},
		"a table of a database":                  {"w/CURRENT", "MANIFEST-1\n", in("CURRENT", "MANIFEST-000001"), true},
		"a file that is called CURRENT":          {"CURRENT", "1.2\n", in("CURRENT", "readme.txt"), false},
	} {
		if IsLog(c.at) {
			assert.Equal(t, c.data, DataNotLog(c.at, []byte(c.head), c.beside) != "", name)
		} else {
			assert.Equal(t, c.data, IsData(c.at, []byte(c.head), c.beside) != "", name)
		}
	}
	for at, is := range map[string]bool{"lib/a.so.1": true, "x/node_modules/y/ops.yml": true, "package.json": true,
		"packages.json": false, "modules/a.yml": false, "sounds.pak": false, "a.jar": true, "jar": false} {
		assert.Equal(t, is, IsProgramPart(at, []byte("text"), 0o644), at)
	}
	assert.True(t, IsProgramPart("pond", []byte("\x7fELF\x02"), 0o644), "whatever its name is")
	assert.True(t, IsProgramPart("db_check", []byte("#!/bin/sh\n"), 0o755))
	assert.False(t, IsProgramPart("notes", []byte("#!/bin/sh\n"), 0o644))
}

// What a server wrote is proposed by what it is and how it is used.
func TestWhatAServerWroteIsProposed(t *testing.T) {
	entries := files("data/pond.log", "data/pond.script", "natives/libpond.so", "share/a.png", "share/names.list",
		"server.log", "pond.pid", "cache/x", "pond.conf", "modules/opened.log")
	o := Observation{Written: entries, Files: entries, OfBuild: func(string) bool { return false },
		Used: map[string]Use{"modules/opened.log": {Reads: true, Writes: true}},
		Head: func(at string) []byte {
			if at == "server.log" {
				return []byte("12:00:01 open\n")
			}
			return nil
		}}
	got := map[string]string{}
	for _, p := range proposeFiles(&profile.Profile{}, o) {
		got[p.Item] = p.Key
	}
	assert.Equal(t, map[string]string{"data/**": "server.keep", "share/names.list": "server.keep", "share/a.png": "server.keep",
		"server.log": "server.skip", "pond.pid": "server.skip", "cache/**": "server.skip", "pond.conf": "server.settings",
		"modules/**": "server.keep"}, got, "and a library that it unpacked is none of these")
}

// A ready line is the one that says so, else the last before the server came to rest; a port or a number alone is none.
func TestWhatIsReadFromAStart(t *testing.T) {
	port := []profile.Port{{Net: "udp", Number: 27750}}
	ready := func(s Start) string {
		if r := Ready(s); r != nil {
			return r.From
		}
		return ""
	}
	lines := []string{"pond 1.0", "Bound socket to *:41234.", "Bound socket to *:27750.", "Nobody there"}
	assert.Equal(t, lines[2], ready(Start{Lines: lines, Ports: port, AtRest: true}), "the port tells it from the line before")
	quiet := []string{"reading maps", "name is 'pond'", "rcon password: 'x1'"}
	assert.Equal(t, quiet[1], ready(Start{Lines: quiet, AtRest: true}), "nothing sounds right, and a password is none")
	assert.Empty(t, ready(Start{Lines: quiet}), "of a log it is not known where the start ended")
	two := []string{"loading", "server is ready", "world is open for players"}
	assert.Equal(t, two[2], ready(Start{Lines: two, Not: []string{"^server is ready"}}), "a line that came too early is passed over")
	assert.Equal(t, two[1], ready(Start{Lines: two, Before: []string{"loading", "server is ready", "other words"}}),
		"a rule holds at the start before, too")

	assert.Nil(t, proposePorts(nil, &profile.Profile{}, Observation{Ports: port}), "one start, and nothing names it")
	named := proposePorts(nil, &profile.Profile{}, Observation{Ports: append(port, profile.Port{Net: "udp", Number: 41234}),
		Named: map[int]string{27750: "pond.conf:1"}})
	require.NotNil(t, named)
	assert.Equal(t, "['udp/27750']", named.Value)
	assert.Equal(t, Sure, named.Sure)
	twice := proposePorts(nil, &profile.Profile{}, Observation{Ports: port, Twice: port})
	require.NotNil(t, twice)
	assert.Equal(t, Likely, twice.Sure)

	assert.Equal(t, Maybe, Version([]string{"starting", "version 1.16.1"}, "", "frogd").Sure, "a number by itself may be a protocol's")
	assert.Equal(t, Likely, Version([]string{"starting", "FROG 2.12.0.10 #1"}, "", "netfrog").Sure, "behind the program's name")
	assert.Nil(t, Version([]string{"listening, version 1.16.1"}, "1.10.0", "frogd"), "it is not what is installed")
}

// files are entries of files.
func files(paths ...string) (list []tree.Entry) {
	for _, at := range paths {
		list = append(list, tree.Entry{Path: at, Kind: tree.File, Mode: 0o644, Size: 1, Mtime: 1})
	}
	return list
}
