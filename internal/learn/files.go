package learn

import (
	"bytes"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/logline"
	"freshkeel/internal/profile"
	"freshkeel/internal/words"
)

// This file tells from a file's name, its beginning and what lies beside it whether it is a log, data or a program's
// part. A date tells nothing here.

// programKind are endings of programs and of what they load.
var programKind = regexp.MustCompile(`(?i)\.(jar|jmod|war|class|pyc|so(\.\d+)*|dll|exe|dylib|node|wasm)$`)

// IsProgramPart tells whether a file is a program, or something that programs load or are known to package managers by,
// by its name and how it begins: builds bring it, whatever its date is. mode is the file's.
func IsProgramPart(at string, head []byte, mode fs.FileMode) bool {
	switch {
	case programKind.MatchString(at) || profile.Vendored(at):
		return true
	case bytes.HasPrefix(head, []byte("\x7fELF")) || bytes.HasPrefix(head, []byte("MZ")) && path.Ext(at) == "":
		return true
	}
	return mode&0o111 != 0 && bytes.HasPrefix(head, []byte("#!")) // a tool of the makers'; the launch script is told before
}

// journal are endings that databases give to what they write ahead, and to what guards them.
var journal = regexp.MustCompile(`(?i)(\.(log|wal|redo|journal|trx|lck|lock|idx|dir|pag)|-(wal|shm|journal))$`)

// asideKind are endings of files that lie beside a log without being its server's data.
var asideKind = regexp.MustCompile(`(?i)\.(log|txt|out|err|pid|lck|lock|sock|sh|bat|cmd|ps1|service|gz|old|bak|md)$`)

// HasTimes tells whether lines of a text begin with a time, as those of a log do.
func HasTimes(text []byte) bool {
	n := 0
	for line := range strings.Lines(string(text)) {
		line = words.Printable(strings.TrimRight(line, "\r\n"))
		if bare := logline.Bare(line); len(bare) < len(line) && aTime.MatchString(line[:len(line)-len(bare)]) {
			return true
		}
		if n++; n > 200 {
			break
		}
	}
	return false
}

var aTime = regexp.MustCompile(`\d{1,2}:\d\d|\d{4}|\d{8}`)

// Stem is a file's name without its ending, and without that of a journal.
func Stem(at string) string {
	base := strings.ToLower(path.Base(at))
	base = regexp.MustCompile(`-(wal|shm|journal)$`).ReplaceAllString(base, "")
	for range 2 {
		if ext := path.Ext(base); ext != "" && ext != base {
			base = strings.TrimSuffix(base, ext)
		}
	}
	return base
}

// Beside is what a file is judged by besides itself.
type Beside struct {
	Names []string // of the files in its folder
	Told  bool     // a launch script writes what the server says there, or the server itself does
}

// DataNotLog says why a file whose name is that of a log is data; "" where it is a log. A database's journal has no times
// in its text, or is none, and lies beside the database.
func DataNotLog(at string, head []byte, b Beside) string {
	switch {
	case b.Told:
		return ""
	case bytes.IndexByte(head, 0) >= 0:
		return "it is no text, though its name is that of a log"
	case slices.ContainsFunc(b.Names, func(n string) bool { return tableName.MatchString(n) }):
		return "it lies with the tables of a database, whose journal it is"
	case HasTimes(head):
		return ""
	}
	for _, n := range b.Names {
		if ofTheSame(path.Base(at), n) {
			return "it lies beside " + n + ", and no line of it begins with a time: a database's journal"
		}
	}
	return ""
}

// tableName are names of the files of a database that is a folder.
var tableName = regexp.MustCompile(`^(MANIFEST-\d+|\d+\.(ldb|sst))$`)

// dataMagic is how files of databases begin, of whatever name.
var dataMagic = [][]byte{[]byte("SQLite format 3\x00"), []byte("\x00\x01\x00\x00Standard Jet DB"), []byte("H:2,"),
	[]byte("\x13\x57\x9A\xCE")}

// dataEnding are endings of worlds, saves and databases.
var dataEnding = regexp.MustCompile(
	`(?i)\.(db\d?|sqlite3?|dat|sav|save|world|ldb|sst|mdb|rgn|region|chunk|bak|pag|dir|dump|sql)$`)

// IsData says why a file is data: by how it begins, by its ending, or as a part of a database, by what lies beside it; ""
// where none of that says so.
func IsData(at string, head []byte, b Beside) string {
	for _, m := range dataMagic {
		if bytes.HasPrefix(head, m) {
			return "a database, by how it begins"
		}
	}
	base := path.Base(at)
	if tableName.MatchString(base) || base == "CURRENT" && slices.ContainsFunc(b.Names, tableName.MatchString) {
		return "a table of a database"
	}
	if dataEnding.MatchString(base) {
		return "data, by its kind"
	}
	if asideKind.MatchString(base) || programKind.MatchString(base) || path.Ext(base) == "" ||
		profile.SettingsByName(base) && !slices.ContainsFunc(b.Names, func(n string) bool { return ofTheSame(base, n) }) {
		return ""
	}
	for _, n := range b.Names {
		if n != base && journal.MatchString(n) && Stem(n) == Stem(base) {
			return "a part of a database, by " + n + " beside it"
		}
	}
	return ""
}

// ofTheSame tells whether a file of another name is data of the same name: no log, no script, no settings, no program.
func ofTheSame(base, n string) bool {
	return n != base && Stem(n) == Stem(base) && !asideKind.MatchString(n) && !profile.SettingsByName(n) &&
		!programKind.MatchString(n) && path.Ext(n) != ""
}
