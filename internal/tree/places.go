package tree

import (
	"path"
	"slices"
)

// Places lists, of the entries of a walk of root, sorted by path, the folders
// where another file system begins, and the single files that are mounted. A
// rename can't cross into the first, nor exchange the second. A folder that stands
// elsewhere is one of the first, wherever that is.
//
// Two things tell: the system's list of mounts, in which one file system may be
// bound into itself, and the device of each folder, which differs in subvolumes
// that no list shows.
func Places(root string, list []Entry) (folders, files []string) {
	mounts, away := mountsBelow(root), Grafted(root)
	top, _, err := Describe(root, "")
	if err != nil {
		return nil, nil
	}
	devs := map[string]uint64{".": top.Dev}
	for _, e := range list {
		mounted := slices.Contains(mounts, e.Path)
		switch {
		case e.Kind == Dir && away[e.Path] != "":
			devs[e.Path] = e.Dev
			folders = append(folders, e.Path)
		case e.Kind == Dir:
			devs[e.Path] = e.Dev
			if up, ok := devs[path.Dir(e.Path)]; mounted || (ok && up != e.Dev) {
				folders = append(folders, e.Path)
			}
		case mounted:
			files = append(files, e.Path)
		}
	}
	return folders, files
}
