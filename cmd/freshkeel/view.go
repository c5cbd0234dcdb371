package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"

	"freshkeel"

	"github.com/clipperhouse/displaywidth"
	"golang.org/x/term"
)

// view shows results: they go to standard output.
type view struct{ *screen }

// screen shows what happens: live on a terminal, a line a step elsewhere, an event a line
// as JSON. Progress and notes go to standard error. It also has what results are drawn with.
type screen struct {
	p      *program
	live   bool
	colour bool
	width  int

	stream bool // with --json, events go to standard output, a line each
	quiet  bool // only warnings are shown
	first  bool // of a plan the first files are shown

	raw io.Writer // standard error itself, for the live line alone

	mu     sync.Mutex
	events int
	step   string
	began  time.Time
	moved  freshkeel.Event
	rate   meter
	shown  bool // a live line stands on the terminal
	stop   chan struct{}
}

func newView(p *program) *view {
	v := &screen{p: p, width: 100}
	f, isFile := p.err.(*os.File)
	terminal := isFile && term.IsTerminal(int(f.Fd()))
	if terminal {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w >= 40 {
			v.width = min(w, 120)
		}
	}
	v.live = terminal && !p.plain && !p.json && os.Getenv("TERM") != "dumb"
	o, isFile := p.out.(*os.File)
	v.colour = isFile && term.IsTerminal(int(o.Fd())) && !p.plain && os.Getenv("NO_COLOR") == "" &&
		os.Getenv("TERM") != "dumb"
	if b := p.became; b != nil { // whose outputs are root's to show
		v.live, v.colour, v.width = b.Live && !p.plain && !p.json, b.Colour && !p.plain, b.Width
	}
	v.raw = p.err
	p.err = &harmless{p.err, v.colour}
	if p.json { // which escapes what it holds by itself
		p.out = &maskedJSON{p.out}
	} else {
		p.out = &harmless{p.out, v.colour}
	}
	return &view{v}
}

// atTerminal tells whether results go to a terminal: this process's own, or root's that shows them.
func atTerminal(p *program) bool {
	if p.became != nil {
		return p.became.Out
	}
	f, isFile := p.out.(*os.File)
	return isFile && term.IsTerminal(int(f.Fd()))
}

// The colours: each only repeats what a word beside it says.
const (
	strong = "1"
	dim    = "2"
	good   = "32"
	bad    = "1;31"
	minded = "33"
	calm   = "36"
)

func (v *screen) paint(code, s string) string {
	if !v.colour || s == "" || code == "" {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// observe hears the core's events.
func (v *screen) observe(e freshkeel.Event) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.quiet && e.Kind != freshkeel.Warned {
		return
	}
	if v.p.json && v.stream {
		v.events++
		if e.Kind == freshkeel.StepMoves && (e.Text == "" || e.Done > 0) &&
			time.Since(v.moved.At) < 250*time.Millisecond && e.Done != e.Total {
			return
		}
		v.moved = e
		enc := json.NewEncoder(v.p.out)
		enc.SetEscapeHTML(false)
		enc.Encode(e)
		return
	}
	switch e.Kind {
	case freshkeel.StepBegun:
		v.step, v.began, v.moved, v.rate = e.Step, e.At, freshkeel.Event{}, meter{}
		if v.live && v.stop == nil {
			v.stop = make(chan struct{})
			go v.spin(v.stop)
		}
	case freshkeel.StepMoves:
		if e.Text != v.moved.Text {
			v.rate = meter{} // another kind of work has another rate
		}
		v.moved = e
		v.rate.add(e.At, e.Done)
	case freshkeel.StepEnded:
		v.step = ""
		v.line("ok", good, e.Step, e.Text, freshkeel.Age(e.Took))
	case freshkeel.StepFailed:
		v.step = ""
		v.line("FAIL", bad, e.Step, e.Text, freshkeel.Age(e.Took))
	case freshkeel.ToolSaid:
		if v.live {
			v.print("        " + v.paint(dim, "│ "+v.clip(e.Text, v.width-12)))
		} else {
			fmt.Fprintf(v.p.err, "%s │ %s\n", e.At.Format("15:04:05"), e.Text)
		}
	case freshkeel.ServerSaid:
		if v.live {
			v.print("        " + v.paint(dim, "│ "+v.clip(e.Text, v.width-12)))
		}
	case freshkeel.Noted:
		v.line("note", calm, "", e.Text, "")
	case freshkeel.Warned:
		v.line("warn", minded, "", e.Text, "")
	}
	v.redraw()
}

// stepWidth is the column of step names, in cells: the longest and a space.
const stepWidth = 18

// line prints one finished line: a word for how it went, the step, its sum.
func (v *screen) line(word, colour, step, text, took string) {
	if !v.live {
		if step != "" {
			step += ": "
		}
		if took != "" {
			took = " (" + took + ")"
		}
		if word == "ok" {
			word = ""
		} else {
			word += ": "
		}
		fmt.Fprintf(v.p.err, "%s %s%s%s%s\n", time.Now().Format("15:04:05"), word, step, text, took)
		return
	}
	const left = 2 + 6 // margin, word
	if step != "" {
		step = pad(step, stepWidth)
	}
	room := v.width - left - displaywidth.String(step) - 1
	if took != "" {
		room -= 10
	}
	rows := wrap(text, max(room, 20))
	for i, row := range rows {
		head := "  " + v.paint(colour, pad(word, 6)) + v.paint(strong, step)
		if i > 0 {
			head = strings.Repeat(" ", left+displaywidth.String(step))
		}
		if i == 0 && took != "" {
			row = pad(row, room) + v.paint(dim, fmt.Sprintf("%10s", took))
		}
		v.print(head + row)
	}
}

func (v *screen) print(s string) {
	v.clear()
	fmt.Fprintln(v.p.err, s)
}

func (v *screen) clear() {
	if v.shown {
		io.WriteString(v.raw, "\r\x1b[K")
		v.shown = false
	}
}

// redraw puts the running step's line at the bottom.
func (v *screen) redraw() {
	if !v.live {
		return
	}
	v.clear()
	if v.step == "" {
		return
	}
	dots := []string{"·  ", "·· ", "···"}[int(time.Since(v.began)/(300*time.Millisecond))%3]
	const left = 2 + 6 + stepWidth
	io.WriteString(v.p.err, "  "+v.paint(calm, pad(dots, 6))+v.paint(strong,
		pad(v.step, stepWidth))+v.clip(v.progress(), v.width-1-left))
	v.shown = true
}

// progress says bytes, rate and time left of the running step, or how long it
// has taken.
func (v *screen) progress() string {
	m := v.moved
	if m.Total <= 0 && m.Done <= 0 {
		s := freshkeel.Age(time.Since(v.began).Round(100 * time.Millisecond))
		if m.Text != "" {
			s += "  " + m.Text
		}
		return s
	}
	if m.Total <= 0 {
		if m.Text != "" {
			m.Text += ": "
		}
		return m.Text + fmt.Sprintf("%s, %s/s", freshkeel.Bytes(m.Done), freshkeel.Bytes(int64(v.rate.perSecond())))
	}
	const cells = 20
	full := int(m.Done * cells / m.Total)
	bar := strings.Repeat("=", full) + strings.Repeat("-", cells-full)
	s := fmt.Sprintf("[%s] %3d%%  %s of %s", bar, m.Done*100/m.Total, freshkeel.Bytes(m.Done), freshkeel.Bytes(m.Total))
	if r := v.rate.perSecond(); r > 0 {
		s += fmt.Sprintf("  %s/s", freshkeel.Bytes(int64(r)))
		if left := time.Duration(float64(m.Total-m.Done) / r * float64(time.Second)); left > time.Second {
			s += "  " + freshkeel.Age(left.Round(time.Second)) + " left"
		}
	}
	return s
}

func (v *screen) spin(stop chan struct{}) {
	t := time.NewTicker(100 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-stop:
			return
		case <-t.C:
			v.mu.Lock()
			v.redraw()
			v.mu.Unlock()
		}
	}
}

// end takes the live line away before results are printed.
func (v *screen) end() {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.clear()
	if v.stop != nil {
		close(v.stop)
		v.stop = nil
		fmt.Fprintln(v.p.err) // steps above, outcome below
	}
	v.step = ""
}

func (v *screen) noteLine(s string) {
	v.observe(freshkeel.Event{At: time.Now(), Kind: freshkeel.Noted, Text: s})
}

func (v *screen) warnLine(s string) {
	v.observe(freshkeel.Event{At: time.Now(), Kind: freshkeel.Warned, Text: s})
}

func (v *screen) clip(s string, n int) string {
	return displaywidth.TruncateString(s, max(n, 10), "…")
}

func pad(s string, n int) string {
	if w := displaywidth.String(s); w < n {
		return s + strings.Repeat(" ", n-w)
	}
	return s
}

// copied are the programs of commands that are printed to be copied.
var copied = regexp.MustCompile(`^\(?(\S*/)?(freshkeel|sudo|chmod|chown|sed|kill|systemctl|mv)$`)

// unbroken takes a line apart where it may be broken: between words, and never within a command
// that is printed to be copied, which goes on to a sign at the end of a word.
func unbroken(line string) (parts []string) {
	words := strings.Split(line, " ")
	for i := 0; i < len(words); i++ {
		part := words[i]
		if copied.MatchString(part) && i+1 < len(words) {
			for i+1 < len(words) && !strings.HasSuffix(words[i], ";") && !strings.HasSuffix(words[i], ",") &&
				!strings.HasSuffix(words[i], ":") && !strings.HasPrefix(words[i+1], "(") && words[i+1] != "" {
				i++
				part += " " + words[i]
			}
		}
		parts = append(parts, part)
	}
	return parts
}

// wrap breaks text into rows of at most n cells, between words where it can. A command that is
// printed to be copied has a row for itself where it needs one, however long that is.
func wrap(text string, n int) (rows []string) {
	for _, line := range strings.Split(text, "\n") {
		row := ""
		for _, word := range unbroken(line) {
			if row != "" && displaywidth.String(row)+1+displaywidth.String(word) > n {
				rows = append(rows, row)
				row = ""
			}
			for displaywidth.String(word) > n && !strings.ContainsAny(word, ` /\`) { // a path stays whole, to be copied
				head := displaywidth.TruncateString(word, n, "")
				if head == "" { // not even one character fits
					break
				}
				rows, word = append(rows, head), word[len(head):]
			}
			if row != "" {
				row += " "
			}
			row += word
		}
		rows = append(rows, row)
	}
	return rows
}

// meter is a rate over the last seconds.
type meter struct {
	at   []time.Time
	done []int64
}

func (m *meter) add(at time.Time, done int64) {
	if n := len(m.at); n > 1 && at.Sub(m.at[n-2]) < 50*time.Millisecond { // one for each small file would be many
		m.at[n-1], m.done[n-1] = at, done
		return
	}
	m.at, m.done = append(m.at, at), append(m.done, done)
	for len(m.at) > 2 && at.Sub(m.at[0]) > 3*time.Second {
		m.at, m.done = m.at[1:], m.done[1:]
	}
}

func (m *meter) perSecond() float64 {
	if len(m.at) < 2 {
		return 0
	}
	d := m.at[len(m.at)-1].Sub(m.at[0]).Seconds()
	if d < 0.05 {
		return 0
	}
	return float64(m.done[len(m.done)-1]-m.done[0]) / d
}

// outcome prints the first line of a result: what came of it.
func (v *screen) outcome(colour, word, text string) {
	fmt.Fprintf(v.p.out, "%s  %s\n", v.paint(colour, word), v.paint(strong, text))
}

// fact prints one labelled row of a result, wrapped under itself.
func (v *screen) fact(label, text string) {
	if text == "" {
		return
	}
	const margin = 12
	for i, row := range wrap(runnable(v.p, text), v.width-margin) {
		if i > 0 {
			label = ""
		}
		fmt.Fprintf(v.p.out, "  %s%s\n", v.paint(dim, pad(label, margin-2)), row)
	}
}

func (v *view) finding(f freshkeel.Finding) {
	mark := map[freshkeel.Level][2]string{freshkeel.Stop: {"STOP", bad}, freshkeel.Warn: {"warn", minded},
		freshkeel.OK: {"ok", good}}[f.Level]
	word, colour := mark[0], mark[1]
	rows := wrap(f.What, v.width-10)
	for i, row := range rows {
		if i > 0 {
			word = ""
		}
		if f.Level != freshkeel.OK {
			row = v.paint(strong, row)
		}
		fmt.Fprintf(v.p.out, "  %s%s\n", v.paint(colour, pad(word, 6)), row)
	}
	for _, part := range [][2]string{{"where", f.Where}, {"why", f.Why}, {"do", f.Do}} {
		if part[1] == "" || f.Level == freshkeel.OK {
			continue
		}
		for i, row := range wrap(runnable(v.p, part[1]), v.width-18) {
			if i > 0 {
				part[0] = ""
			}
			fmt.Fprintf(v.p.out, "        %s%s\n", v.paint(dim, pad(part[0], 7)), row)
		}
	}
}

func (v *view) refused(e *freshkeel.Refused) {
	to := orBuild(e.To)
	if n := len(e.Done); n > 0 {
		v.outcome(bad, "REFUSED", fmt.Sprintf("%s can't be installed as things are; %s is in place and confirmed, and "+
			"that is where the chain ended", to, e.Done[n-1]))
	} else {
		v.outcome(bad, "REFUSED", to+" can't be installed as things are; nothing was changed, the server was not touched")
	}
	for _, f := range e.Stops {
		v.finding(f)
	}
}

func (v *view) rolledBack(e *freshkeel.RolledBack) {
	state := "is in place, stopped as before"
	if e.Running {
		state = "is running again"
	}
	word, what := "ROLLED BACK", orBuild(e.To)+" did not come up"
	switch {
	case e.Asked:
		what = "interrupted while " + orBuild(e.To) + " was coming up"
	case e.Early:
		what = orBuild(e.To) + " could not be put in place"
	}
	if e.Kind == freshkeel.KindRollback || e.Kind == freshkeel.KindRestore {
		word, what = "NOT DONE", fmt.Sprintf("the %s did not end well, and everything is as before it", e.Kind)
	}
	v.outcome(bad, word, fmt.Sprintf("%s; %s %s", what, orOld(e.From), state))
	v.fact("why", e.Why)
	for _, l := range e.Lines {
		v.fact("console", shortLine(l))
	}
	for _, t := range e.Told {
		v.fact("note", t)
	}
	if n := len(e.Done); n > 0 {
		v.fact("chain", fmt.Sprintf("it got as far as %s, each step confirmed", e.Done[n-1]))
	}
	v.fact("more", "freshkeel logbook "+e.Refit)
}

func (v *view) needsHands(e *freshkeel.NeedsHands) {
	v.outcome(bad, "NEEDS HANDS", e.What)
	v.fact("state", e.State)
	for _, l := range e.Lines {
		v.fact("console", shortLine(l))
	}
	for i, d := range e.Do {
		label := "do"
		if i > 0 {
			label = "then"
		}
		v.fact(label, d)
	}
}

func orBuild(version string) string {
	if version == "" {
		return "a build of unknown version"
	}
	return version
}

func orOld(version string) string {
	if version == "" {
		return "the old build"
	}
	return version
}

// table prints rows under heads, each column as wide as it needs; the last one
// is cut where the terminal ends.
func (v *screen) table(heads []string, rows [][]string, colour func(row, col int) string) {
	widths := make([]int, len(heads))
	for _, r := range append([][]string{heads}, rows...) {
		for i, c := range r {
			widths[i] = max(widths[i], displaywidth.String(c))
		}
	}
	print := func(r []string, paint func(col int) string) {
		var b strings.Builder
		room := v.width - 2
		b.WriteString("  ")
		for i, c := range r {
			if i == len(r)-1 {
				c = v.clip(c, room)
			} else {
				c = pad(c, widths[i])
			}
			room -= displaywidth.String(c) + 2
			b.WriteString(v.paint(paint(i), c))
			if i < len(r)-1 {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(v.p.out, strings.TrimRight(b.String(), " "))
	}
	print(heads, func(int) string { return dim })
	for n, r := range rows {
		print(r, func(col int) string {
			if colour == nil {
				return ""
			}
			return colour(n, col)
		})
	}
}

// longLine is how much of a line of the server's is shown, in characters: log shows it whole.
const longLine = 240

func shortLine(s string) string {
	if r := []rune(s); len(r) > longLine {
		return string(r[:longLine-1]) + "…"
	}
	return s
}
