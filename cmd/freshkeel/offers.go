package main

import (
	"fmt"
	"strings"

	"freshkeel"
)

func (v *view) offers(offers []*freshkeel.Offer) {
	for i, o := range offers {
		if i > 0 {
			fmt.Fprintln(v.p.out)
		}
		v.offer(o)
	}
}

func (v *view) offer(o *freshkeel.Offer) {
	newest := v.offerOutcome(o)
	if !o.AsOf.IsZero() {
		v.fact("offline", "the source can't be reached; this is what it offered on "+when(o.AsOf))
	}
	heads := []string{"build", "stands", "channel", "date", "download", "locker", "notes"}
	var table [][]string
	for _, b := range o.Builds {
		mark := ""
		switch {
		case b.Installed:
			mark = "installed"
		case b.Cant != "":
			mark = "newer, not from here"
		case b.Newer && !b.InChannel:
			mark = "newer, other channel"
		case b.Newer && b.Version == "":
			mark = "other files"
		case b.Newer:
			mark = "newer"
		}
		where, size := "-", "-"
		if b.Fetched {
			where = "fetched"
		}
		if b.Bytes > 0 {
			size = freshkeel.Bytes(b.Bytes)
		}
		notes := b.Notes
		if b.Fits != "" {
			notes = strings.Join(nonEmpty("fits "+b.Fits, notes), "; ")
		}
		if len(b.Variants) > 0 {
			notes = strings.Join(nonEmpty("as "+strings.Join(b.Variants, ", "), notes), "; ")
		}
		table = append(table, []string{orUnknown(b.Version), mark, orDash(b.Channel), orDash(b.Date), size, where,
			notes})
	}
	fmt.Fprintln(v.p.out)
	v.table(heads, table, func(row, col int) string {
		switch b := o.Builds[row]; {
		case b.Installed && col < 2:
			return strong
		case b.Newer && b.InChannel && col < 2:
			return good
		}
		return ""
	})
	for _, b := range o.Builds {
		if b.Cant != "" && newest != "" {
			v.fact("not "+b.Version, b.Cant)
		}
	}
	for _, b := range o.Builds {
		if b.Changes != nil {
			v.changes(b.Changes)
		}
	}
	if newest != "" {
		fmt.Fprintln(v.p.out)
		v.fact("next", newest)
	}
}

// offerOutcome says first what matters, and returns what to do next.
func (v *view) offerOutcome(o *freshkeel.Offer) (next string) {
	name := ""
	if o.Layer != "" {
		name = "layer " + o.Layer + ": "
	}
	newest, cant := -1, -1
	for i, b := range o.Builds {
		switch {
		case b.Newer && b.InChannel && b.Cant == "":
			newest = i
		case b.Newer && b.InChannel:
			cant = i
		}
	}
	if newest < 0 && cant >= 0 {
		v.outcome(minded, "NEWER", fmt.Sprintf("%s%s is there, and can't be installed: %s", name,
			o.Builds[cant].Version, o.Builds[cant].Cant))
		return ""
	}
	if newest >= 0 {
		b := o.Builds[newest]
		next = "freshkeel preflight " + b.Version
		if o.Layer != "" {
			next = fmt.Sprintf("freshkeel preflight --layer %s=%s", o.Layer, b.Version)
		}
		if b.Version == "" || b.Version == o.Installed {
			v.outcome(good, "OTHER", fmt.Sprintf("%sthe source (%s) has other files than what is installed (%s)", name,
				o.Kind, orUnknown(o.Installed)))
			return strings.TrimSuffix(strings.TrimSpace(next), "=")
		}
		v.outcome(good, "NEWER", fmt.Sprintf("%s%s is there; %s is installed", name, b.Version, orUnknown(o.Installed)))
		return next
	}
	switch {
	case o.Installed == "" && o.Layer != "":
		v.outcome(minded, "NOT LAID", name+"the next refit lays it")
	case o.Installed == "":
		v.outcome(minded, "UNKNOWN", "which version is installed is not known")
	case len(o.Mixed) > 0:
		v.outcome(minded, "MIXED", fmt.Sprintf("%s is installed, but some of its files are of %s", o.Installed,
			strings.Join(o.Mixed, ", ")))
		next = "freshkeel refit " + o.Installed + "   (makes it whole)"
	case o.Channel != "" && o.From != "" && o.Channel != o.From:
		v.outcome(minded, "AHEAD", fmt.Sprintf("%s%s is installed, from channel %s; %s has nothing newer", name,
			o.Installed, o.From, o.Channel))
		for _, b := range o.Builds {
			if b.InChannel && !b.Installed {
				next = "freshkeel refit " + b.Version +
					" --back   (or freshkeel rollback, which brings the world back with it if you ask)"
			}
		}
	default:
		v.outcome(good, "CURRENT", name+o.Installed+" is installed, nothing newer is offered")
	}
	return next
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// changes lists what differs by content, kind by kind.
func (v *view) changes(c *freshkeel.Changes) {
	fmt.Fprintln(v.p.out)
	for _, m := range c.Moved {
		v.fact("moved", m.From+" → "+m.To+" (the same content)")
	}
	for _, l := range []struct {
		what string
		list []string
	}{{"changed", c.Changed}, {"new", c.Added}, {"gone", c.Removed}} {
		if len(l.list) > 0 {
			v.fact(l.what, fmt.Sprintf("%s: %s", count(len(l.list), "file"), short(l.list)))
		}
	}
}

func (v *view) feedChecked(r *freshkeel.FeedChecked, where string) {
	switch {
	case len(r.Wrong) > 0:
		v.outcome(bad, "WRONG", fmt.Sprintf("%s: %s can't be used as it stands", where, count(len(r.Wrong), "file")))
	case len(r.Poor) > 0:
		v.outcome(minded, "USABLE", fmt.Sprintf("%s: %s, %s; %s could be better", where, count(r.Builds, "build"),
			count(r.Files, "file"), count(len(r.Poor), "thing")))
	default:
		v.outcome(good, "GOOD", fmt.Sprintf("%s: %s, %s", where, count(r.Builds, "build"), count(r.Files, "file")))
	}
	for _, w := range r.Wrong {
		v.fact("wrong", w)
	}
	for _, w := range r.Poor {
		v.fact("poor", w)
	}
}
