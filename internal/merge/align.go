package merge

import (
	"strings"
	"unicode"
)

// longestCommon matches two sequences by a longest common subsequence: for
// each element of a, its place in b, or -1. Very long stretches are split at
// elements that occur once in both, so that the cost stays near linear.
func longestCommon(a, b []string) []int {
	match := make([]int, len(a))
	for i := range match {
		match[i] = -1
	}
	alignStretch(a, b, 0, 0, match)
	return match
}

// dynamicLimit is how many cells the exact table may have.
const dynamicLimit = 1 << 22

func alignStretch(a, b []string, atA, atB int, match []int) {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		match[atA] = atB
		a, b, atA, atB = a[1:], b[1:], atA+1, atB+1
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		match[atA+len(a)-1] = atB + len(b) - 1
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	switch {
	case len(a) == 0 || len(b) == 0:
	case len(a)*len(b) <= dynamicLimit:
		alignExactly(a, b, atA, atB, match)
	default:
		alignByAnchors(a, b, atA, atB, match)
	}
}

func alignExactly(a, b []string, atA, atB int, match []int) {
	width := len(b) + 1
	table := make([]int32, (len(a)+1)*width)
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				table[i*width+j] = table[(i+1)*width+j+1] + 1
			} else {
				table[i*width+j] = max(table[(i+1)*width+j], table[i*width+j+1])
			}
		}
	}
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case a[i] == b[j]:
			match[atA+i] = atB + j
			i, j = i+1, j+1
		case table[(i+1)*width+j] >= table[i*width+j+1]:
			i++
		default:
			j++
		}
	}
}

// alignByAnchors matches what occurs once in both, keeps the longest run that
// rises in both, and goes on between.
func alignByAnchors(a, b []string, atA, atB int, match []int) {
	anchors := rising(uniquePairs(a, b))
	if len(anchors) == 0 {
		return
	}
	fromA, fromB := 0, 0
	for _, anchor := range anchors {
		alignStretch(a[fromA:anchor[0]], b[fromB:anchor[1]], atA+fromA, atB+fromB, match)
		match[atA+anchor[0]] = atB + anchor[1]
		fromA, fromB = anchor[0]+1, anchor[1]+1
	}
	alignStretch(a[fromA:], b[fromB:], atA+fromA, atB+fromB, match)
}

func uniquePairs(a, b []string) [][2]int {
	count := map[string]int{}
	place := map[string]int{}
	for j, s := range b {
		count[s]++
		place[s] = j
	}
	inA := map[string]int{}
	for _, s := range a {
		inA[s]++
	}
	var pairs [][2]int
	for i, s := range a {
		if inA[s] == 1 && count[s] == 1 {
			pairs = append(pairs, [2]int{i, place[s]})
		}
	}
	return pairs
}

// rising keeps a longest run of pairs whose second places rise.
func rising(pairs [][2]int) [][2]int {
	var tails, before []int // index of the pair that ends a run of each length
	before = make([]int, len(pairs))
	for i, p := range pairs {
		low, high := 0, len(tails)
		for low < high {
			middle := (low + high) / 2
			if pairs[tails[middle]][1] < p[1] {
				low = middle + 1
			} else {
				high = middle
			}
		}
		before[i] = -1
		if low > 0 {
			before[i] = tails[low-1]
		}
		tails = append(tails[:low], append([]int{i}, tails[min(low+1, len(tails)):]...)...)
	}
	if len(tails) == 0 {
		return nil
	}
	run := make([][2]int, len(tails))
	for i, at := len(tails)-1, tails[len(tails)-1]; i >= 0; i, at = i-1, before[at] {
		run[i] = pairs[at]
	}
	return run
}

// alike is the Dice coefficient of two bags of words, from 0 to 1.
func alike(a, b []string) float64 {
	if len(a)+len(b) == 0 {
		return 1
	}
	count := map[string]int{}
	for _, w := range a {
		count[w]++
	}
	common := 0
	for _, w := range b {
		if count[w] > 0 {
			count[w]--
			common++
		}
	}
	return 2 * float64(common) / float64(len(a)+len(b))
}

// bag splits the tokens of a canonical text into words, for likeness.
func bag(sum string) []string {
	var words []string
	for token := range strings.SplitSeq(sum, tokenBreak) {
		if token == "" {
			continue
		}
		if c := token[0]; c == '"' || c == '`' || strings.HasPrefix(token, "//") || strings.HasPrefix(token, "/*") || strings.ContainsAny(token, " \t\n") {
			words = append(words, strings.FieldsFunc(token, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })...)
			continue
		}
		words = append(words, token)
	}
	return words
}

// pairing pairs what is left of two sequences in order, each pair at least
// half alike; it maximizes the sum of likenesses.
func pairing(n, m int, likeness func(i, j int) float64) [][2]int {
	if n == 0 || m == 0 {
		return nil
	}
	if n*m > dynamicLimit/16 {
		return greedyPairing(n, m, likeness)
	}
	score := make([][]float64, n+1)
	like := make([][]float64, n)
	for i := range score {
		score[i] = make([]float64, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		like[i] = make([]float64, m)
		for j := m - 1; j >= 0; j-- {
			like[i][j] = likeness(i, j)
			best := max(score[i+1][j], score[i][j+1])
			if like[i][j] >= 0.5 {
				best = max(best, score[i+1][j+1]+like[i][j])
			}
			score[i][j] = best
		}
	}
	var pairs [][2]int
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case like[i][j] >= 0.5 && score[i][j] == score[i+1][j+1]+like[i][j]:
			pairs = append(pairs, [2]int{i, j})
			i, j = i+1, j+1
		case score[i][j] == score[i+1][j]:
			i++
		default:
			j++
		}
	}
	return pairs
}

func greedyPairing(n, m int, likeness func(i, j int) float64) [][2]int {
	var pairs [][2]int
	from := 0
	for i := range n {
		for j := from; j < min(m, from+64); j++ {
			if likeness(i, j) >= 0.5 {
				pairs = append(pairs, [2]int{i, j})
				from = j + 1
				break
			}
		}
	}
	return pairs
}
