package unpack

import (
	"slices"
	"strings"
	"sync"

	"freshkeel/internal/tree"
)

// Used notes which patterns of a rule have matched something: one that never does is an error of whoever wrote it,
// and its effect is missing. The zero pointer notes nothing.
type Used struct {
	mu    sync.Mutex
	strip int
	open  []string // patterns that nothing has matched yet
}

// Watch notes the patterns of a rule.
func (u Rule) Watch() *Used {
	w := &Used{strip: u.Strip}
	w.open = slices.Concat([]string(u.Take), u.Leave, u.Inside)
	for p := range u.Moved {
		w.open = append(w.open, p)
	}
	slices.Sort(w.open)
	w.open = slices.Compact(w.open)
	return w
}

// See notes an entry, by its path in the archive.
func (w *Used) See(raw string) {
	if w == nil {
		return
	}
	elems := strings.Split(raw, "/")
	if len(elems) <= w.strip {
		return
	}
	at := strings.Join(elems[w.strip:], "/")
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.open) > 0 {
		w.open = slices.DeleteFunc(w.open, func(p string) bool { return (tree.Patterns{p}).Match(at) })
	}
}

// Vain lists the patterns that matched nothing.
func (w *Used) Vain() []string {
	if w == nil {
		return nil
	}
	return w.open
}
