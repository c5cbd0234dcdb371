package backups

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"freshkeel/internal/edited"
	"freshkeel/internal/locker"
	"freshkeel/internal/tell"
	"freshkeel/internal/words"
)

// LastGood names the newest backup that was taken since the server last came up, or before it where there is none
// since; nothing that was taken after a run that ended badly counts.
const LastGood = "last-good"

// byTime finds a backup by when it was taken; said is false where the name is no time.
func (sh *Shelf) byTime(name string, heads []*locker.Set) (id string, said bool, err error) {
	word := strings.ToLower(name)
	from, to := time.Time{}, time.Now()
	switch word {
	case "last":
	case LastGood:
		if st := sh.Host().Status(); !st.Running && st.Last != nil && !st.Last.Asked &&
			st.Last.Began.After(edited.LastUp(sh.Install)) {
			to = st.Last.Began
		}
	case "yesterday", "today":
		y, m, d := time.Now().Date()
		if word == "yesterday" {
			d--
		}
		from = time.Date(y, m, d, 0, 0, 0, 0, time.Local)
		to = from.AddDate(0, 0, 1)
	default:
		var at time.Time
		at, err = time.ParseInLocation(time.DateOnly, word, time.Local)
		if from, to = at, at.AddDate(0, 0, 1); err == nil {
			break
		}
		for _, form := range []string{"2006-01-02 15:04", time.DateTime, "2006-01-02t15:04", "2006-01-02t15:04:05"} {
			if at, err = time.ParseInLocation(form, word, time.Local); err == nil {
				from, to = at, at.Add(time.Minute)
				if strings.Count(form, ":") == 2 {
					to = at.Add(time.Second)
				}
				break
			}
		}
		if err != nil {
			return "", false, nil
		}
	}
	whole := ""
	for _, h := range slices.Backward(heads) {
		if h.Damage != "" || !sh.Mine(h) || h.Taken.Before(from) || !h.Taken.Before(to) {
			continue
		}
		if !h.Partial() || word != LastGood {
			whole = h.ID
			break
		}
	}
	if whole != "" {
		return whole, true, nil
	}
	var days []string
	for _, h := range heads {
		if day := h.Taken.Local().Format("2006-01-02 15:04"); sh.Mine(h) && !slices.Contains(days, day) {
			days = append(days, day)
		}
	}
	slices.Reverse(days)
	do := "freshkeel backup take makes one"
	if len(days) > 0 {
		do = "there are backups of " + words.Some(days, 4) + ": freshkeel backup list"
	}
	return "", true, tell.Advise(fmt.Errorf("%s: %w", name, locker.ErrNoSet), do)
}

// Told is a backup whose folder the person has named, or which is of this one; another folder's is a tell.Usage.
func (sh *Shelf) Told(set *locker.Set, of string) error {
	switch {
	case of != "" && set.Root != of && !strings.HasSuffix(set.Root, "/"+strings.Trim(of, "/")):
		return tell.Misuse(fmt.Sprintf("backup %s was taken of %s, and not of %s", set.ID, set.Root, of),
			"freshkeel backup list")
	case of == "" && !sh.Mine(set):
		return tell.Misuse(fmt.Sprintf("backup %s was taken of another folder, %s: its world would come into this "+
			"one", set.ID,
			set.Root), fmt.Sprintf("if that is meant, name it: freshkeel backup restore %s --of "+
			"%s", set.ID, words.Shell(set.Root)))
	}
	return nil
}
