package host

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"
	"time"
)

// mostJournal bounds how many lines of the journal are read at once.
const mostJournal = 20000

// Tail are the last lines of the unit in the journal, or of the log.
func (s *Service) Tail(n int) ([]string, error) {
	if s.inLog() {
		return Tail(s.Log, n)
	}
	return s.lines(journalQuery{Last: min(n, mostJournal)})
}

// inLog tells whether the server is heard in the log that the profile names: its unit sends its
// lines elsewhere than to the journal, or nothing of it is there.
func (s *Service) inLog() bool {
	if s.Log == "" {
		return false
	}
	if u, err := s.Unit(); err == nil && u.Unheard() {
		return true
	}
	lines, _ := s.lines(journalQuery{Last: 1})
	return len(lines) == 0
}

// Unheard tells whether the unit's lines go elsewhere than to the journal.
func (u *Unit) Unheard() bool {
	return slices.Contains([]string{"file", "append", "truncate", "null", "tty", "socket"}, u.Output)
}

// Live follows the unit in the journal, or the log.
func (s *Service) Live(ctx context.Context, n int, ended <-chan struct{}, each func(string)) error {
	if len(s.Listen) > 0 {
		return listen(ctx, s.Listen, s.Dir, s.Env, ended, each)
	}
	if s.err != nil {
		return s.err
	}
	if s.inLog() {
		return followFile(ctx, s.Log, n, ended, each)
	}
	return s.heard(ctx, journalQuery{Last: min(n, mostJournal)}, ended, each)
}

func (s *Service) lines(q journalQuery) (out []string, err error) {
	if s.err != nil {
		return nil, s.err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	list, err := s.bus.journal(ctx, q)
	for _, l := range list {
		out = append(out, l.Text)
	}
	return out, err
}

// Follow reads the lines of this start out of the journal, over its rotation. What follows it may
// end at any time, and is begun anew behind the last line that was read; where the journal has
// that no more, by the time. Once the server has ended, the journal is asked for what is left.
func (s *Service) Follow(ctx context.Context, ended <-chan struct{}, each func(string)) error {
	if s.err != nil {
		return s.err
	}
	if len(s.Listen) > 0 {
		return listen(ctx, s.Listen, s.Dir, s.Env, ended, each)
	}
	q := journalQuery{Runs: s.began}
	if q.Runs == "" {
		u, err := s.Unit()
		if err != nil {
			return err
		}
		q.Runs = u.Runs
	}
	return s.heard(ctx, q, ended, each)
}

// heard follows the journal from a query on.
func (s *Service) heard(ctx context.Context, q journalQuery, ended <-chan struct{}, each func(string)) error {
	live, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-ended:
		case <-live.Done():
		}
		cancel()
	}()
	hear := func(l journalLine) {
		each(l.Text)
		q.Cursor, q.Last = l.Cursor, 0
	}
	for failed := 0; live.Err() == nil; {
		asked := time.Now()
		err := s.bus.follow(live, q, hear)
		if live.Err() != nil {
			break
		}
		if err == nil {
			err = errors.New("what follows the journal ended")
		}
		if failed++; time.Since(asked) > busLimit {
			failed = 1
		}
		if failed > 3 {
			return err
		}
		if failed > 1 {
			q.Cursor, q.Since = "", asked.Add(-time.Second) // it may be gone with an older file
		}
		select {
		case <-live.Done():
		case <-time.After(100 * time.Millisecond):
		}
	}
	for ctx.Err() == nil {
		part, done := context.WithTimeout(ctx, busLimit)
		list, err := s.bus.journal(part, q)
		done()
		if err != nil || len(list) == 0 {
			return err
		}
		for _, l := range list {
			hear(l)
		}
	}
	return nil
}

// Mark is the last line in the journal, and the end of the log.
func (s *Service) Mark() Mark {
	m := markOf(s.Log)
	if s.err != nil {
		return m
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	if list, err := s.bus.journal(ctx, journalQuery{Last: 1}); err == nil && len(list) > 0 {
		m.cursor = list[len(list)-1].Cursor
	}
	return m
}

// After are the lines that came since a mark, in the journal and in the log.
func (s *Service) After(m Mark) ([]string, error) {
	q := journalQuery{Cursor: m.cursor}
	if m.cursor == "" {
		q.Since = m.at
	}
	lines, err := s.lines(q)
	if s.Log != "" {
		more, _ := linesFrom(s.Log, m.size)
		lines = append(lines, more...)
	}
	return lines, err
}

// Start starts the server under a minder.
func (d Dir) Start(ctx context.Context, self []string, l Launch) (*Status, error) {
	return Start(ctx, self, l)
}

// Tail are the last lines of the console's log.
func (d Dir) Tail(n int) ([]string, error) { return Tail(d.Console(), n) }

// Follow reads the console's log.
func (d Dir) Follow(ctx context.Context, ended <-chan struct{}, each func(string)) error {
	return Follow(ctx, d.Console(), ended, each)
}

// Live follows the console's log.
func (d Dir) Live(ctx context.Context, n int, ended <-chan struct{}, each func(string)) error {
	lines, _ := d.Tail(1 << 20)
	skip := max(0, len(lines)-n)
	return d.Follow(ctx, ended, func(l string) {
		if skip > 0 {
			skip--
			return
		}
		each(l)
	})
}

// Mark is the end of the console's log.
func (d Dir) Mark() Mark { return markOf(d.Console()) }

// markOf is the end of a file, which need not be there.
func markOf(path string) Mark {
	m := Mark{at: time.Now()}
	if fi, err := os.Stat(path); path != "" && err == nil {
		m.size = fi.Size()
	}
	return m
}

// After are the whole lines of the console's log behind a mark.
func (d Dir) After(m Mark) (out []string, err error) { return linesFrom(d.Console(), m.size) }

// linesFrom are the whole lines of a file from a place on.
func linesFrom(path string, from int64) (out []string, err error) {
	text, err := readFrom(path, from)
	for _, line := range strings.SplitAfter(string(text), "\n") {
		if whole, ended := strings.CutSuffix(line, "\n"); ended {
			out = append(out, strings.TrimRight(whole, "\r"))
		}
	}
	return out, err
}
