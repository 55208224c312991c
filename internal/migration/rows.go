package migration

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// proofRows is how many rows a table of a proof gets.
const proofRows = 5

// filler puts generated rows into the tables of a database.
type filler struct {
	ways   Engine
	sql    *sqltext.Dialect
	schema *catalog.Catalog
	exec   func(ctx context.Context, statement string) error
	empty  []string // tables that took no row
}

// fill goes through the tables so that what a row refers to is there. A row that
// a check refuses is tried with other values.
func (f *filler) fill(ctx context.Context) {
	var tables []*catalog.Table
	for i := range f.schema.Tables {
		if t := &f.schema.Tables[i]; !t.IsView() && !slices.Contains(t.Options, "foreign") && !slices.Contains(t.Options, "virtual") {
			tables = append(tables, t)
		}
	}
	for _, t := range byReferences(tables) {
		taken := 0
		var reason error
		for n := 1; n <= proofRows; n++ {
			for try := range tries {
				if reason = f.exec(ctx, f.insert(t, n, try)); reason == nil {
					taken++
					break
				}
			}
		}
		f.goOn(ctx, t)
		if taken == 0 {
			f.empty = append(f.empty, fmt.Sprintf("%s: %v", t.FullName(), reason))
		}
	}
}

// goOn has the sequences of a table go on behind the rows that were made.
func (f *filler) goOn(ctx context.Context, t *catalog.Table) {
	for i := range t.Columns {
		if statement := f.ways.GoOn(t, &t.Columns[i]); statement != "" {
			_ = f.exec(ctx, statement) // numbers that are taken are no fault of the script
		}
	}
}

// tries is how many rows are made up before a table is left alone.
const tries = 5

func (f *filler) insert(t *catalog.Table, n, try int) string {
	var names, values []string
	for i := range t.Columns {
		c := &t.Columns[i]
		if c.Generated != "" || c.Default != nil && c.Default.Kind == catalog.Identity && c.Default.Always {
			continue
		}
		names = append(names, f.sql.Ident(c.Name))
		values = append(values, f.value(t, i, n, try))
	}
	table := f.sql.Ident(t.Name)
	if t.Schema != "" {
		table = f.sql.Ident(t.Schema) + "." + table
	}
	return fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", table, strings.Join(names, ", "), strings.Join(values, ", "))
}

// value is one for the nth row. A later try gives smaller numbers and no values
// where there need not be one.
func (f *filler) value(t *catalog.Table, i, n, try int) string {
	c := &t.Columns[i]
	refers := slices.ContainsFunc(t.References, func(r catalog.Reference) bool { return slices.Contains(r.Columns, c.Name) })
	if c.Nullable && (try >= 3 || refers && n == 1 || !refers && n == 4 && try == 0) {
		return "NULL"
	}
	if refers {
		return f.constant(c.Type, i, n, 0)
	}
	if list := allowed(t, c); len(list) > 0 && try == 0 {
		return list[n%len(list)]
	}
	return f.constant(c.Type, i, n, try)
}

var quotedText = regexp.MustCompile(`'(?:[^']|'')*'`)

// allowed are the texts that a check names for a column.
func allowed(t *catalog.Table, c *catalog.Column) []string {
	for _, check := range t.Checks {
		if c.Type.Kind == catalog.Text && Mentions(check.Expr, c.Name) {
			if list := quotedText.FindAllString(check.Expr, -1); len(list) > 0 {
				return list
			}
		}
	}
	return nil
}

// constant is a value of a type. Dates are later in later columns, or earlier
// where that is refused.
func (f *filler) constant(k catalog.Type, i, n, try int) string {
	if try == 2 && (k.Kind == catalog.Int || k.Kind == catalog.Float || k.Kind == catalog.Decimal) {
		n = 0 // which a check may want
	}
	month := 1 + i%12
	if try > 0 {
		month = 12 - i%12
	}
	if own := f.ways.Sample(k, n); own != "" {
		return own
	}
	switch k.Kind {
	case catalog.Int:
		return fmt.Sprint(n)
	case catalog.Float, catalog.Decimal, catalog.Money:
		if k.Kind == catalog.Decimal && k.Precision > 0 && k.Precision == k.Scale || try == 1 {
			return fmt.Sprintf("0.%d", n)
		}
		return fmt.Sprint(n)
	case catalog.Bool:
		return fmt.Sprint(n % 2)
	case catalog.Date:
		return fmt.Sprintf("'2026-%02d-%02d'", month, n)
	case catalog.Time:
		return fmt.Sprintf("'09:%02d:00'", n)
	case catalog.Timestamp, catalog.TimestampTZ:
		return fmt.Sprintf("'2026-%02d-%02d 09:00:00'", month, n)
	case catalog.UUID:
		return fmt.Sprintf("'00000000-0000-4000-8000-%012d'", n)
	case catalog.JSON:
		return fmt.Sprintf(`'{"n": %d}'`, n)
	case catalog.EnumKind, catalog.Set:
		return f.label(k, n)
	case catalog.Interval:
		return fmt.Sprintf("'%d days'", n)
	case catalog.Network:
		return fmt.Sprintf("'10.0.0.%d'", n)
	case catalog.Bytes:
		return fmt.Sprintf("X'%02d'", n)
	case catalog.Array:
		return "'{}'"
	case catalog.Range:
		return "'empty'"
	}
	return f.sql.Literal(f.text(k, n, try))
}

func (f *filler) label(k catalog.Type, n int) string {
	labels := k.Labels
	if e, ok := f.schema.Enum(k.Enum); ok {
		labels = e.Labels
	}
	if len(labels) == 0 {
		return "NULL"
	}
	return f.sql.Literal(labels[n%len(labels)])
}

// text is some words, as long as fit.
func (f *filler) text(k catalog.Type, n, try int) string {
	text := fmt.Sprintf("%d bees in the größte hive", n)
	if try == 1 {
		text = fmt.Sprintf("bees%d@example.org", n)
	}
	if runes := []rune(text); k.Size > 0 && len(runes) > k.Size {
		return string(runes[:k.Size])
	}
	return text
}
