package demo

import (
	"archive/zip"
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// Runtime is the simulated Java runtime: version, then the arguments of a
// java command. It returns the exit status. It loads the main class as far as
// its header, as a real one would, and plays the server that the jar holds.
func Runtime(version string, args []string, in io.Reader, out io.Writer) int {
	if len(args) > 0 && args[0] == "-version" {
		fmt.Fprintf(out, "java version %q\n", version)
		return 0
	}
	jar := ""
	for i, a := range args {
		if a == "-jar" && i+1 < len(args) {
			jar = args[i+1]
			break
		}
	}
	if jar == "" {
		fmt.Fprintln(out, "this simulated runtime runs jars: java [-Xmx…] -jar FILE")
		return 1
	}
	r, err := load(jar, version)
	if err != nil {
		fmt.Fprintln(out, err)
		return 1
	}
	open, err := os.Open(jar) // as long as it runs, as a real runtime keeps it
	if err != nil {
		fmt.Fprintln(out, err)
		return 1
	}
	defer open.Close()
	s := &server{r: r, out: out}
	return s.run(in)
}

func load(jar, version string) (*Release, error) {
	z, err := zip.OpenReader(jar)
	if err != nil {
		return nil, fmt.Errorf("unable to access jar file %s: %v", jar, err)
	}
	defer z.Close()
	f, err := z.Open("mossgate/Gatehouse.class")
	if err != nil {
		return nil, errors.New("no main class in " + jar)
	}
	defer f.Close()
	var head struct {
		Magic        uint32
		Minor, Major uint16
	}
	if err := binary.Read(f, binary.BigEndian, &head); err != nil || head.Magic != 0xCAFEBABE {
		return nil, errors.New("mossgate/Gatehouse is not a class file")
	}
	release, _ := strconv.Atoi(strings.Split(version, ".")[0])
	if int(head.Major) > release+44 {
		return nil, fmt.Errorf("mossgate/Gatehouse has class file version %d.%d, this runtime reads class file "+
			"versions 45.0 to %d.0", head.Major, head.Minor, release+44)
	}
	p, err := z.Open("mossgate/release.json")
	if err != nil {
		return nil, err
	}
	defer p.Close()
	r := &Release{}
	return r, json.NewDecoder(p).Decode(r)
}

// server is the simulated Mossgate server.
type server struct {
	r    *Release
	out  io.Writer
	log  *os.File
	port net.PacketConn
}

func (s *server) say(format string, a ...any) {
	line := fmt.Sprintf(format, a...) + "\n"
	io.WriteString(s.out, line)
	if s.log != nil {
		io.WriteString(s.log, line)
	}
}

// pause stands for work; FRESHKEEL_DEMO_PACE, in percent, makes it slower for
// somebody who watches, or faster for a test.
func pause(ms int) {
	pace := 100
	if p, err := strconv.Atoi(os.Getenv("FRESHKEEL_DEMO_PACE")); err == nil {
		pace = p
	}
	time.Sleep(time.Duration(ms*pace/100) * time.Millisecond)
}

func (s *server) run(in io.Reader) int {
	os.MkdirAll("logs", 0o755)
	s.log, _ = os.OpenFile("logs/mossgate.log", os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	began := time.Now()
	said := s.r.Version
	if s.r.Behaviour == Misnamed {
		said = "0.0.1"
	}
	s.say("mossgate server %s", said)
	if s.r.Asks && !s.agreed() {
		return 0
	}
	s.say("reading mossgate.conf")
	port := s.setting("port")
	pause(150)
	if s.r.Behaviour == Dies {
		return s.die()
	}
	if s.r.Behaviour != Deaf {
		var err error
		if s.port, err = net.ListenPacket("udp", "127.0.0.1:"+port); err != nil {
			s.say("FATAL could not bind udp port %s: %v", port, err)
			return 1
		}
		defer s.port.Close()
		s.say("bound udp port %s", port)
	}
	gardens, _ := filepath.Glob("gardens/*.garden")
	sort.Strings(gardens)
	for _, g := range gardens {
		s.visit(g)
		pause(60)
	}
	members, _ := os.ReadFile("members.txt")
	s.say("%d gardens, %d members", len(gardens), strings.Count(string(members), "\n"))
	if s.r.Behaviour == Hangs {
		s.say("waiting for the moon")
		time.Sleep(24 * time.Hour)
	}
	s.say("gates open after %.1f s", time.Since(began).Seconds())
	if s.r.Behaviour == DiesSteady {
		pause(200)
		s.say("a gate fell off its hinges")
		return 3
	}
	return s.listen(in, gardens)
}

// agreed looks for the operator's consent, and asks for it where there is none.
func (s *server) agreed() bool {
	const file = "consent.txt"
	b, err := os.ReadFile(file)
	if err != nil {
		os.WriteFile(file, []byte("# Snails race at their own risk, and so do their keepers.\n# Say true here if you "+
			"agree to the rules of the course.\nagreed=false\n"), 0o644)
	}
	if strings.Contains(string(b), "agreed=true") {
		return true
	}
	s.say("you have to agree to the rules first: see %s", file)
	return false
}

// visit rewrites the head of a garden file, as a server does when it loads a
// world: each build leaves its own mark, and always the same.
func (s *server) visit(g string) {
	f, err := os.OpenFile(g, os.O_RDWR, 0)
	if err != nil {
		s.say("WARN %v", err)
		return
	}
	defer f.Close()
	f.WriteAt(Mark(s.r.Version), 0)
}

// Mark is how a garden file begins that a build has visited.
func Mark(version string) []byte { return fmt.Appendf(nil, "garden of %-9s\n", version) }

// die does to the world what a failing conversion does, and ends.
func (s *server) die() int {
	s.say("converting gardens to the flood-gate format")
	s.visit("gardens/fen-east.garden")
	f, err := os.OpenFile("gardens/fen-east.garden", os.O_RDWR, 0)
	if err == nil {
		f.WriteAt([]byte(strings.Repeat("flooded ", 512)), 4096)
		f.Close()
	}
	os.Remove("gardens/old-well.garden")
	os.WriteFile("gardens/flood.index", []byte("half an index\n"), 0o644)
	os.WriteFile("mossgate.conf", []byte("# settings, converted by 3.6.0\ngates = flood\n"), 0o644)
	pause(250)
	s.say("converted 1 of 3 gardens")
	s.say("FATAL the flood-gate table has no row for fen-west")
	return 1
}

func (s *server) setting(key string) string {
	b, _ := os.ReadFile("mossgate.conf")
	for _, line := range strings.Split(string(b), "\n") {
		if k, v, ok := strings.Cut(line, "="); ok && strings.TrimSpace(k) == key {
			return strings.TrimSpace(v)
		}
	}
	return ""
}

// listen takes console lines until the server is to close.
func (s *server) listen(in io.Reader, gardens []string) int {
	lines := make(chan string)
	go func() {
		for sc := bufio.NewScanner(in); sc.Scan(); {
			lines <- strings.TrimSpace(sc.Text())
		}
	}()
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, syscall.SIGTERM)
	for {
		select {
		case <-signals:
			if s.r.Behaviour == Stubborn {
				continue
			}
			return s.shut(gardens)
		case l := <-lines:
			word, rest, _ := strings.Cut(l, " ")
			switch {
			case word == "close" && s.r.Behaviour != Stubborn:
				s.say("> close")
				return s.shut(gardens)
			case word == "say":
				s.say("to everybody: %s", rest)
			case word == "guests": // who races now: a file of the tests says
				b, _ := os.ReadFile("guests.txt")
				s.say("%d guests on the course", strings.Count(string(b), "\n"))
			case word == "members":
				b, _ := os.ReadFile("members.txt")
				s.say("members: %s", strings.Join(strings.Split(strings.TrimSpace(string(b)), "\n"), ", "))
			case word != "":
				s.say("no such word: %s", word)
			}
		}
	}
}

func (s *server) shut(gardens []string) int {
	s.say("closing the gates")
	for _, g := range gardens {
		s.visit(g)
	}
	pause(80)
	s.say("good night")
	return 0
}
