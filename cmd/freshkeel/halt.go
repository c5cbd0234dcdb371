package main

import (
	"fmt"
	"os"
	"syscall"
	"time"
)

// Environment variables by which tests put a fault at a named step: to end
// there as kill -9 does, to fail there as a full disk does, or to stay there.
const (
	envDieAt  = "FRESHKEEL_TEST_DIE_AT"
	envFullAt = "FRESHKEEL_TEST_DISK_FULL_AT"
	envStayAt = "FRESHKEEL_TEST_STAY_AT" // until the trace is taken away, or for good without one
	envTrace  = "FRESHKEEL_TEST_TRACE"   // file that gets the name of every step passed
)

func haltFromEnv() func(at string) error {
	die, full, stay, trace := os.Getenv(envDieAt), os.Getenv(envFullAt), os.Getenv(envStayAt), os.Getenv(envTrace)
	if die == "" && full == "" && stay == "" && trace == "" {
		return nil
	}
	return func(at string) error {
		if trace != "" {
			if f, err := os.OpenFile(trace, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600); err == nil {
				fmt.Fprintln(f, at)
				f.Close()
			}
		}
		switch at {
		case die:
			if self, err := os.FindProcess(os.Getpid()); err == nil {
				self.Kill()
			}
			select {}
		case full:
			return &os.PathError{Op: "write", Path: at, Err: syscall.ENOSPC}
		case stay:
			for there := true; there; {
				time.Sleep(20 * time.Millisecond)
				_, err := os.Stat(trace)
				there = trace == "" || err == nil
			}
		}
		return nil
	}
}
