//go:build unix

package main

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"freshkeel/demo"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// envMustPostgres makes a missing PostgreSQL a failure, for machines that are to
// have it.
const envMustPostgres = "FRESHKEEL_TEST_MUST_POSTGRES"

// postgres starts a real database server on loopback, and returns how its tools
// are told to reach it.
func postgres(t *testing.T) (tool func(name string) string, reach []string) {
	t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	nobody, err := user.Lookup("postgres")
	// it refuses to be root, and to become somebody one has to be
	if len(found) == 0 || err != nil || os.Geteuid() != 0 {
		if os.Getenv(envMustPostgres) != "" {
			t.Fatal("PostgreSQL is to be here, and is not")
		}
		t.Skip("no PostgreSQL here, or nobody to run it as")
	}
	tool = func(name string) string { return filepath.Join(found[len(found)-1], name) }
	dir, err := os.MkdirTemp("", "freshkeel-db-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	uid, _ := strconv.Atoi(nobody.Uid)
	gid, _ := strconv.Atoi(nobody.Gid)
	require.NoError(t, os.Chown(dir, uid, gid))
	port := strconv.Itoa(proving.FreePort(t))
	run := func(args ...string) {
		cmd := exec.Command(tool(args[0]), args[1:]...)
		cmd.Dir = dir
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
		cmd.Stdout, _ = os.Create(os.DevNull) // its server keeps what it is given open
		require.NoError(t, cmd.Run(), "%v", args)
	}
	run("initdb", "-D", dir+"/data", "-U", "keeper", "--auth=trust", "-E", "UTF8")
	run("pg_ctl", "-D", dir+"/data", "-w", "-l", dir+"/log", "-o",
		fmt.Sprintf("-p %s -k %s -h 127.0.0.1 -c fsync=off", port, dir), "start")
	t.Cleanup(func() { run("pg_ctl", "-D", dir+"/data", "-w", "-m", "immediate", "stop") })
	return tool, []string{"-h", "127.0.0.1", "-p", port, "-U", "keeper"}
}

// A database that the server uses is dumped into each backup, and loaded back by
// a rollback and a restore: a real one.
func TestADatabaseGoesWithTheBackup(t *testing.T) {
	t.Parallel()
	tool, reach := postgres(t)
	sql := func(text string) string {
		out, err := exec.Command(tool("psql"),
			append(slices.Clone(reach), "-d", "postgres", "-At", "-c", text)...).CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	sql("create table snails (name text, wins int)")
	sql("insert into snails select 'snail ' || n, n from generate_series(1, 5000) n")
	sum := func() string { return sql("select count(*) || ' ' || sum(wins) from snails") }
	was := sum()

	p := mossgate(t, fixed[0], fixed[1], demo.Releases[2])
	quoted := func(words ...string) string { return "['" + strings.Join(words, "', '") + "']" }
	p.EditProfile(func(s string) string {
		return s + fmt.Sprintf("\n[[data]]\nname = 'songs'\ndump = %s\nload = %s\nenv = ['PGCONNECT_TIMEOUT=5']\n",
			quoted(slices.Concat([]string{tool("pg_dump")}, reach, []string{"--clean", "--if-exists", "postgres"})...),
			quoted(slices.Concat([]string{tool("psql"), "-q", "-v", "ON_ERROR_STOP=1"}, reach,
				[]string{"-d", "postgres"})...))
	})
	// What the new build does to the database before it dies.
	p.Put("open-gates.sh", strings.Replace(p.Read("open-gates.sh"), "exec ",
		fmt.Sprintf("grep -q 3.6.0 README.txt && %s %s -d postgres -q -c 'delete from snails where wins > 10'\nexec ",
			tool("psql"), strings.Join(reach, " ")), 1))
	p.OK("start")
	r := p.Exits(exitRolledBack, "refit", "3.6.0")
	assert.Contains(t, r.Out, "loaded back from backup b0001: songs")
	assert.Equal(t, was, sum(), "the old server finds its data as it was")

	p.OK("backup", "take", "--label", "five thousand")
	sql("truncate snails")
	// A whole restore says what it would undo, and is told whether it is to.
	r = p.OK("backup", "restore", "b0002", "--dry-run")
	assert.Contains(t, oneSpace(r.Out), "songs is loaded as it was")
	assert.Contains(t, oneSpace(r.Out), "say --data to load it, or --no-data")
	r = p.Exits(exitUsage, "backup", "restore", "b0002")
	assert.Contains(t, r.Err, "b0002 has a dump of songs: what was written there since")
	p.OK("backup", "restore", "b0002", "--no-data")
	assert.Empty(t, sum())
	p.OK("backup", "restore", "b0002", "--data")
	assert.Equal(t, was, sum())
	assert.Contains(t, p.OK("backup", "show", "b0002", "--all").Out, ".freshkeel/data/songs")
	p.OK("backup", "check")

	// A part of the files is no reason to touch the database.
	sql("insert into snails values ('Wilmot', 1)")
	more := sum()
	p.OK("backup", "restore", "b0002", "--only", "members.txt")
	assert.Equal(t, more, sum())

	// What can't be dumped is no backup, and so no refit: known before the server is stopped, whether it fails
	// at its first byte, by its own check, or late.
	working := p.Read("freshkeel.toml")
	since := p.Status().Server.Since
	for name, c := range map[string]struct {
		code      int
		was, is   string
		says, not string
	}{
		"no such database": {exitRefused, "'postgres']\nload", "'pond']\nload", `database "pond" does not exist`, ""},
		"its own check": {exitRefused, "env = ['PGCONNECT",
			"check = ['sh', '-c', 'echo the keeper is away; exit 3']\nenv = ['PGCONNECT",
			"the keeper is away", ""},
		"fails late": {exitFailed, "dump = ['" + tool("pg_dump") + "'",
			"dump = ['sh', '-c', '\"$@\"; sleep 0.2; head -c 200000 /dev/zero; exit 7', 'sh', '" +
				tool("pg_dump") + "'", "while the server ran: dump songs", "stop:"},
		"too slow": {exitFailed, "dump = ['" + tool("pg_dump") + "'",
			"limit = '1s'\ndump = ['sh', '-c', 'head -c 200000 /dev/zero; sleep 30', 'sh', '" +
				tool("pg_dump") + "'", "it took too long", "stop:"},
	} {
		p.EditProfile(func(string) string { return strings.Replace(working, c.was, c.is, 1) })
		before := p.Tree()
		r = p.Exits(c.code, "refit", "3.5.0")
		assert.Contains(t, oneSpace(r.Out+r.Err), c.says, name)
		if c.not != "" {
			assert.NotContains(t, r.Err, c.not, name)
		}
		assert.Equal(t, before, p.Tree(), name)
		assert.Equal(t, since, p.Status().Server.Since, "%s: the server was not stopped", name)
	}
	p.EditProfile(func(string) string { return working })
	// What the last dump was like forecasts the next one.
	p.Put(".freshkeel/dumps.json", `{"songs":{"bytes":1125899906842624,"took_ns":3300000000000}}`)
	found := p.preflight(exitRefused, "3.5.0")
	p.parts(found["disk"], "stop", "1.0 PiB needed", "", "1.0 PiB for the dump of songs", "free space")
	p.parts(found["data"], "warn", "the last dump of songs took 55 min", "[[data]] songs", "", "limit")
	require.NoError(t, os.Remove(filepath.Join(p.Install, ".freshkeel/dumps.json")))
	p.EditProfile(func(s string) string { return strings.Replace(s, tool("pg_dump"), "pg_dump_fen", 1) })
	p.parts(p.preflight(exitRefused, "3.5.0")["data"], "stop", "pg_dump_fen, which dumps songs, is not here",
		"[[data]] songs", "no backup", "install it")
}
