package live

import (
	"database/sql"
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/internal/catalog"
)

func TestTypes(t *testing.T) {
	for declared, c := range map[string]struct {
		dataType               string
		size, precision, scale int64
		want                   catalog.Type
	}{
		"tinyint(1)":             {"tinyint", 0, 0, 0, catalog.Type{Kind: catalog.Bool}},
		"tinyint(1) unsigned":    {"tinyint", 0, 0, 0, catalog.Type{Kind: catalog.Bool}},
		"tinyint(4)":             {"tinyint", 0, 0, 0, catalog.Type{Kind: catalog.Int, Bits: 8}},
		"int(10) unsigned":       {"int", 0, 10, 0, catalog.Type{Kind: catalog.Int, Bits: 32, Unsigned: true}},
		"bigint(20) unsigned":    {"bigint", 0, 20, 0, catalog.Type{Kind: catalog.Int, Bits: 64, Unsigned: true}},
		"decimal(8,3)":           {"decimal", 0, 8, 3, catalog.Type{Kind: catalog.Decimal, Precision: 8, Scale: 3}},
		"bit(1)":                 {"bit", 0, 1, 0, catalog.Type{Kind: catalog.Bool}},
		"bit(9)":                 {"bit", 0, 9, 0, catalog.Type{Kind: catalog.Bytes, Size: 2}},
		"enum('a','it''s',',')":  {"enum", 4, 0, 0, catalog.Type{Kind: catalog.EnumKind, Labels: []string{"a", "it's", ","}}},
		"set('x','y')":           {"set", 3, 0, 0, catalog.Type{Kind: catalog.Set, Labels: []string{"x", "y"}}},
		"multipolygon":           {"multipolygon", 0, 0, 0, catalog.Type{Kind: catalog.Bytes}},
		"inet6":                  {"inet6", 0, 0, 0, catalog.Type{Kind: catalog.Network}},
		"enum('a\\\\b','c')":     {"enum", 4, 0, 0, catalog.Type{Kind: catalog.EnumKind, Labels: []string{`a\b`, "c"}}},
		"decimal(8,3) unsigned":  {"decimal", 0, 8, 3, catalog.Type{Kind: catalog.Decimal, Precision: 8, Scale: 3, Unsigned: true}},
		"double unsigned":        {"double", 0, 0, 0, catalog.Type{Kind: catalog.Float, Bits: 64, Unsigned: true}},
		"something_of_the_years": {"something", 0, 0, 0, catalog.Type{Kind: catalog.Other}},
	} {
		assert.Equal(t, c.want, TypeOf(c.dataType, declared, c.size, c.precision, c.scale), declared)
	}
}

// TestDefaults has the ways of MariaDB, which quotes texts, and of MySQL, which
// marks expressions.
func TestDefaults(t *testing.T) {
	text := catalog.Type{Kind: catalog.Text}
	constant := func(s string) *catalog.Default { return &catalog.Default{Kind: catalog.Constant, Text: s} }
	expression := func(s string) *catalog.Default { return &catalog.Default{Kind: catalog.Expression, Text: s} }
	for _, c := range []struct {
		def, extra string
		kind       catalog.Type
		want       *catalog.Default
	}{
		{"'it''s'", "", text, constant("it's")}, {"calm", "", text, constant("calm")}, {"NULL", "", text, nil}, {"", "", text, constant("")},
		{"1", "", catalog.Type{Kind: catalog.Bool}, constant("true")}, {"0", "", catalog.Type{Kind: catalog.Bool}, constant("false")},
		{"current_timestamp()", "", catalog.Type{Kind: catalog.Timestamp}, expression("current_timestamp()")},
		{"CURRENT_TIMESTAMP", "DEFAULT_GENERATED", catalog.Type{Kind: catalog.Timestamp}, expression("CURRENT_TIMESTAMP")},
		{`'a\nb'`, "", text, constant("a\nb")}, {`'a\0b'`, "", text, constant("a\x00b")}, {"b'1'", "", catalog.Type{Kind: catalog.Bool}, constant("true")}, {"b'101'", "", catalog.Type{Kind: catalog.Bytes}, constant("b'101'")},
		{"uuid()", "DEFAULT_GENERATED", text, expression("uuid()")}, {"-1.5", "", catalog.Type{Kind: catalog.Decimal}, constant("-1.5")},
	} {
		assert.Equal(t, c.want, defaultOf(sql.NullString{String: c.def, Valid: true}, c.extra, c.kind), "%s %s", c.def, c.extra)
	}
	assert.Nil(t, defaultOf(sql.NullString{}, "", text))
}
