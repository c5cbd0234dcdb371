package needs

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/goccy/go-yaml"
	"github.com/pelletier/go-toml/v2"
)

// Descriptor is the file by which an add-on describes itself, read.
type Descriptor map[string]any

// ErrNoDescriptor says that an add-on holds no file of the name asked for.
var ErrNoDescriptor = errors.New("it has no such file")

// ReadDescriptor reads a descriptor by the ending of its name: JSON, TOML, YAML,
// or lines of "key: value" or "key=value" (a manifest, properties).
func ReadDescriptor(name string, b []byte) (d Descriptor, err error) {
	switch strings.ToLower(path.Ext(name)) {
	case ".json":
		err = json.Unmarshal(b, &d)
	case ".toml":
		err = toml.Unmarshal(b, &d)
	case ".yaml", ".yml":
		defer func() { // a parser of others: what it trips over is an error and no more
			if p := recover(); p != nil {
				d, err = nil, fmt.Errorf("it can't be read: %v", p)
			}
		}()
		err = yaml.Unmarshal(b, &d)
	default:
		d = Descriptor{}
		for _, line := range strings.Split(string(b), "\n") {
			line = strings.TrimSpace(line)
			if i := strings.IndexAny(line, ":="); i > 0 && line[0] != '#' {
				d[strings.TrimSpace(line[:i])] = strings.TrimSpace(line[i+1:])
			}
		}
	}
	return d, err
}

// DescriptorIn reads the descriptor of an add-on that is a zip or a jar.
func DescriptorIn(r io.ReaderAt, size int64, name string) (Descriptor, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("it is no zip: %w", err)
	}
	f, err := z.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNoDescriptor
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, maxDescriptor+1))
	if err != nil {
		return nil, err
	}
	if len(b) > maxDescriptor {
		return nil, fmt.Errorf("%s is of more than %d bytes", name, maxDescriptor)
	}
	return ReadDescriptor(name, b)
}

// Field is the text of a field, or of each of a list: "fits", or "needs.mossgate"
// where it lies deeper. A field whose own name has dots is found too.
func (d Descriptor) Field(name string) (out []string) {
	var at any = map[string]any(d)
	rest := name
	for rest != "" {
		m, ok := at.(map[string]any)
		if !ok {
			return nil
		}
		if v, whole := m[rest]; whole {
			at, rest = v, ""
			break
		}
		var key string
		key, rest, ok = strings.Cut(rest, ".")
		if at = m[key]; !ok || at == nil {
			return nil
		}
	}
	switch v := at.(type) {
	case []any:
		for _, one := range v {
			out = append(out, fmt.Sprint(one))
		}
	case nil, map[string]any:
	default:
		out = append(out, fmt.Sprint(v))
	}
	return out
}

var (
	interval = regexp.MustCompile(`^([\[(])\s*([^,\s\[\]()]*)\s*(?:(,)\s*([^,\s\[\]()]*)\s*)?([\])])$`)
	bare     = regexp.MustCompile(`^v?(\d+(?:\.\d+)*)$`)
)

// IsBare tells whether a word about versions is a version alone: what makers of add-ons
// mean by that differs.
func IsBare(text string) bool { return bare.MatchString(strings.TrimSpace(text)) }

// FitsAny holds a version against a range in any of the notations that makers of
// add-ons use: an interval "[3.4,4.0)", conditions ">=3.4 <4", "~3.4", "3.4.x",
// or a bare version, of which a shorter one stands for all that begin with it. With
// newer, a bare version means that one and all that come after it.
func FitsAny(text, version string, newer bool) (bool, error) {
	text = strings.TrimSpace(text)
	v, err := semver.NewVersion(version)
	if err != nil {
		return false, fmt.Errorf("version %q: %w", version, err)
	}
	if text == "" || text == "*" {
		return true, nil
	}
	if m := bare.FindStringSubmatch(text); m != nil && newer {
		least, err := semver.NewVersion(m[1])
		return err == nil && !v.LessThan(least), err
	} else if m != nil {
		have := strings.TrimPrefix(version, "v")
		return have == m[1] || strings.HasPrefix(have, m[1]+".") || strings.HasPrefix(have, m[1]+"-"), nil
	}
	if m := interval.FindStringSubmatch(text); m != nil {
		low, high := m[2], m[4]
		if m[3] == "" { // "[3.5]": that one
			low, high = m[2], m[2]
		}
		for _, end := range []struct {
			at   string
			open bool
			sign int
		}{{low, m[1] == "(", 1}, {high, m[5] == ")", -1}} {
			if end.at == "" {
				continue
			}
			bound, err := semver.NewVersion(end.at)
			if err != nil {
				return false, fmt.Errorf("%q: %w", text, err)
			}
			if c := v.Compare(bound) * end.sign; c < 0 || (c == 0 && end.open) {
				return false, nil
			}
		}
		return true, nil
	}
	c, err := semver.NewConstraint(text)
	if err != nil {
		return false, fmt.Errorf("%q is no range of versions", text)
	}
	// A preview of a version is held to the range like that version: those who
	// run one want to know of what does not fit at all.
	c.IncludePrerelease = true
	return c.Check(v), nil
}
