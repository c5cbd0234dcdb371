package host

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/user"
	"slices"
	"strconv"
	"sync"
	"time"
)

// Owner is a user of this machine that root can become.
type Owner struct {
	UID, GID int
	Groups   []int
	Name     string // "user 1001" where it has none
	Home     string // "" where it has none
}

// OwnerOf looks a user up. A user without a name, of a container's, say, has the
// group that is given and no home.
func OwnerOf(uid, gid int) Owner {
	o := Owner{UID: uid, GID: gid, Groups: []int{gid}, Name: fmt.Sprintf("user %d", uid)}
	u, err := user.LookupId(strconv.Itoa(uid))
	if err != nil {
		return o
	}
	o.Name, o.Home = u.Username, u.HomeDir
	if n, err := strconv.Atoi(u.Gid); err == nil {
		o.GID, o.Groups = n, []int{n}
	}
	if ids, err := u.GroupIds(); err == nil {
		for _, id := range ids {
			if n, err := strconv.Atoi(id); err == nil && !slices.Contains(o.Groups, n) {
				o.Groups = append(o.Groups, n)
			}
		}
	}
	return o
}

// asked is the one question that a process which was root may still put to root:
// which processes hold a port. Nothing else is answered.
type asked struct {
	Net  string `json:"net"`
	Port int    `json:"port"`
}

type answered struct {
	PIDs  []int  `json:"pids"`
	Error string `json:"error,omitempty"`
}

// mostAsked bounds a question and an answer, in bytes, and answerLimit how long
// one is waited for.
const (
	mostAsked   = 64 << 10
	answerLimit = 5 * time.Second
)

// Answer is the whole life of the process that stays root when the command
// becomes an install's owner. It reads questions from in until that ends, and
// looks at nothing but the system's table of connections.
func Answer(in io.Reader, out io.Writer) error {
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 0, 4<<10), mostAsked)
	enc := json.NewEncoder(out)
	for lines.Scan() {
		var q asked
		var a answered
		err := json.Unmarshal(lines.Bytes(), &q)
		if err == nil && ((q.Net != "tcp" && q.Net != "udp") || q.Port < 1 || q.Port > 65535) {
			err = errors.New("not a port")
		}
		if err == nil {
			a.PIDs, err = portHolders(q.Net, q.Port)
		}
		if err != nil {
			a.Error = err.Error()
		}
		if err := enc.Encode(a); err != nil {
			return err
		}
	}
	return lines.Err()
}

// asker is the other end of Answer; nil: this process asks the system itself.
var asker struct {
	sync.Mutex
	in  io.WriteCloser
	out *bufio.Reader
}

// keepAnswers starts the process that stays root. It has no environment, and ends
// when this one does.
func keepAnswers(self []string) error {
	cmd := exec.Command(self[0], self[1:]...)
	cmd.Env, cmd.Dir = []string{}, "/"
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	asker.in, asker.out = in, bufio.NewReaderSize(out, mostAsked)
	return nil
}

// PortHolders lists the processes that hold a port; 0 stands for one that
// can't be seen from here.
func PortHolders(network string, port int) ([]int, error) {
	asker.Lock()
	defer asker.Unlock()
	if asker.in == nil {
		return portHolders(network, port)
	}
	got := make(chan answered, 1)
	go func() {
		var a answered
		if err := json.NewEncoder(asker.in).Encode(asked{network, port}); err != nil {
			a.Error = err.Error()
		} else if line, err := asker.out.ReadSlice('\n'); err != nil {
			a.Error = err.Error()
		} else if err := json.Unmarshal(line, &a); err != nil {
			a.Error = err.Error()
		}
		got <- a
	}()
	select {
	case a := <-got:
		if a.Error != "" {
			return portHolders(network, port) // what can be seen from here
		}
		return a.PIDs, nil
	case <-time.After(answerLimit):
		asker.in.Close()
		asker.in = nil
		return portHolders(network, port)
	}
}

// Become makes this process, which is root's, another user's for good, and leaves
// a process behind that answers for it which processes hold a port: answer is the
// command of that, see Answer.
func Become(o Owner, self string, answer []string) error {
	if err := keepAnswers(answer); err != nil {
		return fmt.Errorf("start what answers as root: %w", err)
	}
	if err := become(o); err != nil {
		return fmt.Errorf("become %s: %w", o.Name, err)
	}
	if f, err := os.Open(self); err != nil {
		return fmt.Errorf("%s can't run %s, which the server's minder is: %w", o.Name, self, err)
	} else {
		f.Close()
	}
	for _, name := range []string{"XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "XDG_DATA_HOME",
		"XDG_RUNTIME_DIR", "MAIL", "SUDO_COMMAND", "SUDO_USER", "SUDO_UID", "SUDO_GID"} {
		os.Unsetenv(name)
	}
	for name, value := range map[string]string{"HOME": o.Home, "USER": o.Name, "LOGNAME": o.Name} {
		if value == "" {
			os.Unsetenv(name)
			continue
		}
		os.Setenv(name, value)
	}
	return nil
}
