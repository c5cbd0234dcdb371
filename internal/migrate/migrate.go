// Package migrate does what a build's makers want done to data between two builds: it runs a
// command, feeds a file to one, or sends a form to the makers' own installer page on this
// machine.
package migrate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/host"
	"freshkeel/internal/install"
	"freshkeel/internal/profile"
	"freshkeel/internal/resolve"
	"freshkeel/internal/secrets"
	"freshkeel/internal/tell"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"

	"github.com/PuerkitoBio/goquery"
)

// Migrator runs the migrations of one install.
type Migrator struct {
	*install.Install
	res *resolve.Resolver
}

// New is the migrator of an install.
func New(res *resolve.Resolver) *Migrator { return &Migrator{res.Install, res} }

// Due are the migrations that a step from one version to another runs, in their order. A step
// of which one of the two is not known crosses nothing.
func Due(p *profile.Profile, from, to string) (out []profile.Migration) {
	for _, m := range p.Migrations {
		before, after, crosses := strings.Cut(m.When, "->")
		if m.When == profile.EachTime || (crosses && from != "" && to != "" && version.Fits(strings.TrimSpace(before), from) &&
			version.Fits(strings.TrimSpace(after), to)) {
			out = append(out, m)
		}
	}
	return out
}

// Words is what a migration does, in a line.
func Words(m profile.Migration) string {
	switch {
	case m.Page != "":
		var chosen []string
		for field, value := range m.Choice {
			chosen = append(chosen, field+"="+value)
		}
		slices.Sort(chosen)
		return strings.TrimSpace(fmt.Sprintf("the form at %s %s", m.Page, strings.Join(chosen, " ")))
	case m.File != "":
		return fmt.Sprintf("%s, fed to %s", m.File, m.Run[0])
	}
	return strings.Join(m.Run, " ")
}

// Failed says why a migration is not known to have been done, with its last lines.
type Failed struct {
	Name  string
	Why   string
	Lines []string
}

func (f *Failed) Error() string { return fmt.Sprintf("the migration %s: %s", f.Name, f.Why) }

// mostLines is how many last lines of a migration are kept.
const mostLines = 12

// Run runs one migration to its end. An error, which is a *Failed, says that it is not known
// to have been done.
func (mg *Migrator) Run(ctx context.Context, m profile.Migration, from, to string) error {
	ctx, cancel := context.WithTimeoutCause(ctx, m.Limit.Std(), host.ErrTooLong)
	defer cancel()
	h := &heard{m: m, each: func(l string) { mg.Tell(tell.Event{Kind: tell.ToolSaid, Text: l}) }}
	var err error
	if m.Page != "" {
		err = mg.page(ctx, m, from, to, h)
	} else {
		err = mg.tool(ctx, m, from, to, h)
	}
	if cause := context.Cause(ctx); err != nil && cause != nil {
		err = cause
	}
	why := ""
	switch {
	case h.failed != "":
		why = "it says " + words.Quote(h.failed)
	case err != nil:
		why = err.Error()
	case m.Success.Given() && !h.succeeded:
		why = fmt.Sprintf("it ended, and said nothing that matches %s", words.Quote(m.Success.String()))
	default:
		return nil
	}
	return &Failed{m.Name, why, h.last}
}

// heard is what a migration said.
type heard struct {
	m         profile.Migration
	each      func(string)
	last      []string
	failed    string
	succeeded bool
}

func (h *heard) line(l string) {
	l = words.Printable(strings.TrimRight(l, "\r\n"))
	if strings.TrimSpace(l) == "" {
		return
	}
	if h.last = append(h.last, l); len(h.last) > mostLines {
		h.last = h.last[1:]
	}
	h.each(l)
	if by, _ := h.m.Fail.Match(l); by != nil && h.failed == "" {
		h.failed = l
	}
	h.succeeded = h.succeeded || (h.m.Success.Given() && h.m.Success.MatchString(l))
}

func fill(s, from, to string) string {
	return strings.NewReplacer("{from}", from, "{to}", to).Replace(s)
}

func (mg *Migrator) tool(ctx context.Context, m profile.Migration, from, to string, h *heard) error {
	var argv []string
	for _, a := range m.Run {
		argv = append(argv, fill(a, from, to))
	}
	if strings.Contains(argv[0], "/") && !filepath.IsAbs(argv[0]) { // one that stands in the install
		argv[0] = mg.Path(argv[0])
	}
	t := host.Tool{Argv: argv, Dir: mg.Dir, Env: append(slices.Clone(mg.Env), m.Env...)}
	if m.File != "" {
		f, err := mg.Open(fill(m.File, from, to))
		if err != nil {
			return err
		}
		defer f.Close()
		t.In = f
	}
	return host.RunTool(ctx, t, h.line)
}

// mostPage bounds what is read of a page, in bytes.
const mostPage = 8 << 20

// page reads the makers' page, with its cookies, finds the form on it, and sends that with the
// profile's fields. A choice that the page does not offer is not sent: it may mean something else.
func (mg *Migrator) page(ctx context.Context, m profile.Migration, from, to string, h *heard) error {
	at, err := url.Parse(fill(m.Page, from, to))
	if err != nil {
		return err
	}
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	client := &http.Client{Jar: jar, CheckRedirect: func(req *http.Request, via []*http.Request) error {
		if !sameSite(req.URL, at) || len(via) > 5 {
			return fmt.Errorf("the page leads to %s, and stays not at %s", req.URL.Host, at.Host)
		}
		return nil
	}}
	doc, err := mg.get(ctx, client, at.String())
	if err != nil {
		return err
	}
	form, target, err := formOf(doc, at, m)
	if err != nil {
		return err
	}
	for field, value := range m.Form {
		secrets.KnowIn(field, value)
		form.Set(field, fill(value, from, to))
	}
	for field, value := range m.Choice {
		form.Set(field, value)
	}
	for field, login := range m.Secrets {
		_, word, _, err := mg.res.Client(profile.Source{}).Keys(login)
		if err != nil {
			return fmt.Errorf("the field %s: %w", field, err)
		}
		secrets.Know(word)
		form.Set(field, word)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, target, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("Referer", at.String())
	res, err := client.Do(req)
	if err != nil {
		return withoutAddress(err)
	}
	defer res.Body.Close()
	answer, err := goquery.NewDocumentFromReader(io.LimitReader(res.Body, mostPage))
	if err != nil {
		return fmt.Errorf("read its answer: %w", err)
	}
	answer.Find("script, style").Remove()
	answer.Find("p, br, li, tr, div, h1, h2, h3, h4, pre").AfterHtml("\n") // as a person sees lines
	for l := range strings.Lines(answer.Text()) {
		h.line(strings.TrimSpace(l))
	}
	if res.StatusCode >= 400 {
		return fmt.Errorf("its page answered %s", res.Status)
	}
	return nil
}

// sameSite tells whether an address is of the page's own host and port: another port of this machine is
// somebody else's.
func sameSite(to, at *url.URL) bool { return to.Scheme == at.Scheme && to.Host == at.Host }

// withoutAddress is an error of the line without the address that it is about, which may hold a secret.
func withoutAddress(err error) error {
	if at := (*url.Error)(nil); errors.As(err, &at) {
		return fmt.Errorf("%s %s: %w", strings.ToLower(at.Op), secrets.Recorded(at.URL), at.Err)
	}
	return err
}

// pageWait is how long a page is waited for that does not answer yet: its part may just be up.
const pageWait = 20 * time.Second

func (mg *Migrator) get(ctx context.Context, client *http.Client, at string) (*goquery.Document, error) {
	for end := time.Now().Add(pageWait); ; {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
		if err != nil {
			return nil, err
		}
		res, err := client.Do(req)
		if err == nil && res.StatusCode < 400 {
			defer res.Body.Close()
			return goquery.NewDocumentFromReader(io.LimitReader(res.Body, mostPage))
		}
		if err == nil {
			res.Body.Close()
			err = fmt.Errorf("%s answered %s", at, res.Status)
		}
		if time.Now().After(end) || ctx.Err() != nil {
			return nil, withoutAddress(err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// formOf is the form of a page that has all the fields of a profile's choice, filled in as the
// page has it, and where it is sent.
func formOf(doc *goquery.Document, at *url.URL, m profile.Migration) (form url.Values, target string, err error) {
	why := errors.New("the page has no form")
	doc.Find("form").EachWithBreak(func(_ int, f *goquery.Selection) bool {
		values := url.Values{}
		f.Find("input[name], textarea[name]").Each(func(_ int, in *goquery.Selection) {
			kind := strings.ToLower(in.AttrOr("type", "text"))
			_, checked := in.Attr("checked")
			switch kind {
			case "radio", "checkbox":
				if !checked {
					return
				}
			case "submit", "button", "image", "file":
				return
			}
			values.Set(in.AttrOr("name", ""), in.AttrOr("value", ""))
		})
		for field, value := range m.Choice {
			offered := offers(f, field)
			if !slices.Contains(offered, value) {
				why = fmt.Errorf("the page does not offer %s=%s; it offers %s", field, value,
					words.Some(offered, 6))
				return true
			}
		}
		to, e := at.Parse(f.AttrOr("action", at.String()))
		if e != nil || !sameSite(to, at) {
			why = fmt.Errorf("its form is sent to %s, and not to %s, where the page is", secrets.Recorded(f.AttrOr("action", "")), at.Host)
			return true
		}
		form, target, why = values, to.String(), nil
		return false
	})
	return form, target, why
}

// offers are the values that a form offers for a field.
func offers(f *goquery.Selection, field string) (out []string) {
	f.Find("input[name], button[name]").Each(func(_ int, in *goquery.Selection) {
		if in.AttrOr("name", "") == field {
			out = append(out, in.AttrOr("value", ""))
		}
	})
	f.Find("select[name]").Each(func(_ int, s *goquery.Selection) {
		if s.AttrOr("name", "") == field {
			s.Find("option").Each(func(_ int, o *goquery.Selection) {
				out = append(out, o.AttrOr("value", strings.TrimSpace(o.Text())))
			})
		}
	})
	return out
}

// Missing tells what a migration needs and the install, as it will be, has not; has tells
// whether a file will stand there.
func (mg *Migrator) Missing(m profile.Migration, from, to string, has func(at string) bool) string {
	if m.File != "" && !has(fill(m.File, from, to)) {
		return fill(m.File, from, to)
	}
	if len(m.Run) == 0 {
		return ""
	}
	program := fill(m.Run[0], from, to)
	if strings.Contains(program, "/") && !filepath.IsAbs(program) && tree.Local(program) {
		if !has(filepath.ToSlash(filepath.Clean(program))) {
			return program
		}
		return ""
	}
	if !host.Runs(program, mg.Env) {
		return program
	}
	return ""
}
