// Package words makes words of the identifiers of a database, and names of words:
// it splits them, knows which letters Go writes in capitals, and puts nouns into
// the singular and the plural.
//
// A Lexicon holds what English says and what a project adds to it. Names of
// columns are only split; of the names of tables the head noun is changed, and
// the nouns before it are made singular, as in the hosts and the templates of a
// HostTemplate.
package words

import (
	"slices"
	"strings"
	"sync"
	"unicode"
)

// Lexicon knows words. Its zero value is not usable; New makes one.
type Lexicon struct {
	forms   map[string]string // how a word is written inside a name, where it is not with one capital
	plurals map[string]string // by singular; a word that stays is its own
	singles map[string]string // by plural
	longest int               // of the forms; 0 where a name is split without them

	asked sync.Map // singulars of regular nouns, which take long to find
}

// New makes a lexicon with what a project adds: words written in their own way,
// as OAuth, and plurals by their singulars.
func New(initialisms []string, plurals map[string]string) *Lexicon {
	l := lexicon(append(strings.Fields(writtenInGo+" "+writtenInTrade), initialisms...), plurals)
	for form := range l.forms {
		l.longest = max(l.longest, len(form))
	}
	return l
}

// Earlier makes the lexicon that projects had before there were words of the trade
// in it. It splits where the case changes, whatever the word.
func Earlier(initialisms []string, plurals map[string]string) *Lexicon {
	return lexicon(append(strings.Fields(writtenInGo), initialisms...), plurals)
}

func lexicon(forms []string, plurals map[string]string) *Lexicon {
	l := &Lexicon{forms: map[string]string{}, plurals: map[string]string{}, singles: map[string]string{}}
	for _, form := range forms {
		l.forms[strings.ToLower(form)] = form
	}
	add := func(singular, plural string) {
		l.plurals[singular], l.singles[plural] = plural, singular
		if _, known := l.singles[singular]; !known {
			l.singles[singular] = singular
		}
	}
	for _, w := range strings.Fields(unchanged) {
		add(w, w)
	}
	for _, pair := range strings.Fields(pairs) { // of several plurals the first is the usual one
		singular, plural, _ := strings.Cut(pair, ":")
		usual, known := l.plurals[singular]
		add(singular, plural)
		if known {
			l.plurals[singular] = usual
		}
	}
	for singular, plural := range plurals {
		add(strings.ToLower(singular), strings.ToLower(plural))
	}
	return l
}

// Split splits an identifier at signs, spaces and changes from small to capital
// letters. The words are in small letters. Words that are written in their own
// way, such as OAuth and URLs, are not split, and stand apart: HTTPURL is http url.
func (l *Lexicon) Split(name string) []string {
	var list []string
	for _, piece := range strings.FieldsFunc(name, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		list = append(list, l.splitCase([]rune(piece))...)
	}
	return list
}

// splitCase splits a piece of letters and digits where its case changes.
func (l *Lexicon) splitCase(piece []rune) []string {
	var list []string
	for at := 0; at < len(piece); {
		n := l.ownSpelling(piece[at:])
		if n == 0 {
			n = l.wordLength(piece[at:])
		}
		list = append(list, l.segments(piece[at:at+n])...)
		at += n
	}
	return list
}

// wordLength is where the case of a piece changes first: a word in small letters,
// one with a capital, or several capitals, which may have an s behind them.
func (l *Lexicon) wordLength(piece []rune) int {
	at := 1
	for at < len(piece) && !(unicode.IsUpper(piece[at]) && (!unicode.IsUpper(piece[at-1]) || at+1 < len(piece) && unicode.IsLower(piece[at+1]) && !l.pluralAt(piece, at+1))) {
		at++
	}
	return at
}

// pluralAt reports whether there is the s of a plural behind capitals.
func (l *Lexicon) pluralAt(piece []rune, at int) bool {
	return l.longest > 0 && piece[at] == 's' && (at+1 == len(piece) || unicode.IsUpper(piece[at+1]))
}

// ownSpelling returns the length of the word with small letters and capitals, such
// as OAuth, that a piece begins with and after which another word begins.
func (l *Lexicon) ownSpelling(piece []rune) int {
	for n := min(len(piece), l.longest+1); n > 1; n-- {
		if n < len(piece) && !unicode.IsUpper(piece[n]) {
			continue
		}
		text := string(piece[:n])
		for _, stem := range []string{text, strings.TrimSuffix(text, "s")} {
			if form := l.forms[strings.ToLower(stem)]; form == stem && stem != strings.ToUpper(stem) {
				return n
			}
		}
	}
	return 0
}

// segments splits a word in capitals into those that are written so, where it is
// made of nothing else.
func (l *Lexicon) segments(word []rune) []string {
	whole := []string{strings.ToLower(string(word))}
	if l.longest == 0 || !unicode.IsUpper(word[0]) || l.knows(whole[0]) {
		return whole
	}
	for n := min(len(word)-1, l.longest); n > 1; n-- {
		if first := string(word[:n]); l.forms[strings.ToLower(first)] == first {
			if rest := l.segments(word[n:]); l.knows(rest[0]) {
				return append([]string{strings.ToLower(first)}, rest...)
			}
		}
	}
	return whole
}

// knows reports whether a word, or its singular, is written in its own way.
func (l *Lexicon) knows(word string) bool {
	return l.isForm(word) || l.isForm(strings.TrimSuffix(word, "s"))
}

// Title writes words as one name with capital letters, as in HiveBox.
func (l *Lexicon) Title(words []string) string {
	var b strings.Builder
	for _, w := range words {
		b.WriteString(l.title(w))
	}
	return b.String()
}

func (l *Lexicon) title(word string) string {
	if form, known := l.forms[word]; known {
		return upperFirst(form)
	}
	if form, known := l.forms[strings.TrimSuffix(word, "s")]; known && strings.HasSuffix(word, "s") {
		return upperFirst(form) + "s"
	}
	return upperFirst(word)
}

func upperFirst(word string) string {
	r := []rune(word)
	return string(unicode.ToUpper(r[0])) + string(r[1:])
}

// Singular puts the noun that words are about into the singular, and the nouns
// before it. The words that stand behind it stay: points of interest are a point
// of interest, stats monthly are no stat.
func (l *Lexicon) Singular(words []string) []string {
	list := slices.Clone(words)
	if len(list) == 0 {
		return list
	}
	head := l.head(list)
	for i := range list[:head+1] {
		if i == head || l.modifies(list[i]) {
			list[i] = l.singular(list[i])
		}
	}
	return list
}

// Noun returns the singular and the plural of the words of a name. A noun that is
// in the plural there stays as it is: of an index there are indexes, or indices.
func (l *Lexicon) Noun(words []string) (one, many []string) {
	one = l.Singular(words)
	many = slices.Clone(one)
	if len(words) == 0 {
		return one, many
	}
	head := l.head(words)
	if many[head] = words[head]; one[head] == words[head] {
		many[head] = l.plural(one[head])
	}
	return one, many
}

// Plural puts the noun that words are about into the plural. They are in the
// singular.
func (l *Lexicon) Plural(words []string) []string {
	list := slices.Clone(words)
	if len(list) > 0 {
		at := l.head(list)
		list[at] = l.plural(list[at])
	}
	return list
}

// head is the place of the noun that the words are about: the last one, but for
// what is said of it behind it.
func (l *Lexicon) head(words []string) int {
	for i := 1; i < len(words)-1; i++ {
		if slices.Contains(prepositions, words[i]) {
			return i - 1
		}
	}
	at := len(words) - 1
	for at > 0 && (IsAdjective(words[at]) || isNumber(words[at])) {
		if slices.Contains(notNouns, words[at-1]) { // not unique
			return len(words) - 1
		}
		at--
	}
	return max(at, 0)
}

// modifies reports whether a noun before another one is made singular, as most
// are; sales orders and goods receipts stay.
func (l *Lexicon) modifies(word string) bool {
	if l.isForm(strings.TrimSuffix(word, "s")) {
		return true
	}
	return len(word) > 3 && !slices.Contains(keptBefore, word) && !IsAdjective(word)
}

func (l *Lexicon) isForm(word string) bool { _, known := l.forms[word]; return known }
