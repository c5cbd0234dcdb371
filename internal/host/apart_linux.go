package host

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// nobody is who a program that root runs apart becomes: it never is root.
const nobody = 65534

// shutOff has a command begin in namespaces of its own (namespaces(7)): of users, so that
// nobody needs rights for it, of mounts, processes, network and the rest. It keeps two
// capabilities within them, to set its mounts and its own network up.
func shutOff(cmd *exec.Cmd) error {
	uid, gid := os.Geteuid(), os.Getegid()
	attr := &syscall.SysProcAttr{
		Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWNET |
			syscall.CLONE_NEWIPC | syscall.CLONE_NEWUTS,
		AmbientCaps: []uintptr{unix.CAP_SYS_ADMIN, unix.CAP_NET_ADMIN},
		Setsid:      true, Pdeathsig: syscall.SIGKILL,
	}
	if uid == 0 {
		uid, gid = nobody, nobody
		attr.Credential = &syscall.Credential{Uid: nobody, Gid: nobody, NoSetGroups: true}
	}
	attr.UidMappings = []syscall.SysProcIDMap{{ContainerID: uid, HostID: uid, Size: 1}}
	attr.GidMappings = []syscall.SysProcIDMap{{ContainerID: gid, HostID: gid, Size: 1}}
	cmd.SysProcAttr = attr
	return nil
}

// ApartDir is a folder in which a program that is run apart may have its own: one that whoever
// it will be comes to. "" leaves it to the caller.
func ApartDir() string {
	if os.Geteuid() == 0 {
		return os.TempDir()
	}
	return ""
}

// OwnApart gives a folder to whoever a program that is run apart will be.
func OwnApart(dir string) error {
	if os.Geteuid() != 0 {
		return nil
	}
	return filepath.WalkDir(dir, func(at string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(at, nobody, nobody)
	})
}

// BeApart is the life of the process that shuts itself off: the first of its namespace of
// processes, so that all others end with it. It reads an Apart from the file with the number
// 3. It returns the program's status.
func BeApart(in, out, errs *os.File) int {
	runtime.LockOSThread() // what a thread gives up here, the program that it starts does not have
	var a Apart
	order := os.NewFile(3, "order")
	err := json.NewDecoder(order).Decode(&a)
	order.Close()
	if err == nil {
		err = a.enter()
	}
	if err != nil {
		fmt.Fprintf(errs, "freshkeel: %v\n", err)
		return apartFailed
	}
	cmd := exec.Command(a.Argv[0], a.Argv[1:]...)
	cmd.Dir, cmd.Env = a.At, a.Env
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, errs
	ends := make(chan os.Signal, 1)
	signal.Notify(ends, syscall.SIGTERM)
	if err := cmd.Start(); err != nil {
		fmt.Fprintf(errs, "freshkeel: %v\n", err)
		return apartFailed
	}
	go func() {
		for range ends {
			unix.Kill(-1, unix.SIGTERM) // all of the namespace but this one
		}
	}()
	status := 0
	for { // orphans come to the first process
		var ws syscall.WaitStatus
		pid, err := syscall.Wait4(-1, &ws, 0, nil)
		switch {
		case errors.Is(err, syscall.EINTR):
		case err != nil: // none is left
			return status
		case pid == cmd.Process.Pid && ws.Exited():
			status = ws.ExitStatus()
		case pid == cmd.Process.Pid:
			status = 1
		}
	}
}

// enter makes the namespaces what the program is to see: nothing to write to but its folder,
// which stands where the install does; its own processes; a network of itself.
func (a Apart) enter() error {
	doing := func(what string, err error) error {
		if err == nil {
			return nil
		}
		return fmt.Errorf("%s: %w", what, err)
	}
	if err := doing("take the mounts apart", unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, "")); err != nil {
		return err
	}
	own, err := unix.Open(a.Dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0) // before anything hides it
	if err != nil {
		return doing("open its folder", err)
	}
	below := func(dir string) bool {
		for _, p := range append([]string{a.At}, a.Argv...) {
			if strings.HasPrefix(p, dir+"/") {
				return true
			}
		}
		for _, kv := range a.Env { // where programs are looked for
			if name, v, _ := strings.Cut(kv, "="); (name == "PATH" || name == "JAVA_HOME") &&
				strings.Contains(v, dir+"/") {
				return true
			}
		}
		return false
	}
	for _, dir := range []string{"/tmp", "/var/tmp", "/dev/shm"} {
		if _, err := os.Stat(dir); err == nil && !below(dir) {
			if err := doing("give it a folder of its own for "+dir, unix.Mount("none", dir, "tmpfs",
				unix.MS_NOSUID|unix.MS_NODEV, "size=256m,mode=1777")); err != nil {
				return err
			}
		}
	}
	if err := doing("make a way to its folder", reach(a.At)); err != nil {
		return err
	}
	if err := doing("put its folder in the install's place", unix.Mount("/proc/self/fd/"+strconv.Itoa(own), a.At, "",
		unix.MS_BIND, "")); err != nil {
		return err
	}
	unix.Close(own)
	readOnly := func(at string, recursive uint, attr *unix.MountAttr) error {
		return unix.MountSetattr(unix.AT_FDCWD, at, recursive, attr)
	}
	if err := doing("make all else read-only", readOnly("/", unix.AT_RECURSIVE,
		&unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY})); err != nil {
		return err
	}
	writable := []string{a.At}
	for _, dir := range []string{"/tmp", "/var/tmp", "/dev/shm"} {
		if !below(dir) {
			writable = append(writable, dir)
		}
	}
	for _, dir := range writable {
		if err := readOnly(dir, 0, &unix.MountAttr{Attr_clr: unix.MOUNT_ATTR_RDONLY}); err != nil && dir == a.At {
			return doing("let it write to its folder", err)
		}
	}
	// Where the system hides parts of /proc it lets nobody mount another one; the one that is
	// there shows numbers of processes, none of which can be reached from here.
	_ = unix.Mount("proc", "/proc", "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "")
	_ = loopbackUp()
	if err := doing("bound its files", unix.Setrlimit(unix.RLIMIT_FSIZE, &unix.Rlimit{Cur: 2 << 30, Max: 2 << 30})); err != nil {
		return err
	}
	_ = unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	if err := doing("give up rights", unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)); err != nil {
		return err
	}
	return doing("give up rights", unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0))
}

// reach lets this process come to a folder that lies behind one which it may not enter: an empty
// one takes the place of that, and hides nothing that could be reached.
func reach(at string) error {
	var above []string
	for dir := at; dir != "/"; dir = filepath.Dir(dir) {
		above = append(above, dir)
	}
	for i := len(above) - 1; i >= 0; i-- {
		if unix.Access(above[i], unix.X_OK) == nil {
			continue
		}
		if i == 0 { // the folder itself, in the place of which another comes
			return nil
		}
		if err := unix.Mount("none", above[i], "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "size=1m,mode=755"); err != nil {
			return err
		}
		return os.MkdirAll(at, 0o755)
	}
	return nil
}

// loopbackUp switches the one device of a new network on (netdevice(7)): servers talk to
// themselves.
func loopbackUp() error {
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(s)
	var req struct {
		name  [unix.IFNAMSIZ]byte
		flags uint16
		_     [22]byte
	}
	copy(req.name[:], "lo")
	req.flags = unix.IFF_UP | unix.IFF_RUNNING
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, uintptr(s), unix.SIOCSIFFLAGS, uintptr(unsafe.Pointer(&req))); e != 0 {
		return e
	}
	return nil
}

// termApart asks all processes of a program that runs apart to end.
func termApart(cmd *exec.Cmd) {
	if cmd.SysProcAttr != nil && cmd.SysProcAttr.Cloneflags != 0 {
		cmd.Process.Signal(syscall.SIGTERM)
		return
	}
	syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
}

// killApart ends all processes of a program that runs apart.
func killApart(cmd *exec.Cmd) {
	if cmd.SysProcAttr != nil && cmd.SysProcAttr.Cloneflags != 0 {
		cmd.Process.Kill() // the others of its namespace end with it
		return
	}
	syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
}
