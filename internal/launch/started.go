package launch

import (
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/tree"
)

// aboutItself are arguments with which a program says something about itself, and serves nobody.
var aboutItself = regexp.MustCompile(`^--?(version|showversion|V|v|help|h)$`)

// Started is a command as a system saw it start: program is the file that runs, argv the words that it was given with its own
// name first, dir the folder it runs in, env its environment. serves tells whether it is a program of the install, or a runtime
// that is told to run something: no shell, no small tool, no question for a version.
func Started(install, program, dir string, argv, env []string) (c Command, serves bool) {
	if len(argv) == 0 {
		return c, false
	}
	base := filepath.Base(program)
	c = Command{Program: argv[0], Path: program, Args: argv[1:], Dir: dir}
	inside := tree.Inside(install, program)
	if !inside && (slices.Contains(shells, base) || base == "busybox") {
		return c, false
	}
	if filepath.Base(c.Program) != base && !inside { // a name of its own, by a link: java → java-17
		c.Program = program
	}
	so := source{install: install}
	at := func(word string) string {
		if !filepath.IsAbs(word) {
			word = filepath.Join(dir, word)
		}
		if tree.Inside(install, word) {
			return tree.Rel(install, word)
		}
		return word
	}
	for i, a := range c.Args {
		if a == "-jar" && i+1 < len(c.Args) {
			c.Jar = at(c.Args[i+1])
			break
		}
	}
	if given := c.given(); given != "" {
		c.Script = at(given)
	}
	if c.Java() {
		variable := func(name string) string {
			for _, kv := range slices.Backward(env) {
				if v, is := strings.CutPrefix(kv, name+"="); is {
					return v
				}
			}
			return ""
		}
		c.readFlags(so, variable("JAVA_TOOL_OPTIONS"), variable("JDK_JAVA_OPTIONS"))
		return c, c.Serves()
	}
	asks := len(c.Args) > 0 && !slices.ContainsFunc(c.Args, func(a string) bool { return !aboutItself.MatchString(a) })
	return c, !asks && (inside || c.Jar != "" || c.Script != "")
}
