//go:build unix

package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// withStore gives a pond a database beside it: a file outside the install, dumped and loaded by
// commands.
func withStore(t *testing.T, migration string) (p place, db string, refit func(code int) proving.Ran) {
	p = pond(t, "depth = 1\n", "depth = 2\n", "depth = 3\n")
	db = filepath.Join(p.Dir, "songs.db")
	require.NoError(t, os.WriteFile(db, []byte("schema 1\nsong of the wren\n"), 0o644))
	p.EditProfile(func(s string) string {
		return s + fmt.Sprintf(
			"\n[[data]]\nname = 'songs'\ndump = ['cat', '%s']\nload = ['sh', '-c', 'cat > %[1]s']\n",
			db,
		) +
			strings.ReplaceAll(
				migration,
				"DB",
				db,
			)
	})
	p.OK("start")
	n := 0
	return p, db, func(code int) proving.Ran {
		n++
		return p.Exits(code, "refit", "--from", filepath.Join(p.Dir, fmt.Sprintf("pond-1.%d.zip", n)))
	}
}

// A migration runs after the swap and before the new build starts, when the step crosses its
// versions; one that fails half-way, hangs or says so brings back files and data.
func TestMigrationsRunBetweenSwapAndStart(t *testing.T) {
	t.Parallel()
	p, db, refit := withStore(t, `
[[migration]]
name = 'song tables'
when = '<1.1 -> >=1.1'
docs = 'the notes of 1.1'
run = ['sh', '-c', 'echo to {to}; grep -q "depth = 2" pond.conf || exit 9; sed -i "s/schema.1/schema 2/" DB; echo all songs moved']
success = '^all songs moved$'
fail = ['^broken']
limit = '5s'
`)
	pre := p.OK("preflight", "--from", filepath.Join(p.Dir, "pond-1.1.zip"), "--all").Out
	assert.Contains(t, oneSpace(pre), "the migration song tables will be run")
	assert.Contains(t, oneSpace(pre), "(as the notes of 1.1 says)")
	r := refit(0)
	assert.Contains(t, r.Err, "migrate: song tables")
	b, err := os.ReadFile(db)
	require.NoError(t, err)
	assert.Equal(t, "schema 2\nsong of the wren\n", string(b))
	e := p.LastEntry()
	require.Len(t, e.Migrations, 1)
	assert.True(t, e.Migrations[0].Done)
	r = refit(0) // the step crosses nothing
	assert.NotContains(t, r.Err, "migrate:")
	p.OK("rollback")
	r = p.OK("rollback", "--dry-run")
	assert.Contains(t, oneSpace(r.Out), "it ran the migration song tables, and the data stays as it is now")
	r = p.OK("rollback", "--world")
	b, _ = os.ReadFile(db)
	assert.Equal(t, "schema 1\nsong of the wren\n", string(b), "the data of before comes back with the world")
	for name, c := range map[string]struct{ run, why string }{
		"fails half-way": {"sed -i s/schema.1/schema.half/ DB; exit 4", "exit status 4"},
		"says so":        {"sed -i s/schema.1/schema.half/ DB; echo broken pipe; sleep 1; echo all songs moved", "it says 'broken pipe'"},
		"says nothing":   {"sed -i s/schema.1/schema.half/ DB", "it ended, and said nothing that matches"},
		"hangs":          {"sed -i s/schema.1/schema.half/ DB; sleep 60", "took too long"},
		"empties it":     {": > DB; kill -9 $$", "killed"},
		"is not there":   {"", "which will not be there"},
	} {
		p.EditProfile(func(s string) string {
			a, z := strings.Index(s, "run = "), strings.Index(s, "success = ")
			run := "run = ['sh', '-c', '" + strings.ReplaceAll(c.run, "DB", db) + "']\n"
			if c.run == "" {
				run = "run = ['lib/upgrade.sh']\n"
			}
			return s[:a] + run + s[z:]
		})
		before := p.Tree()
		want := exitRolledBack
		if c.run == "" {
			want = exitRefused
		}
		r := p.Exits(want, "refit", "--from", filepath.Join(p.Dir, "pond-1.1.zip"))
		assert.Contains(t, oneSpace(r.Out), c.why, name)
		b, _ = os.ReadFile(db)
		assert.Equal(t, "schema 1\nsong of the wren\n", string(b), name)
		for _, at := range []string{"pond.conf", "server.sh", "start.sh"} {
			assert.Equal(t, before[at], p.Tree()[at], name)
		}
		assert.True(t, p.Status().Server.Running, name)
	}
	p.OK("stop")
}

// Killed before, in and after a migration, recover runs none of it twice: what is not known to be
// done goes back, files and data.
func TestKilledInAMigration(t *testing.T) {
	t.Parallel()
	p, db, _ := withStore(t, `
[[migration]]
name = 'song tables'
when = 'each'
run = ['sh', '-c', 'echo ran >> DB']
`)
	p.EditProfile(func(s string) string { return strings.ReplaceAll(s, "echo ran >> DB", "echo ran >> "+db) })
	for _, at := range []string{"phase:migrating", "migrating", "migrated", "all-migrated", "phase:watching", "started", "finished"} {
		c := p.Command("refit", "--from", filepath.Join(p.Dir, "pond-1.1.zip"))
		c.Env = append(c.Env, "FRESHKEEL_TEST_DIE_AT="+at)
		c.Run()
		p.OK("recover")
		b, _ := os.ReadFile(db)
		version := p.Status().Version
		switch ran := strings.Count(string(b), "ran\n"); version {
		case "1.0":
			assert.Zero(t, ran, at)
			assert.Equal(t, "depth = 1\n", p.Read("pond.conf"), at)
		default:
			assert.Equal(t, 1, ran, at)
			assert.Equal(t, "depth = 2\n", p.Read("pond.conf"), at)
			p.OK("rollback", "--world")
		}
		assert.True(t, p.Status().Server.Running, at)
	}
	p.OK("stop")
}

// A migration that the data has had is never run on it twice unasked, whichever way the data came to where it
// is; the record of that goes with the data into each backup and out of it.
func TestNoMigrationRunsTwiceOnTheSameData(t *testing.T) {
	t.Parallel()
	p, db, _ := withStore(t, `
[[migration]]
name = 'tenfold'
when = '<1.1 -> >=1.1'
run = ['sh', '-c', 'echo ran >> DB']
limit = '5s'
`)
	ran := func() int {
		b, _ := os.ReadFile(db)
		return strings.Count(string(b), "ran\n")
	}
	from := filepath.Join(p.Dir, "pond-1.1.zip")
	p.OK("backup", "take", "--label", "before all")
	p.OK("refit", "--from", from)
	p.OK("rollback") // the data is kept, as it says
	require.Equal(t, 1, ran())
	r := p.Exits(exitRefused, "refit", "--from", from)
	assert.Contains(t, oneSpace(r.Out), "the migration tenfold is not run: r0001 (1.0 → 1.1) ran it on")
	for _, way := range []string{"--data-has 'tenfold'", "--data-lacks 'tenfold'", "backup restore BACKUP --data"} {
		assert.Contains(t, oneSpace(r.Out), way)
	}
	assert.Equal(t, 1, ran())
	p.Exits(exitRefused, "refit", "--from", from, "--data-has", "tenfolds")
	p.OK("refit", "--from", from, "--data-has", "tenfold")
	assert.Equal(t, 1, ran(), "left out")
	p.OK("rollback")
	p.OK("backup", "take", "--label", "migrated, on 1.0")

	// With the data comes its record.
	p.OK("backup", "restore", "b0001", "--data")
	require.Zero(t, ran())
	p.OK("refit", "--from", from)
	require.Equal(t, 1, ran(), "that data had not had it")
	p.OK("rollback", "--world")
	require.Zero(t, ran())
	heads := p.OK("backup", "list").Out
	p.OK("backup", "restore", labelled(t, heads, "migrated, on 1.0"), "--data")
	require.Equal(t, 1, ran())
	p.Exits(exitRefused, "refit", "--from", from)
	p.OK("refit", "--from", from, "--data-lacks", "tenfold")
	require.Equal(t, 2, ran(), "as it was told")
	p.OK("rollback")

	// The data itself may be asked: 0 it has, 1 it has not, all else is not known.
	p.OK("backup", "restore", "b0001", "--data")
	asks := func(command string) {
		p.EditProfile(func(s string) string {
			if i := strings.Index(s, "done = "); i >= 0 {
				s = s[:i]
			}
			return s + "done = ['sh', '-c', '" + strings.ReplaceAll(command, "DB", db) + "']\n"
		})
	}
	asks("grep -q ran DB")
	p.OK("refit", "--from", from)
	p.OK("rollback")
	r = p.OK("refit", "--from", from)
	assert.Contains(t, oneSpace(r.Out+r.Err), "the migration tenfold is left out: the data has had it")
	assert.Equal(t, 1, ran())
	p.OK("rollback")
	for _, command := range []string{"exit 2", "sleep 60", "kill -9 $$"} {
		asks(command)
		r = p.Exits(exitRefused, "refit", "--from", from)
		assert.Contains(t, oneSpace(r.Out), "whether the data has had it can't be told", command)
	}
	asks("exit 1") // it has not, whatever the record says
	p.OK("refit", "--from", from)
	assert.Equal(t, 2, ran())

	// One that was begun and not seen to end, with data that nothing can bring back, is a stop.
	p.OK("rollback")
	p.EditProfile(func(s string) string {
		a, b := strings.Index(s, "\n[[data]]"), strings.Index(s, "\n[[migration]]")
		return strings.ReplaceAll(s[:a]+s[b:strings.Index(s, "done = ")], "echo ran", "sleep 1; kill -9 $PPID; echo ran")
	})
	p.Run("refit", "--from", from, "--data-lacks", "tenfold")
	p.OK("recover")
	r = p.Exits(exitRefused, "refit", "--from", from)
	assert.Contains(t, oneSpace(r.Out), "it was not seen to end")
	p.OK("stop")
}

// labelled is the number of a backup with a label.
func labelled(t *testing.T, list, label string) string {
	for l := range strings.Lines(list) {
		if strings.Contains(l, label) {
			return regexp.MustCompile(`b\d{4}`).FindString(l)
		}
	}
	t.Fatalf("no backup %q in: %s", label, list)
	return ""
}

// installer is a maker's own page: a form with a session, a licence and four choices.
type installer struct {
	*httptest.Server
	mu      sync.Mutex
	chosen  []string
	answers string
	offers  []string
}

func newInstaller(t *testing.T) *installer {
	in := &installer{
		answers: "<h1>Done</h1><p>The songs were <b>upgraded</b> to 1.1.</p>",
		offers: []string{"fresh", "upgrade",
			"repair", "export"},
	}
	in.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		in.mu.Lock()
		defer in.mu.Unlock()
		if r.Method == http.MethodGet {
			http.SetCookie(w, &http.Cookie{Name: "session", Value: "wren"})
			fmt.Fprint(w, "<form method=post action='/go'><input type=hidden name=token value=t1><input name=licence>")
			for _, o := range in.offers {
				fmt.Fprintf(w, "<label><input type=radio name=way value=%s> %[1]s</label>", o)
			}
			fmt.Fprint(w, "<input type=submit name=ok value=Go></form>")
			return
		}
		c, err := r.Cookie("session")
		r.ParseForm()
		if err != nil || c.Value != "wren" || r.Form.Get("token") != "t1" || r.Form.Get("licence") != "moss-1234" {
			http.Error(w, "who are you?", http.StatusForbidden)
			return
		}
		in.chosen = append(in.chosen, r.Form.Get("way")+" to "+r.Form.Get("version"))
		fmt.Fprint(w, in.answers)
	}))
	t.Cleanup(in.Close)
	return in
}

// The maker's own page is filled in with the choice that the profile fixes, and no other is ever
// sent; its secret is in no log.
func TestAMakersOwnPageIsFilledIn(t *testing.T) {
	t.Parallel()
	in := newInstaller(t)
	p, _, refit := withStore(t, `
[[login]]
host = 'licence.example'
from = 'file:`+filepath.ToSlash(filepath.Join(os.TempDir(), "nowhere"))+`'

[[migration]]
name = 'upgrade page'
when = '<1.1 -> >=1.1'
page = '`+in.URL+`/install'
choice = { way = 'upgrade' }
form = { version = '{to}' }
secrets = { licence = 'licence.example' }
success = '^The songs were upgraded to 1\.1\.'
fail = ['(?i)error']
limit = '30s'
`)
	licence := filepath.Join(p.Dir, "licence")
	require.NoError(t, os.WriteFile(licence, []byte("moss-1234\n"), 0o600))
	p.EditProfile(func(s string) string {
		return strings.Replace(s, filepath.ToSlash(filepath.Join(os.TempDir(), "nowhere")), licence, 1)
	})
	in.mu.Lock()
	in.offers = []string{"fresh", "repair"} // as where the page finds no songs to upgrade
	in.mu.Unlock()
	from := filepath.Join(p.Dir, "pond-1.1.zip")
	r := p.Exits(exitRolledBack, "refit", "--from", from)
	assert.Contains(t, oneSpace(r.Out), "the page does not offer way=upgrade; it offers fresh, repair")
	assert.Empty(t, in.chosen)
	in.mu.Lock()
	in.offers, in.answers = []string{"fresh", "upgrade"}, "<p>Error 7: the songs are locked</p>"
	in.mu.Unlock()
	r = p.Exits(exitRolledBack, "refit", "--from", from)
	assert.Contains(t, oneSpace(r.Out), "Error 7: the songs are locked")
	in.mu.Lock()
	in.answers = "<h1>Done</h1><p>The songs were <b>upgraded</b> to 1.1.</p>"
	in.mu.Unlock()
	r = refit(0)
	assert.Equal(t, []string{"upgrade to 1.1", "upgrade to 1.1"}, in.chosen)
	all := r.Out + r.Err + p.OK("logbook", "--json").Out
	for _, e := range p.Entries() {
		all += fmt.Sprintf("%+v", e)
	}
	assert.NotContains(t, all, "moss-1234")
	p.OK("stop")
}

// A real database is migrated by a file of the build that is fed to its own client: one that
// succeeds, and ones that fail half-way, hang, or lose their connection, after which files and
// rows are as they were.
func TestARealDatabaseIsMigrated(t *testing.T) {
	t.Parallel()
	tool, reach := postgres(t)
	sql := func(text string) string {
		out, err := exec.Command(tool("psql"), append(slices.Clone(reach), "-d", "postgres", "-At", "-c", text)...).
			CombinedOutput()
		require.NoError(t, err, string(out))
		return strings.TrimSpace(string(out))
	}
	sql("create table songs (name text, verses int)")
	sql("insert into songs select 'song ' || n, n % 7 from generate_series(1, 3000) n")
	rows := func() string {
		return sql(
			"select md5(string_agg(s::text, ',' order by name)) || ' ' || (select string_agg(column_name, ' ' order by " +
				"ordinal_position) from information_schema.columns where table_name = 'songs') from songs s",
		)
	}
	was := rows()
	p := place{proving.Bare(t)}
	quoted := func(words ...string) string { return "['" + strings.Join(words, "', '") + "']" }
	psql := quoted(slices.Concat([]string{tool("psql"), "-v", "ON_ERROR_STOP=1"}, reach, []string{"-d", "postgres"})...)
	build := func(v, migration string) string {
		at := filepath.Join(p.Dir, "pond-"+v+".zip")
		zipOf(
			t,
			at,
			time.Now(),
			false,
			"server.sh",
			strings.ReplaceAll(pondServer, "VERSION", v),
			"db/upgrade.sql",
			migration,
		)
		return at
	}
	p.Put("server.sh", strings.ReplaceAll(pondServer, "VERSION", "1.0"))
	p.Put("start.sh", "#!/bin/sh\nexec sh server.sh\n")
	p.Put("db/upgrade.sql", "-- none\n")
	p.Put("freshkeel.toml", "[server]\nname = 'pond'\n[launch]\nscript = 'start.sh'\n[stop]\nsend = 'close'\n"+
		"[ready]\nline = '^gates open'\nversion = '^pond (\\S+)'\nsteady = '60ms'\n"+
		"[[data]]\nname = 'songs'\ndump = "+quoted(slices.Concat([]string{tool("pg_dump")}, reach,
		[]string{"--clean", "--if-exists", "postgres"})...)+"\nload = "+psql+"\n"+
		"[[migration]]\nname = 'song tables'\nwhen = 'each'\nrun = "+psql+"\nfile = 'db/upgrade.sql'\nlimit = '4s'\nmust_go_back = true\n")
	p.OK("adopt", p.Install, "--build", build("1.0", "-- none\n"), "--version", "1.0")
	p.OK("start")
	half := "update songs set verses = 99 where name < 'song 2';\nalter table songs add column key text;\n"
	for v, c := range map[string][2]string{
		"1.1": {half + "select nonsense;\n", "exit status 3"},
		"1.2": {half + "select pg_sleep(60);\n", "took too long"},
		"1.3": {half + "select pg_terminate_backend(pg_backend_pid());\n", "exit status"},
	} {
		before := p.Tree()
		r := p.Exits(exitRolledBack, "refit", "--from", build(v, c[0]))
		assert.Contains(t, oneSpace(r.Out), c[1], v)
		assert.Contains(t, oneSpace(r.Out), "loaded back from backup", v)
		assert.Equal(t, was, rows(), v)
		for _, at := range []string{"server.sh", "db/upgrade.sql"} {
			assert.Equal(t, before[at], p.Tree()[at], v)
		}
		assert.Equal(t, "1.0", p.Status().Version)
	}
	p.OK("refit", "--from", build("2.0", half))
	assert.Equal(t, "99", sql("select max(verses) from songs"))
	assert.NotEqual(t, was, rows())
	p.OK("rollback", "--world")
	assert.Equal(t, was, rows())
	p.OK("stop")
}
