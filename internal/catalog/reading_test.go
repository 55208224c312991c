package catalog

import (
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
)

// TestWhatIsOnlyReadBetterIsNoChange compares what an earlier version found with what
// this one finds, and sees that real changes are still told.
func TestWhatIsOnlyReadBetterIsNoChange(t *testing.T) {
	key := &Key{Columns: []string{"code"}}
	old := &Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []Table{{Name: "hive", Kind: BaseTable, PrimaryKey: key, Columns: []Column{
		{Name: "code", Declared: "TEXT", Type: Type{Kind: Text}}, {Name: "twice", Declared: "INTEGER", Type: Type{Kind: Int}, Generated: "n * 2"}, {Name: "n", Declared: "INTEGER", Type: Type{Kind: Int}},
	}}}}
	now := &Catalog{Engine: dialects.Of(dialects.SQLite), Reading: Reading, Tables: []Table{{Name: "hive", Kind: BaseTable, PrimaryKey: key, Columns: []Column{
		{Name: "code", Declared: "TEXT", Type: Type{Kind: Text}, Nullable: true}, {Name: "twice", Declared: "INTEGER", Type: Type{Kind: Int}, Generated: "n * 2", Stored: true}, {Name: "n", Declared: "INTEGER", Type: Type{Kind: Int}},
	}}}}
	assert.Empty(t, Compare(old, now))
	assert.Empty(t, Compare(now, old))
	assert.False(t, old.Tables[0].Columns[0].Nullable, "the record stays as it is")
	now.Tables[0].Columns[2].Nullable = true
	assert.Len(t, Compare(old, now), 1)
	old.Reading = Reading
	assert.Len(t, Compare(old, now), 3, "the same version sees all of it")

	maria := &Catalog{Engine: dialects.Of(dialects.MySQL), Complete: true, Extras: []Extra{{Kind: "sequence", Name: "numbers"}}, Tables: []Table{{Name: "hive", Kind: BaseTable, Columns: []Column{
		{Name: "kg", Declared: "decimal(8,2) unsigned", Type: Type{Kind: Decimal, Precision: 8, Scale: 2}}, {Name: "on", Declared: "bit(1)", Type: Type{Kind: Bool}, Default: &Default{Kind: Constant, Text: "b'1'"}},
	}}}}
	later := &Catalog{Engine: dialects.Of(dialects.MySQL), Complete: true, Reading: Reading, Sequences: []Sequence{{Name: "numbers", Options: "CACHE 5"}}, Tables: []Table{{Name: "hive", Kind: BaseTable, Columns: []Column{
		{Name: "kg", Declared: "decimal(8,2) unsigned", Type: Type{Kind: Decimal, Precision: 8, Scale: 2, Unsigned: true}}, {Name: "on", Declared: "bit(1)", Type: Type{Kind: Bool}, Default: &Default{Kind: Constant, Text: "true"}},
	}}}}
	assert.Empty(t, Compare(maria, later))
}
