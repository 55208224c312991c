package catalog

// Nearest returns the name that is at most two edits away from word and has
// something in common with it, or an empty text.
func Nearest(word string, names []string) string {
	best, bestAt := "", 3
	for _, name := range names {
		if d := Distance(word, name); d < bestAt && d < len(word) {
			best, bestAt = name, d
		}
	}
	return best
}
