package merge

import (
	"bytes"
	"context"
	"strings"
)

// Branches merges a file that two branches both have, for version control. Where
// they clash, both texts stand in the result, between the usual markers, and all
// else is merged.
//
// The ledger's own files are written anew by the next write, so that nothing in
// them clashes: there ours stands.
func Branches(ctx context.Context, name string, base, ours, theirs []byte, o *Options) ([]byte, *Result) {
	side := func(choices []Choice) (*Result, []byte) {
		with := *o
		with.Branches, with.Choices = true, append(choices, o.Choices...)
		r := Files(ctx, name, base, ours, theirs, &with)
		if text, changed := r.Changed[name]; changed {
			return r, text
		}
		return r, ours
	}
	r, text := side(nil)
	if len(r.Conflicts) == 0 {
		return text, r
	}
	settled := func(to Side) ([]byte, bool) {
		var choices []Choice
		again := r
		for range 8 { // what is settled may uncover more
			for _, c := range again.Conflicts {
				choices = append(choices, Choice{Place: c.Place(), Side: to})
			}
			if again, text = side(choices); len(again.Conflicts) == 0 {
				return text, true
			}
		}
		return nil, false
	}
	mine, ok := settled(Mine)
	if ledger(name) {
		if !ok {
			mine = ours
		}
		return mine, &Result{Notices: r.Notices}
	}
	other, also := settled(New)
	if !ok || !also {
		mine, other = ours, theirs
	}
	return marked(mine, other), r
}

// ledger reports whether a file is one of the ledger.
func ledger(name string) bool {
	return strings.HasSuffix(name, ".base") || strings.Contains("/"+name, "/.widegate")
}

// The markers of a merge that is not finished.
const (
	markOurs   = "<<<<<<< ours"
	markMiddle = "======="
	markTheirs = ">>>>>>> theirs"
)

// marked has the lines that two texts share once, and between markers those of
// each where they differ.
func marked(ours, theirs []byte) []byte {
	a, b := linesOf(ours), linesOf(theirs)
	partner := longestCommon(a, b)
	var text strings.Builder
	put := func(lines []string) {
		for _, line := range lines {
			text.WriteString(line)
			if !strings.HasSuffix(line, "\n") {
				text.WriteString("\n")
			}
		}
	}
	for i, j := 0, 0; ; {
		end := i
		for end < len(a) && partner[end] < 0 {
			end++
		}
		to := len(b)
		if end < len(a) {
			to = partner[end]
		}
		if end > i || to > j {
			put([]string{markOurs})
			put(a[i:end])
			put([]string{markMiddle})
			put(b[j:to])
			put([]string{markTheirs})
		}
		if end == len(a) {
			break
		}
		text.WriteString(a[end])
		i, j = end+1, to+1
	}
	if bytes.Equal(ours, theirs) {
		put([]string{markOurs, markMiddle, markTheirs}) // what clashes is not in the lines
	}
	return []byte(text.String())
}

func linesOf(text []byte) []string {
	lines := strings.SplitAfter(string(text), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}
