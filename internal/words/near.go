package words

// Distance is the Levenshtein distance in bytes.
func Distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diag := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			diag, row[j+1] = row[j+1], min(row[j+1]+1, row[j]+1, diag+cost)
		}
	}
	return row[len(b)]
}

// Near is the word of a list that another may be meant for: at most half of its letters
// are other ones. "" for none.
func Near(word string, list []string) (near string) {
	best := len(word)/2 + 1
	for _, w := range list {
		if d := Distance(word, w); d < best {
			best, near = d, w
		}
	}
	return near
}
