package catalog

import (
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
)

func TestCompare(t *testing.T) {
	text := Type{Kind: Text, Size: 60}
	before := &Catalog{Engine: dialects.Of(dialects.SQLite),
		Enums: []Enum{{Name: "temper", Labels: []string{"calm", "fierce"}}, {Name: "old"}},
		Tables: []Table{
			{Name: "hive", Kind: BaseTable, Columns: []Column{
				{Name: "id", Declared: "bigint", Type: Type{Kind: Int, Bits: 64}}, {Name: "name", Declared: "varchar(60)", Type: text}, {Name: "box", Declared: "text", Type: Type{Kind: Text}},
				{Name: "frames", Declared: "integer", Type: Type{Kind: Int, Bits: 32}, Default: &Default{Kind: Constant, Text: "10"}},
			}, PrimaryKey: &Key{Columns: []string{"id"}}},
			{Name: "gone", Kind: BaseTable},
		},
		Routines: []Routine{{Name: "weigh", Kind: "function"}},
	}
	after := &Catalog{Engine: dialects.Of(dialects.SQLite),
		Enums: []Enum{{Name: "temper", Labels: []string{"calm", "nervous"}}, {Name: "new"}},
		Tables: []Table{
			{Name: "hive", Kind: BaseTable, Comment: "A box.", Columns: []Column{
				{Name: "id", Declared: "bigint", Type: Type{Kind: Int, Bits: 64}}, {Name: "name", Declared: "varchar(80)", Type: Type{Kind: Text, Size: 80}, Nullable: true},
				{Name: "frames", Declared: "integer", Type: Type{Kind: Int, Bits: 32}, Default: &Default{Kind: Constant, Text: "12"}, Comment: "In it."}, {Name: "keeper_id", Declared: "bigint", Type: Type{Kind: Int, Bits: 64}},
			}, PrimaryKey: &Key{Columns: []string{"id", "keeper_id"}}, References: []Reference{{Columns: []string{"keeper_id"}, Table: "keeper"}}, Uniques: []Key{{Columns: []string{"name"}}}, Checks: []Check{{Expr: "frames > 0"}}},
			{Name: "overview", Kind: View},
		},
	}
	assert.Equal(t, []string{
		"hive: the column box is gone",
		"hive: name is varchar(80) now, was varchar(60)",
		"hive: name may be null now",
		"hive: the default of frames is 12 now, was 10",
		"hive: the comment of frames has changed",
		"hive: the column keeper_id is new, bigint, must have a value",
		"hive: the key is id, keeper_id now, was id",
		"hive: the unique key (name) is new",
		"hive: the reference of keeper_id to keeper is new",
		"hive: the check frames > 0 is new",
		"hive: its comment has changed",
		"the table gone is gone",
		"the view overview is new",
		"temper: the label fierce is gone",
		"temper: the label nervous is new",
		"the enum old is gone",
		"the enum new is new",
		"the function weigh() is gone",
	}, lines(Compare(before, after)))
	assert.Empty(t, Compare(after, after))
	assert.Contains(t, lines(Compare(after, before)), "hive: name must have a value now")
}

// TestAnOldRecordIsNoChange compares with one that does not know all facts yet.
func TestAnOldRecordIsNoChange(t *testing.T) {
	old := &Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []Table{{Name: "hive", Kind: BaseTable}}, Routines: []Routine{{Name: "weigh", Kind: "function"}}}
	now := &Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []Table{{Name: "hive", Kind: BaseTable, Definition: "CREATE TABLE hive ()", Triggers: []Trigger{{Name: "t"}}}}, Routines: []Routine{{Name: "weigh", Kind: "function", Definition: "CREATE …"}}}
	assert.Empty(t, Compare(old, now))
	now.Routines[0].Returns = "int"
	assert.Equal(t, []string{"the function weigh() has changed"}, lines(Compare(old, now)))
	assert.Equal(t, []string{"hive: the trigger t is gone"}, lines(Compare(now, &Catalog{Engine: dialects.Of(dialects.SQLite), Tables: []Table{{Name: "hive", Kind: BaseTable, Definition: "CREATE TABLE hive ()"}}, Routines: now.Routines})))
}

func lines(changes []Change) []string {
	var list []string
	for _, c := range changes {
		list = append(list, c.String())
	}
	return list
}
