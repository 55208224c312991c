package project

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"widegate/internal/catalog"
)

// Renamed is the text of a project file with the new names of tables and
// columns in all keys and values that name them. All else stays as it is,
// comments and layout included.
func Renamed(text []byte, renames []catalog.Rename) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil || len(doc.Content) == 0 {
		return text, err
	}
	r := &renamer{renames: renames}
	r.file(doc.Content[0])
	return r.edit(text), nil
}

// renamer gathers the places that have to change.
type renamer struct {
	renames []catalog.Rename
	edits   []keyEdit
}

type keyEdit struct {
	line, column int // of the scalar, from 1, in characters
	old, now     string
	words        bool // every word old in the text of the scalar
}

// each visits the entries of a mapping.
func each(n *yaml.Node, do func(key, value *yaml.Node)) {
	if n == nil || n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		do(n.Content[i], n.Content[i+1])
	}
}

// at is the value of a key, or nil.
func at(n *yaml.Node, keys ...string) *yaml.Node {
	for _, key := range keys {
		var found *yaml.Node
		each(n, func(k, v *yaml.Node) {
			if k.Value == key {
				found = v
			}
		})
		n = found
	}
	return n
}

func (r *renamer) file(root *yaml.Node) {
	for _, key := range []string{"take", "leave"} {
		r.tables(at(root, "tables", key))
	}
	r.entities(at(root, "entities"))
	r.tables(at(root, "api", "repeats"))
	each(at(root, "api", "versions"), func(_, v *yaml.Node) { r.entities(at(v, "entities")) })
	if list := at(root, "relations"); list != nil {
		for _, relation := range list.Content {
			table, to := at(relation, "table"), at(relation, "to")
			if table == nil || to == nil {
				continue
			}
			r.columns(table.Value, at(relation, "columns"))
			r.columns(to.Value, at(relation, "target"))
			r.tables(table)
			r.tables(to)
		}
	}
}

func (r *renamer) entities(n *yaml.Node) {
	each(n, func(table, entity *yaml.Node) {
		for _, key := range []string{"key", "order", "tells"} {
			r.columns(table.Value, at(entity, key))
		}
		for _, columns := range []*yaml.Node{at(entity, "columns"), at(entity, "allow", "columns")} {
			each(columns, func(column, said *yaml.Node) {
				r.columns(table.Value, column)
				r.columns(table.Value, at(said, "media"))
			})
		}
		each(at(entity, "allow", "rows"), func(_, condition *yaml.Node) {
			for _, rename := range r.of(table.Value) {
				r.edits = append(r.edits, keyEdit{condition.Line, condition.Column, rename.From, rename.To, true})
			}
		})
		r.tables(at(entity, "as"))
		r.tables(table)
	})
}

// of are the renamed columns of a table, which goes by its old name.
func (r *renamer) of(table string) []catalog.Rename {
	now := table
	for _, x := range r.renames {
		if x.Thing == catalog.RenamedTable && x.From == table {
			now = x.To
		}
	}
	return slices.DeleteFunc(slices.Clone(r.renames), func(x catalog.Rename) bool { return x.Thing != catalog.RenamedColumn || x.In != now })
}

// scalars are the scalar itself, or those of a list.
func scalars(n *yaml.Node) []*yaml.Node {
	switch {
	case n == nil:
		return nil
	case n.Kind == yaml.ScalarNode:
		return []*yaml.Node{n}
	case n.Kind == yaml.SequenceNode:
		return n.Content
	}
	return nil
}

func (r *renamer) tables(n *yaml.Node) {
	for _, s := range scalars(n) {
		for _, x := range r.renames {
			if x.Thing == catalog.RenamedTable && x.From == s.Value {
				r.edits = append(r.edits, keyEdit{s.Line, s.Column, x.From, x.To, false})
			}
		}
	}
}

func (r *renamer) columns(table string, n *yaml.Node) {
	for _, s := range scalars(n) {
		for _, x := range r.of(table) {
			if x.From == s.Value {
				r.edits = append(r.edits, keyEdit{s.Line, s.Column, x.From, x.To, false})
			}
		}
	}
}

// edit carries the changes out, from the last to the first so that places stay.
func (r *renamer) edit(text []byte) []byte {
	lines := strings.SplitAfter(string(text), "\n")
	slices.SortStableFunc(r.edits, func(a, b keyEdit) int {
		if a.line != b.line {
			return b.line - a.line
		}
		return b.column - a.column
	})
	for _, e := range r.edits {
		line := []rune(lines[e.line-1])
		head, rest := string(line[:e.column-1]), string(line[e.column-1:])
		switch {
		case e.words:
			rest = regexp.MustCompile(`\b`+regexp.QuoteMeta(e.old)+`\b`).ReplaceAllLiteralString(rest, e.now)
		case strings.HasPrefix(rest, e.old):
			rest = Quoted(e.now) + strings.TrimPrefix(rest, e.old)
		case len(rest) > 0 && strings.HasPrefix(rest[1:], e.old):
			rest = rest[:1] + e.now + strings.TrimPrefix(rest[1:], e.old)
		}
		lines[e.line-1] = head + rest
	}
	return []byte(strings.Join(lines, ""))
}

// Rename has tables and columns keep what hangs on their names when they are
// renamed: a table is named anew, and its columns keep the names they have but
// for those that are renamed themselves.
func (n *Names) Rename(renames []catalog.Rename) {
	for _, r := range renames {
		if r.Thing != catalog.RenamedTable {
			continue
		}
		if was, ok := n.Tables[r.From]; ok {
			delete(n.Tables, r.From)
			n.Tables[r.To] = TableNames{Columns: was.Columns}
		}
		for _, key := range slices.Sorted(maps.Keys(n.Enums)) {
			if column, ok := strings.CutPrefix(key, r.From+"."); ok {
				n.Enums[r.To+"."+column] = n.Enums[key]
				delete(n.Enums, key)
			}
		}
	}
	for _, r := range renames {
		switch r.Thing {
		case catalog.RenamedColumn:
			delete(n.Tables[r.In].Columns, r.From)
			delete(n.Enums, r.In+"."+r.From)
		case catalog.RenamedEnum:
			delete(n.Enums, r.From)
		}
	}
}
