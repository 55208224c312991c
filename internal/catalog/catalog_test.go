package catalog

import (
	"math/rand/v2"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func sample() *Catalog {
	return &Catalog{Engine: dialects.Of(dialects.Postgres), Schemas: []string{"public", "stock"}, Tables: []Table{
		{Schema: "public", Name: "hive", Kind: BaseTable, Columns: []Column{
			{Name: "id", Declared: "bigint", Type: Type{Kind: Int, Bits: 64}, Default: &Default{Kind: Identity}},
			{Name: "temper", Declared: "public.temper", Type: Type{Kind: EnumKind, Enum: "public.temper"}, Comment: "<wild> & calm"},
		}, PrimaryKey: &Key{Name: "hive_pkey", Columns: []string{"id"}},
			Uniques:    []Key{{Name: "b", Columns: []string{"temper"}}, {Name: "a", Columns: []string{"id"}}},
			References: []Reference{{Columns: []string{"temper"}, Schema: "public", Table: "t"}, {Columns: []string{"id"}, Schema: "stock", Table: "u"}},
			Checks:     []Check{{Expr: "z"}, {Expr: "a"}}, Indexes: []Index{{Name: "y"}, {Name: "x"}}, Rows: 5},
		{Schema: "stock", Name: "jar", Kind: View},
		{Schema: "public", Name: "apiary", Kind: BaseTable},
	}, Enums: []Enum{{Schema: "public", Name: "temper", Labels: []string{"wild", "calm"}}}}
}

func TestEncodingIsCanonical(t *testing.T) {
	want, err := sample().Encode()
	require.NoError(t, err)
	for range 20 {
		c := sample()
		rand.Shuffle(len(c.Tables), func(i, j int) { c.Tables[i], c.Tables[j] = c.Tables[j], c.Tables[i] })
		for i := range c.Tables {
			u := c.Tables[i].Uniques
			rand.Shuffle(len(u), func(i, j int) { u[i], u[j] = u[j], u[i] })
			r := c.Tables[i].References
			rand.Shuffle(len(r), func(i, j int) { r[i], r[j] = r[j], r[i] })
			c.Tables[i].Rows = rand.Int64()
		}
		got, err := c.Encode()
		require.NoError(t, err)
		require.Equal(t, string(want), string(got))
	}
	assert.Contains(t, string(want), `"wild",`, "labels keep the order that they have in the engine")
	assert.Contains(t, string(want), "<wild> & calm")
	back, err := Decode(want, dialects.All)
	require.NoError(t, err)
	again, err := back.Encode()
	require.NoError(t, err)
	assert.Equal(t, string(want), string(again))
}

func TestLeaveOut(t *testing.T) {
	c := sample()
	c.LeaveOut("public")
	c.Sort()
	assert.Equal(t, []string{"stock"}, c.Schemas)
	assert.Equal(t, []string{"apiary", "hive", "stock.jar"}, []string{c.Tables[0].FullName(), c.Tables[1].FullName(), c.Tables[2].FullName()})
	hive, ok := c.Table("", "hive")
	require.True(t, ok)
	assert.Equal(t, "temper", hive.Columns[1].Type.Enum)
	assert.Equal(t, "stock", hive.References[0].Schema)
	_, ok = c.Enum("temper")
	assert.True(t, ok)
}

func TestDecodeRefuses(t *testing.T) {
	for _, text := range []string{"", "[]", `{"version":1,"colour":"red"}`, `{"version":99,"engine":"sqlite","tables":[]}`} {
		_, err := Decode([]byte(text), dialects.All)
		assert.Error(t, err, text)
	}
}

func FuzzDecode(f *testing.F) {
	text, err := sample().Encode()
	require.NoError(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := Decode(text, dialects.All)
		if err != nil {
			return
		}
		first, err := c.Encode()
		require.NoError(t, err)
		again, err := Decode(first, dialects.All)
		require.NoError(t, err)
		second, err := again.Encode()
		require.NoError(t, err)
		require.Equal(t, string(first), string(second))
	})
}
