package check

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"strings"

	"freshkeel/internal/data"
	"freshkeel/internal/install"
	"freshkeel/internal/locker"
	"freshkeel/internal/profile"
	"freshkeel/internal/staging"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"

	"github.com/shirou/gopsutil/v4/disk"
)

// checkOwner tells when root would run a server that nobody should run as root.
func checkOwner(_ context.Context, s *situation) []Finding {
	if os.Geteuid() != 0 {
		return nil
	}
	for _, script := range s.k.Profile.Scripts() {
		err := install.TrustedScript(s.k.Path(script))
		if err == nil {
			continue
		}
		f := Finding{Level: Stop, What: err.Error(), Where: s.k.Dir,
			Why: "whoever may write to what root runs has the whole machine"}
		if a := (*tell.Advised)(nil); errors.As(err, &a) {
			f.Do = a.Do
		}
		return []Finding{f}
	}
	return []Finding{{Level: Warn, What: "the install belongs to root, so the server runs as root", Where: s.k.Dir,
		Why: "many servers refuse to, and whoever breaks into one has the whole machine",
		Do:  "chown -R USER " + words.Shell(s.k.Dir)}}
}

// checkWritable asks, for every folder whose entries will change, whether they may.
func checkWritable(_ context.Context, s *situation) (out []Finding) {
	dirs := map[string]bool{"": true}
	for _, st := range s.plan.Steps {
		for d := path.Dir(st.Path); ; d = path.Dir(d) {
			if d == "." {
				break
			}
			if _, ok := s.ahead.Before.Get(d); ok {
				dirs[d] = true
				break
			}
		}
	}
	for _, d := range slices.Sorted(maps.Keys(dirs)) {
		full := s.k.Path(d)
		err := tree.Writable(full)
		if err == nil {
			continue
		}
		out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s can't be written to: %v", full, err), Where: full,
			Why: "files there have to be exchanged", Do: "run as the install's owner, or: chown/chmod that folder"})
	}
	if out == nil {
		return ok("every folder that changes can be written to")
	}
	return out
}

// checkFilesystem looks at the file systems that the install is on. Each is
// staged on by itself, since only a rename within one is atomic.
func checkFilesystem(_ context.Context, s *situation) (out []Finding) {
	for _, at := range s.plan.Places {
		if err := staging.Usable(s.k.Install, []string{at}); err != nil {
			out = append(out, Finding{Level: Stop, What: err.Error(), Where: s.k.Path(at),
				Why: "what is exchanged there, or put back after a failure, has to be laid out on that file system first",
				Do: fmt.Sprintf("let the install's owner write to %s; or name it in [server] skip: it is then neither "+
					"replaced nor backed up", s.k.Path(at))})
		}
	}
	for _, at := range s.plan.Mounted {
		out = append(out, Finding{Level: Stop, What: at + " is mounted there as a single file", Where: s.k.Path(at),
			Why: "the system lets nobody rename it, so it can be neither exchanged nor put back",
			Do:  "name it in [server] skip, or mount the folder that holds it instead"})
	}
	home, _, err := tree.Describe(s.k.State("refits"), "")
	if err != nil { // the first refit will make it
		if home, _, err = tree.Describe(s.k.State(), ""); err != nil {
			return out
		}
	}
	if top, _, err := tree.Describe(s.k.Dir, ""); err == nil && top.Dev != home.Dev {
		out = append(out, Finding{Level: Stop, What: tree.StateFolder + " is on another file system than the install",
			Where: s.k.State(),
			Why:   "the new build is staged there, and only a rename within one file system is atomic",
			Do:    "put it back onto the install's own file system"})
	}
	if n := len(s.plan.Places); out == nil && n > 0 {
		return ok("%s on file systems of their own or elsewhere, where files are staged by themselves: %s",
			words.Is(n, "folder"), words.Some(s.plan.Places, 3))
	}
	return out
}

// slack is what a file system should keep free besides, in bytes.
const slack = 64 << 20

// checkDisk holds what staging and backup need against what is free, for each
// file system once.
func checkDisk(_ context.Context, s *situation) []Finding {
	type need struct {
		what   []string
		bytes  int64
		inodes uint64
		at     string
		spare  int64
	}
	needs := map[uint64]*need{}
	add := func(at, what string, bytes, spare int64, inodes int) {
		e, _, err := tree.Describe(at, "")
		if err != nil {
			return
		}
		n := needs[e.Dev]
		if n == nil {
			n = &need{at: at}
			needs[e.Dev] = n
		}
		n.bytes += bytes
		n.spare = max(n.spare, spare)
		n.inodes += uint64(inodes)
		n.what = append(n.what, fmt.Sprintf("%s for the %s", words.Bytes(bytes), what))
	}
	base, err := s.k.shelf.Glance()
	if err != nil {
		return []Finding{{Level: Warn, What: "what the backup needs can't be told: " + err.Error(),
			Where: s.store.Dir(), Why: "a full disk would end it before anything is changed",
			Do: "freshkeel backup list"}}
	}
	backup := base.Unproven(s.ahead.Before)
	// A new file and, on the way, its folder: what is displaced needs none.
	for place, n := range s.plan.Staging() {
		spare := int64(slack)
		if place != "" { // nothing else of ours grows there
			spare = n.Bytes / 8
		}
		add(s.k.Path(place), "staging", n.Bytes, spare, 2*n.Steps+64)
	}
	add(s.store.Dir(), "backup (at most)", backup, slack, int(backup/locker.PackSize)+64)
	for name, last := range data.New(s.k.Install).LastSeen() {
		if slices.ContainsFunc(s.k.Profile.Data, func(d profile.Data) bool { return d.Name == name }) {
			add(s.store.Dir(), "dump of "+name+" (at most)", last.Bytes, slack, int(last.Bytes/locker.PackSize)+1)
		}
	}
	var out []Finding
	for _, n := range needs {
		u, err := disk.Usage(n.at)
		if err != nil {
			continue
		}
		if free := int64(u.Free); free < n.bytes+n.spare {
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%s needed, %s free", words.Bytes(n.bytes+n.spare), words.Bytes(free)), Where: n.at,
				Why: strings.Join(n.what, ", ") + fmt.Sprintf(", %s to spare", words.Bytes(n.spare)),
				Do:  "free space there, or move FRESHKEEL_HOME to another disk"})
		}
		if u.InodesTotal > 0 && u.InodesFree < n.inodes {
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%d inodes needed, %d free", n.inodes, u.InodesFree), Where: n.at,
				Why: "its file system can hold so many files and no more, whatever their size",
				Do:  "remove small files there: old logs and caches first"})
		}
	}
	if out == nil {
		return ok("disk space: %s for staging, at most %s for the backup", words.Bytes(s.plan.Bytes),
			words.Bytes(backup))
	}
	return out
}
