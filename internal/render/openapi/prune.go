package openapi

import "strings"

// prune leaves out the components that the paths do not lead to.
func prune(paths, components object) object {
	used := map[string]bool{}
	follow(paths, used)
	for before := -1; before != len(used); {
		before = len(used)
		for _, kind := range components {
			for _, c := range kind.value.(object) {
				if used[kind.name+"/"+c.name] {
					follow(c.value, used)
				}
			}
		}
	}
	var kept object
	for _, kind := range components {
		var list object
		for _, c := range kind.value.(object) {
			if used[kind.name+"/"+c.name] || kind.name == "securitySchemes" {
				list = append(list, c)
			}
		}
		if list != nil {
			kept = append(kept, member{kind.name, list})
		}
	}
	return kept
}

// follow notes the components that a part of a document refers to.
func follow(v any, used map[string]bool) {
	switch v := v.(type) {
	case object:
		for _, m := range v {
			if to, ok := m.value.(string); ok && m.name == "$ref" {
				used[strings.TrimPrefix(to, "#/components/")] = true
			}
			follow(m.value, used)
		}
	case []object:
		for _, o := range v {
			follow(o, used)
		}
	case []any:
		for _, o := range v {
			follow(o, used)
		}
	}
}
