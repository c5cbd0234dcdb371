package words

import (
	"fmt"
	"strings"
	"time"
)

// Plural is a number and what there is of it: "1 file", "3 files".
func Plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Is is Plural with a verb: "1 file is", "3 files are".
func Is(n int, what string) string { return Plural(n, what) + verb(n, " is", " are") }

// Were is Plural with a verb: "1 file was", "3 files were".
func Were(n int, what string) string { return Plural(n, what) + verb(n, " was", " were") }

// Does is Plural with a verb: "1 file does", "3 files do".
func Does(n int, what string) string { return Plural(n, what) + verb(n, " does", " do") }

// Differ is Plural with a verb: "1 file differs", "3 files differ".
func Differ(n int, what string) string { return Plural(n, what) + verb(n, " differs", " differ") }

// It stands for what was counted: "it", "them".
func It(n int) string { return verb(n, "it", "them") }

// They stands for what was counted, as the subject: "it", "they".
func They(n int) string { return verb(n, "it", "they") }

// Are is "is" for one and "are" for several.
func Are(n int) string { return verb(n, "is", "are") }

func verb(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Some lists a few of many.
func Some(list []string, most int) string {
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

// Bytes writes a number of bytes as a person reads it, in powers of 1024.
func Bytes(n int64) string {
	const unit = 1024
	if n < unit {
		return fmt.Sprintf("%d B", n)
	}
	v, i := float64(n)/unit, 0
	for v >= unit && i < 4 {
		v, i = v/unit, i+1
	}
	return fmt.Sprintf("%.1f %ciB", v, "KMGTP"[i])
}

// Age writes how long something lasted as a person reads it.
func Age(d time.Duration) string {
	switch {
	case d < 0:
		return "an unknown time (the clock was set back)"
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}
