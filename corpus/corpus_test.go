//go:build unix

// Package corpus takes servers under care that were not shaped for the program: small
// stand-ins of the kinds that there are, each as its operator left it.
package corpus

import (
	"archive/zip"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/proving"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var program []byte // of the stand-in

func TestMain(m *testing.M) {
	flag.Parse()
	flag.Set("test.parallel", "8") // they mostly wait
	os.Exit(proving.Main(m, func() {
		dir, err := os.MkdirTemp("", "standin")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		cmd := exec.Command("go", "build", "-ldflags=-s -w", "-o", dir+"/standin", "./testdata/standin")
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := cmd.CombinedOutput(); err != nil {
			panic(string(out))
		}
		if program, err = os.ReadFile(dir + "/standin"); err != nil {
			panic(err)
		}
	}))
}

// behaviour is the stand-in's Spec.
type behaviour struct {
	Version string
	Say     []string
	Log     string
	LogSay  []string
	Stamp   string
	Ports   []string
	Stop    []string
	Unknown string
	Help    []string
	Reads   bool
	Write   map[string]string
	Needs   []string
	Same    string
	Boot    time.Duration
	Wait    bool
}

// server is one kind of server, as it is told apart from others.
type server struct {
	bin    string            // the program's path in the build
	does   behaviour         // of both builds; Version is set
	ships  map[string]string // what else the build ships: {version} is its own
	has    map[string]string // what the operator has besides, or changed
	helper string            // a second program of the build
	args   []string          // of adopt
	build  bool              // the build is given to adopt
	want   wanted
}

// wanted is the right profile.
type wanted struct {
	script  string
	log     string
	ready   string            // a line that its ready rule must match
	says    map[string]string // line that its version rule must match → what it must hear
	ports   []string
	stop    string // "": signals
	keep    []string
	builds  []string // must be neither kept nor settings
	skip    []string
	set     []string
	addons  string
	addonIs string
}

const v1, v2 = "2.3.1", "2.4.0"

// at makes one build's files.
func (s server) at(t *testing.T, version string) map[string][]byte {
	files := map[string][]byte{}
	for name, text := range s.ships {
		files[strings.ReplaceAll(name, "{version}", version)] = []byte(strings.ReplaceAll(text, "{version}", version))
	}
	does := s.does
	does.Version = version
	put := func(at string, b behaviour) {
		raw, err := json.Marshal(b)
		require.NoError(t, err)
		files[at] = slices.Concat(program, []byte("\nSTAND"+"IN "), raw)
	}
	put(s.program(version), does)
	if s.helper != "" {
		put(s.helper, behaviour{Wait: true})
	}
	return files
}

// program is the path of the program in a build: its name may hold the version.
func (s server) program(version string) string {
	return strings.ReplaceAll(s.bin, "{version}", version)
}

func isRun(at string) bool {
	ext := path.Ext(at)
	return ext == "" || ext == ".sh" || strings.Trim(ext, ".0123456789") == "" // what is behind the last dot of a version is no ending
}

// archive writes a build, with the times of its making kept.
func archive(t *testing.T, at string, files map[string][]byte, made time.Time) {
	f, err := os.Create(at)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: made}
		mode := os.FileMode(0o644)
		if isRun(name) {
			mode = 0o755
		}
		h.SetMode(mode)
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		_, err = w.Write(files[name])
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
}

// score counts lines of profiles: how many are right, of how many.
var score struct {
	sync.Mutex
	lines map[string][2]int
	whole int
	all   int
	wrong []string
}

func (s server) run(t *testing.T, name string) {
	p := proving.Bare(t)
	dir := filepath.Dir(p.Install)
	made := time.Now().Add(-90 * 24 * time.Hour).Truncate(time.Second)
	archive(t, dir+"/"+name+"-"+v1+".zip", s.at(t, v1), made)
	archive(t, dir+"/"+name+"-"+v2+".zip", s.at(t, v2), made.Add(80*24*time.Hour))
	for at, b := range s.at(t, v1) {
		full := filepath.Join(p.Install, filepath.FromSlash(at))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		mode := os.FileMode(0o644)
		if isRun(at) {
			mode = 0o755
		}
		require.NoError(t, os.WriteFile(full, b, mode))
		require.NoError(t, os.Chtimes(full, made, made))
	}
	for at, text := range s.has {
		full := filepath.Join(p.Install, filepath.FromSlash(at))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		mode := os.FileMode(0o644)
		if strings.HasSuffix(at, ".sh") {
			mode = 0o755
		}
		require.NoError(t, os.WriteFile(full, []byte(text), mode))
		old := made.Add(24 * time.Hour)
		require.NoError(t, os.Chtimes(full, old, old))
	}

	args := append([]string{"adopt", p.Install}, s.args...)
	if s.build {
		args = append(args, "--build", dir+"/"+name+"-"+v1+".zip")
	}
	good := true
	step := func(args ...string) {
		r := p.Run(args...)
		if r.Code != 0 {
			good = false
			t.Errorf("%s: %v: exit %d\n%s%s", name, args, r.Code, r.Out, r.Err)
		}
	}
	step(args...)
	guessed := p.Read("freshkeel.toml")
	step("start", "--learn")
	worlds := map[string]string{}
	for _, at := range s.want.keep {
		worlds[at] = p.Read(at)
	}
	step("stop")
	step("start", "--learn") // a port that nothing names is learned by the second start
	step("refit", "--from", dir+"/"+name+"-"+v2+".zip")
	for at, text := range worlds {
		assert.Equal(t, text, p.Read(at), "%s is the operator's, and a refit changed it", at)
	}
	raw, err := os.ReadFile(filepath.Join(p.Install, filepath.FromSlash(s.program(v2))))
	require.NoError(t, err)
	assert.Contains(t, string(raw[len(raw)-4000:]), `"Version":"`+v2+`"`, "the new program is in place")
	if good {
		assert.Equal(t, v2, p.Status().Version)
	}
	step("stop")
	if !s.held(t, name, p) || !good || os.Getenv("CORPUS_KEEP") != "" {
		fmt.Println(p.OK("logbook").Out)
		exec.Command("cp", "-a", p.Install, "/tmp/w/kept-"+name).Run()
		t.Logf("%s: guessed:\n%s\n\nlearned:\n%s", name, guessed, p.Read("freshkeel.toml"))
	}
	score.Lock()
	defer score.Unlock()
	if score.all++; good {
		score.whole++
	}
}

// held holds the profile against the right one, line by line.
func (s server) held(t *testing.T, name string, p *proving.Place) bool {
	pr, err := profile.Read(p.Install)
	require.NoError(t, err)
	var seen struct{ Stop struct{ Line string } }
	if b, err := os.ReadFile(filepath.Join(p.Install, ".freshkeel/seen.json")); err == nil {
		json.Unmarshal(b, &seen)
	}
	all := true
	check := func(key string, right bool, is any) {
		score.Lock()
		defer score.Unlock()
		n := score.lines[key]
		n[1]++
		if right {
			n[0]++
		} else {
			all = false
			score.wrong = append(score.wrong, fmt.Sprintf("%s: %s is %v", name, key, is))
		}
		score.lines[key] = n
	}
	w := s.want
	check("launch.script", pr.Launch.Script == w.script, pr.Launch.Script)
	check("ready.log", (pr.Ready.Log == w.log) || (w.log == "" && pr.Ready.Log == ""), pr.Ready.Log)
	if w.ready != "" {
		by, _ := pr.Ready.Line.In(new(logline.Reader).Read(w.ready))
		check("ready.line", by != nil, pr.Ready.Line)
	}
	for line, hears := range w.says {
		by, m := pr.Ready.Version.In(new(logline.Reader).Read(line))
		check("ready.version", by != nil && m[1] == hears, pr.Ready.Version)
	}
	ports := regexp.MustCompile(`:2\d{4}\b`) // which tell one line from another of the same words
	for _, pats := range []profile.Patterns{pr.Ready.Line, pr.Ready.Version} {
		check("no date, address or number of a process", !slices.ContainsFunc(pats, func(q profile.Pattern) bool {
			return regexp.MustCompile(`\b(Mon|Tue|Wed|Thu|Fri|Sat|Sun)\b|\d{4}|\d+\\\.\d+\\\.\d+`).
				MatchString(ports.ReplaceAllString(q.String(), ""))
		}), pats)
	}
	var held []string
	for _, q := range pr.Ready.Held() {
		held = append(held, q.String())
	}
	slices.Sort(held)
	slices.Sort(w.ports)
	check("ready.ports", slices.Equal(held, w.ports), held)
	stop := pr.Stop.Send
	if stop == "" {
		stop = seen.Stop.Line
	}
	check("stop", stop == w.stop, stop)
	whose := func(key string, pats tree.Patterns, files []string, holds bool) {
		for _, at := range files {
			check(key, pats.Match(at) == holds, at)
		}
	}
	whose("server.keep", pr.Server.Keep, w.keep, true)
	whose("server.settings", pr.Server.Settings, w.set, true)
	whose("server.skip", pr.Server.Skip, w.skip, true)
	whose(
		"the build's",
		slices.Concat(pr.Server.Keep, pr.Server.Settings, pr.Server.Skip),
		append(w.builds, s.program(v2)),
		false,
	)
	if w.addons != "" {
		check("addons", pr.Addons.Files.Match(w.addons) && pr.Addons.Descriptor == w.addonIs, pr.Addons)
	}
	return all
}

// Every kind is adopted, started, refitted and stopped with no line edited, and its profile is
// held against the right one.
func TestServersThatNobodyShaped(t *testing.T) {
	score.lines = map[string][2]int{}
	t.Run("kinds", func(t *testing.T) {
		for name, s := range servers(t) {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				s.run(t, name)
			})
		}
	})
	right, of := 0, 0
	for _, key := range slices.Sorted(maps.Keys(score.lines)) {
		n := score.lines[key]
		right, of = right+n[0], of+n[1]
		t.Logf("%-45s %d of %d", key, n[0], n[1])
	}
	for _, w := range score.wrong {
		t.Log("wrong: ", w)
	}
	t.Logf(
		"kinds that went through with no line edited: %d of %d; lines that are right: %d of %d",
		score.whole,
		score.all,
		right,
		of,
	)
	assert.Equal(t, score.all, score.whole)
	assert.GreaterOrEqual(t, right*100, of*95)
}
