package sqlquery_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/examples/beekeeping"
	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/read"
	"widegate/internal/sqlquery"
	"widegate/internal/sqltext"
	"widegate/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// source is the demo's schema as scripts of an engine, or with a server, as a
// database there.
func source(t testing.TB, engine string) read.Source {
	t.Helper()
	text, err := beekeeping.Schema(engine)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "schema.sql")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	s := read.Source{Engine: engine, DDL: []string{file}}
	switch engine {
	case dialects.Postgres:
		s.Scratch, s.Trusted = testdb.Postgres(t), true
	case dialects.MySQL:
		s.Scratch, s.Trusted = testdb.MySQL(t), true
	}
	return s
}

// analyze reads one query on the demo's schema.
func analyze(t testing.TB, c *catalog.Catalog, engine sqlquery.Describer, text string) (*sqlquery.Query, error) {
	t.Helper()
	list, faults := sqlquery.Parse(sqlquery.File{Path: "q.sql", Text: text}, c.Engine)
	if len(faults) > 0 {
		return nil, errors.Join(faults...)
	}
	require.Len(t, list, 1)
	return list[0], list[0].Analyze(context.Background(), c, engine)
}

// facts writes what was found, in short.
func facts(q *sqlquery.Query) string {
	var b strings.Builder
	for _, a := range q.Args {
		fmt.Fprintf(&b, ":%s %s", a.Name, kind(a.Column))
		for _, word := range []struct {
			is   bool
			text string
		}{{a.List, "[]"}, {a.Nullable, "?"}, {a.Optional, " optional"}} {
			if word.is {
				b.WriteString(word.text)
			}
		}
		b.WriteString(", ")
	}
	b.WriteString("-> ")
	for i, r := range q.Result {
		if i > 0 {
			b.WriteString(", ")
		}
		switch {
		case r.Table != nil && r.Outer:
			fmt.Fprintf(&b, "%s.*?", r.Alias)
		case r.Table != nil:
			fmt.Fprintf(&b, "%s.*", r.Alias)
		default:
			fmt.Fprintf(&b, "%s %s", r.Column.Name, kind(r.Column))
			if r.Column.Nullable {
				b.WriteString("?")
			}
		}
	}
	return b.String()
}

func kind(c catalog.Column) string { return string(c.Type.Kind) }

// cases mean the same on all engines, which differ in how they sum up.
var cases = []struct{ query, want string }{
	{"-- gate A() -> rows\nselect * from hive", "-> hive.*"},
	{"-- gate A() -> rows\nselect h.* from hive h join apiary on apiary.id = h.apiary_id", "-> h.*"},
	{"-- gate A() -> rows\nselect h.id, q.* from hive h left join queen q on q.hive_id = h.id", "-> id int, q.*?"},
	{"-- gate A() -> rows\nselect a.name, h.id as hive from hive h right join apiary a on h.apiary_id = a.id", "-> name text, hive int?"},
	{"-- gate A() -> row\nselect count(*) as n, min(name) as first from hive", "-> n int, first text?"},
	{"-- gate A() -> rows\nselect apiary_id, count(*) as n, max(name) as last, max(weight_kg) as most from hive group by apiary_id", "-> apiary_id int, n int, last text, most decimal?"},
	{"-- gate A(name) -> rows\nselect id from hive where name = :name", ":name text, -> id int"},
	{"-- gate A(ids) -> rows\nselect id from hive where id in (:ids) and frames not in (1, 2)", ":ids int[], -> id int"},
	{"-- gate A(a, b) -> rows\nselect id from hive where weight_kg between :a and :b", ":a decimal, :b decimal, -> id int"},
	{"-- gate A(least) -> rows\nselect id from hive where :least <= weight_kg", ":least decimal, -> id int"},
	{"-- gate A(n, at) -> rows\nselect id from hive order by id limit :n offset :at", ":n int, :at int, -> id int"},
	{"-- gate A(text) -> rows\nselect id from hive where lower(name) like :text", ":text text, -> id int"},
	{"-- gate A(day) -> rows\nselect id from hive where exists (select 1 from inspection i where i.hive_id = hive.id and i.done_on > :day)", ":day date, -> id int"},
	{"-- gate A(name?, day? date) -> rows\nselect id from hive where 1 = 1\nand name = :name\nand acquired_on > :day", ":name text optional, :day date optional, -> id int"},
	{"-- gate A(id, name, weight) -> count\nupdate hive set name = :name, weight_kg = :weight where id = :id", ":id int, :name text, :weight decimal?, -> "},
	{"-- gate A(id) -> nothing\ndelete from hive where id = :id", ":id int, -> "},
	{"-- gate A(hive, day, kg) -> nothing\ninsert into harvest (hive_id, harvested_on, weight_kg) values (:hive, :day, :kg)", ":hive int, :day date, :kg decimal, -> "},
	{"-- gate A() -> rows\nwith big as (select apiary_id as a, count(*) as n from hive group by apiary_id) select big.n, apiary.name from big join apiary on apiary.id = big.a", "-> n int, name text"},
	{"-- gate A() -> rows\nwith recursive line (id, above) as (select id, split_from_id from hive union all select h.id, h.split_from_id from hive h join line l on l.above = h.id) select id, above from line", "-> id int, above int?"},
	{"-- gate A() -> rows\nselect name, row_number() over (order by id) as n, lag(name) over (order by id) as earlier from hive", "-> name text, n int, earlier text?"},
	{"-- gate A() -> rows\nselect coalesce(weight_kg, 0) as w, coalesce(split_from_id, weight_kg) as x from hive", "-> w decimal, x decimal?"},
	{"-- gate A() -> rows\nselect case when frames > 10 then 'big' else 'small' end as size, case when frames > 10 then name end as big from hive", "-> size text, big text?"},
	{"-- gate A() -> rows\nselect s.name from (select name, apiary_id from hive where is_active) as s", "-> name text"},
	{"-- gate A() -> rows\nselect name from hive union select name from apiary union all select notes from inspection", "-> name text?"},
	{"-- gate A() -> rows\nselect h.name, (select count(*) from inspection i where i.hive_id = h.id) as n, (select max(i.done_on) from inspection i where i.hive_id = h.id) as last from hive h", "-> name text, n int, last date?"},
	{"-- gate A() -> rows\nselect name is null as a, name = 'x' as b, weight_kg > 3 as c, not is_active as d from hive", "-> a bool, b bool, c bool?, d bool"},
	{"-- gate A(s order(name, newest = created_at desc)) -> rows\nselect name from hive order by :s", ":s , -> name text"},
	{"-- gate A() -> row?\nselect 'a:b' as x, id from hive -- where id = :id\nwhere name <> ':no'", "-> x text, id int"},
}

func TestWhatQueriesTakeAndGive(t *testing.T) {
	for _, engine := range []string{dialects.SQLite, dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			s := source(t, engine)
			c, err := read.Read(t.Context(), s)
			require.NoError(t, err)
			require.NoError(t, read.WithDescriber(t.Context(), s, func(d read.Describer) error {
				for _, k := range cases {
					q, err := analyze(t, c, d, k.query)
					if assert.NoError(t, err, k.query) {
						want := k.want
						if engine == dialects.MySQL { // which has no booleans
							want = strings.NewReplacer(" bool", " int").Replace(want)
							assert.Equal(t, want, strings.NewReplacer(" bool", " int").Replace(facts(q)), k.query)
							continue
						}
						assert.Equal(t, want, facts(q), k.query)
					}
				}
				return nil
			}))
		})
	}
}

// TestWithoutAnEngine finds from the schema alone what most queries need.
func TestWithoutAnEngine(t *testing.T) {
	s := source(t, dialects.Postgres)
	s.Scratch = ""
	c, err := read.Read(t.Context(), s)
	require.NoError(t, err)
	for _, k := range cases {
		q, err := analyze(t, c, nil, k.query)
		if assert.NoError(t, err, k.query) {
			assert.Equal(t, k.want, facts(q), k.query)
		}
	}
}

func TestWhatIsWrongHasAPlace(t *testing.T) {
	s := source(t, dialects.SQLite)
	c, err := read.Read(t.Context(), s)
	require.NoError(t, err)
	require.NoError(t, read.WithDescriber(t.Context(), s, func(d read.Describer) error {
		for _, k := range []struct{ query, what, next string }{
			{"-- gate A -> rows\nselect 1", "q.sql:1:1: this line does not head a query", "-- gate BestApiaries"},
			{"select 1", "q.sql:1:1: here is SQL that belongs to no query", "-- gate"},
			{"-- gate A() -> row s\nselect 1", "q.sql:1:1: this line does not head", ""},
			{"-- gate A() -> lines\nselect 1", `q.sql:1:16: query A: there is no result "lines"`, "row?"},
			{"-- gate A() -> rowss\nselect 1", "there is no result", "did you mean rows?"},
			{"-- gate A(b, b) -> rows\nselect :b", "q.sql:1:14: query A: the argument b is there twice", ""},
			{"-- gate A(1) -> rows\nselect 1", `"1" is no argument`, ""},
			{"-- gate A(b) -> rows\nselect 1 as x", "q.sql:1:11: query A: the argument b is not used", "use it as :b"},
			{"-- gate A(nmae) -> rows\nselect id from hive\nwhere name = :name", "q.sql:3:14: query A: there is no argument name", "did you mean :nmae?"},
			{"-- gate A() -> rows\n", "query A has no text", "below the line"},
			{"-- gate A() -> rows\nselect 1 as a; select 2 as b", "q.sql:2:14: query A: here a second statement begins", "two queries"},
			{"-- gate A() -> rows\nselect wieght_kg from hive", "q.sql:2:8: query A: no such column: wieght_kg", "did you mean weight_kg?"},
			{"-- gate A() -> rows\nselect name from hives", "q.sql:2:18: query A: there is no table hives", "did you mean hive?"},
			{"-- gate A() -> rows\nselect x.* from hive h", "q.sql:2:8: query A: nothing here is called x", "rows come from h"},
			{"-- gate A() -> rows\nselect count(*) from hive group by name, id having 1", "this value has no name: count(*)", "AS"},
			{"-- gate A() -> rows\nselect id, frames as id from hive", "two columns are called id", "rename"},
			{"-- gate A() -> rows\ndelete from hive", "it gives no rows", "RETURNING"},
			{"-- gate A(x) -> rows\nselect id from hive where json_extract(name, '$.a') = :x", "q.sql:1:11: query A: the type of x cannot be told", "x date"},
			{"-- gate A(x quux) -> rows\nselect id from hive where json_extract(name, '$.a') = :x", `there is no type "quux"`, "use int"},
			{"-- gate A(o order()) -> rows\nselect id from hive order by :o", "the order o has no keys", ""},
			{"-- gate A(o? order(id)) -> rows\nselect id from hive order by :o", "needs no ?", ""},
			{"-- gate A(n?) -> rows\nselect id from hive\n-- gate if n\nwhere name = :n", "has no end", "-- gate end"},
			{"-- gate A(n) -> rows\nselect id from hive\n-- gate if n\nwhere name = :n\n-- gate end", "there is no argument n that may be left out", "?"},
			{"-- gate A() -> rows\nselect 1 as x\n-- gate end", "here ends a part that did not begin", ""},
			{"-- gate A() -> rows\nselect id frm hive", "q.sql:2:", ""},
			{"-- gate A(o order(id, weight = wieght_kg desc)) -> rows\nselect id from hive order by :o", "q.sql:1:32: query A: the key weight of the order o: no such column: wieght_kg", "did you mean weight_kg?"},
			{"-- gate A(o order(idd)) -> rows\nselect id from hive order by :o", "q.sql:1:19: query A: the key idd of the order o", ""},
			{"-- gate A(n?) -> rows\nselect id from hive order by id\n-- gate if n\nlimit :n\n-- gate end\noffset 3", "q.sql:1:11: query A cannot do without n: ", "keep what"},
		} {
			_, err := analyze(t, c, d, k.query)
			if assert.Error(t, err, k.query) {
				assert.Contains(t, err.Error(), k.what, k.query)
				next := fault.Next(err)
				if joined, ok := err.(interface{ Unwrap() []error }); ok {
					next = fault.Next(joined.Unwrap()[0])
				}
				assert.Contains(t, next, k.next, k.query)
			}
		}
		return nil
	}))
}

func TestPieces(t *testing.T) {
	list, faults := sqlquery.Parse(sqlquery.File{Text: "-- gate A(n?, ids, o order(id, far = id desc)) -> rows\n-- A finds.\n-- More of it.\nselect id from hive where id not in (:ids)\n  and name = :n\n-- gate if n\nand :n <> ''\n-- gate end\norder by :o;\n"}, dialects.Of(dialects.SQLite))
	require.Empty(t, faults)
	assert.Equal(t, "A finds. More of it.", list[0].Doc)
	n := sqlquery.Presence{{0}}
	assert.Equal(t, []sqlquery.Piece{
		{Text: "select id from hive where id ", Arg: -1}, {Arg: 1, Not: true},
		{Text: "\n  and name = ", Arg: -1, When: n}, {Arg: 0, When: n}, {Text: "\nand ", Arg: -1, When: n}, {Arg: 0, When: n}, {Text: " <> ''\n", Arg: -1, When: n},
		{Text: "order by ", Arg: -1}, {Arg: 2},
	}, list[0].Pieces)
}

// TestOptionalParts writes each query as it is for every set of arguments. A
// line is the arguments that are given, and the text.
func TestOptionalParts(t *testing.T) {
	for query, want := range map[string][]string{
		"A(a?, b?)\nselect id from hive where name = :a and frames = :b": {
			": select id from hive", "a: select id from hive where name = ?", "b: select id from hive where frames = ?", "a b: select id from hive where name = ? and frames = ?",
		},
		"A(a?, b?)\nselect id from hive where (name = :a or frames = :b) and id > 1": {
			": select id from hive where id > 1", "a: select id from hive where (name = ?) and id > 1", "b: select id from hive where (frames = ?) and id > 1", "a b: select id from hive where (name = ? or frames = ?) and id > 1",
		},
		"A(a?, b?)\nselect id from hive where frames between :a and :b and id > 1": {
			": select id from hive where id > 1", "a: select id from hive where id > 1", "b: select id from hive where id > 1", "a b: select id from hive where frames between ? and ? and id > 1",
		},
		"A(a?)\nselect id from hive where not (name = :a) order by id": {
			": select id from hive order by id", "a: select id from hive where not (name = ?) order by id",
		},
		"A(a?, b?)\nselect id from hive h where id > 0 and exists (select 1 from inspection i where i.hive_id = h.id and i.notes = :a) or frames = :b": {
			": select id from hive h where id > 0", "a: select id from hive h where id > 0 and exists (select 1 from inspection i where i.hive_id = h.id and i.notes = ?)",
			"b: select id from hive h where id > 0 or frames = ?",
			"a b: select id from hive h where id > 0 and exists (select 1 from inspection i where i.hive_id = h.id and i.notes = ?) or frames = ?",
		},
		"A(a?, b?)\nselect s.id from (select id, frames from hive where name = :a) s where s.frames = :b limit 3": {
			": select s.id from (select id, frames from hive ) s limit 3", "a: select s.id from (select id, frames from hive where name = ?) s limit 3",
			"b: select s.id from (select id, frames from hive ) s where s.frames = ? limit 3", "a b: select s.id from (select id, frames from hive where name = ?) s where s.frames = ? limit 3",
		},
		"A(a?, b?)\nselect id from hive order by id limit :a offset :b": {
			": select id from hive order by id", "a: select id from hive order by id limit ?", "b: select id from hive order by id offset ?", "a b: select id from hive order by id limit ? offset ?",
		},
		"A(a?, b?)\nselect apiary_id, count(*) as n from hive group by apiary_id having count(*) > :a and min(frames) > :b": {
			": select apiary_id, count(*) as n from hive group by apiary_id", "a: select apiary_id, count(*) as n from hive group by apiary_id having count(*) > ?",
			"b: select apiary_id, count(*) as n from hive group by apiary_id having min(frames) > ?", "a b: select apiary_id, count(*) as n from hive group by apiary_id having count(*) > ? and min(frames) > ?",
		},
		"A(a?, b?, c)\nupdate hive set name = :a, notes = 'x', frames = :b where id = :c": {
			"c: update hive set notes = 'x' where id = ?", "a c: update hive set name = ?, notes = 'x' where id = ?", "b c: update hive set notes = 'x', frames = ? where id = ?", "a b c: update hive set name = ?, notes = 'x', frames = ? where id = ?",
		},
		"A(a?)\nselect h.id from hive h join apiary x on x.id = h.apiary_id and x.name = :a where h.id > 0": {
			": select h.id from hive h join apiary x on x.id = h.apiary_id where h.id > 0", "a: select h.id from hive h join apiary x on x.id = h.apiary_id and x.name = ? where h.id > 0",
		},
		"A(a?)\nselect h.id from hive h\n-- gate if a\njoin apiary x on x.id = h.apiary_id and x.name = :a\n-- gate end\nwhere h.id > 0": {
			": select h.id from hive h where h.id > 0", "a: select h.id from hive h join apiary x on x.id = h.apiary_id and x.name = ? where h.id > 0",
		},
		"A(a?)\nselect id from hive where case when frames > 1 and name = :a then true else false end and id > 0": {
			": select id from hive where id > 0", "a: select id from hive where case when frames > 1 and name = ? then true else false end and id > 0",
		},
		"A(a?)\nselect id from hive where id in (:a) and name <> ''": {": select id from hive where name <> ''", "a: select id from hive where id <list> and name <> ''"},
		"A(a?)\nselect distinct on (id) id from (select id from hive where name = :a) s": {
			": select distinct on (id) id from (select id from hive ) s", "a: select distinct on (id) id from (select id from hive where name = ?) s",
		},
		"A(a?)\ninsert into apiary (name) select name from hive where name = :a": {
			": insert into apiary (name) select name from hive", "a: insert into apiary (name) select name from hive where name = ?",
		},
		"A(a?, b)\nselect id from hive order by abs(frames - :a), :b": {"b: select id from hive order by ?", "a b: select id from hive order by abs(frames - ?), ?"},
	} {
		list, faults := sqlquery.Parse(sqlquery.File{Text: "-- gate " + strings.Replace(query, "\n", " -> rows\n", 1)}, dialects.Of(dialects.SQLite))
		require.Empty(t, faults, query)
		q := list[0]
		var got []string
		for set := range 1 << len(q.Args) {
			var given []string
			needed := true
			for i, a := range q.Args {
				if set&(1<<i) != 0 {
					given = append(given, a.Name)
				} else if !a.Optional {
					needed = false
				}
			}
			if !needed {
				continue
			}
			text := ""
			for _, p := range q.Pieces {
				switch {
				case !p.When.Holds(func(arg int) bool { return set&(1<<arg) != 0 }):
				case p.Arg < 0:
					text += p.Text
				case q.Args[p.Arg].List:
					text += "<list>"
				default:
					text += "?"
				}
			}
			got = append(got, strings.TrimSpace(strings.Join(given, " ")+": "+strings.Join(strings.Fields(text), " ")))
		}
		assert.ElementsMatch(t, want, got, query)
	}
}

// TestPartsThatCannotBeLeftOut are refused with their place.
func TestPartsThatCannotBeLeftOut(t *testing.T) {
	for _, c := range []struct{ query, what string }{
		{"A(a?) -> count\ndelete from hive\nwhere name = :a", "q.sql:3:14: query A: without a the statement would change all rows"},
		{"A(a?) -> count\ndelete from hive where name = :a", "would change all rows"},
		{"A(a?) -> count\nupdate hive set frames = 1\n-- gate if a\nwhere name = :a\n-- gate end", "would change all rows"},
		{"A(a?, b?) -> count\nupdate hive set frames = 1 where name = :a or id = :b", "without a and b the statement would change all rows"},
		{"A(a?) -> count\ndelete from hive where id in (select id from hive where name = :a)", "would change all rows"},
		{"A(a?) -> count\nwith old as (select id from hive where name = :a) delete from hive where id in (select id from old)", "would change all rows"},
		{"A(a?, b?) -> count\nupdate hive set name = :a, frames = :b where id = 1", "without a and b the update would set nothing"},
		{"A(a?) -> nothing\ninsert into apiary (name) values (:a)", "what drops out where a is absent cannot be told"},
		{"A(a?) -> rows\nselect id, :a as x from hive", "cannot be told"},
		{"A(a?) -> rows\nselect h.id from hive h join apiary x on x.name = :a", "the join would have no condition"},
		{"A(a?) -> count\ninsert into apiary (id, name) values (1, 'x') on conflict (id) do update set name = 'y' where apiary.name = :a", "would change all rows"},
		{"A() -> count\nselect id from hive", "this one only reads"},
	} {
		_, faults := sqlquery.Parse(sqlquery.File{Path: "q.sql", Text: "-- gate " + c.query}, dialects.Of(dialects.SQLite))
		if assert.Len(t, faults, 1, c.query) {
			assert.Contains(t, faults[0].Error(), c.what, c.query)
			assert.NotEmpty(t, fault.Next(faults[0]))
		}
	}
}

// FuzzQueries reads anything as a file of queries.
func FuzzQueries(f *testing.F) {
	s := source(f, dialects.SQLite)
	c, err := read.Read(context.Background(), s)
	require.NoError(f, err)
	for _, k := range cases {
		f.Add(k.query)
	}
	f.Add("-- gate A(a?) -> rows\nwith x as (select 1) insert into hive (name) select :a from (((x join y on (1) returning *")
	f.Fuzz(func(t *testing.T, text string) {
		for _, d := range []*sqltext.Dialect{dialects.Of(dialects.SQLite), dialects.Of(dialects.Postgres), dialects.Of(dialects.MySQL)} {
			list, faults := sqlquery.Parse(sqlquery.File{Path: "q.sql", Text: text}, d)
			if len(faults) > 0 {
				continue
			}
			for _, q := range list {
				if q.Analyze(context.Background(), c, nil) == nil {
					_ = q.Rewrite(d, func(catalog.Column) bool { return true })
				}
			}
		}
	})
}
