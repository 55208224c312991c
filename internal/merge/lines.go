package merge

import "strings"

// mergeLines merges lines in the manner of diff3. The second result is where in
// mine both sides changed one place differently, or -1; the lines are then those
// of mine.
func mergeLines(b, m, t []string) (lines []string, clash int) {
	am, at := longestCommon(b, m), longestCommon(b, t)
	nextM, nextT := 0, 0
	for i := 0; ; {
		end := i
		for end < len(b) && (am[end] < 0 || at[end] < 0) {
			end++
		}
		toM, toT := len(m), len(t)
		if end < len(b) {
			toM, toT = am[end], at[end]
		}
		mine, theirs := m[nextM:toM], t[nextT:toT]
		switch {
		case sameLines(b[i:end], theirs) || sameLines(mine, theirs):
			lines = append(lines, mine...)
		case sameLines(b[i:end], mine):
			lines = append(lines, theirs...)
		default:
			return m, nextM
		}
		if end == len(b) {
			return lines, -1
		}
		lines = append(lines, b[end])
		nextM, nextT, i = toM+1, toT+1, end+1
	}
}

func sameLines(a, b []string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// textLines merges a file by lines.
func (g *merger) textLines(b, m, t string) string {
	lines := func(s string) []string { return strings.SplitAfter(s, "\n") }
	merged, clash := mergeLines(lines(b), lines(m), lines(t))
	if clash < 0 {
		return strings.Join(merged, "")
	}
	g.at(clash + 1)
	if g.refuse("both-changed", "you changed these lines, and the new rendering changes them too") == New {
		return t
	}
	return m
}
