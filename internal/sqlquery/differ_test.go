package sqlquery_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/examples/beekeeping"
	"widegate/gate"
	gatemysql "widegate/gate/mysql"
	gatepostgres "widegate/gate/postgres"
	gatesqlite "widegate/gate/sqlite"
	"widegate/internal/catalog"
	"widegate/internal/read"
	"widegate/internal/testdb"
)

// asker makes random queries of the demo's tables.
type asker struct {
	r      *rand.Rand
	engine string
}

func (a asker) one(list ...string) string { return list[a.r.IntN(len(list))] }

// only are the texts among a list that an engine has; they begin with its name
// and a colon where it alone does.
func (a asker) only(list ...string) string {
	for {
		text := a.one(list...)
		engine, rest, bound := strings.Cut(text, "§")
		if !bound {
			return text
		}
		if engine == a.engine {
			return rest
		}
	}
}

func (a asker) number(depth int) string {
	if depth == 0 {
		return a.one("h.frames", "h.id", "h.split_from_id", "i.id", "i.hive_id", "7", "h.weight_kg", "i.varroa_count", "a.id")
	}
	n, m := a.number(depth-1), a.number(depth-1)
	return a.only(
		n, "("+n+" + "+m+")", "("+n+" - "+m+")", "("+n+" * 2)", "("+n+" / nullif("+m+", 0))", "("+n+" % 3)", "sqlite§("+n+" / "+m+")", "mysql§("+n+" / "+m+")", "mysql§("+n+" div "+m+")",
		"coalesce("+n+", "+m+")", "coalesce("+n+", 0)", "nullif("+n+", "+m+")", "abs("+n+")", "round("+n+")", "length("+a.text(depth-1)+")", "-"+n,
		"case when "+a.truth(depth-1)+" then "+n+" end", "case when "+a.truth(depth-1)+" then "+n+" else "+m+" end", "case "+a.one("h.frames", "h.split_from_id")+" when 3 then "+n+" else "+m+" end",
		"postgres§greatest("+n+", "+m+")", "mysql§greatest("+n+", "+m+")", "sqlite§max("+n+", "+m+")", "sqlite§instr("+a.text(depth-1)+", "+a.text(depth-1)+")", "mysql§instr("+a.text(depth-1)+", "+a.text(depth-1)+")",
		"postgres§position("+a.text(depth-1)+" in "+a.text(depth-1)+")", "(select count(*) from treatment t where t.hive_id = h.id)", "(select max(t.id) from treatment t where t.hive_id = h.id)",
		"cast("+n+" as "+map[string]string{"mysql": "signed", "postgres": "bigint", "sqlite": "integer"}[a.engine]+")", "sqlite§unixepoch(h.created_at)", "sqlite§iif("+a.truth(depth-1)+", "+n+", "+m+")", "mysql§if("+a.truth(depth-1)+", "+n+", "+m+")", "mysql§datediff(now(), h.acquired_on)",
	)
}

func (a asker) text(depth int) string {
	if depth == 0 {
		return a.one("h.name", "i.notes", "'x'", "a.name", "h.temperament")
	}
	t, u := a.text(depth-1), a.text(depth-1)
	if a.engine == "postgres" { // where enums are no texts
		t, u = "cast("+t+" as text)", "cast("+u+" as text)"
	}
	return a.only(t, "lower("+t+")", "upper("+t+")", "postgres§("+t+" || "+u+")", "sqlite§("+t+" || "+u+")", "concat("+t+", "+u+")", "replace("+t+", 'a', "+u+")", "substr("+t+", 1, 2)", "trim("+t+")",
		"coalesce("+t+", "+u+")", "coalesce("+t+", 'none')", "nullif("+t+", "+u+")", "case when "+a.truth(depth-1)+" then "+t+" else "+u+" end", "case when "+a.truth(depth-1)+" then "+t+" end",
		"postgres§to_char(h.created_at, 'YYYY')", "mysql§date_format(h.acquired_on, '%Y')", "sqlite§strftime('%Y', h.acquired_on)", "sqlite§typeof("+t+")", "sqlite§hex("+t+")", "sqlite§printf('%s', "+t+")", "sqlite§ifnull("+t+", "+u+")", "mysql§ifnull("+t+", "+u+")",
		"postgres§split_part("+t+", 'a', 1)", "postgres§format('%s', "+t+")", "mysql§left("+t+", 1)", "mysql§concat_ws(',', "+t+", "+u+")", "(select min(t.substance_id || '') from treatment t where t.hive_id = h.id)")
}

func (a asker) truth(depth int) string {
	n, m, t := a.number(max(0, depth-1)), a.number(max(0, depth-1)), a.text(0)
	if a.engine == "postgres" {
		t = "cast(" + t + " as text)"
	}
	if depth == 0 {
		return a.one("h.is_active", n+" > "+m, t+" is null", t+" = 'x'")
	}
	x, y := a.truth(depth-1), a.truth(depth-1)
	return a.one("("+x+" and "+y+")", "("+x+" or "+y+")", "not ("+x+")", n+" < "+m, n+" is not null", t+" like 'a%'", n+" in (1, 2, "+m+")", n+" in (select t.hive_id from treatment t)", n+" not in (select x.split_from_id from hive x)",
		n+" between "+m+" and 9", "exists (select 1 from treatment t where t.hive_id = h.id)", "("+x+") is true", n+" <> "+m)
}

func (a asker) aggregate(depth int) string {
	n, t := a.number(depth), a.text(depth)
	if a.engine == "postgres" {
		t = "cast(" + t + " as text)"
	}
	return a.only("count(*)", "count("+n+")", "sum("+n+")", "avg("+n+")", "min("+n+")", "max("+t+")", "count(distinct "+t+")", "sqlite§total("+n+")", "sqlite§group_concat("+t+")", "mysql§group_concat("+t+" order by h.id separator ';')",
		"postgres§string_agg("+t+", ',' order by h.id)", "postgres§sum("+n+") filter (where h.frames > 10)", "sqlite§count(*) filter (where h.frames > 99)", "sqlite§max("+n+") filter (where h.frames > 99)",
		"postgres§percentile_cont(0.5) within group (order by h.frames)", "sqlite§json_group_array("+t+")", "coalesce(sum("+n+"), 0)", "postgres§bool_or("+a.truth(0)+")", "mysql§bit_or(h.frames)", "postgres§array_agg(h.id)")
}

func (a asker) window() string {
	over := a.one("(order by h.id)", "(partition by h.apiary_id order by h.id)", "(partition by h.apiary_id)", "(order by h.id rows between 2 preceding and 1 preceding)", "()")
	return a.one("row_number() over "+a.one("(order by h.id)", "(partition by h.apiary_id order by h.id)"), "sum(h.frames) over "+over, "max(h.split_from_id) over "+over, "count(*) over "+over, "lag(h.frames) over (order by h.id)", "min(h.name) over "+over, "avg(h.frames) over "+over)
}

const joined = " from hive h %s join inspection i on i.hive_id = h.id and i.id > 40 %s join apiary a on a.id = h.apiary_id"

func (a asker) query() string {
	from := fmt.Sprintf(joined, a.one("left", "inner"), a.one("left", "inner"))
	var list []string
	value := func() string {
		switch a.r.IntN(3) {
		case 0:
			return a.text(1 + a.r.IntN(2))
		case 1:
			return a.truth(1 + a.r.IntN(2))
		}
		return a.number(1 + a.r.IntN(2))
	}
	after := ""
	n := 1 + a.r.IntN(4)
	switch a.r.IntN(5) {
	case 0: // sums up all
		for range n {
			list = append(list, a.aggregate(1))
		}
		after = a.one("", " where h.id < 0", " where h.frames > 5")
	case 1: // groups
		list = append(list, "h.apiary_id")
		for range n {
			list = append(list, a.aggregate(1))
		}
		after = " group by h.apiary_id"
	case 2:
		for range n {
			list = append(list, a.window())
		}
	case 3: // of a query
		for i := range list {
			list[i] = value()
		}
		inner := fmt.Sprintf("select h.id as x, %s as y%s", value(), from)
		return "select s.x, s.y, " + a.one("(s.x + 1)", "coalesce(s.x, 2)") + " as z from (" + inner + ") s " + a.one("left", "inner") + " join queen q on q.hive_id = s.x"
	default:
		for range n {
			list = append(list, value())
		}
		after = a.one("", " where h.frames > 3", " order by h.id limit 20")
	}
	for i := range list {
		list[i] += fmt.Sprintf(" as c%d", i)
	}
	return "select " + strings.Join(list, ", ") + from + after
}

// fieldFor is a field of the type that generated code has for a kind.
func fieldFor(c catalog.Column) any {
	switch c.Type.Kind {
	case catalog.Int:
		return new(gate.Maybe[int64])
	case catalog.Decimal:
		return new(gate.Maybe[gate.Decimal])
	case catalog.Float:
		return new(gate.Maybe[float64])
	case catalog.Bool:
		return new(gate.Maybe[bool])
	case catalog.Date:
		return new(gate.Maybe[gate.Date])
	case catalog.Timestamp, catalog.TimestampTZ:
		return new(gate.Maybe[time.Time])
	case catalog.JSON:
		return new(gate.Maybe[gate.JSON])
	case catalog.Array:
		return new(gate.Maybe[gate.List[int64]])
	}
	return new(gate.Maybe[string])
}

// TestBackslashes runs a query with backslashes as the store does: they mean what
// they mean to the server's own programs.
func TestBackslashes(t *testing.T) {
	url := testdb.MySQL(t)
	db, err := gatemysql.Open(t.Context(), url)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, beekeeping.CreateTables(t.Context(), db))
	s := read.Source{Engine: dialects.MySQL, URL: url}
	c, err := read.Read(t.Context(), s)
	require.NoError(t, err)
	require.NoError(t, read.WithDescriber(t.Context(), s, func(d read.Describer) error {
		q, err := analyze(t, c, d, `-- gate A(name text) -> rows
select 'it\'s; :no' as a, 'a\\b' as b, '50%' like '50\%' as c, 'tab\t' as d, "say \"x\"" as e, :name as f from (select 1 as one) x where :name <> 'it''s \\'`)
		require.NoError(t, err)
		sql := gate.NewSQL(db)
		for _, p := range q.Pieces {
			if p.Arg < 0 {
				sql.Text(p.Text)
			} else {
				sql.Arg("bee")
			}
		}
		got, err := gate.ReadRow(t.Context(), db, sql, func(row *[6]string, to []any) []any {
			return append(to, &row[0], &row[1], &row[2], &row[3], &row[4], &row[5])
		})
		require.NoError(t, err)
		assert.Equal(t, [6]string{"it's; :no", `a\b`, "1", "tab\t", `say "x"`, "bee"}, *got)
		return nil
	}))
}

// TestQueriesGiveWhatTheyAreSaidTo runs random queries on data with nulls, and
// compares what comes with the types that were found.
func TestQueriesGiveWhatTheyAreSaidTo(t *testing.T) {
	for engine, open := range map[string]func(ctx context.Context) (gate.DB, string, error){
		dialects.SQLite: func(ctx context.Context) (gate.DB, string, error) {
			path := filepath.Join(t.TempDir(), "bees.db")
			if err := os.WriteFile(path, nil, 0o644); err != nil {
				return nil, "", err
			}
			db, err := gatesqlite.Open(ctx, path)
			return db, "sqlite:" + path, err
		},
		dialects.Postgres: func(ctx context.Context) (gate.DB, string, error) {
			url := testdb.Postgres(t)
			db, err := gatepostgres.Open(ctx, url)
			return db, url, err
		},
		dialects.MySQL: func(ctx context.Context) (gate.DB, string, error) {
			url := testdb.MySQL(t)
			db, err := gatemysql.Open(ctx, url)
			return db, url, err
		},
	} {
		t.Run(engine, func(t *testing.T) {
			ctx := t.Context()
			db, url, err := open(ctx)
			require.NoError(t, err)
			defer db.Close()
			require.NoError(t, beekeeping.CreateTables(ctx, db))
			require.NoError(t, beekeeping.Fill(ctx, db, 60))
			s := read.Source{Engine: engine, URL: url}
			c, err := read.Read(ctx, s)
			require.NoError(t, err)
			a := asker{rand.New(rand.NewPCG(7, 19)), engine}
			understood, refused, nulls := 0, map[string]int{}, 0
			asked := 200
			if os.Getenv("WIDEGATE_LONG") != "" {
				asked = 5000
			}
			require.NoError(t, read.WithDescriber(ctx, s, func(d read.Describer) error {
				for tries := 0; understood < asked && tries < 15*asked; tries++ {
					text := a.query()
					rows, err := db.Query(ctx, text, nil)
					if err != nil {
						continue // this engine has no such query
					}
					rows.Close()
					q, err := analyze(t, c, d, "-- gate A() -> rows\n"+text)
					if err != nil {
						refused[err.Error()[strings.Index(err.Error(), "query A"):]]++
						continue
					}
					understood++
					rows, err = db.Query(ctx, text, nil)
					require.NoError(t, err)
					fields := make([]any, len(q.Result))
					for i, r := range q.Result {
						fields[i] = fieldFor(r.Column)
					}
					for rows.Next() {
						if err := rows.Scan(fields); !assert.NoError(t, err, "%s\n%s", text, facts(q)) {
							break
						}
						for i, r := range q.Result {
							if gate.IsNull(fields[i]) {
								nulls++
								assert.True(t, r.Column.Nullable, "%s is null: %s\n%s", r.Column.Name, text, facts(q))
							}
						}
					}
					if err := rows.Err(); err != nil {
						continue // such as a division by zero
					}
					rows.Close()
				}
				return nil
			}))
			assert.GreaterOrEqual(t, understood, 200)
			t.Logf("%d queries, %d nulls; not understood: %v", understood, nulls, refused)
		})
	}
}
