package host

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"freshkeel/internal/tree"

	"github.com/coreos/go-systemd/v22/dbus"
	gobus "github.com/godbus/dbus/v5"
	"golang.org/x/sys/unix"
)

// bus is systemd by its public interface on the bus (org.freedesktop.systemd1(5)).
type bus struct {
	name string
	user bool
}

// lines are this process's connections to the bus of the system and to the user's own: one each,
// as a bus gives a user no more than some hundreds.
var lines struct {
	sync.Mutex
	system, user *dbus.Conn
}

// conn is the connection, opened anew where the bus was restarted meanwhile.
func (b *bus) conn() (*dbus.Conn, error) {
	ctx := context.Background() // which the connection ends with
	lines.Lock()
	defer lines.Unlock()
	at, open, whose := &lines.system, dbus.NewSystemConnectionContext, "the system's"
	if b.user {
		at, open, whose = &lines.user, dbus.NewUserConnectionContext, "your own"
	}
	if *at != nil && (*at).Connected() {
		return *at, nil
	}
	c, err := open(ctx)
	if err != nil {
		return nil, fmt.Errorf(
			"%s service manager, which [host] unit names a service of, can't be reached: %w",
			whose,
			err,
		)
	}
	*at = c
	return c, nil
}

func openManager(name string, user bool) (manager, error) {
	b := &bus{name: name, user: user}
	_, err := b.conn()
	return b, err
}

// unit reads the unit's properties, which anybody may.
func (b *bus) unit(ctx context.Context) (*Unit, error) {
	c, err := b.conn()
	if err != nil {
		return nil, err
	}
	p, err := c.GetAllPropertiesContext(ctx, b.name)
	if err != nil {
		return nil, fmt.Errorf("ask for the service %s: %w", b.name, err)
	}
	return unitFrom(b.name, b.user, p), nil
}

// unitFrom reads what the manager says of a unit.
func unitFrom(name string, own bool, p map[string]any) *Unit {
	text := func(key string) string { s, _ := p[key].(string); return s }
	number := func(key string) int64 {
		switch n := p[key].(type) {
		case int32:
			return int64(n)
		case uint32:
			return int64(n)
		case uint64:
			return int64(n)
		}
		return 0
	}
	when := func(key string) time.Time {
		if n := number(key); n > 0 {
			return time.UnixMicro(n)
		}
		return time.Time{}
	}
	u := &Unit{Name: name, User: own, Active: text("ActiveState"), Sub: text("SubState"), Type: text("Type"),
		Restart: text(
			"Restart",
		), Restarts: int(number("NRestarts")), Main: int(number("MainPID")), Result: text("Result"),
		Code: int(number("ExecMainCode")), Status: int(number("ExecMainStatus")), Group: text("ControlGroup"),
		Owner: text("User"), Dir: text("WorkingDirectory"), File: text("FragmentPath"),
		Began: when("ExecMainStartTimestamp"), Ended: when("ExecMainExitTimestamp")}
	u.Stays, _ = p["RemainAfterExit"].(bool)
	u.Known, u.Masked = text("LoadState") == "loaded", text("LoadState") == "masked"
	if !u.Known {
		u.Why = "it is " + text("LoadState")
		if e, ok := p["LoadError"].([]any); ok && len(e) == 2 && fmt.Sprint(e[1]) != "" {
			u.Why += ": " + fmt.Sprint(e[1])
		}
	}
	if id, ok := p["InvocationID"].([]byte); ok {
		u.Runs = hex.EncodeToString(id)
	}
	if j, ok := p["Job"].([]any); ok && len(j) > 0 {
		n, _ := j[0].(uint32)
		u.Job = n != 0
	}
	if t := when("InactiveEnterTimestamp"); t.After(u.Ended) {
		u.Ended = t
	}
	if m, ok := p["MemoryMax"].(uint64); ok && m < 1<<62 {
		u.Memory = int64(m)
	}
	if n, ok := p["LimitNOFILESoft"].(uint64); ok && n < 1<<31 {
		u.Files = int(n)
	}
	u.Dir = strings.TrimPrefix(u.Dir, "!") // one that may be missing
	if u.Dir == "~" {
		owner, err := user.Lookup(cmp.Or(u.Owner, "root"))
		if u.User {
			owner, err = user.Current()
		}
		if u.Dir = "/"; err == nil {
			u.Dir = owner.HomeDir
		}
	}
	u.Locked = text("ProtectSystem") == "strict"
	u.Writes, _ = p["ReadWritePaths"].([]string)
	u.runs(p)
	return u
}

// runs reads what the manager says of what a unit runs: its lines, its environment.
func (u *Unit) runs(p map[string]any) {
	u.Env, _ = p["Environment"].([]string)
	files, _ := p["EnvironmentFiles"].([][]any)
	for _, row := range files {
		if len(row) > 0 {
			at, _ := row[0].(string)
			u.EnvFiles = append(u.EnvFiles, at)
		}
	}
	u.Output, _ = p["StandardOutput"].(string)
	rows, _ := p["ExecStart"].([][]any)
	for _, row := range rows {
		if len(row) < 2 {
			continue
		}
		path, _ := row[0].(string)
		argv, _ := row[1].([]string)
		if path != "" && len(argv) > 0 {
			u.Lines = append(u.Lines, append([]string{path}, argv[1:]...))
			if argv[0] != path {
				u.Odd = "its program is told another name (@)"
			}
		}
	}
	u.Laid, _ = p["DropInPaths"].([]string)
	with, _ := p["ExecStartEx"].([][]any)
	for _, row := range with {
		flags, _ := row[min(2, len(row)-1)].([]string)
		others := slices.DeleteFunc(slices.Clone(flags), func(f string) bool { return f == "ignore-failure" })
		u.Lenient = len(others) < len(flags)
		if len(others) > 0 {
			u.Odd = "its line has rules of its own: " + strings.Join(others, ", ")
		}
	}
	if len(u.Lines) != 1 {
		u.Odd = fmt.Sprintf("it runs %d lines", len(u.Lines))
	}
}

// Errors by which the bus says that somebody may not do something.
var denied = []string{"org.freedesktop.DBus.Error.AccessDenied",
	"org.freedesktop.DBus.Error.InteractiveAuthorizationRequired", "org.freedesktop.DBus.Error.AuthFailed"}

// Forbidden says that this user may not start and stop a unit, and what would let them.
type Forbidden struct {
	Unit, User string
	why        error
}

func (f *Forbidden) Error() string {
	return fmt.Sprintf("%s may not start and stop the service %s: %v", f.User, f.Unit, f.why)
}

func (f *Forbidden) Unwrap() error { return f.why }

// Do is what lets the user.
func (f *Forbidden) Do() string {
	return fmt.Sprintf("run the command with sudo; or let the user do it, by a file "+
		"/etc/polkit-1/rules.d/50-freshkeel.rules with the line: polkit.addRule(function(a, s) { if (a.id == "+
		"\"org.freedesktop.systemd1.manage-units\" && a.lookup(\"unit\") == %q && s.user == %q) return "+
		"polkit.Result.YES; });", f.Unit, f.User)
}

func (b *bus) allowed(err error) error {
	var e gobus.Error
	if errors.As(err, &e) && slices.Contains(denied, e.Name) {
		who := "user " + strconv.Itoa(os.Geteuid())
		if u, err := user.Current(); err == nil {
			who = u.Username
		}
		return &Forbidden{Unit: b.name, User: who, why: errors.New(e.Error())}
	}
	return err
}

func (b *bus) begin(ctx context.Context) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "start"})
	}
	c, err := b.conn()
	if err != nil {
		return err
	}
	// A build that died again and again has used up how often its unit may be started; the one
	// that is started now is another. One that is not failed has nothing to reset.
	_ = c.ResetFailedUnitContext(ctx, b.name)
	_, err = c.StartUnitContext(ctx, b.name, "replace", nil)
	return b.allowed(err)
}

func (b *bus) end(ctx context.Context) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "stop"})
	}
	c, err := b.conn()
	if err != nil {
		return err
	}
	_, err = c.StopUnitContext(ctx, b.name, "replace", nil)
	return b.allowed(err)
}

func (b *bus) kill(ctx context.Context) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "kill"})
	}
	c, err := b.conn()
	if err != nil {
		return err
	}
	return b.allowed(c.KillUnitWithTarget(ctx, b.name, dbus.All, int32(syscall.SIGKILL)))
}

// may asks the manager to set nothing of the unit: whether that is allowed is what decides
// about starting and stopping, too.
func (b *bus) may(ctx context.Context) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "may"})
	}
	c, err := b.conn()
	if err != nil {
		return err
	}
	return b.allowed(c.SetUnitPropertiesContext(ctx, b.name, true))
}

// journal asks journalctl(1), whose output as JSON is a documented format.
func (b *bus) journal(ctx context.Context, q journalQuery) ([]journalLine, error) {
	if asks() && !b.user {
		return askJournal(b.name, q)
	}
	return readJournal(ctx, b.name, b.user, q)
}

func (b *bus) follow(ctx context.Context, q journalQuery, each func(journalLine)) error {
	if asks() && !b.user {
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

// groupProcesses lists the processes of a control group and those below it.
func groupProcesses(group string) (pids []int) {
	if filepath.Clean(group) != group || group == "/" {
		return nil
	}
	for _, root := range []string{"/sys/fs/cgroup", "/sys/fs/cgroup/unified", "/sys/fs/cgroup/systemd"} {
		filepath.WalkDir(filepath.Join(root, group), func(at string, d fs.DirEntry, err error) error {
			if err != nil || d.Name() != "cgroup.procs" {
				return nil
			}
			b, err := tree.ReadUpTo(at, mostSaid)
			if err != nil {
				return nil
			}
			for _, f := range strings.Fields(string(b)) {
				if n, err := strconv.Atoi(f); err == nil && n > 0 {
					pids = append(pids, n)
				}
			}
			return nil
		})
		if len(pids) > 0 {
			break
		}
	}
	slices.Sort(pids)
	return slices.Compact(pids)
}

func signalName(n int) string { return syscall.Signal(n).String() }

// intoConsole writes to a named pipe or a socket, which somebody must read.
func intoConsole(at, text string) error {
	fi, err := os.Stat(at)
	if err != nil {
		return err
	}
	if fi.Mode()&fs.ModeSocket != 0 {
		c, err := net.DialTimeout("unix", at, sendLimit)
		if err != nil {
			return err
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(sendLimit))
		_, err = c.Write([]byte(text))
		return err
	}
	if fi.Mode()&fs.ModeNamedPipe == 0 {
		return fmt.Errorf("%s is neither a named pipe nor a socket", at)
	}
	f, err := os.OpenFile(at, os.O_WRONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return fmt.Errorf("nobody reads %s: %w", at, err)
	}
	defer f.Close()
	f.SetWriteDeadline(time.Now().Add(sendLimit))
	_, err = f.Write([]byte(text))
	return err
}

// unitName is a service's name, as systemd.unit(5) allows it.
var unitName = regexp.MustCompile(`^[A-Za-z0-9:_.@\\-]+\.service$`)

// dropInFile is where a drop-in of ours stands.
func (b *bus) dropInFile() (string, error) {
	if !unitName.MatchString(b.name) {
		return "", fmt.Errorf("%q is no service's name", b.name)
	}
	dir := "/etc/systemd/system"
	if b.user {
		own, err := os.UserConfigDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(own, "systemd/user")
	}
	return filepath.Join(dir, b.name+".d", dropInName), nil
}

// over reads the drop-in of ours, and the lines that it stands over.
func (b *bus) over(ctx context.Context) (*Over, error) {
	at, err := b.dropInFile()
	if err != nil {
		return nil, err
	}
	u, err := b.unit(ctx)
	if err != nil {
		return nil, err
	}
	o := &Over{File: at}
	var texts []string
	for _, f := range append([]string{u.File}, u.Laid...) {
		if f == "" || f == at {
			continue
		}
		text, err := tree.ReadUpTo(f, mostUnit)
		if err != nil {
			return nil, err
		}
		texts = append(texts, string(text))
	}
	o.Now = baseLines(texts...)
	text, err := tree.ReadUpTo(at, mostUnit)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return o, nil
	case err != nil:
		return nil, err
	}
	var ours bool
	if o.Words, o.Base, ours = readDropIn(string(text)); !ours {
		return nil, fmt.Errorf("%s was written or changed by somebody else, and is not touched", at)
	}
	return o, nil
}

// mostUnit bounds a unit's file, in bytes.
const mostUnit = 1 << 20

func (b *bus) mayWrite(ctx context.Context) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "may write"})
	}
	o, err := b.over(ctx)
	if err != nil {
		return err
	}
	u, err := b.unit(ctx)
	if err != nil {
		return err
	}
	if u.Odd != "" {
		return errors.New(u.Odd)
	}
	if err := unix.Access(existing(filepath.Dir(o.File)), unix.W_OK); err != nil {
		return fmt.Errorf("%s can't be written: %w", o.File, err)
	}
	return nil
}

// write has the unit run words by a drop-in, or takes that away, and has the manager read its
// units anew.
func (b *bus) write(ctx context.Context, words []string) error {
	if asks() && !b.user {
		return askRoot(asked{Unit: b.name, Do: "write", Words: words})
	}
	o, err := b.over(ctx)
	if err != nil {
		return err
	}
	u, err := b.unit(ctx)
	if err != nil {
		return err
	}
	if len(words) == 0 {
		if err := os.Remove(o.File); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		os.Remove(filepath.Dir(o.File)) // where nothing else is in it
	} else {
		if !strings.HasPrefix(words[0], "/") { // a sign in front of it would be a rule: that it runs as root, say
			return fmt.Errorf("%q is no full path", words[0])
		}
		if err := os.MkdirAll(filepath.Dir(o.File), 0o755); err != nil {
			return err
		}
		if err := tree.WriteFile(o.File, []byte(dropIn(words, u.Lenient, o.Now)), 0o644); err != nil {
			return err
		}
	}
	if err := tree.SyncDir(existing(filepath.Dir(o.File))); err != nil {
		return err
	}
	c, err := b.conn()
	if err != nil {
		return err
	}
	return b.allowed(c.ReloadContext(ctx))
}

// existing is the nearest folder above that is there.
func existing(dir string) string {
	for {
		if _, err := os.Stat(dir); err == nil || dir == "/" {
			return dir
		}
		dir = filepath.Dir(dir)
	}
}

// unitAnswer is what root does for the user that a command has become: it starts, stops or
// reads the unit of that user's own server, and of no other.
func unitAnswer(q asked, uid int, dir string) (lines []journalLine, err error) {
	m, err := openManager(q.Unit, false)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), busLimit)
	defer cancel()
	u, err := m.unit(ctx)
	if err != nil {
		return nil, err
	}
	if err := theirs(u, uid, dir); err != nil {
		return nil, err
	}
	switch q.Do {
	case "start":
		return nil, m.begin(ctx)
	case "stop":
		return nil, m.end(ctx)
	case "kill":
		return nil, m.kill(ctx)
	case "may":
		return nil, nil
	case "may write", "write":
		// A drop-in of ours was written when the line was looked at; what it names may be gone.
		if o, err := m.over(ctx); err != nil || o.Words == nil {
			if err := errors.Join(err, runsTheirs(u, dir)); err != nil {
				return nil, err
			}
		}
		if q.Do == "may write" {
			return nil, m.mayWrite(ctx)
		}
		return nil, m.write(ctx, q.Words)
	case "journal", "follow":
		if q.Query == nil {
			return nil, errors.New("nothing is asked")
		}
		if q.Do == "follow" { // it is the user's own: the rest is Answer's
			return nil, nil
		}
		return m.journal(ctx, *q.Query)
	}
	return nil, errors.New("that is not answered")
}

// theirs looks whether a unit runs as a user, from the user's install.
func theirs(u *Unit, uid int, dir string) error {
	if !u.Known {
		return fmt.Errorf("the service %s: %s", u.Name, u.Why)
	}
	owner, err := user.LookupId(strconv.Itoa(uid))
	if u.Owner != strconv.Itoa(uid) && (err != nil || u.Owner != owner.Username) {
		return fmt.Errorf("the service %s runs as %q, and %s belongs to user %d: root does not touch it for that user",
			u.Name, u.Owner, dir, uid)
	}
	inside := tree.Inside(dir, u.Dir)
	for _, line := range u.Lines {
		for _, w := range line {
			inside = inside || w == dir || strings.Contains(w, dir+"/") // in a shell's words, too
		}
	}
	if !inside {
		return fmt.Errorf(
			"the service %s runs nothing of %s, nor in it: root does not touch it for the user of that folder",
			u.Name,
			dir,
		)
	}
	return nil
}

// runsTheirs looks whether what a unit runs is a file of the user's install, by its line: a user
// whose own file it is decides about that already. Of any other, the line is root's to write.
func runsTheirs(u *Unit, dir string) error {
	if u.Odd != "" {
		return errors.New(u.Odd)
	}
	for _, w := range u.Lines[0] {
		at := w
		if !filepath.IsAbs(at) {
			at = filepath.Join(u.Dir, w)
		}
		if fi, err := os.Lstat(at); tree.Inside(dir, filepath.Clean(at)) && err == nil && fi.Mode().IsRegular() {
			return nil
		}
	}
	return fmt.Errorf("the service %s runs no file of %s: its line is not written for the user of that folder", u.Name,
		dir)
}
