package needs

import (
	"debug/elf"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"freshkeel/internal/tree"
)

// Native is what a Linux program asks of the machine it runs on (System V gABI,
// "Dynamic Linking"; symbol versions as the Linux Standard Base has them).
type Native struct {
	Program
	Loader   string              // the program interpreter; "": it needs none
	Needs    []string            // shared libraries, by name
	Versions map[string][]string // library → versions of symbols that it must have
	Runpath  []string            // where it looks first; may begin with $ORIGIN
}

// ErrNotNative says that a file is no ELF program.
var ErrNotNative = errors.New("it is no Linux program")

// ReadNative reads an ELF file's needs. It runs nothing.
func ReadNative(r io.ReaderAt) (*Native, error) {
	p, ok := ReadProgram(r)
	if !ok || p.OS != "linux" {
		return nil, ErrNotNative
	}
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, err
	}
	n := &Native{Program: p, Versions: map[string][]string{}}
	for _, seg := range f.Progs {
		if seg.Type == elf.PT_INTERP && seg.Filesz < 4096 {
			b := make([]byte, seg.Filesz)
			if _, err := seg.ReadAt(b, 0); err != nil {
				return nil, fmt.Errorf("its interpreter: %w", err)
			}
			n.Loader = strings.TrimRight(string(b), "\x00")
		}
	}
	if n.Needs, err = f.ImportedLibraries(); err != nil {
		return nil, fmt.Errorf("its libraries: %w", err)
	}
	for _, tag := range []elf.DynTag{elf.DT_RUNPATH, elf.DT_RPATH} {
		paths, err := f.DynString(tag)
		if err != nil {
			return nil, fmt.Errorf("its run path: %w", err)
		}
		for _, p := range paths {
			n.Runpath = append(n.Runpath, filepath.SplitList(p)...)
		}
	}
	needs, err := f.DynamicVersionNeeds()
	if err != nil {
		return n, nil // stripped of them: nothing is asked
	}
	for _, lib := range needs {
		for _, v := range lib.Needs {
			if !strings.HasPrefix(v.Dep, "GLIBC_PRIVATE") {
				n.Versions[lib.Name] = append(n.Versions[lib.Name], v.Dep)
			}
		}
	}
	return n, nil
}

// libraryFolders are where a loader looks by itself, and what /etc/ld.so.conf
// adds.
func libraryFolders() []string {
	out := []string{"/lib", "/usr/lib", "/lib64", "/usr/lib64", "/usr/local/lib"}
	triples, _ := filepath.Glob("/usr/lib/*-linux-gnu*")
	out = append(out, triples...)
	triples, _ = filepath.Glob("/lib/*-linux-gnu*")
	out = append(out, triples...)
	confs, _ := filepath.Glob("/etc/ld.so.conf.d/*.conf")
	for _, c := range append(confs, "/etc/ld.so.conf") {
		b, err := os.ReadFile(c)
		if err != nil {
			continue
		}
		for _, line := range strings.Split(string(b), "\n") {
			if line = strings.TrimSpace(line); strings.HasPrefix(line, "/") {
				out = append(out, line)
			}
		}
	}
	return out
}

// Lack is one thing that a program asks for and this machine doesn't have.
type Lack struct {
	Library string
	Version string // of its symbols; "": the library itself
	Has     string // the highest version of that kind that it has
}

// Lacks finds what of a program's needs is not there. dir is the folder that it
// will run from, brought tells whether a file (absolute) will come with the
// build, libraryPath are folders that are looked through before all others
// (LD_LIBRARY_PATH).
func (n *Native) Lacks(dir string, brought func(full string) bool, libraryPath []string) (out []Lack) {
	if n.Loader != "" && !brought(n.Loader) {
		if _, err := os.Stat(n.Loader); err != nil {
			out = append(out, Lack{Library: n.Loader})
		}
	}
	var first []string
	for _, r := range n.Runpath {
		first = append(first, filepath.Clean(strings.NewReplacer("$ORIGIN", dir, "${ORIGIN}", dir).Replace(r)))
	}
	folders := slices.Concat(first, libraryPath, libraryFolders())
	for _, lib := range n.Needs {
		at, theirs := n.find(lib, folders, brought)
		switch {
		case at == "":
			out = append(out, Lack{Library: lib})
		case !theirs:
			out = append(out, n.versionsLacking(lib, at)...)
		}
	}
	return out
}

// find looks for a library of the same processor; theirs is one of the build.
func (n *Native) find(lib string, folders []string, brought func(string) bool) (at string, theirs bool) {
	if strings.Contains(lib, "/") {
		folders, lib = []string{path.Dir(lib)}, path.Base(lib)
	}
	for _, d := range folders {
		full := filepath.Join(d, lib)
		if brought(full) {
			return full, true
		}
		f, err := tree.OpenRegular(full)
		if err != nil {
			continue
		}
		p, ok := ReadProgram(f)
		f.Close()
		if ok && p == n.Program {
			return full, false
		}
	}
	return "", false
}

func (n *Native) versionsLacking(lib, at string) (out []Lack) {
	f, err := elf.Open(at)
	if err != nil {
		return nil
	}
	defer f.Close()
	defined, err := f.DynamicVersions()
	if err != nil {
		return nil
	}
	has := map[string]bool{}
	for _, d := range defined {
		has[d.Name] = true
	}
	lacking := ""
	for _, v := range n.Versions[lib] {
		if !has[v] && olderSymbol(lacking, v) {
			lacking = v
		}
	}
	if lacking == "" {
		return nil
	}
	l := Lack{Library: lib, Version: lacking}
	kind, _, _ := strings.Cut(lacking, "_")
	for d := range has {
		if strings.HasPrefix(d, kind+"_") && olderSymbol(l.Has, d) {
			l.Has = d
		}
	}
	return []Lack{l}
}

// olderSymbol orders symbol versions of one kind: GLIBC_2.4 before GLIBC_2.38.
func olderSymbol(a, b string) bool {
	numbers := func(s string) (out []int) {
		_, s, _ = strings.Cut(s, "_")
		for _, p := range strings.Split(s, ".") {
			n, _ := strconv.Atoi(p)
			out = append(out, n)
		}
		return
	}
	return a == "" || slices.Compare(numbers(a), numbers(b)) < 0
}
