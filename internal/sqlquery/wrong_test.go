package sqlquery_test

import (
	"fmt"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/fault"
	"widegate/internal/read"
)

// wrongQueries have a ^ where the error is.
var wrongQueries = []string{
	"A() -> rows\nselect ^wieght_kg from hive",
	"A() -> rows\nselect id,\n  ^h.nmae from hive h",
	"A() -> rows\nselect id from hive\nwhere ^frame > 3",
	"A() -> rows\nselect id from hive h where ^h.frame > 3",
	"A() -> rows\nselect id from hive order by ^nam",
	"A() -> rows\nselect id from hive group by id, ^nam",
	"A() -> rows\nselect id from ^hives",
	"A() -> rows\nselect h.id from hive h\njoin ^apiry a on a.id = h.apiary_id",
	"A() -> rows\nselect h.id from hive h join apiary a on a.id = ^h.apiry_id",
	"A() -> rows\nselect ^x.* from hive h",
	"A() -> rows\nselect ^x.id from hive h",
	"A() -> rows\nselect id from hive where ^lowr(name) = 'a'",
	"A() -> rows\nselect ^frames + 1 from hive",
	"A() -> rows\nselect id, ^frames as id from hive",
	"A() -> rows\nselect h.id from hive h join apiary a on a.id = h.apiary_id where h.name in (select ^apiary from inspection)",
	"A() -> rows\nselect id from hive where exists (select 1 from ^inspections)",
	"A() -> rows\nwith x as (select ^nope from hive) select * from x",
	"A() -> rows\nselect id from hive union select ^nope from apiary",
	"A() -> rows\nselect id from hive where ^(frames > 3",
	"A() -> rows\nselect id from hive where frames > 3^)",
	"A() -> rows\nselect id from hive^; select 1",
	"A() -> rows\n^delete from hive",
	"A() -> count\n^select id from hive",
	"A(id) -> count\nupdate hive set ^nmae = 'x' where id = :id",
	"A(id) -> count\nupdate ^hves set name = 'x' where id = :id",
	"A(id) -> count\ndelete from hive where ^idd = :id",
	"A(id) -> count\ndelete from ^hve where id = :id",
	"A(n) -> nothing\ninsert into apiary (^nmae) values (:n)",
	"A(n) -> nothing\ninsert into ^apiry (name) values (:n)",
	"A(^n) -> rows\nselect id from hive",
	"A(n, ^n) -> rows\nselect id from hive where name = :n",
	"A(n) -> rows\nselect id from hive where name = ^:m",
	"A(^x quux) -> rows\nselect id from hive where name = :x",
	"A(s order(^nam)) -> rows\nselect id from hive order by :s",
	"A(s order(name, far = ^idd desc)) -> rows\nselect id from hive order by :s",
	"A(n?) -> count\ndelete from hive where name = ^:n",
	"A(n?) -> count\nupdate hive set name = ^:n where id = 1",
	"A(n?) -> nothing\ninsert into apiary (name) values (^:n)",
	"A(n?) -> rows\nselect id, ^:n as x from hive",
	"A(n?) -> rows\nselect h.id from hive h join apiary a on a.name = ^:n",
	"A() -> ^lines\nselect id from hive",
	"A() -> rows\nselect id from hive\n^-- gate end",
	"A(n) -> rows\nselect id from hive\n^-- gate if n\nwhere name = :n\n-- gate end",
	"A() -> rows\nselect id from hive wher ^frames > 3",
	"A() -> rows\nselect id from hive where name like^",
}

// at reports whether an error is said to be where the ^ is.
func at(t *testing.T, query, got string) bool {
	t.Helper()
	before, _, _ := strings.Cut("-- gate "+query, "^")
	line := strings.Count(before, "\n") + 1
	column := len(before) - strings.LastIndexByte(before, '\n')
	return strings.HasPrefix(got, fmt.Sprintf("q.sql:%d:%d: ", line, column))
}

// TestWrongQueriesHavePlaces analyzes wrong queries on each engine.
func TestWrongQueriesHavePlaces(t *testing.T) {
	for _, engine := range []string{dialects.SQLite, dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			s := source(t, engine)
			c, err := read.Read(t.Context(), s)
			require.NoError(t, err)
			require.NoError(t, read.WithDescriber(t.Context(), s, func(d read.Describer) error {
				for _, query := range wrongQueries {
					_, err := analyze(t, c, d, "-- gate "+strings.Replace(query, "^", "", 1))
					if assert.Error(t, err, query) {
						assert.True(t, at(t, query, err.Error()), "%s\n%s", query, err)
						next := fault.Next(err)
						if joined, ok := err.(interface{ Unwrap() []error }); ok {
							next = fault.Next(joined.Unwrap()[0])
						}
						assert.NotEmpty(t, next, query)
					}
				}
				return nil
			}))
		})
	}
}
