package host

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/tree"
)

// Where the line of a unit itself must change (another runtime, more memory, an artifact's new
// name), a drop-in of ours stands over it: a file beside the unit that says the one line, and
// nothing else. It holds until a rollback takes it away.

// dropInName sorts behind what an editor of units writes, so that ours counts.
const dropInName = "zz-freshkeel.conf"

// dropInMark begins a drop-in of ours; any other file of that name is not touched.
const dropInMark = "# Fresh Keel wrote this: "

// dropInOver is how it notes the line that it stands over, to see later whether that was changed.
const dropInOver = "# It stands over: "

// dropInWords is how it notes its words, as they were asked for.
const dropInWords = "# Its words: "

// Over is a drop-in of ours.
type Over struct {
	File  string   // where it stands, or would
	Words []string // what the unit runs by it, as a unit has them; nil: there is none
	Base  string   // the line that it was written over
	Now   string   // the line that it stands over now
}

// Hides tells whether the unit's own line was changed since.
func (o *Over) Hides() bool { return o.Words != nil && o.Base != o.Now }

// Over is what stands over the unit's own line.
func (s *Service) Over() (*Over, error) {
	if s.err != nil {
		return nil, s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	return s.bus.over(ctx)
}

// MayWrite tells why the unit's line can't be written by this user, or by nobody; nil: it can.
func (s *Service) MayWrite() error {
	if s.err != nil {
		return s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	return s.bus.mayWrite(ctx)
}

// Write has the unit run a program with its arguments, as a unit has them, by a drop-in; with no
// words the drop-in goes. The manager is told, and what it has then is looked at. It may be
// called again after a crash.
func (s *Service) Write(words []string) error {
	if s.err != nil {
		return s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*busLimit)
	defer cancel()
	if err := s.bus.write(ctx, words); err != nil {
		return fmt.Errorf("write the line of %s: %w", s.Name, err)
	}
	u, err := s.bus.unit(ctx)
	if err != nil || words == nil {
		return err
	}
	if len(u.Lines) != 1 || !slices.Equal(u.Lines[0], words) {
		return fmt.Errorf("the line of %s was written, and its manager has another: %q", s.Name, u.Lines)
	}
	return nil
}

// dropIn is the text of a drop-in: one line, which the manager runs by the unit's own rules.
// lenient says that its failure is none to the unit.
func dropIn(words []string, lenient bool, base string) string {
	dash := map[bool]string{true: "-"}[lenient]
	said, _ := json.Marshal(words)
	return dropInMark + "the line that the installed build needs. A rollback takes it away.\n" +
		dropInOver + strconv.QuoteToASCII(base) + "\n" + dropInWords + string(said) +
		"\n[Service]\nExecStart=\nExecStart=" + dash + UnitLine(words) + "\n"
}

// UnitCommand says words of which none holds a variable, in a unit's syntax.
func UnitCommand(words ...string) string { return UnitLine(unexpanded(words)) }

// UnitLine says words in a unit's syntax (systemd.service(5), "Command lines"): each in double
// quotes where it is not plain, a per cent sign doubled. Dollars are as in the words, which a
// unit has with its variables not filled in.
func UnitLine(words []string) string {
	var out []string
	for _, w := range words {
		out = append(out, UnitWord(w))
	}
	return strings.Join(out, " ")
}

// UnitWord is one word in a unit's syntax.
func UnitWord(w string) string {
	var b strings.Builder
	quoted := w == "" || w == ";" || strings.ContainsAny(w, " \t'\"")
	for _, r := range []byte(w) {
		switch {
		case r == '"' || r == '\\':
			b.WriteString(`\` + string(r))
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r == '%':
			b.WriteString("%%")
		default:
			b.WriteByte(r)
		}
	}
	if quoted {
		return `"` + b.String() + `"`
	}
	return b.String()
}

// baseLines are the lines in which unit files say what is run, the last that counts: an empty one
// takes those before it back.
func baseLines(texts ...string) string {
	var lines []string
	for _, text := range texts {
		for _, l := range strings.Split(strings.ReplaceAll(text, "\\\n", " "), "\n") {
			key, value, ok := strings.Cut(strings.TrimSpace(l), "=")
			if !ok || strings.TrimSpace(key) != "ExecStart" {
				continue
			}
			if value = strings.TrimSpace(value); value == "" {
				lines = nil
				continue
			}
			lines = append(lines, value)
		}
	}
	return strings.Join(lines, " ; ")
}

// readDropIn reads a drop-in back: its words, and the line that it stood over. ok is false for one
// that is not ours, byte for byte: what somebody added to it is theirs.
func readDropIn(text string) (words []string, base string, ok bool) {
	for line := range strings.Lines(text) {
		if q, is := strings.CutPrefix(strings.TrimSpace(line), dropInOver); is {
			base, _ = strconv.Unquote(q)
		}
		if q, is := strings.CutPrefix(strings.TrimSpace(line), dropInWords); is {
			json.Unmarshal([]byte(q), &words)
		}
	}
	return words, base, text == dropIn(words, false, base) || text == dropIn(words, true, base)
}

// mostUnit bounds a unit's file, and one of its environment, in bytes.
const mostUnit = 1 << 20

// EnvOfFiles are the variables of the files that the unit reads its environment from, as far as
// this user may read them (systemd.exec(5), EnvironmentFile=): a line each, a value in quotes or
// up to the line's end.
func (u *Unit) EnvOfFiles() (out []string) {
	for _, at := range u.EnvFiles {
		b, err := tree.ReadUpTo(at, mostUnit)
		if err != nil {
			continue // one that may be missing, or is not ours to read
		}
		for _, l := range strings.Split(strings.ReplaceAll(string(b), "\\\n", ""), "\n") {
			name, value, ok := strings.Cut(strings.TrimSpace(l), "=")
			if !ok || strings.HasPrefix(name, "#") || strings.HasPrefix(name, ";") {
				continue
			}
			value = strings.TrimSpace(value)
			if n := len(value); n > 1 && (value[0] == '"' || value[0] == '\'') && value[n-1] == value[0] {
				value = value[1 : n-1]
			}
			out = append(out, strings.TrimSpace(name)+"="+value)
		}
	}
	return out
}
