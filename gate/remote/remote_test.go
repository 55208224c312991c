package remote_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/remote"
	"widegate/gate/rest"
	"widegate/gate/sqlite"
)

type hive struct {
	ID      int64
	Name    string
	Frames  int64
	FromID  gate.Maybe[int64]
	Details gate.Maybe[gate.JSON]

	Splits []*hive
	From   *hive
}

var hiveDef = gate.Describe(gate.Spec[*hive]{
	New:  func() *hive { return new(hive) },
	Name: "hive",
	Fields: []gate.Field[*hive]{
		{Name: "id", Type: gate.TypeInt64, Flags: gate.Key | gate.Auto, In: func(e *hive) any { return &e.ID }},
		{Name: "name", Type: gate.TypeText, Max: 20, In: func(e *hive) any { return &e.Name }},
		{Name: "frames", Type: gate.TypeInt64, Flags: gate.HasDefault, Default: "10", In: func(e *hive) any { return &e.Frames }},
		{Name: "from_id", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *hive) any { return &e.FromID }},
		{Name: "details", Type: gate.TypeJSON, Flags: gate.Nullable, In: func(e *hive) any { return &e.Details }},
	},
})

var (
	hives      = gate.NewTable(hiveDef, func(k *int64) []any { return []any{k} })
	hiveName   = gate.NewText(hiveDef, "name")
	hiveFrames = gate.NewOrdered[int64](hiveDef, "frames")
	hiveFrom   = gate.NewNullableOrdered[int64](hiveDef, "from_id")
	splits     = gate.NewToMany(hiveDef, hiveDef, gate.On{{"id", "from_id"}}, func(e *hive) *[]*hive { return &e.Splits })
	from       = gate.NewToOne(hiveDef, hiveDef, gate.On{{"from_id", "id"}}, func(e *hive) **hive { return &e.From })
)

// service is a service of hives, and what stands before it.
type service struct {
	*httptest.Server
	api http.Handler

	mu   sync.Mutex
	mood []func(w http.ResponseWriter, r *http.Request) // for the next requests
	seen []*http.Request
}

// next is what stands before the next request: nil lets it through.
func (s *service) next(mood ...func(w http.ResponseWriter, r *http.Request)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.mood, s.seen = mood, nil
}

func (s *service) requests() []*http.Request {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.seen
}

func (s *service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	s.seen = append(s.seen, r)
	var mood func(w http.ResponseWriter, r *http.Request)
	if len(s.mood) > 0 {
		mood, s.mood = s.mood[0], s.mood[1:]
	}
	s.mu.Unlock()
	if mood == nil {
		mood = s.api.ServeHTTP
	}
	mood(w, r)
}

// newService serves three hives, two of which were split from the first.
func newService(t testing.TB, adjust ...func(*remote.Interface)) (*service, *remote.Service, gate.DB) {
	t.Helper()
	ctx := context.Background()
	file := filepath.Join(t.TempDir(), "bees.db")
	require.NoError(t, os.WriteFile(file, nil, 0o644))
	db, err := sqlite.Open(ctx, file)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	for _, statement := range []string{
		"CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, frames INTEGER NOT NULL DEFAULT 10 CHECK (frames < 90), from_id INTEGER REFERENCES hive (id), details JSON)",
		"CREATE TABLE request_key (id TEXT PRIMARY KEY, request TEXT NOT NULL, answer TEXT NOT NULL, made_at TIMESTAMP NOT NULL)",
		"INSERT INTO hive (id, name, frames, from_id) VALUES (1, 'one', 10, NULL), (2, 'a/b,c %', 12, 1), (3, 'it''s \"three\" \\', 14, 1)",
	} {
		_, err := db.Exec(ctx, statement, nil)
		require.NoError(t, err)
	}
	shape := rest.NewShape("hives", &hives, rest.Relate("splits", splits), rest.Relate("from", from))
	api, err := rest.New(rest.Config{DB: db, Base: "/api", Repeats: "request_key"}, rest.Mount(shape, []rest.Route{
		rest.On("GET /hives", func(w http.ResponseWriter, r *http.Request) error {
			list, err := rest.ReadList(r, shape)
			if err != nil {
				return err
			}
			return rest.SendList(w, r, shape, list)
		}),
		rest.On("GET /hives/{key}", func(w http.ResponseWriter, r *http.Request) error {
			key, err := rest.ReadKey(r, shape)
			if err != nil {
				return err
			}
			return rest.SendRow(w, r, shape, key)
		}),
		rest.On("GET /hives/summary", rest.Summarize(shape)),
		rest.On("POST /hives", rest.Create(shape)),
		rest.On("PATCH /hives/{key}", rest.Change(shape)),
		rest.On("DELETE /hives/{key}", rest.Remove(shape)),
		rest.On("PATCH /hives", rest.ChangeMany(shape, 100)),
		rest.On("DELETE /hives", rest.RemoveMany(shape, 100)),
		rest.On("GET /hives/{key}/splits", rest.ListUnder(shape, splits.Of, shape)),
		rest.On("POST /hives/{key}/splits", rest.CreateUnder(shape, splits, shape)),
	}))
	require.NoError(t, err)
	s := &service{api: api}
	s.Server = httptest.NewServer(s)
	t.Cleanup(s.Close)
	made := remote.Interface{Base: "/api", Rows: 1000, Keeps: true, Resources: []remote.Resource{
		remote.Describe("hives", &hives, remote.Relate("splits", splits), remote.Relate("from", from)),
	}}
	for _, do := range adjust {
		do(&made)
	}
	client, err := remote.Connect(s.URL+"/api", made)
	require.NoError(t, err)
	return s, client, db
}

// The moods of a service.
func away(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Retry-After", "0")
	w.WriteHeader(http.StatusServiceUnavailable)
	fmt.Fprint(w, `{"status":503,"detail":"not now"}`)
}

func tooMany(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Retry-After", "0")
	w.WriteHeader(http.StatusTooManyRequests)
}

func cut(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }

// lost makes the change, and loses the answer.
func (s *service) lost(_ http.ResponseWriter, r *http.Request) {
	s.api.ServeHTTP(httptest.NewRecorder(), r)
	panic(http.ErrAbortHandler)
}

func TestReadsAreSentAgain(t *testing.T) {
	s, client, _ := newService(t)
	s.next(away, cut, tooMany)
	rows, err := hives.All(t.Context(), client)
	require.NoError(t, err)
	assert.Len(t, rows, 3)
	assert.Len(t, s.requests(), 4)

	s.next(away, away, away, away, away)
	_, err = hives.Find(t.Context(), client, 1)
	assert.ErrorIs(t, err, gate.ErrUnavailable)
	assert.Len(t, s.requests(), 4, "three times more")
	var p *remote.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, "not now", p.Detail)
}

func TestNewRowsAreStoredOnce(t *testing.T) {
	s, client, db := newService(t)
	s.next(s.lost, away, cut)
	row := &hive{Name: "four"}
	require.NoError(t, hives.Insert(t.Context(), client, row))
	assert.Len(t, s.requests(), 4)
	assert.EqualValues(t, 10, row.Frames, "what the database fills in comes back")
	key := s.requests()[0].Header.Get("Idempotency-Key")
	assert.NotEmpty(t, key)
	for _, r := range s.requests() {
		assert.Equal(t, key, r.Header.Get("Idempotency-Key"))
	}
	n, err := hives.Where(hiveName.Is("four")).Count(t.Context(), db)
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
}

func TestWithoutKeysNewRowsAreNotSentAgain(t *testing.T) {
	s, client, db := newService(t, func(i *remote.Interface) { i.Keeps = false })
	s.next(s.lost)
	err := hives.Insert(t.Context(), client, &hive{Name: "four"})
	require.ErrorIs(t, err, gate.ErrUnavailable)
	assert.ErrorContains(t, err, "whether the change was made is not known")
	n, err := hives.Where(hiveName.Is("four")).Count(t.Context(), db)
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)

	s.next(tooMany)
	require.NoError(t, hives.Insert(t.Context(), client, &hive{Name: "five"}), "429 says that nothing was done")
}

func TestLongPausesAreNotWaitedFor(t *testing.T) {
	s, client, _ := newService(t)
	s.next(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Retry-After", "3600")
		w.WriteHeader(http.StatusServiceUnavailable)
	})
	start := time.Now()
	_, err := hives.All(t.Context(), client)
	require.ErrorIs(t, err, gate.ErrUnavailable)
	assert.Less(t, time.Since(start), 10*time.Second)

	s.next(func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = hives.All(ctx, client)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
}

func TestRowsKeepTheirETags(t *testing.T) {
	_, client, db := newService(t)
	ctx := t.Context()
	mine, err := hives.Find(ctx, client, 1)
	require.NoError(t, err)
	theirs, err := hives.Find(ctx, client, 1)
	require.NoError(t, err)
	theirs.Frames = 11
	require.NoError(t, hives.Update(ctx, client, theirs))
	theirs.Frames = 12
	require.NoError(t, hives.Update(ctx, client, theirs), "what was stored has a new one")
	mine.Frames = 13
	assert.ErrorIs(t, hives.Update(ctx, client, mine), gate.ErrStale)
	stored, err := hives.Find(ctx, db, 1)
	require.NoError(t, err)
	assert.EqualValues(t, 12, stored.Frames)
	for range 3 { // rows that nobody has leave no trace
		runtime.GC()
	}
	mine.Frames = 14
	assert.ErrorIs(t, hives.Update(ctx, client, mine), gate.ErrStale, "which this one is not")
}

func TestErrorsOfTheStore(t *testing.T) {
	_, client, _ := newService(t)
	ctx := t.Context()
	_, err := hives.Find(ctx, client, 99)
	assert.ErrorIs(t, err, gate.ErrNotFound)
	assert.ErrorIs(t, hives.Delete(ctx, client, 99), gate.ErrNotFound)
	assert.ErrorIs(t, hives.Update(ctx, client, &hive{ID: 99, Name: "x"}), gate.ErrNotFound)

	var broken *gate.ConstraintError
	require.ErrorAs(t, hives.Insert(ctx, client, &hive{Name: "one"}), &broken)
	assert.Equal(t, gate.UniqueBroken, broken.Kind)
	require.ErrorAs(t, hives.Delete(ctx, client, 1), &broken)
	assert.Equal(t, gate.StillReferenced, broken.Kind)

	var faults gate.Faults
	require.ErrorAs(t, hives.Insert(ctx, client, &hive{Name: strings.Repeat("x", 21)}), &faults)
	assert.Equal(t, gate.Faults{{Column: "name", Text: "at most 20 characters; got 21"}}, faults)

	_, err = hives.Where(gate.Raw[*hive]("1 = 1")).All(ctx, client)
	assert.ErrorIs(t, err, gate.ErrNotOffered)
	assert.ErrorIs(t, gate.InTx(ctx, client, func(gate.DB) error { return nil }), gate.ErrNotOffered)
	_, err = hives.Query().Lock(gate.ForUpdate).All(ctx, client)
	assert.ErrorIs(t, err, gate.ErrNotOffered)
	assert.ErrorIs(t, hives.Upsert(ctx, client, &hive{Name: "x"}), gate.ErrNotOffered)
	_, err = gate.Union(hives.Query(), hives.Query()).All(ctx, client)
	assert.ErrorIs(t, err, gate.ErrNotOffered)
	_, err = gate.JoinOne(hives.Query(), from).All(ctx, client)
	assert.ErrorIs(t, err, gate.ErrNotOffered)
	_, err = hives.Where(gate.And[*hive]()).Update(ctx, client, hiveFrames.SetTo(gate.Plus(hiveFrames, gate.Const[*hive](int64(1)))))
	assert.ErrorIs(t, err, gate.ErrNotOffered)
}

func TestManyKeys(t *testing.T) {
	s, client, _ := newService(t)
	keys := make([]int64, 500)
	for i := range keys {
		keys[i] = int64(i + 1)
	}
	rows, err := hives.FindAll(t.Context(), client, keys...)
	require.NoError(t, err)
	assert.Len(t, rows, 3)
	assert.Len(t, s.requests(), 10)
	s.next(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusRequestHeaderFieldsTooLarge) })
	_, err = hives.All(t.Context(), client)
	assert.ErrorContains(t, err, "ask for fewer values at once")
}

// TestConditions asks the database and the service the same.
func TestConditions(t *testing.T) {
	_, client, db := newService(t)
	for name, cond := range map[string]gate.Cond[*hive]{
		"equal":            hiveName.Is(`it's "three" \`),
		"quotes":           hiveName.Contains(`'s "`),
		"a pattern's sign": hiveName.Contains("%"),
		"a backslash":      hiveName.HasSuffix(`\`),
		"begins":           hiveName.HasPrefix("a/"),
		"like":             hiveName.Like("a/b,c !%"),
		"fold":             hiveName.EqualFold("ONE"),
		"contains fold":    hiveName.ContainsFold("ON"),
		"in":               hiveFrames.In(10, 14),
		"in nothing":       hiveFrames.In(),
		"not in":           hiveFrames.NotIn(10, 14),
		"not in nothing":   hiveFrames.NotIn(),
		"between":          hiveFrames.Between(11, 13),
		"null":             hiveFrom.IsNull(),
		"not null":         hiveFrom.IsNotNull(),
		"and":              gate.And(hiveFrames.More(10), hiveName.IsNot("x")),
		"or":               gate.Or(hiveFrames.Is(10), hiveFrames.Is(14)),
		"not":              gate.Not(gate.Or(hiveFrames.Is(10), hiveFrames.Is(14))),
		"all":              gate.And[*hive](),
		"none":             gate.Or[*hive](),
		"related":          from.Has(hiveName.Is("one")),
		"related null":     from.Has(hiveFrom.IsNull()),
		"related two":      from.Has(hiveName.Is("one"), hiveFrames.Less(11)),
		"none related":     from.HasNone(),
		"has some":         splits.Has(),
		"has one":          splits.Has(hiveFrames.Is(14)),
		"has none":         splits.HasNone(hiveFrames.Is(14)),
		"via":              gate.Via(from, hiveName).Is("one"),
		"two columns":      gate.Less[*hive, int64](hiveFrames, gate.Plus(hiveFrames, gate.Const[*hive](int64(1)))),
		"lower":            gate.Lower(hiveName).Is("one"),
		"key":              gate.WithKey(&hives, int64(2)),
	} {
		want, err := hives.Where(cond).OrderBy(gate.Via(from, hiveFrames).Asc(), hiveFrames.Desc()).All(t.Context(), db)
		require.NoError(t, err, name)
		got, err := hives.Where(cond).OrderBy(gate.Via(from, hiveFrames).Asc(), hiveFrames.Desc()).All(t.Context(), client)
		if assert.NoError(t, err, name) {
			assert.Equal(t, want, got, name)
		}
	}
	_, err := hives.Where(splits.Has(hiveFrames.Is(14), hiveName.Is("x"))).All(t.Context(), client)
	assert.ErrorIs(t, err, gate.ErrNotOffered, "it would be asked of two rows")
}

func TestValuesAndGroups(t *testing.T) {
	_, client, db := newService(t)
	for _, d := range []gate.DB{db, client} {
		groups, err := gate.Triples(hives.Query(), gate.OrNull[*hive, int64](hiveFrom), gate.RowCount[*hive](), gate.Sum(hiveFrames)).OrderBy(gate.RowCount[*hive]().Desc()).All(t.Context(), d)
		require.NoError(t, err)
		assert.Equal(t, []gate.Triple[gate.Maybe[int64], int64, gate.Maybe[int64]]{
			{First: gate.Just[int64](1), Second: 2, Third: gate.Just[int64](26)}, {First: gate.Null[int64](), Second: 1, Third: gate.Just[int64](10)},
		}, groups)
		names, err := gate.Values(hives.OrderBy(hiveFrames.Desc()).Limit(2), hiveName).All(t.Context(), d)
		require.NoError(t, err)
		assert.Equal(t, []string{`it's "three" \`, "a/b,c %"}, names)
		many, err := gate.Values(hives.Query(), gate.OrNull[*hive, int64](hiveFrom)).Distinct().All(t.Context(), d)
		require.NoError(t, err)
		assert.Len(t, many, 2)
		most, err := gate.Pairs(hives.Query(), gate.OrNull[*hive, int64](hiveFrom), gate.RowCount[*hive]()).Having(gate.RowCount[*hive]().More(1)).All(t.Context(), d)
		require.NoError(t, err)
		assert.Len(t, most, 1)
	}
}

func TestDocumentsAreReplacedAndNotMerged(t *testing.T) {
	_, client, db := newService(t)
	row := &hive{Name: "four", Details: gate.Just(gate.JSON(`{"a":1,"b":2}`))}
	require.NoError(t, hives.Insert(t.Context(), client, row))
	row.Details = gate.Just(gate.JSON(`{"a":3}`))
	require.NoError(t, hives.Update(t.Context(), client, row))
	stored, err := hives.Find(t.Context(), db, row.ID)
	require.NoError(t, err)
	assert.JSONEq(t, `{"a":3}`, string(row.Details.Or(nil)))
	assert.JSONEq(t, `{"a":3}`, string(stored.Details.Or(nil)))
}

func TestBatchesAreAllOrNothing(t *testing.T) {
	s, client, db := newService(t)
	ctx := t.Context()
	a, b := &hive{Name: "a"}, &hive{Name: "b"}
	s.next(s.lost)
	require.NoError(t, client.Batch(ctx, func(batch gate.DB) error {
		_, err := hives.All(ctx, batch)
		assert.ErrorIs(t, err, gate.ErrNotOffered)
		return errors.Join(hives.Insert(ctx, batch, a), hives.Insert(ctx, batch, b), hives.Update(ctx, batch, &hive{ID: 1, Name: "uno"}, hiveName))
	}))
	assert.NotZero(t, a.ID)
	assert.NotZero(t, b.ID)
	err := client.Batch(ctx, func(batch gate.DB) error {
		return errors.Join(hives.Insert(ctx, batch, &hive{Name: "c"}), hives.Insert(ctx, batch, &hive{Name: "a"}))
	})
	var broken *gate.ConstraintError
	require.ErrorAs(t, err, &broken)
	assert.Equal(t, []string{"name"}, broken.Columns)
	require.NoError(t, hives.UpdateAll(ctx, client, []*hive{{ID: a.ID, Name: "x"}, {ID: b.ID, Name: "y"}}, hiveName))
	names, err := gate.Values(hives.OrderBy(hiveName.Asc()), hiveName).All(ctx, db)
	require.NoError(t, err)
	assert.Equal(t, []string{"a/b,c %", `it's "three" \`, "uno", "x", "y"}, names)
	stop := errors.New("stop")
	assert.ErrorIs(t, client.Batch(ctx, func(batch gate.DB) error {
		_ = hives.Delete(ctx, batch, a.ID)
		return stop
	}), stop)
	n, err := hives.Count(ctx, db)
	require.NoError(t, err)
	assert.EqualValues(t, 5, n, "nothing was sent")
}

func TestManyRowsByOneCall(t *testing.T) {
	_, client, db := newService(t)
	ctx := t.Context()
	list := []*hive{{Name: "a"}, {Name: "b"}, {Name: "c"}}
	require.NoError(t, hives.InsertAll(ctx, client, list))
	assert.NotZero(t, list[2].ID)
	assert.Error(t, hives.InsertAll(ctx, client, []*hive{{Name: "d"}, {Name: "a"}}))
	imported, err := hives.Import(ctx, client, slices.Values([]*hive{{Name: "d"}, {Name: "a"}}))
	assert.Error(t, err)
	assert.Zero(t, imported, "none is stored")
	n, err := hives.Where(hiveName.In("a", "b", "c")).Update(ctx, client, hiveFrames.Set(7))
	require.NoError(t, err)
	assert.EqualValues(t, 3, n)
	n, err = hives.Where(hiveFrames.Is(7)).Delete(ctx, client)
	require.NoError(t, err)
	assert.EqualValues(t, 3, n)
	left, err := hives.Count(ctx, db)
	require.NoError(t, err)
	assert.EqualValues(t, 3, left)
	root := &hive{Name: "root", Splits: []*hive{{Name: "left"}, {Name: "right", Splits: []*hive{{Name: "deep"}}}}}
	require.NoError(t, hives.InsertWithRelated(ctx, client, root))
	assert.Equal(t, root.ID, root.Splits[1].FromID.Or(0))
	assert.Equal(t, root.Splits[1].ID, root.Splits[1].Splits[0].FromID.Or(0))
	require.NoError(t, splits.Remove(ctx, client, root, root.Splits[0]))
	assert.True(t, root.Splits[0].FromID.IsNull())
	require.NoError(t, splits.Add(ctx, client, root, root.Splits[0]))
	assert.Equal(t, root.ID, root.Splits[0].FromID.Or(0))
}

func TestAnswersThatAreCut(t *testing.T) {
	s, client, _ := newService(t)
	for name, text := range map[string]string{
		"half a row":  `{"id":1,"name":"one"}` + "\n" + `{"id":2,"na`,
		"no JSON":     "<html>",
		"another one": `{"id":"one"}`,
	} {
		s.next(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) })
		_, err := hives.All(t.Context(), client)
		assert.Error(t, err, name)
	}
	s.next(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, `{"id":1,"name":"one"}`+"\n")
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	})
	_, err := hives.All(t.Context(), client)
	assert.ErrorIs(t, err, gate.ErrUnavailable, "rows may be missing")
}

func TestAnotherInterface(t *testing.T) {
	told := make(chan []string, 2)
	s, _, _ := newService(t)
	document := `{"paths":{"/api/hives":{"get":{"responses":{"200":{"$ref":"#/components/responses/Hive.list"}}}}},` +
		`"components":{"schemas":{"Hive.part":{"properties":{"id":{},"name":{},"frames":{},"from_id":{},"colour":{},"splits":{},"from":{}}}}}}`
	s.api = func(api http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/openapi.json" {
				fmt.Fprint(w, document)
				return
			}
			api.ServeHTTP(w, r)
		})
	}(s.api)
	made := remote.Interface{ETag: `"old"`, Base: "/api", Rows: 1000, Resources: []remote.Resource{
		remote.Describe("hives", &hives, remote.Relate("splits", splits), remote.Relate("from", from)),
	}}
	client, err := remote.Connect(s.URL+"/api", made, func(o *remote.Options) { o.Report = func(list []string) { told <- list } })
	require.NoError(t, err)
	for range 3 {
		_, err = hives.Find(t.Context(), client, 1)
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"hives has no details any more, or not for this caller", "hives has colour, which this client does not know"}, <-told)
	assert.Empty(t, told, "once")
}

func TestAddressesAndTokens(t *testing.T) {
	for _, address := range []string{"", "bees", "ftp://bees/api", "http:///api", "://"} {
		_, err := remote.Connect(address, remote.Interface{})
		assert.ErrorContains(t, err, "expected an address such as", address)
	}
	s, _, _ := newService(t)
	client, err := remote.Connect(s.URL+"/api/", remote.Interface{Base: "/api", Rows: 10, Resources: []remote.Resource{remote.Describe("hives", &hives)}}, func(o *remote.Options) {
		o.Token = func(context.Context) (string, error) { return "honey", nil }
		o.Header = http.Header{"X-Hive": {"7"}}
	})
	require.NoError(t, err)
	_, err = hives.Find(t.Context(), client, 2)
	require.NoError(t, err)
	assert.Equal(t, "Bearer honey", s.requests()[0].Header.Get("Authorization"))
	assert.Equal(t, "7", s.requests()[0].Header.Get("X-Hive"))
	_, err = hives.With(splits).All(t.Context(), client)
	assert.ErrorIs(t, err, gate.ErrNotOffered, "the relation is not shown")
}

// FuzzRows has rows read from any text.
func FuzzRows(f *testing.F) {
	for _, seed := range []string{`{"id":1,"name":"one"}`, `{"splits":[{"id":2}],"from":null}`, `{"from":{"id":1}}`, `{"items":[{}],"next":"x"}`, `[`, `{"\u0069d":1}`, `{"splits":7}`} {
		f.Add(seed)
	}
	var text string
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }))
	f.Cleanup(s.Close)
	client, err := remote.Connect(s.URL, remote.Interface{Rows: 10, Resources: []remote.Resource{
		remote.Describe("hives", &hives, remote.Relate("splits", splits), remote.Relate("from", from)),
	}})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, body string) {
		text = body
		row, err := hives.Find(context.Background(), client, 1)
		if err == nil {
			assert.True(t, json.Valid([]byte(body)))
			assert.NotNil(t, row)
		}
		_, _ = hives.With(splits).Limit(2).All(context.Background(), client)
	})
}

// TestBytesElsewhere asks no other host for the bytes of a column.
func TestBytesElsewhere(t *testing.T) {
	s, client, _ := newService(t, func(i *remote.Interface) {
		i.Resources = []remote.Resource{remote.Describe("hives", &hives).Contents("name")}
	})
	s.next(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"id":1,"name_url":"@evil.example/x"}`) })
	_, err := hives.All(t.Context(), client)
	assert.ErrorContains(t, err, "which is no path")
	assert.Len(t, s.requests(), 1)
}
