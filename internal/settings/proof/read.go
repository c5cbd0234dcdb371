package proof

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/BurntSushi/toml"
	"go.yaml.in/yaml/v3"
)

// Read reads what a text says, by the name that the merge gives its format.
func Read(format string, text []byte) (Values, error) {
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	v := Values{}
	var err error
	switch format {
	case "json":
		err = readJSON(v, text)
	case "toml":
		var all map[string]any
		if _, err = toml.Decode(string(text), &all); err == nil {
			flat(v, "", all)
		}
	case "yaml":
		err = readYAML(v, text)
	case "xml":
		err = readXML(v, text)
	case "lines":
		readLines(v, string(text))
	case "words":
		for line := range strings.Lines(string(text)) {
			if name, rest, _ := strings.Cut(strings.ReplaceAll(strings.TrimSpace(line), "\t", " "), " "); name != "" && (name == "!" || name == "%" || !isComment(name)) {
				v.put(name, value(strings.TrimSpace(rest)))
			}
		}
	case "blocks":
		err = readBlocks(v, string(text))
	case "list":
		for line := range strings.Lines(string(text)) {
			if s := strings.TrimSpace(line); s != "" && !isComment(s) {
				v.put("line[]", s)
			}
		}
	default:
		err = fmt.Errorf("%q is no format that is read here", format)
	}
	return v, err
}

func below(path, name string) string {
	if path == "" {
		return name
	}
	return path + "." + name
}

// flat takes in what a library made of a text: a list's elements are written out whole.
func flat(v Values, path string, one any) {
	switch one := one.(type) {
	case map[string]any:
		if len(one) == 0 {
			v.put(path+"{}", "")
		}
		for name, inner := range one {
			flat(v, below(path, name), inner)
		}
	case []map[string]any:
		for _, inner := range one {
			v.put(path+"[]", written(inner))
		}
	case []any:
		if len(one) == 0 {
			v.put(path, "[]")
		}
		for _, inner := range one {
			v.put(path+"[]", written(inner))
		}
	default:
		v.put(path, written(one))
	}
}

// written is a value with its kind: 1 and "1" are two.
func written(one any) string {
	if b, err := json.Marshal(one); err == nil {
		return fmt.Sprintf("%T ", one) + string(b)
	}
	return fmt.Sprintf("%T %v", one, one)
}

// readJSON reads JSON by the standard library, token by token: a name that stands twice counts twice.
func readJSON(v Values, text []byte) error {
	dec := json.NewDecoder(bytes.NewReader(strictJSON(text)))
	dec.UseNumber()
	if err := jsonValue(v, dec, ""); err != nil {
		return err
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something stands behind the end")
	}
	return nil
}

func jsonValue(v Values, dec *json.Decoder, path string) error {
	t, err := dec.Token()
	if err != nil {
		return err
	}
	switch t {
	case json.Delim('{'):
		empty := true
		for ; dec.More(); empty = false {
			name, err := dec.Token()
			if err != nil {
				return err
			}
			if err := jsonValue(v, dec, below(path, fmt.Sprint(name))); err != nil {
				return err
			}
		}
		if empty {
			v.put(path+"{}", "")
		}
		_, err = dec.Token()
		return err
	case json.Delim('['):
		empty := true
		for ; dec.More(); empty = false {
			inner := Values{}
			if err := jsonValue(inner, dec, ""); err != nil {
				return err
			}
			v.put(path+"[]", all(inner))
		}
		if empty {
			v.put(path, "[]")
		}
		_, err = dec.Token()
		return err
	}
	v.put(path, fmt.Sprintf("%T %v", t, t))
	return nil
}

// all is what values say, as one text.
func all(v Values) string {
	var b strings.Builder
	keys := make([]string, 0, len(v))
	for k := range v {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		fmt.Fprintf(&b, "%q=%q;", k, v[k])
	}
	return b.String()
}

// strictJSON takes comments and commas that are too many out of a text.
func strictJSON(text []byte) []byte {
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			from := i
			for i++; i < len(text) && text[i] != '"'; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			out = append(out, text[from:min(i+1, len(text))]...)
		case c == '#', bytes.HasPrefix(text[i:], []byte("//")):
			for i < len(text) && text[i] != '\n' {
				i++
			}
			out = append(out, '\n')
		case bytes.HasPrefix(text[i:], []byte("/*")):
			inner, _, closed := bytes.Cut(text[i+len("/*"):], []byte("*/"))
			if !closed {
				return out
			}
			i += len("/*") + len(inner) + len("*/") - 1
		case c == '}' || c == ']':
			if t := bytes.TrimRight(out, " \t\n\r"); len(t) > 0 && t[len(t)-1] == ',' {
				out = t[:len(t)-1]
			}
			out = append(out, c)
		default:
			out = append(out, c)
		}
	}
	return out
}

// readYAML reads YAML's nodes: a scalar is its text and its kind.
func readYAML(v Values, text []byte) error {
	dec := yaml.NewDecoder(bytes.NewReader(text))
	for n := 0; ; n++ {
		var doc yaml.Node
		err := dec.Decode(&doc)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		path := ""
		if n > 0 {
			path = fmt.Sprintf("document %d", n+1)
		}
		for _, inner := range doc.Content {
			yamlNode(v, path, inner, 0)
		}
	}
}

func yamlNode(v Values, path string, n *yaml.Node, depth int) {
	if depth > 100 {
		return
	}
	switch n.Kind {
	case yaml.AliasNode:
		yamlNode(v, path, n.Alias, depth+1)
	case yaml.MappingNode:
		if len(n.Content) == 0 {
			v.put(path+"{}", "")
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			yamlNode(v, below(path, n.Content[i].Value), n.Content[i+1], depth+1)
		}
	case yaml.SequenceNode:
		if len(n.Content) == 0 {
			v.put(path, "[]")
		}
		for _, inner := range n.Content {
			one := Values{}
			yamlNode(one, "", inner, depth+1)
			v.put(path+"[]", all(one))
		}
	case yaml.ScalarNode:
		v.put(path, n.ShortTag()+" "+n.Value)
	}
}

// readXML reads XML's elements by what they say: their text, their attributes, and that they are there.
func readXML(v Values, text []byte) error {
	dec := xml.NewDecoder(bytes.NewReader(text))
	dec.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { // letters beyond ASCII count by their bytes
		b, err := io.ReadAll(r)
		var out strings.Builder
		for _, c := range b {
			out.WriteRune(rune(c))
		}
		return strings.NewReader(out.String()), err
	}
	var above []string
	var said []string
	for {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch e := tok.(type) {
		case xml.StartElement:
			name := e.Name.Local
			for _, at := range e.Attr {
				if l := strings.ToLower(at.Name.Local); l == "name" || l == "key" || l == "id" {
					name += "[" + at.Value + "]"
					break
				}
			}
			if len(above) > 0 {
				name = above[len(above)-1] + "." + name
			}
			v.put(name+" element", "")
			for _, at := range e.Attr {
				v.put(name+".@"+at.Name.Local, at.Value)
			}
			above, said = append(above, name), append(said, "")
		case xml.CharData:
			if n := len(said); n > 0 {
				said[n-1] += string(e)
			}
		case xml.EndElement:
			n := len(above) - 1
			if s := strings.TrimSpace(said[n]); s != "" {
				v.put(above[n], s)
			}
			above, said = above[:n], said[:n]
		}
	}
}

func isComment(s string) bool {
	return strings.HasPrefix(s, "#") || strings.HasPrefix(s, ";") || strings.HasPrefix(s, "//") ||
		s == "!" || s == "%" || strings.HasPrefix(s, "! ") || strings.HasPrefix(s, "% ")
}
