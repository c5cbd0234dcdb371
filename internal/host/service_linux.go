package host

import (
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
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
	at, open := &lines.system, dbus.NewSystemConnectionContext
	if b.user {
		at, open = &lines.user, dbus.NewUserConnectionContext
	}
	if *at != nil && (*at).Connected() {
		return *at, nil
	}
	c, err := open(ctx)
	if err != nil && b.user {
		name := strconv.Itoa(os.Geteuid())
		if u, uerr := user.Current(); uerr == nil {
			name = u.Username
		}
		return nil, fmt.Errorf("the service manager of %s's own, which [host] user = true names, can't be reached: %w; it runs while "+
			"%[1]s is logged in, or always with: sudo loginctl enable-linger %[1]s", name, err)
	}
	if err != nil {
		return nil, fmt.Errorf("the system's service manager, which [host] unit names a service of, can't be reached: %w",
			err)
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
	u.Groups, _ = p["SupplementaryGroups"].([]string)
	if g := text("Group"); g != "" {
		u.Groups = append(u.Groups, g)
	}
	u.Gives = gives(p)
	u.bounds(p)
	u.runs(p)
	return u
}

// bounds reads what keeps a unit from starting, how it is stopped, and what stops with it.
func (u *Unit) bounds(p map[string]any) {
	for _, row := range rowsOf(p["Asserts"]) { // type, or, not, what
		if len(row) > 3 {
			what, _ := row[3].(string)
			if kind, not := row[0], row[2]; kind == "AssertPathExists" && not == true {
				u.Asserted = append(u.Asserted, what)
			}
		}
	}
	u.Kill, u.Signal = textOf(p["KillMode"]), signalOf(p["KillSignal"])
	u.Stops = len(rowsOf(p["ExecStop"])) > 0
	u.Kills, _ = p["SendSIGKILL"].(bool)
	if n, ok := p["TimeoutStopUSec"].(uint64); ok && n < 1<<62 {
		u.Within = time.Duration(n) * time.Microsecond
	}
	for _, key := range []string{"RequiredBy", "BoundBy", "ConsistsOf"} {
		names, _ := p[key].([]string)
		u.Bound = append(u.Bound, names...)
	}
	slices.Sort(u.Bound)
	u.Bound = slices.Compact(u.Bound)
}

func textOf(v any) string { s, _ := v.(string); return s }

func signalOf(v any) int { n, _ := v.(int32); return int(n) }

func rowsOf(v any) [][]any { rows, _ := v.([][]any); return rows }

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
	if err := b.noteBound(ctx); err != nil {
		return fmt.Errorf("note the units that stop with %s: %w", b.name, err)
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

// unitAnswer is what root does for the user that a command has become: it starts, stops or
// reads the unit of that user's own server, and of no other. dir and real are the install's folder, as
// the command names it and without links.
func unitAnswer(q asked, o Owner, dir, real string) (lines []journalLine, err error) {
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
	if err := theirs(u, o, dir, real); err != nil {
		return nil, fmt.Errorf("%w; by hand: %s", err, byHand(q.Do, u.Name))
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
	case "may write":
		return nil, m.mayWrite(ctx)
	case "start bound":
		bound := &bus{name: u.Name}
		started, failed, err := bound.startBound(ctx)
		for _, name := range started {
			lines = append(lines, journalLine{Text: "+" + name})
		}
		for _, why := range failed {
			lines = append(lines, journalLine{Text: "-" + why})
		}
		return lines, err
	case "may guard":
		return nil, m.mayGuard(ctx)
	case "unguard":
		return nil, m.guard(ctx, nil)
	case "guard":
		if q.Guard == nil {
			return nil, errors.New("nothing is asked")
		}
		g := *q.Guard
		if !tree.Inside(filepath.Join(dir, tree.StateFolder), g.Mark) || filepath.Clean(g.Mark) != g.Mark {
			return nil, fmt.Errorf("%s is no mark of %s", g.Mark, dir)
		}
		if g.self, err = os.Executable(); err != nil {
			return nil, err
		}
		g.dir, g.Need = dir, nil
		return nil, m.guard(ctx, &g)
	case "write":
		if len(q.Words) > 0 {
			if err := fullPath(q.Words); err != nil {
				return nil, err
			}
			if err := ownLine(q.Words, u.Dir, dir, real); err != nil {
				return nil, fmt.Errorf("the line that %s is to have %w: root does not write it", u.Name, err)
			}
		}
		return nil, m.write(ctx, q.Words)
	case "journal", "follow":
		if q.Query == nil {
			return nil, errors.New("nothing is asked")
		}
		if q.Do == "follow" { // it is the user's own: the rest is the caller's
			return nil, nil
		}
		return m.journal(ctx, *q.Query)
	}
	return nil, errors.New("that is not answered")
}
