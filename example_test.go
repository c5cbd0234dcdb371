package freshkeel_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"freshkeel"
)

// folder writes files, by their paths, into a new folder.
func folder(files map[string]string) string {
	dir, err := os.MkdirTemp("", "freshkeel-example-")
	if err != nil {
		panic(err)
	}
	for at, text := range files {
		full := filepath.Join(dir, filepath.FromSlash(at))
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			panic(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o755); err != nil {
			panic(err)
		}
	}
	return dir
}

// pond is a small server's install, taken under care with a home of its own.
func pond() (*freshkeel.Keel, func()) {
	home, dir := folder(nil), folder(map[string]string{
		"run.sh":         "#!/bin/sh\nexec ./pond\n",
		"pond":           "#!/bin/sh\necho pond 1.0\n",
		"world/level":    "lilies",
		"freshkeel.toml": "[server]\nname = 'Pond'\nkeep = ['world/**']\n[launch]\nscript = 'run.sh'\n",
	})
	k, err := freshkeel.Open(dir, freshkeel.Options{Home: home, Env: os.Environ()})
	if err != nil {
		panic(err)
	}
	return k, func() { os.RemoveAll(dir); os.RemoveAll(home) }
}

// An install that nobody has looked at yet gets a profile, with what each line was
// guessed from.
func ExampleAdoptInstall() {
	dir, home := folder(map[string]string{"run.sh": "#!/bin/sh\nexec ./pond\n", "pond": "#!/bin/sh\n",
		"world/level": "lilies"}), folder(nil)
	defer os.RemoveAll(dir)
	defer os.RemoveAll(home)
	a, err := freshkeel.AdoptInstall(context.Background(), freshkeel.Adopt{Dir: dir, Name: "Pond", DryRun: true},
		freshkeel.Options{Home: home})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, g := range a.Guesses {
		if g.Key == "launch.script" {
			fmt.Println(g.Key, "=", g.Value)
		}
	}
	// Output: launch.script = run.sh
}

// What a refit would meet and do is known while the old server runs: the plan, and what
// the checks found. Nothing of the install changes.
func ExampleKeel_Preflight() {
	k, done := pond()
	defer done()
	build := folder(map[string]string{"pond": "#!/bin/sh\necho pond 1.1\n", "world/level": "a sample"})
	defer os.RemoveAll(build)
	pre, err := k.Preflight(context.Background(), freshkeel.Want{From: build, As: "1.1"})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, s := range pre.Plan.Steps {
		fmt.Println(s.Do, s.Path)
	}
	fmt.Println("kept:", pre.Plan.Kept)
	// Output:
	// replace pond
	// kept: [world/level]
}

// Backups are taken of the install as it is, and read through its shelf.
func ExampleShelf() {
	k, done := pond()
	defer done()
	if _, _, err := k.TakeBackup(context.Background(), "before the party", freshkeel.Choice{}); err != nil {
		fmt.Println(err)
		return
	}
	list, err := k.Shelf().List()
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, b := range list {
		fmt.Println(b.ID, b.Label, b.Files, "files")
	}
	// Output: b0001 before the party 4 files
}

// A version that is not there, and what helps, come back as an error with a next step.
func ExampleAdvised() {
	k, done := pond()
	defer done()
	_, err := k.Builds(context.Background())
	if a, is := err.(*freshkeel.Advised); is {
		fmt.Println(a)
		fmt.Println("try:", a.Do)
	}
	// Output:
	// the profile names no source of builds: [source] is empty
	// try: set it in freshkeel.toml (docs/sources.md), or take a build from a path or URL with --from
}
