package adopt

import (
	"os"
	"path/filepath"
	"strings"

	"freshkeel/internal/profile"
	"freshkeel/internal/tree"
	"freshkeel/internal/words"
)

// elsewhereIn are the folders that stand elsewhere by the profile that is there; none where it
// can't be read.
func elsewhereIn(dir string, text []byte) tree.Elsewhere {
	p, err := profile.Parse(filepath.Join(dir, profile.FileName), text)
	if err != nil {
		return nil
	}
	return p.Elsewhere
}

// tellAway tells of folders outside of the install that may belong to the server: what a link
// at its top leads to, and what the launch command names. Whether one is this server's alone
// is the operator's to say.
func tellAway(l *lookout) {
	told := map[string]bool{}
	tell := func(name, folder, by string) {
		folder = tree.Real(folder)
		fi, err := os.Stat(folder)
		if err != nil || !fi.IsDir() || told[folder] || l.k.Profile.Elsewhere[name] != "" ||
			tree.Inside(l.dir, folder) || tree.Inside(folder, tree.Real(l.dir)) {
			return
		}
		told[folder] = true
		l.note(
			"%s is outside of the install (%s): a refit neither exchanges nor backs up what lies there; if it belongs to "+
				"this server alone: freshkeel profile set elsewhere.%s %s",
			folder,
			by,
			name,
			words.Shell(folder),
		)
	}
	for _, e := range l.files {
		if e.Kind == tree.Link && !strings.Contains(e.Path, "/") {
			tell(e.Path, l.full(e.Path), "the link "+e.Path+" leads to it")
		}
	}
	for _, c := range l.others {
		if c.File != l.script {
			continue
		}
		for _, arg := range c.Args {
			if _, value, ok := strings.Cut(arg, "="); ok && !filepath.IsAbs(arg) {
				arg = value
			}
			// A folder with nothing above it but the system's own is no server's alone.
			if filepath.IsAbs(arg) && strings.Count(filepath.ToSlash(filepath.Clean(arg)), "/") > 1 {
				tell(filepath.Base(arg), arg, "the launch script names it")
			}
		}
	}
}
