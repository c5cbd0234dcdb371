package check

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path"
	"regexp"
	"slices"
	"strings"

	"freshkeel/internal/ahead"
	"freshkeel/internal/plan"
	"freshkeel/internal/swap"
	"freshkeel/internal/tree"
	"freshkeel/internal/version"
	"freshkeel/internal/words"
)

func ok(format string, a ...any) []Finding {
	return []Finding{{Level: OK, What: fmt.Sprintf(format, a...)}}
}

// checkDirection keeps a step back from being an accident.
func checkDirection(_ context.Context, s *situation) []Finding {
	from, to := s.plan.From, s.plan.To
	switch {
	case from == "" || to == "":
		return nil
	case from == to && s.plan.Nothing():
		return []Finding{{Level: Warn, What: fmt.Sprintf("%s is what is installed: nothing would change", to)}}
	case from == to || s.want.Back:
		return nil
	}
	if newer, _ := s.cand.Newer(from); newer || s.hop > 0 || version.Compare(to, from) == 0 {
		return ok("%s is newer than the installed %s", to, from)
	}
	return []Finding{{Level: Stop, What: fmt.Sprintf("%s is older than the installed %s", to, from),
		Where: s.cand.Source,
		Why:   "an older build often can't read a world that a newer one has written to",
		Do:    "to undo the last refit: freshkeel rollback; to step back in any case, add --back"}}
}

// checkSteps holds the build to the versions that its maker lets step to it.
func checkSteps(_ context.Context, s *situation) []Finding {
	f := s.cand.Offer
	if s.hop > 0 || f == nil || s.plan.From == "" || s.plan.From == s.plan.To || s.want.Back ||
		f.MayStep(s.plan.From, s.cand.Build) {
		return nil
	}
	if newer, known := s.cand.Newer(s.plan.From); known && !newer {
		return nil // a step back is told by itself
	}
	why, do := "its maker allows updates only from the version directly before it",
		"say what is installed, if that is not known rightly; else ask the makers"
	if len(s.cand.Build.From) > 0 {
		why = "it is to be reached from " + strings.Join(s.cand.Build.From, " or ") + ", which converts what it needs"
		do = "no chain of builds that the source offers leads there; refit to one of those first, with --from PATH"
	}
	return []Finding{{Level: Stop,
		What:  fmt.Sprintf("the maker does not let %s step to %s directly", s.plan.From, s.plan.To),
		Where: s.cand.Source, Why: why, Do: do}}
}

// checkChannel tells when a refit leaves the channel that the installed build
// came from.
func checkChannel(_ context.Context, s *situation) []Finding {
	from, to := s.inv.Channel, s.plan.Channel
	if from == "" || to == "" || from == to {
		return nil
	}
	return []Finding{{Level: Warn, What: fmt.Sprintf("it crosses from channel %s to %s", from, to),
		Where: s.cand.Source,
		Why:   "players need a client of that channel to join",
		Do:    "nothing, if that is meant; [source] channel says which one is followed"}}
}

// checkDamage tells of installed files that are broken and put back.
func checkDamage(_ context.Context, s *situation) []Finding {
	if n := len(s.plan.Mended); n > 0 {
		return []Finding{{Level: Warn,
			What: fmt.Sprintf("%s not as the build has %s, and will be restored: %s", words.Is(n, "installed file"),
				words.It(n), words.Some(s.plan.Mended, 4)), Where: s.k.Dir,
			Why: "nobody wrote to it, or it was cut short: a disk that forgets does that",
			Do:  "look at the disk's own log, should it happen again"}}
	}
	return nil
}

func checkPaths(_ context.Context, s *situation) (out []Finding) {
	for _, d := range s.plan.Dropped {
		out = append(out, ok("%s", d)...)
	}
	if n := len(s.plan.Reserved); n > 0 {
		out = append(out, ok("%s of Fresh Keel's own, from another install, in the build: left out",
			words.Plural(n, "file"))...)
	}
	// A path that is too long for the system would fail in the middle of staging.
	for _, st := range s.plan.Steps {
		full := len(s.k.Path(st.Path)) + len("/.freshkeel/refits/r0000/displaced/") + 64
		switch long := slices.MaxFunc(strings.Split(st.Path, "/"), func(a, b string) int { return len(a) - len(b) }); {
		case len(long) > tree.MaxName:
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%.60s… is a name of %d bytes", long, len(long)),
				Where: s.k.Path(path.Dir(st.Path)),
				Why:   fmt.Sprintf("this system has names of at most %d bytes", tree.MaxName),
				Do:    "ask the makers; or leave the file out, with [source] leave"})
		case full > tree.MaxPath:
			out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%.80s… makes a path of %d bytes", st.Path, full),
				Where: s.k.Dir,
				Why: fmt.Sprintf("this system has paths of at most %d bytes, and files are staged below %s",
					tree.MaxPath, tree.StateFolder), Do: "move the install to a shorter path"})
		}
	}
	for _, b := range s.plan.Blocked {
		out = append(out, Finding{Level: Stop, What: fmt.Sprintf("%s can't be exchanged", b.Path),
			Where: s.k.Path(b.Path), Why: b.Why, Do: b.Do})
	}
	return out
}

func checkDrift(_ context.Context, s *situation) (out []Finding) {
	for _, r := range s.plan.Scripts {
		for _, c := range r.Conflicts {
			out = append(out, Finding{Level: Stop,
				What: fmt.Sprintf("%s: its makers and you both changed line %d, each in another way", r.Path, c.Line),
				Where: fmt.Sprintf("%s:%d\n  old build  %s\n  new build  %s\n  yours      %s", s.k.Path(r.Path), c.Line,
					oneLine(c.Old), oneLine(c.Now), oneLine(c.Mine)),
				Why: "one of the two would be lost, and the server may not start by what is left",
				Do: fmt.Sprintf(
					"take the makers', and let [launch] in the profile say what you need (memory, flags, with, "+
						"without): --accept drift; or keep yours: freshkeel profile set --add server.keep %s",
					r.Path,
				)})
		}
	}
	drifted := slices.DeleteFunc(slices.Clone(s.plan.Drifted), func(at string) bool {
		return slices.ContainsFunc(s.plan.Scripts, func(r plan.Rescript) bool {
			return r.Path == at && len(r.Conflicts) > 0
		})
	})
	if n := len(drifted); n > 0 {
		out = append(out, Finding{Level: Stop,
			What:  fmt.Sprintf("%s changed here, and the new build changes %s too", words.Were(n, "file"), words.It(n)),
			Where: words.Some(drifted, 8),
			Why:   "replacing " + words.It(n) + " would lose what was changed",
			Do: "name " + words.It(n) + " in [server] settings or keep to have yours stay; or take the build's: " +
				"--overwrite " + words.Shell(drifted[0])})
	}
	for _, w := range s.plan.Swapped {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s is that of %s: it was put there by hand, and is replaced like any file of a "+
				"build", w.Path, w.Of),
			Where: s.k.Path(w.Path), Why: "what is installed is of two builds until then",
			Do: "nothing; should you want that build whole: freshkeel refit " + w.Of})
	}
	if n := len(s.plan.Both); n > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf(
				"%s of settings changed here, and the new build changes %s too: yours stay",
				words.Were(n, "file"),
				words.It(n),
			),
			Where: words.Some(s.plan.Both, 8),
			Why:   "what the new build sets in " + words.It(n) + " is not in yours",
			Do:    "compare them once it runs; --accept drift takes the build's instead"})
	}
	if n := len(s.plan.Left); n > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s of the old build with your changes will be left as you have %s",
				words.Plural(n, "file"), words.It(n)), Where: words.Some(s.plan.Left, 8)})
	}
	if n := len(s.plan.Kept); n > 0 {
		out = append(out, ok("%s of your own that the build brings too will be left as you have %s: %s",
			words.Plural(n, "file"), words.It(n), words.Some(s.plan.Kept, 3))...)
	}
	return out
}

// checkYours finds files that the build would replace and that may be the operator's own, or what the server wrote.
func checkYours(_ context.Context, s *situation) (out []Finding) {
	claims := s.plan.Claims
	if n := len(s.plan.Taken); n > 0 {
		out = append(out, Finding{Level: Warn,
			What: fmt.Sprintf("%s by your word, though %s may be yours: %s", words.Is(n, "file")+" replaced",
				words.They(n), words.Some(s.plan.ByFolder(s.plan.Taken), 6)), Where: s.k.Dir,
			Why: "what is in " + words.It(n) + " now is in the backup alone afterwards",
			Do:  "nothing; freshkeel restore --only PATH brings one back"})
	}
	if len(claims) == 0 {
		return out
	}
	var paths []string
	for _, c := range claims {
		paths = append(paths, c.Path)
	}
	yours, theirs := "", ""
	for _, name := range s.plan.ClaimedBy() {
		yours += " " + words.Shell(name)
		theirs += " --overwrite " + words.Shell(name)
	}
	they := words.They(len(claims)) + " " + words.Are(len(claims))
	return append(out, Finding{Level: Stop,
		What: fmt.Sprintf("%s may be yours, or the server's own, and the build would replace %s: %s",
			words.Plural(len(claims), "file"), words.It(len(claims)), words.Some(s.plan.ByFolder(paths), 6)),
		Where: fmt.Sprintf("%s: %s", s.k.Path(claims[0].Path), claims[0].Why),
		Why:   "a world, a list or a database that a build replaces is gone from the server",
		Do: fmt.Sprintf("if %s yours: freshkeel profile set --add server.keep%s; if %s the build's, add%s", they,
			yours, they, theirs)})
}

// oneLine is a text of several lines on one.
func oneLine(s string) string {
	if s == "" {
		return "-"
	}
	return strings.Join(strings.Fields(s), " ")
}

func checkRemovals(_ context.Context, s *situation) (out []Finding) {
	if !s.plan.Known {
		out = append(out, Finding{Level: Warn, Routine: true,
			What:  "which files the old build put there is not known: none will be removed",
			Where: s.k.State("inventory.json"),
			Why:   "left-over files of an old build are sometimes loaded by a new one",
			Do: "freshkeel adopt --build PATH " + words.Shell(s.k.Dir) +
				" (the archive or folder it was made from; your profile stays as it is)"})
		return out
	}
	removed := s.plan.Removes()
	out = append(out, partOfABuild(s, removed)...)
	out = append(out, s.namedInSettings(removed)...)
	if n := len(s.plan.Foreign); n > 0 {
		out = append(out, ok("%s neither the build's nor named in the profile will be left alone: %s",
			words.Plural(n, "file"), words.Some(s.plan.Foreign, 3))...)
	}
	return out
}

// stepName is how an archive is usually called that has only what changed.
var stepName = regexp.MustCompile(`(?i)(^|[-_. ])(update|upgrade|patch|step|delta|diff|hotfix|increment(al)?)([-_. ]|\d|$)`)

// partOfABuild tells what speaks for a build's being an increment, that is to be laid over the one that is
// installed. A source says what its builds are; of one that was taken by hand nobody has said so.
func partOfABuild(s *situation, removed []string) (out []Finding) {
	if s.want.Over || s.cand.Stays || !s.plan.Known {
		return nil
	}
	const why = "an increment that is taken for a whole build removes what it is to be laid over"
	do := "if it is an increment, add --over: it is laid over what is installed"
	signs := signsOfAStep(s, removed)
	switch {
	case len(signs) > 0 && s.want.From != "":
		out = append(out, Finding{Level: Stop, What: "it may be an increment, and no whole build: " +
			strings.Join(signs, "; "),
			Where: s.cand.Source, Why: why, Do: do + "; if it is the whole build, say so: --accept removals"})
	case len(signs) > 0 && 2*len(removed) > s.plan.Had:
		out = append(out, Finding{Level: Warn, What: strings.Join(signs, "; "), Where: s.cand.Source, Why: why,
			Do: "look whether its makers mean that: freshkeel preflight --all names each"})
	case s.want.From != "" && stepName.MatchString(path.Base(s.want.From)):
		out = append(out, Finding{Level: Warn, What: path.Base(s.want.From) + " is an increment by its name",
			Where: s.cand.Source, Why: why, Do: do})
	}
	return out
}

// signsOfAStep says what a build lacks that a whole one would have: over a tenth of the old build's files or bytes,
// or a whole folder. What comes back under another name, or with another version in it, does not count.
func signsOfAStep(s *situation, removed []string) (signs []string) {
	renamed := map[string]bool{}
	for _, m := range s.plan.Moved {
		renamed[m.From] = true
	}
	comes := map[string]int{}
	for _, st := range s.plan.Steps {
		if st.Do == swap.Add {
			comes[path.Join(path.Dir(st.Path), plan.Versionless(path.Base(st.Path)))]++
		}
	}
	var lost []string
	var bytes int64
	for _, at := range removed {
		if renamed[at] {
			continue
		}
		if alike := path.Join(path.Dir(at), plan.Versionless(path.Base(at))); comes[alike] > 0 {
			comes[alike]--
			continue
		}
		lost = append(lost, at)
		bytes += s.ahead.Before.At(at).Size
	}
	if len(lost) == 0 {
		return nil
	}
	// One file that goes is how makers retire one, however few there are.
	if (len(lost) > 1 && 10*len(lost) > s.plan.Had) || 10*bytes > s.plan.HadBytes {
		signs = append(signs, fmt.Sprintf("it would remove %s, %s, of the old build's %d: %s",
			words.Plural(len(lost), "file"), words.Bytes(bytes), s.plan.Had, words.Some(s.plan.ByFolder(lost), 8)))
	}
	if folders := wholeFolders(s, lost); len(folders) > 0 {
		signs = append(signs, "it has nothing of "+words.Some(folders, 4))
	}
	return signs
}

// wholeFolders lists the folders right below the install of which all that the old build had is lost.
func wholeFolders(s *situation, lost []string) (out []string) {
	gone := map[string]int{}
	for _, at := range lost {
		if top, _, below := strings.Cut(at, "/"); below {
			gone[top]++
		}
	}
	for _, dir := range slices.Sorted(maps.Keys(gone)) {
		if gone[dir] >= s.plan.HadBelow[dir] && !s.ahead.BringsBelow(dir) {
			out = append(out, dir+"/")
		}
	}
	return out
}

// namedInSettings finds removed files that the operator's settings name.
func (s *situation) namedInSettings(removed []string) (out []Finding) {
	if len(removed) == 0 {
		return nil
	}
	for _, e := range s.ahead.Before {
		if e.Kind != tree.File || !s.k.Profile.Server.Settings.Match(e.Path) || e.Size > ahead.MaxText {
			continue
		}
		b, err := s.ahead.Text(e.Path) // as it will be
		if err != nil {
			continue
		}
		said := map[string]bool{}
		for _, word := range words.PathLike.FindAllString(string(b), -1) {
			said[word], said[path.Base(word)] = true, true
		}
		for _, at := range removed {
			if name := path.Base(at); said[at] || (len(name) > 4 && strings.Contains(name, ".") && said[name]) {
				out = append(out, Finding{Level: Stop,
					What: fmt.Sprintf("it would remove %s, which your settings name", at), Where: s.k.Path(e.Path),
					Why: "the server would look for it in vain",
					Do:  "correct the settings; or name the file in [server] keep"})
			}
		}
	}
	return out
}

// checkLinks reports files that a backup can't hold: it stores a link, not what
// lies behind it.
func checkLinks(_ context.Context, s *situation) (out []Finding) {
	var folders []string // in the order of their paths
	links := map[string][]tree.Entry{}
	for _, e := range s.ahead.Before {
		if e.Kind == tree.Link && s.k.LeadsOut(e) {
			dir := path.Dir(e.Path)
			if links[dir] == nil {
				folders = append(folders, dir)
			}
			links[dir] = append(links[dir], e)
		}
	}
	const why = "what lies there is neither backed up nor put back by a rollback"
	for _, dir := range folders {
		if list := links[dir]; dir != "." && len(list) > 2 { // a folder of fonts, say: one finding of them all
			var names []string
			for _, e := range list {
				names = append(names, path.Base(e.Path)+" to "+e.Target)
			}
			out = append(out, Finding{Level: Warn, What: fmt.Sprintf("%d links in %s lead outside the install: %s",
				len(list), dir, words.Some(names, 3)), Where: s.k.Path(dir), Why: why,
				Do: "move what they lead to into the install, or back it up yourself"})
			continue
		}
		for _, e := range links[dir] {
			out = append(out, Finding{Level: Warn,
				What:  fmt.Sprintf("%s is a link to %s, outside the install", e.Path, e.Target),
				Where: s.k.Path(e.Path), Why: why, Do: s.linkedAway(e)})
		}
	}
	return out
}

// linkedAway advises what to do about a link that leads out of the install.
func (s *situation) linkedAway(e tree.Entry) string {
	at := s.k.Path(e.Path)
	if fi, err := os.Stat(at); err == nil && fi.IsDir() && !strings.Contains(e.Path, "/") {
		return fmt.Sprintf(
			"if the folder belongs to this server alone: freshkeel profile set elsewhere.%s %s; else back "+
				"it up yourself",
			e.Path,
			words.Shell(tree.Real(at)),
		)
	}
	return "move it into the install, or back it up yourself"
}
