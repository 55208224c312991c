package gate_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"widegate/gate"
	"widegate/gate/sqlite"
)

// What follows down to openExample is what `widegate write` makes of two tables.

type Stand struct {
	ID    int64
	Name  string
	Boxes []*StandBox
}

type StandBox struct {
	ID      int64
	StandID int64
	Frames  int64
	Note    gate.Maybe[string]
}

var Stands = &standTable{
	Table: gate.NewTable(standDef, func(k *int64) []any { return []any{k} }),
	ID:    gate.NewOrdered[int64](standDef, "id"),
	Name:  gate.NewText(standDef, "name"),
	Boxes: gate.NewToMany(standDef, standBoxDef, gate.On{{"id", "stand_id"}}, func(e *Stand) *[]*StandBox { return &e.Boxes }),
}

type standTable struct {
	gate.Table[*Stand, int64]
	ID    *gate.Ordered[*Stand, int64]
	Name  *gate.Text[*Stand]
	Boxes *gate.ToMany[*Stand, *StandBox]
}

var standDef = gate.Describe(gate.Spec[*Stand]{Name: "stand", New: func() *Stand { return new(Stand) }, Fields: []gate.Field[*Stand]{
	{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *Stand) any { return &e.ID }},
	{Name: "name", Type: gate.TypeText, Max: 60, In: func(e *Stand) any { return &e.Name }},
}})

var StandBoxes = &standBoxTable{
	Table:  gate.NewTable(standBoxDef, func(k *int64) []any { return []any{k} }),
	Frames: gate.NewOrdered[int64](standBoxDef, "frames"),
	Note:   gate.NewNullableText(standBoxDef, "note"),
}

type standBoxTable struct {
	gate.Table[*StandBox, int64]
	Frames *gate.Ordered[*StandBox, int64]
	Note   *gate.NullableText[*StandBox]
}

var standBoxDef = gate.Describe(gate.Spec[*StandBox]{Name: "box", New: func() *StandBox { return new(StandBox) }, Fields: []gate.Field[*StandBox]{
	{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *StandBox) any { return &e.ID }},
	{Name: "stand_id", Type: gate.TypeInt64, In: func(e *StandBox) any { return &e.StandID }},
	{Name: "frames", Type: gate.TypeInt64, Least: "1", Most: "20", In: func(e *StandBox) any { return &e.Frames }},
	{Name: "note", Type: gate.TypeText, Flags: gate.Nullable, In: func(e *StandBox) any { return &e.Note }},
}})

// openExample opens a database with two stands and three boxes.
func openExample(ctx context.Context) (db gate.DB, done func()) {
	folder, err := os.MkdirTemp("", "stands")
	path := filepath.Join(folder, "bees.db")
	if err == nil {
		err = os.WriteFile(path, nil, 0o600)
	}
	if err == nil {
		db, err = sqlite.Open(ctx, path)
	}
	for _, text := range []string{
		"CREATE TABLE stand (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL)",
		"CREATE TABLE box (id INTEGER PRIMARY KEY, stand_id BIGINT NOT NULL REFERENCES stand (id), frames INTEGER NOT NULL CHECK (frames BETWEEN 1 AND 20), note TEXT)",
		"INSERT INTO stand VALUES (1, 'Meadow'), (2, 'Orchard')",
		"INSERT INTO box VALUES (1, 1, 10, NULL), (2, 1, 12, 'new roof'), (3, 2, 8, NULL)",
	} {
		if err == nil {
			_, err = db.Exec(ctx, text, nil)
		}
	}
	if err != nil {
		panic(err)
	}
	return db, func() {
		db.Close()
		os.RemoveAll(folder)
	}
}

func ExampleTable() {
	ctx := context.Background()
	db, done := openExample(ctx)
	defer done()

	stand := &Stand{Name: "Hilltop"}
	fmt.Println(Stands.Insert(ctx, db, stand), stand.ID)
	stand.Name = "Hill"
	fmt.Println(Stands.Update(ctx, db, stand, Stands.Name))
	fmt.Println(Stands.Delete(ctx, db, stand.ID))
	_, err := Stands.Find(ctx, db, stand.ID)
	fmt.Println(errors.Is(err, gate.ErrNotFound))
	// Output:
	// <nil> 3
	// <nil>
	// <nil>
	// true
}

// Finder is what rename needs of the stands; a test gives it something else.
type Finder interface {
	Find(ctx context.Context, db gate.DB, key int64) (*Stand, error)
	Update(ctx context.Context, db gate.DB, row *Stand, columns ...gate.ColumnOf[*Stand]) error
}

func rename(ctx context.Context, db gate.DB, stands Finder, key int64, name string) error {
	stand, err := stands.Find(ctx, db, key)
	if err != nil {
		return err
	}
	stand.Name = name
	return stands.Update(ctx, db, stand, Stands.Name)
}

// pretended stands in for the table in a test: there is no database.
type pretended map[int64]*Stand

func (p pretended) Find(_ context.Context, _ gate.DB, key int64) (*Stand, error) {
	if p[key] == nil {
		return nil, gate.ErrNotFound
	}
	return p[key], nil
}

func (p pretended) Update(context.Context, gate.DB, *Stand, ...gate.ColumnOf[*Stand]) error {
	return nil
}

// The verbs of a table are methods, so that an interface of your own can stand in
// front of it.
func ExampleTable_interface() {
	ctx := context.Background()
	db, done := openExample(ctx)
	defer done()
	fmt.Println(rename(ctx, db, Stands, 1, "Lower meadow"))

	stands := pretended{7: {ID: 7, Name: "Forest"}}
	fmt.Println(rename(ctx, nil, stands, 7, "Clearing"), stands[7].Name)
	fmt.Println(rename(ctx, nil, stands, 8, "Clearing"))
	// Output:
	// <nil>
	// <nil> Clearing
	// no such row
}

func ExampleQuery() {
	ctx := context.Background()
	db, done := openExample(ctx)
	defer done()

	boxes, err := StandBoxes.Where(StandBoxes.Frames.AtLeast(10), StandBoxes.Note.IsNull()).OrderBy(StandBoxes.Frames.Desc()).All(ctx, db)
	fmt.Println(len(boxes), boxes[0].Frames, err)
	n, err := StandBoxes.Where(StandBoxes.Frames.Less(10)).Update(ctx, db, StandBoxes.Frames.Set(10))
	fmt.Println(n, err)
	// Output:
	// 1 10 <nil>
	// 1 <nil>
}

func ExampleToMany() {
	ctx := context.Background()
	db, done := openExample(ctx)
	defer done()

	stands, err := Stands.With(Stands.Boxes.Where(StandBoxes.Frames.More(9))).OrderBy(Stands.ID.Asc()).All(ctx, db)
	for _, stand := range stands {
		fmt.Println(stand.Name, len(stand.Boxes))
	}
	fmt.Println(err)
	large, err := Stands.Where(Stands.Boxes.Count().AtLeast(2)).One(ctx, db)
	fmt.Println(large.Name, err)
	// Output:
	// Meadow 2
	// Orchard 0
	// <nil>
	// Meadow <nil>
}

func ExampleInTx() {
	ctx := context.Background()
	db, done := openExample(ctx)
	defer done()

	err := gate.InTx(ctx, db, func(tx gate.DB) error {
		if err := Stands.Insert(ctx, tx, &Stand{Name: "Bog"}); err != nil {
			return err
		}
		return errors.New("too wet") // nothing is stored
	})
	n, _ := Stands.Count(ctx, db)
	fmt.Println(err, n)
	// Output:
	// too wet 2
}

func ExampleValues() {
	ctx := context.Background()
	db, done := openExample(ctx)
	defer done()

	sums, err := gate.Pairs(Stands.OrderBy(Stands.Name.Asc()), Stands.Name, Stands.Boxes.Count()).All(ctx, db)
	for _, sum := range sums {
		fmt.Println(sum.First, sum.Second)
	}
	fmt.Println(err)
	// Output:
	// Meadow 2
	// Orchard 1
	// <nil>
}

func ExampleFaults() {
	err := StandBoxes.Validate(&StandBox{StandID: 1, Frames: 40})
	var faults gate.Faults
	fmt.Println(errors.As(err, &faults), faults[0].Column, faults[0].Text)
	// Output:
	// true frames must be at most 20; got 40
}

func ExampleMaybe() {
	note := gate.Just("new roof")
	text, there := note.Get()
	fmt.Println(text, there, gate.Null[string]().IsNull())
	// Output:
	// new roof true true
}
