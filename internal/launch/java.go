package launch

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"freshkeel/internal/tree"
)

// JavaLine is what a Java runtime is told to run ("The java Command", section
// "Synopsis"): a jar, a class of a class path, a class of a module, or one source file.
type JavaLine struct {
	Jar       string   // of -jar
	ClassPath []string // as written; "lib/*" is every jar of a folder
	Main      string   // a class of the class path
	Module    string   // of -m: module, or module/class
	Source    string   // a source file that is compiled as it starts
	Flags     []string // all before that, out of argument files too
	Own       int      // of the command's arguments: how many come before the server's own
}

// javaValues are the options of a Java runtime whose value is a word of its own.
var javaValues = []string{"-cp", "-classpath", "--class-path", "-p", "--module-path", "--upgrade-module-path",
	"--add-modules", "--add-opens", "--add-exports",
	"--add-reads", "--patch-module", "--limit-modules", "--enable-native-access", "--source", "--describe-module", "-d"}

// maxArgFiles bounds how many argument files a line may name.
const maxArgFiles = 20

// JavaLine reads the arguments of a Java runtime. open reads an argument file ("java
// Command-Line Argument Files": @name), by its path as written.
func (c Command) JavaLine(open func(path string) ([]byte, error)) (j JavaLine, err error) {
	var args []string
	var of []int // which of the command's arguments each is of
	files := 0
	for i, a := range c.Args {
		name, isFile := strings.CutPrefix(a, "@")
		if !isFile || strings.HasPrefix(name, "@") {
			args, of = append(args, a), append(of, i)
			continue
		}
		if files++; files > maxArgFiles {
			return j, fmt.Errorf("it names more than %d argument files", maxArgFiles)
		}
		b, err := open(name)
		if err != nil {
			if slices.ContainsFunc(c.Args[:i], func(a string) bool { return a == "-jar" }) {
				continue // the server's own argument
			}
			return j, fmt.Errorf("its argument file %s can't be read: %w", name, err)
		}
		for _, a := range argFields(string(b)) {
			args, of = append(args, a), append(of, i)
		}
	}
	take := func(flags, runs int) { j.Flags, j.Own = args[:flags], of[min(runs, len(args)-1)]+1 }
	for i := 0; i < len(args); i++ {
		a := args[i]
		value := ""
		if i+1 < len(args) {
			value = args[i+1]
		}
		long, given, hasValue := strings.Cut(a, "=")
		switch {
		case a == "-jar":
			j.Jar = value
			take(i, i+1)
			return j, nil
		case a == "-m" || a == "--module":
			j.Module = value
			take(i, i+1)
			return j, nil
		case hasValue && long == "--module":
			j.Module = given
			take(i, i)
			return j, nil
		case hasValue && long == "--class-path":
			j.ClassPath = pathList(given)
		case a == "-cp" || a == "-classpath" || a == "--class-path":
			j.ClassPath = pathList(value)
			i++
		case slices.Contains(javaValues, a):
			i++
		case strings.HasPrefix(a, "-"):
		case strings.HasSuffix(a, ".java"):
			j.Source = a
			take(i, i)
			return j, nil
		default:
			j.Main = strings.ReplaceAll(a, "/", ".")
			take(i, i)
			return j, nil
		}
	}
	j.Flags, j.Own = args, len(c.Args)
	return j, nil
}

// Runs tells whether the line runs something, and does not just say its version.
func (j JavaLine) Runs() bool { return j.Jar != "" || j.Main != "" || j.Module != "" || j.Source != "" }

// readFlags notes what a Java runtime is told, in the order in which the last one counts: by
// its environment ("The java Command", section "Using the JDK_JAVA_OPTIONS Launcher Environment
// Variable"; JAVA_TOOL_OPTIONS comes before all), then on its line.
func (c *Command) readFlags(so source, tool, launcher string) {
	if !c.Java() {
		return
	}
	line, err := c.JavaLine(func(name string) ([]byte, error) { return so.text(c.At(so.install, name)) })
	if err != nil {
		return
	}
	outside := append(argFields(tool), argFields(launcher)...)
	c.outside = len(outside)
	c.Flags = append(outside, line.Flags...)
	c.After = line.Own
	if c.Jar == "" && line.Jar != "" { // out of an argument file
		c.Jar = c.At(so.install, line.Jar)
	}
}

// pathList splits a class path. Windows separates by ";", since paths have ":" there;
// the other separator is understood too, where it can't be meant otherwise.
func pathList(s string) []string {
	sep := ":"
	if os.PathListSeparator == ';' || strings.Contains(s, ";") {
		sep = ";"
	}
	return slices.DeleteFunc(strings.Split(s, sep), func(e string) bool { return e == "" })
}

// argFields splits an argument file: blanks and line ends part words, quotes hold them
// together, a backslash in quotes makes the next character plain, # begins a comment.
func argFields(s string) (out []string) {
	word, in, quote, comment := "", false, rune(0), false
	flush := func() {
		if in {
			out = append(out, word)
		}
		word, in = "", false
	}
	escaped := false
	for _, r := range s {
		switch {
		case comment:
			comment = r != '\n'
		case escaped:
			escaped = false
			if r != '\n' && r != '\r' {
				word += string(r)
			}
		case quote != 0 && r == '\\':
			escaped = true
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word += string(r)
		case r == '"' || r == '\'':
			quote, in = r, true
		case r == '#' && !in:
			comment = true
		case strings.ContainsRune(" \t\r\n\f", r):
			flush()
		default:
			word, in = word+string(r), true
		}
	}
	flush()
	return out
}

// maxArgFile bounds an argument file, in bytes.
const maxArgFile = 1 << 20

// Runs lists the files of an install that the command runs: a jar, what an interpreter is given, the jars that a class
// path names, the program itself. install is the install's folder, and the paths are relative to it.
func (c Command) Runs(install string) (out []string) {
	add := func(at string) {
		if at = path.Clean(at); tree.Local(at) && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	for _, at := range []string{c.Jar, c.Script} {
		if at != "" {
			add(at)
		}
	}
	if line, err := c.JavaLine(func(name string) ([]byte, error) {
		return tree.ReadUpTo(filepath.Join(c.Dir, filepath.FromSlash(name)), maxArgFile)
	}); c.Java() && err == nil && c.Jar == "" {
		for _, e := range line.ClassPath {
			if strings.HasSuffix(strings.ToLower(e), ".jar") {
				add(c.At(install, e))
			}
		}
	}
	if c.Path != "" && tree.Inside(install, c.Path) {
		add(tree.Rel(install, c.Path))
	}
	return out
}

// At is a path of the command's line as the install has it: relative to the install
// where it lies in it, else whole. install is the install's folder.
func (c Command) At(install, path string) string {
	if c.batch {
		path = strings.ReplaceAll(path, `\`, "/")
	}
	full := filepath.FromSlash(path)
	if !filepath.IsAbs(full) {
		full = filepath.Join(c.Dir, full)
	}
	if rel, err := filepath.Rel(install, full); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return full
}
