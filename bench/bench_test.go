// Package bench measures the generated store against the same by hand, side by
// side in one run: `make bench`. What it prints are ratios; above 1 the store is
// the faster one. No test here fails on a timing.
package bench

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"widegate/bench/byhand"
	"widegate/bench/store"
	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/gate/sqlite"
	"widegate/internal/testdb"
)

func TestMain(m *testing.M) {
	if what := os.Getenv(serveVariable); what != "" {
		serveProcess(what)
		return
	}
	os.Exit(testdb.Main(m))
}

var only = flag.String("only", "", "measure the scenarios that have this in their names")

// sides are both on one database.
type sides struct {
	engine     string
	url        string // of the generated side
	urlByHand  string // the same, but for SQLite: each side has a file of its own
	db         gate.DB
	store      *byhand.Store
	copyOfFile func() // makes the file of the side by hand
}

// openOurs opens a database as the generated store does.
func openOurs(ctx context.Context, engine, url string) (gate.DB, error) {
	switch engine {
	case "postgres":
		return postgres.Open(ctx, url)
	case "mysql":
		return mysql.Open(ctx, url)
	}
	return sqlite.Open(ctx, url)
}

// openByHand opens a database for the side by hand, with the usual driver.
func openByHand(ctx context.Context, engine, url string) (*byhand.Store, error) {
	var db *sql.DB
	var err error
	switch engine {
	case "postgres":
		db, err = sql.Open("pgx", url)
	case "mysql":
		config, fault := mysql.ParseURL(url)
		if fault != nil {
			return nil, fault
		}
		config.ParseTime = true
		connector, fault := mysqldriver.NewConnector(config)
		if fault != nil {
			return nil, fault
		}
		db = sql.OpenDB(connector)
	default:
		db, err = sql.Open("sqlite", "file:"+url+"?_pragma=busy_timeout(5000)&_pragma=foreign_keys(1)&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_txlock=immediate&_time_format=sqlite")
	}
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(20)
	db.SetMaxIdleConns(20)
	return byhand.New(ctx, db, engine)
}

func open(t testing.TB, engine string) sides {
	ctx := context.Background()
	schema, err := os.ReadFile("schema/" + engine + ".sql")
	require.NoError(t, err)
	s := sides{engine: engine, copyOfFile: func() {}}
	switch engine {
	case "postgres":
		s.url = testdb.Postgres(t)
	case "mysql":
		s.url = testdb.MySQL(t)
	default:
		s.url = filepath.Join(t.TempDir(), "bench.db")
		require.NoError(t, os.WriteFile(s.url, nil, 0o644))
	}
	s.urlByHand = s.url
	if engine == "sqlite" { // two drivers do not share a file
		s.urlByHand += ".copy"
		s.copyOfFile = func() {
			_, err := s.db.Exec(ctx, "VACUUM INTO '"+s.urlByHand+"'", nil)
			require.NoError(t, err)
		}
	}
	s.db, err = openOurs(ctx, engine, s.url)
	require.NoError(t, err)
	t.Cleanup(func() { s.db.Close() })
	for _, statement := range strings.Split(string(schema), ";\n") {
		if strings.TrimSpace(statement) != "" {
			_, err := s.db.Exec(ctx, statement, nil)
			require.NoError(t, err, statement)
		}
	}
	return s
}

// delivery makes the i-th row.
func delivery(i int) *store.Delivery {
	d := &store.Delivery{
		Code: fmt.Sprintf("D-%06d", i), Keeper: fmt.Sprintf("Keeper %d of the hills", i%97), WeightKg: gate.DecimalOf(int64(i % 500)),
		IsAccepted: i%7 != 0, DeliveredOn: gate.Date{Year: 2026, Month: time.Month(1 + i%12), Day: 1 + i%28},
		RecordedAt: time.Date(2026, 5, 1, 8, 0, i%60, 123456000, time.UTC), Tag: fmt.Sprintf("6f1c2a34-0000-4000-8000-%012d", i),
		Facts: gate.JSON(fmt.Sprintf(`{"jars": %d, "note": "from the upper meadow"}`, i%40)), Moisture: 15 + float64(i%40)/10,
		Region: "Upper Valley", Grade: "A",
	}
	if i%3 == 0 {
		d.Remark = gate.Just("slightly cloudy, otherwise fine")
	}
	return d
}

func byHand(d *store.Delivery) *byhand.Delivery {
	h := &byhand.Delivery{
		ID: d.ID, Code: d.Code, Keeper: d.Keeper, WeightKg: d.WeightKg.String(), IsAccepted: d.IsAccepted,
		DeliveredOn: time.Date(d.DeliveredOn.Year, d.DeliveredOn.Month, d.DeliveredOn.Day, 0, 0, 0, 0, time.UTC),
		RecordedAt:  d.RecordedAt, Tag: d.Tag, Facts: d.Facts, Moisture: d.Moisture, Region: d.Region, Grade: d.Grade,
	}
	if v, ok := d.Remark.Get(); ok {
		h.Remark = &v
	}
	return h
}

func fill(t testing.TB, s *sides, n int) {
	ctx := context.Background()
	_, err := store.Deliveries.Import(ctx, s.db, func(yield func(*store.Delivery) bool) {
		for i := range n {
			if !yield(delivery(i)) {
				return
			}
		}
	})
	require.NoError(t, err)
	_, err = store.Samples.Import(ctx, s.db, func(yield func(*store.Sample) bool) {
		for i := range 8 * min(n, 2000) {
			if !yield(&store.Sample{DeliveryID: int64(i/8 + 1), TakenAt: time.Date(2026, 5, 2, 9, i%60, 0, 0, time.UTC), Value: float64(i) / 4}) {
				return
			}
		}
	})
	require.NoError(t, err)
	for _, statement := range map[string][]string{"mysql": {"ANALYZE TABLE delivery", "ANALYZE TABLE sample"}, "postgres": {"VACUUM ANALYZE"}, "sqlite": {"ANALYZE"}}[s.engine] {
		rows, err := s.db.Query(ctx, statement, nil) // MariaDB answers with rows
		require.NoError(t, err)
		for rows.Next() {
		}
		require.NoError(t, rows.Err())
		require.NoError(t, rows.Close())
	}
	s.copyOfFile()
	s.store, err = openByHand(ctx, s.engine, s.urlByHand)
	require.NoError(t, err)
	t.Cleanup(func() { s.store.Close() })
}

func list(ctx context.Context, db gate.DB, from int64, n int) ([]*store.Delivery, error) {
	return store.Deliveries.Where(store.Deliveries.ID.AtLeast(from)).OrderBy(store.Deliveries.ID.Asc()).Limit(n).All(ctx, db)
}

func listWithSamples(ctx context.Context, db gate.DB, from int64, n int) ([]*store.Delivery, error) {
	return store.Deliveries.Where(store.Deliveries.ID.AtLeast(from)).OrderBy(store.Deliveries.ID.Asc()).Limit(n).With(store.Deliveries.Samples).All(ctx, db)
}

var engines = []string{"postgres", "mysql", "sqlite"}

// TestBothSidesGiveTheSame keeps the comparison honest.
func TestBothSidesGiveTheSame(t *testing.T) {
	for _, engine := range engines {
		t.Run(engine, func(t *testing.T) {
			ctx := t.Context()
			s := open(t, engine)
			fill(t, &s, 40)
			ours, err := listWithSamples(ctx, s.db, 5, 20)
			require.NoError(t, err)
			theirs, err := s.store.ListWithSamples(ctx, 5, 20)
			require.NoError(t, err)
			require.Len(t, theirs, 20)
			require.Len(t, ours, 20)
			for i, d := range ours {
				h := theirs[i]
				assert.Equal(t, h.ID, d.ID)
				assert.Equal(t, h.Code, d.Code)
				assert.Equal(t, h.Remark == nil, d.Remark.IsNull())
				assert.Equal(t, strings.TrimSuffix(h.WeightKg, ".00"), strings.TrimSuffix(d.WeightKg.String(), ".00"))
				assert.True(t, h.RecordedAt.Equal(d.RecordedAt))
				assert.JSONEq(t, string(h.Facts), string(d.Facts))
				assert.Len(t, d.Samples, len(h.Samples))
			}
			require.NoError(t, s.store.Insert(ctx, byHand(delivery(50))))
			stored := byHand(delivery(53))
			require.NoError(t, s.store.InsertStored(ctx, stored))
			assert.NotZero(t, stored.ID)
			require.NoError(t, s.store.InsertLoop(ctx, []*byhand.Delivery{byHand(delivery(51)), byHand(delivery(52))}))
			if engine != "sqlite" { // where each side has a file of its own
				n, err := store.Deliveries.Count(ctx, s.db)
				require.NoError(t, err)
				assert.Equal(t, int64(44), n)
			}
		})
	}
}

// scenario is one thing that both sides do.
type scenario struct {
	name   string
	ours   func(i int) error
	theirs func(i int) error
	aim    map[string]string
}

// rows are those of the table that is measured.
const rows = 200000

func scenarios(ctx context.Context, s sides) []scenario {
	var batch []*store.Delivery
	var batchByHand []*byhand.Delivery
	for i := range 1000 {
		batch = append(batch, delivery(rows+i))
		batchByHand = append(batchByHand, byHand(batch[i]))
	}
	at := func(i int) int64 { return int64(1 + i*7919%(rows-1100)) }
	return []scenario{
		{"find one by key",
			func(i int) error { _, err := store.Deliveries.Find(ctx, s.db, at(i)); return err },
			func(i int) error { _, err := s.store.Find(ctx, at(i)); return err }, map[string]string{"postgres": "1", "mysql": "1", "sqlite": "1"}},
		{"list of 100",
			func(i int) error { _, err := list(ctx, s.db, at(i), 100); return err },
			func(i int) error { _, err := s.store.List(ctx, at(i), 100); return err }, map[string]string{"postgres": "1.6", "mysql": "1.5", "sqlite": "3"}},
		{"list of 1,000",
			func(i int) error { _, err := list(ctx, s.db, at(i), 1000); return err },
			func(i int) error { _, err := s.store.List(ctx, at(i), 1000); return err }, map[string]string{"postgres": "1.6", "mysql": "1.5", "sqlite": "3"}},
		{"100 with 8 children each",
			func(i int) error { _, err := listWithSamples(ctx, s.db, at(i)%1800, 100); return err },
			func(i int) error { _, err := s.store.ListWithSamples(ctx, at(i)%1800, 100); return err }, map[string]string{"postgres": "1", "mysql": "1", "sqlite": "1"}},
		{"insert one",
			func(i int) error { return store.Deliveries.Insert(ctx, s.db, delivery(i)) },
			func(i int) error { return s.store.Insert(ctx, byHand(delivery(i))) }, map[string]string{"postgres": "1", "mysql": "1", "sqlite": "1"}},
		{"the same, whole row back",
			func(i int) error { return store.Deliveries.Insert(ctx, s.db, delivery(i)) },
			func(i int) error { return s.store.InsertStored(ctx, byHand(delivery(i))) }, nil},
		{"insert 1,000, filled in",
			func(int) error {
				for _, d := range batch {
					d.ID = 0
				}
				return store.Deliveries.InsertAll(ctx, s.db, batch)
			},
			func(int) error { return s.store.InsertLoop(ctx, batchByHand) }, nil},
		{"import 1,000",
			func(int) error {
				for _, d := range batch {
					d.ID = 0
				}
				_, err := store.Deliveries.Import(ctx, s.db, slices.Values(batch))
				return err
			},
			func(int) error { return s.store.InsertLoop(ctx, batchByHand) }, map[string]string{"postgres": "6", "mysql": "3.5", "sqlite": "2.2"}},
	}
}

// BenchmarkStore prints for each scenario how many times faster the store is,
// and what share of the processor's time of the other side it takes.
func BenchmarkStore(b *testing.B) {
	for _, engine := range engines {
		b.Run(engine, func(b *testing.B) {
			ctx := context.Background()
			s := open(b, engine)
			fill(b, &s, rows)
			for _, c := range scenarios(ctx, s) {
				if *only != "" && !strings.Contains(c.name, *only) {
					continue
				}
				speed, cpu := compare(b, c)
				fmt.Printf("%-9s %-26s %5.2f ×  (aim %-3s)  CPU %3.0f %%\n", engine, c.name, speed, c.aim[engine], 100*cpu)
			}
		})
	}
}

// rounds is how often the sides take turns.
const rounds = 9

// compare runs both sides of a scenario, one call after another.
func compare(b *testing.B, c scenario) (speed, cpu float64) {
	b.Helper()
	inTurn := func(do func(i int) error) func(n int) error {
		at := 0
		return func(n int) error {
			for range n {
				if err := do(at); err != nil {
					return err
				}
				at++
			}
			return nil
		}
	}
	return compareRuns(b, inTurn(c.ours), inTurn(c.theirs))
}

// compareRuns runs both sides in turns and returns the medians of the ratios.
func compareRuns(b *testing.B, ours, theirs func(n int) error) (speed, cpu float64) {
	b.Helper()
	n := 1
	for { // so many that a round takes a tenth of a second
		took, _ := measure(b, theirs, n)
		if took > 100*time.Millisecond {
			break
		}
		n *= 2
	}
	measure(b, ours, n) // both are warm
	var speeds, shares []float64
	for range rounds {
		theirs, theirCPU := measure(b, theirs, n)
		ours, ourCPU := measure(b, ours, n)
		speeds = append(speeds, float64(theirs)/float64(ours))
		shares = append(shares, float64(ourCPU)/float64(theirCPU))
	}
	slices.Sort(speeds)
	slices.Sort(shares)
	return speeds[rounds/2], shares[rounds/2]
}

func measure(b *testing.B, run func(n int) error, n int) (took, cpu time.Duration) {
	b.Helper()
	before, start := processorTime(), time.Now()
	if err := run(n); err != nil {
		b.Fatal(err)
	}
	return time.Since(start), processorTime() - before
}

// processorTime is what this process has used.
func processorTime() time.Duration {
	var use syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &use); err != nil {
		return 0
	}
	return time.Duration(use.Utime.Nano() + use.Stime.Nano())
}
