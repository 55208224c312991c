package words

import (
	"slices"
	"strings"
	"unicode"

	pluralize "github.com/gertd/go-pluralize"
)

// english knows the regular nouns, and many others.
var english = pluralize.NewClient()

func (l *Lexicon) singular(word string) string {
	if single, known := l.singles[word]; known {
		return single
	}
	switch stem, plural := strings.CutSuffix(word, "s"); {
	case l.isForm(word):
		return word
	case plural && l.isForm(stem):
		return stem
	case !changes(word):
		return word
	}
	letters, digits := cutDigits(word)
	if digits != "" {
		if len(letters) < 3 {
			return word
		}
		return l.singular(letters) + digits
	}
	if known, ok := l.asked.Load(word); ok {
		return known.(string)
	}
	single := plain(english.Singular(word), word)
	l.asked.Store(word, single)
	return single
}

func (l *Lexicon) plural(word string) string {
	if many, known := l.plurals[word]; known {
		return many
	}
	if _, digits := cutDigits(word); digits != "" || !changes(word) {
		return word // of what has a number nobody says more than one
	}
	if l.isForm(word) {
		if strings.HasSuffix(word, "s") {
			return word
		}
		return word + "s"
	}
	return plain(english.Plural(word), word)
}

// plain is what the library gives, where that is a word in small letters.
func plain(changed, word string) string {
	if changed == "" || strings.ContainsFunc(changed, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		return word
	}
	return strings.ToLower(changed)
}

// cutDigits cuts the digits off the end of a word.
func cutDigits(word string) (letters, digits string) {
	letters = strings.TrimRightFunc(word, unicode.IsDigit)
	return letters, word[len(letters):]
}

func isNumber(word string) bool {
	return !strings.ContainsFunc(word, func(r rune) bool { return !unicode.IsDigit(r) })
}

// changes reports whether a word is a noun that can be counted, as far as its
// form tells. Adjectives, verbs and numbers are not.
func changes(word string) bool { return !IsAdjective(word) && !isNumber(word) }

// IsAdjective reports whether a word says only how something is or what happens to
// it, so that it has no plural: old, monthly, archived, reindex.
func IsAdjective(word string) bool {
	switch {
	case slices.Contains(adjectives, word):
		return true
	case strings.HasSuffix(word, "ed") && len(word) > 4:
		return !slices.Contains(nounsInEd, word) && !strings.HasSuffix(word, "eed")
	case strings.HasSuffix(word, "ly") && len(word) > 4:
		return !slices.Contains(nounsInLy, word)
	}
	return false
}
