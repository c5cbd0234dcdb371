package profile

import (
	"path"
	"slices"
	"strings"
)

// manifests are the names of files by which package managers know a program and its parts.
var manifests = []string{"package.json", "package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml",
	"requirements.txt", "pyproject.toml", "poetry.lock", "setup.cfg", "pipfile", "pipfile.lock", "gemfile",
	"gemfile.lock", "go.mod", "go.sum", "cargo.toml", "cargo.lock", "composer.json", "composer.lock", "pom.xml",
	"build.gradle", "mix.exs", "mix.lock"}

// vendoredIn are the names of folders in which package managers lay the modules of a program.
var vendoredIn = []string{"node_modules", "site-packages", "dist-packages", "__pycache__"}

// Vendored tells whether a file is the manifest of a package, a lock file, or part of a module that a package manager
// laid: builds bring these, whatever their endings are.
func Vendored(at string) bool {
	at = strings.ToLower(at)
	return slices.Contains(manifests, path.Base(at)) ||
		slices.ContainsFunc(strings.Split(path.Dir(at), "/"), func(dir string) bool {
			return slices.Contains(vendoredIn, dir)
		})
}
