package desk

import (
	"net/url"
	"slices"
	"strings"
)

// sortKey is a column by which rows are sorted.
type sortKey struct {
	name string
	desc bool
}

// sortKeys reads the order that a page asks for.
func sortKeys(q url.Values) []sortKey {
	var list []sortKey
	for _, word := range strings.Split(q.Get("sortby"), ",") {
		word = strings.TrimLeft(word, "+ ")
		if name := strings.TrimPrefix(word, "-"); name != "" {
			list = append(list, sortKey{name, strings.HasPrefix(word, "-")})
		}
	}
	return list
}

func sortText(list []sortKey) string {
	words := make([]string, len(list))
	for i, k := range list {
		words[i] = k.name
		if k.desc {
			words[i] = "-" + k.name
		}
	}
	return strings.Join(words, ",")
}

// sorted is where a column stands in the order: from 1, and 0 where it does not.
func sorted(list []sortKey, name string) (place int, desc bool) {
	i := slices.IndexFunc(list, func(k sortKey) bool { return k.name == name })
	return i + 1, i >= 0 && list[i].desc
}

// toggled is the order by a column: alone, or behind those that there are. Asked
// for again it turns round, and behind others it goes the third time.
func toggled(list []sortKey, name string, alone bool) []sortKey {
	place, desc := sorted(list, name)
	if alone {
		return []sortKey{{name, place == 1 && len(list) == 1 && !desc}}
	}
	next := slices.Clone(list)
	switch {
	case place == 0:
		return append(next, sortKey{name, false})
	case !desc:
		next[place-1].desc = true
		return next
	}
	return slices.Delete(next, place-1, place)
}
