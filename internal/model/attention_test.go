package model

import (
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/project"
)

// attentionOf lists the texts about a table.
func attentionOf(m *Model, table string) []string {
	var list []string
	for _, a := range m.Attention {
		if a.Table == table {
			list = append(list, a.Text)
		}
	}
	return list
}

// settled builds the model again with the lines that an item proposes, and
// returns what attention is left.
func settled(t *testing.T, c *catalog.Catalog, a Attention) []Attention {
	t.Helper()
	p, err := project.Parse("widegate.yaml", []byte("database: {url: bees.db}\n"+a.Settle))
	require.NoError(t, err, a.Settle)
	m, err := Build(c, p, project.NewNames())
	require.NoError(t, err, a.Settle)
	return m.Attention
}

func intColumn(name string, bits int) catalog.Column {
	return catalog.Column{Name: name, Declared: "int", Type: catalog.Type{Kind: catalog.Int, Bits: bits}, Nullable: true}
}

// TestWhatNeedsAttention has each matter once, and sees that the lines which
// are to settle it do.
func TestWhatNeedsAttention(t *testing.T) {
	hive := tableOf("hive", "code")
	other := tableOf("hive_visit", "note")
	noKey := tableOf("visit_log", "code")
	noKey.PrimaryKey, noKey.Columns = nil, noKey.Columns[1:]
	noKey.Columns[0].Nullable = true
	textual := tableOf("odd", "place")
	textual.Columns[1].Type, textual.Columns[1].Declared = catalog.Type{Kind: catalog.Geometric}, "point"
	secret := tableOf("keeper", "password")
	named := tableOf("named", "1st", "a b", "a_b")
	frozen := tableOf("frozen")
	frozen.Columns = append(frozen.Columns, catalog.Column{Name: "at", Type: catalog.Type{Kind: catalog.Timestamp}, Default: &catalog.Default{Kind: catalog.Constant, Text: "2026-05-01 10:11:12"}})
	unnumbered := tableOf("unnumbered")
	unnumbered.Columns[0].Default = nil
	shared := tableOf("shared")
	shared.Columns[0].Default = &catalog.Default{Kind: catalog.Identity, Sequence: "numbers"}
	beside := tableOf("beside", "code")
	beside.PrimaryKey = &catalog.Key{Columns: []string{"code"}}
	view := tableOf("view_of", "code")
	view.Kind, view.PrimaryKey = catalog.View, nil
	child := tableOf("child", "x")
	child.PrimaryKey, child.Inherits = nil, []string{"hive"}
	memory := tableOf("memory")
	memory.Options = []string{"memory", "virtual", "system versioned"}
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{hive, other, noKey, textual, secret, named, frozen, unnumbered, shared, beside, view, child, memory},
		Notes: []catalog.Note{{Table: "gone", Text: "the view cannot be read: no such table"}}}
	m := build(t, c, project.NewNames(), nil)
	assert.Equal(t, "gone", m.Attention[0].Table, "what is missing comes first")
	for table, want := range map[string]string{
		"visit_log": "no key: rows can be read and added, not changed; perhaps code",
		"odd":       "column place of type point is carried as text", "keeper": "column password looks secret and is hidden",
		"frozen": "the default of at is one moment, 2026-05-01 10:11:12", "unnumbered": "nothing numbers the key id: who adds a row gives it",
		"shared": "the key id is numbered by the sequence numbers, which is not its own", "beside": "column id is numbered by the database, but is not the key",
		"view_of": "view without a key: rows can be listed, not fetched one by one; perhaps id or code", "memory": "is kept in memory: its rows go when the server stops",
	} {
		assert.Contains(t, attentionOf(m, table), want)
	}
	assert.Contains(t, strings.Join(attentionOf(m, "child"), "\n"), "but not their keys and references")
	assert.Len(t, attentionOf(m, "memory"), 3)
	assert.Equal(t, []string{"column 1st is called X1st in Go", `column a_b is called AB2 in Go`}, attentionOf(m, "named"))
	assert.Empty(t, attentionOf(m, "hive"))
	for _, a := range m.Attention {
		assert.NotEmpty(t, a.Why, a.Text)
		if a.Settle != "" {
			for _, left := range settled(t, c, a) {
				assert.NotEqual(t, a.Table+a.Text, left.Table+left.Text, "is not settled by %s", a.Settle)
			}
		}
	}
}

func TestReferencesThatNeedAttention(t *testing.T) {
	target := tableOf("hive", "name")
	target.Columns[1].Collation = "C"
	from := tableOf("visit")
	add := func(column catalog.Column, ref catalog.Reference) {
		from.Columns = append(from.Columns, column)
		ref.Columns = []string{column.Name}
		from.References = append(from.References, ref)
	}
	text := func(name, collation string) catalog.Column {
		return catalog.Column{Name: name, Declared: "text", Type: catalog.Type{Kind: catalog.Text}, Collation: collation}
	}
	add(intColumn("good", 64), catalog.Reference{Table: "hive", Target: []string{"id"}})
	add(intColumn("gone", 64), catalog.Reference{Table: "nothing", Target: []string{"id"}})
	add(intColumn("far", 64), catalog.Reference{Schema: "yard", Table: "hive", Target: []string{"id"}})
	add(intColumn("lost", 64), catalog.Reference{Table: "hive", Target: []string{"missing"}})
	add(intColumn("keyless", 64), catalog.Reference{Table: "hive"})
	add(text("loose", "C"), catalog.Reference{Table: "hive", Target: []string{"name"}})
	add(text("mixed", "D"), catalog.Reference{Table: "hive", Target: []string{"name"}})
	add(intColumn("narrow", 32), catalog.Reference{Table: "hive", Target: []string{"id"}})
	add(text("worded", ""), catalog.Reference{Table: "hive", Target: []string{"id"}})
	add(intColumn("behind", 64), catalog.Reference{Table: "hive", Target: []string{"id"}, Unenforced: true})
	from.References = append(from.References, catalog.Reference{Columns: []string{"good"}, Table: "hive", Target: []string{"id"}, OnDelete: "cascade"})
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{target, from}}
	m := build(t, c, project.NewNames(), nil)
	all := strings.Join(attentionOf(m, "visit"), "\n")
	for _, want := range []string{
		"gone refers to nothing, which is not there", "far refers to yard.hive, in a schema that is not read", "lost refers to columns of hive that are not there: missing",
		"keyless refers to hive, which has no key of that many columns", "loose refers to hive(name), which is not unique", "mixed is compared by D, what it refers to by C",
		"narrow is int and refers to a column that is", "worded is text and refers to a column that is", "good refers to hive twice", "behind refers to hive(id), which the database does not enforce",
	} {
		assert.Contains(t, all, want)
	}
	e := m.Entity("visit")
	relations := 0
	for _, r := range e.Relations {
		if r.Owned {
			relations++
		}
	}
	assert.Equal(t, 6, relations, "those that lead somewhere, each once")
}

func TestDeclaredRelations(t *testing.T) {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{tableOf("hive"), tableOf("visit", "stand", "hive_id")}}
	c.Tables[1].Columns[1] = intColumn("stand", 64)
	c.Tables[1].Columns[2] = intColumn("hive_id", 64)
	refers(&c.Tables[1], "hive_id", "hive")
	with := func(list ...project.Relation) (*Model, error) {
		p := project.Default()
		p.Relations = list
		return Build(c, p, project.NewNames())
	}
	m, err := with(project.Relation{Table: "visit", Columns: []string{"stand"}, To: "hive", Name: "Place", Reverse: "Stays"},
		project.Relation{Table: "visit", Columns: []string{"hive_id"}, To: "hive", Name: "Box", Reverse: "Calls"})
	require.NoError(t, err)
	names := map[string]bool{}
	for _, e := range m.Entities {
		for _, r := range e.Relations {
			names[e.Name+"."+r.Name] = true
			require.NotNil(t, e.Opposite(r))
			assert.Equal(t, r, r.To.Opposite(e.Opposite(r)), "the other side of the other side")
		}
	}
	assert.Equal(t, map[string]bool{"Visit.Place": true, "Visit.Box": true, "Hive.Stays": true, "Hive.Calls": true}, names)
	p := project.Default()
	p.Relations = []project.Relation{{Table: "visit", Columns: []string{"stand"}, To: "hive"}, {Table: "visit", Columns: []string{"hive_id"}, To: "hive", Name: "Box"}}
	full, err := WithDeclared(c, p)
	require.NoError(t, err)
	assert.Len(t, full.Tables[1].References, 2, "one that only names a reference adds none")
	assert.Equal(t, []string{"id"}, full.Tables[1].References[1].Target)
	assert.Len(t, c.Tables[1].References, 1, "the catalog stays what it was")
	for want, r := range map[string]project.Relation{
		`"hiv", which is no table`:      {Table: "visit", Columns: []string{"stand"}, To: "hiv"},
		`"stan", which is no column of`: {Table: "visit", Columns: []string{"stan"}, To: "hive"},
		"has 2 columns and 1 to refer":  {Table: "visit", Columns: []string{"stand", "hive_id"}, To: "hive"},
	} {
		_, err := with(r)
		require.ErrorContains(t, err, want)
	}
}

func TestCandidates(t *testing.T) {
	apiary := tableOf("apiaries", "code")
	hive := tableOf("hive")
	hive.Columns = append(hive.Columns, intColumn("apiary_id", 64), intColumn("old_apiary_id", 64), intColumn("apiary", 32), intColumn("keeper_id", 64), intColumn("number", 64))
	text := catalog.Column{Name: "apiary_code", Type: catalog.Type{Kind: catalog.Text}}
	hive.Columns = append(hive.Columns, text)
	card := tableOf("card")
	card.Columns[0].Name, card.PrimaryKey = "card_no", &catalog.Key{Columns: []string{"card_no"}}
	member := tableOf("member")
	member.Columns = append(member.Columns, intColumn("card_no", 64), intColumn("hive_id", 64))
	refers(&member, "hive_id", "hive")
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{apiary, hive, card, member}}
	var got []string
	for _, f := range Candidates(c) {
		got = append(got, f.Table.Name+"."+f.Column+" → "+f.To.Name+"."+f.Target)
	}
	assert.Equal(t, []string{
		"hive.apiary_id → apiaries.id", "hive.old_apiary_id → apiaries.id", "hive.apiary → apiaries.id", "member.card_no → card.card_no",
	}, got)
}

func TestEndpoints(t *testing.T) {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{tableOf("apiary"), tableOf("forage"), tableOf("hive", "apiary_id"), tableOf("apiary_forage")}}
	refers(&c.Tables[2], "apiary_id", "apiary")
	join := &c.Tables[3]
	join.Columns = []catalog.Column{intColumn("apiary_id", 64), intColumn("forage_id", 64)}
	join.PrimaryKey = &catalog.Key{Columns: []string{"apiary_id", "forage_id"}}
	refers(join, "apiary_id", "apiary")
	refers(join, "forage_id", "forage")
	m := build(t, c, project.NewNames(), nil)
	assert.True(t, m.IsJoin("apiary_forage"))
	assert.Nil(t, m.Entity("apiary_forage"))
	assert.Equal(t, []Endpoint{
		{"/api/apiaries", []string{"GET", "POST"}}, {"/api/apiaries/{id}", []string{"GET", "PUT", "PATCH", "DELETE"}}, {"/api/apiaries/{id}/hives", []string{"GET", "POST"}},
		{"/api/apiaries/{id}/forages", []string{"GET"}}, {"/api/apiaries/{id}/forages/{id}", []string{"PUT", "DELETE"}},
	}, m.Entity("apiary").Endpoints("/api"))
}
