package main

import (
	"strings"

	"github.com/urfave/cli/v3"
)

// examples are one or two of each command, as they are typed; of the program itself, the order
// of the work.
var examples = map[string]string{
	"": `freshkeel adopt ~/pond                          take the server in ~/pond under care
freshkeel -d ~/pond start --learn               start it, and learn by what it shows
freshkeel -d ~/pond preflight --from NEW.zip    what a new build would meet and do
freshkeel -d ~/pond refit --from NEW.zip        bring it in; back by itself if it does not come up
freshkeel -d ~/pond rollback                    the build before`,
	"adopt": `freshkeel adopt ~/pond --build ~/Downloads/pond-1.0.zip
freshkeel adopt ~/pond --learn        complete its profile, at any time
freshkeel adopt ~/pond --release --keep-backups`,
	"lay": `freshkeel lay ~/pond --source https://builds.example/pond.json
freshkeel lay ~/pond2 --like ~/pond --world --port 27750=27760
freshkeel lay ~/trial --like ~/pond --at b0007 --port 27750=27760`,
	"restart": "freshkeel -d ~/pond restart --when-empty --at-most 2h",
	"start":   `freshkeel -d ~/pond start --learn`,
	"run":     `freshkeel -d ~/pond run`,
	"unit":    `freshkeel -d ~/pond unit --write freshkeel-pond.service`,
	"stop": "freshkeel -d ~/pond stop\n" +
		"freshkeel -d ~/pond stop --when-empty --at-most 2h",
	"status":      `freshkeel -d ~/pond status`,
	"send":        `freshkeel -d ~/pond send say the gates close at ten`,
	"log":         `freshkeel -d ~/pond log -f`,
	"builds":      `freshkeel -d ~/pond builds`,
	"builds drop": `freshkeel -d ~/pond builds drop 1.0 --dry-run`,
	"fetch":       `freshkeel -d ~/pond fetch --check      for cron: exit 10 where something newer exists`,
	"preflight":   `freshkeel -d ~/pond preflight 1.1 --all`,
	"refit": "freshkeel -d ~/pond refit              the newest build of its channel\n" +
		"freshkeel -d ~/pond refit --from ~/Downloads/pond-1.1.zip\n" +
		"freshkeel -d ~/pond refit --runtime 21 --reason 'lantern races are here'",
	"rollback": `freshkeel -d ~/pond rollback r0004     back to before that refit`,
	"recover":  `freshkeel -d ~/pond recover`,
	"audit":    "freshkeel -d ~/pond audit\nfreshkeel -d ~/pond audit --deep --mend",
	"launch":   "freshkeel -d ~/pond launch\nfreshkeel -d ~/pond launch --ask\nfreshkeel -d ~/pond launch --write start.sh",
	"settings": "freshkeel -d ~/pond settings\nfreshkeel -d ~/pond settings pond.conf --against 1.1",
	"compare": "freshkeel -d ~/pond compare 1.0 now --only 'lib/**'\n" +
		"freshkeel -d ~/pond compare 'before the feast' now\n" +
		"freshkeel compare ~/Downloads/pond-1.0.zip ~/Downloads/pond-1.1.zip\n" +
		"freshkeel -d ~/pond compare now ~/pond-client --list both",
	"backup":        `freshkeel -d ~/pond backup take --label "before the feast"`,
	"backup take":   `freshkeel -d ~/pond backup take --only 'gardens/**'`,
	"backup list":   `freshkeel -d ~/pond backup list`,
	"backup show":   `freshkeel -d ~/pond backup show b0007`,
	"backup check":  `freshkeel -d ~/pond backup check --sample 20`,
	"backup thin":   `freshkeel -d ~/pond backup thin --days 14 --weeks 8 --dry-run`,
	"backup export": `freshkeel -d ~/pond backup export b0007 ~/pond.tar.zst`,
	"backup import": `freshkeel -d ~/pond backup import ~/pond-before.zip`,
	"backup push":   `freshkeel -d ~/pond backup push`,
	"backup bring":  `freshkeel -d ~/pond backup bring --copy`,
	"backup restore": "freshkeel -d ~/pond backup restore b0007 --only 'gardens/**'\n" +
		"freshkeel -d ~/pond backup restore b0007 --to ~/look",
	"runtimes":      `freshkeel -d ~/pond runtimes 4.0.0`,
	"runtimes take": `freshkeel runtimes take ~/Downloads/runtime-33.tar.gz`,
	"runtimes drop": `freshkeel runtimes drop NAME`,
	"profile":       `freshkeel -d ~/pond profile check`,
	"profile check": `freshkeel -d ~/pond profile check`,
	"profile set": "freshkeel -d ~/pond profile set stop.send quit\n" +
		"freshkeel -d ~/pond profile set --add server.keep 'gardens/**'",
	"profile forget": `freshkeel -d ~/pond profile forget ready.line`,
	"logbook":        `freshkeel -d ~/pond logbook r0004`,
	"feed":           `freshkeel feed write ~/builds`,
	"feed write":     `freshkeel feed write ~/builds`,
	"feed check":     `freshkeel feed check ~/builds/feed.json`,
	"demo":           `freshkeel demo ~/harbour`,
	"help":           `freshkeel help backup restore`,
}

// showExamples puts its examples into the help of each command.
func showExamples(c *cli.Command, path string) {
	if text := examples[path]; text != "" {
		c.Description = text
	}
	for _, sub := range c.Commands {
		sub.DisableSliceFlagSeparator = c.DisableSliceFlagSeparator // which no command inherits by itself
		showExamples(sub, strings.TrimSpace(path+" "+sub.Name))
	}
}

// The order of the work, in which commands are listed; others come behind.
var inOrder = []string{
	"adopt",
	"lay",
	"start",
	"stop",
	"restart",
	"run",
	"unit",
	"status",
	"send",
	"log",
	"builds",
	"fetch",
	"preflight",
	"refit",
	"rollback",
	"recover",
	"audit",
	"settings",
	"launch",
	"compare",
	"backup",
	"profile",
	"runtimes",
	"logbook",
	"feed",
	"demo",
	"help",
}
