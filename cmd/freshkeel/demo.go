package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel"
	"freshkeel/demo"

	"github.com/urfave/cli/v3"
)

// demoPort is what the demo's server binds where it is free.
const demoPort = 27750

// demo lays out the harbour and runs the real commands in it, one by one.
func (p *program) demo(ctx context.Context, c *cli.Command) error {
	if !freshkeel.RunsScripts {
		return errors.New("the demo's server is started by a shell script, which this system can't run")
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if dir := c.Args().First(); dir != "" {
		if list, err := os.ReadDir(dir); err == nil && len(list) > 0 {
			return &freshkeel.Usage{What: dir + " is not empty", Do: "name a folder that does not exist yet"}
		}
		h, err := demo.Make(dir, self, freePortNear(demoPort), demo.Releases)
		if err != nil {
			return err
		}
		if _, err := h.MakeSongs(); err != nil {
			return err
		}
		p.view.end()
		p.view.outcome(good, "READY", "the demo harbour stands in "+h.Dir)
		for _, s := range byHand(h) {
			p.view.fact("", s)
		}
		return nil
	}
	dir, err := os.MkdirTemp("", "freshkeel-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	h, err := demo.Make(dir, self, freePortNear(demoPort), demo.Releases)
	if err != nil {
		return err
	}
	s := &scenes{p: p, h: h, ctx: ctx}
	defer s.leaveNothing()
	if err := s.play(); err != nil {
		return err
	}
	p.view.outcome(good, "DEMO DONE", "every step came out as it should; nothing is left running")
	p.view.fact("by hand", "freshkeel demo DIR leaves the harbour in DIR; then try:")
	for _, l := range byHand(&demo.Harbour{Dir: "DIR", Builds: "DIR/builds"})[1:] {
		p.view.fact("", l)
	}
	return nil
}

func byHand(h *demo.Harbour) []string {
	f := "bin/freshkeel -d mossgate-east"
	return []string{
		"cd " + h.Dir + " && export FRESHKEEL_HOME=$PWD/home",
		"bin/freshkeel adopt mossgate-east --source builds/feed.json --build builds/mossgate-3.4.1.zip",
		f + " start",
		f + " builds",
		f + " preflight 4.0.0",
		f + " refit 3.5.0",
		f + " send members",
		f + " refit 3.6.0",
		f + " rollback --dry-run",
		f + " logbook",
		f + " stop",
	}
}

func freePortNear(port int) int {
	if c, err := net.ListenPacket("udp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
		c.Close()
		return port
	}
	return 0
}

// scenes plays the demo and holds each scene to what it should come to.
type scenes struct {
	p   *program
	h   *demo.Harbour
	ctx context.Context
	n   int

	songs string // the second server's install
}

func (s *scenes) play() error {
	feed, closeFeed, err := s.serve()
	if err != nil {
		return err
	}
	defer closeFeed()
	in := []string{"-d", s.h.Install}
	songs, err := s.h.MakeSongs()
	if err != nil {
		return err
	}
	s.songs = songs.Install
	singers := []string{"-d", songs.Install}
	gardens := func() string { return contentOf(filepath.Join(s.h.Install, "gardens")) }
	disk := filepath.Join(s.h.Dir, "other-disk")
	if err := os.MkdirAll(disk, 0o755); err != nil {
		return err
	}
	jar := filepath.Join(s.h.Dir, "downloads", "mossgate-server-3.5.0.jar")
	if err := s.h.Download(jar, "3.5.0"); err != nil {
		return err
	}
	var before, pid string
	for _, sc := range []struct {
		title string
		args  []string
		exit  int
		check func(out string) error
		edit  []string // lines of the profile to replace first: old, new
	}{
		{"Take the install under care, with nothing known of the build that it was made from.",
			[]string{"adopt", s.h.Install, "--source", feed}, exitDone, nil, nil},
		{"Start the server as it is: 3.4.1. (It counts as up after two steady seconds here, for whoever watches.)",
			append(in, "start"), exitDone, nil, []string{"steady = '5s'", "steady = '2s'"}},
		{"The commonest update of all: one file was downloaded, and it is named after its version.",
			append(in, "refit", "--from", jar), exitDone, func(string) error {
				b, err := os.ReadFile(jar)
				return errors.Join(err, s.expect(s.text("mossgate.jar") == string(b) &&
					s.text(filepath.Base(jar)) == "",
					"it has the name that open-gates.sh runs, and no other"))
			}, nil},
		{"And back: one rename, and the server as it was.", append(in, "rollback"), exitDone, nil, nil},
		{"Told which archive it was made from, Fresh Keel knows whose each file is; the profile stays as it is.",
			[]string{"adopt", s.h.Install, "--build", filepath.Join(s.h.Builds, "mossgate-3.4.1.zip")}, exitDone, nil,
			nil},
		{"What did the club change in the settings that came with 3.4.1?", append(in, "settings"), exitDone, nil, nil},
		{"What do the makers offer?", append(in, "builds"), exitDone, nil, nil},
		{"4.0.0 needs a newer runtime: refused while the old server runs on.", append(in, "preflight", "4.0.0"),
			exitRefused, func(string) error {
				pid = s.pid()
				return s.expect(pid != "", "the server is still up")
			}, nil},
		{"3.5.0 has a new key in its settings, drops one, and changes a default. What will become of the club's values?",
			append(in, "preflight", "3.5.0", "--all"), exitDone, nil, nil},
		{"It comes up, with the club's values in its own settings.", append(in, "refit", "3.5.0"), exitDone, func(string) error {
			before = gardens()
			conf := s.text("mossgate.conf")
			return errors.Join(s.expect(s.pid() != "" && s.pid() != pid, "a new server is up"),
				s.expect(strings.Contains(conf, "snails = 9 ") && strings.Contains(conf, "gate-time = 20 ") &&
					strings.Contains(conf, "lanterns = 12") && !strings.Contains(conf, "mill-toll"),
					"mossgate.conf has six of the seven changes, the new key, and no toll at the mill"))
		}, nil},
		{"3.6.0 rewrites part of the world while it boots, and dies: everything goes back.",
			append(in, "refit", "3.6.0"), exitRolledBack, func(string) error {
				if err := s.expect(s.pid() != "", "the old server is up again"); err != nil {
					return err
				}
				return s.expect(gardens() == before, "the gardens are byte for byte what they were")
			}, nil},
		{"One setting moves the server to the preview channel.", append(in, "builds"), exitDone, nil,
			[]string{"channel = 'stable'", "channel = 'preview'"}},
		{"3.7.0-pre1 is a preview that this machine can run.", append(in, "refit", "3.7.0-pre1"), exitDone, nil, nil},
		{"A newer runtime is taken in, without administrator's rights; the system's stay as they are.",
			append(in, "runtimes", "take", "--for", "4.0.0"), exitDone, nil, nil},
		{"Now 4.0.0 goes through: one word of the launch script is changed with it.", append(in, "refit", "4.0.0"),
			exitDone, func(string) error {
				return s.expect(strings.Contains(s.text("open-gates.sh"), "java-33.0.1"),
					"open-gates.sh runs the new runtime")
			}, nil},
		{"And back to the stable channel: a step back is never an accident, so it is said.",
			append(in, "refit", "3.5.0", "--back"), exitDone, func(string) error {
				return s.expect(strings.Contains(s.text("README.txt"), "3.5.0"), "3.5.0 is what is installed")
			}, []string{"channel = 'preview'", "channel = 'stable'"}},
		{"Archives kept by hand: a full build, and an increment laid over it.", append(in, "builds"), exitDone, nil,
			[]string{"feed = '" + feed + "'", archives}},
		{"The increment replaces, adds and removes; its instructions and key stay out.", append(in, "refit"), exitDone,
			func(string) error {
				if err := s.expect(strings.Contains(s.text("tracks/lantern-row.track"), "steady"),
					"the increment's track is there"); err != nil {
					return err
				}
				return s.expect(s.text("INSTALL-ME.txt")+s.text("lib/lanterns.txt") == "",
					"instructions are not, and what it removes is gone")
			}, nil},
		{"A backup with a label, of the running server.",
			append(in, "backup", "take", "--label", "before the lantern race"), exitDone, func(string) error {
				before = s.text("members.txt")
				// as a disk that filled up leaves it
				return os.WriteFile(filepath.Join(s.h.Install, "members.txt"), []byte("half a li"), 0o644)
			}, nil},
		{"The list of members was cut short since. What does the last backup hold?",
			append(in, "backup", "show", "b0009"), exitDone, nil, nil},
		{"It brings that one file back.", append(in, "backup", "restore", "b0009", "--only", "members.txt"), exitDone,
			func(string) error {
				return s.expect(s.text("members.txt") == before, "members.txt is whole again")
			}, nil},
		{"Do all backups read back whole?", append(in, "backup", "check"), exitDone, nil, nil},
		{"The other disk gets a second copy of them; from now on every backup goes there too.",
			append(in, "backup", "push"), exitDone, nil,
			[]string{"[server]", "[copy]\nto = '" + disk + "'\n\n[server]"}},
		{"That disk alone is enough: all of b0009 in a new folder, as on a machine that has nothing else.",
			[]string{"backup", "restore", "b0009", "--from", disk, "--to", filepath.Join(s.h.Dir, "rescued")}, exitDone,
			func(string) error {
				b, err := os.ReadFile(filepath.Join(s.h.Dir, "rescued", "members.txt"))
				return errors.Join(err, s.expect(string(b) == before, "members.txt is whole there"))
			}, nil},
		{"What was done here?", append(in, "logbook"), exitDone, nil, nil},
		{"Close the gates.", append(in, "stop"), exitDone, nil, nil},
		{"A second server, of three parts with a ledger beside them. Which files are its build's?",
			[]string{"adopt", songs.Install, "--build", filepath.Join(songs.Builds, "songs-1.0.zip"), "--version", "1.0"}, exitDone, nil,
			nil},
		{"Each part is seen up before the next.", append(singers, "start"), exitDone, nil, nil},
		{"How do they stand?", append(singers, "status"), exitDone, nil, nil},
		{"1.1 wants the ledger migrated: the singers are warned, the parts go down in reverse, and come up when it is done.",
			append(singers, "refit", "1.1", "--reason", "verses are counted"), exitDone, func(string) error {
				b, err := os.ReadFile(songs.Ledger)
				return errors.Join(err, s.expect(strings.Contains(string(b), "low fen lullaby;7"), "every song has its verses"))
			}, nil},
		{"And back, with the ledger as it was.", append(singers, "rollback", "--world", "--now"), exitDone, func(string) error {
			b, err := os.ReadFile(songs.Ledger)
			return errors.Join(err, s.expect(!strings.Contains(string(b), ";"), "the ledger is as it was"))
		}, nil},
		{"The choir rests.", append(singers, "stop", "--now"), exitDone, nil, nil},
	} {
		if err := s.scene(sc.title, sc.edit, sc.args, sc.exit, sc.check); err != nil {
			return err
		}
	}
	return nil
}

// scene shows one command, runs it, and holds it to its exit code and check.
func (s *scenes) scene(title string, edit, args []string, exit int, check func(string) error) error {
	if err := s.ctx.Err(); err != nil {
		return err
	}
	s.n++
	words := slices.Clone(args)
	for i, w := range words {
		if strings.Contains(w, " ") {
			words[i] = "'" + w + "'"
		}
	}
	shown := strings.ReplaceAll(strings.Join(words, " "), s.h.Dir+"/", "")
	fmt.Fprintln(s.p.out, s.p.view.paint(calm, fmt.Sprintf("%d. %s", s.n, title)))
	if err := s.edit(edit); err != nil {
		return err
	}
	fmt.Fprintln(s.p.out, s.p.view.paint(strong, "$ freshkeel "+shown))
	cmd := s.command(args)
	var kept bytes.Buffer
	cmd.Stdout, cmd.Stderr = s.p.out, s.p.err
	if f, ok := s.p.out.(*os.File); !ok || f == nil {
		cmd.Stdout = io.MultiWriter(s.p.out, &kept)
	}
	err := cmd.Run()
	code := cmd.ProcessState.ExitCode()
	if code != exit {
		return fmt.Errorf("scene %d ended with exit %d, expected %d (%v)", s.n, code, exit, err)
	}
	fmt.Fprintf(s.p.out, "%s\n\n", s.p.view.paint(dim, fmt.Sprintf("(exit %d)", code)))
	if check != nil {
		if err := check(kept.String()); err != nil {
			return fmt.Errorf("scene %d: %w", s.n, err)
		}
	}
	return nil
}

// edit changes the profile as an operator would in an editor, and shows it.
func (s *scenes) edit(change []string) error {
	if change == nil {
		return nil
	}
	at := filepath.Join(s.h.Install, "freshkeel.toml")
	b, err := os.ReadFile(at)
	if err != nil {
		return err
	}
	if !strings.Contains(string(b), change[0]) {
		return fmt.Errorf("the profile has no line %s", change[0])
	}
	for _, l := range strings.Split(change[1], "\n") {
		fmt.Fprintf(s.p.out, "%s %s\n", s.p.view.paint(dim, "freshkeel.toml:"), l)
	}
	return os.WriteFile(at, []byte(strings.Replace(string(b), change[0], change[1], 1)), 0o644)
}

// text is a file of the install, "" where there is none.
func (s *scenes) text(name string) string {
	b, _ := os.ReadFile(filepath.Join(s.h.Install, name))
	return string(b)
}

// archives is a source of archives in order, as lines of a profile.
const archives = `archives.in = '../archives'
archives.full = '^mossgate-(?P<version>[\d.]+)-full\.zip$'
archives.increment = '^mossgate-(?P<version>[\d.]+)-step\.zip$'
removals = 'removed.txt'`

func (s *scenes) command(args []string) *exec.Cmd {
	cmd := exec.CommandContext(s.ctx, s.h.Program, args...)
	cmd.Env = append(os.Environ(), "FRESHKEEL_HOME="+s.h.Home)
	return cmd
}

// run runs a command of its own, unseen.
func (s *scenes) run(args []string) string {
	out, _ := s.command(args).CombinedOutput()
	return string(out)
}

// pid is the running server's process, "" when it is down.
func (s *scenes) pid() string {
	out := s.run([]string{"-d", s.h.Install, "--json", "status"})
	_, rest, ok := strings.Cut(out, `"pid": `)
	if !ok {
		return ""
	}
	pid, _, _ := strings.Cut(rest, ",")
	return pid
}

func (s *scenes) expect(holds bool, what string) error {
	if !holds {
		return fmt.Errorf("it should hold that %s", what)
	}
	s.p.view.fact("checked", what)
	fmt.Fprintln(s.p.out)
	return nil
}

// leaveNothing ends the demo's server, whatever happened.
func (s *scenes) leaveNothing() {
	s.ctx = context.WithoutCancel(s.ctx)
	if s.pid() != "" {
		s.run([]string{"-d", s.h.Install, "stop"})
	}
	if s.songs != "" {
		s.run([]string{"-d", s.songs, "stop", "--now"})
	}
}

// serve has the makers' site offer the harbour's builds on loopback.
func (s *scenes) serve() (feed string, closeFeed func(), err error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, err
	}
	srv := &http.Server{Handler: &demo.Site{Dir: s.h.Builds}, ReadHeaderTimeout: 5 * time.Second}
	go srv.Serve(l)
	return fmt.Sprintf("http://%s/feed.json", l.Addr()), func() { srv.Close() }, nil
}

// contentOf hashes every file below dir with its name.
func contentOf(dir string) string {
	h := sha256.New()
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		fmt.Fprintf(h, "%s %d\n", path, len(b))
		h.Write(b)
		return err
	})
	return string(h.Sum(nil))
}
