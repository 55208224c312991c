package model

import (
	"slices"

	"widegate/internal/catalog"
	"widegate/internal/words"
)

// Candidate is a reference that the schema does not declare, but that the name
// and the type of a column speak for.
type Candidate struct {
	Table  *catalog.Table
	Column string
	To     *catalog.Table
	Target string // the key of To
}

// english knows the words of which names of columns and tables are made.
var english = spelling{words.New(nil, nil)}

// Candidates finds likely references among the tables of a catalog: a column
// called after a table, or after its key, with a type that can hold the key.
func Candidates(c *catalog.Catalog) []Candidate {
	byWords := map[string][]*catalog.Table{}
	byKey := map[string][]*catalog.Table{}
	for i := range c.Tables {
		t := &c.Tables[i]
		if t.Kind != catalog.BaseTable || t.PrimaryKey == nil || len(t.PrimaryKey.Columns) != 1 {
			continue
		}
		words := snake(english.Singular(english.Split(t.Name)))
		byWords[words] = append(byWords[words], t)
		key := snake(english.Split(t.PrimaryKey.Columns[0]))
		byKey[key] = append(byKey[key], t)
	}
	var list []Candidate
	for i := range c.Tables {
		t := &c.Tables[i]
		if t.Kind != catalog.BaseTable {
			continue
		}
		for k := range t.Columns {
			column := &t.Columns[k]
			if isReferring(t, column.Name) || isOwnKey(t, column.Name) {
				continue
			}
			if to := likelyTarget(t, column, byWords, byKey); to != nil {
				list = append(list, Candidate{t, column.Name, to, to.PrimaryKey.Columns[0]})
			}
		}
	}
	return list
}

func isReferring(t *catalog.Table, column string) bool {
	return slices.ContainsFunc(t.References, func(r catalog.Reference) bool { return slices.Contains(r.Columns, column) })
}

func isOwnKey(t *catalog.Table, column string) bool {
	return t.PrimaryKey != nil && len(t.PrimaryKey.Columns) == 1 && t.PrimaryKey.Columns[0] == column
}

// likelyTarget tries the whole name of the column without its ending, then
// ever shorter ends of it: deputy_keeper_id may refer to keeper.
func likelyTarget(t *catalog.Table, column *catalog.Column, byWords, byKey map[string][]*catalog.Table) *catalog.Table {
	words := english.Split(column.Name)
	ended := false
	if n := len(words); n > 1 && slices.Contains(keyEndings, words[n-1]) {
		words, ended = words[:n-1], true
	}
	for from := range words {
		if from > 0 && !ended {
			break
		}
		if to := fitting(t, column, byWords[snake(english.Singular(words[from:]))]); to != nil {
			return to
		}
	}
	whole := english.Split(column.Name)
	if len(whole) < 2 {
		return nil
	}
	return fitting(t, column, byKey[snake(whole)])
}

// fitting returns the one table of the list, in the same schema where there are
// several, whose key the column can hold.
func fitting(t *catalog.Table, column *catalog.Column, tables []*catalog.Table) *catalog.Table {
	var found []*catalog.Table
	for _, to := range tables {
		key, ok := to.Column(to.PrimaryKey.Columns[0])
		if ok && key.Type.Kind == column.Type.Kind && key.Type.Kind != catalog.Other {
			found = append(found, to)
		}
	}
	if len(found) > 1 {
		found = slices.DeleteFunc(found, func(to *catalog.Table) bool { return to.Schema != t.Schema })
	}
	if len(found) != 1 {
		return nil
	}
	return found[0]
}
