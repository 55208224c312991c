package live

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/internal/catalog"
)

func TestTypes(t *testing.T) {
	basic := func(name string) Name { return Name{Name: name, Kind: "b"} }
	none := Name{}
	decimal := catalog.Type{Kind: catalog.Decimal, Precision: 8, Scale: 3}
	for _, c := range []struct {
		own, element Name
		modifier     int32
		want         catalog.Type
	}{
		{basic("int4"), none, -1, catalog.Type{Kind: catalog.Int, Bits: 32}},
		{basic("numeric"), none, 8<<16 | 3 + 4, decimal},
		{basic("numeric"), none, 3<<16 | 0x7fd + 4, catalog.Type{Kind: catalog.Decimal, Precision: 3, Scale: -3}},
		{basic("numeric"), none, -1, catalog.Type{Kind: catalog.Decimal}},
		{basic("varchar"), none, 24, catalog.Type{Kind: catalog.Text, Size: 20}},
		{basic("bit"), none, 3, catalog.Type{Kind: catalog.BitString, Size: 3}},
		{basic("_numeric"), basic("numeric"), 8<<16 | 3 + 4, catalog.Type{Kind: catalog.Array, Element: &decimal}},
		{Name{"stock", "size", "e"}, none, -1, catalog.Type{Kind: catalog.EnumKind, Enum: "stock.size"}},
		{Name{"public", "spot", "c"}, none, -1, catalog.Type{Kind: catalog.Compound, Composite: "public.spot"}},
		{Name{"pg_catalog", "int4range", "r"}, basic("int4"), -1, catalog.Type{Kind: catalog.Range, Element: &catalog.Type{Kind: catalog.Int, Bits: 32}}},
		{basic("hstore"), none, -1, catalog.Type{Kind: catalog.Other}},
	} {
		assert.Equal(t, c.want, TypeOf(c.own, c.element, c.modifier), "%v of %v", c.own, c.element)
	}
}

func TestDefaults(t *testing.T) {
	constant := func(s string) *catalog.Default { return &catalog.Default{Kind: catalog.Constant, Text: s} }
	for text, want := range map[string]*catalog.Default{
		"": nil, "NULL::character varying": nil, "true": constant("true"), "'it''s'::text": constant("it's"), "'x'::character varying(20)": constant("x"),
		"'{}'::text[]": constant("{}"), "'a b'::\"Mood Type\"": constant("a b"), "-5": constant("-5"), "'-5'::integer": constant("-5"), "(-5)": constant("-5"), "1.50": constant("1.50"), "(0)::numeric": constant("0"),
		"now()": {Kind: catalog.Expression, Text: "now()"}, "('a'::text || 'b'::text)": {Kind: catalog.Expression, Text: "('a'::text || 'b'::text)"},
	} {
		assert.Equal(t, want, DefaultOf(text), text)
	}
}

func FuzzDefaultOf(f *testing.F) {
	for _, s := range []string{"", "'a'::text", "'it''s'", "-1", "(2)::int", "now()"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if d := DefaultOf(text); d != nil && d.Kind == catalog.Expression {
			assert.Equal(t, text, d.Text)
		}
	})
}
