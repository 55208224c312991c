package read

import (
	"context"
	"fmt"
	"strings"
	"time"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/engine/mysql"
	"widegate/internal/engine/postgres"
	"widegate/internal/engine/sqlite"
)

// Pair is a column and the key that it may refer to.
type Pair struct {
	Table  *catalog.Table
	Column string
	To     *catalog.Table
	Target string
}

// Match says how far the data speak for a reference.
type Match struct {
	Values  int // different values looked at
	Matched int // of them, found among the keys
	Fault   error
}

// The bounds of what is looked at for one pair.
const (
	sampledRows = 5000
	sampledTime = 2 * time.Second
)

// Matches looks for each pair at the values of some thousand rows, and at how
// many of them are keys of the other table. It changes nothing, and gives up on
// a pair after two seconds. It tells s.Progress what it looks at.
func Matches(ctx context.Context, s Source, pairs []Pair) ([]Match, error) {
	if s.URL == "" {
		return nil, fault.New("give the URL of a database that has data", "scripts and snapshots have no data to check references against")
	}
	db, err := openData(ctx, s)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	list := make([]Match, len(pairs))
	for i, p := range pairs {
		if s.Progress != nil {
			s.Progress(p.Table.FullName() + "." + p.Column)
		}
		list[i] = sample(ctx, s.Engine, db, p)
	}
	return list, ctx.Err()
}

// counter runs a query of one row of two numbers.
type counter interface {
	Counts(ctx context.Context, query string) (first, second int64, err error)
	Close()
}

func openData(ctx context.Context, s Source) (counter, error) {
	switch s.Engine {
	case catalog.Postgres:
		return postgres.Open(ctx, s.URL)
	case catalog.MySQL:
		return mysql.Open(ctx, s.URL)
	}
	return sqlite.Open(s.Path())
}

func sample(ctx context.Context, engine string, db counter, p Pair) Match {
	ctx, cancel := context.WithTimeout(ctx, sampledTime)
	defer cancel()
	column, target := quoteName(engine, p.Column), quoteName(engine, p.Target)
	values, matched, err := db.Counts(ctx, fmt.Sprintf(`SELECT count(*), count(k.%[1]s) FROM (
		SELECT DISTINCT v FROM (SELECT %[2]s AS v FROM %[3]s WHERE %[2]s IS NOT NULL LIMIT %[4]d) a) s
		LEFT JOIN %[5]s k ON k.%[1]s = s.v`,
		target, column, tableName(engine, p.Table), sampledRows, tableName(engine, p.To)))
	return Match{Values: int(values), Matched: int(matched), Fault: err}
}

func quoteName(engine, name string) string {
	mark := `"`
	if engine == catalog.MySQL {
		mark = "`"
	}
	return mark + strings.ReplaceAll(name, mark, mark+mark) + mark
}

func tableName(engine string, t *catalog.Table) string {
	if t.Schema == "" {
		return quoteName(engine, t.Name)
	}
	return quoteName(engine, t.Schema) + "." + quoteName(engine, t.Name)
}
