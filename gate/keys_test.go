package gate_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

// A site and the boxes that refer to it by a key of some type.
type site struct {
	ID    int64
	Code  gate.Maybe[string] // of every type: the database's text form
	Part  int64
	Boxes []*box
	Kinds []*box
}

type box struct {
	ID   int64
	Site gate.Maybe[string]
	Part gate.Maybe[int64]
	At   *site
}

// keyCase is a type of key, with values that the engine takes for the same.
type keyCase struct {
	name   string
	parent string // the type of the column that is referred to
	child  string // that of the one that refers
	column gate.Column
	same   [][]string // groups of forms of the same value; the first is stored
}

// keyCases are the types by engine. Collations and padding are the engines' own.
var keyCases = map[string][]keyCase{
	"sqlite": {
		{name: "text", parent: "TEXT", child: "TEXT", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a"}, {"A"}, {"b "}, {"b"}}},
		{name: "without case", parent: "TEXT COLLATE NOCASE", child: "TEXT COLLATE NOCASE", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "A"}, {"Bee", "bee", "BEE"}, {"c "}}},
		{name: "without case on one side", parent: "TEXT COLLATE NOCASE", child: "TEXT", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "A"}, {"Bee", "bee"}}},
		{name: "without trailing space", parent: "TEXT COLLATE RTRIM", child: "TEXT COLLATE RTRIM", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "a  "}, {"b"}}},
		{name: "decimal", parent: "DECIMAL(10,3)", child: "DECIMAL(10,3)", column: gate.Column{Type: gate.TypeNumeric, Precision: 10, Scale: 3}, same: [][]string{{"1.5", "1.500"}, {"2", "2.0"}}},
	},
	"postgres": {
		{name: "text", parent: "TEXT", child: "TEXT", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a"}, {"A"}, {"b "}, {"b"}, {`"\,{`}}},
		{name: "padded", parent: "CHAR(8)", child: "CHAR(5)", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "a  "}, {"bee", "bee "}}},
		{name: "without case", parent: "TEXT COLLATE nocase", child: "TEXT COLLATE nocase", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "A"}, {"Bee", "bee", "BEE"}}},
		{name: "decimal", parent: "NUMERIC", child: "NUMERIC", column: gate.Column{Type: gate.TypeNumeric}, same: [][]string{{"1.5", "1.500"}, {"2", "2.0"}, {"NaN"}}},
		{name: "uuid", parent: "UUID", child: "UUID", column: gate.Column{Type: gate.TypeUUID}, same: [][]string{{"6f1c2a34-0000-4000-8000-00000000abcd", "6F1C2A34-0000-4000-8000-00000000ABCD"}}},
		{name: "address", parent: "INET", child: "INET", column: gate.Column{Type: gate.TypeOther, Cast: "inet"}, same: [][]string{{"10.0.0.1", "10.0.0.1/32"}, {"::1"}}},
	},
	"mysql": {
		{name: "text", parent: "VARCHAR(40) COLLATE utf8mb4_general_ci", child: "VARCHAR(40) COLLATE utf8mb4_general_ci", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "A", "á"}, {"Bee", "bee"}}},
		{name: "bytes", parent: "VARCHAR(40) COLLATE utf8mb4_bin", child: "VARCHAR(40) COLLATE utf8mb4_bin", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a"}, {"A"}, {`\"'`}}},
		{name: "padded", parent: "CHAR(9) COLLATE utf8mb4_unicode_ci", child: "CHAR(9) COLLATE utf8mb4_unicode_ci", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "A", "a "}, {"ß", "ss"}}},
		{name: "latin", parent: "VARCHAR(40) CHARACTER SET latin1", child: "VARCHAR(40) CHARACTER SET latin1", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"a", "A"}, {"é"}}},
		{name: "decimal", parent: "DECIMAL(12,3)", child: "DECIMAL(12,3)", column: gate.Column{Type: gate.TypeNumeric, Precision: 12, Scale: 3}, same: [][]string{{"1.5", "1.500"}, {"2", "2.0"}}},
		{name: "uuid", parent: "CHAR(36)", child: "CHAR(36)", column: gate.Column{Type: gate.TypeUUID}, same: [][]string{{"6f1c2a34-0000-4000-8000-00000000abcd", "6F1C2A34-0000-4000-8000-00000000ABCD"}}},
		{name: "date", parent: "DATE", child: "DATE", column: gate.Column{Type: gate.TypeText}, same: [][]string{{"2026-05-01"}, {"2026-05-02"}}},
	},
}

// keyTables are sites and boxes with a key of one type, which has two columns
// where wide says so. The tables have a number behind their names.
func keyTables(c gate.Column, number string, wide bool) (*gate.Table[*site, int64], *gate.Table[*box, int64], *gate.ToMany[*site, *box], *gate.ToOne[*box, *site], *gate.ManyToMany[*site, *box]) {
	code, ref := c, c
	code.Name, code.Flags = "code", gate.Nullable
	ref.Name, ref.Flags = "site", gate.Nullable
	siteDef := gate.Describe(gate.Spec[*site]{
		Name: "site" + number, New: func() *site { return new(site) },
		Fields: []gate.Field[*site]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key, In: func(e *site) any { return &e.ID }},
			gate.FieldOf(code, func(e *site) any { return &e.Code }),
			{Name: "part", Type: gate.TypeInt64, In: func(e *site) any { return &e.Part }},
		},
	})
	boxDef := gate.Describe(gate.Spec[*box]{
		Name: "box" + number, New: func() *box { return new(box) },
		Fields: []gate.Field[*box]{
			{Name: "id", Type: gate.TypeInt64, Flags: gate.Key, In: func(e *box) any { return &e.ID }},
			gate.FieldOf(ref, func(e *box) any { return &e.Site }),
			{Name: "part", Type: gate.TypeInt64, Flags: gate.Nullable, In: func(e *box) any { return &e.Part }},
		},
	})
	down, up := gate.On{{"code", "site"}}, gate.On{{"site", "code"}}
	if wide {
		down, up = append(down, [2]string{"part", "part"}), append(up, [2]string{"part", "part"})
	}
	sites := gate.NewTable(siteDef, func(k *int64) []any { return []any{k} })
	boxes := gate.NewTable(boxDef, func(k *int64) []any { return []any{k} })
	return &sites, &boxes,
		gate.NewToMany(siteDef, boxDef, down, func(e *site) *[]*box { return &e.Boxes }),
		gate.NewToOne(boxDef, siteDef, up, func(e *box) **site { return &e.At }),
		gate.NewManyToMany(siteDef, boxDef, gate.Join{Name: "kind" + number, Parent: gate.On{{"code", "site"}}, Child: gate.On{{"box", "id"}}}, func(e *site) *[]*box { return &e.Kinds })
}

// ids asks for pairs of numbers by SQL of the test's own.
func ids(t *testing.T, ctx context.Context, db gate.DB, text string) (list []string) {
	t.Helper()
	rows, err := db.Query(ctx, text, nil)
	require.NoError(t, err, text)
	defer rows.Close()
	for rows.Next() {
		var a, b int64
		require.NoError(t, rows.Scan([]any{&a, &b}))
		list = append(list, fmt.Sprint(a, " ", b))
	}
	require.NoError(t, rows.Err())
	return list
}

// TestRelationsMatchAsTheEngineDoes compares what is loaded with what a join
// says, for keys that are the same in several forms.
func TestRelationsMatchAsTheEngineDoes(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		engine := db.Engine().Name
		exec := func(text string, args ...any) {
			_, err := db.Exec(ctx, text, args)
			require.NoError(t, err, text)
		}
		if engine == "postgres" {
			exec(`CREATE COLLATION nocase (provider = icu, locale = 'und-u-ks-level2', deterministic = false)`)
		}
		number := ""
		for i, c := range keyCases[engine] {
			for _, wide := range []bool{false, true} {
				number += strconv.Itoa(i) // a statement is prepared for the types of its tables
				t.Run(c.name+map[bool]string{true: " and a number"}[wide], func(t *testing.T) {
					key, ref := "(code)", "site"
					if wide {
						key, ref = "(code, part)", "site, part"
					}
					exec("CREATE TABLE site" + number + " (id BIGINT PRIMARY KEY, code " + c.parent + ", part BIGINT NOT NULL, UNIQUE " + key + ")")
					exec("CREATE TABLE box" + number + " (id BIGINT PRIMARY KEY, site " + c.child + ", part BIGINT, FOREIGN KEY (" + ref + ") REFERENCES site" + number + " " + key + ")")
					exec("CREATE TABLE kind" + number + " (site " + c.child + ", box BIGINT)")
					sites, boxes, down, up, through := keyTables(c.column, number, wide)
					quote := func(v string) string {
						v = "'" + strings.ReplaceAll(v, "'", "''") + "'"
						if engine == "mysql" {
							v = "_utf8mb4 " + v
						}
						return v
					}
					n := 0
					for i, forms := range c.same {
						exec(fmt.Sprintf("INSERT INTO site%s VALUES (%d, %s, 7)", number, i+1, quote(forms[0])))
						for _, form := range slices.Concat(forms, forms) {
							n++
							exec(fmt.Sprintf("INSERT INTO box%s VALUES (%d, %s, 7)", number, n, quote(form)))
							exec(fmt.Sprintf("INSERT INTO kind%s VALUES (%s, %d)", number, quote(form), n))
						}
					}
					exec("INSERT INTO site" + number + " VALUES (99, NULL, 8)")
					exec("INSERT INTO box" + number + " VALUES (99, NULL, 8)")

					want := ids(t, ctx, db, "SELECT s.id, b.id FROM site"+number+" s JOIN box"+number+" b ON s.code = b.site ORDER BY 1, 2")
					require.Len(t, want, n, "every box belongs to a site")
					var got, counted []string
					all, err := sites.Query().With(down).All(ctx, db)
					require.NoError(t, err)
					for _, s := range all {
						for _, b := range s.Boxes {
							got = append(got, fmt.Sprint(s.ID, " ", b.ID))
						}
						of, err := down.Of(s).All(ctx, db)
						require.NoError(t, err)
						for _, b := range of {
							counted = append(counted, fmt.Sprint(s.ID, " ", b.ID))
						}
					}
					slices.Sort(want)
					slices.Sort(got)
					slices.Sort(counted)
					assert.Equal(t, want, got, "rows that are loaded")
					if c.name != "without case on one side" {
						assert.Equal(t, want, counted, "rows of one parent")
					}

					got = nil
					children, err := boxes.Query().With(up).All(ctx, db)
					require.NoError(t, err)
					for _, b := range children {
						if b.At != nil {
							got = append(got, fmt.Sprint(b.At.ID, " ", b.ID))
						}
					}
					slices.Sort(got)
					assert.Equal(t, want, got, "rows that are referred to")

					having, err := sites.Where(down.Has()).Count(ctx, db)
					require.NoError(t, err)
					assert.Equal(t, int64(len(c.same)), having)

					bounded, err := sites.Query().With(down.Limit(1)).All(ctx, db)
					require.NoError(t, err)
					for _, s := range bounded {
						assert.Len(t, s.Boxes, map[bool]int{true: 0, false: 1}[s.Code.IsNull()])
					}

					if wide {
						return
					}
					got = nil
					all, err = sites.Query().With(through).All(ctx, db)
					require.NoError(t, err)
					for _, s := range all {
						for _, b := range s.Kinds {
							got = append(got, fmt.Sprint(s.ID, " ", b.ID))
						}
					}
					slices.Sort(got)
					assert.Equal(t, want, got, "rows through a table between")

					last := children[0]
					parent, err := sites.Where(down.Has(gate.SameKey(gate.InfoOf(boxes.Query()), last))).One(ctx, db)
					require.NoError(t, err)
					require.NoError(t, down.Replace(ctx, db, parent, last))
					require.NoError(t, down.Remove(ctx, db, parent, last))
					left, err := down.Of(parent).Count(ctx, db)
					require.NoError(t, err)
					assert.Zero(t, left)
				})
			}
		}
	})
}

// TestLongLists asks for lists of values of every length that an engine takes
// in another way.
func TestLongLists(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		k := addKeeper(t, ctx, db, "Clover")
		var all []*hive
		for i := range 40 {
			h := &hive{KeeperID: k.ID, Name: fmt.Sprintf("h'\"\\ü%d", i), Weight: gate.Just(gate.DecimalOf(int64(i))), Tag: gate.Just(fmt.Sprintf("6f1c2a34-0000-4000-8000-%012d", i))}
			h.Temper = []temper{"calm", "fierce"}[i%2]
			h.Warmth = float64(i) + 0.1
			all = append(all, h)
		}
		require.NoError(t, hives.InsertAll(ctx, db, all))
		r := rand.New(rand.NewPCG(3, 3))
		for _, n := range []int{0, 1, 2, 1000, 1025, 70_000} {
			picked := map[int]bool{}
			var numbers []int64
			var names, tags []string
			var weights []gate.Decimal
			for i := range n {
				at := i
				if i >= 20 {
					at = 40 + i
				} else if i = r.IntN(40); true {
					at = i
					picked[i] = true
				}
				id := int64(1_000_000 + at)
				if at < 40 {
					id = all[at].ID
				}
				numbers = append(numbers, id)
				names = append(names, fmt.Sprintf("h'\"\\ü%d", at))
				tags = append(tags, fmt.Sprintf("6f1c2a34-0000-4000-8000-%012d", at))
				weight, err := gate.ParseDecimal(strconv.Itoa(at) + ".00")
				require.NoError(t, err)
				weights = append(weights, weight)
			}
			for what, cond := range map[string]gate.Cond[*hive]{
				"numbers": hives.ID.In(numbers...), "texts": hives.Name.In(names...), "decimals": hives.Weight.In(weights...), "uuids": hives.Tag.In(tags...),
			} {
				found, err := hives.Where(cond).All(ctx, db)
				require.NoError(t, err, "%d %s", n, what)
				assert.Len(t, found, len(picked), "%d %s", n, what)
				others, err := hives.Where(gate.Not(cond)).Count(ctx, db)
				require.NoError(t, err)
				assert.Equal(t, int64(40-len(picked)), others, "not in %d %s", n, what)
			}
			for what, q := range map[string]func(not bool) *gate.SQL{
				"numbers": func(not bool) *gate.SQL {
					return gate.In(gate.NewSQL(db).Text("SELECT count(*) FROM hive WHERE id"), not, numbers)
				},
				"texts": func(not bool) *gate.SQL {
					return gate.In(gate.NewSQL(db).Text("SELECT count(*) FROM hive WHERE name"), not, names)
				},
				"decimals": func(not bool) *gate.SQL {
					return gate.In(gate.NewSQL(db).Text("SELECT count(*) FROM hive WHERE weight"), not, weights)
				},
			} {
				for _, not := range []bool{false, true} {
					count, err := gate.ReadValue(ctx, db, q(not), func(v *int64) any { return v })
					require.NoError(t, err, "%d %s", n, what)
					assert.Equal(t, int64(map[bool]int{false: len(picked), true: 40 - len(picked)}[not]), count, "named query, %d %s, not %v", n, what, not)
				}
			}
			keys, err := hives.FindAll(ctx, db, numbers...)
			require.NoError(t, err)
			assert.Len(t, keys, len(picked))
		}
	})
}

// TestStatementsForManyParents counts the statements that load relations.
func TestStatementsForManyParents(t *testing.T) {
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		text := map[string]string{"mysql": "VARCHAR(40)"}[db.Engine().Name]
		if text == "" {
			text = "TEXT"
		}
		for _, s := range []string{
			"CREATE TABLE site (id BIGINT PRIMARY KEY, code " + text + " NOT NULL UNIQUE, part BIGINT NOT NULL)",
			"CREATE TABLE box (id BIGINT PRIMARY KEY, site " + text + " NOT NULL, part BIGINT)",
			"CREATE INDEX box_site ON box (site)",
			"CREATE TABLE kind (site " + text + ", box BIGINT)",
		} {
			_, err := db.Exec(ctx, s, nil)
			require.NoError(t, err, s)
		}
		most := long(20_000, 100_000)
		for _, wide := range []bool{false, true} {
			sites, boxes, down, up, _ := keyTables(gate.Column{Type: gate.TypeText}, "", wide)
			if !wide {
				_, err := sites.Import(ctx, db, func(yield func(*site) bool) {
					for i := range most {
						if !yield(&site{ID: int64(i), Code: gate.Just("s" + strconv.Itoa(i)), Part: 7}) {
							return
						}
					}
				})
				require.NoError(t, err)
				_, err = boxes.Import(ctx, db, func(yield func(*box) bool) {
					for i := range most {
						if !yield(&box{ID: int64(i), Site: gate.Just("s" + strconv.Itoa(i)), Part: gate.Just[int64](7)}) {
							return
						}
					}
				})
				require.NoError(t, err)
				if db.Engine().Name == "postgres" {
					_, err = db.Exec(ctx, "ANALYZE", nil)
					require.NoError(t, err)
				}
			}
			for _, n := range []int{1, 1000, most} {
				statements := 0
				counted := gate.Traced(db, func(context.Context, gate.Statement) { statements++ })
				list, err := sites.Query().Limit(n).With(down).All(ctx, counted)
				require.NoError(t, err)
				assert.Equal(t, 2, statements, "%d parents", n)
				for _, s := range list {
					require.Len(t, s.Boxes, 1)
				}
				statements = 0
				children, err := boxes.Query().Limit(n).With(up).All(ctx, counted)
				require.NoError(t, err)
				assert.Equal(t, 2, statements, "%d rows that refer", n)
				for _, b := range children {
					require.NotNil(t, b.At)
				}
			}
		}
	})
}
