package launch

import (
	"fmt"
	"strings"
)

// Composed is what a launch script is made of.
type Composed struct {
	By      string // the command that writes it
	Why     string
	Program string
	Args    []string
	Folder  string // that it runs in, relative to the install; "" or "." is the install
}

// Compose makes a launch script that runs one program in the foreground: a shell script, or a
// batch script where its name says so.
func Compose(name string, c Composed) ([]byte, error) {
	as := Command{batch: isBatch(name)}
	var line []string
	for _, w := range append([]string{c.Program}, c.Args...) {
		q, err := as.quote(w)
		if err != nil {
			return nil, err
		}
		line = append(line, q)
	}
	below := ""
	if c.Folder != "" && c.Folder != "." {
		below = "/" + c.Folder
	}
	if as.batch {
		line[0] = strings.ReplaceAll(line[0], "/", `\`)
		return []byte(fmt.Sprintf("@echo off\r\nrem Written by %s: %s.\r\ncd /d \"%%~dp0%s\"\r\n%s\r\n", c.By, c.Why,
			strings.ReplaceAll(strings.TrimPrefix(below, "/"), "/", `\`), strings.Join(line, " "))), nil
	}
	if below != "" {
		q, err := as.quote(below)
		if err != nil {
			return nil, err
		}
		below = q
	}
	return []byte(
		fmt.Sprintf("#!/bin/sh\n# Written by %s: %s.\ncd \"$(dirname \"$0\")\"%s || exit 1\nexec %s\n", c.By, c.Why,
			below, strings.Join(line, " ")),
	), nil
}
