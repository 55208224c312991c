// Package dialect is how SQLite writes SQL.
package dialect

import (
	"regexp"

	"widegate/internal/sqltext"
)

// SQLite is its dialect.
var SQLite = &sqltext.Dialect{
	Name:     "sqlite",
	TextType: "text",
	Quote:    `"`, NameQuotes: "\"`[", TextQuotes: "'",
	Bare:   regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`),
	Blocks: true,
	Loose:  true, SecondDigits: 6, LongText: "TEXT", WideIntegers: true, WidestOfMany: true,
	Functions: []sqltext.Function{
		{Names: "total", Value: sqltext.AsFloat, Nulls: sqltext.Never},
		{Names: "round", Value: sqltext.AsFloat, Nulls: sqltext.IfAnyArg},
		{Names: "random", Value: sqltext.AsInteger, Nulls: sqltext.Never},
		{Names: "hex typeof", Value: sqltext.AsText, Nulls: sqltext.Never},
		{Names: "json_group_array json_group_object", Value: sqltext.AsJSON, Nulls: sqltext.Never},
		{Names: "json_array json_object json_set json_insert json_replace json_remove json_patch json", Value: sqltext.AsJSON, Nulls: sqltext.Always},
		{Names: "datetime", Value: sqltext.AsTimestamp, Nulls: sqltext.Always},
		{Names: "time timediff", Value: sqltext.AsText, Nulls: sqltext.Always},
	},
	MostColumns: 2000, // as it is built
	ToldWhole:   true, TableTexts: true, NullableKeys: true,
	Shell: sqltext.Shell{
		Ends:     []string{"go", "/"},
		Line:     regexp.MustCompile(`^[#.]`),
		Includes: regexp.MustCompile(`(?m)^\.read[ \t]+(\S+)`),
		Commands: regexp.MustCompile(`(?m)^\.(?:read|import|restore|open|load|shell|system|once|output|save|clone|archive)\b[^\n]*`),
	},
	Marks: []sqltext.Mark{
		{Weight: sqltext.Decisive, Form: regexp.MustCompile(`\bautoincrement\b|\bwithout rowid\b|\bpragma [a-z]|\) ?strict\b|\bcreate virtual table\b|\bsqlite_(?:sequence|stat1|master)\b|\bstrftime ?\(|\bjulianday ?\(|\bdatetime ?\(''|\binsert or (?:replace|ignore)\b|\brandomblob ?\(|\bvacuum;`)},
		{Weight: sqltext.Strong, Form: regexp.MustCompile(`\binteger primary key\b|\bbegin transaction\b|\bglob ''|\bcollate nocase\b|\[[a-z_ ]+\] [a-z]`)},
		{Weight: sqltext.Weak, Form: regexp.MustCompile(`\binteger not null\b|\bblob\b|\bdatetime\b|` + "`")},
	},
}
