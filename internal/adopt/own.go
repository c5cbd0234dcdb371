package adopt

import (
	"cmp"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/install"
	"freshkeel/internal/learn"
	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// sorting decides whose the files of an install are.
type sorting struct{ *lookout }

// class is whose a file is.
type class int

const (
	builds  class = iota // the build's: new ones take its place
	mine                 // the operator's own: keep
	set                  // the operator's, and tied to the build: settings
	passing              // of no use once the server has ended, or a log: skip
	unsure               // nothing tells
)

// verdict is whose a file is, and what says so.
type verdict struct {
	class
	from string
}

// Doubt is a folder or file of which nothing tells whose it is.
type Doubt struct {
	Pattern string `json:"pattern"`
	Why     string `json:"why"`
}

var (
	// What worlds are called, whatever the game; and what they may be called, as may what a build ships.
	worldName = regexp.MustCompile(
		`(?i)^(worlds?|saves?|saved|savegames?|gardens|universes?|userdata|players?|backups?)$`,
	)
	maybeName = regexp.MustCompile(`(?i)^(maps?|data|database|db|levels?|storage|var|state)$`)
)

// sameTime is how far apart files may be that were put there at once.
const sameTime = time.Minute

// packedTime is how far apart files may be that a build was made of, where an archive kept
// their own times.
const packedTime = 10 * time.Minute

// lookForShipped finds out when the last of the shipped files was made: what was written after that may be the
// operator's or the server's. That is the youngest of the programs and of what they load, and of what an archive kept
// the times of: files that were made with it are a little younger, one after the other.
func (l sorting) lookForShipped() {
	youngest := tree.Entry{}
	for _, e := range l.list {
		top, _, below := strings.Cut(e.Path, "/")
		if e.Kind != tree.File || below && addonFolder.MatchString(top) || l.writtenNow(e) {
			continue
		}
		if e.Path == l.artifact && !(l.artifact == l.script && isScript(l.artifact)) ||
			programKind.MatchString(e.Path) || profile.Vendored(e.Path) {
			if e.Mtime > youngest.Mtime {
				youngest = e
			}
		}
	}
	if youngest.Path == "" {
		return
	}
	l.youngest, l.shipped = youngest.Path, time.Unix(0, youngest.Mtime)
	if youngest.Ctime == 0 || time.Duration(youngest.Ctime-youngest.Mtime) < 2*sameTime {
		return
	}
	var times []int64
	for _, o := range l.list {
		if o.Kind == tree.File && o.Mtime > youngest.Mtime && o.Ctime-o.Mtime > int64(2*sameTime) {
			times = append(times, o.Mtime)
		}
	}
	slices.Sort(times)
	for _, t := range times {
		if at := time.Unix(0, t); at.Sub(l.shipped) <= packedTime {
			l.shipped = at
		}
	}
}

// newer tells whether a file was written after the shipped ones.
func (l sorting) newer(e tree.Entry) bool {
	return !l.shipped.IsZero() && time.Unix(0, e.Mtime).After(l.shipped.Add(sameTime))
}

// used tells whether the server is run by a file.
func (l sorting) used(at string) bool {
	if at == l.artifact || at == l.script {
		return true
	}
	for _, c := range l.others {
		if at == c.File || at == c.Jar || at == c.Script || l.full(at) == c.Path {
			return true
		}
	}
	return slices.ContainsFunc(l.place, func(p [3]string) bool { return p[1] == at })
}

// whose decides about one file.
func (l sorting) whose(e tree.Entry) verdict {
	at, base := e.Path, path.Base(e.Path)
	top, _, below := strings.Cut(at, "/")
	switch {
	case at == l.script && at != l.artifact:
		return l.whoseScript(e)
	case l.used(at) && at != l.script || at == l.script:
		return verdict{builds, "the server is run by it"}
	case l.asBuilt(e):
		return verdict{builds, "it is as the build ships it"}
	case below && learn.IsLogFolder(top) && l.ofBuild(at) == nil:
		return verdict{passing, "logs or cache, by its name"}
	}
	if v, is := l.whoseByKind(e); is {
		return v
	}
	kind := ""
	switch {
	case profile.PeopleByName(base):
		kind = "a list, by its name"
	case l.people(e):
		kind = "a list of people, by what is in it"
	case profile.SettingsByName(at):
		kind = "settings, by its kind"
	default:
		kind = learn.IsData(at, nil, learn.Beside{})
	}
	as := func(c class, from string) verdict {
		if kind != "" && from != "" {
			return verdict{c, kind + "; " + from}
		}
		return verdict{c, kind + from}
	}
	own := mine
	if strings.HasPrefix(kind, "settings") && !l.dataBelow(at) {
		own = set
	}
	switch {
	case l.writtenNow(e):
		return as(own, "it was written while the server ran")
	case l.ofBuild(at) != nil && kind == "":
		return verdict{builds, "the build ships it, and it was changed here"}
	case l.ofBuild(at) != nil:
		return as(own, "it is not as the build ships it")
	case l.known && l.broughtAlong(e):
		return verdict{builds, "a program, or what came with one: a loader's or an add-on's own"}
	case l.known && isScript(at):
		return verdict{set, "a script that the build does not ship"}
	case l.known:
		return as(own, "the build does not ship it")
	}
	return l.whoseByTime(e, as, own, kind)
}

// programKind are the endings of what is run, or is loaded by what runs.
var programKind = regexp.MustCompile(`(?i)\.(jar|so(\.\d+)*|dll|exe|dylib)$`)

// addonFolder is what folders of add-ons are called.
var addonFolder = regexp.MustCompile(`(?i)^(mods?|plug-?ins?|add-?ons?|extensions?)$`)

// whoseByKind decides about a file by what it is, whatever its date: a program's part, a log, data that its content
// gives away.
func (l sorting) whoseByKind(e tree.Entry) (verdict, bool) {
	at, base, shipped := e.Path, path.Base(e.Path), l.ofBuild(e.Path) != nil
	top, _, below := strings.Cut(at, "/")
	var head []byte
	if ext := path.Ext(base); !learn.Shipped(at) && (ext == "" || learn.IsLog(at) || e.Mode&0o111 != 0 || !shipped) {
		head = l.begins(e)
	}
	if learn.IsProgramPart(at, head, e.Mode) && !(l.writtenNow(e) && !programKind.MatchString(at)) {
		switch {
		case below && addonFolder.MatchString(top) && programKind.MatchString(at) && !l.loaded(at):
			return verdict{}, false // an add-on, which its makers ship or the operator put there
		case profile.Vendored(at):
			return verdict{builds, "a package manager laid it"}, true
		case isScript(at) && !shipped:
			return verdict{}, false
		}
		return verdict{builds, "a program, or a part of one"}, !l.known || shipped
	}
	beside := learn.Beside{Names: l.beside(at), Told: l.toldTo(at)}
	if learn.IsLog(at) && !shipped {
		if why := learn.DataNotLog(at, head, beside); why != "" {
			return verdict{mine, why}, true
		}
		return verdict{passing, "a log"}, true
	}
	if learn.IsLeftover(base) && !shipped {
		return verdict{passing, "it is of no use once the server has ended"}, true
	}
	if why := learn.IsData(at, head, beside); why != "" && why != learn.IsData(at, nil, learn.Beside{}) && !shipped {
		return verdict{mine, why}, true
	}
	return verdict{}, false
}

// loaded tells whether a launch line's own paths name a file: those of classes, modules and libraries.
func (l sorting) loaded(at string) bool {
	if l.loads == nil {
		l.loads = map[string]bool{}
		for _, c := range l.others {
			for _, at := range c.Runs(l.dir) {
				l.loads[at] = true
			}
			line, ok := scripting(l).javaLine(c)
			if !ok {
				continue
			}
			for _, at := range scripting(l).jarsOf(c, line.ClassPath) {
				l.loads[at] = true
			}
			for i, flag := range line.Flags {
				value, given := "", false
				switch key, v, _ := strings.Cut(flag, "="); key {
				case "-Djava.library.path", "--module-path", "--upgrade-module-path", "-javaagent":
					value, given = v, true
				case "-p":
					given = i+1 < len(line.Flags)
				}
				if strings.HasPrefix(flag, "-javaagent:") {
					value, given = strings.TrimPrefix(flag, "-javaagent:"), true
				}
				if given && value == "" {
					value = line.Flags[i+1]
				}
				for _, one := range strings.FieldsFunc(value, func(r rune) bool { return r == ':' || r == ';' }) {
					l.loads[path.Clean(c.At(l.dir, one))] = true
				}
			}
		}
	}
	return l.loads[at] || l.loads[path.Dir(at)]
}

// beside are the names of the files in a file's folder.
func (l sorting) beside(at string) []string {
	if l.folders == nil {
		l.folders = map[string][]string{}
		for _, e := range l.files {
			if e.Kind == tree.File {
				l.folders[path.Dir(e.Path)] = append(l.folders[path.Dir(e.Path)], path.Base(e.Path))
			}
		}
	}
	return l.folders[path.Dir(at)]
}

// redirected finds where a script writes what its server says.
var redirected = regexp.MustCompile(`(?:>>?|\btee\s+(?:-a\s+)?)\s*["']?([^\s"'&|;<>]+)`)

// toldTo tells whether the launch script writes what the server says to a file.
func (l sorting) toldTo(at string) bool {
	for _, m := range redirected.FindAllStringSubmatch(l.text(l.script, install.MaxScript), -1) {
		if path.Base(m[1]) == path.Base(at) {
			return true
		}
	}
	return false
}

// headBytes is how much of a file is read to tell what it is.
const headBytes = 16 << 10

// begins is how a file begins.
func (l sorting) begins(e tree.Entry) []byte {
	f, err := tree.OpenRegular(l.full(e.Path))
	if err != nil {
		return nil
	}
	defer f.Close()
	b := make([]byte, min(e.Size, headBytes))
	n, _ := f.ReadAt(b, 0)
	return b[:n]
}

// broughtAlong tells whether a file that the build does not ship came from the makers of something else, a
// loader say, and nobody has written to it since: a program, or what lies with one and is no younger. Such a
// file is not the operator's own: a new one of its makers' must take its place.
func (l sorting) broughtAlong(e tree.Entry) bool {
	if l.writtenNow(e) {
		return false
	}
	if programKind.MatchString(e.Path) {
		return true
	}
	top, _, below := strings.Cut(e.Path, "/")
	if !below || worldName.MatchString(top) {
		return false
	}
	newest := int64(0)
	for _, o := range l.filesBelow(top) {
		if programKind.MatchString(o.Path) {
			newest = max(newest, o.Mtime)
		}
	}
	return newest > 0 && e.Mtime <= newest+int64(sameTime)
}

// people tells whether a file of settings, by its name, is a list of people.
func (l sorting) people(e tree.Entry) bool {
	return profile.SettingsByName(e.Path) && e.Size < 1<<20 && profile.People(e.Path, []byte(l.text(e.Path, 1<<20)))
}

// dataBelow tells whether a file of a kind that settings have is a world's: it lies in a world,
// or in a folder that no settings are in by its name and is of a kind that data have too.
func (l sorting) dataBelow(at string) bool {
	top, _, below := strings.Cut(at, "/")
	if !below || confName.MatchString(path.Dir(at)) {
		return false
	}
	return worldName.MatchString(top) || dataToo.MatchString(at) && l.ofBuild(at) == nil
}

var (
	confName = regexp.MustCompile(`(?i)conf|settings|options|cfg`)
	dataToo  = regexp.MustCompile(`(?i)\.(json|xml|ya?ml)$`)
)

// whoseByTime decides about a file where the build is not known. A date never decides alone: what is younger than the
// programs is the operator's where nothing that builds ship lies with it, or its kind says so too.
func (l sorting) whoseByTime(e tree.Entry, as func(class, string) verdict, own class, kind string) verdict {
	top, _, below := strings.Cut(e.Path, "/")
	after := "it was written after " + l.youngest
	named := l.namedAsData()[top]
	switch {
	case below && worldName.MatchString(top) && l.newer(e):
		return verdict{mine, "a world, by its name; " + after}
	case below && worldName.MatchString(top):
		return verdict{mine, "a world, by its name"}
	case below && named != "" && !l.ships(top):
		return verdict{mine, named}
	case isScript(e.Path):
		return verdict{builds, "a script"}
	case l.newer(e) && kind != "":
		return as(own, after)
	case learn.Shipped(e.Path):
		return verdict{builds, "of a kind that builds ship"}
	case l.newer(e) && (!below || !l.ships(top) || l.liesWithData(e)):
		return verdict{mine, after}
	case l.newer(e):
		return verdict{unsure, after + ", and lies with what builds ship"}
	case strings.HasPrefix(kind, "a list"):
		return as(mine, "")
	case kind != "" && !below:
		return as(own, "")
	case own == set && confName.MatchString(top):
		return as(set, "")
	case l.standsOut(e):
		return verdict{mine, "it is younger than the files like it beside it, and is named like the server"}
	case below && maybeName.MatchString(top) && l.packed(e):
		return verdict{builds, "it was packed with others like it"}
	case below && maybeName.MatchString(top) && !makersText.MatchString(path.Base(e.Path)):
		return verdict{unsure, "it is as old as the program, and may be either by its name"}
	case !below && listKind.MatchString(e.Path) && !makersText.MatchString(e.Path):
		return verdict{unsure, "it is as old as the program, and nothing tells whose it is"}
	}
	return verdict{builds, "it is as old as the program"}
}

// ships tells whether something that only builds ship lies in a folder at the top.
func (l sorting) ships(top string) bool {
	if l.shipping == nil {
		l.shipping = map[string]bool{}
		for _, e := range l.files {
			if dir, _, below := strings.Cut(e.Path, "/"); below && e.Kind == tree.File && learn.Shipped(e.Path) {
				l.shipping[dir] = true
			}
		}
	}
	return l.shipping[top]
}

// liesWithData tells whether data lies in a file's own folder, by its kind.
func (l sorting) liesWithData(e tree.Entry) bool {
	return slices.ContainsFunc(l.beside(e.Path), func(n string) bool {
		return n != path.Base(e.Path) && learn.IsData(n, nil, learn.Beside{}) != ""
	})
}

// listKind are endings of lists, and makersText what makers call the texts that they add.
var (
	listKind   = regexp.MustCompile(`(?i)\.(txt|list|lst|csv)$`)
	makersText = regexp.MustCompile(`(?i)(read-?me|licen[cs]e|copying|copyright|change-?s?(log)?|history|news|authors?|credits|` +
		`thanks|install|todo|version|build|release|eula|terms|legal|notice|faq|help|manual|usage|requirements|guide|how-?to|3rd|third)`)
)

// packed tells whether a file was made together with others like it in its folder, long before it came here: an archive
// kept their times.
func (l sorting) packed(e tree.Entry) bool {
	if e.Ctime == 0 || time.Duration(e.Ctime-e.Mtime) < 2*sameTime {
		return false
	}
	like := 0
	for _, o := range l.files.Below(path.Dir(e.Path)) {
		if d := time.Duration(o.Mtime - e.Mtime).Abs(); o.Kind == tree.File && o.Path != e.Path &&
			path.Dir(o.Path) == path.Dir(e.Path) && path.Ext(o.Path) == path.Ext(e.Path) && d <= sameTime &&
			time.Duration(o.Ctime-o.Mtime) >= 2*sameTime {
			like++
		}
	}
	return like >= likeIt
}

// likeIt is how many files like it a file must lie beside, to stand out from them.
const likeIt = 3

// standsOut tells whether a file is younger than those like it in its folder, which were made at once, and has the name of
// the server: a map of the operator's among the makers'.
func (l sorting) standsOut(e tree.Entry) bool {
	word := strings.ToLower(strings.TrimSuffix(path.Base(e.Path), path.Ext(e.Path)))
	named := func(name string) bool {
		name = strings.ToLower(strings.TrimSuffix(path.Base(name), path.Ext(name)))
		return len(word) > 3 && (name == word || strings.HasPrefix(name, word+"-") || strings.HasPrefix(name, word+"_") ||
			strings.HasSuffix(name, "-"+word) || strings.HasSuffix(name, "_"+word))
	}
	if path.Ext(e.Path) == "" || !named(l.dir) && !named(l.artifact) && !named(l.script) && !named(l.a.Name) {
		return false
	}
	like, last := 0, int64(0)
	for _, o := range l.files.Below(path.Dir(e.Path)) {
		if o.Kind == tree.File && o.Path != e.Path && path.Dir(o.Path) == path.Dir(e.Path) &&
			path.Ext(o.Path) == path.Ext(e.Path) {
			like, last = like+1, max(last, o.Mtime)
		}
	}
	return like >= likeIt && e.Mtime > last+int64(sameTime)
}

// dataKey is how settings and launch lines name the place of their data, and notData what speaks against that.
var (
	dataKey = regexp.MustCompile(`(?i)^[\s"'-]*[\w.-]*?(data|stor(e|age)|saves?|saved|world|universe|level|db|database|persist\w*|` +
		`state|base)s?[_.-]?(dir(ectory)?|path|folder|root|location|file|name)?["']?$`)
	notData = regexp.MustCompile(`(?i)plug-?in|mods?\b|lib|log|module|web|static|asset|resource|config|cache|te?mp|share`)
	keyed   = regexp.MustCompile(`([\w.-]+)["']?\s*[:= ]\s*["']?(?:file:)?(\.{0,2}/?[\w.-]+(?:/[\w .-]+)*)/?["']?`)
)

// namedAsData are folders at the top that settings or the launch line name as the place of the server's data, each with what
// says so.
func (l sorting) namedAsData() map[string]string {
	if l.asData != nil {
		return l.asData
	}
	l.asData = map[string]string{}
	look := func(where string, text string) {
		for _, m := range keyed.FindAllStringSubmatch(text, -1) {
			at := path.Clean(m[2])
			top, _, _ := strings.Cut(at, "/")
			e, there := l.files.Get(top)
			if !there || e.Kind != tree.Dir || !dataKey.MatchString(m[1]) || notData.MatchString(at) || l.asData[top] != "" {
				continue
			}
			l.asData[top] = fmt.Sprintf("%s names it as the place of data: %s", where, learn.Clip(strings.TrimSpace(m[0])))
		}
	}
	for _, e := range l.files {
		if e.Kind == tree.File && !strings.Contains(e.Path, "/") && profile.SettingsByName(e.Path) {
			for i, line := range strings.Split(l.text(e.Path, 1<<20), "\n") {
				if t := strings.TrimSpace(line); !strings.HasPrefix(t, "#") && !strings.HasPrefix(t, ";") && !strings.HasPrefix(t, "//") {
					look(fmt.Sprintf("%s:%d", e.Path, i+1), line)
				}
			}
		}
	}
	for _, c := range l.others {
		look(fmt.Sprintf("%s:%d", c.File, c.Line), strings.Join(c.Args, " "))
	}
	return l.asData
}

// whoseScript tells whether the launch script is the operator's: one that runs something else
// holds memory flags and the like. One that is as the build ships it is the build's.
func (l sorting) whoseScript(e tree.Entry) verdict {
	from := "the launch script: its flags are yours"
	if l.ofBuild(e.Path) != nil {
		if l.asBuilt(e) {
			return verdict{builds, "it is as the build ships it"}
		}
		from += "; it is not as the build ships it"
	}
	return verdict{set, from}
}

// lookForOwnFiles sorts what is the operator's, folder by folder: one that is all of a kind
// gets one pattern, and one that is mixed is split.
func (l sorting) lookForOwnFiles() {
	of := map[string]verdict{}
	for _, e := range l.list {
		if e.Kind == tree.File && e.Path != profile.FileName &&
			!strings.HasPrefix(e.Path, profile.FileName+".before-") {
			of[e.Path] = l.whose(e)
		}
	}
	l.settle(of)
	for _, e := range l.list {
		if e.Kind == tree.Dir && !strings.Contains(e.Path, "/") && learn.IsLogFolder(e.Path) &&
			len(l.files.Below(e.Path)) == 0 {
			l.skip = append(l.skip, found{e.Path + "/**", "logs or cache, by its name"})
		}
		if e.Kind == tree.Dir && !strings.Contains(e.Path, "/") && worldName.MatchString(e.Path) &&
			len(l.files.Below(e.Path)) == 0 {
			l.keep = append(l.keep, found{e.Path + "/**", "a world, by its name"})
		}
	}
	l.sortFolder("", of)
}

// settle decides about files of which nothing told whose they are by what lies in the same
// folder at the top: with what only builds ship, they are the build's too.
func (l sorting) settle(of map[string]verdict) {
	ships := map[string]bool{}
	for at, v := range of {
		if top, _, below := strings.Cut(at, "/"); below && v.class == builds && learn.Shipped(at) {
			ships[top] = true
		}
	}
	for at, v := range of {
		if top, _, _ := strings.Cut(at, "/"); v.class == unsure && ships[top] {
			of[at] = verdict{builds, "it lies with what only builds ship"}
		}
	}
}

// filesBelow are the files in a folder and all below it.
func (l sorting) filesBelow(dir string) (out []tree.Entry) {
	list := l.files
	if dir != "" {
		list = l.files.Below(dir)
	}
	for _, e := range list {
		if e.Kind == tree.File {
			out = append(out, e)
		}
	}
	return out
}

// sortFolder makes patterns for what lies in a folder, "" being the install.
func (l sorting) sortFolder(dir string, of map[string]verdict) {
	inDir := map[string][]tree.Entry{} // files by the name right below
	var names []string
	for _, e := range l.filesBelow(dir) {
		rest := e.Path
		if dir != "" {
			rest = strings.TrimPrefix(e.Path, dir+"/")
		}
		name, _, deeper := strings.Cut(rest, "/")
		if deeper {
			name += "/"
		}
		if inDir[name] == nil {
			names = append(names, name)
		}
		inDir[name] = append(inDir[name], e)
	}
	var loose []tree.Entry
	for _, name := range names {
		if !strings.HasSuffix(name, "/") {
			loose = append(loose, inDir[name]...)
			continue
		}
		sub := path.Join(dir, strings.TrimSuffix(name, "/"))
		if v, uniform := l.uniform(sub, inDir[name], of); uniform {
			l.add(v.class, sub+"/**", v.from)
		} else {
			l.sortFolder(sub, of)
		}
	}
	l.sortFiles(dir, loose, of)
}

// uniform tells whether all that lies in a folder is of one class. Settings and lists among
// worlds are a world's own.
func (l sorting) uniform(dir string, files []tree.Entry, of map[string]verdict) (v verdict, yes bool) {
	count := map[class]int{}
	live, newer := 0, 0
	var first verdict
	for _, e := range files {
		w, known := of[e.Path]
		if !known {
			continue
		}
		if count[w.class]++; first.from == "" {
			first = w
		}
		if l.writtenNow(e) {
			live++
		} else if l.newer(e) {
			newer++
		}
	}
	total := 0
	for _, n := range count {
		total += n
	}
	if count[mine] > 0 && count[builds] == 0 && count[unsure] == 0 && count[set] > 0 && count[set] < total {
		if l.known || worldName.MatchString(path.Base(dir)) || live+newer > 0 { // its settings are the world's own
			count[mine] += count[set]
		}
	}
	if count[mine] > 0 && count[mine]+count[passing] == total {
		return verdict{mine, cmp.Or(l.folderFrom(dir, files, live, newer), first.from)}, true
	}
	for c, n := range count {
		if n == total {
			if c == mine {
				first.from = cmp.Or(l.folderFrom(dir, files, live, newer), first.from)
			}
			return verdict{c, first.from}, true
		}
	}
	return verdict{}, false
}

// folderFrom says what speaks for a folder's being the operator's.
func (l sorting) folderFrom(dir string, files []tree.Entry, live, newer int) string {
	var by []string
	if worldName.MatchString(path.Base(dir)) {
		by = append(by, "a world, by its name")
	}
	switch {
	case l.known:
		by = append(by, "the build ships nothing of it")
	case live > 0:
		by = append(by, fmt.Sprintf("%s in it written while the server ran", words.Plural(live, "file")))
	case newer > 0 && len(by) > 0:
		by = append(by, fmt.Sprintf("%s in it written after %s", words.Plural(newer, "file"), l.youngest))
	case newer > 0:
		by = append(
			by,
			fmt.Sprintf("%d of its %s written after %s", newer, words.Plural(len(files), "file"), l.youngest),
		)
	}
	if live > 0 && l.known {
		by = append(by, fmt.Sprintf("%s in it written while the server ran", words.Plural(live, "file")))
	}
	return strings.Join(by, "; ")
}

// fewFiles is how many files of a folder are named one by one.
const fewFiles = 12

// sortFiles makes patterns for files of one folder: one for all of an ending, where all of
// those are of a class and there are many; else each its own.
func (l sorting) sortFiles(dir string, files []tree.Entry, of map[string]verdict) {
	byExt := map[string]map[class]int{}
	for _, e := range files {
		ext := path.Ext(e.Path)
		if byExt[ext] == nil {
			byExt[ext] = map[class]int{}
		}
		byExt[ext][of[e.Path].class]++
	}
	done := map[string]bool{}
	for _, e := range files {
		v, known := of[e.Path]
		ext := path.Ext(e.Path)
		if !known || v.class == builds {
			continue
		}
		if n := byExt[ext][v.class]; n > fewFiles && len(byExt[ext]) == 1 && ext != "" {
			if !done[ext] {
				l.add(
					v.class,
					path.Join(dir, "*"+ext),
					fmt.Sprintf("%s like %s: %s", words.Plural(n, "file"), path.Base(e.Path), v.from),
				)
			}
			done[ext] = true
			continue
		}
		pattern := literal(e.Path)
		if v.class == passing { // the next one is named by another day
			pattern = learn.Undated(pattern)
		}
		l.add(v.class, pattern, v.from)
	}
}

// literal is a path as a pattern that matches nothing else.
func literal(at string) string {
	return regexp.MustCompile(`[*?\[\]{}\\]`).ReplaceAllString(at, `\$0`)
}

func (l sorting) add(c class, pattern, from string) {
	switch c {
	case mine:
		l.keep = append(l.keep, found{pattern, from})
	case set:
		l.settings = append(l.settings, found{pattern, from})
	case passing:
		if slices.ContainsFunc(l.skip, func(f found) bool { return f.pattern == pattern }) {
			return
		}
		l.skip = append(l.skip, found{pattern, from})
	case unsure:
		l.doubts = append(l.doubts, Doubt{pattern, from})
	}
}
