package settings

import (
	"errors"
	"strings"

	"freshkeel/internal/placed"

	"github.com/pelletier/go-toml/v2"
)

// readTOML reads TOML: each key is a value, an array or an inline table one value whole. A table lies in the one above it
// whose name its own begins with; each table of several is one of a list.
func readTOML(d *Doc) error {
	body := d.text[d.mark:]
	var whole map[string]any
	if err := toml.Unmarshal(body, &whole); err != nil {
		var bad *toml.DecodeError
		if errors.As(err, &bad) {
			line, column := bad.Position()
			return &Wrong{line, column, strings.TrimPrefix(bad.Error(), "toml: ")}
		}
		return &Wrong{Why: err.Error()}
	}
	entries, err := placed.TOML(body)
	if err != nil {
		return &Wrong{Why: err.Error()}
	}
	section, end := "", d.mark // of the table that is read, and behind the last line that says something
	for _, e := range entries {
		from, to := e.Lines.Start+d.mark, e.Lines.End+d.mark
		name := strings.Join(e.Path, ".")
		if e.Table {
			for n := len(d.above); n > 0 && !strings.HasPrefix(name, d.sections[d.above[n-1]].key+"."); n-- {
				d.shut(end)
			}
			section, end = name, to
			d.open(name, from).many = e.Many
			continue
		}
		end = to
		it := d.add(section, name, e.Value.Start+d.mark, e.Value.End+d.mark, from, to)
		for _, part := range e.Parts {
			it.parts = append(it.parts, placed.Span{Start: part.Start + d.mark, End: part.End + d.mark})
		}
	}
	for range len(d.above) {
		d.shut(end)
	}
	return nil
}
