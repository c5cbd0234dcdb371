package check

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"

	"freshkeel/internal/data"
	"freshkeel/internal/profile"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// checkData looks whether the commands that dump and load the data outside the
// install are there: without them there is no backup, and the server would be
// down when that is found out.
func checkData(ctx context.Context, s *situation) (out []Finding) {
	od := data.New(s.k.Install)
	for _, d := range s.k.Profile.Data {
		lacks := false
		for do, argv := range map[string][]string{"dumps": d.Dump, "loads": d.Load} {
			program := argv[0]
			if strings.Contains(program, "/") && !filepath.IsAbs(program) {
				program = s.k.Path(program)
			}
			if _, err := exec.LookPath(program); err != nil {
				lacks = true
				out = append(out, Finding{Level: Stop,
					What:  fmt.Sprintf("%s, which %s %s, is not here", argv[0], do, d.Name),
					Where: s.k.Path(profile.FileName) + ", [[data]] " + d.Name,
					Why:   "without it there is no backup, and no way back", Do: "install it, or correct the profile"})
			}
		}
		if lacks {
			continue
		}
		if err := od.Probe(ctx, d); err != nil {
			f := Finding{Level: Stop, What: "the data outside can't be dumped: " + err.Error(),
				Where: s.k.Path(profile.FileName) + ", [[data]] " + d.Name,
				Why:   "without a dump there is no backup and no way back, and the server would be down when that is found out",
				Do:    "see that its database is up and lets this user in; then preflight again"}
			if said := (*tell.ToolFailed)(nil); errors.As(err, &said) && len(said.Lines) > 0 {
				f.What += ": " + said.Lines[len(said.Lines)-1]
			}
			out = append(out, f)
			continue
		}
		if last, limit := od.LastSeen()[d.Name], data.DumpLimit(d); last.Took > limit*4/5 {
			out = append(out, Finding{Level: Warn,
				What: fmt.Sprintf("the last dump of %s took %s, and %s is the most that it may take",
					d.Name, words.Age(last.Took), limit), Where: s.k.Path(profile.FileName) + ", [[data]] " + d.Name,
				Why: "the refit ends, with nothing changed, once that is over", Do: "give it more: limit, under [[data]]"})
		}
	}
	if out == nil && len(s.k.Profile.Data) > 0 {
		return ok("what dumps and loads the data outside the install is here, and a dump can be taken")
	}
	return out
}
