package adopt

import (
	"fmt"
	"path/filepath"
	"strings"

	"freshkeel/internal/words"
)

// A server that runs already is run by something: a service, a multiplexer, a supervisor, or somebody's
// hands. What can run it again becomes the profile's [host]; else it can be taken over.

// tellKept tells what runs the server, and what comes of that.
func (l *lookout) tellKept() {
	if len(l.outside) == 0 || l.outside[0].Unit != "" {
		return
	}
	p := l.outside[0]
	since := fmt.Sprintf("process %d runs from here since %s (%s)", p.PID, p.Since.Format("2006-01-02 15:04"), p.Command)
	switch {
	case len(l.supervised()) > 0:
		l.note("%s, and %s (process %d) starts it again when it ends: [host] says how that is told", since, l.kept.By,
			l.kept.PID)
	case l.kept.By != "" && l.kept.Session != "":
		l.note("%s, in the session %s of %s. To have Fresh Keel run it: freshkeel start --take-over (it is told to stop at its console "+
			"there, and started again)", since, l.kept.Session, l.kept.By)
	default:
		l.note("%s, and its console is not seen from here. To have Fresh Keel run it: freshkeel start --take-over (it gets the "+
			"terminate signal, and is started again); or stop it at its own console, then: freshkeel start", since)
	}
}

// supervised are the commands by which a supervisor is told about the server, as lines of [host]; none where
// no supervisor that is known keeps it.
func (l *lookout) supervised() (lines []string) {
	at := l.kept.Service
	switch l.kept.By {
	case "runsv":
		return []string{
			fmt.Sprintf("start  = ['sv', 'up', %s]", words.Quote(at)),
			fmt.Sprintf("stop   = ['sv', '-w', '%d', 'down', %s]", 120, words.Quote(at)),
			fmt.Sprintf("status = ['sh', '-c', 'sv status \"$0\" | grep -q ^run:', %s]", words.Quote(at)),
		}
	case "s6-supervise":
		return []string{
			fmt.Sprintf("start  = ['s6-svc', '-u', %s]", words.Quote(at)),
			fmt.Sprintf("stop   = ['s6-svc', '-wD', '-d', %s]", words.Quote(at)),
			fmt.Sprintf("status = ['sh', '-c', 's6-svstat -o up \"$0\" | grep -q true', %s]", words.Quote(at)),
		}
	}
	return nil
}

// commandsText writes how a supervisor is told about the server.
func (l writing) commandsText(w func(string, ...any)) {
	lines := l.supervised()
	if len(lines) == 0 {
		return
	}
	w("")
	w("[host]   # what runs the server: docs/hosts.md")
	w("# guessed from: %s (process %d) keeps %s", l.kept.By, l.kept.PID, filepath.Base(l.kept.Service))
	for _, line := range lines {
		w("%s", line)
	}
	l.consoleText(w)
	l.guess("host.start", strings.Fields(lines[0])[2], fmt.Sprintf("%s (process %d) keeps it", l.kept.By, l.kept.PID))
}

// consoleText writes how a line comes to the console of a server that runs now.
func (l writing) consoleText(w func(string, ...any)) {
	switch {
	case l.kept.Console != "":
		w("console = %s   # the standard input of process %d", words.Quote(l.kept.Console), l.outside[0].PID)
		l.guess("host.console", l.kept.Console, fmt.Sprintf("it is the standard input of process %d", l.outside[0].PID))
	case len(l.kept.Send) > 0:
		w("say = [%s]   # the session in which process %d is", quoted(l.kept.Send), l.outside[0].PID)
		l.guess("host.say", strings.Join(l.kept.Send, " "), fmt.Sprintf("process %d is in that session of %s",
			l.outside[0].PID,
			l.kept.By))
	}
}
