package host

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"time"
)

// A user who is not root may have root's answers about the services of one install, by a rule of sudo's that
// lets them run that one command: the same questions, held to the same rules, as those of a command of root's
// that has become the user.

// SudoRule is the rule: a line for sudoers(5).
func SudoRule(user, self, word, dir string) (string, error) {
	var said []string
	for _, w := range []string{self, word, dir} {
		if strings.ContainsFunc(w, func(r rune) bool { return r < ' ' || r > 0x7e }) {
			return "", fmt.Errorf("a rule of sudo's can't say %q", w)
		}
		var b strings.Builder
		for _, r := range w {
			if strings.ContainsRune(` ,:=\*?[]!"#()`, r) {
				b.WriteByte('\\')
			}
			b.WriteRune(r)
		}
		said = append(said, b.String())
	}
	return fmt.Sprintf("%s ALL=(root) NOPASSWD: %s", user, strings.Join(said, " ")), nil
}

// sudoWait is how long sudo may take to say whether it has a rule.
const sudoWait = 5 * time.Second

// AskBySudo has root answer this process's questions about services of the install at dir, by the rule.
func AskBySudo(self, word, dir string) error {
	if asks() {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), sudoWait)
	defer cancel()
	if out, err := exec.CommandContext(ctx, "sudo", "-n", "-l", "--", self, word, dir).CombinedOutput(); err != nil {
		return fmt.Errorf("sudo has no rule that lets you run %s %s %s: %w %s", self, word, dir, err,
			strings.TrimSpace(string(out)))
	}
	cmd := exec.Command("sudo", "-n", "--", self, word, dir)
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	heard, err := cmd.StderrPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	asker.Lock()
	defer asker.Unlock()
	asker.in, asker.out = in, bufio.NewReaderSize(out, mostAsked)
	asker.heard.of, asker.heard.alone = map[int]chan heardLine{}, true
	go asker.heard.pass(heard)
	return nil
}

// AnswerBySudo answers the user who runs this by sudo, and whose the install at dir is.
func AnswerBySudo(in io.Reader, out, heard io.Writer, owner *Owner, uid, dir string) error {
	if owner == nil || fmt.Sprint(owner.UID) != uid {
		return errors.New("the install is not of the user who asks")
	}
	return Answer(in, out, heard, owner.UID, dir)
}
