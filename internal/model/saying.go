package model

import (
	"cmp"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/words"
)

// A saying is what the name of a referring column says of the row referred to.
type saying struct {
	words  spelling
	to     *Entity
	self   bool
	column string // the referring one

	alone bool // no other reference of the table leads there

	role      []string // what the target is to the referring row: owner, billing address
	qualifier []string // what stands before the target's own name: billing
	plain     bool     // nothing but the target's name
}

// keyEndings are words at the end of a referring column that name the target's
// key and not the role.
var keyEndings = []string{"id", "key", "no", "nr", "num", "number", "code", "uuid", "guid", "uid", "oid", "ref", "fk", "pk"}

// keyBeginnings are such words before the role.
var keyBeginnings = []string{"fk", "id", "ref"}

// attached are endings of keys that stand without a sign behind the role. Words
// that end so by themselves are listed.
var (
	attached = []string{"uuid", "guid", "uid", "id", "key", "code", "ref", "fk", "no", "nr"}
	notKeys  = strings.Fields("paid unpaid grid bid void acid valid invalid fluid solid rapid liquid hybrid android pyramid steroid orchid covid avoid aid raid kid lid rid")
)

// saying reads what the columns of a reference say.
func (b *builder) saying(t *catalog.Table, ref catalog.Reference, to *Entity) *saying {
	s := &saying{words: b.words, to: to, self: t == to.Table, alone: b.isAlone(t, ref)}
	column, target := b.tellingColumn(t, ref)
	s.column = cmp.Or(column, strings.Join(ref.Columns, ", "))
	said := b.columnWords(column, target, to)
	if column == "" || len(said) == 0 || strings.EqualFold(column, target) && !s.self {
		said = to.words
	}
	s.role = said
	own := b.ownWords(to)
	for _, name := range own {
		if n := len(said) - len(name); n >= 0 && slices.Equal(b.words.Singular(said[n:]), name) {
			s.qualifier, s.plain = said[:n], n == 0
			break
		}
	}
	if prefix := b.words.Split(b.project.Words.Prefix); len(prefix) > 0 && slices.Equal(s.qualifier, prefix) {
		s.qualifier, s.plain = nil, true
	}
	switch q := s.qualifier; {
	case s.plain:
		s.role = to.words
	case len(q) == 0:
	case len(q) == 1 && s.alone && len(q[0]) <= 4 && !slices.Contains(shortWords, q[0]) && agents[q[0]] == "":
		s.role = to.words
	case agents[q[len(q)-1]] != "" || isNoun(opposites[q[len(q)-1]]) || len(q) > 1 && slices.Contains(prepositions, q[len(q)-1]):
		s.role = q
	default:
		s.role = slices.Concat(q, to.words)
	}
	return s
}

// ownWords are the forms of the target's name that a column may have: as the
// entity is called, and as the table is.
func (b *builder) ownWords(to *Entity) [][]string {
	return [][]string{b.words.Singular(b.words.Split(to.Table.Name)), to.words, b.words.Singular(b.tableWords(to.Table))}
}

// isAlone reports whether no other reference of a table leads to the same one.
func (b *builder) isAlone(t *catalog.Table, ref catalog.Reference) bool {
	n := 0
	for _, other := range b.references(t) {
		if other.Schema == ref.Schema && other.Table == ref.Table {
			n++
		}
	}
	return n <= 1
}

// tellingColumn is the column by whose name a reference is told from others, and
// the one that it refers to. Of several it is the one that no other reference of
// the table has; where there is no such one, none.
func (b *builder) tellingColumn(t *catalog.Table, ref catalog.Reference) (column, target string) {
	switch {
	case len(ref.Target) != len(ref.Columns): // to a table without a key
		return ref.Columns[0], ""
	case len(ref.Columns) == 1:
		return ref.Columns[0], ref.Target[0]
	}
	found := -1
	for i, name := range ref.Columns {
		shared := false
		for _, other := range b.references(t) {
			shared = shared || !sameReference(other, ref) && slices.Contains(other.Columns, name)
		}
		if shared {
			continue
		}
		if found >= 0 {
			return "", ""
		}
		found = i
	}
	if found < 0 {
		return "", ""
	}
	return ref.Columns[found], ref.Target[found]
}

// columnWords are the words of a referring column without those of a key.
func (b *builder) columnWords(column, target string, to *Entity) []string {
	list := b.words.Split(column)
	for len(list) > 1 && slices.Contains(keyBeginnings, list[0]) {
		list = list[1:]
	}
	key := b.words.Split(target)
	ends := func(word string) bool {
		if slices.Contains(keyEndings, word) {
			return true
		}
		return len(key) > 0 && word == key[len(key)-1] && !slices.Contains(to.words, word) && slices.Equal(b.withoutKey(word, to), []string{word})
	}
	for len(list) > 1 && ends(list[len(list)-1]) {
		list = list[:len(list)-1]
	}
	if len(list) == 1 && slices.Contains(keyEndings, list[0]) {
		return nil
	}
	if len(list) > 0 {
		last := len(list) - 1
		list = slices.Concat(list[:last], b.withoutKey(list[last], to))
	}
	return list
}

// withoutKey cuts the ending of a key off a word: hostid is a host.
func (b *builder) withoutKey(word string, to *Entity) []string {
	for _, ending := range attached {
		stem, cut := strings.CutSuffix(word, ending)
		if !cut || len(stem) < 2 {
			continue
		}
		for _, own := range b.ownWords(to) {
			if joined := strings.Join(own, ""); joined == stem || joined == strings.Join(b.words.Singular([]string{stem}), "") {
				return own
			}
		}
		if ending == "id" && !slices.Contains(notKeys, word) {
			return []string{stem}
		}
	}
	return []string{word}
}

// why says what the name of a relation rests on.
func (s *saying) why(back bool) string {
	switch {
	case back && s.alone && !s.self:
		return "the only reference to " + s.to.Table.FullName()
	case s.plain || slices.Equal(s.role, s.to.words):
		return "the name of " + s.to.Table.FullName()
	}
	return "what " + s.column + " says"
}

// forward are the names of the relation to the target, the best first.
func (s *saying) forward() [][]string {
	list := [][]string{s.role}
	if s.alone && !slices.Equal(s.role, s.to.words) {
		list = append(list, s.to.words)
	}
	if n := len(s.role) - len(s.to.words); n < 0 || !slices.Equal(s.role[n:], s.to.words) {
		list = append(list, slices.Concat(s.role, s.to.words))
	}
	return append(list, slices.Concat(s.role, []string{"row"}))
}

// backward are the names of the relation from the target to the referring rows.
func (s *saying) backward(from *Entity, kind RelationKind) [][]string {
	count := s.words.Plural
	if kind == ToOne {
		count = s.words.Singular
	}
	own := count(from.words)
	list := [][]string{s.joined(s.deed(), own)}
	switch {
	case s.self:
		if name := s.selfName(own, count); name != nil {
			list = [][]string{name, s.joined(s.role, own)}
		}
	case s.alone || s.plain:
		list = [][]string{own, s.joined(s.role, own)}
	}
	return append(list, s.joined(s.role, own))
}

// selfName is what rows are called that refer to one of their own kind.
func (s *saying) selfName(own []string, count func([]string) []string) []string {
	n := len(s.role)
	last := s.role[n-1]
	switch {
	case n == 1 && opposites[last] != "":
		if opposite := opposites[last]; isNoun(opposite) {
			return count([]string{opposite})
		}
		return s.joined([]string{opposites[last]}, own)
	case len(s.qualifier) == 1 && opposites[s.qualifier[0]] != "":
		return s.joined([]string{opposites[s.qualifier[0]]}, own)
	case n > 1 && slices.Contains(prepositions, last) && !words.IsAdjective(s.role[n-2]):
		return count(s.role[:n-1])
	}
	return nil
}

// isNoun reports whether an opposite can stand by itself.
func isNoun(opposite string) bool {
	return slices.Contains([]string{"child", "successor", "copy"}, opposite)
}

// deed is what the target has to do with the referring rows, in one word where
// there is one: the items of an owner are owned items, those of a billing address
// are billing items.
func (s *saying) deed() []string {
	n := len(s.role)
	switch {
	case len(s.qualifier) == 1 && s.qualifier[0] == "from":
		return []string{"outgoing"}
	case len(s.qualifier) == 1 && s.qualifier[0] == "to":
		return []string{"incoming"}
	case n > 1 && slices.Contains(prepositions, s.role[n-1]):
		return s.role[:n-1]
	case agents[s.role[n-1]] != "":
		return slices.Concat(s.role[:n-1], []string{agents[s.role[n-1]]})
	case len(s.qualifier) > 0:
		return s.qualifier
	}
	return s.role
}

// joined puts two lists of words together. Words in which the one ends and the other
// begins stand once: a diary entry and diary entries are no diary entry diary
// entries.
func (s *saying) joined(first, second []string) []string {
	one := s.words.Singular(second)
	for n := min(len(first), len(second)); n > 0; n-- {
		if slices.Equal(first[len(first)-n:], one[:n]) {
			return slices.Concat(first[:len(first)-n], second)
		}
	}
	return slices.Concat(first, second)
}

// prepositions end the role of a reference that is half a sentence: a hive that
// was split from another is one of its splits.
var prepositions = []string{"from", "of", "by", "to", "in", "into", "at", "for", "with", "on"}

// shortWords say something, short as they are.
var shortWords = strings.Fields("old new main home away left from to base end min max top last next prev best used sent paid lead dest work ship bill pick drop back side root leaf host user own real test sub set")

// agents are those who do something to a row, by what they have done to it.
var agents = wordPairs(`owner:owned author:authored creator:created editor:edited reviewer:reviewed approver:approved sender:sent receiver:received recipient:received assignee:assigned
	assigner:assigned reporter:reported manager:managed leader:led buyer:bought seller:sold winner:won loser:lost organizer:organized organiser:organised inspector:inspected driver:driven
	publisher:published uploader:uploaded requester:requested requestor:requested issuer:issued signer:signed supervisor:supervised maintainer:maintained translator:translated updater:updated
	payer:paid payee:received host:hosted sponsor:sponsored mentor:mentored teacher:taught instructor:instructed holder:held operator:operated verifier:verified validator:validated planner:planned`)

// opposites are the other side of what a row is to one of its own kind.
var opposites = wordPairs(`parent:child mother:child father:child predecessor:successor original:copy previous:next prev:next next:previous master:dependent manager:managed supervisor:supervised leader:led`)

func wordPairs(list string) map[string]string {
	pairs := map[string]string{}
	for _, pair := range strings.Fields(list) {
		word, other, _ := strings.Cut(pair, ":")
		pairs[word] = other
	}
	return pairs
}
