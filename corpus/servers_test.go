//go:build unix

package corpus

import (
	"fmt"
	"testing"
	"time"

	"freshkeel/proving"
)

const second = time.Second

// servers are the kinds: what each ships, does and has, and its right profile.
func servers(t *testing.T) map[string]server {
	port := func() int { return proving.FreePort(t) }
	udp := func(n int) string { return fmt.Sprintf("udp/%d", n) }
	tcp := func(n int) string { return fmt.Sprintf("tcp/%d", n) }
	exec := func(line string) string { return "#!/bin/sh\ncd \"$(dirname \"$0\")\"\nexec " + line + "\n" }
	a, b, c, d, e, f, g, h, i, j, k, l, m, n := port(), port(), port(), port(), port(), port(), port(), port(), port(), port(), port(),
		port(), port(), port()
	o, q, r, u, v := port(), port(), port(), port(), port()
	return map[string]server{
		// A console that reads, and says when it is ready.
		"toadrace": {bin: "toadrace", build: true,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"stop"},
				Unknown: "unknown command: {word}",
				Ports:   []string{udp(a)},
				Boot:    second,
				Say: []string{
					"toadrace server {version}",
					"loading 12 lanes",
					"listening on udp port " + fmt.Sprint(a),
					"toadrace is ready for toads (0.{ms} s)",
				},
				Write: map[string]string{"worlds/bog/lane.dat": "mud", "worlds/bog/state.json": "{}"},
			},
			ships: map[string]string{
				"run.sh":             exec(fmt.Sprintf("./toadrace --port %d", a)),
				"readme.txt":         "a race\n",
				"lanes/default.lane": "lane {version}\n",
				"server.cfg":         "motd = hello\n",
			},
			has: map[string]string{
				"server.cfg":          "motd = our bog\n",
				"worlds/bog/lane.dat": "mud",
				"admins.txt":          "ada\n",
			},
			want: wanted{
				script: "run.sh",
				ready:  "toadrace is ready for toads (0.512 s)",
				says:   map[string]string{"toadrace server 2.4.0": "2.4.0"},
				ports: []string{
					udp(a),
				},
				stop:   "stop",
				keep:   []string{"worlds/bog/lane.dat", "admins.txt"},
				set:    []string{"server.cfg"},
				builds: []string{"lanes/default.lane", "readme.txt", "run.sh"},
			}},
		// It speaks in a file alone, dated in each line, and takes signals only.
		"newtfen": {bin: "bin/newtd", build: true,
			does: behaviour{
				Log:   "logs/newtfen.log",
				Stamp: "2006-01-02 15:04:05 ",
				Ports: []string{udp(b)},
				Boot:  second,
				LogSay: []string{
					"[info] NewtFen dedicated server v{version} pid {pid}",
					"[info] zlib 1.3.1, protocol 47.2",
					"[info] bound 0.0.0.0:" + fmt.Sprint(b),
					"[info] Server started, waiting for players",
				},
				Write: map[string]string{"saves/auto.sav": "newts"},
			},
			ships: map[string]string{
				"start.sh":        exec("./bin/newtd"),
				"assets/newt.png": "png {version}",
				"newtfen.ini":     "[net]\nport=" + fmt.Sprint(b) + "\n",
			},
			has: map[string]string{
				"saves/auto.sav":   "newts",
				"logs/newtfen.log": "2026-01-02 10:00:00 [info] NewtFen dedicated server v2.3.1 pid 4711\n2026-01-02 10:00:00 [info] zlib 1.3.1, protocol 47.2\n2026-01-02 10:00:01 [info] bound 0.0.0.0:27015\n2026-01-02 10:00:01 [info] Server started, waiting for players\n2026-01-02 11:00:01 [info] player Ada joined\n",
			},
			want: wanted{
				script: "start.sh",
				log:    "logs/newtfen.log",
				ready:  "2026-03-04 05:06:07 [info] Server started, waiting for players",
				says: map[string]string{
					"2026-03-04 05:06:07 [info] NewtFen dedicated server v2.4.0 pid 12": "2.4.0",
				},
				ports: []string{udp(b)},
				keep: []string{
					"saves/auto.sav",
				},
				builds: []string{"assets/newt.png"},
				skip:   []string{"logs/newtfen.log"},
			}},
		// A console in colours, with stamps and threads before each line.
		"mothcourt": {bin: "mothcourt-server", build: false,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"/quit"},
				Unknown: "\x1b[31mNo such command: {word}. Type /help\x1b[0m",
				Ports:   []string{tcp(c)},
				Boot:    second,
				Stamp:   "[15:04:05] ",
				Say: []string{
					"\x1b[36m[Server thread/INFO]\x1b[0m: Starting Mothcourt version {version}",
					"[Server thread/INFO]: OpenSSL 3.0.11 19 Sep 2023",
					"[Server thread/WARN]: no config found, using defaults",
					"[Server thread/INFO]: Done (2.{ms}s)! Type \"/help\" for help",
				},
				Help:  []string{"/say TEXT   says it", "/quit       saves the moths and leaves", "/kick NAME  kicks"},
				Write: map[string]string{"universe/moths.db": "m", "mothcourt.properties": "#{date}\nlamp=on\n"},
			},
			ships: map[string]string{
				"start-server.sh": exec("./mothcourt-server"),
				"update.sh":       "#!/bin/sh\necho curl -O https://x.example/mothcourt\n",
			},
			has: map[string]string{
				"universe/moths.db":    "m",
				"mothcourt.properties": "lamp=on\n",
				"whitelist.json":       "[]",
			},
			want: wanted{
				script: "start-server.sh",
				ready:  "[10:20:30] [Server thread/INFO]: Done (2.345s)! Type \"/help\" for help",
				says:   map[string]string{"[10:20:30] [Server thread/INFO]: Starting Mothcourt version 2.4.0": "2.4.0"},
				ports: []string{
					tcp(c),
				},
				stop: "/quit",
				keep: []string{"universe/moths.db", "whitelist.json"},
				set:  []string{"mothcourt.properties"},
			}},
		// Weekdays, months and years in every line; other numbers before the version.
		"eftisle": {bin: "eftisled", build: true,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"shutdown"},
				Unknown: "Unrecognized command",
				Ports:   []string{udp(d)},
				Boot:    second,
				Stamp:   "Mon Jan _2 15:04:05 2006: ",
				Say: []string{
					"[{pid}] protocol version 47.2, netcode 3.1.4",
					"Eft Isle server 2.4+g20260101 build",
					"map eft.bsp loaded, address 192.168.0.17:" + fmt.Sprint(d),
					"Server is up and accepting connections",
				},
			},
			ships: map[string]string{
				"eft.sh":        exec("./eftisled +map eft"),
				"base/eft.bsp":  "map {version}",
				"base/pak0.pk3": "pak {version}",
			},
			has: map[string]string{"base/server.cfg": "sv_name eft\n", "bans.txt": ""},
			want: wanted{
				script: "eft.sh",
				ready:  "Thu Nov 26 01:02:03 2026: Server is up and accepting connections",
				ports:  []string{udp(d)},
				stop:   "shutdown",
				keep: []string{
					"bans.txt",
				},
				set:    []string{"base/server.cfg"},
				builds: []string{"base/eft.bsp", "base/pak0.pk3"},
			},
			args: []string{"--version", "2.3.1"}},
		// The engine's data is called data, the world world.
		"slugwell": {bin: "slugwell", build: true,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"exit"},
				Unknown: "?",
				Same:    "data/version",
				Ports:   []string{udp(e)},
				Boot:    second,
				Say:     []string{"Slugwell {version}", "data: 311 objects", "world: 4 wells", "ready"},
				Write:   map[string]string{"world/wells.json": "{}"},
			},
			ships: map[string]string{
				"slugwell.sh":      exec("./slugwell"),
				"data/version":     "{version}\n",
				"data/objects.dat": "objects {version}",
				"data/names.json":  "[]",
			},
			has: map[string]string{"world/wells.json": "{}", "data/users.db": "u"},
			want: wanted{
				script: "slugwell.sh",
				ready:  "ready",
				says:   map[string]string{"Slugwell 2.4.0": "2.4.0"},
				ports:  []string{udp(e)},
				stop:   "exit",
				keep: []string{
					"world/wells.json",
					"data/users.db",
				},
				builds: []string{"data/version", "data/objects.dat", "data/names.json"},
			}},
		// The same, and the build is not at hand.
		"slugdeep": {bin: "slugdeep", build: false,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"exit"},
				Unknown: "?",
				Same:    "data/version",
				Ports:   []string{udp(f)},
				Boot:    second,
				Say: []string{
					"Slugdeep {version}",
					"data: 311 objects",
					"ready",
				},
				Write: map[string]string{"world/wells.json": "{}"},
			},
			ships: map[string]string{
				"slugdeep.sh":      exec("./slugdeep"),
				"data/version":     "{version}\n",
				"data/objects.dat": "objects {version}",
				"data/names.json":  "[]",
			},
			has: map[string]string{"world/wells.json": "{}"},
			want: wanted{
				script: "slugdeep.sh",
				ready:  "ready",
				says:   map[string]string{"Slugdeep 2.4.0": "2.4.0"},
				ports:  []string{udp(f)},
				stop:   "exit",
				keep: []string{
					"world/wells.json",
				},
				builds: []string{"data/version", "data/objects.dat", "data/names.json"},
			}},
		// The world is called data.
		"gnatmill": {bin: "gnatmill", build: false,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"close"},
				Unknown: "no such thing",
				Ports:   []string{tcp(g)},
				Boot:    second,
				Say: []string{
					"gnatmill server, version {version}.",
					"core 5.1.2 loaded",
					"gates are open on port " + fmt.Sprint(g),
				},
				Write: map[string]string{"data/mill.dat": "m2", "data/gnats.dat": "g"},
			},
			ships: map[string]string{"gnatmill.sh": exec("./gnatmill"), "core/rules.lua": "-- {version}"},
			has:   map[string]string{"data/mill.dat": "m1"},
			want: wanted{
				script: "gnatmill.sh",
				ready:  "gates are open on port 12345",
				says:   map[string]string{"gnatmill server, version 2.4.0.": "2.4.0"},
				ports:  []string{tcp(g)},
				stop:   "close",
				builds: []string{"core/rules.lua"},
			}},
		// A script that starts the server again whenever it ends.
		"loopcrane": {bin: "loopcrane", build: true,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"quit"},
				Unknown: "unknown: {word}",
				Ports:   []string{udp(h)},
				Boot:    second,
				Say: []string{
					"Loopcrane Server 2.x ({version})",
					"the crane listens",
				},
				Write: map[string]string{"save/crane.sav": "c"},
			},
			ships: map[string]string{"data.bin": "{version}"},
			has: map[string]string{
				"forever.sh": "#!/bin/bash\ncd \"$(dirname \"$0\")\"\nwhile true; do\n  ./loopcrane\n  echo restarting\n  sleep 1\ndone\n",
			},
			want: wanted{
				script: "forever.sh",
				ready:  "the crane listens",
				ports:  []string{udp(h)},
				stop:   "quit",
				keep:   []string{"save/crane.sav"},
			}},
		// A script that hands the server to a terminal multiplexer.
		"screenowl": {bin: "screenowl", build: true,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"save-quit"},
				Unknown: "what is {word}?",
				Ports:   []string{udp(i)},
				Boot:    second,
				Say: []string{
					"ScreenOwl {version} starting",
					"Owls are awake; server ready",
				},
				Write: map[string]string{"world/owls.dat": "o"},
			},
			ships: map[string]string{"lib/owl.dat": "{version}"},
			has: map[string]string{
				"start.sh": "#!/bin/sh\ncd \"$(dirname \"$0\")\"\nscreen -dmS owl ./screenowl -port " + fmt.Sprint(
					i,
				) + "\n",
				"stop.sh": "#!/bin/sh\nscreen -S owl -X stuff 'save-quit\\n'\n",
			},
			want: wanted{
				script: "screenowl",
				ready:  "Owls are awake; server ready",
				says:   map[string]string{"ScreenOwl 2.4.0 starting": "2.4.0"},
				ports:  []string{udp(i)},
				stop:   "save-quit",
				keep:   []string{"world/owls.dat"},
			}},
		// Several processes.
		"antqueen": {bin: "queen", helper: "worker", build: true,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"end"},
				Unknown: "unknown command",
				Ports:   []string{tcp(j)},
				Boot:    second,
				Say: []string{
					"ant queen {version}",
					"workers: 1",
					"The colony is open",
				},
				Write: map[string]string{"colony/eggs.db": "e"},
			},
			ships: map[string]string{
				"colony.sh": "#!/bin/sh\ncd \"$(dirname \"$0\")\"\n./worker &\nW=$!\n./queen\nkill $W\n",
			},
			has: map[string]string{
				"colony/eggs.db": "e",
				"HELP.txt":       "At the console:\n  end    saves and closes the colony\n  feed   feeds it\n",
			},
			want: wanted{
				script: "colony.sh",
				ready:  "The colony is open",
				says:   map[string]string{"ant queen 2.4.0": "2.4.0"},
				ports:  []string{tcp(j)},
				stop:   "end",
				keep:   []string{"colony/eggs.db"},
			}},
		// Several ports, and settings in JSON.
		"ferryport": {bin: "ferryport", build: false,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"stop"},
				Unknown: "unknown command",
				Ports:   []string{udp(k), tcp(l)},
				Boot:    second,
				Stamp:   "2006/01/02 15:04:05 ",
				Say: []string{
					"ferryport/{version} (linux; go1.26.0)",
					"game on [::]:" + fmt.Sprint(k) + "/udp",
					"query on 0.0.0.0:" + fmt.Sprint(l) + "/tcp",
					"initialization complete",
				},
				Write: map[string]string{"ferry.pid": "1", "harbours/east.json": "{}"},
			},
			ships: map[string]string{"ferryport.sh": exec("./ferryport")},
			has: map[string]string{
				"config.json":        fmt.Sprintf("{\"gamePort\": %d, \"queryPort\": %d}\n", k, l),
				"harbours/east.json": "{}",
			},
			want: wanted{
				script: "ferryport.sh",
				ready:  "2026/03/04 05:06:07 initialization complete",
				says:   map[string]string{"2026/03/04 05:06:07 ferryport/2.4.0 (linux; go1.26.0)": "2.4.0"},
				ports:  []string{tcp(l), udp(k)},
				stop:   "stop",
				set:    []string{"config.json"},
				keep:   []string{"harbours/east.json"},
				skip:   []string{"ferry.pid"},
			}},
		// No script at all, and no console.
		"mutehare": {bin: "mutehare_server", build: true,
			does: behaviour{
				Ports:  []string{udp(m)},
				Boot:   second,
				Log:    "server-2006-01-02.log",
				LogSay: []string{"Hare {version} up", "hare ready"},
				Write:  map[string]string{"hares.sqlite": "h"},
			},
			ships: map[string]string{"libhare.so.1": "{version}", "LICENSE": "free"},
			has:   map[string]string{"hares.sqlite": "h"},
			want: wanted{
				script: "mutehare_server",
				log:    "server-*.log",
				ready:  "hare ready",
				says:   map[string]string{"Hare 2.4.0 up": "2.4.0"},
				ports:  []string{udp(m)},
				keep: []string{
					"hares.sqlite",
				},
				builds: []string{"libhare.so.1"},
				skip:   []string{"server-2026-11-26.log"},
			}},
		// Scripts for Windows beside those for this system, and a wait for a key at the end.
		"voleworks": {bin: "bin/voleworks", build: true,
			does: behaviour{
				Reads:   true,
				Stop:    []string{"exit"},
				Unknown: "Bad command or option: {word}. Try help",
				Ports:   []string{udp(n)},
				Boot:    second,
				Say: []string{
					"VoleWorks Server [Version {version}]",
					"(c) 2026 nobody",
					"Startup complete. Type exit to close the server.",
				},
				Write: map[string]string{"worlds/vole.sav": "v"},
			},
			ships: map[string]string{
				"start.bat":                "@echo off\r\nbin\\voleworks.exe\r\npause\r\n",
				"bin/vole.ini":             "[vole]\r\nspeed=1\r\n",
				"addons/digger/addon.json": "{\"id\": \"digger\", \"version\": \"1.0\", \"requires\": \">=2.0\"}\n",
			},
			has: map[string]string{
				"worlds/vole.sav":          "v",
				"start.sh":                 "#!/bin/sh\ncd \"$(dirname \"$0\")\"\n./bin/voleworks\nread -p 'press enter' key\n",
				"addons/burrow/addon.json": "{\"id\": \"burrow\", \"version\": \"0.3\", \"requires\": \">=2.3\"}\n",
				"addons/burrow/burrow.lua": "--\n",
			},
			want: wanted{
				script:  "start.sh",
				ready:   "Startup complete. Type exit to close the server.",
				says:    map[string]string{"VoleWorks Server [Version 2.4.0]": "2.4.0"},
				ports:   []string{udp(n)},
				stop:    "exit",
				keep:    []string{"worlds/vole.sav", "addons/burrow/burrow.lua"},
				builds:  []string{"bin/vole.ini", "addons/digger/addon.json", "start.bat"},
				addons:  "addons/burrow",
				addonIs: "addon.json",
			}},
		// A database whose journal is named like a log; the folder is called data, and no settings name it.
		"otterbase": {bin: "lib/otterd",
			does: behaviour{Ports: []string{tcp(o)}, Boot: second,
				Say:   []string{"otterbase {version} begins", "store opened", "otterbase is online on port " + fmt.Sprint(o)},
				Write: map[string]string{"data/otter.log": "INSERT 1\n", "data/otter.script": "CREATE\n", "data/otter.lck": "1"}},
			ships: map[string]string{"otter.sh": exec(fmt.Sprintf("lib/otterd --port %d", o)), "readme.txt": "read {version}\n"},
			has:   map[string]string{"data/otter.log": "", "data/otter.script": "CREATE\n", "data/otter.properties": "open=yes\n"},
			want: wanted{script: "otter.sh", ready: "otterbase is online on port 4711",
				says: map[string]string{"otterbase 2.4.0 begins": "2.4.0"}, ports: []string{tcp(o)},
				keep:   []string{"data/otter.log", "data/otter.script", "data/otter.properties"},
				builds: []string{"readme.txt"}},
			args: []string{"--version", "2.3.1"}},
		// What it runs lies among vendored modules, which have files named like settings and lists; it says a protocol's
		// number, and its package the version.
		"fernfrog": {bin: "node_modules/fernfrog/bin/fernfrog",
			does: behaviour{Reads: true, Stop: []string{"stop"}, Ports: []string{tcp(q)}, Boot: second,
				Stamp: "January 2nd 2006, 15:04:05 [INFO]: ",
				Say:   []string{"Server listening, version 1.16.1", "Loaded plugins"}},
			ships: map[string]string{
				"node_modules/fernfrog/package.json":         "{\"name\": \"fernfrog\", \"version\": \"{version}\"}\n",
				"node_modules/fernfrog/config/settings.json": fmt.Sprintf("{\"port\": %d}\n", q),
				"node_modules/leafs/oplevels.yml":            "a: {version}\n",
				"node_modules/leafs/yarn.lock":               "{version}\n",
				"package.json":                               "{}\n",
			},
			has: map[string]string{"fern.sh": exec("node_modules/fernfrog/bin/fernfrog"), "world/keepsake.txt": "mine"},
			want: wanted{script: "fern.sh", ready: "March 3rd 2027, 05:06:07 [INFO]: Server listening, version 1.16.1",
				ports: []string{tcp(q)}, stop: "stop", keep: []string{"world/keepsake.txt"},
				builds: []string{"node_modules/fernfrog/config/settings.json", "node_modules/leafs/oplevels.yml",
					"node_modules/leafs/yarn.lock", "package.json"}}},
		// It holds a port of its own, and one that is another at each start; its console names both.
		"twinlark": {bin: "twinlark",
			does: behaviour{Reads: true, Stop: []string{"quit"}, Unknown: "unknown command {word}", Help: []string{"quit - ends the server"},
				Ports: []string{udp(r), "udp/0"}, Boot: second,
				Say: []string{"Bound socket to *:{port2}.", fmt.Sprintf("Bound socket to *:%d.", r), "nobody there, type /help"}},
			ships: map[string]string{"lark.cfg": fmt.Sprintf("SERVER_PORT %d\n", r), "share/lark.png": "{version}"},
			has:   map[string]string{"lark.sh": exec("./twinlark --datadir ./share")},
			want: wanted{script: "lark.sh", ready: fmt.Sprintf("Bound socket to *:%d.", r), ports: []string{udp(r)}, stop: "quit",
				set: []string{"lark.cfg"}, builds: []string{"share/lark.png"}}},
		// The program's name holds the version, and the operator's own script runs it by that.
		"wrenhall": {bin: "wrenhall-{version}",
			does: behaviour{Ports: []string{tcp(u)}, Boot: second, Say: []string{"wren hall opens"}},
			has:  map[string]string{"run.sh": exec("./wrenhall-2.3.1"), "members.txt": "ada\n"},
			want: wanted{script: "run.sh", ready: "wren hall opens", ports: []string{tcp(u)}, keep: []string{"members.txt"}}},
		// Settings name the place of the data; a map of the operator's lies among the makers'.
		"molemere": {bin: "molemere_srv",
			does: behaviour{Ports: []string{udp(v)}, Boot: second, Stamp: "[2006-01-02 15:04:05][server]: ",
				Say: []string{"starting...", "server name is 'mole'", "version 0.7 802f1be60a05665f", "rcon password: 'k3{ms}x'"}},
			ships: map[string]string{"maps/dm1.map": "1 {version}", "maps/dm2.map": "2 {version}", "maps/dm3.map": "3 {version}",
				"maps/dm4.map": "4 {version}"},
			has: map[string]string{"mole.sh": exec("./molemere_srv"), "autoexec.cfg": fmt.Sprintf("sv_port %d\nstore_dir ./den\n", v),
				"maps/molemere.map": "mine", "den/kin": "mine"},
			want: wanted{script: "mole.sh", ready: "[2026-12-01 22:37:40][server]: version 0.7 802f1be60a05665f", ports: []string{udp(v)},
				keep: []string{"maps/molemere.map", "den/kin"}, set: []string{"autoexec.cfg"},
				builds: []string{"maps/dm1.map", "maps/dm4.map"}}},
	}
}
