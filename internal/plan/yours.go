package plan

import (
	"fmt"
	"path"
	"slices"
	"time"

	"freshkeel/internal/inventory"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// Claim is a file that the build would replace, and that may be the operator's or the server's own.
type Claim struct {
	Path string `json:"path"`
	Why  string `json:"why"` // it may be
}

// recorded tells whether anything of the install was recorded: of one that was never adopted nothing was.
func (pr *Planner) recorded() (bool, error) {
	s, err := pr.inv.Scan()
	if err != nil {
		return false, err
	}
	defer s.Close()
	return s.Next() != nil, s.Err()
}

// packedApart is how much younger than the programs a file may be that was put there with them.
const packedApart = time.Minute

// mayBeYours says why a file in the place of which the build has another one may be the operator's own, or the
// server's data; "" for one that a build put there. No build that is known put it there; where none is known, what
// is run, programs with what they load, and what [place] names are builds' all the same, and so is whatever is no
// younger than these.
func (d *decider) mayBeYours(it *Item, here *tree.Entry, was *inventory.Owned) string {
	p, at := d.p, it.At
	if was != nil && (p.Known || was.Layer != "") || d.replaces()[at] || d.Profile.Starts(at) {
		return ""
	}
	if (!p.Known || p.Whose[at] != "") && (IsProgram(at) || profile.Vendored(at) || d.isProgram(it.File)) {
		return ""
	}
	switch {
	case was == nil && p.Known:
		return "no build that is known put it there"
	case was == nil && p.recorded:
		return "it came after the install was taken under care"
	}
	if at := d.youngest(); at > 0 && here.Mtime > at+int64(packedApart) {
		return "it was written after the programs, " + time.Unix(0, here.Mtime).Format("2006-01-02 15:04")
	}
	return ""
}

// replaces are the paths at which a build's file replaces whatever stands there: what the launch script runs, and
// what rules lay there.
func (d *decider) replaces() map[string]bool {
	if d.laid == nil {
		d.laid = map[string]bool{}
		for _, at := range d.Runs() {
			d.laid[d.p.Spelling.Of(at)] = true
		}
		for _, to := range d.Profile.Place {
			d.laid[to] = true
		}
		for _, m := range slices.Concat(d.p.Relaid, d.p.Renamed) {
			d.laid[m.To] = true
		}
	}
	return d.laid
}

// youngest is when the last of the installed programs was made, or of what they load; 0 where none is there.
func (d *decider) youngest() int64 {
	if d.made == 0 {
		for _, e := range d.p.Before {
			if e.Kind == tree.File && (IsProgram(e.Path) || profile.Vendored(e.Path) || d.replaces()[e.Path]) &&
				!d.Profile.Server.Own(e.Path) {
				d.made = max(d.made, e.Mtime)
			}
		}
	}
	return d.made
}

// overwriting is one word of the operator's that files become the build's.
type overwriting struct {
	typed string
	is    tree.Patterns
	used  bool
}

// overwrites reads what the operator named so.
func (pr *Planner) overwrites(typed []string, list tree.List) (out []*overwriting, err error) {
	for _, one := range typed {
		is, err := tree.Chosen([]string{one}, pr.Dir, list.Each(), words.Near)
		if err != nil {
			return nil, tell.Misuse("--overwrite: "+err.Error(), "freshkeel -d "+words.Shell(pr.Dir)+" preflight --all")
		}
		out = append(out, &overwriting{typed: one, is: is})
	}
	return out, nil
}

// mayTake tells whether the operator said that a file which may be theirs becomes the build's.
func (d *decider) mayTake(at string) (yes bool) {
	for _, o := range d.overwrite {
		if o.is.Match(at) {
			o.used, yes = true, true
		}
	}
	if yes {
		d.p.Taken = append(d.p.Taken, at)
	}
	return yes
}

// claims tells whether a file that stands in the place of one of the build's may be the operator's own, and stays. It
// says so in the plan.
func (d *decider) claims(it *Item, here *tree.Entry, was *inventory.Owned) (bool, error) {
	why := d.mayBeYours(it, here, was)
	if why == "" || d.mayTake(it.At) {
		return false, nil
	}
	if here.Kind == tree.File {
		sum, err := d.look.Of(*here, was)
		if err != nil {
			return false, fmt.Errorf("compare %s: %w", it.At, err)
		}
		if of, err := d.ofBuild(it.At, sum); err != nil || of != "" {
			return false, err // another build's, that was put there by hand
		}
	}
	d.p.Claims = append(d.p.Claims, Claim{it.At, why})
	return true, nil
}

// ClaimedBy names what is claimed as a command does: a folder of which all that would be replaced is, or one file.
func (p *Plan) ClaimedBy() (out []string) {
	in := map[string]int{}
	for _, c := range p.Claims {
		in[path.Dir(c.Path)]++
	}
	for _, c := range p.Claims {
		name := tree.Literally(c.Path)
		if dir := path.Dir(c.Path); dir != "." && in[dir] > 1 {
			name = tree.Literally(dir) + "/**"
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}
