package model

import (
	"os"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/project"
)

// agreed is a database of testdata/names.txt.
type agreed struct {
	title, prefix string
	tables        []catalog.Table
	entities      []agreedEntity
	references    []agreedReference
}

type agreedEntity struct{ table, name, path string }

type agreedReference struct{ table, columns, to, forward, backward string }

// readAgreed reads what tables and references should be called.
func readAgreed(t *testing.T) []*agreed {
	t.Helper()
	text, err := os.ReadFile("testdata/names.txt")
	require.NoError(t, err)
	var list []*agreed
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		switch {
		case len(fields) == 0 || fields[0] == "#":
		case fields[0] == "schema":
			list = append(list, &agreed{title: strings.Join(fields[1:], " ")})
		case fields[0] == "prefix":
			list[len(list)-1].prefix = fields[1]
		default:
			list[len(list)-1].add(t, fields)
		}
	}
	return list
}

func (a *agreed) add(t *testing.T, fields []string) {
	table, columns, referring := strings.Cut(fields[0], ".")
	switch {
	case len(fields) == 2 && fields[1] == "key":
		known := a.table(table)
		known.Columns[0].Name, known.PrimaryKey.Columns = columns, []string{columns}
	case referring:
		require.Len(t, fields, 5, fields)
		a.references = append(a.references, agreedReference{table, columns, fields[2], fields[3], fields[4]})
		known := a.table(table)
		known.Columns = append(known.Columns, intColumn(columns, 64))
	default:
		require.Len(t, fields, 3, fields)
		a.entities = append(a.entities, agreedEntity{table, fields[1], fields[2]})
		a.table(table)
	}
}

// table finds a table, or adds it with a key called id.
func (a *agreed) table(name string) *catalog.Table {
	for i := range a.tables {
		if a.tables[i].Name == name {
			return &a.tables[i]
		}
	}
	a.tables = append(a.tables, tableOf(name))
	return &a.tables[len(a.tables)-1]
}

func (a *agreed) build(t *testing.T) *Model {
	t.Helper()
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: a.tables}
	for _, r := range a.references {
		to := a.table(r.to)
		from := a.table(r.table)
		from.References = append(from.References, catalog.Reference{Columns: []string{r.columns}, Table: r.to, Target: to.PrimaryKey.Columns})
	}
	p := project.Default()
	p.Words.Prefix = a.prefix
	m, err := Build(c, p, project.NewNames())
	require.NoError(t, err)
	return m
}

// TestNamesAreThoseThatWereAgreedOn compares all names with a list that was written
// before.
func TestNamesAreThoseThatWereAgreedOn(t *testing.T) {
	right, all := 0, 0
	for _, a := range readAgreed(t) {
		m := a.build(t)
		check := func(what, want, got string) {
			all++
			if want == got {
				right++
				return
			}
			t.Logf("%s: %s is %s, agreed was %s", a.title, what, got, want)
		}
		for _, e := range a.entities {
			if got := m.Entity(e.table); assert.NotNil(t, got, e.table) {
				check(e.table, e.name+" "+e.path, got.Name+" "+got.Path)
			}
		}
		for _, r := range a.references {
			forward, backward := "", ""
			for _, e := range m.Entities {
				for _, relation := range e.Relations {
					switch {
					case relation.Join != nil:
					case relation.Owned && e.Table.Name == r.table && relation.Pairs[0][0] == r.columns:
						forward = relation.Name
					case !relation.Owned && relation.To.Table.Name == r.table && relation.Pairs[0][1] == r.columns:
						backward = relation.Name
					}
				}
			}
			check(r.table+"."+r.columns, r.forward+" "+r.backward, forward+" "+backward)
		}
	}
	t.Logf("%d of %d names are those that were agreed on", right, all)
	assert.Greater(t, all, 400)
	assert.GreaterOrEqual(t, float64(right), 0.97*float64(all))
}

// TestJoinsToTablesWithoutKeys has references that lead to no columns.
func TestJoinsToTablesWithoutKeys(t *testing.T) {
	keyless := tableOf("hive", "code")
	keyless.PrimaryKey = nil
	join := catalog.Table{Name: "hive_forage", Kind: catalog.BaseTable, PrimaryKey: &catalog.Key{Columns: []string{"hive_id", "forage_id"}}, Columns: tableOf("", "hive_id", "forage_id").Columns[1:]}
	join.References = []catalog.Reference{{Columns: []string{"hive_id"}, Table: "hive"}, {Columns: []string{"forage_id"}, Table: "forage", Target: []string{"id"}}}
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{keyless, join, tableOf("forage")}}
	m, err := Build(c, project.Default(), project.NewNames())
	require.NoError(t, err)
	assert.NotNil(t, m.Entity("hive"))
	assert.NotNil(t, m.Entity("hive_forage"), "it has an entity, since it is no relation")
}

// TestCompositeReferencesAreToldApart by the columns that only one of them has.
func TestCompositeReferencesAreToldApart(t *testing.T) {
	apiary := tableOf("apiaries", "yard_id")
	apiary.PrimaryKey = &catalog.Key{Columns: []string{"yard_id", "id"}}
	move := tableOf("moves", "yard_id", "from_apiary_id", "to_apiary_id")
	for _, column := range []string{"from_apiary_id", "to_apiary_id"} {
		move.References = append(move.References, catalog.Reference{Columns: []string{"yard_id", column}, Table: "apiaries", Target: []string{"yard_id", "id"}})
	}
	m := build(t, &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{apiary, move}}, project.NewNames(), nil)
	assert.Equal(t, map[string]string{"FromApiary": "ToOne Apiary", "ToApiary": "ToOne Apiary"}, relationsOf(m, "Move"))
	assert.Equal(t, map[string]string{"OutgoingMoves": "ToMany Move", "IncomingMoves": "ToMany Move"}, relationsOf(m, "Apiary"))
}

// TestLinesOfNamesAreOneDocument has columns whose fields are called otherwise: the
// lines can be parsed, and give the names that they say.
func TestLinesOfNamesAreOneDocument(t *testing.T) {
	hive := tableOf("hive", "1st", "a b", "a_b", "queen_id")
	refers(&hive, "queen_id", "queen")
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{hive, tableOf("queen", "2nd")}}
	m := build(t, c, project.NewNames(), nil)
	var all []Named
	for _, e := range m.Entities {
		all = append(all, m.Names(e)...)
	}
	lines := SettleNames(all)
	p, err := project.Parse("widegate.yaml", []byte("database: {url: bees.db}\n"+lines))
	require.NoError(t, err, lines)
	again, err := Build(c, p, project.NewNames())
	require.NoError(t, err)
	assert.Equal(t, relationsOf(m, "Hive"), relationsOf(again, "Hive"))
	for i, e := range m.Entities {
		for k, f := range e.Fields {
			assert.Equal(t, f.Name, again.Entities[i].Fields[k].Name)
		}
	}
}
