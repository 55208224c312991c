package model

import (
	"fmt"
	"go/token"
	"math/rand/v2"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/project"
)

func build(t *testing.T, c *catalog.Catalog, names *project.Names, change func(p *project.Project)) *Model {
	t.Helper()
	p := project.Default()
	if change != nil {
		change(p)
	}
	m, err := Build(c, p, names)
	require.NoError(t, err)
	return m
}

func idColumn() catalog.Column {
	return catalog.Column{Name: "id", Declared: "bigint", Type: catalog.Type{Kind: catalog.Int, Bits: 64}, Default: &catalog.Default{Kind: catalog.Identity}}
}

// tableOf makes a table with an id and other columns; those that end in _id
// are numbers.
func tableOf(name string, columns ...string) catalog.Table {
	t := catalog.Table{Name: name, Kind: catalog.BaseTable, Columns: []catalog.Column{idColumn()}, PrimaryKey: &catalog.Key{Columns: []string{"id"}}}
	for _, c := range columns {
		kind := catalog.Type{Kind: catalog.Text}
		if strings.HasSuffix(c, "_id") {
			kind = catalog.Type{Kind: catalog.Int, Bits: 64}
		}
		t.Columns = append(t.Columns, catalog.Column{Name: c, Declared: "text", Type: kind, Nullable: true})
	}
	return t
}

func refers(t *catalog.Table, column, table string) {
	t.References = append(t.References, catalog.Reference{Columns: []string{column}, Table: table, Target: []string{"id"}})
}

func relationsOf(m *Model, entity string) map[string]string {
	found := map[string]string{}
	for _, e := range m.Entities {
		if e.Name == entity {
			for _, r := range e.Relations {
				found[r.Name] = string(r.Kind) + " " + r.To.Name
			}
		}
	}
	return found
}

func TestWords(t *testing.T) {
	for name, want := range map[string]string{
		"hive": "Hive", "split_from_id": "SplitFromID", "HiveName": "HiveName", "XMLHttpURL": "XMLHTTPURL", "hive-no": "HiveNo", "hive no.2": "HiveNo2",
		"2nd_queen": "X2ndQueen", "über": "Über", "蜂": "X蜂", "___": "X", "type": "Type", "a$b": "AB", "ID": "ID", "userId": "UserID",
	} {
		assert.Equal(t, want, english.exported(english.Split(name)), name)
	}
	for name, want := range map[string]string{"type": "typeRow", "hive_no": "hiveNo", "string": "stringRow", "2x": "x2x", "": "x", "ID": "id"} {
		assert.Equal(t, want, english.unexported(english.Split(name)), name)
	}
	assert.Equal(t, "hive_windows_rows", fileName(english.Split("hive_windows")), "the go command must not take it for another system's")
	assert.Equal(t, "queen_test_rows", fileName(english.Split("QueenTest")))
	assert.Equal(t, "rows", fileName(english.Split("--")), "the go command passes over names that begin with a line")
	assert.Equal(t, "con_rows", fileName(english.Split("CON")), "it is a device on some systems")
	assert.Equal(t, "x", fileName(english.Split("../../x")))
	assert.Len(t, fileName(english.Split(strings.Repeat("größe", 100))), longestFile, "file systems take no longer names, and no half characters")
}

func TestPathsLoseTheirMarks(t *testing.T) {
	for name, want := range map[string]string{"Größe": "grosse", "naïve_Café": "naive-cafe", "蜂の巣": "蜂の巣", "ÅNGSTRÖM": "angstrom", "a_b": "a-b"} {
		assert.Equal(t, want, kebab(english.Split(name)))
	}
}

func TestIntegers(t *testing.T) {
	for _, c := range []struct {
		bits     int
		unsigned bool
		want     Kind
	}{{8, false, KindInt16}, {8, true, KindInt16}, {16, true, KindInt32}, {24, true, KindInt32}, {32, false, KindInt32}, {32, true, KindInt64}, {64, false, KindInt64}, {64, true, KindUint64}, {0, false, KindInt64}} {
		assert.Equal(t, c.want, intKind(c.bits, c.unsigned), "%d %v", c.bits, c.unsigned)
	}
}

func TestRelationNames(t *testing.T) {
	hive := tableOf("hives", "apiary_id", "split_from_id", "parent_id", "stand_keeper_id")
	refers(&hive, "apiary_id", "apiaries")
	refers(&hive, "split_from_id", "hives")
	refers(&hive, "parent_id", "hives")
	refers(&hive, "stand_keeper_id", "keepers")
	queen := tableOf("queens", "hive_id", "owner")
	refers(&queen, "hive_id", "hives")
	refers(&queen, "owner", "keepers")
	queen.Uniques = []catalog.Key{{Columns: []string{"hive_id"}}}
	join := catalog.Table{Name: "apiary_forages", Kind: catalog.BaseTable, PrimaryKey: &catalog.Key{Columns: []string{"apiary_id", "forage_id"}},
		Columns: tableOf("", "apiary_id", "forage_id").Columns[1:]}
	refers(&join, "apiary_id", "apiaries")
	refers(&join, "forage_id", "forages")
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{
		tableOf("apiaries"), join, tableOf("forages"), hive, tableOf("keepers"), queen,
	}}
	m := build(t, c, project.NewNames(), nil)
	assert.Equal(t, map[string]string{
		"Apiary": "ToOne Apiary", "SplitFrom": "ToOne Hive", "Parent": "ToOne Hive", "StandKeeper": "ToOne Keeper",
		"Splits": "ToMany Hive", "Children": "ToMany Hive", "Queen": "ToOne Queen",
	}, relationsOf(m, "Hive"))
	assert.Equal(t, map[string]string{"Hives": "ToMany Hive", "Forages": "ManyToMany Forage"}, relationsOf(m, "Apiary"))
	assert.Equal(t, map[string]string{"Apiaries": "ManyToMany Apiary"}, relationsOf(m, "Forage"))
	assert.Equal(t, map[string]string{"Hives": "ToMany Hive", "Queens": "ToMany Queen"}, relationsOf(m, "Keeper"))
	assert.Equal(t, map[string]string{"Hive": "ToOne Hive", "Keeper": "ToOne Keeper"}, relationsOf(m, "Queen"), "the column owner has its name already")
	require.Len(t, m.Joins, 1)
}

func TestKeys(t *testing.T) {
	natural := tableOf("queen_mark", "code")
	natural.PrimaryKey = nil
	natural.Columns = natural.Columns[1:]
	natural.Columns[0].Nullable = false
	natural.Uniques = []catalog.Key{{Columns: []string{"code"}}}
	log := tableOf("visit_log", "note")
	log.PrimaryKey = nil
	view := tableOf("yield", "apiary")
	view.Kind, view.PrimaryKey = catalog.View, nil
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{natural, log, view}}
	m := build(t, c, project.NewNames(), nil)
	assert.Equal(t, []Verbs{Full, Append, ReadOnly}, []Verbs{m.Entities[0].Verbs, m.Entities[1].Verbs, m.Entities[2].Verbs})
	assert.Empty(t, m.Entities[0].KeyName)
	require.Len(t, m.Attention, 2)
	assert.Equal(t, "entities:\n  visit_log:\n    key: [id]", m.Attention[0].Settle)
	assert.Contains(t, m.Attention[1].Text, "view without a key")
	assert.Equal(t, "visit_log", m.Attention[0].Table)
	m = build(t, c, project.NewNames(), func(p *project.Project) {
		p.Entities = map[string]project.Entity{"visit_log": {Key: []string{"note", "id"}}, "yield": {Key: []string{"apiary"}}}
	})
	assert.Equal(t, Full, m.Entities[1].Verbs)
	assert.Equal(t, "VisitLogKey", m.Entities[1].KeyName)
	assert.Len(t, m.Entities[2].Key, 1)
	assert.Empty(t, m.Attention)
}

func TestChecks(t *testing.T) {
	table := tableOf("hive", "temper", "frames", "weight", "x")
	for expr, want := range map[string]map[string]limits{
		"temper IN ('calm', 'it''s')":                  {"temper": {labels: []string{"calm", "it's"}}},
		"(`temper` in ('calm','fierce'))":              {"temper": {labels: []string{"calm", "fierce"}}},
		"(temper = ANY (ARRAY['a'::text, 'b'::text]))": {"temper": {labels: []string{"a", "b"}}},
		"((temper)::text = ANY ((ARRAY['a'::character varying, 'b'::character varying])::text[]))": {"temper": {labels: []string{"a", "b"}}},
		"frames BETWEEN 1 AND 40":                                       {"frames": {least: "1", most: "40"}},
		"((frames >= 1) AND (frames <= 40))":                            {"frames": {least: "1", most: "40"}},
		"((weight > (0)::numeric) AND (weight < '-1.5'::numeric(5,2)))": {"weight": {above: "0", below: "-1.5"}},
		"(weight >= '-90'::integer::numeric)":                           {"weight": {least: "-90"}},
		"frames > 3 AND length(temper) > 5 AND x = 'y'":                 {"frames": {above: "3"}},
		"frames > 3 OR weight > 2":                                      {},
		"NOT (frames > 3)":                                              {},
		"frames > weight":                                               {},
		"temper IN ('a', lower('B'))":                                   {},
		"":                                                              {},
	} {
		table.Checks = []catalog.Check{{Expr: expr}}
		found := readChecks(&table)
		for column := range found {
			if _, known := table.Column(column); !known {
				delete(found, column)
			}
		}
		assert.Equal(t, want, found, expr)
	}
}

func FuzzChecks(f *testing.F) {
	f.Add("a in ('x') and b::text > 3")
	f.Fuzz(func(_ *testing.T, expr string) {
		table := tableOf("hive", "a", "b")
		table.Checks = []catalog.Check{{Expr: expr}}
		readChecks(&table)
	})
}

func TestChoosingTables(t *testing.T) {
	queen := tableOf("queen", "hive_id")
	refers(&queen, "hive_id", "hive")
	hive := tableOf("hive", "apiary_id")
	refers(&hive, "apiary_id", "apiary")
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{tableOf("apiary"), hive, queen, tableOf("batch")}}
	names := func(m *Model) (list []string) {
		for _, e := range m.Entities {
			list = append(list, e.Name)
		}
		return list
	}
	take := func(patterns ...string) func(p *project.Project) {
		return func(p *project.Project) { p.Tables.Take = patterns }
	}
	m := build(t, c, project.NewNames(), take("queen"))
	assert.Equal(t, []string{"Apiary", "Hive", "Queen"}, names(m))
	assert.Equal(t, []Followed{{"hive", "queen"}, {"apiary", "hive"}}, m.Followed)
	assert.Equal(t, []string{"Batch"}, names(build(t, c, project.NewNames(), take("b*"))))
	slash := catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{tableOf("a/b"), tableOf("a[b"), tableOf("axb")}}
	assert.Len(t, names(build(t, &slash, project.NewNames(), take("*"))), 3)
	assert.Equal(t, []string{"AB"}, names(build(t, &slash, project.NewNames(), take("a[b"))))
	assert.Len(t, names(build(t, &slash, project.NewNames(), take("a?b"))), 3)
	m = build(t, c, project.NewNames(), func(p *project.Project) {
		p.Tables.Take, p.Tables.Leave = []string{"queen"}, []string{"hive"}
	})
	assert.Equal(t, []string{"Queen"}, names(m))
	assert.Empty(t, m.Entities[0].Relations, "a relation to a table that is left out is left out")
	p := project.Default()
	p.Tables.Take = []string{"qeen"}
	_, err := Build(c, p, project.NewNames())
	require.ErrorContains(t, err, `there is no table "qeen"`)
}

// awkward are identifiers from which names are hard to make.
var awkward = []string{
	"hive", "hives", "Hive", "HIVE", "hive_", "_hive", "hi ve", "hi-ve", "hive.x", "1hive", "type", "func", "string", "int64", "gate", "rest", "store",
	"service", "openapi", "store_", "where", "all", "count", "insert", "table", "new", "id", "ID", "Id", "iD", "蜂", "über", "ÜBER", "hive_test", "hive_linux",
	"a$b", "a#b", "", " ", "\"", "`", "é", "hive_key", "HiveKey", "open", "problem", "batch", "queries", "sheep", "news", "data", "x", "nil", "error", "init", "main",
}

// TestNamesNeverClash builds models of random awkward schemas.
func TestNamesNeverClash(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		c := randomCatalog(r)
		m := build(t, c, project.NewNames(), nil)
		global, paths, files := map[string]bool{}, map[string]bool{}, map[string]bool{}
		unique := func(set map[string]bool, name string) {
			require.False(t, set[name], "seed %d: %q twice", seed, name)
			set[name] = true
		}
		for _, e := range m.Entities {
			unique(global, e.Name)
			unique(global, e.Plural)
			for _, name := range inStore(e.Local) {
				unique(global, name)
			}
			unique(paths, e.Path)
			unique(files, strings.ToLower(e.File))
			require.True(t, token.IsExported(e.Name) && token.IsIdentifier(e.Name), e.Name)
			require.True(t, token.IsIdentifier(e.Local), e.Local)
			fields, vars, json := map[string]bool{}, map[string]bool{}, map[string]bool{}
			for _, v := range verbNames {
				vars[v] = true
			}
			for _, f := range e.Fields {
				unique(fields, f.Name)
				unique(vars, f.Var)
				require.True(t, token.IsExported(f.Name) && token.IsIdentifier(f.Name), f.Name)
				json[f.Column.Name] = true
			}
			for _, rel := range e.Relations {
				unique(fields, rel.Name)
				unique(vars, rel.Var)
				unique(json, rel.JSON)
				require.True(t, token.IsIdentifier(rel.Name), rel.Name)
			}
		}
	}
}

func randomCatalog(r *rand.Rand) *catalog.Catalog {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres)}
	for _, i := range r.Perm(len(awkward))[:2+r.IntN(12)] {
		if awkward[i] == "" {
			continue
		}
		var columns []string
		for _, k := range r.Perm(len(awkward))[:r.IntN(8)] {
			if awkward[k] != "id" && awkward[k] != "" {
				columns = append(columns, awkward[k])
			}
		}
		c.Tables = append(c.Tables, tableOf(awkward[i], columns...))
	}
	for i := range c.Tables {
		for _, col := range c.Tables[i].Columns[1:] {
			if r.IntN(2) == 0 {
				refers(&c.Tables[i], col.Name, c.Tables[r.IntN(len(c.Tables))].Name)
			}
		}
	}
	return c
}

// TestNamesStay adds tables and columns in random order and looks whether what
// was named keeps its name.
func TestNamesStay(t *testing.T) {
	for seed := range uint64(100) {
		r := rand.New(rand.NewPCG(seed, 9))
		whole := randomCatalog(r)
		names := project.NewNames()
		before := map[string]string{}
		for n := 1; n <= len(whole.Tables); n++ {
			part := &catalog.Catalog{Engine: whole.Engine}
			for _, i := range r.Perm(n) {
				part.Tables = append(part.Tables, whole.Tables[i])
			}
			m := build(t, part, names, nil)
			now := map[string]string{}
			for _, e := range m.Entities {
				now[e.Table.Name] = strings.Join([]string{e.Name, e.Plural, e.File, e.Path}, " ")
				for _, f := range e.Fields {
					now[e.Table.Name+"."+f.Column.Name] = f.Name
				}
				for _, rel := range e.Relations {
					now[fmt.Sprint(e.Table.Name, rel.Kind, rel.To.Table.Name, rel.Pairs)] = rel.Name
				}
			}
			for what, name := range before {
				if _, still := now[what]; still {
					require.Equal(t, name, now[what], "seed %d: %s was renamed", seed, what)
				}
			}
			before = now
		}
	}
}

func TestEnumsStay(t *testing.T) {
	hive := tableOf("hive", "temper")
	hive.Checks = []catalog.Check{{Expr: "temper IN ('calm', 'two words', '')"}}
	names := project.NewNames()
	m := build(t, &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{hive}}, names, nil)
	require.Len(t, m.Enums, 1)
	assert.Equal(t, []Label{{"TemperCalm", "calm"}, {"TemperTwoWords", "two words"}, {"TemperEmpty", ""}}, m.Enums[0].Labels)
	m = build(t, &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{hive, tableOf("temper")}}, names, nil)
	assert.Equal(t, "Temper", m.Enums[0].Name)
	assert.Equal(t, "Temper2", m.Entities[1].Name, "the table steps aside")
}

// TestRepeats wants the table of answers to repeated requests, which is no
// resource.
func TestRepeats(t *testing.T) {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []catalog.Table{
		{Name: "hive", Kind: catalog.BaseTable, Columns: []catalog.Column{{Name: "id", Type: catalog.Type{Kind: catalog.Int, Bits: 64}}}, PrimaryKey: &catalog.Key{Columns: []string{"id"}}},
		{Name: "request_key", Kind: catalog.BaseTable},
	}}
	p := project.Default()
	for name, want := range map[string]string{"missing": `names "missing", which is no table`, "Odd Name": "plain name", "request_key": "has no column id"} {
		p.API.Repeats = name
		_, err := Build(c, p, project.NewNames())
		require.ErrorContains(t, err, want)
	}
	for _, column := range []string{"id", "request", "answer", "made_at"} {
		c.Tables[1].Columns = append(c.Tables[1].Columns, catalog.Column{Name: column, Type: catalog.Type{Kind: catalog.Text}})
	}
	p.API.Repeats = "request_key"
	m, err := Build(c, p, project.NewNames())
	require.NoError(t, err)
	require.Len(t, m.Entities, 1)
	assert.Equal(t, "Hive", m.Entities[0].Name)
}
