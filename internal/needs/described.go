package needs

import (
	"bytes"
	"debug/buildinfo"
	"debug/pe"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"path"
	"regexp"
	"strings"
	"unicode/utf16"

	"freshkeel/internal/version"
)

// Described is the version that a program says of itself without being run, and what says it: the manifest of a jar, the
// module that a Go compiler built (debug/buildinfo), or the version resource of a Windows program (VS_VERSIONINFO). "" where
// none does.
func Described(r io.ReaderAt, size int64) (v, what string) {
	head := make([]byte, 4)
	if _, err := r.ReadAt(head, 0); err != nil {
		return "", ""
	}
	if bytes.HasPrefix(head, []byte("PK")) {
		if j, _ := ReadJar(r, size); j != nil && version.Valid(j.Version) && numbered.MatchString(j.Version) {
			return j.Version, "the manifest"
		}
		return "", ""
	}
	if info, err := buildinfo.Read(r); err == nil {
		if v := strings.TrimPrefix(info.Main.Version, "v"); version.Valid(v) && !strings.HasPrefix(v, "(") &&
			!strings.HasPrefix(v, "0.0.0-") {
			return v, "the module"
		}
	}
	if bytes.HasPrefix(head, []byte("MZ")) {
		if v := versionResource(r); v != "" {
			return v, "the version resource"
		}
	}
	return "", ""
}

// maxResources bounds how much of a program's resources is read, in bytes.
const maxResources = 8 << 20

// versionResource is the product's version in a Windows program, else the file's; "" for none.
func versionResource(r io.ReaderAt) string {
	f, err := pe.NewFile(r)
	if err != nil {
		return ""
	}
	s := f.Section(".rsrc")
	if s == nil || s.Size > maxResources {
		return ""
	}
	b, err := s.Data()
	if err != nil {
		return ""
	}
	for _, key := range []string{"ProductVersion", "FileVersion"} {
		if v := resourceText(b, key); version.Valid(v) && strings.Trim(v, "0.") != "" {
			return v
		}
	}
	// Without texts the fixed part has four numbers, behind its signature (VS_FIXEDFILEINFO).
	at := bytes.Index(b, []byte{0xBD, 0x04, 0xEF, 0xFE})
	if at < 0 || len(b) < at+24 {
		return ""
	}
	ms, ls := binary.LittleEndian.Uint32(b[at+16:]), binary.LittleEndian.Uint32(b[at+20:])
	v := strings.Join([]string{itoa(ms >> 16), itoa(ms & 0xffff), itoa(ls >> 16), itoa(ls & 0xffff)}, ".")
	if strings.Trim(v, "0.") == "" {
		return ""
	}
	return strings.TrimSuffix(v, ".0")
}

func itoa(n uint32) string { b, _ := json.Marshal(n); return string(b) }

// resourceText is the value of a key among the texts of a version resource, which are UTF-16.
func resourceText(b []byte, key string) string {
	var name []byte
	for _, c := range utf16.Encode([]rune(key)) {
		name = binary.LittleEndian.AppendUint16(name, c)
	}
	at := bytes.Index(b, name)
	if at < 0 {
		return ""
	}
	at += len(name)
	for at+1 < len(b) && b[at] == 0 && b[at+1] == 0 { // the end of the key, and what fills up to four bytes
		at += 2
	}
	var text []uint16
	for ; at+1 < len(b) && len(text) < 100; at += 2 {
		c := binary.LittleEndian.Uint16(b[at:])
		if c == 0 {
			break
		}
		text = append(text, c)
	}
	return strings.ReplaceAll(strings.TrimSpace(string(utf16.Decode(text))), ", ", ".")
}

// VersionOf is the version that a file which is run says of itself, or that the package says in which it lies; open opens
// a file by its path, with its size and what closes it, and gives nil where there is none.
func VersionOf(at string, open func(at string) (io.ReaderAt, int64, func())) string {
	f, size, done := open(at)
	if f == nil {
		return ""
	}
	v, _ := Described(f, size)
	done()
	for dir := path.Dir(at); v == ""; dir = path.Dir(dir) {
		for _, name := range Descriptions {
			f, size, done := open(path.Join(dir, name))
			if f == nil || size > maxDescription {
				continue
			}
			text := make([]byte, size)
			_, err := f.ReadAt(text, 0)
			done()
			if err != nil && !errors.Is(err, io.EOF) {
				return ""
			}
			return DescribedIn(name, text)
		}
		if dir == "." {
			break
		}
	}
	return v
}

// maxDescription bounds a package's description, in bytes.
const maxDescription = 1 << 20

// Descriptions are the names of files by which a package describes itself, beside the script that is run.
var Descriptions = []string{"package.json", "pyproject.toml", "setup.cfg"}

var versionLine = regexp.MustCompile(`(?m)^version\s*=\s*["']?([^"'\s]+)`)

// DescribedIn is the version that such a file says; "" for none.
func DescribedIn(name string, text []byte) string {
	v := ""
	if strings.HasSuffix(name, ".json") {
		var p struct {
			Version string `json:"version"`
		}
		if json.Unmarshal(text, &p) == nil {
			v = p.Version
		}
	} else if m := versionLine.FindSubmatch(text); m != nil {
		v = string(m[1])
	}
	if !version.Valid(v) || strings.Trim(v, "0.") == "" {
		return ""
	}
	return v
}
