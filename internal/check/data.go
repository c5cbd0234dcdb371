package check

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"

	"freshkeel/internal/profile"
)

// checkData looks whether the commands that dump and load the data outside the
// install are there: without them there is no backup, and the server would be
// down when that is found out.
func checkData(_ context.Context, s *situation) (out []Finding) {
	for _, d := range s.k.Profile.Data {
		for do, argv := range map[string][]string{"dumps": d.Dump, "loads": d.Load} {
			program := argv[0]
			if strings.Contains(program, "/") && !filepath.IsAbs(program) {
				program = s.k.Path(program)
			}
			if _, err := exec.LookPath(program); err != nil {
				out = append(out, Finding{Level: Stop,
					What:  fmt.Sprintf("%s, which %s %s, is not here", argv[0], do, d.Name),
					Where: s.k.Path(profile.FileName) + ", [[data]] " + d.Name,
					Why:   "without it there is no backup, and no way back", Do: "install it, or correct the profile"})
			}
		}
	}
	if out == nil && len(s.k.Profile.Data) > 0 {
		return ok("what dumps and loads the data outside the install is here")
	}
	return out
}
