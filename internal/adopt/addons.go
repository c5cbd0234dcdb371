package adopt

import (
	"archive/zip"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/needs"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

// addons is where add-ons lie, and how each describes itself.
type addons struct {
	files, descriptor, name, version, fits, from string
}

var (
	descriptorKind = regexp.MustCompile(`(?i)\.(json|toml|ya?ml|ini|properties|cfg|info)$`)
	fitsKey        = regexp.MustCompile(
		`(?i)^(\w+[._-])?(requires?|needs?|fits|for|compatib\w*|support(s|ed)\w*|depends?\w*|` +
			`(min|max|api|game|server|host|core|engine|base|build|target)\w*)([._-]?(version|range|build|server|game|host))?s?$`,
	)
	nameKey    = regexp.MustCompile(`(?i)^(\w+\.)?(id|name|title)$`)
	versionKey = regexp.MustCompile(`(?i)^(\w+\.)?(version|ver)$`)
)

// lookForAddons finds a folder of add-ons: jars, zips or folders, most of which have a file of
// one name in them that says which versions each fits.
func (l *lookout) lookForAddons() {
	for _, e := range l.list {
		if e.Kind != tree.Dir || strings.Contains(e.Path, "/") || tree.Ours(e.Path) {
			continue
		}
		if a := l.addonsIn(e.Path); a != nil && (l.addons == nil || len(a.from) > len(l.addons.from)) {
			l.addons = a
		}
	}
	if l.addons != nil {
		l.guess("addons.files", l.addons.files, l.addons.from)
	}
}

// mostAddons bounds how many add-ons of a folder are looked into.
const mostAddons = 40

// addonsIn looks at one folder.
func (l *lookout) addonsIn(dir string) *addons {
	read := map[string][]needs.Descriptor{} // by the descriptor's name
	kinds := map[string]int{}
	items := 0
	for _, e := range l.files.Below(dir) {
		if path.Dir(e.Path) != dir || items == mostAddons {
			continue
		}
		ext := strings.ToLower(path.Ext(e.Path))
		switch {
		case e.Kind == tree.Dir:
			items++
			for _, f := range l.files.Below(e.Path) {
				if f.Kind == tree.File && path.Dir(f.Path) == e.Path && descriptorKind.MatchString(f.Path) &&
					f.Size < 64<<10 {
					l.readDescriptor(read, path.Base(f.Path), []byte(l.text(f.Path, 64<<10)))
				}
			}
			kinds["/*"]++
		case e.Kind == tree.File && (ext == ".jar" || ext == ".zip"):
			items++
			l.readPacked(read, e)
			kinds["/*"+ext]++
		}
	}
	for name, all := range read {
		if len(all)*2 < items || len(kinds) != 1 {
			continue
		}
		a := &addons{descriptor: name}
		for kind := range kinds {
			a.files = dir + kind
		}
		for _, key := range flat(all[0]) {
			value := strings.Join(all[0].Field(key), " ")
			switch {
			case nameKey.MatchString(key) && a.name == "":
				a.name = key
			case versionKey.MatchString(key) && a.version == "":
				a.version = key
			case fitsKey.MatchString(key) && a.fits == "" && strings.ContainsAny(value, "0123456789") && fitsText(value):
				a.fits = key
			}
		}
		if a.fits != "" {
			a.from = fmt.Sprintf("%s of %s in %s say in %s which versions they fit", words.Plural(len(all), "add-on"),
				fmt.Sprint(items), dir, name)
			return a
		}
	}
	return nil
}

func fitsText(s string) bool {
	_, err := version.FitsAddon(s, "1.0", false)
	return err == nil
}

func (l *lookout) readDescriptor(read map[string][]needs.Descriptor, name string, b []byte) {
	if d, err := needs.ReadDescriptor(name, b); err == nil && len(d) > 0 {
		read[name] = append(read[name], d)
	}
}

// readPacked reads the small files at the top of an add-on that is a zip or a jar.
func (l *lookout) readPacked(read map[string][]needs.Descriptor, e tree.Entry) {
	f, err := tree.OpenRegular(l.full(e.Path))
	if err != nil {
		return
	}
	defer f.Close()
	z, err := zip.NewReader(f, e.Size)
	if err != nil {
		return
	}
	for _, in := range z.File {
		if !strings.Contains(in.Name, "/") && descriptorKind.MatchString(in.Name) {
			if d, err := needs.DescriptorIn(f, e.Size, in.Name); err == nil {
				read[in.Name] = append(read[in.Name], d)
			}
		}
	}
}

// flat are the keys of a descriptor, dotted where they lie deeper, in order.
func flat(d needs.Descriptor) (keys []string) {
	for k, v := range d {
		if inner, is := v.(map[string]any); is {
			for in := range inner {
				keys = append(keys, k+"."+in)
			}
			continue
		}
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b string) int {
		if n := strings.Count(a, ".") - strings.Count(b, "."); n != 0 {
			return n
		}
		return strings.Compare(a, b)
	})
	return keys
}

// addonsText writes where add-ons lie, where some were found.
func (l writing) addonsText(w func(string, ...any)) {
	a := l.addons
	if a == nil {
		return
	}
	w("")
	w("[addons]   # each is held against the version of a new build")
	w("# guessed from: %s", oneLine(a.from))
	w("files = [%s]", words.Quote(a.files))
	w("descriptor = %s", words.Quote(a.descriptor))
	w("name = %s", words.Quote(a.name))
	w("version = %s", words.Quote(a.version))
	w("fits = %s", words.Quote(a.fits))
}
