package sqltext

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
)

// A Mark is what the scripts of an engine have. Its weight is how much it says. It is
// looked for in the text without comments, in small letters, with white space as
// single spaces and with texts as empty quotes.
type Mark struct {
	Weight int
	Form   *regexp.Regexp
}

// The weights of marks: some are in no other engine's language, others only rare
// there.
const (
	Decisive = 100
	Strong   = 20
	Weak     = 3
)

// What is looked at: so much of a file, and so much of all together.
const (
	mostOfFile  = 256 << 10
	mostOfFiles = 8 << 20
)

// enough is how often a sign counts.
const enough = 4

// Guess finds which of some dialects scripts are in, by what only one engine has.
// Without any such sign it is the first.
func Guess(files []*File, known []*Dialect) *Dialect { return Guesses(files, known)[0] }

// Guesses are the dialects that scripts may be in, the likeliest first.
func Guesses(files []*File, known []*Dialect) []*Dialect {
	found := make([][]int, len(known))
	for i, d := range known {
		found[i] = make([]int, len(d.Marks))
	}
	looked := 0
	for _, f := range files {
		text := f.Text[:min(len(f.Text), mostOfFile)]
		if looked += len(text); looked > mostOfFiles {
			break
		}
		text = bare(text)
		for i, d := range known {
			for k, s := range d.Marks {
				if found[i][k] < enough {
					found[i][k] += len(s.Form.FindAllStringIndex(text, enough-found[i][k]))
				}
			}
		}
	}
	score := map[*Dialect]int{known[0]: 1}
	for i, d := range known {
		for k, s := range d.Marks {
			score[d] += s.Weight * found[i][k]
		}
	}
	list := slices.DeleteFunc(slices.Clone(known), func(d *Dialect) bool { return score[d] == 0 })
	slices.SortStableFunc(list, func(a, b *Dialect) int { return cmp.Compare(score[b], score[a]) })
	return list
}

// bare is a text in small letters without its comments and the insides of its
// texts. What is between quotes in names stays.
func bare(text string) string {
	var b strings.Builder
	space := true
	for at := 0; at < len(text); {
		rest := text[at:]
		switch c := rest[0]; {
		case strings.HasPrefix(rest, "--"):
			at += indexOr(rest, "\n", len(rest))
		case c == '#' && (at == 0 || text[at-1] == '\n'): // a comment of some
			b.WriteString("#line ")
			at, space = at+indexOr(rest, "\n", len(rest)), true
		case strings.HasPrefix(rest, "/*") && !strings.HasPrefix(rest, "/*!") && !strings.HasPrefix(rest, "/*M!"):
			at += commentEnd(rest, &Dialect{})
		case c == '\'':
			_, n := quoted(rest, c, nil)
			b.WriteString("''")
			at, space = at+n, false
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			if !space {
				b.WriteByte(' ')
			}
			at, space = at+1, true
		default:
			b.WriteByte(c)
			at, space = at+1, false
		}
	}
	return strings.ToLower(b.String())
}
