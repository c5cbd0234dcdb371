package feed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/version"

	"github.com/ohler55/ojg/jp"
)

// api reads a maker's own JSON, by the paths that the profile gives. Details
// are read for the build that is wanted, not for the whole list.
func (r *reader) api(ctx context.Context) (*Feed, error) {
	where := r.at(r.API.List)
	doc, err := r.json(ctx, where)
	if err != nil {
		return nil, err
	}
	return r.apiList(doc, where)
}

// apiList reads the builds of a list that was read from an address.
func (r *reader) apiList(doc any, where string) (*Feed, error) {
	rows, err := find(doc, "api.builds", r.API.Builds)
	if err != nil {
		return nil, err
	}
	if len(rows) > maxBuilds {
		return nil, tooMany(len(rows))
	}
	if len(rows) == 0 {
		return nil, fmt.Errorf("api.builds: %s finds nothing there", r.API.Builds)
	}
	var all []offered
	f := &Feed{}
	for _, row := range rows {
		b, err := r.apiBuild(row)
		if err != nil {
			return nil, err
		}
		if r.API.Detail == "" {
			files, err := r.apiFiles(row, b, where)
			if err != nil {
				return nil, err
			}
			all = append(all, files...)
			continue
		}
		if f.Rank(b.version) >= 0 {
			continue
		}
		f.Builds = append(
			f.Builds,
			Build{Version: b.version, Channel: b.channel, Date: day(b.date), Notes: b.notes, Number: b.number,
				Fits:    b.fits,
				details: func(ctx context.Context, out *Build) error { return r.apiDetail(ctx, row, b, where, out) }},
		)
	}
	if r.API.Detail == "" {
		return r.builds(all)
	}
	r.sort(f)
	return f, nil
}

// Bounds of a maker's own JSON: what a path finds in it can be many times as much.
const (
	maxAPI   = 16 << 20         // bytes
	maxDepth = 64               // of arrays and objects in each other
	findTime = 20 * time.Second // for one path
)

func (r *reader) json(ctx context.Context, where string) (any, error) {
	b, err := r.Client.Document(ctx, where, maxAPI)
	if err != nil {
		return nil, err
	}
	return parseJSON(b)
}

func parseJSON(b []byte) (any, error) {
	if fetch.LooksHTML(b) {
		return nil, errors.New("an HTML page stands there, not JSON")
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, fmt.Errorf("it is not JSON: %w", jsonError(b, err))
	}
	if depth(v) > maxDepth {
		return nil, fmt.Errorf("its arrays and objects lie more than %d deep in each other", maxDepth)
	}
	return plain(v), nil
}

// depth is how deep arrays and objects lie in each other.
func depth(v any) (d int) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			d = max(d, depth(e)+1)
		}
	case map[string]any:
		for _, e := range v {
			d = max(d, depth(e)+1)
		}
	}
	return d
}

// plain gives numbers the types that a JSONPath compares.
func plain(v any) any {
	switch v := v.(type) {
	case json.Number:
		if n, err := v.Int64(); err == nil {
			return n
		}
		f, _ := v.Float64()
		return f
	case []any:
		for i := range v {
			v[i] = plain(v[i])
		}
	case map[string]any:
		for k := range v {
			v[k] = plain(v[k])
		}
	}
	return v
}

// apiBuild reads what the list tells of one build.
func (r *reader) apiBuild(row any) (o offered, err error) {
	a := r.API
	vars := map[string]string{}
	for _, f := range []struct {
		key, expr string
		to        *string
		must      bool
	}{{"version", a.Version, &o.version, true}, {"channel", a.Channel, &o.channel, false},
		{"date", a.Date, &o.date, false}, {"notes", a.Notes, &o.notes, false}, {"number", a.Number, &o.number, false}, {"fits", a.Fits, &o.fits, false}} {
		if *f.to, err = value(row, "api."+f.key, f.expr, vars, f.must); err != nil {
			return o, err
		}
		vars[f.key] = *f.to
	}
	if to, ok := a.Channels[o.channel]; ok {
		o.channel = to
	}
	o.notes, _, _ = strings.Cut(strings.TrimSpace(o.notes), "\n")
	if len(o.date) >= 10 && strings.Trim(o.date, "0123456789") == "" { // seconds or milliseconds since 1970
		o.date = unixDay(o.date)
	}
	if !version.Valid(o.version) {
		return o, fmt.Errorf("api.version: %q is empty or holds spaces", o.version)
	}
	return o, version.CheckRange(o.fits)
}

// apiDetail reads the second document of a build.
func (r *reader) apiDetail(ctx context.Context, row any, b offered, list string, out *Build) error {
	at, err := value(row, "api.detail", r.API.Detail, map[string]string{"version": b.version, "channel": b.channel},
		true)
	if err != nil {
		return err
	}
	if at, err = fetch.Resolve(list, at); err != nil {
		return err
	}
	doc, err := r.json(ctx, at)
	if err != nil {
		return fmt.Errorf("read %s: %w", fetch.Shown(at), err)
	}
	files, err := r.apiFiles(doc, b, at)
	if err != nil {
		return err
	}
	f, err := r.builds(files)
	if err != nil {
		return err
	}
	if len(f.Builds) == 0 {
		return fmt.Errorf("%s names no file", fetch.Shown(at))
	}
	out.Parts, out.Variants = f.Builds[0].Parts, f.Builds[0].Variants
	return nil
}

// apiFiles reads the files of one build from the document that tells of them.
func (r *reader) apiFiles(doc any, b offered, where string) (out []offered, err error) {
	a := r.API
	nodes := []any{doc}
	if a.Files != "" {
		if nodes, err = find(doc, "api.files", a.Files); err != nil {
			return nil, err
		}
	}
	for _, n := range nodes {
		o := b
		vars := map[string]string{"version": b.version, "channel": b.channel}
		get := func(key, expr string, must bool) string {
			var s string
			if err == nil {
				s, err = value(n, "api."+key, expr, vars, must)
			}
			return s
		}
		o.variant, o.os, o.arch = get("variant", a.Variant, false), get("os", a.OS, false), get("arch", a.Arch, false)
		vars["variant"], vars["os"], vars["arch"] = o.variant, o.os, o.arch
		at, size := get("url", a.URL, r.Listing == nil), get("size", a.Size, false)
		sums := map[string]string{}
		for _, name := range slices.Sorted(maps.Keys(a.Digests)) {
			if d := get("digests."+name, a.Digests[name], false); d != "" {
				sums[name] = d
			}
		}
		if err != nil {
			return nil, err
		}
		if at, err = fetch.Resolve(where, at); err != nil {
			return nil, fmt.Errorf("api.url: %w", err)
		}
		if o.part, err = r.part(at); err != nil {
			return nil, err
		}
		if size != "" {
			if o.part.Size, err = strconv.ParseInt(size, 10, 64); err != nil || o.part.Size < 0 {
				return nil, fmt.Errorf("api.size: %q is not a number of bytes", size)
			}
		}
		if len(sums) > 0 {
			o.part.Digests = sums
		}
		if err := checkWanted(o.part.Wanted); err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, nil
}

// find applies a JSONPath (RFC 9535).
func find(doc any, key, expr string) ([]any, error) {
	x, err := jp.ParseString(expr)
	if err != nil || !strings.HasPrefix(expr, "$") {
		return nil, fmt.Errorf("%s: %q is not a JSONPath such as \"$.builds[*]\" (%v)", key, expr, err)
	}
	if strings.Count(expr, "..") > 2 {
		return nil, fmt.Errorf("%s: %q looks everywhere («..») more than twice: name the way more closely", key, expr)
	}
	// The library can't be told to stop; what it goes on with ends with the command.
	got := make(chan []any, 1)
	go func() { got <- x.Get(doc) }()
	select {
	case found := <-got:
		return found, nil
	case <-time.After(findTime):
		return nil, fmt.Errorf("%s: %q did not come to an end within %s in this document", key, expr, findTime)
	}
}

var hole = regexp.MustCompile(`\{(\$[^{}]*|[a-z]+)\}`)

// value reads one value: a JSONPath, or text with holes.
func value(doc any, key, expr string, vars map[string]string, must bool) (string, error) {
	if expr == "" {
		return "", nil
	}
	var bad error
	read := func(p string) string {
		found, err := find(doc, key, p)
		if err != nil {
			bad = err
			return ""
		}
		s, ok := "", false
		if len(found) > 0 {
			s, ok = scalar(found[0])
		}
		if !ok && must {
			bad = fmt.Errorf("%s: %s finds no text or number in a build", key, p)
		}
		return s
	}
	if strings.HasPrefix(expr, "$") {
		s := read(expr)
		return s, bad
	}
	out := hole.ReplaceAllStringFunc(expr, func(h string) string {
		name := h[1 : len(h)-1]
		if strings.HasPrefix(name, "$") {
			return read(name)
		}
		v, ok := vars[name]
		if !ok {
			bad = fmt.Errorf("%s: there is nothing to fill in for %s", key, h)
		}
		return v
	})
	return out, bad
}

func scalar(v any) (string, bool) {
	switch v := v.(type) {
	case string:
		return v, true
	case bool, int64, int:
		return fmt.Sprint(v), true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	}
	return "", false
}
