//go:build !linux

package host

import (
	"os"
	"os/exec"
)

// shutOff can't be had on this system.
func shutOff(*exec.Cmd) error { return ErrNotApart }

// ApartDir leaves it to the caller.
func ApartDir() string { return "" }

// OwnApart changes nothing: a program is run by the caller here.
func OwnApart(string) error { return nil }

// BeApart can't be had on this system.
func BeApart(_, _, _ *os.File) int { return apartFailed }

func termApart(cmd *exec.Cmd) { cmd.Process.Kill() }

func killApart(cmd *exec.Cmd) { cmd.Process.Kill() }
