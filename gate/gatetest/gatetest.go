// Package gatetest makes valid random rows, and tries what a table offers on
// them. It is for tests of a generated store:
//
//	hive := gatetest.Random(r, store.Hives)             // not stored
//	hive := gatetest.Stored(t, ctx, tx, r, store.Hives) // with all that it refers to
//	gatetest.Table(t, db, store.Hives)                  // stored, read, changed and removed
//
// A row is valid as far as the schema says it of single columns. Rules on
// several columns are met by chance or by Fix.
package gatetest

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"widegate/gate"
)

// tries is how many random rows are tried where a rule of the database refuses
// some.
const tries = 30

// Fix makes a random row obey rules that the schema states elsewhere. A test
// that stores rows of E can be given any number.
type Fix[E any] func(row E)

// Random makes a row with valid values. References are left empty.
func Random[E any](r *rand.Rand, table gate.Described[E]) E {
	info := gate.InfoOf(gate.QueryOf(table))
	row := info.New()
	fill(r, info, row)
	return row.(E)
}

// Stored stores a random row, and before it the rows that it refers to.
func Stored[E any](t testing.TB, ctx context.Context, tx gate.DB, r *rand.Rand, table gate.Described[E], fixes ...Fix[E]) E {
	t.Helper()
	row, err := store(ctx, tx, r, gate.InfoOf(gate.QueryOf(table)), 0, func(row any) {
		for _, fix := range fixes {
			fix(row.(E))
		}
	})
	switch {
	case isRule(err) || errors.Is(err, errEndless):
		t.Skipf("no valid row was found by chance; give gatetest a Fix: %v", err)
	case err != nil:
		t.Fatalf("no row can be stored: %v; is the database at the schema that the code was written for?", err)
	}
	return row.(E)
}

// errBack takes a transaction back.
var errBack = errors.New("taken back")

// Table stores a random row, reads it, changes each of its columns and removes
// it, in a transaction that is taken back.
func Table[E, K any](t *testing.T, db gate.DB, table gate.Keyed[E, K], fixes ...Fix[E]) {
	t.Helper()
	ctx := t.Context()
	info := gate.InfoOf(gate.QueryOf[E](table))
	r := rand.New(rand.NewPCG(1, uint64(len(info.Name))))
	err := gate.InTx(ctx, db, func(tx gate.DB) error {
		row := Stored[E](t, ctx, tx, r, table, fixes...)
		read := func() (E, error) { return gate.QueryOf[E](table).Where(gate.SameKey(info, row)).One(ctx, tx) }
		found, err := read()
		if err != nil {
			t.Fatalf("reading what was stored: %v", err)
		}
		if differ := differing(info, row, found); differ != "" {
			t.Errorf("what is read differs from what Insert returned in %s", differ)
		}
		for i := range info.Columns {
			change(t, ctx, tx, r, info, row, i, fixes)
		}
		if found, err = read(); err != nil || differing(info, row, found) != "" {
			t.Errorf("what is read differs from what Update returned: %v %s", err, differing(info, row, found))
		}
		if n, err := gate.QueryOf[E](table).Where(gate.SameKey(info, row)).Delete(ctx, tx); err != nil || n != 1 {
			t.Errorf("removing: %d rows, %v", n, err)
		}
		if _, err := read(); !errors.Is(err, gate.ErrNotFound) {
			t.Errorf("the row is still there: %v", err)
		}
		return errBack
	})
	if !errors.Is(err, errBack) {
		t.Fatal(err)
	}
}

// change stores another value in one column. One that a rule refuses stays as
// it was.
func change[E any](t *testing.T, ctx context.Context, tx gate.DB, r *rand.Rand, info *gate.Info, row E, i int, fixes []Fix[E]) {
	t.Helper()
	c := &info.Columns[i]
	if c.Is(gate.Key|gate.Auto|gate.Generated|gate.Version|gate.CreatedAt|gate.UpdatedAt|gate.DeletedAt) || refers(info, i) {
		return
	}
	var refused error
	for range tries {
		field := info.Fields(nil, row)[i]
		before := string(gate.AppendText(nil, field))
		wasNull := gate.IsNull(field)
		err := gate.InTx(ctx, tx, func(inner gate.DB) error {
			if err := gate.ParseText(field, value(r, c)); err != nil {
				return err
			}
			for _, fix := range fixes {
				fix(row)
			}
			return info.Update(ctx, inner, row, []int{i})
		})
		if err == nil {
			return
		}
		if refused = err; !isRule(err) {
			t.Errorf("storing %s: %v", c.Name, err)
			return
		}
		if wasNull {
			err = gate.SetNull(field)
		} else {
			err = gate.ParseText(field, before)
		}
		if err != nil {
			t.Fatalf("column %s: %v", c.Name, err)
		}
	}
	t.Logf("no other value of %s was found by chance: %v", c.Name, refused)
}

func isRule(err error) bool {
	var broken *gate.ConstraintError
	return errors.As(err, &broken)
}

// errEndless is for references that lead back to their table.
var errEndless = errors.New("the references go on and on")

// maxDepth bounds how far references are followed.
const maxDepth = 12

// store stores a random row of a table, and before it what it must refer to.
func store(ctx context.Context, tx gate.DB, r *rand.Rand, info *gate.Info, depth int, fix func(row any)) (any, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w: those of %s", errEndless, info.Name)
	}
	var refused error
	for range tries {
		row := info.New()
		err := gate.InTx(ctx, tx, func(inner gate.DB) error {
			fill(r, info, row)
			for _, rel := range info.Relations() {
				if rel.Holds() == nil || !required(info, rel) {
					continue
				}
				other, err := store(ctx, inner, r, rel.Target(), depth+1, func(any) {})
				if err != nil {
					return err
				}
				if err := rel.Refer(row, other); err != nil {
					return err
				}
			}
			fix(row)
			return info.Insert(ctx, inner, row)
		})
		if err == nil {
			return row, nil
		}
		if refused = err; !isRule(err) {
			return nil, err
		}
	}
	return nil, refused
}

// required reports whether a row must refer to another.
func required(info *gate.Info, rel gate.Relation) bool {
	return slices.ContainsFunc(rel.Holds(), func(name string) bool {
		i, ok := info.Find(name)
		return ok && !info.Columns[i].Is(gate.Nullable)
	})
}

// refers reports whether a column is part of a reference.
func refers(info *gate.Info, i int) bool {
	return slices.ContainsFunc(info.Relations(), func(rel gate.Relation) bool {
		return slices.Contains(rel.Holds(), info.Columns[i].Name)
	})
}

// fill gives each column of a row a valid value, and some that may be null
// none.
func fill(r *rand.Rand, info *gate.Info, row any) {
	for i, field := range info.Fields(nil, row) {
		c := &info.Columns[i]
		if c.Is(gate.Auto|gate.Generated|gate.Version|gate.CreatedAt|gate.UpdatedAt|gate.DeletedAt) || refers(info, i) || c.Type == gate.TypeOther {
			continue
		}
		if c.Is(gate.Nullable) && r.IntN(4) == 0 {
			continue
		}
		// A type that is not known may take no such text; it stays empty then.
		_ = gate.ParseText(field, value(r, c))
	}
}

// value is the text form of a valid value.
func value(r *rand.Rand, c *gate.Column) string {
	switch c.Type {
	case gate.TypeInt16, gate.TypeInt32, gate.TypeInt64, gate.TypeUint64, gate.TypeNumeric, gate.TypeFloat32, gate.TypeFloat64:
		return number(r, c)
	case gate.TypeBool:
		return []string{"true", "false"}[r.IntN(2)]
	case gate.TypeEnum:
		return c.Labels[r.IntN(len(c.Labels))]
	case gate.TypeDate:
		return day(r).Format(time.DateOnly)
	case gate.TypeTimestamp, gate.TypeTimestampTZ:
		return day(r).Format(time.RFC3339)
	case gate.TypeTimeOfDay:
		return fmt.Sprintf("%02d:%02d:%02d", r.IntN(24), r.IntN(60), r.IntN(60))
	case gate.TypeInterval:
		return fmt.Sprintf("PT%dM", 1+r.IntN(500))
	case gate.TypeUUID:
		return fmt.Sprintf("%08x-%04x-4%03x-8%03x-%012x", r.Uint32(), r.IntN(1<<16), r.IntN(1<<12), r.IntN(1<<12), r.Uint64N(1<<48))
	case gate.TypeJSON:
		return fmt.Sprintf(`{"n": %d}`, r.IntN(1000))
	case gate.TypeBytes:
		return "Ynl0ZXM="
	case gate.TypeList:
		return "[]"
	case gate.TypeRange:
		return `{"bounds":"empty"}`
	case gate.TypeRecord:
		return "{}"
	}
	return words(r, c.Max)
}

func day(r *rand.Rand) time.Time {
	return time.Date(2020, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(r.IntN(3000*24*3600)) * time.Second)
}

// number is a whole number within the limits of a column.
func number(r *rand.Rand, c *gate.Column) string {
	least, most := int64(0), int64(1000)
	if c.Precision > 0 {
		most = min(most, pow10(c.Precision-c.Scale)-1)
	}
	for text, set := range map[string]func(n int64){
		c.Least: func(n int64) { least = n }, c.Above: func(n int64) { least = n + 1 },
	} {
		if n, ok := whole(text); ok {
			set(n)
		}
	}
	most = max(most, least)
	for text, set := range map[string]func(n int64){
		c.Most: func(n int64) { most = min(most, n) }, c.Below: func(n int64) { most = min(most, n-1) },
	} {
		if n, ok := whole(text); ok {
			set(n)
		}
	}
	return fmt.Sprint(least + r.Int64N(max(1, most-least+1)))
}

func whole(text string) (int64, bool) {
	var n int64
	_, err := fmt.Sscan(strings.SplitN(text, ".", 2)[0], &n)
	return n, err == nil
}

func pow10(n int) int64 {
	p := int64(1)
	for range min(max(n, 0), 15) {
		p *= 10
	}
	return p
}

// words are a text of some letters.
func words(r *rand.Rand, most int) string {
	n := 4 + r.IntN(8)
	if most > 0 {
		n = min(n, most)
	}
	b := make([]byte, n)
	for i := range b {
		b[i] = "abcdefghijklmnopqrstuvwxyz"[r.IntN(26)]
	}
	return string(b)
}

// differing names the columns in which two rows differ.
func differing(info *gate.Info, a, b any) string {
	var names []string
	x, y := info.Fields(nil, a), info.Fields(nil, b)
	for i := range info.Columns {
		if gate.IsNull(x[i]) != gate.IsNull(y[i]) || string(gate.AppendText(nil, x[i])) != string(gate.AppendText(nil, y[i])) {
			names = append(names, info.Columns[i].Name)
		}
	}
	return strings.Join(names, ", ")
}
