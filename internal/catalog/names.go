package catalog

import (
	"slices"
	"strings"
	"unicode"
)

// Words splits an identifier of a database at signs, spaces and changes
// from small to capital letters.
func Words(name string) []string {
	var words []string
	var word []rune
	flush := func() {
		if len(word) > 0 {
			words = append(words, strings.ToLower(string(word)))
		}
		word = nil
	}
	runes := []rune(name)
	for i, r := range runes {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			flush()
			continue
		}
		startsWord := unicode.IsUpper(r) && i > 0 && (!unicode.IsUpper(runes[i-1]) ||
			i+1 < len(runes) && unicode.IsLower(runes[i+1]))
		if startsWord {
			flush()
		}
		word = append(word, r)
	}
	flush()
	return words
}

// relatedNames reports whether two names are likely the same one: written in
// another way, with words more or less, shortened, or with a synonym.
func relatedNames(a, b string) bool {
	x, y := Words(a), Words(b)
	if len(x) == 0 || len(y) == 0 {
		return false
	}
	if strings.Join(x, "") == strings.Join(y, "") {
		return true
	}
	if len(x) > len(y) {
		x, y = y, x
	}
	// Every word of the shorter name has one in the longer name, in order.
	at := 0
	for _, w := range x {
		for at < len(y) && !relatedWords(w, y[at]) {
			at++
		}
		if at == len(y) {
			return relatedWords(strings.Join(x, ""), strings.Join(y, ""))
		}
		at++
	}
	rest := len(y) - len(x)
	return rest <= 1 || rest <= len(x)
}

// relatedWords reports whether two words are one word: mistyped, in the plural,
// shortened, or a synonym.
func relatedWords(a, b string) bool {
	if a == b || synonyms[a] != "" && synonyms[a] == synonyms[b] {
		return true
	}
	short, long := a, b
	if len(short) > len(long) {
		short, long = long, short
	}
	switch {
	case len(short) >= 4 && strings.Contains(long, short), strings.TrimSuffix(long, "s") == short, strings.TrimSuffix(long, "es") == short, strings.TrimSuffix(long, "ies") == strings.TrimSuffix(short, "y") && strings.HasSuffix(short, "y"):
		return true
	case len(short) >= 5 && Distance(a, b) <= 1+len(short)/6:
		return true
	case len(short) >= 2 && len(long) >= len(short)+2 && short[0] == long[0] && (strings.HasPrefix(long, short) && len(short) >= 3 || skeleton(long, short)):
		return true
	}
	return false
}

// skeleton reports whether a word is another one without its vowels, as qty is of
// quantity.
func skeleton(long, short string) bool {
	if strings.ContainsAny(short[1:], "aeiou") || len(short) < 3 {
		return false
	}
	at := 0
	for _, r := range long {
		if at < len(short) && byte(r) == short[at] {
			at++
		}
	}
	return at == len(short)
}

// synonyms are words of schemas that stand for one another.
var synonyms = func() map[string]string {
	list := map[string]string{}
	for _, group := range []string{
		"phone telephone tel mobile", "mail email", "description desc details", "comment note remark notes comments remarks", "amount sum total", "count number num quantity qty",
		"kind type category", "state status", "begin start started begins", "end finish ended finished ends", "picture image photo img pic", "address addr", "lastname surname", "url link href",
		"color colour", "weight mass", "spot place location", "birthday birthdate born", "zip postcode", "position pos ordinal rank sequence", "enabled active", "label caption",
	} {
		words := strings.Fields(group)
		for _, w := range words {
			list[w] = words[0]
		}
	}
	return list
}()

// opposites are words of which one is not the other, however alike the rest of
// two names is.
var opposites = []string{
	"created updated changed modified deleted archived approved rejected cancelled paid sent received opened closed published", "start end", "begin end", "from to", "min max avg", "net gross", "first last middle", "in out",
	"buy sell", "source target", "before after", "old new previous next", "left right", "lat lng lon latitude longitude", "width height depth length", "up down", "left top right bottom", "credit debit", "parent child",
	"sender receiver recipient", "billing shipping", "home work", "kg g lb grams gram pounds mg tons", "cm mm m km inches feet", "day week month year hour minute second days weeks months years hours minutes seconds", "price cost", "user_name password", "open close", "enabled disabled", "visible hidden", "increase decrease",
	"name code id", "city country street region", "x y z", "red green blue", "date time", "percent amount", "mother father", "male female", "summer winter spring autumn",
}

// opposed reports whether two names differ in words of which one is not the
// other.
func opposed(a, b string) bool {
	x, y := Words(a), Words(b)
	onlyA := slices.DeleteFunc(slices.Clone(x), func(w string) bool { return slices.Contains(y, w) })
	onlyB := slices.DeleteFunc(slices.Clone(y), func(w string) bool { return slices.Contains(x, w) })
	for _, group := range opposites {
		words := strings.Fields(group)
		for _, v := range onlyA {
			for _, w := range onlyB {
				v, w := singular(v, words), singular(w, words)
				if v != w && slices.Contains(words, v) && slices.Contains(words, w) {
					return true
				}
			}
		}
	}
	return false
}

// singular is a word without its last s where only that is in the list.
func singular(word string, list []string) string {
	if bare := strings.TrimSuffix(word, "s"); !slices.Contains(list, word) && slices.Contains(list, bare) {
		return bare
	}
	return word
}

// variants reports whether two names share a word and differ in another one that
// has nothing to do with its counterpart: two sides of one thing, and no rename
// to be sure of.
func variants(a, b string) bool {
	x, y := meaning(Words(a)), meaning(Words(b))
	onlyA := slices.DeleteFunc(slices.Clone(x), func(w string) bool { return slices.ContainsFunc(y, func(v string) bool { return relatedWords(v, w) }) })
	onlyB := slices.DeleteFunc(slices.Clone(y), func(w string) bool { return slices.ContainsFunc(x, func(v string) bool { return relatedWords(v, w) }) })
	return len(x) > len(onlyA) && len(onlyA) > 0 && len(onlyB) > 0
}

// meaning leaves out the words that say only of what kind a column is.
func meaning(words []string) []string {
	return slices.DeleteFunc(slices.Clone(words), func(w string) bool {
		return slices.Contains([]string{"id", "on", "at", "is", "has", "of", "the", "by"}, w)
	})
}
