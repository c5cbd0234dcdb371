//go:build unix

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pondServer is a server that says its version and its settings, and writes these anew when it
// is told to stop, as many do.
const pondServer = `#!/bin/sh
echo "pond VERSION"
echo "gates open"
while read -r line; do
  [ "$line" = close ] || continue
  [ ! -e rewrites ] || sed -i 's/^visits = .*/visits = 77/' pond.conf
  exit 0
done
`

// pond is an install at the first of some builds, which differ in their defaults.
func pond(t *testing.T, defaults ...string) place {
	p := place{proving.Bare(t)}
	for i, conf := range defaults {
		zipOf(t, filepath.Join(p.Dir, fmt.Sprintf("pond-1.%d.zip", i)), time.Now(), false, "pond.conf", conf,
			"server.sh", strings.ReplaceAll(pondServer, "VERSION", fmt.Sprintf("1.%d", i)))
	}
	p.Put("pond.conf", defaults[0])
	p.Put("server.sh", strings.ReplaceAll(pondServer, "VERSION", "1.0"))
	p.Put("start.sh", "#!/bin/sh\nexec sh server.sh\n")
	p.Put("freshkeel.toml", "[server]\nname = 'pond'\nsettings = ['pond.conf']\n[launch]\nscript = 'start.sh'\n"+
		"[stop]\nsend = 'close'\n[ready]\nline = '^gates open'\nversion = '^pond (\\S+)'\nsteady = '60ms'\n")
	p.OK("adopt", p.Install, "--build", filepath.Join(p.Dir, "pond-1.0.zip"), "--version", "1.0")
	return p
}

// oneSpace is a text whose rows are not broken.
func oneSpace(s string) string { return strings.Join(strings.Fields(s), " ") }

// Twenty values of the operator's go along over three builds in a row, whatever the maker does to
// the file, and come back with a rollback, byte for byte.
func TestSettingsComeAlongOverBuildsAndBack(t *testing.T) {
	t.Parallel()
	var first, second, third, mine strings.Builder
	for i := range 100 {
		fmt.Fprintf(&first, "# what key %d does\nkey%02d = %d\n", i, i, i)
		fmt.Fprintf(&mine, "# what key %d does\nkey%02d = %d\n", i, i, map[bool]int{true: 1000 + i, false: i}[i%5 == 0])
	}
	second.WriteString("# settings of pond 1.1\nrequired_build = 1\n")
	for i := 99; i >= 0; i-- { // turned round, one dropped, one default changed
		if i != 50 {
			fmt.Fprintf(
				&second,
				"key%02d = %d   # key %d\n",
				i,
				map[bool]int{true: 11, false: i}[i == 10 || i == 11],
				i,
			)
		}
	}
	third.WriteString("[game]\nrequired_build = 1\n[keys]\nkey00 = 0\n")
	p := pond(t, first.String(), second.String(), second.String()+"visits = 0\n")
	p.Put("pond.conf", mine.String())
	p.EditProfile(func(s string) string {
		return s + "\n[[carry]]\nfile = 'pond.conf'\n[carry.always]\nrequired_build = '{version}'\n"
	})
	p.OK("start")
	told := oneSpace(p.OK("settings").Out)
	assert.Contains(t, told, "20 values of yours in 1 file, held against the defaults of 1.0")
	assert.Contains(t, told, "key95 1095 the default is 95")
	from := filepath.Join(p.Dir, "pond-1.1.zip")
	pre := oneSpace(p.OK("preflight", "--from", from, "--all").Out)
	assert.Contains(
		t,
		pre,
		"18 values of yours carried over, 1 value of yours kept that the maker changed too, 1 value set by the profile",
	)
	assert.Contains(t, pre, "key10 = 1010 (the default was 10, and is 11)")
	assert.Contains(t, pre, "key50 = 1050 is dropped by the maker")
	assert.Contains(t, pre, "+key95 = 1095 # key 95")
	p.OK("refit", "--from", from)
	text := p.Read("pond.conf")
	for i := 0; i < 100; i += 5 {
		if i != 50 {
			assert.Contains(t, text, fmt.Sprintf("key%02d = %d   # key %d\n", i, 1000+i, i))
		}
	}
	assert.Contains(t, text, "required_build = 1.1\n")
	assert.Contains(t, text, "key11 = 11   # key 11\n", "a default that the maker alone changed is the maker's")
	assert.NotContains(t, text, "key50")

	p.Put("rewrites", "") // the server writes its settings as it stops, between plan and swap
	p.Put("pond.conf", text+"visits = 3\n")
	p.OK("refit", "--from", filepath.Join(p.Dir, "pond-1.2.zip"))
	again := p.Read("pond.conf")
	assert.Contains(t, again, "visits = 77\n", "what the server wrote is the operator's")
	assert.Contains(t, again, "key95 = 1095")
	assert.Contains(t, again, "required_build = 1.2\n")
	p.OK("rollback")
	assert.Contains(t, p.Read("pond.conf"), "required_build = 1.1\n")
	p.OK("rollback")
	assert.Equal(t, mine.String(), p.Read("pond.conf"), "byte for byte")
	p.OK("stop")
}

// What can't be read is left as it is and told; a doubt stops where the profile asks for it; a file
// whose merge is not wanted stays.
func TestSettingsThatCantBeCarriedAreLeft(t *testing.T) {
	t.Parallel()
	p := pond(t, "night = long\nday = 1\n", "night = short\nday = 2\nmoon = new\n")
	from := filepath.Join(p.Dir, "pond-1.1.zip")
	p.Put("pond.conf", "night = longest\nday = 1\n")
	p.EditProfile(func(s string) string { return s + "\n[[carry]]\nfile = '*.conf'\nstop = true\n" })
	assert.Contains(
		t,
		oneSpace(p.Exits(exitRefused, "preflight", "--from", from).Out),
		"night = longest (the default was long",
	)
	p.EditProfile(func(s string) string { return strings.Replace(s, "stop = true", "merge = false", 1) })
	p.OK("refit", "--from", from)
	assert.Equal(t, "night = longest\nday = 1\n", p.Read("pond.conf"))
	p.OK("rollback")
	p.EditProfile(func(s string) string { return strings.Replace(s, "merge = false", "never = ['night']", 1) })
	p.OK("refit", "--from", from)
	assert.Equal(t, "night = short\nday = 2\nmoon = new\n", p.Read("pond.conf"))
	p.OK("rollback")
	p.Put("pond.conf", "some words about the pond\nthat nobody can read\nas settings: none\n")
	pre := oneSpace(p.OK("preflight", "--from", from).Out)
	assert.Contains(t, pre, "pond.conf stays as you have it: line 1, column 1: 'some words about the pond' is no setting that is known here")
	p.OK("refit", "--from", from)
	assert.Contains(t, p.Read("pond.conf"), "some words about the pond")
}

// The default may have another name than the file that the operator made of it; and the carried
// file is old or new, never half, wherever the command is killed.
func TestDefaultsOfAnotherNameAndKillsBetweenAnyTwoSteps(t *testing.T) {
	t.Parallel()
	const was, is = "night = long\nday = 1\n", "# 1.1\nday = 1\nmoon = new\nnight = long\n"
	const mine, merged = "night = longest\nday = 1\nown = 5\n", "# 1.1\nday = 1\nown = 5\nmoon = new\nnight = longest\n"
	set := func(t *testing.T) (place, string) {
		p := place{proving.Bare(t)}
		for i, conf := range []string{was, is} {
			zipOf(
				t,
				filepath.Join(p.Dir, fmt.Sprintf("pond-1.%d.zip", i)),
				time.Now(),
				false,
				"pond.example.conf",
				conf,
				"server.sh",
				strings.ReplaceAll(pondServer, "VERSION", fmt.Sprintf("1.%d", i)),
			)
		}
		p.Put("pond.example.conf", was)
		p.Put("pond.conf", mine)
		p.Put("server.sh", strings.ReplaceAll(pondServer, "VERSION", "1.0"))
		p.Put("start.sh", "#!/bin/sh\nexec sh server.sh\n")
		p.Put("freshkeel.toml", "[server]\nname = 'pond'\nsettings = ['pond.conf']\n[launch]\nscript = 'start.sh'\n"+
			"[stop]\nsend = 'close'\n[ready]\nline = '^gates open'\nversion = '^pond (\\S+)'\nsteady = '60ms'\n")
		p.OK("adopt", p.Install, "--build", filepath.Join(p.Dir, "pond-1.0.zip"), "--version", "1.0")
		p.OK("start")
		return p, filepath.Join(p.Dir, "pond-1.1.zip")
	}
	p, from := set(t)
	trace := filepath.Join(p.Dir, "trace")
	p.RunWith([]string{"FRESHKEEL_TEST_TRACE=" + trace}, "refit", "--from", from)
	assert.Equal(t, merged, p.Read("pond.conf"))
	assert.Equal(t, is, p.Read("pond.example.conf"))
	b, err := os.ReadFile(trace)
	require.NoError(t, err)
	steps := strings.Fields(string(b))
	require.Greater(t, len(steps), 12)
	for i, step := range steps {
		if !proving.Today(i) {
			continue
		}
		t.Run(step, func(t *testing.T) {
			t.Parallel()
			p, from := set(t)
			require.Equal(t, -1, p.RunWith([]string{"FRESHKEEL_TEST_DIE_AT=" + step}, "refit", "--from", from).Code)
			// Right after the kill it may stand in the run's folder, between two renames.
			if b, err := os.ReadFile(filepath.Join(p.Install, "pond.conf")); err == nil {
				assert.Contains(t, []string{mine, merged}, string(b))
			}
			p.OK("recover")
			want := map[string]string{"1.0": mine, "1.1": merged}[p.Status().Version]
			assert.Equal(t, want, p.Read("pond.conf"))
		})
	}
}

// The launch command tells what the script really runs: variables filled in, by line.
func TestLaunchTellsWhatTheScriptRuns(t *testing.T) {
	t.Parallel()
	p := mossgate(t)
	told := oneSpace(p.OK("launch").Out)
	assert.Regexp(t, `line open-gates.sh:\d+: exec "\$JAVA" \$MEMORY`, told)
	assert.Regexp(
		t,
		`runtimes/17/bin/java, Java 17\S* runs mossgate.jar memory 64.0 MiB at first, 256.0 MiB at most`,
		told,
	)
	p.Put("open-gates.sh", "#!/bin/sh\nexec ./nothing-there --port 1\n")
	assert.Contains(t, oneSpace(p.OK("launch").Out), "nothing-there, which is not there with --port 1")
}

// writingServer writes its settings at its first start, as the commonest do, and looks whether it
// can reach what it must not.
const writingServer = `#!/bin/sh
if [ ! -e pond.conf ]; then # its first start, apart: it must not reach any of these
  [ "$(id -u)" != 0 ] || exit 6
  [ "$(grep -c : /proc/net/dev)" = 1 ] || exit 7
  touch OUTSIDE/escaped 2>/dev/null && exit 8
  kill -0 PROCESS 2>/dev/null && exit 9
  [ $$ -lt 200 ] || exit 10 # numbers of processes begin anew
fi
[ -e pond.conf ] || printf 'DEFAULTS' > pond.conf
[ ! -e world.dat ] || echo visited >> world.dat
echo "pond VERSION"
echo "gates open"
while read -r line; do [ "$line" = close ] && exit 0; done
`

// A build that writes its settings at its first start is booted once in a folder apart: its
// defaults are known then, and the world and what runs never notice.
func TestDefaultsThatAServerWritesAtItsFirstStart(t *testing.T) {
	t.Parallel()
	p := place{proving.Bare(t)}
	build := func(version, defaults string) string {
		at := filepath.Join(p.Dir, "pond-"+version+".zip")
		zipOf(t, at, time.Now(), false, "server.sh",
			strings.NewReplacer("VERSION", version, "DEFAULTS", defaults, "OUTSIDE", p.Dir, "PROCESS",
				strconv.Itoa(os.Getpid())).Replace(writingServer))
		return at
	}
	first := build("1.0", `# pond\nfish = 4\ndepth = 2\nreeds = few\n`)
	second := build("1.1", `# pond, new\ndepth = 3\nfish = 4\nlilies = 9\n`)
	third := build("1.2", `# pond, newer\ndepth = 3\nfish = 5\nlilies = 9\n`)
	p.Put("server.sh", strings.NewReplacer("VERSION", "1.0", "DEFAULTS", `# pond\nfish = 4\ndepth = 2\nreeds = few\n`,
		"OUTSIDE", p.Dir, "PROCESS", strconv.Itoa(os.Getpid())).Replace(writingServer))
	p.Put("world.dat", "the world\n")
	p.Put("pond.conf", "# pond\nfish = 44\ndepth = 2\nreeds = many\n")
	p.Put("start.sh", "#!/bin/sh\ncd "+p.Install+" || exit 1\nexec sh server.sh\n")
	p.Put(
		"freshkeel.toml",
		"[server]\nname = 'pond'\nsettings = ['pond.conf']\nkeep = ['world.dat']\n[launch]\nscript = 'start.sh'\n"+
			"[stop]\nsend = 'close'\n[ready]\nline = '^gates open'\nversion = '^pond (\\S+)'\nsteady = '60ms'\n"+
			"[[carry]]\nfile = 'pond.conf'\ndefaults = 'written'\n",
	)
	p.OK("adopt", p.Install, "--build", first, "--version", "1.0")
	p.OK("start")
	world, pid := p.Read("world.dat"), p.Status().Server.PID
	r := p.OK("preflight", "--from", second, "--all")
	told := oneSpace(r.Out)
	assert.Contains(
		t,
		told,
		"1 value of yours carried over, 1 default that the maker changed, 1 new key, 1 key that the maker dropped",
	)
	assert.Contains(t, told, "reeds = many is dropped by the maker")
	assert.NotContains(t, told, "is not known")
	assert.Equal(t, 2, strings.Count(r.Err, "in a folder apart: it wrote pond.conf"), r.Err)
	assert.Equal(t, world, p.Read("world.dat"), "the world was not reached, though the script names its folder")
	assert.Equal(t, pid, p.Status().Server.PID)
	r = p.OK("refit", "--from", second)
	assert.NotContains(t, r.Err, "in a folder apart", "once a build")
	assert.Equal(t, "# pond, new\ndepth = 3\nfish = 44\nlilies = 9\n", p.Read("pond.conf"))
	r = p.OK("refit", "--from", third)
	assert.Equal(t, 1, strings.Count(r.Err, "in a folder apart"), "the other is known from before")
	assert.Equal(t, "# pond, newer\ndepth = 3\nfish = 44\nlilies = 9\n", p.Read("pond.conf"))
	assert.Contains(t, oneSpace(p.OK("settings").Out), "fish 44 the default is 5")
	p.OK("rollback")
	p.OK("rollback")
	assert.Equal(t, "# pond\nfish = 44\ndepth = 2\nreeds = many\n", p.Read("pond.conf"))
	p.OK("stop")
}

// The makers' own number of a build is set where the profile asks for it, raised with the next and
// put back with the one before; where the source says none, that is told and the value stays.
func TestTheBuildsOwnNumberIsSet(t *testing.T) {
	t.Parallel()
	p := pond(
		t,
		"required = 0\n",
		"required = 0\ndepth = 2\n",
		"required = 0\ndepth = 3\n",
		"required = 0\ndepth = 4\n",
	)
	list := ""
	for i, number := range []string{"1041", "1077", "1102", ""} {
		if list != "" {
			list += ","
		}
		list += fmt.Sprintf(
			`{"version": "1.%d", "number": %q, "parts": [{"url": "pond-1.%[1]d.zip", "unpack": {"as": "zip"}}]}`,
			i,
			number,
		)
	}
	proving.Put(
		t,
		filepath.Join(p.Dir, "feed.json"),
		`{"format": "freshkeel-feed/1", "name": "pond", "builds": [`+list+`]}`,
	)
	p.EditProfile(func(s string) string {
		return s + "\n[source]\nfeed = '../feed.json'\n[[carry]]\nfile = 'pond.conf'\n[carry.always]\nrequired = '{build}'\n"
	})
	p.OK("start")
	p.OK("refit", "1.1")
	assert.Equal(t, "required = 1077\ndepth = 2\n", p.Read("pond.conf"))
	p.OK("refit", "1.2")
	assert.Equal(t, "required = 1102\ndepth = 3\n", p.Read("pond.conf"))
	r := p.OK("preflight", "1.3")
	assert.Contains(t, oneSpace(r.Out), "required is to be the build's own number, and the source says none of 1.3")
	p.OK("rollback")
	assert.Equal(t, "required = 1077\ndepth = 2\n", p.Read("pond.conf"))
	p.OK("rollback")
	assert.Equal(t, "required = 0\n", p.Read("pond.conf"))
	p.OK("stop")
}
