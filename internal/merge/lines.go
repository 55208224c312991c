package merge

import (
	"slices"
	"strings"
)

// mergeLines merges lines in the manner of diff3. The second result is where in
// mine both sides changed one place differently, or -1; the lines are then those
// of mine.
func mergeLines(b, m, t []string) (lines []string, clash int) {
	return diff3(b, m, t, func(_, _, _ []string) []string { return nil })
}

// mergeHeaderLines merges the lines above a package clause. What mine has above
// those that theirs changes, a licence or a build tag, stays above them.
func mergeHeaderLines(b, m, t []string) (lines []string, clash int) {
	return diff3(b, m, t, func(base, mine, theirs []string) []string {
		at := len(mine) - len(base)
		if len(base) == 0 || at < 0 || !sameLines(mine[at:], base) {
			return nil
		}
		return slices.Concat(mine[:at], theirs)
	})
}

// diff3 asks settle about each place that both sides changed differently; nil means
// that they clash.
func diff3(b, m, t []string, settle func(base, mine, theirs []string) []string) (lines []string, clash int) {
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
			settled := settle(b[i:end], mine, theirs)
			if settled == nil {
				return m, nextM
			}
			lines = append(lines, settled...)
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
