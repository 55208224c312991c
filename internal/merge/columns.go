package merge

import "regexp"

// A table is described by a list in a literal: its columns by their names, each
// with the field of the entity that it is read into.

// fieldsKey is the key of the list.
const fieldsKey = "Fields"

// followFields has a column of base and of mine go by the name that theirs gives
// to the column of the same field: a column that was renamed is not another one.
func followFields(b, m, t *node) {
	fieldsB, fieldsT := fieldsOfColumns(b), fieldsOfColumns(t)
	if len(fieldsB) == 0 || len(fieldsT) == 0 {
		return
	}
	now := map[string]string{} // names by field
	for name, field := range fieldsT {
		if fieldsB[name] == "" {
			now[field] = name
		}
	}
	for name, field := range fieldsB {
		renamed := now[field]
		if renamed == "" || fieldsT[name] != "" {
			continue
		}
		for _, side := range []*node{b, m} {
			for _, it := range columnItems(side) {
				if !it.comment() && it.body.known == name {
					it.body.known = renamed
				}
			}
		}
	}
}

// fieldAddress is how a column says where its value is: &e.Name.
var fieldAddress = regexp.MustCompile(`&\w+\.(\w+)`)

// fieldsOfColumns are the fields by the names of their columns.
func fieldsOfColumns(literal *node) map[string]string {
	fields := map[string]string{}
	for _, it := range columnItems(literal) {
		if it.comment() || it.body.known == "" {
			continue
		}
		if m := fieldAddress.FindStringSubmatch(it.body.text); m != nil {
			fields[it.body.known] = m[1]
		}
	}
	return fields
}

func columnItems(literal *node) []*item {
	if list := listBelow(itemOf(literal, fieldsKey), "literal"); list != nil && list.form == matched {
		return list.items
	}
	return nil
}

func itemOf(list *node, key string) *node {
	for _, it := range list.items {
		if it.key == key && it.body != nil {
			return it.body
		}
	}
	return nil
}

// listBelow is the first list of a name in a stretch.
func listBelow(n *node, name string) *node {
	switch {
	case n == nil:
		return nil
	case n.form.list() && n.name == name:
		return n
	}
	for _, p := range n.parts {
		if found := listBelow(p, name); found != nil {
			return found
		}
	}
	for _, it := range n.items {
		if found := listBelow(it.body, name); found != nil {
			return found
		}
	}
	return nil
}
