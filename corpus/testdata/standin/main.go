// Command standin is a small stand-in of a dedicated server: what it says, binds, writes and
// obeys is in JSON behind its own bytes.
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// Spec is how one server behaves.
type Spec struct {
	Version string
	Say     []string          // at the console, as it boots
	Log     string            // the file that gets LogSay
	LogSay  []string          // lines of the log
	Stamp   string            // a Go time layout before each line
	Ports   []string          // udp/27001
	Stop    []string          // console lines that end it
	Unknown string            // what it answers to others
	Help    []string          // what it answers to help
	Reads   bool              // its console at all
	Write   map[string]string // files that it writes once it is up
	Needs   []string          // files without which it does not come up
	Same    string            // a file that must say its version: the data of its build
	Boot    time.Duration
	Wait    bool // a helper: it only stays
}

var chosen int // a port that the system chose

func main() {
	spec, err := read()
	if err != nil {
		fmt.Fprintln(os.Stderr, "standin:", err)
		os.Exit(2)
	}
	if spec.Wait {
		select {}
	}
	for _, need := range spec.Needs {
		if _, err := os.Stat(need); err != nil {
			fmt.Println("FATAL: can't find", need)
			os.Exit(3)
		}
	}
	if spec.Same != "" {
		if b, err := os.ReadFile(spec.Same); err != nil || strings.TrimSpace(string(b)) != spec.Version {
			fmt.Printf("FATAL: %s is of another version\n", spec.Same)
			os.Exit(4)
		}
	}
	var log io.Writer = io.Discard
	if spec.Log != "" {
		at := time.Now().Format(spec.Log)
		os.MkdirAll(filepath.Dir(at), 0o755)
		f, err := os.OpenFile(at, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			os.Exit(5)
		}
		log = f
	}
	tell := func(w io.Writer, l string) {
		l = strings.NewReplacer("{version}", spec.Version, "{pid}", fmt.Sprint(os.Getpid()), "{port2}", fmt.Sprint(chosen), "{date}", time.Now().Format("Mon Jan 2 15:04:05 2006"), "{ms}",
			fmt.Sprint(time.Now().UnixMilli()%900+100)).Replace(l)
		if spec.Stamp != "" {
			l = time.Now().Format(spec.Stamp) + l
		}
		fmt.Fprintln(w, l)
	}
	steps := max(len(spec.Say), len(spec.LogSay), 1)
	for i := range steps {
		if i == steps-1 || i == 0 && strings.Contains(strings.Join(spec.Say, ""), "{port2}") {
			bind(spec.Ports)
			spec.Ports = nil
		}
		if i < len(spec.Say) {
			tell(os.Stdout, spec.Say[i])
		}
		if i < len(spec.LogSay) {
			tell(log, spec.LogSay[i])
		}
		time.Sleep(spec.Boot / time.Duration(steps))
	}
	save := func() {
		for at, text := range spec.Write {
			os.MkdirAll(filepath.Dir(at), 0o755)
			os.WriteFile(at, []byte(text), 0o644)
		}
	}
	save()
	term := make(chan os.Signal, 1)
	signal.Notify(term, syscall.SIGTERM, syscall.SIGINT)
	go func() {
		<-term
		tell(os.Stdout, "caught a signal, saving")
		save()
		os.Exit(0)
	}()
	if !spec.Reads {
		select {}
	}
	in := bufio.NewScanner(os.Stdin)
	for in.Scan() {
		word := strings.TrimSpace(in.Text())
		switch {
		case word == "":
		case contains(spec.Stop, word):
			tell(os.Stdout, "Saving the world")
			save()
			os.Exit(0)
		case word == "help" || word == "/help":
			for _, l := range spec.Help {
				tell(os.Stdout, l)
			}
		default:
			tell(os.Stdout, strings.ReplaceAll(spec.Unknown, "{word}", word))
		}
	}
	select {}
}

func contains(list []string, word string) bool {
	for _, l := range list {
		if l == word {
			return true
		}
	}
	return false
}

func bind(ports []string) {
	for _, p := range ports {
		network, number, _ := strings.Cut(p, "/")
		var err error
		if network == "udp" {
			var c net.PacketConn
			if c, err = net.ListenPacket("udp", ":"+number); err == nil && number == "0" {
				chosen = c.LocalAddr().(*net.UDPAddr).Port
			}
		} else {
			_, err = net.Listen("tcp", ":"+number)
		}
		if err != nil {
			fmt.Println("could not bind:", err)
			os.Exit(6)
		}
	}
}

func read() (*Spec, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	b, err := os.ReadFile(self)
	if err != nil {
		return nil, err
	}
	mark := []byte("\nSTAND" + "IN ")
	i := bytes.LastIndex(b, mark)
	if i < 0 {
		return nil, fmt.Errorf("it has no behaviour")
	}
	s := &Spec{}
	return s, json.Unmarshal(b[i+len(mark):], s)
}
