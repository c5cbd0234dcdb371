package learn

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// NamedPort is a port that a text names.
type NamedPort struct {
	Number int
	Net    string // "udp", "tcp", or "" where the text does not say
	From   string
}

var (
	// A setting, a flag or an entry of JSON whose name says that it is a port.
	portKey = regexp.MustCompile(
		`(?i)(?:^|[\s"'{,;+/-])((?:[\w.]*[._-])?(?:port|listen|bind)(?:[._-][\w.]*)?|[a-z]+Port)["']?\s*[:= ]\s*["']?(?:\S*:)?(\d{2,5})\b`,
	)
	portArg = regexp.MustCompile(`(?i)(?:^|\s)(-p)[ =](\d{4,5})\b`)
	// A line that says on which port it listens.
	portSaid = regexp.MustCompile(
		`(?i)\b(?:(udp|tcp)\b\D{0,12}|(?:port|listen\w*|bound|bind\w*|on)\b\D{0,24}?(?:\d{1,3}(?:\.\d{1,3}){3}:|\S*:)?)(\d{2,5})\b`,
	)
	netWord = regexp.MustCompile(`(?i)\b(udp|tcp)\b|(udp|tcp)[_.-]?port|port[_.-]?(udp|tcp)`)
)

// PortsIn finds the ports that a text names; said is for a log, whose lines are sentences.
func PortsIn(name, text string, said bool) (out []NamedPort) {
	for i, line := range strings.Split(text, "\n") {
		trimmed := strings.TrimSpace(line)
		if !said &&
			(strings.HasPrefix(trimmed, "#") || strings.HasPrefix(trimmed, ";") || strings.HasPrefix(trimmed, "//") ||
				strings.HasPrefix(strings.ToLower(trimmed), "rem ")) {
			continue
		}
		rules := []*regexp.Regexp{portKey, portArg}
		if said {
			rules = []*regexp.Regexp{portSaid, portKey}
		}
		for _, r := range rules {
			for _, m := range r.FindAllStringSubmatch(line, -1) {
				n, err := strconv.Atoi(m[2])
				if err != nil || n < 80 || n > 65535 || notAPort.MatchString(m[1]) {
					continue
				}
				p := NamedPort{Number: n, From: fmt.Sprintf("%s:%d: %s", name, i+1, Clip(trimmed))}
				if w := netWord.FindStringSubmatch(line); w != nil {
					p.Net = strings.ToLower(w[1] + w[2] + w[3])
				}
				out = append(out, p)
			}
		}
	}
	return out
}

// notAPort are names with the word in them that mean something else.
var notAPort = regexp.MustCompile(
	`(?i)portal|support|report|import|export|transport|rcon|query|web|http|metrics|proxy|db|database|mysql|redis`,
)
