package gate_test

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/ncruces/go-sqlite3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

// again is an error of each engine after which a transaction is tried again.
func again(engine string) error {
	switch engine {
	case "postgres":
		return &pgconn.PgError{Code: "40001", Message: "could not serialize access"}
	case "mysql":
		return &mysql.MySQLError{Number: 1213, Message: "Deadlock found"}
	}
	return sqlite3.BUSY
}

func countVisits(t *testing.T, ctx context.Context, db gate.DB) int64 {
	t.Helper()
	n, err := gate.ReadValue(ctx, db, gate.NewSQL(db).Text("SELECT count(*) FROM visit"), func(v *int64) any { return v })
	require.NoError(t, err)
	return n
}

// TestNothingIsLeftOfAPanic has panics in every place where code of the
// developer runs within a transaction.
func TestNothingIsLeftOfAPanic(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		hooked := newVisits()
		for _, at := range []gate.Event{gate.BeforeInsert, gate.AfterInsert, gate.BeforeUpdate, gate.AfterUpdate, gate.BeforeDelete, gate.AfterDelete} {
			hooked.On(at, func(ctx context.Context, tx gate.DB, v *visit) error {
				if v.Score == gate.Just(int64(at)) {
					panic("a hook panics")
				}
				return nil
			})
		}
		watched := gate.Watched(db, func(context.Context, gate.DB, gate.Change) error { panic("a watcher panics") })
		stays := addVisit(t, ctx, db, visit{Code: "stays"})
		for name, do := range map[string]func(){
			"in a transaction": func() {
				gate.InTx(ctx, db, func(tx gate.DB) error {
					addVisit(t, ctx, tx, visit{Code: "x"})
					panic("done")
				})
			},
			"in a savepoint": func() {
				gate.InTx(ctx, db, func(tx gate.DB) error {
					addVisit(t, ctx, tx, visit{Code: "x"})
					return gate.InTx(ctx, tx, func(tx gate.DB) error {
						addVisit(t, ctx, tx, visit{Code: "y"})
						panic("done")
					})
				})
			},
			"while rows are read": func() {
				gate.InTx(ctx, db, func(tx gate.DB) error {
					addVisit(t, ctx, tx, visit{Code: "x"})
					for range visits.Each(ctx, tx) {
						panic("done")
					}
					return nil
				})
			},
			"in an import": func() {
				visits.Import(ctx, db, func(yield func(*visit) bool) {
					yield(&visit{Code: "x"})
					panic("done")
				})
			},
			"before an insert": func() { hooked.Insert(ctx, db, &visit{Code: "x", Score: gate.Just(int64(gate.BeforeInsert))}) },
			"after an insert":  func() { hooked.Insert(ctx, db, &visit{Code: "x", Score: gate.Just(int64(gate.AfterInsert))}) },
			"of one row among many": func() {
				hooked.InsertAll(ctx, db, []*visit{{Code: "x"}, {Code: "y", Score: gate.Just(int64(gate.AfterInsert))}})
			},
			"before an update": func() {
				hooked.Update(ctx, db, &visit{ID: stays.ID, Version: 1, Code: "x", Score: gate.Just(int64(gate.BeforeUpdate))})
			},
			"after an update": func() {
				hooked.Update(ctx, db, &visit{ID: stays.ID, Version: 1, Code: "x", Score: gate.Just(int64(gate.AfterUpdate))})
			},
			"of who watches": func() { visits.Insert(ctx, watched, &visit{Code: "x"}) },
			"at the end of the goroutine": func() {
				done := make(chan bool)
				go func() {
					defer close(done)
					gate.InTx(ctx, db, func(tx gate.DB) error {
						visits.Insert(ctx, tx, &visit{Code: "x"})
						runtime.Goexit()
						return nil
					})
				}()
				<-done
				panic("done")
			},
		} {
			t.Run(name, func(t *testing.T) {
				assert.Panics(t, do)
				assert.Equal(t, int64(1), countVisits(t, ctx, db))
				v := addVisit(t, ctx, db, visit{Code: "after"})
				assert.Equal(t, int64(2), countVisits(t, ctx, db), "and what comes after is stored")
				require.NoError(t, visits.Purge(ctx, db, v.ID))
			})
		}
		now, err := visits.Find(ctx, db, stays.ID)
		require.NoError(t, err)
		assert.Equal(t, stays, now)
		for name, err := range map[string]error{
			"Insert":            visits.Insert(ctx, db, nil),
			"InsertAll":         visits.InsertAll(ctx, db, []*visit{{Code: "x"}, nil}),
			"Update":            visits.Update(ctx, db, nil),
			"UpdateAll":         visits.UpdateAll(ctx, db, []*visit{nil}),
			"UpdateChanged":     visits.UpdateChanged(ctx, db, stays, nil),
			"Upsert":            visits.Upsert(ctx, db, nil),
			"InsertWithRelated": visits.InsertWithRelated(ctx, db, nil),
			"Create":            keepers.Hives.Create(ctx, db, &keeper{ID: 1}, nil),
			"Add":               keepers.Forages.Add(ctx, db, nil, &forage{}),
		} {
			assert.ErrorContains(t, err, "is nil", name)
		}
		assert.Equal(t, int64(1), countVisits(t, ctx, db))
	})
}

// TestTriedAgainFromTheBeginning has transactions fail once, after they have
// filled rows in.
func TestTriedAgainFromTheBeginning(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		old := addVisit(t, ctx, db, visit{Code: "old"})
		fresh, many := &visit{Code: "fresh"}, []*visit{{Code: "m1"}, {Code: "m2", Score: gate.Just[int64](4)}}
		k := &keeper{Name: "Clover", Hives: []*hive{{Name: "a"}, {Name: "b"}}}
		tries := 0
		require.NoError(t, gate.InTx(ctx, db, func(tx gate.DB) error {
			tries++
			old.Score = gate.Just(int64(tries))
			for _, do := range []func() error{
				func() error { return visits.Insert(ctx, tx, fresh) },
				func() error { return visits.InsertAll(ctx, tx, many) },
				func() error { return visits.Update(ctx, tx, old) },
				func() error { return keepers.InsertWithRelated(ctx, tx, k) },
				func() error { return visits.Upsert(ctx, tx, &visit{Code: "up", Version: 0}, visits.ByCode) },
			} {
				if err := do(); err != nil {
					return err
				}
			}
			if tries == 1 {
				return fmt.Errorf("so it is said: %w", again(db.Engine().Name))
			}
			return nil
		}))
		assert.Equal(t, 2, tries)
		assert.Equal(t, int64(5), countVisits(t, ctx, db))
		assert.Equal(t, int64(2), old.Version)
		stored, err := visits.Find(ctx, db, fresh.ID)
		require.NoError(t, err)
		assert.Equal(t, fresh, stored)
		hiveCount, err := hives.Where(hives.Keeper.Has(keepers.Name.Is("Clover"))).Count(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(2), hiveCount)

		// What was refused can be mended, and is stored then.
		clash := &keeper{Name: "Thyme", Hives: []*hive{{Name: "c"}}, Forages: []*forage{{Name: "lime"}}}
		bad := *clash
		bad.Name = "Clover"
		var broken *gate.ConstraintError
		require.ErrorAs(t, keepers.InsertWithRelated(ctx, db, &bad), &broken)
		assert.Zero(t, bad.ID)
		bad.Hives[0].KeeperID = 0
		bad.Name = "Thyme"
		require.NoError(t, keepers.InsertWithRelated(ctx, db, &bad))

		// Rows that come one by one come once.
		given := slices.Values([]*visit{{Code: "i1"}, {Code: "i2"}})
		gone := false
		_, err = visits.Import(ctx, db, func(yield func(*visit) bool) {
			if !gone {
				gone = true
				given(yield)
			}
		})
		require.NoError(t, err)
		assert.Equal(t, int64(7), countVisits(t, ctx, db))
	})
}

// TestCompoundCallsLeaveNothing lets calls fail within a transaction that goes
// on, and is committed.
func TestCompoundCallsLeaveNothing(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		refuse := errors.New("refused")
		hooked := newVisits()
		hooked.On(gate.AfterInsert, func(context.Context, gate.DB, *visit) error { return refuse })
		hooked.On(gate.AfterUpdate, func(context.Context, gate.DB, *visit) error { return refuse })
		hooked.On(gate.AfterDelete, func(context.Context, gate.DB, *visit) error { return refuse })
		k := addKeeper(t, ctx, db, "Clover")
		own := addHive(t, ctx, db, hive{KeeperID: k.ID, Name: "own"})
		old := addVisit(t, ctx, db, visit{Code: "old"})
		before := *old
		require.NoError(t, gate.InTx(ctx, db, func(tx gate.DB) error {
			for name, err := range map[string]error{
				"InsertAll":          visits.InsertAll(ctx, tx, append(someVisits(300), &visit{Code: "old"})),
				"Import":             second(visits.Import(ctx, tx, slices.Values(append(someVisits(5000), &visit{Code: "old"})))),
				"UpdateAll":          visits.UpdateAll(ctx, tx, []*visit{{ID: old.ID, Version: 1, Code: "new"}, {ID: 77, Code: "none"}}),
				"Insert with a hook": hooked.Insert(ctx, tx, &visit{Code: "h"}),
				"Update with a hook": hooked.Update(ctx, tx, old),
				"Delete with a hook": hooked.Delete(ctx, tx, old.ID),
				"Query.Update":       second(hooked.Where(hooked.ID.Is(old.ID)).Update(ctx, tx, hooked.Score.Set(5))),
				"Query.Delete":       second(hooked.Where(hooked.ID.Is(old.ID)).Delete(ctx, tx)),
				"Graph":              keepers.InsertWithRelated(ctx, tx, &keeper{Name: "Thyme", Hives: []*hive{{Name: "a"}, nil}}),
				"Create":             keepers.Hives.Create(ctx, tx, k, &hive{Name: "a"}, &hive{Name: "b", FromID: gate.Just[int64](-5)}),
				"Add":                keepers.Hives.Add(ctx, tx, k, own, &hive{ID: -5}),
				"Replace":            keepers.Hives.Replace(ctx, tx, k),
				"Add through":        keepers.Forages.Add(ctx, tx, k, &forage{ID: -5}),
			} {
				assert.Error(t, err, name)
			}
			return nil
		}))
		assert.Equal(t, before, *old)
		all, err := visits.Query().WithDeleted().All(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, []*visit{old}, all)
		people, err := keepers.With(keepers.Hives).All(ctx, db)
		require.NoError(t, err)
		require.Len(t, people, 1)
		require.Len(t, people[0].Hives, 1)
		assert.Equal(t, own, people[0].Hives[0])
	})
}

func second[T any](_ T, err error) error { return err }

func someVisits(n int) []*visit {
	list := make([]*visit, n)
	for i := range list {
		list[i] = &visit{Code: fmt.Sprintf("some %d", i)}
	}
	return list
}

// TestAfterItsEndATransactionStoresNothing goes on where a transaction is over.
func TestAfterItsEndATransactionStoresNothing(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		var kept gate.DB
		var open gate.Rows
		addVisit(t, ctx, db, visit{Code: "a"})
		addVisit(t, ctx, db, visit{Code: "b"})
		require.NoError(t, gate.InTx(ctx, db, func(tx gate.DB) (err error) {
			kept = tx
			open, err = tx.Query(ctx, "SELECT code FROM visit", nil)
			require.True(t, open.Next())
			return err
		}))
		require.ErrorIs(t, visits.Insert(ctx, kept, &visit{Code: "late"}), gate.ErrTxOver)
		_, err := visits.Count(ctx, kept)
		require.ErrorIs(t, err, gate.ErrTxOver)
		require.ErrorIs(t, gate.InTx(ctx, kept, func(gate.DB) error { return nil }), gate.ErrTxOver)
		assert.False(t, open.Next(), "a result ends with its transaction")
		open.Close()
		assert.Equal(t, int64(2), countVisits(t, ctx, db))
	})
}

// TestDeadlocksEndTheTransaction has a program go on after a deadlock as if
// nothing had been.
func TestDeadlocksEndTheTransaction(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		if db.Engine().Name == "sqlite" {
			return // which has one writer at a time
		}
		a, b := addVisit(t, ctx, db, visit{Code: "a"}), addVisit(t, ctx, db, visit{Code: "b"})
		var both, done sync.WaitGroup
		both.Add(2)
		results := make([]error, 2)
		for i, order := range [][2]int64{{a.ID, b.ID}, {b.ID, a.ID}} {
			done.Add(1)
			go func() {
				defer done.Done()
				results[i] = gate.InTxWith(ctx, db, gate.TxOptions{Tries: 1}, func(tx gate.DB) error {
					for n, id := range order {
						visits.Where(visits.ID.Is(id)).Update(ctx, tx, visits.Least.SetTo(gate.Plus(visits.Least, gate.Const[*visit](int64(1)))))
						if n == 0 {
							both.Done()
							both.Wait()
						}
					}
					visits.Insert(ctx, tx, &visit{Code: fmt.Sprintf("after %d", i)}) // whatever came before
					return nil
				})
			}()
		}
		done.Wait()
		failed := 0
		for i, err := range results {
			there, lookErr := visits.Where(visits.Code.Is(fmt.Sprintf("after %d", i))).Exists(ctx, db)
			require.NoError(t, lookErr)
			assert.Equal(t, err == nil, there, "what is committed is there, and nothing else is: %v", err)
			if err != nil {
				failed++
			}
		}
		assert.Equal(t, 1, failed)
	})
}

// TestStatementsWhileRowsAreRead runs statements on the connection of a
// transaction from which rows are still being read.
func TestStatementsWhileRowsAreRead(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		require.NoError(t, visits.InsertAll(ctx, db, someVisits(700)))
		require.NoError(t, gate.InTx(ctx, db, func(tx gate.DB) error {
			seen := map[string]bool{}
			for v, err := range visits.OrderBy(visits.ID.Asc()).Each(ctx, tx) {
				require.NoError(t, err)
				seen[v.Code] = true
				n, err := visits.Count(ctx, tx)
				require.NoError(t, err)
				require.Equal(t, int64(700), n)
				v.Score = gate.Just(int64(len(seen)))
				require.NoError(t, visits.Update(ctx, tx, v))
				inner := 0
				for code, err := range gate.Values(visits.OrderBy(visits.ID.Asc()), visits.Code).Each(ctx, tx) {
					require.NoError(t, err)
					require.NotEmpty(t, code)
					_, err = visits.Find(ctx, tx, v.ID)
					require.NoError(t, err)
					if inner++; inner == 3 {
						break
					}
				}
				require.NoError(t, gate.InTx(ctx, tx, func(tx gate.DB) error { return visits.Insert(ctx, tx, &visit{Code: "x"}) }))
				require.NoError(t, visits.Purge(ctx, tx, maxID(t, ctx, tx)))
			}
			assert.Len(t, seen, 700)
			for i := range 700 {
				assert.True(t, seen[fmt.Sprintf("some %d", i)])
			}
			return nil
		}))
		scores, err := gate.Values(visits.OrderBy(visits.ID.Asc()), gate.OrNull(visits.Score)).All(ctx, db)
		require.NoError(t, err)
		require.Len(t, scores, 700)
		for i, s := range scores {
			require.Equal(t, gate.Just(int64(i+1)), s)
		}
	})
}

func maxID(t *testing.T, ctx context.Context, db gate.DB) int64 {
	t.Helper()
	id, err := gate.Values(visits.OrderBy(visits.ID.Desc()), visits.ID).One(ctx, db)
	require.NoError(t, err)
	return id
}

// TestNothingLeaks lets thousands of calls fail in many ways.
func TestNothingLeaks(t *testing.T) {
	eachEngineWithVisits(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		addVisit(t, ctx, db, visit{Code: "taken"})
		ended, cancel := context.WithCancel(ctx)
		cancel()
		stop := errors.New("stop")
		calls := []func() error{
			func() error { return visits.Insert(ctx, db, &visit{Code: "taken"}) },
			func() error { return visits.Insert(ended, db, &visit{Code: "new"}) },
			func() error { return visits.InsertAll(ctx, db, []*visit{{Code: "new"}, {Code: "taken"}}) },
			func() error { return visits.Update(ctx, db, &visit{ID: 88}) },
			func() error { return second(visits.Find(ctx, db, 88)) },
			func() error { return second(visits.Where(gate.Raw[*visit]("no such column = 1")).All(ctx, db)) },
			func() error { return gate.InTx(ctx, db, func(tx gate.DB) error { return stop }) },
			func() error {
				return gate.InTx(ctx, db, func(tx gate.DB) error {
					return gate.InTx(ctx, tx, func(tx gate.DB) error {
						for range visits.Each(ctx, tx) {
							return stop
						}
						return nil
					})
				})
			},
			func() error {
				var err error
				for _, err = range visits.Each(ctx, db) {
					break
				}
				return errors.Join(stop, err)
			},
			func() (err error) {
				defer func() { err = fmt.Errorf("%v", recover()) }()
				return gate.InTx(ctx, db, func(tx gate.DB) error { panic("done") })
			},
			func() error {
				short, cancel := context.WithTimeout(ctx, time.Duration(time.Now().UnixNano()%300)*time.Microsecond)
				defer cancel()
				return errors.Join(stop, gate.InTx(short, db, func(tx gate.DB) error { return second(visits.Count(short, tx)) }))
			},
		}
		run := func(n int) {
			var all sync.WaitGroup
			for worker := range 4 {
				all.Add(1)
				go func() {
					defer all.Done()
					for i := range n / 4 {
						if err := calls[(i+worker)%len(calls)](); err == nil {
							t.Errorf("call %d did not fail", (i+worker)%len(calls))
						}
					}
				}()
			}
			all.Wait()
		}
		run(400)
		count := func() int { runtime.GC(); return runtime.NumGoroutine() }
		before := count()
		run(10_000)
		assert.Eventually(t, func() bool { return count() <= before+20 }, 8*time.Second, 50*time.Millisecond, "goroutines: %d before", before)
		assert.Equal(t, int64(1), countVisits(t, ctx, db))
		// All connections are there to be used at once.
		var all sync.WaitGroup
		meet := make(chan bool)
		for range 12 {
			all.Add(1)
			go func() {
				defer all.Done()
				o := gate.TxOptions{ReadOnly: true}
				assert.NoError(t, gate.InTxWith(ctx, db, o, func(tx gate.DB) error {
					<-meet
					return second(visits.Count(ctx, tx))
				}))
			}()
		}
		close(meet)
		all.Wait()
	})
}

// TestCirclesOfNewRows has rows that refer to each other.
func TestCirclesOfNewRows(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		for _, s := range yardDDL[db.Engine().Name] {
			_, err := db.Exec(ctx, s, nil)
			require.NoError(t, err)
		}
		c := &colony{Name: "c", Yard: &yard{Code: "y"}}
		c.Yard.Colonies = []*colony{c, {Name: "d", Yard: c.Yard}}
		require.NoError(t, colonies.InsertWithRelated(ctx, db, c), "a row and the list that it is in are no circle")
		n, err := colonies.Where(colonies.Yard.Has(yards.Code.Is("y"))).Count(ctx, db)
		require.NoError(t, err)
		assert.Equal(t, int64(2), n)

		looped := gate.Describe(gate.Spec[*hive]{
			Name: "hive", New: func() *hive { return new(hive) },
			Fields: []gate.Field[*hive]{
				{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *hive) any { return &e.ID }},
				{Name: "from_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *hive) any { return &e.FromID }},
				{Name: "name", Type: gate.TypeText, In: func(e *hive) any { return &e.Name }},
			},
		})
		table := gate.NewTable(looped, func(k *int64) []any { return []any{k} })
		from := map[*hive]*hive{}
		gate.NewToOne(looped, looped, gate.On{{"from_id", "id"}}, func(e *hive) **hive {
			up := from[e]
			return &up
		})
		a, b := &hive{Name: "a"}, &hive{Name: "b"}
		from[a], from[b] = b, a
		err = table.InsertWithRelated(ctx, db, a)
		require.ErrorContains(t, err, "in a circle (hive → hive")
		require.ErrorContains(t, err, "leave one reference empty")
	})
}
