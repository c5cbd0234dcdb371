package feed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"freshkeel/internal/fetch"
	"freshkeel/internal/version"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
)

// maxPage bounds a page that people read, in bytes: parsed, it takes many times that.
const maxPage = 6 << 20

// page reads the links of an HTML page.
func (r *reader) page(ctx context.Context) (*Feed, error) {
	where := r.at(r.Page.At)
	b, err := r.Client.Document(ctx, where, maxPage)
	if err != nil {
		return nil, err
	}
	rows, err := r.links(b, where)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, errors.New("no link of the page matches [source.page] links and pattern")
	}
	return r.builds(rows)
}

func (r *reader) links(page []byte, where string) (rows []offered, err error) {
	d, err := goquery.NewDocumentFromReader(bytes.NewReader(page))
	if err != nil {
		return nil, err
	}
	selector := r.Page.Links
	if selector == "" {
		selector = "a[href]"
	}
	sel, err := cascadia.Compile(selector)
	if err != nil {
		return nil, fmt.Errorf("page.links: %q is not a CSS selector: %w", selector, err)
	}
	base := where
	if href, ok := d.Find("base[href]").First().Attr("href"); ok {
		if b, err := fetch.Resolve(where, href); err == nil {
			base = b
		}
	}
	pattern := r.Page.Pattern
	for _, n := range d.FindMatcher(sel).EachIter() {
		href, ok := n.Attr("href")
		if !ok {
			href, ok = n.Find("a[href]").First().Attr("href")
		}
		if !ok {
			continue
		}
		at, err := fetch.Resolve(base, href)
		if err != nil {
			continue // a mail address, say
		}
		plain := at
		if u, err := url.PathUnescape(at); err == nil {
			plain = u
		}
		m := pattern.FindStringSubmatch(plain)
		if m == nil {
			continue
		}
		group := func(name string) string {
			if i := pattern.SubexpIndex(name); i >= 0 {
				return m[i]
			}
			return ""
		}
		o := offered{version: group("version"), channel: group("channel"), date: group("date"),
			variant: group("variant"), os: group("os"), arch: group("arch")}
		if o.channel == "" && pattern.SubexpIndex("channel") >= 0 {
			o.channel = "stable"
		}
		if !version.Valid(o.version) {
			continue
		}
		if o.part, err = r.part(at); err != nil {
			return nil, err
		}
		rows = append(rows, o)
	}
	return rows, nil
}

// unixDay writes seconds or milliseconds since 1970 as a date.
func unixDay(s string) string {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		return ""
	}
	if n > 1e11 {
		n /= 1000
	}
	return time.Unix(n, 0).UTC().Format(time.DateOnly)
}
