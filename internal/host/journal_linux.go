package host

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// journal asks journalctl(1), whose output as JSON is a documented format.
func (b *bus) journal(ctx context.Context, q journalQuery) ([]journalLine, error) {
	if asks() && !b.user {
		if lines, err := askJournal(b.name, q); err == nil {
			return lines, nil
		}
		// Of a unit that is not this user's, root reads nothing for them: what they may read themselves.
	}
	return readJournal(ctx, b.name, b.user, q)
}

func (b *bus) follow(ctx context.Context, q journalQuery, each func(journalLine)) error {
	if asks() && !b.user && askRoot(asked{Unit: b.name, Do: "journal", Query: &journalQuery{Last: 1}}) == nil {
		return askFollow(ctx, b.name, q, each)
	}
	return followJournal(ctx, b.name, b.user, q, each)
}

// mostRead bounds what is read of the journal at once, in bytes.
const mostRead = 16 << 20

// journalctl is the command that answers a query about a unit.
func journalctl(ctx context.Context, unit string, user bool, q journalQuery) *exec.Cmd {
	args := []string{"-o", "json", "--no-pager", "-q", "--output-fields=MESSAGE"}
	switch {
	case q.Cursor != "":
		args = append(args, "--after-cursor="+q.Cursor)
	case !q.Since.IsZero():
		args = append(args, fmt.Sprintf("--since=@%d.%06d", q.Since.Unix(), q.Since.Nanosecond()/1000))
	}
	if q.Last > 0 {
		args = append(args, "-n", strconv.Itoa(q.Last))
	}
	field := "_SYSTEMD_UNIT"
	if user {
		args, field = append(args, "--user"), "_SYSTEMD_USER_UNIT"
	}
	args = append(args, field+"="+unit)
	if q.Runs != "" {
		args = append(args, "_SYSTEMD_INVOCATION_ID="+q.Runs)
	}
	program := "/usr/bin/journalctl" // root's has no search path
	if _, err := os.Stat(program); err != nil {
		program = "/bin/journalctl"
	}
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "XDG_RUNTIME_DIR=" + os.Getenv("XDG_RUNTIME_DIR")}
	return cmd
}

func readJournal(ctx context.Context, unit string, user bool, q journalQuery) (out []journalLine, err error) {
	cmd := journalctl(ctx, unit, user, q)
	var wrong bytes.Buffer
	cmd.Stderr = &wrong
	r, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("read the journal: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(r, mostRead))
	cmd.Process.Kill()
	waited := cmd.Wait()
	if err == nil && len(text) < mostRead && waited != nil && wrong.Len() > 0 {
		err = fmt.Errorf("read the journal: %s", strings.TrimSpace(wrong.String()))
	}
	entries(bytes.NewReader(text), func(l journalLine) { out = append(out, l) })
	return out, err
}

// followJournal reads what a query finds, and what comes, for as long as ctx or the command lasts.
func followJournal(ctx context.Context, unit string, user bool, q journalQuery, each func(journalLine)) error {
	cmd := journalctl(ctx, unit, user, q)
	cmd.Args = slices.Insert(cmd.Args, 1, "--follow")
	if q.Last == 0 {
		cmd.Args = slices.Insert(cmd.Args, 1, "--no-tail") // all that the query finds, not the last ten lines
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} // it would only notice with the next line
	var wrong bytes.Buffer
	cmd.Stderr = &wrong
	r, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("follow the journal: %w", err)
	}
	entries(r, each)
	cmd.Process.Kill()
	if cmd.Wait(); wrong.Len() > 0 && ctx.Err() == nil {
		return fmt.Errorf("follow the journal: %s", strings.TrimSpace(wrong.String()))
	}
	return nil
}

// entries reads the entries of a journal as JSON, one on each line.
func entries(r io.Reader, each func(journalLine)) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, mostEnd)
	for lines.Scan() {
		var e struct {
			Cursor  string          `json:"__CURSOR"`
			Message json.RawMessage `json:"MESSAGE"`
		}
		if json.Unmarshal(lines.Bytes(), &e) != nil {
			continue
		}
		for _, l := range strings.Split(message(e.Message), "\n") {
			each(journalLine{e.Cursor, l})
		}
	}
}

// message is an entry's text, which is a list of bytes where it is no UTF-8.
func message(raw json.RawMessage) string {
	var s string
	if json.Unmarshal(raw, &s) == nil {
		return s
	}
	var list []int
	if json.Unmarshal(raw, &list) != nil {
		return ""
	}
	b := make([]byte, len(list))
	for i, n := range list {
		b[i] = byte(n)
	}
	return string(b)
}
