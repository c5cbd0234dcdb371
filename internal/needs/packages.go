package needs

import (
	"bufio"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/pierrec/lz4/v4"
)

var (
	// A shared library's package is named after it (Debian Policy, section 8.1):
	// libpond.so.6 is in libpond6, libpond2-1.so.6 in libpond2-1-6.
	soName  = regexp.MustCompile(`^(.+?)(?:-([\d.]+))?\.so(?:\.([\w.]+))?$`)
	ldName  = regexp.MustCompile(`^ld-(linux|musl)`)
	aptDirs = []string{"/var/lib/apt/lists/*_Packages", "/var/lib/apt/lists/*_Packages.lz4"}
)

// PackageOf names the package that brings a shared library, as far as the lists
// of this machine's package system tell; "" where they don't. root is "/" but in
// tests. Known are the lists of apt: what an installed package declares to hold,
// else a package of the library's name.
func PackageOf(lib, root string) string {
	m := soName.FindStringSubmatch(filepath.Base(lib))
	if m == nil || ldName.MatchString(filepath.Base(lib)) {
		return ""
	}
	stem, version := m[1], m[2]+m[3]
	if m[2] != "" {
		stem, version = m[1]+"-"+m[2], m[3]
	}
	declared, _ := filepath.Glob(filepath.Join(root, "var/lib/dpkg/info/*.shlibs"))
	for _, at := range declared { // "name version package (>= ...)", deb-shlibs(5)
		b, _ := os.ReadFile(at)
		for _, line := range strings.Split(string(b), "\n") {
			if f := strings.Fields(line); len(f) >= 3 && f[0] == stem && f[1] == version {
				return f[2]
			}
		}
	}
	wanted := map[string]int{}
	name := strings.ToLower(strings.ReplaceAll(stem, "_", "-"))
	joined := name + version
	if n := len(name); n > 0 && name[n-1] >= '0' && name[n-1] <= '9' {
		joined = name + "-" + version
	}
	for rank, n := range []string{joined, joined + "t64", joined + "v5"} {
		wanted[n] = rank + 1
	}
	best, rank := "", 0
	for _, pat := range aptDirs {
		lists, _ := filepath.Glob(filepath.Join(root, pat))
		for _, at := range lists {
			f, err := os.Open(at)
			if err != nil {
				continue
			}
			var r io.Reader = f
			if strings.HasSuffix(at, ".lz4") {
				r = lz4.NewReader(f)
			}
			s := bufio.NewScanner(r)
			s.Buffer(make([]byte, 64<<10), 4<<20)
			for s.Scan() {
				name, ok := bytes.CutPrefix(s.Bytes(), []byte("Package: "))
				if !ok {
					continue
				}
				if n := wanted[string(name)]; n > 0 && (rank == 0 || n < rank) {
					best, rank = string(name), n
				}
			}
			f.Close()
		}
	}
	return best
}
