package settings

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"freshkeel/internal/placed"

	"github.com/tailscale/hujson"
)

// readJSON reads JSON, with comments and with commas too many. A list is one value whole, but where it is the whole text.
func readJSON(d *Doc) error {
	body := d.text[d.mark:]
	if tooDeep(body) {
		return &Wrong{Why: errDeep.Error()}
	}
	v, err := hujson.Parse(body)
	if err != nil {
		return wrongJSON(err)
	}
	if list, is := v.Value.(*hujson.Array); is {
		for i := range list.Elements {
			e := &list.Elements[i]
			it := d.add("", "[]", d.mark+e.StartOffset, d.mark+e.EndOffset, d.mark+e.StartOffset, d.mark+e.EndOffset)
			it.list, it.facts = true, factsOfJSON(e)
		}
		d.body = placed.Span{Start: d.mark + v.StartOffset, End: d.mark + v.EndOffset}
		return nil
	}
	return d.object(&v, "", "", d.mark+v.StartOffset)
}

// object takes in a value and what lies below it; from is where what belongs to it begins.
func (d *Doc) object(v *hujson.Value, parent, name string, from int) error {
	start, end := d.mark+v.StartOffset, d.mark+v.EndOffset
	switch is := v.Value.(type) {
	case *hujson.Object:
		if len(d.above) > maxDepth {
			return d.wrong(start, errDeep.Error())
		}
		key := joined(parent, name)
		d.open(key, from).body = placed.Span{Start: start, End: end}
		for i := range is.Members {
			m := &is.Members[i]
			name := m.Name.Value.(hujson.Literal).String()
			if name == "" { // no key of its own would be left
				name = `""`
			}
			if err := d.object(&m.Value, key, name, d.mark+m.Name.StartOffset); err != nil {
				return err
			}
		}
		d.shut(end)
	case *hujson.Array:
		it := d.add(parent, name, start, end, from, end)
		for i := range is.Elements {
			e := &is.Elements[i]
			it.parts = append(it.parts, placed.Span{Start: d.mark + e.StartOffset, End: d.mark + e.EndOffset})
		}
	default:
		d.add(parent, name, start, end, from, end)
	}
	return nil
}

// factsOfJSON are the names and the plain values of an object.
func factsOfJSON(v *hujson.Value) (out []fact) {
	if is, ok := v.Value.(*hujson.Object); ok {
		for _, m := range is.Members {
			if l, plain := m.Value.Value.(hujson.Literal); plain {
				out = append(out, fact{m.Name.Value.(hujson.Literal).String(), string(l)})
			}
		}
	}
	return out
}

// tooDeep tells whether more brackets are open at once than anybody nests settings: the library goes down once for each.
func tooDeep(text []byte) bool {
	depth, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			if depth++; depth > 1000 {
				return true
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return false
}

var placeInJSON = regexp.MustCompile(`^hujson: line (\d+), column (\d+): `)

// wrongJSON is what the library says of a text that is no JSON.
func wrongJSON(err error) error {
	s := err.Error()
	m := placeInJSON.FindStringSubmatch(s)
	if m == nil {
		return &Wrong{Why: strings.TrimPrefix(s, "hujson: ")}
	}
	line, _ := strconv.Atoi(m[1])
	column, _ := strconv.Atoi(m[2])
	return &Wrong{Line: line, Column: column, Why: fmt.Sprintf("it is no JSON: %s", s[len(m[0]):])}
}
