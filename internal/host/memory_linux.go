package host

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// memoryHeld is what processes hold of the machine's memory, in bytes, where no group bounds it: anonymous
// and shared memory and what of it is swapped out, memory files by their blocks, and folders in memory
// by what is in them. Pages of files, which the system can drop, do not count. all is false where
// something of one can't be seen.
func memoryHeld(pids []int) (sum int64, all bool) {
	type file struct{ dev, inode uint64 }
	files, all := map[file]int64{}, true
	folders := map[uint64]int64{}
	for _, pid := range pids {
		dir := "/proc/" + strconv.Itoa(pid)
		status, err := os.ReadFile(dir + "/status")
		if err != nil {
			continue // it has ended
		}
		sum += statusBytes(status)
		list, err := os.ReadDir(dir + "/fd")
		if err != nil && statusState(status) != 'Z' {
			all = all && (errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ESRCH))
			continue
		}
		for _, e := range list {
			to, err := os.Readlink(filepath.Join(dir, "fd", e.Name()))
			if err != nil || !strings.HasPrefix(to, "/memfd:") {
				continue
			}
			var st unix.Stat_t
			if unix.Stat(filepath.Join(dir, "fd", e.Name()), &st) == nil {
				files[file{uint64(st.Dev), st.Ino}] = st.Blocks * 512
			}
		}
		for _, own := range ownFolders {
			var held unix.Statfs_t
			var st unix.Stat_t
			at := dir + "/root" + own
			if unix.Statfs(at, &held) == nil && held.Type == unix.TMPFS_MAGIC && unix.Stat(at, &st) == nil {
				folders[uint64(st.Dev)] = int64(held.Blocks-held.Bfree) * held.Bsize
			}
		}
	}
	for _, n := range files {
		sum += n
	}
	for _, n := range folders {
		sum += n
	}
	return sum, all
}

// statusBytes are the sizes in /proc/PID/status that count (proc_pid_status(5)).
func statusBytes(status []byte) (sum int64) {
	for s := bufio.NewScanner(bytes.NewReader(status)); s.Scan(); {
		f := strings.Fields(s.Text())
		if len(f) == 3 && (f[0] == "RssAnon:" || f[0] == "RssShmem:" || f[0] == "VmSwap:") {
			n, _ := strconv.ParseInt(f[1], 10, 64)
			sum += n << 10
		}
	}
	return sum
}

func statusState(status []byte) byte {
	if i := bytes.Index(status, []byte("\nState:\t")); i >= 0 && i+8 < len(status) {
		return status[i+8]
	}
	return 0
}

// boundSegments ends everything of a program that runs apart once its segments of shared memory
// (shmget(2)), which no process need be attached to, are larger than a bound. Only from inside are they
// seen.
func boundSegments(most int64, errs *os.File) {
	for ; ; time.Sleep(250 * time.Millisecond) {
		b, err := os.ReadFile("/proc/sysvipc/shm")
		if err != nil {
			return
		}
		var sum int64
		for i, line := range strings.Split(string(b), "\n") {
			if f := strings.Fields(line); i > 0 && len(f) > 14 { // … size … rss swap
				for _, at := range []int{len(f) - 2, len(f) - 1} {
					n, _ := strconv.ParseInt(f[at], 10, 64)
					sum += n
				}
			}
		}
		if sum > most {
			fmt.Fprintf(errs, "freshkeel: it took %d MiB of shared memory and was ended\n", sum>>20)
			unix.Kill(-1, unix.SIGKILL)
		}
	}
}
