package merge

import (
	"slices"
	"strconv"
	"strings"
)

// tagPair is a key of a struct tag with its value: a name and options, by the
// convention of reflect.StructTag.
type tagPair struct {
	key     string
	name    string
	options []string
}

func (p tagPair) String() string {
	value := p.name
	if len(p.options) > 0 {
		value += "," + strings.Join(p.options, ",")
	}
	return p.key + ":" + strconv.Quote(value)
}

// parseTag reads the value of a tag; false means that it does not follow the
// convention.
func parseTag(tag string) ([]tagPair, bool) {
	var pairs []tagPair
	for tag = strings.TrimSpace(tag); tag != ""; tag = strings.TrimSpace(tag) {
		key, rest, ok := strings.Cut(tag, ":")
		if !ok || key == "" || strings.ContainsFunc(key, notInKey) || !strings.HasPrefix(rest, `"`) {
			return nil, false
		}
		quoted, err := strconv.QuotedPrefix(rest)
		if err != nil {
			return nil, false
		}
		value, err := strconv.Unquote(quoted)
		if err != nil || slices.ContainsFunc(pairs, func(p tagPair) bool { return p.key == key }) {
			return nil, false
		}
		words := strings.Split(value, ",")
		pairs = append(pairs, tagPair{key, words[0], words[1:]})
		tag = rest[len(quoted):]
	}
	return pairs, true
}

// notInKey holds for what a key may not have, as reflect.StructTag says.
func notInKey(r rune) bool { return r <= ' ' || r == '"' || r == '`' || r == 0x7f }

// readTag reads a tag as it stands in a file, with the space before it.
func readTag(text string) (space string, pairs []tagPair, ok bool) {
	trimmed := strings.TrimLeft(text, " \t\n")
	if trimmed == "" {
		return "", nil, true
	}
	value, err := strconv.Unquote(trimmed)
	if err != nil {
		return "", nil, false
	}
	pairs, ok = parseTag(value)
	return text[:len(text)-len(trimmed)], pairs, ok
}

func writeTag(space string, pairs []tagPair) string {
	if len(pairs) == 0 {
		return ""
	}
	words := make([]string, len(pairs))
	for i, p := range pairs {
		words[i] = p.String()
	}
	text := strings.Join(words, " ")
	if strings.Contains(text, "`") {
		return space + strconv.Quote(text)
	}
	return space + "`" + text + "`"
}

// tag merges a struct tag key by key.
func (g *merger) tag(b, m, t string) (string, bool) {
	_, pb, okB := readTag(b)
	space, pm, okM := readTag(m)
	_, pt, okT := readTag(t)
	if !okB || !okM || !okT {
		return "", false
	}
	var merged []tagPair
	for _, key := range interleave(tagKeys(pm), tagKeys(pt), nil) {
		var pair *tagPair
		g.in(key, func() { pair = g.tagPair(tagPairOf(pb, key), tagPairOf(pm, key), tagPairOf(pt, key)) })
		if pair != nil {
			merged = append(merged, *pair)
		}
	}
	if space == "" {
		space = " "
	}
	if text := writeTag(space, merged); text != writeTag(space, pm) {
		return text, true
	}
	return m, true
}

func tagKeys(pairs []tagPair) []string {
	keys := make([]string, len(pairs))
	for i, p := range pairs {
		keys[i] = p.key
	}
	return keys
}

func tagPairOf(pairs []tagPair, key string) *tagPair {
	for i := range pairs {
		if pairs[i].key == key {
			return &pairs[i]
		}
	}
	return nil
}

func sameTag(a, b *tagPair) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.String() == b.String()
}

func (g *merger) tagPair(b, m, t *tagPair) *tagPair {
	switch {
	case sameTag(b, t) || sameTag(m, t):
		return m
	case sameTag(b, m):
		return t
	case m == nil:
		if g.yields("changed-dropped", "the tag stays removed, though the new rendering changes it to %s", excerpt(t.String())) {
			return t
		}
		return nil
	case t == nil:
		if g.refuse("changed-dropped", "you changed the tag to %s, and the new rendering has it no more", excerpt(m.String())) == New {
			return nil
		}
		return m
	}
	before := tagPair{}
	if b != nil {
		before = *b
	}
	merged := tagPair{key: m.key, name: m.name, options: mergeOptions(before.options, m.options, t.options)}
	switch {
	case m.name == t.name || b != nil && t.name == b.name:
	case b != nil && m.name == b.name:
		merged.name = t.name
	default:
		class := "both-changed"
		if b == nil {
			class = "both-added"
		}
		if g.refuse(class, "you have the tag %s, and the new rendering has %s", apart(m.String(), t.String())...) == New {
			merged.name = t.name
		}
	}
	return &merged
}

// mergeOptions merges the comma options of a tag as sets, in the order of mine.
func mergeOptions(b, m, t []string) []string {
	var merged []string
	for _, o := range m {
		if slices.Contains(t, o) || !slices.Contains(b, o) {
			merged = append(merged, o)
		}
	}
	for _, o := range t {
		if !slices.Contains(b, o) && !slices.Contains(m, o) {
			merged = append(merged, o)
		}
	}
	return merged
}

// unionTags joins the tags of a field that both sides added; false means that
// they contradict.
func unionTags(m, t string) (string, bool) {
	space, pm, okM := readTag(m)
	_, pt, okT := readTag(t)
	if !okM || !okT {
		return "", false
	}
	for _, p := range pt {
		own := tagPairOf(pm, p.key)
		switch {
		case own == nil:
			pm = append(pm, p)
		case own.name != p.name:
			return "", false
		default:
			own.options = mergeOptions(nil, own.options, p.options)
		}
	}
	return writeTag(space, pm), true
}
