package needs

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
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
		in := json.NewDecoder(bytes.NewReader(b))
		in.UseNumber()
		err = in.Decode(&d)
	case ".toml":
		err = toml.Unmarshal(decimal.ReplaceAll(b, []byte(`$1"$2"$3`)), &d)
	case ".yaml", ".yml":
		defer func() { // a parser of others: what it trips over is an error and no more
			if p := recover(); p != nil {
				d, err = nil, fmt.Errorf("it can't be read: %v", p)
			}
		}()
		if err = yaml.Unmarshal(b, &d); err == nil {
			err = d.asWritten(b)
		}
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

// decimal is a line of TOML whose value is a number with a point, as a version is written by those who forget to quote
// it: 1.20 is another version than 1.2.
var decimal = regexp.MustCompile(`(?m)^([ \t]*[\w."'-]+[ \t]*=[ \t]*)(\d+\.\d+)([ \t]*(?:#.*)?\r?)$`)

// asWritten gives numbers of a YAML text as they are written there.
func (d Descriptor) asWritten(b []byte) error {
	f, err := parser.ParseBytes(b, 0)
	if err != nil || len(f.Docs) == 0 {
		return err
	}
	var set func(n ast.Node, into map[string]any)
	scalar := func(n ast.Node) (text string, is bool) {
		switch v := n.(type) {
		case *ast.FloatNode:
			return v.Token.Value, true
		case *ast.IntegerNode:
			return v.Token.Value, true
		}
		return "", false
	}
	set = func(n ast.Node, into map[string]any) {
		var pairs []*ast.MappingValueNode
		switch v := n.(type) {
		case *ast.MappingNode:
			pairs = v.Values
		case *ast.MappingValueNode:
			pairs = []*ast.MappingValueNode{v}
		}
		for _, p := range pairs {
			key := p.Key.GetToken().Value
			if text, is := scalar(p.Value); is {
				into[key] = text
				continue
			}
			switch below := into[key].(type) {
			case map[string]any:
				set(p.Value, below)
			case []any:
				if seq, is := p.Value.(*ast.SequenceNode); is && len(seq.Values) == len(below) {
					for i, one := range seq.Values {
						if text, is := scalar(one); is {
							below[i] = text
						}
					}
				}
			}
		}
	}
	set(f.Docs[0].Body, d)
	return nil
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
