package gate_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/postgres"
	"widegate/gate/sqlite"
)

func TestTimesOfNumbers(t *testing.T) {
	for _, c := range []struct {
		from any
		want string
	}{
		{int64(1777627800), "2026-05-01T09:30:00Z"}, {int64(1777627800123), "2026-05-01T09:30:00.123Z"}, {2461161.895833333, "2026-05-01T09:30:00Z"}, {1777627800.25, "2026-05-01T09:30:00.25Z"},
		{int64(-86400), "1969-12-31T00:00:00Z"}, {2440587.5, "1970-01-01T00:00:00Z"}, {int64(2440588), "1970-01-01T12:00:00Z"},
	} {
		var at time.Time
		require.NoError(t, gate.Assign(&at, c.from))
		assert.Equal(t, c.want, at.Format(time.RFC3339Nano), "%v", c.from)
		assert.Equal(t, at, gate.Shown(gate.TypeTimestamp, c.from))
	}
	for _, number := range []any{int64(0), int64(1), 1e300, int64(1) << 62} {
		var at time.Time
		assert.Error(t, gate.Assign(&at, number), "%v", number)
		assert.Equal(t, number, gate.Shown(gate.TypeTimestamp, number), "what is no time stays")
	}
	assert.Equal(t, "soon", gate.Shown(gate.TypeDate, "soon"))
	assert.Equal(t, "2026-05-01", gate.Shown(gate.TypeDate, "2026-05-01T00:00:00"))
	assert.Equal(t, true, gate.Shown(gate.TypeBool, "t"))
	assert.Equal(t, "5", gate.Shown(gate.TypeText, int64(5)))
	assert.Nil(t, gate.Shown(gate.TypeText, nil))
}

// TestFormsThatTheServerIsNotAskedAbout holds the forms of types that only
// PostgreSQL knows.
func TestFormsThatTheServerIsNotAskedAbout(t *testing.T) {
	for _, c := range []struct{ cast, good, bad string }{
		{"inet", "10.0.0.1", "10.0.0"}, {"inet", "2001:db8::/32", "x"}, {"inet", "10.0.0.1/24", "fe80::1%eth0"}, {"cidr", "10.0.0.0/8", "10.0.0.1/8"}, {"macaddr", "08:00:2b:01:02:03", "08:00"},
		{"bit(4)", "1010", "101"}, {"bit varying(3)", "", "1010"}, {"bit(3)", "000", "00x"}, {"oid", "4294967295", "-1"}, {"xml", "<a/>", ""},
	} {
		column := &gate.Column{Type: gate.TypeOther, Cast: c.cast}
		assert.Empty(t, postgres.Engine.OwnForm(column, c.good), "%s %s", c.cast, c.good)
		if c.bad != "" {
			assert.NotEmpty(t, postgres.Engine.OwnForm(column, c.bad), "%s %s", c.cast, c.bad)
		}
	}
	id := &gate.Column{Type: gate.TypeUUID}
	assert.Empty(t, postgres.Engine.OwnForm(id, "0190b3b4-2c9c-7c3e-9d25-3F1F0C2B7A11"))
	for _, bad := range []string{"", "x", "0190b3b42c9c7c3e9d253f1f0c2b7a11", "{0190b3b4-2c9c-7c3e-9d25-3f1f0c2b7a11}", "0190b3b4-2c9c-7c3e-9d25-3f1f0c2b7a1g"} {
		assert.NotEmpty(t, postgres.Engine.OwnForm(id, bad), bad)
	}
	days := &gate.Column{Type: gate.TypeRange}
	assert.NotEmpty(t, postgres.Engine.OwnForm(days, `{"from":"2026-05-02","to":"2026-05-01","bounds":"[)"}`))
	assert.NotEmpty(t, postgres.Engine.OwnForm(days, `{"from":10,"to":9,"bounds":"[)"}`))
	assert.Empty(t, postgres.Engine.OwnForm(days, `{"from":null,"to":"2026-05-01","bounds":"[)"}`))
	assert.NotEmpty(t, sqlite.Engine.OwnForm(&gate.Column{Type: gate.TypeNumeric}, "0.1234567890123456789"))
}

type same struct {
	Name  string
	Price gate.Maybe[gate.Decimal]
}

// TestPagesOfEqualRows goes through rows that have no key and are often the same.
func TestPagesOfEqualRows(t *testing.T) {
	sames := gate.NewView(gate.Describe(gate.Spec[*same]{
		Name: "same", New: func() *same { return new(same) },
		Fields: []gate.Field[*same]{
			{Name: "name", Type: gate.TypeText, In: func(e *same) any { return &e.Name }},
			{Name: "price", Type: gate.TypeNumeric, Flags: gate.Nullable, In: func(e *same) any { return &e.Price }},
		},
	}))
	eachEngine(t, func(t *testing.T, ctx context.Context, db gate.DB) {
		_, err := db.Exec(ctx, "CREATE TABLE same (name VARCHAR(10) NOT NULL, price DECIMAL(8,2))", nil)
		require.NoError(t, err)
		_, err = db.Exec(ctx, "INSERT INTO same VALUES ('a', 1.5), ('a', 1.5), ('A', 1.5), ('a', 1.5), ('a ', NULL), ('b', NULL), ('b', NULL), ('b', NULL), ('b', 2), ('a', 1.5), ('a', 1.5)", nil)
		require.NoError(t, err)
		for size := 1; size <= 12; size++ {
			seen, after := map[string]int{}, ""
			for {
				rows, next, err := sames.Where().Page(ctx, db, after, size)
				require.NoError(t, err)
				for _, r := range rows {
					price, _ := r.Price.Get()
					seen[fmt.Sprintf("%q %v", r.Name, price.Float64())]++
				}
				if after = next; after == "" {
					break
				}
			}
			assert.Equal(t, map[string]int{`"a" 1.5`: 5, `"A" 1.5`: 1, `"a " 0`: 1, `"b" 0`: 3, `"b" 2`: 1}, seen, "pages of %d", size)
		}
	})
}
