package catalog

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"

	"widegate/internal/sqltext"
	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// everyFact is a catalog in which every field of every thing has a value.
func everyFact() *Catalog {
	c := &Catalog{Engine: dialects.Of(dialects.Postgres), Complete: true}
	identity := &Default{Kind: Identity, Always: true, Sequence: "numbers", Own: "own_seq", Serial: true, Options: "CACHE 2"}
	column := func(name string, t Type) Column {
		return Column{Name: name, Declared: string(t.Kind), Type: t, Nullable: true, Default: &Default{Kind: Constant, Text: "1"}, Domain: "d", Generated: "a + 1",
			Stored: true, Virtual: true, OnUpdate: "now()", NotNull: "given", Comment: "c", Collation: "C", Invisible: true}
	}
	t := Table{Schema: "s", Name: "hive", Kind: BaseTable, Comment: "c", Partition: "RANGE (at)", Inherits: []string{"box"}, Options: []string{"unlogged"}, Definition: "SELECT 1", Updatable: true,
		Columns: []Column{
			column("a", Type{Kind: Int, Bits: 32, Unsigned: true}), column("b", Type{Kind: Decimal, Precision: 8, Scale: 2}), column("c", Type{Kind: Text, Size: 20}),
			column("d", Type{Kind: EnumKind, Enum: "mood", Labels: []string{"x", "y"}}), column("e", Type{Kind: Array, Element: &Type{Kind: Compound, Composite: "spot"}, Name: "spot"}),
			{Name: "f", Declared: "bigint", Type: Type{Kind: Int, Bits: 64}, Default: identity},
		},
		PrimaryKey: &Key{Name: "hive_pkey", Columns: []string{"a"}, Deferrable: true},
		Uniques:    []Key{{Name: "hive_b_key", Columns: []string{"b", "c"}, Index: true}, {Name: "hive_c_key", Columns: []string{"c"}, Definition: "UNIQUE NULLS NOT DISTINCT (c)"}},
		References: []Reference{{Name: "hive_fk", Columns: []string{"b"}, Schema: "s", Table: "hive", Target: []string{"a"}, OnUpdate: "cascade", OnDelete: "restrict", Deferrable: true}, {Name: "hive_fk2", Columns: []string{"c"}, Table: "box", Target: []string{"id"}, Unenforced: true, Definition: "FOREIGN KEY (c)"}},
		Checks:     []Check{{Name: "hive_check", Expr: "a > 0", Options: "NOT VALID"}},
		Indexes:    []Index{{Name: "hive_i", Columns: []string{"a"}, Method: "hash", Where: "a > 1"}, {Name: "hive_j", Columns: []string{"b"}, Unique: true, Definition: "CREATE INDEX"}},
		Triggers:   []Trigger{{Name: "tr", Definition: "CREATE TRIGGER", Session: "sql_mode = ''"}},
		Extras:     []Extra{{Kind: "policy", Name: "p", Make: "CREATE POLICY"}},
	}
	view := Table{Name: "v", Kind: View, Definition: "SELECT 2", Updatable: true, Columns: []Column{column("a", Type{Kind: Int, Bits: 32})}}
	c.Tables = []Table{t, view}
	c.Enums = []Enum{{Schema: "s", Name: "mood", Labels: []string{"x", "y"}, Comment: "c"}}
	c.Domains = []Domain{{Schema: "s", Name: "weight", Declared: "numeric", NotNull: true, Default: &Default{Kind: Constant, Text: "1"}, Checks: []Check{{Name: "k", Expr: "VALUE > 0", Options: "NOT VALID"}}, Comment: "c"}}
	c.Composites = []Composite{{Schema: "s", Name: "spot", Fields: []CompositeField{{Name: "x", Declared: "int", Type: Type{Kind: Int, Bits: 32}}}, Comment: "c"}}
	c.Sequences = []Sequence{{Schema: "s", Name: "numbers", Options: "CACHE 3"}}
	c.Routines = []Routine{{Schema: "s", Name: "f", Kind: "function", Arguments: []Argument{{Name: "a", Mode: "inout", Declared: "integer"}}, Returns: "integer", Volatility: "stable", Comment: "c", Definition: "CREATE FUNCTION", Session: "x"}}
	c.Extras = []Extra{{Kind: "extension", Name: "citext", Make: "CREATE EXTENSION"}}
	return c
}

// notFacts are the fields that say nothing of the schema: how it was read, what
// follows from other facts, and the statement that takes an extra away.
var notFacts = map[string]string{
	"Catalog.Version": "of the form", "Catalog.Engine": "another engine has another catalog", "Catalog.Schemas": "what was asked for", "Catalog.SearchPath": "of the connection",
	"Catalog.Complete": "how it was read", "Catalog.Reading": "by which version it was read", "Catalog.Notes": "what could not be read", "Table.Rows": "an estimate", "Table.Definition": "the columns tell it, but of views",
	"Extra.Undo": "follows from what makes it", "Extra.Session": "stands in what makes it",
	"Reference.Period": "stands in the definition", "Reference.Deferrable": "stands in the definition where there is one",
	"Key.Deferrable": "stands in the definition where there is one", "Default.Kind": "the text tells it",
	"Key.Index": "of unique keys alone, where its name tells it",
	"Type.Name": "follows from what is declared", "Type.Kind": "follows from what is declared",
}

// mutation is a field of the catalog that can be changed.
type mutation struct {
	path  string
	field string // Type.Field
	apply func()
}

// mutations lists what can be changed in a value.
func mutations(path, field string, v reflect.Value) []mutation {
	var list []mutation
	switch v.Kind() {
	case reflect.String:
		list = append(list, mutation{path, field, func() { v.SetString(v.String() + "x") }})
	case reflect.Bool:
		list = append(list, mutation{path, field, func() { v.SetBool(!v.Bool()) }})
	case reflect.Int, reflect.Int64:
		list = append(list, mutation{path, field, func() { v.SetInt(v.Int() + 1) }})
	case reflect.Pointer:
		if v.Type() == reflect.TypeFor[*sqltext.Dialect]() {
			return nil // no fact of a schema: those of two engines are not compared
		}
		if !v.IsNil() {
			list = append(list, mutations(path, field, v.Elem())...)
			list = append(list, mutation{path + " taken away", field, func() { v.SetZero() }})
		}
	case reflect.Slice:
		for i := range v.Len() {
			list = append(list, mutations(fmt.Sprintf("%s[%d]", path, i), field, v.Index(i))...)
		}
		if v.Len() > 0 {
			list = append(list, mutation{path + " without its last", field, func() { v.SetLen(v.Len() - 1) }})
		}
		if v.Len() > 1 {
			list = append(list, mutation{path + " in another order", field, func() {
				first := reflect.ValueOf(v.Index(0).Interface())
				v.Index(0).Set(v.Index(1))
				v.Index(1).Set(first)
			}})
		}
	case reflect.Struct:
		for i := range v.NumField() {
			name := v.Type().Name() + "." + v.Type().Field(i).Name
			list = append(list, mutations(path+"."+v.Type().Field(i).Name, name, v.Field(i))...)
		}
	}
	return list
}

// unordered are the lists whose order means nothing; the catalog has its own.
var unordered = []string{"Catalog.Tables", "Catalog.Enums", "Table.Uniques", "Table.References", "Table.Checks", "Table.Indexes", "Table.Options"}

// TestEveryFactIsCompared changes one fact after the other, and sees that the
// comparison tells of it.
func TestEveryFactIsCompared(t *testing.T) {
	seen := 0
	total := len(mutations("", "", reflect.ValueOf(everyFact()).Elem()))
	require.Greater(t, total, 150)
	for i := range total {
		changed := everyFact()
		m := mutations("", "", reflect.ValueOf(changed).Elem())[i]
		if notFacts[m.field] != "" && !(m.field == "Table.Definition" && m.path[:len(".Tables[1]")] == ".Tables[1]") {
			continue
		}
		if reordered := m.path[max(len(m.path)-len(" in another order"), 0):] == " in another order"; reordered && contains(unordered, m.field) {
			continue
		}
		m.apply()
		assert.NotEmpty(t, Compare(everyFact(), changed), "%s (%s) is changed, and nobody sees it", m.path, m.field)
		seen++
	}
	t.Logf("%d of %d facts are seen", seen, total)
	assert.Empty(t, Compare(everyFact(), everyFact()))
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// TestRandomChangesAreSeen changes several facts at once.
func TestRandomChangesAreSeen(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		changed := everyFact()
		list := mutations("", "", reflect.ValueOf(changed).Elem())
		m := list[r.IntN(len(list))]
		if notFacts[m.field] != "" || contains(unordered, m.field) {
			continue
		}
		m.apply()
		assert.NotEmpty(t, Compare(everyFact(), changed), m.path)
		assert.NotEmpty(t, Compare(changed, everyFact()), "%s, the other way", m.path)
	}
}
