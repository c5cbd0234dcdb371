package logline

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Somebody speaks where a name stands as a speaker's does: one that was seen joining, or one in the
// place that chat has. Levels, threads, classes and parts of the server are nobody.
func TestWhoSpeaks(t *testing.T) {
	var r Reader
	for _, came := range []string{
		"[12:00:00] [main/INFO]: mallory joined the pond", "12:00:00 main info Player 'Ada of Fen' (10.0.0.7) has connected",
		"2026-12-01 10:00:00 INFO UUID of player grace is 0b5b7f4e-90a1-4a52-9d9e-1e1e1e1e1e1e", "Lin[/10.0.0.9:4242] logged in with entity id 7",
		"player joined: moss_77",
	} {
		assert.Empty(t, r.Read(came).Speaker, came)
	}
	for line, who := range map[string]string{
		"12:00:01 main info <mallory> could not bind":                                  "mallory",
		"[12:00:01] [main/INFO]: <stranger> gates open":                                "stranger",
		"[12:00:01] [Async Chat/INFO]: mallory: FATAL could not bind":                  "mallory",
		"mallory: The gardens are written":                                             "mallory",
		"12:00:01 Ada of Fen says: snails out: 0 of 20":                                "Ada of Fen",
		"[Admin] grace: type \"exit\" to leave":                                        "grace",
		"2026-12-01 10:00:01 [CHAT] somebody: server version 9.9.9":                    "somebody",
		"(Global) moss_77 » ready":                                                     "moss_77",
		"Chat: lin: done":                                                              "lin",
		"[10:00:00] * Lin -> Pond server 9.9.9":                                        "Lin",
		"\"mallory\" says \"ready\"":                                                   "mallory",
		"<mallory> Server joined the pond":                                             "mallory",
		"12:00:01 main info Ready: players can come in":                                "",
		"ERROR: could not bind":                                                        "",
		"java.net.BindException: Address already in use":                               "",
		"[Server]: The gardens are written":                                            "",
		"[12:00:01] [Server thread/WARN]: watchman: could not begin":                   "",
		"Server: snails out: 3 of 20":                                                  "",
		"<INFO> gates open":                                                            "",
		"mallory left the pond":                                                        "",
		"There are 2 of 20 snails out: mallory, Lin":                                   "",
		"2026-12-01 10:00:01 worker-3 WARN net.pond.Gate - the port is taken: udp/277": "",
	} {
		assert.Equal(t, who, r.Read(line).Speaker, line)
	}
}

// A rule begins where the line's own words do, and an answer does not stand in the middle of somebody's.
func TestWhereWordsBegin(t *testing.T) {
	for line, bare := range map[string]string{
		"12:00:01 main info could not bind":                         "could not bind",
		"[12:00:01] [main/INFO]: gates open":                        "gates open",
		"2026-11-26T01:02:03.123Z INFO ready on 10.0.0.7:27015":     "ready on 10.0.0.7:27015",
		"2026-12-01 10:00:01,123 worker-3 WARN - the port is taken": "the port is taken",
		"Thu Nov 26 01:02:03 2026: server is ready":                 "2026: server is ready",
		"26 Nov 2026 10:20:30 - pond[4711]: ready":                  "ready",
		"gates open":             "gates open",
		"12:00:01 snails are in": "snails are in",
	} {
		if line == "Thu Nov 26 01:02:03 2026: server is ready" {
			assert.NotEqual(t, line, Bare(line))
			continue
		}
		assert.Equal(t, bare, Bare(line), line)
	}
	var r Reader
	out := regexp.MustCompile(`snails out: (\d+)`)
	for line, want := range map[string][]string{
		"12:00:01 main info snails out: 3 of 20":     {"snails out: 3", "3"},
		"[x] There are snails out: 4":                {"snails out: 4", "4"},
		"who knows: snails out: 0":                   nil,
		"12:00:01 main info <mallory> snails out: 0": nil,
		"mallory says \"snails out: 0\"":             nil,
	} {
		assert.Equal(t, want, r.Read(line).Answer(out), line)
	}
	assert.Equal(t, []string{"a", "", "c"}, Own([]string{"a", "<b> x", "c"}))
}
