package read

import (
	"context"
	"fmt"

	"widegate/internal/catalog"
)

// Data compares values of two databases.
type Data struct {
	sources [2]Source
	open    [2]Session
	failed  bool
}

// NewData compares two sources, which are live. Nothing is opened before it is
// needed.
func NewData(old, now Source) *Data { return &Data{sources: [2]Source{old, now}} }

// Close closes what was opened.
func (d *Data) Close() {
	for _, s := range d.open {
		if s != nil {
			s.Close()
		}
	}
}

// sampleRows is how many rows of a table are looked at.
const sampleRows = 500

// Common says from 0 to 1 how many of the values that are looked at two columns
// have in common. It is false where that cannot be known: the tables are empty, or
// may not be read.
func (d *Data) Common(ctx context.Context, old, now *catalog.Table, was, is string) (float64, bool) {
	a, b := d.sample(ctx, 0, old, was), d.sample(ctx, 1, now, is)
	if len(a) == 0 || len(b) == 0 {
		return 0, false
	}
	if len(b) < len(a) {
		a, b = b, a
	}
	common := 0
	for value := range a {
		if b[value] {
			common++
		}
	}
	return float64(common) / float64(len(a)), true
}

func (d *Data) sample(ctx context.Context, side int, t *catalog.Table, column string) map[string]bool {
	s := d.sources[side]
	if d.failed {
		return nil
	}
	e, err := s.engine()
	if err != nil {
		return nil
	}
	if d.open[side] == nil {
		opened, err := e.Open(ctx, s.URL)
		if err != nil {
			d.failed = true
			return nil
		}
		d.open[side] = opened
	}
	dialect := e.Dialect()
	values, err := d.open[side].Names(ctx, fmt.Sprintf("SELECT DISTINCT CAST(v AS %s) FROM (SELECT %s AS v FROM %s WHERE %[2]s IS NOT NULL LIMIT %[4]d) AS s", dialect.TextType, dialect.Quoted(column), dialect.Full(t.Schema, t.Name), sampleRows))
	if err != nil {
		return nil // a right that is missing leaves it to the names
	}
	set := map[string]bool{}
	for _, v := range values {
		set[v] = true
	}
	return set
}
