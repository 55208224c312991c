package merge

import (
	"fmt"
	"strings"
)

// Unified is the difference of two texts in the unified format, with three
// lines around each change; it is empty for equal texts.
func Unified(nameA, nameB string, a, b []byte) string {
	linesA, linesB := diffLines(a), diffLines(b)
	match := longestCommon(linesA, linesB)
	var out strings.Builder
	for _, h := range hunks(match, len(linesB)) {
		if out.Len() == 0 {
			fmt.Fprintf(&out, "--- %s\n+++ %s\n", nameA, nameB)
		}
		h.write(&out, linesA, linesB, match)
	}
	return out.String()
}

// noNewline stands behind a last line that has no end.
const noNewline = "\n\\ No newline at end of file\n"

func diffLines(text []byte) []string {
	lines := strings.SplitAfter(string(text), "\n")
	last := len(lines) - 1
	if lines[last] == "" {
		return lines[:last]
	}
	lines[last] += noNewline
	return lines
}

// hunk is a stretch of both texts, the ends not included.
type hunk struct{ fromA, toA, fromB, toB int }

// around is how many equal lines stand around a change.
const around = 3

// hunks finds the stretches to show: changes with the lines around them, those
// that touch taken together.
func hunks(match []int, sizeB int) []hunk {
	var list []hunk
	add := func(fromA, toA, fromB, toB int) {
		lead := min(around, fromA, fromB)
		tail := min(around, len(match)-toA, sizeB-toB)
		h := hunk{fromA - lead, toA + tail, fromB - lead, toB + tail}
		if k := len(list) - 1; k >= 0 && h.fromA <= list[k].toA {
			list[k].toA, list[k].toB = h.toA, h.toB
			return
		}
		list = append(list, h)
	}
	atB := 0
	for a := 0; a <= len(match); {
		end := a
		for end < len(match) && match[end] < 0 {
			end++
		}
		endB := sizeB
		if end < len(match) {
			endB = match[end]
		}
		if end > a || endB > atB {
			add(a, end, atB, endB)
		}
		a, atB = end+1, endB+1
	}
	return list
}

func (h hunk) write(out *strings.Builder, a, b []string, match []int) {
	fmt.Fprintf(out, "@@ -%s +%s @@\n", extentOf(h.fromA, h.toA), extentOf(h.fromB, h.toB))
	atB := h.fromB
	for i := h.fromA; i < h.toA; i++ {
		if match[i] < 0 {
			out.WriteString("-" + a[i])
			continue
		}
		for ; atB < match[i]; atB++ {
			out.WriteString("+" + b[atB])
		}
		out.WriteString(" " + a[i])
		atB++
	}
	for ; atB < h.toB; atB++ {
		out.WriteString("+" + b[atB])
	}
}

func extentOf(from, to int) string {
	switch to - from {
	case 0:
		return fmt.Sprintf("%d,0", from)
	case 1:
		return fmt.Sprint(from + 1)
	}
	return fmt.Sprintf("%d,%d", from+1, to-from)
}
