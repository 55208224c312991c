package cli

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/read"
)

func TestColumnsAreAligned(t *testing.T) {
	var out bytes.Buffer
	list := columns{titles: []string{"table", "#rows", "key"}}
	list.add("hive", "1,200", "id")
	list.add("größe_蜂", "7", "")
	list.print(&app{out: &out})
	assert.Equal(t, "  table      rows  key\n  hive      1,200  id\n  größe_蜂      7\n", out.String())
	out.Reset()
	list.print(&app{out: &out, quiet: true})
	assert.Empty(t, out.String())
	untitled := columns{titles: []string{"", ""}}
	untitled.add("a", "b")
	untitled.print(&app{out: &out})
	assert.Equal(t, "  a  b\n", out.String(), "columns without titles have no line for them")
}

func TestCounts(t *testing.T) {
	for want, got := range map[string]string{
		"1 table": count(1, "table"), "0 tables": count(0, "table"), "2 factories": count(2, "factory"), "1,234,567 rows": count(1234567, "row"),
		"999": thousands(999), "-1,000": thousands(-1000), "0": thousands(0), "100,000": thousands(100000),
	} {
		assert.Equal(t, want, got)
	}
}

func TestShortened(t *testing.T) {
	assert.Equal(t, "one two", shortened("one two", 7))
	assert.Equal(t, "one …", shortened("one two three", 9))
	assert.Equal(t, "one, two …", shortened("one, two, three, four", 14))
	assert.Equal(t, " …", shortened("onewordwithoutspaces", 10))
}

func TestStatuses(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
		says   string
	}{
		{nil, statusDone, ""},
		{errors.New("no"), statusFailed, "widegate: no\n"},
		{fmt.Errorf("while reading: %w", fault.New("try again", "it is %s", "away")), statusFailed, "widegate: while reading: it is away\n  next: try again\n"},
		{usageError{errors.New("bad flag")}, statusUsage, "widegate: bad flag\n  next: see `widegate --help`"},
		{decisionError{errors.New("decide")}, statusDecision, "widegate: decide\n"},
	} {
		var out bytes.Buffer
		a := &app{err: &out}
		assert.Equal(t, c.status, a.status(c.err))
		assert.True(t, strings.HasPrefix(out.String(), c.says), out.String())
	}
}

func TestFaultsKeepTheirCause(t *testing.T) {
	cause := errors.New("cause")
	err := fault.New("next", "what: %w", cause)
	assert.ErrorIs(t, err, cause)
	assert.Equal(t, "next", fault.Next(fmt.Errorf("around: %w", err)))
	assert.Empty(t, fault.Next(cause))
}

func TestHeadline(t *testing.T) {
	c := &catalog.Catalog{Engine: dialects.Of(dialects.Postgres), Tables: []catalog.Table{
		{Name: "hive", Kind: catalog.BaseTable, Rows: 1500, References: make([]catalog.Reference, 2)}, {Name: "v", Kind: catalog.View, Rows: -1},
	}, Enums: make([]catalog.Enum, 1)}
	assert.Equal(t, "postgres://a:***@h/bees, postgres: 1 table, 1 view, 2 references, 1 enum type, about 1,500 rows",
		headline(c, read.Source{URL: "postgres://a:secret@h/bees"}))
	c.Tables[0].Rows = -1
	assert.Equal(t, "a.sql b.sql, postgres: 1 table, 1 view, 2 references, 1 enum type", headline(c, read.Source{DDL: []string{"a.sql", "b.sql"}}))
}

func TestReferenceText(t *testing.T) {
	table := &catalog.Table{References: []catalog.Reference{
		{Columns: []string{"apiary_id"}, Table: "apiary"}, {Columns: []string{"owner"}, Table: "keeper"}, {Columns: []string{"a", "b"}, Schema: "stock", Table: "part"},
	}}
	assert.Equal(t, "apiary, keeper by owner, stock.part by a+b", referenceText(table))
}
