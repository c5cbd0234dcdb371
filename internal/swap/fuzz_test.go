package swap

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Whatever a plan says, nothing outside the install is touched, and nothing of ours.
func FuzzAPlanStaysInTheInstall(f *testing.F) {
	f.Add([]byte(`{"format":"freshkeel-swap/1","steps":[{"do":"replace","path":"a"},{"do":"remove","path":"../out"}]}`),
		"a", "b/c")
	f.Add([]byte(`{"format":"freshkeel-swap/1","places":["b"],"steps":[{"do":"add","path":"b/c"},{"do":"drop-folder","path":"b"}]}`), "b/c", "x")
	f.Add([]byte(`{"format":"freshkeel-swap/1","steps":[{"do":"add","path":".freshkeel/identity","raw_path":"Li4vb3V0"}]}`), ".FreshKeel/x", "../out")
	f.Fuzz(func(t *testing.T, plan []byte, one, two string) {
		top := t.TempDir()
		root := filepath.Join(top, "srv")
		r := Run{Root: root, Dir: filepath.Join(root, ".freshkeel/refits/r0001")}
		for at, body := range map[string]string{"out": "out", "srv/a": "a", "srv/b/c": "c",
			"srv/.freshkeel/identity": "us", "srv/.freshkeel/refits/r0001/plan.json": string(plan),
			"srv/.freshkeel/refits/r0001/staged/a": "new"} {
			os.MkdirAll(filepath.Dir(filepath.Join(top, at)), 0o755)
			os.WriteFile(filepath.Join(top, at), []byte(body), 0o644)
		}
		os.Symlink("..", filepath.Join(root, "up"))
		p, err := r.Read()
		if err == nil {
			p.Steps = append(p.Steps, Step{Replace, "up/out"})
			for _, at := range []string{one, two} {
				if !strings.ContainsRune(at, 0) {
					p.Steps = append(p.Steps, Step{Remove, at}, Step{Add, at})
				}
			}
			r.Apply(p, nil)
			r.Reverse(p, nil)
		}
		for at, want := range map[string]string{"out": "out", "srv/.freshkeel/identity": "us"} {
			if b, err := os.ReadFile(filepath.Join(top, at)); err != nil || string(b) != want {
				t.Fatalf("%s is %q now (%v), by %q %q %q", at, b, err, plan, one, two)
			}
		}
	})
}
