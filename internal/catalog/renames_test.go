package catalog

import (
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func number(name string) Column {
	return Column{Name: name, Declared: "bigint", Type: Type{Kind: Int, Bits: 64}}
}

func words(name string) Column {
	return Column{Name: name, Declared: "text", Type: Type{Kind: Text}, Nullable: true}
}

func withTables(tables ...Table) *Catalog {
	for i := range tables {
		if tables[i].Kind == "" {
			tables[i].Kind = BaseTable
		}
	}
	return &Catalog{Engine: dialects.Of(dialects.Postgres), Tables: tables}
}

func TestFindRenames(t *testing.T) {
	id := &Key{Columns: []string{"id"}}
	before := withTables(
		Table{Name: "hive", Columns: []Column{number("id"), words("title"), words("box"), number("frames")}, PrimaryKey: id},
		Table{Name: "keeper", Columns: []Column{number("id"), words("phone")}, PrimaryKey: id},
		Table{Name: "note", Columns: []Column{words("text")}},
	)
	before.Enums = []Enum{{Name: "temper", Labels: []string{"calm", "nervous", "fierse"}}}
	after := withTables(
		Table{Name: "colony", Columns: []Column{number("id"), words("name"), words("box"), number("frames")}, PrimaryKey: id},
		Table{Name: "keeper", Columns: []Column{number("id"), words("telephone")}, PrimaryKey: id},
		Table{Name: "scale", Columns: []Column{number("kg"), number("limit")}},
	)
	after.Enums = []Enum{{Name: "mood", Labels: []string{"calm", "nervous", "fierce"}}}
	found := map[string]Rename{}
	for _, r := range FindRenames(before, after, nil, nil) {
		found[r.String()] = r
		assert.Greater(t, r.Confidence, 0.5, r)
		assert.Less(t, r.Confidence, 1.0, r)
		assert.NotEmpty(t, r.Why, r)
	}
	assert.Contains(t, found, "hive=colony")
	assert.Contains(t, found, "colony.title=name")
	assert.Contains(t, found, "keeper.phone=telephone")
	assert.Contains(t, found, "mood.fierse=fierce")
	assert.NotContains(t, found, "note=scale", "they have nothing in common")
	assert.Greater(t, found["keeper.phone=telephone"].Confidence, found["colony.title=name"].Confidence, "phone is in telephone")

	lines := lines(Compare(before, after, FindRenames(before, after, nil, nil)...))
	assert.Contains(t, lines, "the table hive is called colony now")
	assert.NotContains(t, lines, "the table hive is gone")
}

func TestAPersonSettlesRenames(t *testing.T) {
	before := withTables(Table{Name: "hive", Columns: []Column{number("id"), words("title"), words("box")}})
	after := withTables(Table{Name: "hive", Columns: []Column{number("id"), words("name"), words("crate")}})
	settle := func(old, now string) Rename {
		r, ok := Settle(before, after, old, now)
		require.True(t, ok)
		return r
	}
	found := FindRenames(before, after, []Rename{settle("hive.title", "crate"), settle("hive.box", "hive.name")}, nil)
	assert.ElementsMatch(t, []string{"hive.box=name", "hive.title=crate"}, []string{found[0].String(), found[1].String()})
	assert.Equal(t, 1.0, found[0].Confidence)
	assert.Empty(t, FindRenames(before, after, []Rename{settle("hive.title", ""), settle("hive.box", "")}, nil), "both were dropped")
	_, ok := Settle(before, after, "swarm", "hive")
	assert.False(t, ok)
	table, ok := Settle(before, after, "HIVE", "colony")
	assert.True(t, ok)
	assert.Equal(t, Rename{Thing: RenamedTable, From: "hive", To: "colony", Confidence: 1}, table)
}

func TestRenamedReachesAllThatRefers(t *testing.T) {
	c := withTables(
		Table{Name: "hive", Columns: []Column{number("id"), words("title")}, PrimaryKey: &Key{Columns: []string{"id"}}, Uniques: []Key{{Columns: []string{"title"}}}, Indexes: []Index{{Columns: []string{"title"}}}},
		Table{Name: "queen", Columns: []Column{words("hive_title")}, References: []Reference{{Columns: []string{"hive_title"}, Table: "hive", Target: []string{"title"}}}, Inherits: []string{"hive"}},
	)
	c.Tables[1].Columns[0].Type = Type{Kind: EnumKind, Enum: "temper"}
	c.Enums = []Enum{{Name: "temper", Labels: []string{"calm"}}}
	now := c.Renamed([]Rename{
		{Thing: RenamedLabel, In: "s.mood", From: "calm", To: "quiet"},
		{Thing: RenamedEnum, From: "temper", To: "s.mood"},
		{Thing: RenamedColumn, In: "s.colony", From: "title", To: "name"},
		{Thing: RenamedTable, From: "hive", To: "s.colony"},
	})
	colony, ok := now.Table("s", "colony")
	require.True(t, ok)
	assert.Equal(t, "name", colony.Columns[1].Name)
	assert.Equal(t, []string{"name"}, colony.Uniques[0].Columns)
	assert.Equal(t, []string{"name"}, colony.Indexes[0].Columns)
	queen, _ := now.Table("", "queen")
	assert.Equal(t, Reference{Columns: []string{"hive_title"}, Schema: "s", Table: "colony", Target: []string{"name"}}, queen.References[0])
	assert.Equal(t, []string{"s.colony"}, queen.Inherits)
	assert.Equal(t, "s.mood", queen.Columns[0].Type.Enum)
	assert.Equal(t, []Enum{{Schema: "s", Name: "mood", Labels: []string{"quiet"}}}, now.Enums)
	assert.Equal(t, "title", c.Tables[0].Columns[1].Name, "the old one stays as it was")
}

func TestDataTellsRenames(t *testing.T) {
	before := withTables(Table{Name: "hive", Columns: []Column{number("id"), words("title"), words("box")}})
	after := withTables(Table{Name: "hive", Columns: []Column{number("id"), words("label"), words("crate")}})
	alike := func(old, now *Table, was, is string) (float64, bool) {
		assert.Equal(t, "hive", old.Name)
		return map[string]float64{"title crate": 1, "box label": 0.9}[was+" "+is], true
	}
	var found []string
	for _, r := range FindRenames(before, after, nil, alike) {
		found = append(found, r.String())
		assert.Contains(t, r.Why, "% of the values")
	}
	assert.ElementsMatch(t, []string{"hive.title=crate", "hive.box=label"}, found, "names and places say otherwise")
}
