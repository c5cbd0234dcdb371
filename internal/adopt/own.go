package adopt

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

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
	dataKind  = regexp.MustCompile(`(?i)\.(db|sqlite3?|dat|sav|save|world|db3|ldb|mdb|rgn|region|chunk|bak)$`)
	// What only builds ship.
	shippedKind = regexp.MustCompile(
		`(?i)\.(so(\.\d+)*|dll|exe|jar|pak|pk3|vpk|wad|bsp|lua|py|js|rb|png|jpe?g|tga|dds|ogg|wav|mp3|ttf|otf|glsl|shader|hlsl|obj|fbx|mdl|html?|css|md|class|pyc)$`,
	)
)

// sameTime is how far apart files may be that were put there at once.
const sameTime = time.Minute

// packedTime is how far apart files may be that a build was made of, where an archive kept
// their own times.
const packedTime = 10 * time.Minute

// lookForShipped finds out when the last of the shipped files was made: what was written
// after that is the operator's or the server's. The artifact has one time; where archives
// kept times, files that were made with it are a little younger, one after the other.
func (l sorting) lookForShipped() {
	e, ok := l.files.Get(l.artifact)
	if !ok || l.artifact == l.script && isScript(l.artifact) {
		return
	}
	l.versionOfJar()
	l.shipped = time.Unix(0, e.Mtime)
	if e.Ctime == 0 || time.Duration(e.Ctime-e.Mtime) < 2*sameTime {
		return
	}
	var times []int64
	for _, o := range l.list {
		if o.Kind == tree.File && o.Mtime > e.Mtime && o.Ctime-o.Mtime > int64(2*sameTime) {
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
	case learn.IsLog(at) && l.ofBuild(at) == nil:
		return verdict{passing, "a log"}
	case learn.IsLeftover(base) && l.ofBuild(at) == nil:
		return verdict{passing, "it is of no use once the server has ended"}
	}
	if l.native(e) && !l.writtenNow(e) {
		return verdict{builds, "a program"}
	}
	kind := ""
	switch {
	case profile.PeopleByName(base):
		kind = "a list, by its name"
	case l.people(e):
		kind = "a list of people, by what is in it"
	case dataKind.MatchString(base):
		kind = "data, by its kind"
	case profile.SettingsByName(base):
		kind = "settings, by its kind"
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

// native tells whether a file is a native program, or a library of one: nobody writes such a file.
func (l sorting) native(e tree.Entry) bool {
	if strings.Contains(path.Base(e.Path), ".") && !programKind.MatchString(e.Path) || e.Size < 64 {
		return false
	}
	return isProgram(tree.Head(l.full(e.Path)))
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

// whoseByTime decides about a file where the build is not known.
func (l sorting) whoseByTime(e tree.Entry, as func(class, string) verdict, own class, kind string) verdict {
	top, _, below := strings.Cut(e.Path, "/")
	after := "it was written after " + l.artifact
	switch {
	case below && worldName.MatchString(top) && l.newer(e):
		return verdict{mine, "a world, by its name; " + after}
	case below && worldName.MatchString(top):
		return verdict{mine, "a world, by its name"}
	case l.newer(e) && isScript(e.Path):
		return verdict{builds, "a script"}
	case l.newer(e):
		return as(own, after)
	case strings.HasPrefix(kind, "a list"):
		return as(mine, "")
	case kind != "" && !below:
		return as(own, "")
	case own == set && confName.MatchString(top):
		return as(set, "")
	case below && maybeName.MatchString(top) && !shippedKind.MatchString(e.Path):
		return verdict{unsure, "it is as old as the program, and may be either by its name"}
	}
	return verdict{builds, "it is as old as the program"}
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
		if top, _, below := strings.Cut(at, "/"); below && v.class == builds && shippedKind.MatchString(at) {
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
		return verdict{mine, l.folderFrom(dir, files, live, newer)}, true
	}
	for c, n := range count {
		if n == total {
			if c == mine {
				first.from = l.folderFrom(dir, files, live, newer)
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
		by = append(by, fmt.Sprintf("%s in it written after %s", words.Plural(newer, "file"), l.artifact))
	case newer > 0:
		by = append(
			by,
			fmt.Sprintf("%d of its %s written after %s", newer, words.Plural(len(files), "file"), l.artifact),
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
		l.add(v.class, literal(e.Path), v.from)
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
		l.skip = append(l.skip, found{pattern, from})
	case unsure:
		l.doubts = append(l.doubts, Doubt{pattern, from})
	}
}
