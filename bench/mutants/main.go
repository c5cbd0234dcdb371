// Mutants changes one thing in a room's code at a time, and runs the room's own tests: a change that they do not see is one that
// they do not hold. The code itself stays as it is; the compiler is given another file in its place.
//
//	go run ./bench/mutants [-n 60] [-seed 1] FOLDER TESTS…
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// mutant is one change: what it does, and how it is made and taken back in the syntax tree.
type mutant struct {
	file string
	at   token.Position
	what string
	do   func()
	undo func()
}

var swaps = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ,
	token.GEQ: token.GTR, token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

func main() {
	n := flag.Int("n", 60, "how many")
	seed := flag.Uint64("seed", 1, "of the sample")
	flag.Parse()
	if err := run(*n, *seed, flag.Arg(0), flag.Args()[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(n int, seed uint64, dir string, tests []string) error {
	set := token.NewFileSet()
	files := map[string]*ast.File{}
	var all []mutant
	names, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return err
	}
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(set, name, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		files[name] = f
		all = append(all, mutants(set, name, f)...)
	}
	rand.New(rand.NewPCG(seed, 0)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	scratch, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(scratch)
	caught, lived := 0, 0
	for _, m := range all {
		if caught+lived == n {
			break
		}
		m.do()
		seen, is, err := try(set, files[m.file], m.file, scratch, tests)
		m.undo()
		switch {
		case err != nil:
			return err
		case !is: // it does not compile
		case seen:
			caught++
		default:
			lived++
			fmt.Printf("lived: %s: %s\n", m.at, m.what)
		}
	}
	fmt.Printf("%s: %d of %d changes seen, %d %% (seed %d, of %d places)\n", dir, caught, caught+lived, 100*caught/max(caught+lived, 1),
		seed, len(all))
	return nil
}

// mutants are the changes that can be made in a file.
func mutants(set *token.FileSet, name string, f *ast.File) (out []mutant) {
	add := func(at token.Pos, what string, do, undo func()) {
		out = append(out, mutant{name, set.Position(at), what, do, undo})
	}
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if to, is := swaps[n.Op]; is {
				was := n.Op
				add(n.OpPos, fmt.Sprintf("%s → %s", was, to), func() { n.Op = to }, func() { n.Op = was })
			}
		case *ast.IfStmt:
			was := n.Cond
			add(n.If, "if → if not", func() { n.Cond = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: was}} }, func() { n.Cond = was })
		case *ast.Ident:
			if to, is := map[string]string{"true": "false", "false": "true"}[n.Name]; is {
				was := n.Name
				add(n.Pos(), was+" → "+to, func() { n.Name = to }, func() { n.Name = was })
			}
		case *ast.BasicLit:
			if v, err := strconv.Atoi(n.Value); n.Kind == token.INT && err == nil && v < 64 {
				was := n.Value
				add(n.Pos(), was+" → "+strconv.Itoa(v+1), func() { n.Value = strconv.Itoa(v + 1) }, func() { n.Value = was })
			}
		case *ast.BlockStmt:
			for i, s := range n.List {
				switch a := s.(type) {
				case *ast.ExprStmt, *ast.IncDecStmt:
				case *ast.AssignStmt:
					if a.Tok != token.ASSIGN {
						continue
					}
				default:
					continue
				}
				add(s.Pos(), "a statement is gone", func() { n.List[i] = &ast.EmptyStmt{Semicolon: s.Pos()} }, func() { n.List[i] = s })
			}
		}
		return true
	})
	return out
}

// try runs the tests over the code as it is now: seen tells that they fail, is that it compiles.
func try(set *token.FileSet, f *ast.File, name, scratch string, tests []string) (seen, is bool, err error) {
	var b bytes.Buffer
	if err := format.Node(&b, set, f); err != nil {
		return false, false, nil
	}
	other := filepath.Join(scratch, "other.go")
	full, err := filepath.Abs(name)
	if err != nil {
		return false, false, err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {full: other}})
	if err != nil {
		return false, false, err
	}
	list := filepath.Join(scratch, "overlay.json")
	for at, text := range map[string][]byte{other: b.Bytes(), list: overlay} {
		if err := os.WriteFile(at, text, 0o600); err != nil {
			return false, false, err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "go", append([]string{"test", "-count=1", "-timeout=60s", "-overlay", list}, tests...)...)
	said, err := cmd.CombinedOutput()
	if bytes.Contains(said, []byte("[build failed]")) || bytes.Contains(said, []byte("[setup failed]")) {
		return false, false, nil
	}
	return err != nil, true, nil
}
