package launch

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// Own are the files that a line runs as its own program, by full path: the program itself, or what
// an interpreter in its place is told to run (a jar, a script, each part of a class path). It reads
// nothing but the words, which stand as a unit has them, and guesses nothing: a line of which they
// do not tell is an error. What a program is given otherwise, an argument say, is no program of
// the line.
//
// argv is the line, with the program's full path first, and dir the folder that it runs in.
func Own(argv []string, dir string) ([]string, error) { return own(argv, dir, 0) }

func own(argv []string, dir string, depth int) ([]string, error) {
	for len(argv) > 0 && slices.Contains(bareWrappers, filepath.Base(argv[0])) {
		argv = argv[1:]
	}
	if len(argv) == 0 || depth > maxDepth {
		return nil, errors.New("it runs no program that is known")
	}
	program, args := argv[0], argv[1:]
	unknown := func(what string) ([]string, error) {
		return nil, fmt.Errorf("runs %s, and what that runs is not known from its line: %s", filepath.Base(program), what)
	}
	if strings.ContainsAny(program, "$") {
		return unknown("its name is a variable")
	}
	name := filepath.Base(program)
	switch {
	case name == "java":
		return ownOfJava(args, dir, unknown)
	case slices.Contains(shells, name):
		for i, a := range args {
			switch {
			case commandFlag.MatchString(a) && i+1 < len(args):
				return ownOfText(args[i+1], dir, depth)
			case !strings.HasPrefix(a, "-"):
				return fileOf(a, dir, unknown)
			}
		}
		return unknown("it is given no script")
	case interpreter.MatchString(name) || name == "mono" || name == "wine" || name == "wine64":
		if len(args) == 0 || strings.HasPrefix(args[0], "-") {
			return unknown("it is given no script in the first place")
		}
		return fileOf(args[0], dir, unknown)
	}
	if !strings.Contains(program, "/") { // looked for on a search path: no file of the folder, whatever lies there
		return []string{program}, nil
	}
	return fileOf(program, dir, unknown)
}

var (
	shells       = []string{"sh", "bash", "dash", "ash", "zsh", "ksh"}
	bareWrappers = []string{"nohup", "setsid", "exec", "command"} // which have no flags that matter here
	// aside are commands of a shell that run beside the program of a line, and are none.
	aside = []string{"sleep", "test", "[", "true", "false", ":", "echo", "export", "umask", "ulimit", "trap", "wait",
		"set", "systemd-notify", "exit"}
)

func fileOf(word, dir string, unknown func(string) ([]string, error)) ([]string, error) {
	switch {
	case strings.Contains(word, "$"):
		return unknown("its name is a variable")
	case !filepath.IsAbs(word):
		word = filepath.Join(dir, word)
	}
	return []string{filepath.Clean(word)}, nil
}

// ownOfJava finds the jar or the class path behind the flags of a Java runtime.
func ownOfJava(args []string, dir string, unknown func(string) ([]string, error)) (out []string, err error) {
	var path []string
	for i := 0; i < len(args); i++ {
		a := args[i]
		switch {
		case a == "-jar" && i+1 < len(args):
			return fileOf(args[i+1], dir, unknown)
		case (a == "-cp" || a == "-classpath" || a == "--class-path") && i+1 < len(args):
			i++
			path = strings.Split(args[i], ":")
		case a == "-m" || a == "--module" || a == "-p" || a == "--module-path" || strings.HasPrefix(a, "@"):
			return unknown(a)
		case strings.HasPrefix(a, "-"):
		case len(path) == 0 || strings.Contains(a, "$"):
			return unknown("no jar and no class path stands before " + a)
		default:
			for _, part := range path {
				one, err := fileOf(part, dir, unknown)
				if err != nil {
					return nil, err
				}
				out = append(out, one...)
			}
			return out, nil
		}
	}
	return unknown("it is given no jar")
}

// ownOfText are the programs of a text that a shell is given as a word: each command of it, wherever
// it stands, but for those that are only beside.
func ownOfText(text, dir string, depth int) (out []string, err error) {
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(text), "")
	if err != nil {
		return nil, err
	}
	syntax.Walk(f, func(n syntax.Node) bool {
		call, is := n.(*syntax.CallExpr)
		if !is || len(call.Args) == 0 || err != nil {
			return err == nil
		}
		var words []string
		for _, w := range call.Args {
			lit := w.Lit()
			if lit == "" {
				lit = "$" // known at its run alone
			}
			words = append(words, lit)
		}
		switch {
		case words[0] == "cd":
			to, why := "", errors.New("it changes into a folder that is not known from its line")
			if len(words) == 2 && words[1] != "-" {
				to = words[1]
			}
			switch {
			case to == "" || strings.Contains(to, "$"):
				err = why
			case filepath.IsAbs(to):
				dir = to
			default:
				dir = filepath.Join(dir, to)
			}
		case slices.Contains(aside, words[0]):
		default:
			var more []string
			if more, err = own(words, dir, depth+1); err == nil {
				out = append(out, more...)
			}
		}
		return err == nil
	})
	if err == nil && len(out) == 0 {
		err = errors.New("its text runs no program that is known")
	}
	return out, err
}
