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
	"slices"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"freshkeel/internal/tree"

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
	if err == nil { // what runs here is the same user, and may not look into this process
		err = keepMemory()
	}
	if err != nil {
		fmt.Fprintf(errs, "freshkeel: %v\n", err)
		return apartFailed
	}
	if a.Note {
		return a.note(out, errs)
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
	if a.Memory > 0 {
		go boundSegments(a.Memory, errs)
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

// enter makes the namespaces what the program is to see: from an empty root on, what it needs and nothing
// else. So nothing of this machine can be reached by a path from there: no other install's console, no
// socket, no home.
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
	r, err := a.shown()
	if err != nil {
		return err
	}
	if err := doing("make an empty root", unix.Mount("none", newRoot, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV,
		"size=4m,mode=755")); err != nil {
		return err
	}
	for _, dir := range ownFolders {
		if err := doing("give it a folder of its own for "+dir, ownFolder(dir)); err != nil {
			return err
		}
	}
	for _, m := range r {
		if err := doing("show it "+m.at, m.show()); err != nil {
			return err
		}
	}
	a.shutWays(r)
	for at, text := range a.made() {
		if err := doing("make "+at, os.WriteFile(newRoot+at, []byte(text), 0o644)); err != nil {
			return err
		}
	}
	for name, to := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1",
		"stderr": "/proc/self/fd/2"} {
		if err := doing("make /dev/"+name, os.Symlink(to, newRoot+"/dev/"+name)); err != nil {
			return err
		}
	}
	if err := doing("show it its processes", ownProcesses()); err != nil {
		return err
	}
	if err := doing("leave the old root", leaveRoot()); err != nil {
		return err
	}
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

// newRoot is where the new root is put together: a folder that every system has. What is shown of the
// old one was opened before.
const newRoot = "/tmp"

// system are the folders of programs and libraries, fromEtc the files of /etc that runtimes and the loader
// read, and nodes the devices that are shown. Those that are not there are not shown.
var (
	system  = []string{"/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/nix/store", "/gnu/store"}
	fromEtc = []string{"ld.so.cache", "ld.so.conf", "ld.so.conf.d", "alternatives", "ssl", "pki", "ca-certificates", "localtime",
		"timezone", "host.conf", "nsswitch.conf", "protocols", "services", "mime.types", "fonts", "locale.alias", "terminfo", "mono",
		"dotnet", "python3", "perl", "crypto-policies"}
	nodes = []string{"null", "zero", "full", "random", "urandom"}
)

// shownMount is something of the old root that is shown in the new one: a link, or a file or folder that is
// open.
type shownMount struct {
	at       string
	link     string
	from     int
	dir      bool
	writable bool
}

// shown opens all that is shown. Of two, the one that holds the other comes first.
func (a Apart) shown() (out []shownMount, err error) {
	add := func(at, from string, must, writable bool) {
		m := shownMount{at: at, writable: writable}
		fi, lerr := os.Lstat(from)
		if lerr == nil && fi.Mode()&os.ModeSymlink != 0 && at == from && filepath.Dir(at) == "/" {
			m.link, _ = os.Readlink(from) // /bin, as most systems have it
			out = append(out, m)
			return
		}
		if m.from, lerr = unix.Open(from, unix.O_PATH|unix.O_CLOEXEC, 0); lerr != nil {
			if must {
				err = errors.Join(err, fmt.Errorf("open %s: %w", from, lerr))
			}
			return
		}
		var st unix.Stat_t
		if unix.Fstat(m.from, &st) == nil {
			m.dir = st.Mode&unix.S_IFMT == unix.S_IFDIR
		}
		out = append(out, m)
	}
	for _, at := range system {
		add(at, at, false, false)
	}
	for _, name := range fromEtc {
		add("/etc/"+name, "/etc/"+name, false, false)
	}
	for _, at := range javaConfig() {
		add(at, at, false, false)
	}
	for _, name := range nodes {
		add("/dev/"+name, "/dev/"+name, true, true)
	}
	for _, at := range a.Show {
		add(at, at, false, false)
	}
	add(a.At, a.Dir, true, true)
	for at, by := range a.Replace {
		add(at, by, true, false)
	}
	slices.SortStableFunc(out, func(a, b shownMount) int { return strings.Count(a.at, "/") - strings.Count(b.at, "/") })
	return out, err
}

// javaConfig are the configurations of Java runtimes that stand in /etc, to which links of theirs lead.
func javaConfig() []string {
	list, _ := filepath.Glob("/etc/java*")
	return list
}

// show mounts it at its place in the new root.
func (m shownMount) show() error {
	at := newRoot + m.at
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	if m.link != "" {
		return os.Symlink(m.link, at)
	}
	defer unix.Close(m.from)
	var err error
	if m.dir {
		err = os.MkdirAll(at, 0o755)
	} else if _, there := os.Lstat(at); there != nil {
		err = os.WriteFile(at, nil, 0o644)
	}
	if err != nil {
		return err
	}
	// with all that is mounted below: parts of it can't be taken off here
	if err := unix.Mount("/proc/self/fd/"+strconv.Itoa(m.from), at, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return err
	}
	attr := &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY | unix.MOUNT_ATTR_NOSUID}
	if m.writable {
		attr.Attr_set = unix.MOUNT_ATTR_NOSUID
	}
	return unix.MountSetattr(unix.AT_FDCWD, at, unix.AT_RECURSIVE, attr)
}

// shutWays takes from the folders on the way to what is shown, which were made for that, the right to
// write: a program that finds one is to find no more there.
func (a Apart) shutWays(list []shownMount) {
	for _, m := range list {
		for dir := filepath.Dir(m.at); dir != "/"; dir = filepath.Dir(dir) {
			if !slices.Contains(ownFolders, dir) && !tree.Inside(a.At, dir) && dir != "/etc" && dir != "/dev" {
				_ = os.Chmod(newRoot+dir, 0o555) // one that is the old root's is read-only, and stays as it is
			}
		}
	}
}

// ownFolders are those in memory that everybody writes to.
var ownFolders = []string{"/tmp", "/var/tmp", "/dev/shm"}

// ownFolder is a folder in memory that everybody writes to.
func ownFolder(dir string) error {
	if err := os.MkdirAll(newRoot+dir, 0o755); err != nil {
		return err
	}
	return unix.Mount("none", newRoot+dir, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, fmt.Sprintf("size=%d,mode=1777", ownFolderSize))
}

// ownFolderSize bounds each of those folders, in bytes.
const ownFolderSize = 256 << 20

// made are files of /etc that are made for it: who it is, and what its own machine is called.
func (a Apart) made() map[string]string {
	uid, gid := os.Geteuid(), os.Getegid()
	return map[string]string{
		"/etc/passwd": fmt.Sprintf("server:x:%d:%d:server:%s:/bin/sh\n", uid, gid, a.At),
		"/etc/group":  fmt.Sprintf("server:x:%d:\n", gid),
		"/etc/hosts":  "127.0.0.1 localhost\n::1 localhost\n",
	}
}

// ownProcesses mounts /proc. Where the system hides parts of it it lets nobody mount another one; the one
// that is there shows numbers of processes, none of which can be reached from here.
func ownProcesses() error {
	at := newRoot + "/proc"
	if err := os.MkdirAll(at, 0o755); err != nil {
		return err
	}
	if unix.Mount("proc", at, "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, "") == nil {
		return nil
	}
	return unix.Mount("/proc", at, "", unix.MS_BIND|unix.MS_REC, "")
}

// leaveRoot makes the new root the one of this process, and lets go of the old one.
func leaveRoot() error {
	if err := os.Chdir(newRoot); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil { // the old one comes over the new one (pivot_root(2))
		return err
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return err
	}
	if err := os.Chdir("/"); err != nil {
		return err
	}
	return unix.MountSetattr(unix.AT_FDCWD, "/", 0, &unix.MountAttr{Attr_set: unix.MOUNT_ATTR_RDONLY})
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
