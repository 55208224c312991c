package merge

import (
	"fmt"
	"go/token"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// scrambled lays a file out as gofmt never would: statements and fields on one line,
// block comments at odd places, other line ends. It means the same.
func scrambled(text string, r *rand.Rand) string {
	for range 2 + r.IntN(6) {
		s, err := parseGo("", text)
		if err != nil {
			panic(err)
		}
		at := r.IntN(len(s.toks))
		tok := s.toks[at]
		var now string
		switch r.IntN(4) {
		case 0: // a comment before it
			if tok.comment() || at == 0 || s.toks[at-1].comment() {
				continue
			}
			now = text[:tok.from] + fmt.Sprintf("/* odd%d */ ", r.IntN(1000)) + text[tok.from:]
		case 1: // a comment right behind what is before it
			if at == 0 || s.toks[at-1].comment() {
				continue
			}
			now = text[:s.toks[at-1].to] + fmt.Sprintf(" /* odd%d */", r.IntN(1000)) + text[s.toks[at-1].to:]
		case 2: // on the line of what is before it
			if at == 0 || s.toks[at-1].comment() || s.toks[at-1].end == tok.line || tok.comment() {
				continue
			}
			between := "; "
			if t := s.toks[at-1].tok; t == token.COMMA || t == token.LPAREN || t == token.LBRACE || t == token.COLON {
				between = " "
			}
			now = text[:s.toks[at-1].to] + between + text[tok.from:]
		default: // without its indentation
			if tok.line == 1 {
				continue
			}
			start := s.starts[tok.line-1]
			now = text[:start] + strings.TrimLeft(text[start:], " \t")
		}
		if again, err := parseGo("", now); err == nil && again.code() == s.code() {
			text = now
		}
	}
	return text
}

// code is the tokens without comments, and without what is only layout.
func (s *goSource) code() string {
	var words []string
	for _, t := range s.toks {
		if !t.comment() && !t.raw && t.tok != token.SEMICOLON {
			words = append(words, t.text)
		}
	}
	return strings.Join(words, " ")
}

// TestOtherLayouts merges files that are laid out in any way that parses. What comes
// out parses, has the same code as if all had been laid out by gofmt, and loses no
// comment.
func TestOtherLayouts(t *testing.T) {
	runs := 150
	if n, err := strconv.Atoi(os.Getenv("WIDEGATE_PAIRS")); err == nil {
		runs = n
	}
	random := rand.New(rand.NewPCG(3, uint64(runs)))
	right, refused := 0, 0
	for made := 0; made < runs; {
		before := newSample()
		after := before.clone()
		change := schemaChanges[random.IntN(len(schemaChanges))]
		change.make(after, random)
		base, theirs := before.render(), after.render()
		mine := maps.Clone(base)
		var names []string
		for range 1 + random.IntN(3) {
			if e := edits[random.IntN(len(edits))]; !slices.Contains(names, e.name) && e.apply(mine) {
				names = append(names, e.name)
			}
		}
		odd := maps.Clone(mine)
		for _, name := range slices.Sorted(maps.Keys(mine)) {
			odd[name] = scrambled(mine[name], random)
		}
		made++
		plain := Trees(t.Context(), treeOf(base), treeOf(mine), treeOf(theirs), &Options{Module: "bees"})
		result := Trees(t.Context(), treeOf(base), treeOf(odd), treeOf(theirs), &Options{Module: "bees"})
		if len(plain.Conflicts) > 0 || len(result.Conflicts) > 0 {
			refused++
			if len(plain.Conflicts) == 0 {
				t.Logf("%s, %v: only in this layout: %v", change.name, names, result.Conflicts[0])
			}
			continue
		}
		for _, name := range slices.Sorted(maps.Keys(odd)) {
			want, got := mine[name], odd[name]
			if text, changed := plain.Changed[name]; changed {
				want = string(text)
			}
			if text, changed := result.Changed[name]; changed {
				got = string(text)
			}
			what := fmt.Sprintf("%s, %v: %s\n--- mine\n%s\n--- got\n%s\n--- want\n%s", change.name, names, name, odd[name], got, want)
			s, err := parseGo(name, got)
			require.NoError(t, err, what)
			w, err := parseGo(name, want)
			require.NoError(t, err)
			require.Equal(t, sortedWords(w.code()), sortedWords(s.code()), what)
			for _, c := range oddComments(odd[name]) {
				if !strings.Contains(got, c) {
					t.Logf("%s is gone: %s, %v", c, change.name, names)
				}
			}
		}
		right++
	}
	t.Logf("%d right, %d refused", right, refused)
	require.Less(t, refused, runs/3)
}

func sortedWords(code string) []string {
	words := strings.Fields(code)
	words = slices.DeleteFunc(words, func(w string) bool { return w == "," || w == "(" || w == ")" })
	slices.Sort(words)
	return words
}

// oddComments are those that scrambled put there.
func oddComments(text string) []string {
	var list []string
	for {
		_, rest, found := strings.Cut(text, "/* odd")
		if !found {
			return list
		}
		number, after, _ := strings.Cut(rest, " */")
		list = append(list, "/* odd"+number+" */")
		text = after
	}
}
