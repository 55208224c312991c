package read

import (
	"context"
	"fmt"
	"time"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
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
	e, err := s.engine()
	if err != nil {
		return nil, err
	}
	db, err := e.Open(ctx, s.URL)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	list := make([]Match, len(pairs))
	for i, p := range pairs {
		if s.Progress != nil {
			s.Progress(p.Table.FullName() + "." + p.Column)
		}
		list[i] = sample(ctx, e.Dialect(), db, p)
	}
	return list, ctx.Err()
}

func sample(ctx context.Context, d *sqltext.Dialect, db Session, p Pair) Match {
	ctx, cancel := context.WithTimeout(ctx, sampledTime)
	defer cancel()
	column, target := d.Quoted(p.Column), d.Quoted(p.Target)
	values, matched, err := db.Counts(ctx, fmt.Sprintf(`SELECT count(*), count(k.%[1]s) FROM (
		SELECT DISTINCT v FROM (SELECT %[2]s AS v FROM %[3]s WHERE %[2]s IS NOT NULL LIMIT %[4]d) a) s
		LEFT JOIN %[5]s k ON k.%[1]s = s.v`,
		target, column, d.Full(p.Table.Schema, p.Table.Name), sampledRows, d.Full(p.To.Schema, p.To.Name)))
	return Match{Values: int(values), Matched: int(matched), Fault: err}
}
