package launch

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"
)

// What a service runs stands in no script. It is read, and edited, as a text in a shell's words,
// one line for each program: so one reader and one editor know both. What a shell could say
// beyond a program and its words (an assignment, a pipe, an &) is no such line.

// unitVariable is a variable as a unit names it: ${NAME} anywhere, $NAME as a word of its own
// (systemd.service(5), "Command lines"). $$ is a dollar.
var unitVariable = regexp.MustCompile(`\$\$|\$\{[A-Za-z_][A-Za-z0-9_]*\}`)

var unitVariableWord = regexp.MustCompile(`^\$[A-Za-z_][A-Za-z0-9_]*$`)

// UnitText is what a service runs, in a shell's words. Each of lines is a program and its
// arguments as the unit has them, its variables not filled in.
func UnitText(lines [][]string) []byte {
	var b bytes.Buffer
	for _, argv := range lines {
		for i, w := range argv {
			if i > 0 {
				b.WriteByte(' ')
			}
			b.WriteString(shellWord(w))
		}
		b.WriteByte('\n')
	}
	return b.Bytes()
}

// shellWord says a unit's word as a shell would.
func shellWord(w string) string {
	if unitVariableWord.MatchString(w) {
		return w
	}
	var out strings.Builder
	literal := func(s string) {
		q := s
		if s == "" || !plain.MatchString("_"+s) {
			var err error
			if q, err = syntax.Quote(s, syntax.LangBash); err != nil {
				q = "''" // a NUL, which no argument can hold
			}
		}
		out.WriteString(q)
	}
	said := ""
	for w != "" {
		at := unitVariable.FindStringIndex(w)
		if at == nil {
			said += w
			break
		}
		said += w[:at[0]]
		if name := w[at[0]:at[1]]; name == "$$" {
			said += "$"
		} else {
			if said != "" {
				literal(said)
			}
			said = ""
			out.WriteString(`"` + name + `"`)
		}
		w = w[at[1]:]
	}
	if said != "" || out.Len() == 0 {
		literal(said)
	}
	return out.String()
}

// errUnitText says that a text has more in it than programs and their words.
var errUnitText = errors.New("it is more than a program and its arguments")

// unitCalls are the commands of a text that UnitText could have made.
func unitCalls(text []byte) (out []*syntax.CallExpr, err error) {
	f, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(bytes.NewReader(text), "")
	if err != nil {
		return nil, err
	}
	for _, st := range f.Stmts {
		call, is := st.Cmd.(*syntax.CallExpr)
		if !is || len(call.Assigns) > 0 || len(call.Args) == 0 || len(st.Redirs) > 0 || st.Background || st.Negated {
			return nil, errUnitText
		}
		out = append(out, call)
	}
	return out, nil
}

// UnitWords are the words of such a text as a unit has them: the reverse of UnitText.
func UnitWords(text []byte) (lines [][]string, err error) {
	calls, err := unitCalls(text)
	if err != nil {
		return nil, err
	}
	const open, shut = "\x00{", "\x00}" // which no text of a unit holds
	as := &expand.Config{Env: expand.FuncEnviron(func(name string) string { return open + name + shut })}
	for _, call := range calls {
		var argv []string
		for _, w := range call.Args {
			s, err := expand.Literal(as, w)
			if err != nil {
				return nil, fmt.Errorf("%w: %v", errUnitText, err)
			}
			_, alone := w.Parts[0].(*syntax.ParamExp)
			s = strings.ReplaceAll(s, "$", "$$")
			switch name, is := strings.CutPrefix(s, open); {
			case is && alone && len(w.Parts) == 1:
				s = "$" + strings.TrimSuffix(name, shut)
			default:
				s = strings.NewReplacer(open, "${", shut, "}").Replace(s)
			}
			argv = append(argv, s)
		}
		lines = append(lines, argv)
	}
	return lines, nil
}

// Lines is ReadAs for commands that stand in no script of the install: what a service runs.
// label names where they stand; each of lines is a program and its arguments, run in dir. Where
// texts has a text for label, see UnitText, that counts.
func Lines(install, label string, lines [][]string, dir string, env []string, texts Texts) (out []Command) {
	if dir == "" {
		dir = "/"
	}
	text := UnitText(lines)
	if texts != nil {
		if edited, ok := texts(label); ok {
			text = edited
		}
	}
	calls, err := unitCalls(text)
	if err != nil {
		return nil
	}
	for _, call := range calls {
		s := &shell{source: source{install: install, texts: texts}, script: label, dir: dir, funcs: map[string]*syntax.Stmt{},
			state: newState(nil), lines: strings.Split(string(text), "\n")}
		for _, kv := range env {
			if k, v, ok := strings.Cut(kv, "="); ok {
				s.vars[k] = v
			}
		}
		s.vars["PWD"] = dir
		s.call(call, false)
		out = append(out, s.found...)
	}
	return out
}

// Unit is what a service will run, as the unit would have it, where its line was edited; nil
// where it stays.
func (s *Script) Unit() ([][]string, error) {
	text, edited := s.texts[s.Label]
	if s.Name != "" || !edited {
		return nil, nil
	}
	now, err := UnitWords(text)
	if err != nil || slices.EqualFunc(now, s.Lines, slices.Equal) {
		return nil, err
	}
	// A dollar that names nothing would come back as another word.
	if same, err := UnitWords(UnitText(s.Lines)); err != nil || !slices.EqualFunc(same, s.Lines, slices.Equal) {
		return nil, errors.New("it has a dollar sign whose meaning is not plain")
	}
	return now, nil
}
