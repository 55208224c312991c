// Tour walks through the store package on the demo data, and prints each
// statement that it runs. What it stores it takes back at the end.
//
// It belongs to you: `widegate write` never touches it.
package main

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log"
	"os"
	"strings"
	"time"

	"beekeeping/store"
	"beekeeping/store/gate"
)

func main() {
	ctx := context.Background()
	db, err := store.Open(ctx, cmp.Or(os.Getenv("DATABASE_URL"), "sqlite:bees.db"))
	if err != nil {
		log.Fatal(err)
	}
	defer db.Close()

	// All of it in one transaction, which an error takes back.
	goBack := errors.New("the tour is over")
	err = gate.InTx(ctx, gate.Traced(db, show), func(tx gate.DB) error {
		for _, stop := range []struct {
			title string
			visit func(context.Context, gate.DB) error
		}{
			{"Find a row", find},
			{"Conditions and order", choose},
			{"Related rows", related},
			{"Page by page", pages},
			{"Sums and groups", sums},
			{"Insert, update, delete", change},
			{"Many rows at once", many},
			{"A graph of rows", graph},
			{"Named queries", named},
		} {
			fmt.Printf("\n== %s ==\n", stop.title)
			if err := stop.visit(ctx, tx); err != nil {
				return fmt.Errorf("%s: %w", stop.title, err)
			}
		}
		return goBack
	})
	if !errors.Is(err, goBack) {
		log.Fatal(err)
	}
}

// show prints a statement as it runs, without most of a long list of columns.
func show(_ context.Context, s gate.Statement) {
	text := strings.Join(strings.Fields(s.Text), " ")
	for _, list := range []struct{ begin, end string }{{"SELECT ", " FROM "}, {"select ", " from "}, {" RETURNING ", "\n"}} {
		at := strings.Index(text, list.begin)
		end := strings.Index(text+"\n", list.end)
		if comma := strings.LastIndex(text[:max(0, min(at+40, len(text)))], ", "); at >= 0 && end-at > 40 && comma > at {
			text = text[:comma] + ", …" + text[end:]
		}
	}
	fmt.Println("  sql:", text)
}

// find reads rows by their keys. A row that is not there is an error of its own.
func find(ctx context.Context, db gate.DB) error {
	hive, err := store.Hives.Find(ctx, db, 7)
	if err != nil {
		return err
	}
	fmt.Println(hive.Name, "is", hive.Temperament, "and stands on", hive.Frames, "frames")

	batch, err := store.Batches.FindByCode(ctx, db, "B25-0001")
	if err != nil {
		return err
	}
	fmt.Println("Batch", batch.Code, "filled", batch.Jars, "jars")

	if _, err := store.Hives.Find(ctx, db, -1); errors.Is(err, gate.ErrNotFound) {
		fmt.Println("There is no hive -1")
	}
	return nil
}

// choose narrows and orders. Conditions only fit the table they are made for,
// and values the column they are compared with: the compiler sees to it.
func choose(ctx context.Context, db gate.DB) error {
	hives, err := store.Hives.
		Where(store.Hives.Temperament.Is(store.TemperamentCalm), store.Hives.Apiary.Has(store.Apiaries.Name.HasPrefix("North"))).
		OrderBy(store.Hives.Name.Asc()).Limit(3).
		All(ctx, db)
	if err != nil {
		return err
	}
	fmt.Println(len(hives), "calm hives in the north")

	// A search form: what was not filled in narrows nothing.
	var form struct {
		Name    *string
		Tempers []store.Temperament
	}
	form.Tempers = []store.Temperament{store.TemperamentNervous, store.TemperamentFierce}
	n, err := store.Hives.Where(
		gate.Given(form.Name, store.Hives.Name.ContainsFold),
		gate.GivenLabels(form.Tempers, store.Hives.Temperament.In),
		gate.Or(store.Hives.WeightKg.IsNull(), gate.Less(store.Hives.ID, store.Hives.ApiaryID)),
	).Count(ctx, db)
	if err != nil {
		return err
	}
	fmt.Println(n, "hives match the form")

	busy, err := store.Hives.Where(store.Hives.Inspections.Count().AtLeast(9)).Exists(ctx, db)
	if err != nil {
		return err
	}
	fmt.Println("A hive with nine inspections:", busy)
	return nil
}

// related loads what belongs to rows: one statement for each relation, however
// many rows there are.
func related(ctx context.Context, db gate.DB) error {
	hives, err := store.Hives.OrderBy(store.Hives.ID.Asc()).Limit(2).With(
		store.Hives.Apiary.With(store.Apiaries.Forages),
		store.Hives.Inspections.OrderBy(store.Inspections.DoneOn.Desc()).Limit(2),
	).All(ctx, db)
	if err != nil {
		return err
	}
	for _, h := range hives {
		fmt.Printf("%s in %s: %d forages around, inspected on", h.Name, h.Apiary.Name, len(h.Apiary.Forages))
		for _, i := range h.Inspections {
			fmt.Print(" ", i.DoneOn)
		}
		fmt.Println()
	}
	return nil
}

// pages goes on behind the last row of the page before, so that rows that come
// or go meanwhile shift nothing.
func pages(ctx context.Context, db gate.DB) error {
	hives := store.Hives.OrderBy(store.Hives.WeightKg.Desc())
	first, next, err := hives.Page(ctx, db, "", 3)
	if err != nil {
		return err
	}
	second, _, err := hives.Page(ctx, db, next, 3)
	if err != nil {
		return err
	}
	fmt.Println("The first page begins with", first[0].Name, "and the second with", second[0].Name)

	rows := 0
	for _, err := range store.SensorReadings.Each(ctx, db) {
		if err != nil {
			return err
		}
		rows++
	}
	fmt.Println("Went through", rows, "readings, one at a time")
	return nil
}

// sums reads values in place of rows. Rows are grouped by what is not summed up.
func sums(ctx context.Context, db gate.DB) error {
	tempers, err := gate.Pairs(store.Hives.Query(), store.Hives.Temperament, gate.RowCount[*store.Hive]()).
		OrderBy(store.Hives.Temperament.Asc()).All(ctx, db)
	if err != nil {
		return err
	}
	for _, t := range tempers {
		fmt.Println(t.Second, "hives are", t.First)
	}
	heaviest, err := gate.Values(store.Hives.Query(), gate.Max(store.Hives.WeightKg)).One(ctx, db)
	if err != nil {
		return err
	}
	fmt.Println("The heaviest weighs", heaviest.Or(gate.Decimal{}), "kg")
	return nil
}

// change stores rows one by one. What the database makes of them comes back.
func change(ctx context.Context, db gate.DB) error {
	hive := &store.Hive{ApiaryID: 1, Name: "The new one", Frames: 10, IsActive: true}
	if err := store.Hives.Insert(ctx, db, hive); err != nil {
		return err
	}
	fmt.Println("It is", hive.Temperament, "until somebody looks") // the database's default
	hive.Frames = 12
	if err := store.Hives.Update(ctx, db, hive, store.Hives.Frames); err != nil {
		return err
	}

	// What the schema forbids is told before the database is asked, all at once.
	bad := &store.Hive{ApiaryID: 1, Name: strings.Repeat("x", 80), Frames: 99}
	fmt.Println("Faults:", store.Hives.Validate(bad))

	// And what only the database knows by typed errors. A savepoint keeps the
	// transaction alive.
	err := gate.InTx(ctx, db, func(tx gate.DB) error {
		return store.Hives.Insert(ctx, tx, &store.Hive{ApiaryID: 1, Name: hive.Name, Frames: 10})
	})
	var broken *gate.ConstraintError
	if errors.As(err, &broken) && broken.Kind == gate.UniqueBroken {
		fmt.Println("Taken:", strings.Join(broken.Columns, " and "))
	}
	return store.Hives.Delete(ctx, db, hive.ID)
}

// many stores many rows with few statements.
func many(ctx context.Context, db gate.DB) error {
	var readings []*store.SensorReading
	for i := range 5 {
		readings = append(readings, &store.SensorReading{HiveID: 1, ReadAt: time.Date(2026, time.May, 1+i, 12, 0, 0, 0, time.UTC), HumidityPct: gate.Just(50 + float64(i))})
	}
	if err := store.SensorReadings.InsertAll(ctx, db, readings); err != nil {
		return err
	}
	n, err := store.SensorReadings.Where(store.SensorReadings.HiveID.Is(1), store.SensorReadings.HumidityPct.AtLeast(52)).Delete(ctx, db)
	if err != nil {
		return err
	}
	fmt.Println("Took", n, "of the readings away again")
	return nil
}

// graph stores rows that hang together; keys go where they are referred to.
func graph(ctx context.Context, db gate.DB) error {
	apiary := &store.Apiary{
		KeeperID: 1, Name: "Tour's End", Latitude: gate.Just(gate.DecimalOf(47)), Longitude: gate.Just(gate.DecimalOf(9)),
		RegisteredOn: gate.Date{Year: 2026, Month: 5, Day: 1},
		Hives: []*store.Hive{
			{Name: "One", Frames: 8, Queen: &store.Queen{HatchedOn: gate.Date{Year: 2026, Month: 4, Day: 20}}},
			{Name: "Two", Frames: 9},
		},
	}
	if err := store.Apiaries.InsertWithRelated(ctx, db, apiary); err != nil {
		return err
	}
	fmt.Println("Both hives refer to the apiary:", apiary.Hives[0].ApiaryID == apiary.ID && apiary.Hives[1].ApiaryID == apiary.ID)
	return nil
}

// named runs the queries of queries/cooperative.sql.
func named(ctx context.Context, db gate.DB) error {
	best, err := store.BestApiaries(ctx, db, gate.Date{Year: 2025, Month: 6, Day: 1})
	if err != nil {
		return err
	}
	fmt.Println("The best apiary is", best[0].Name, "with", best[0].Total, "kg")

	calm := gate.Just(store.TemperamentCalm)
	found, err := store.SearchHives(ctx, db, gate.Maybe[string]{}, calm, gate.Maybe[int64]{}, store.SearchHivesSortByHeaviest, 2)
	if err != nil {
		return err
	}
	for _, row := range found {
		fmt.Println(row.Hive.Name, "in", row.Apiary.Name, "has a queen:", row.Queen != nil, "and", row.Visits, "inspections")
	}
	closed, err := store.CloseHives(ctx, db, 2)
	if err != nil {
		return err
	}
	fmt.Println(closed, "hives closed")
	return nil
}
