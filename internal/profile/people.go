package profile

import (
	"bytes"
	"encoding/json"
	"path"
	"regexp"
	"slices"

	"freshkeel/internal/tree"
)

// peopleName is what lists of people are called: who may come in, who may not, who has which rights.
var peopleName = regexp.MustCompile(`(?i)(^|[-_.])(members?|admins?|moderators?|operators?|ops|stewards?|bans?|banned|allow(ed)?|` +
	`deny|denied|permissions|users?|players?|roles|guests?|vips?|white-?list(ed)?|black-?list(ed)?|allow-?list|deny-?list|` +
	`block-?list)[\w-]*\.(txt|json|ya?ml|csv|cfg|ini|conf|list)$`)

// PeopleByName tells whether a file is a list of people by its name.
func PeopleByName(at string) bool { return peopleName.MatchString(path.Base(at)) }

// personKeys are what a list of people says of each.
var personKeys = []string{"name", "uuid", "player", "playername", "username", "user", "nick", "nickname", "steamid",
	"guid",
	"accountid", "playerid", "userid"}

// People tells whether a file is a list of people, by its name or by what is in it: an array of things that each have a
// person's name or number. Such a list is the operator's own, and no settings: with a rollback it would be yesterday's.
func People(at string, text []byte) bool {
	if PeopleByName(at) {
		return true
	}
	text = bytes.TrimSpace(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")))
	if len(text) == 0 || text[0] != '[' {
		return false
	}
	var list []map[string]any
	if json.Unmarshal(text, &list) != nil || len(list) == 0 {
		return false
	}
	for _, one := range list {
		if !slices.ContainsFunc(personKeys, func(key string) bool {
			for k := range one {
				if lower(k) == key {
					return true
				}
			}
			return false
		}) {
			return false
		}
	}
	return true
}

// PeopleAsSettings lists the files of an install that the profile names as settings, and that are lists of people.
func (p *Profile) PeopleAsSettings(list tree.List, read func(at string) ([]byte, error)) (out []string) {
	for _, e := range list {
		if e.Kind != tree.File || e.Size > mostPeople || !p.Server.Settings.Match(e.Path) || p.Server.Keep.Match(e.Path) ||
			!SettingsByName(e.Path) {
			continue
		}
		if text, err := read(e.Path); err == nil && People(e.Path, text) {
			out = append(out, e.Path)
		}
	}
	return out
}

// mostPeople bounds a list of people that is read, in bytes.
const mostPeople = 1 << 20

// lower is a key without the signs that people spell it with.
func lower(key string) string {
	out := make([]byte, 0, len(key))
	for _, c := range []byte(key) {
		switch {
		case c >= 'A' && c <= 'Z':
			out = append(out, c+'a'-'A')
		case c != '_' && c != '-' && c != ' ':
			out = append(out, c)
		}
	}
	return string(out)
}
