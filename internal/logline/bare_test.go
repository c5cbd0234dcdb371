package logline

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What stands before a line's own words is taken off in whatever form a server writes its times; numbers that are words
// of the line stay.
func TestFrontsAreTakenOff(t *testing.T) {
	for line, bare := range map[string]string{
		"> December 1st 2026, 22:32:27 [INFO]: Server listening":   "Server listening",
		"[INFO] Dec 1, 2026 10:20:30 PM: open":                     "open",
		"1st Dec 2026 10:20:30 - open":                             "open",
		"2026.1201:223551 pond INI/START: Starting":                "pond INI/START: Starting",
		"20261201-223551 open":                                     "open",
		"20261201_22:35:51.004 open":                               "open",
		"[3221] 2026/12/01 22:32:14.074342 [INF]   Version:  2.14": "Version:  2.14",
		"[Pond@1b2c6ec2]: 2026-12-01 22:31:05.717 pond is online":  "pond is online",
		"   the gates are open":                                    "the gates are open",
		"10.0.19041.1288 is the build":                             "10.0.19041.1288 is the build",
		"2026 frogs came":                                          "2026 frogs came",
		"1.16.1 is the protocol":                                   "1.16.1 is the protocol",
		"127.0.0.1:27750 listens":                                  "127.0.0.1:27750 listens",
		"3 of 5 maps":                                              "3 of 5 maps",
	} {
		assert.Equal(t, bare, Bare(line), line)
	}
}
