package plan

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"freshkeel/internal/install"
	"freshkeel/internal/resolve"
	"freshkeel/internal/staging"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
)

// Consent is a file in which a server's makers ask for the operator's consent:
// a server writes it on its first start, and ends until its one line says yes.
type Consent struct {
	Path string   `json:"path"`
	Line int      `json:"line"`
	Says string   `json:"says"` // the line as it stands: "agreed=false"
	Asks []string `json:"asks"` // the other lines: what is asked

	Agreed []byte `json:"-"` // the whole file, with that one word changed
	Yes    string `json:"-"` // the line then
}

// maxConsent bounds such a file, in bytes: it is a note with one setting.
const maxConsent = 16 << 10

var (
	consentWord = regexp.MustCompile(`(?i)consent|licen[cs]e|terms|agree|accept|eula`)
	consentLine = regexp.MustCompile(`(?m)^[ \t]*([A-Za-z][\w .-]*?)[ \t]*[=:][ \t]*(\S+)[ \t]*\r?$`)
	consentName = regexp.MustCompile(`(?i)\.(txt|properties|conf|cfg|ini|toml|yaml|yml)$|^[^.]+$`)
	consentYes  = map[string]string{"false": "true", "no": "yes", "off": "on", "0": "1", "FALSE": "TRUE",
		"False": "True", "No": "Yes", "NO": "YES", "declined": "accepted"}
)

// ReadConsent tells whether a file asks for a consent that is not given yet: a
// short text whose only setting says no, and which speaks of consent.
func ReadConsent(at string, b []byte) (c Consent, ok bool) {
	if len(b) > maxConsent || !utf8.Valid(b) || bytes.IndexByte(b, 0) >= 0 {
		return c, false
	}
	found := -1
	for i, m := range consentLine.FindAllSubmatchIndex(b, -1) {
		line := bytes.TrimSpace(b[m[0]:m[1]])
		if bytes.HasPrefix(line, []byte("#")) || bytes.HasPrefix(line, []byte("//")) {
			continue
		}
		if found >= 0 || i > 40 {
			return c, false // a settings file
		}
		found = i
		yes, no := consentYes[string(b[m[4]:m[5]])]
		if !no || !(consentWord.Match(b[m[2]:m[3]]) || consentWord.MatchString(path.Base(at))) {
			return c, false
		}
		c = Consent{Path: at, Line: 1 + bytes.Count(b[:m[0]], []byte("\n")), Says: string(line)}
		c.Agreed = slices.Concat(b[:m[4]], []byte(yes), b[m[5]:])
		c.Yes = string(b[m[2]:m[4]]) + yes
	}
	for _, l := range strings.Split(string(b), "\n") {
		if l = strings.TrimSpace(strings.TrimLeft(strings.TrimSpace(l), "#/;")); l != "" && l != c.Says &&
			!strings.HasSuffix(l, c.Says) {
			c.Asks = append(c.Asks, l)
		}
	}
	return c, found >= 0
}

// OpenConsents lists the files at the top of the install in which a consent is
// asked for and not given.
func (pr *Planner) OpenConsents() (out []Consent) {
	list, err := os.ReadDir(pr.Dir)
	if err != nil {
		return nil
	}
	for _, d := range list {
		fi, err := d.Info()
		if err != nil || !fi.Mode().IsRegular() || fi.Size() > maxConsent || !consentName.MatchString(d.Name()) {
			continue
		}
		b, err := tree.ReadUpTo(pr.Path(d.Name()), install.MaxScript)
		if err != nil {
			continue
		}
		if c, ok := ReadConsent(d.Name(), b); ok {
			out = append(out, c)
		}
	}
	return out
}

// Accepts is the operator's word that accepts a file by name; "" where there is none.
func (pr *Planner) Accepts(at string, w resolve.Want) (by string) {
	switch {
	case slices.Contains(w.Consent, at):
		return "--consent " + at
	case slices.Contains(pr.Profile.Server.Consent, at):
		return "[server] consent"
	}
	return ""
}

// planConsents finds what consents the install or the new build asks for. The
// line of one that the operator accepts by name is changed with the build, and
// goes back with it; any other is told by its check.
func (pr *Planner) planConsents(p *Plan, w resolve.Want) {
	found := pr.OpenConsents()
	for _, st := range p.Steps { // what the build brings
		f, comes := p.Comes(st.Path)
		if !comes || (st.Do != swap.Add && st.Do != swap.Replace) || strings.Contains(st.Path, "/") ||
			f.Kind != tree.File || f.Size > maxConsent || !consentName.MatchString(st.Path) {
			continue
		}
		b := make([]byte, f.Size)
		if _, err := p.Store.Content(*f.File).ReadAt(b, 0); err != nil && f.Size > 0 {
			continue
		}
		found = slices.DeleteFunc(found, func(c Consent) bool { return c.Path == st.Path })
		if c, ok := ReadConsent(st.Path, b); ok {
			found = append(found, c)
		}
	}
	for _, c := range found {
		if p.Removed(c.Path) {
			continue
		}
		by := pr.Accepts(c.Path, w)
		if by == "" {
			p.Asked = append(p.Asked, c)
			continue
		}
		p.Edits = append(p.Edits, Edit{Path: c.Path, Line: c.Line, Old: c.Says, New: c.Yes, Why: by, Consent: true})
		if p.Brings(c.Path) {
			p.Texts[c.Path] = c.Agreed
		} else {
			p.rewrite(p.Before.At(c.Path), c.Agreed)
		}
	}
}

// Agree changes the one line of a consent in place.
func (pr *Planner) Agree(c Consent) error {
	e, ok, err := tree.Describe(pr.Path(c.Path), c.Path)
	if err != nil || !ok {
		return errors.Join(err, fs.ErrNotExist)
	}
	return staging.Text(pr.Path(c.Path), c.Agreed, e)
}

// Consents lists the files whose consent the plan gives.
func (p *Plan) Consents() (out []string) {
	for _, e := range p.Edits {
		if e.Consent {
			out = append(out, e.Path)
		}
	}
	return out
}
