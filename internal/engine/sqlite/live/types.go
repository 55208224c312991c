package live

import (
	"database/sql"
	"regexp"
	"strconv"
	"strings"

	"widegate/internal/engine/sqlite/dialect"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

var declaration = regexp.MustCompile(`^\s*([^()]*?)\s*(?:\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\))?\s*([^()]*?)\s*$`)

// typeNames maps declared names to types. The engine itself takes any name and
// only derives an affinity from it, so this is what people mean by them.
var typeNames = map[string]catalog.Type{
	"INTEGER":                     {Kind: catalog.Int, Bits: 64},
	"INT":                         {Kind: catalog.Int, Bits: 64},
	"BIGINT":                      {Kind: catalog.Int, Bits: 64},
	"INT8":                        {Kind: catalog.Int, Bits: 64},
	"UNSIGNED BIG INT":            {Kind: catalog.Int, Bits: 64},
	"MEDIUMINT":                   {Kind: catalog.Int, Bits: 32},
	"INT4":                        {Kind: catalog.Int, Bits: 32},
	"SMALLINT":                    {Kind: catalog.Int, Bits: 16},
	"INT2":                        {Kind: catalog.Int, Bits: 16},
	"TINYINT":                     {Kind: catalog.Int, Bits: 16},
	"REAL":                        {Kind: catalog.Float, Bits: 64},
	"DOUBLE":                      {Kind: catalog.Float, Bits: 64},
	"DOUBLE PRECISION":            {Kind: catalog.Float, Bits: 64},
	"FLOAT":                       {Kind: catalog.Float, Bits: 64},
	"DECIMAL":                     {Kind: catalog.Decimal},
	"NUMERIC":                     {Kind: catalog.Decimal},
	"BOOLEAN":                     {Kind: catalog.Bool},
	"BOOL":                        {Kind: catalog.Bool},
	"TEXT":                        {Kind: catalog.Text},
	"CLOB":                        {Kind: catalog.Text},
	"CHAR":                        {Kind: catalog.Text},
	"CHARACTER":                   {Kind: catalog.Text},
	"VARCHAR":                     {Kind: catalog.Text},
	"CHARACTER VARYING":           {Kind: catalog.Text},
	"NCHAR":                       {Kind: catalog.Text},
	"NVARCHAR":                    {Kind: catalog.Text},
	"BLOB":                        {Kind: catalog.Bytes},
	"BYTEA":                       {Kind: catalog.Bytes},
	"VARBINARY":                   {Kind: catalog.Bytes},
	"DATE":                        {Kind: catalog.Date},
	"TIME":                        {Kind: catalog.Time},
	"DATETIME":                    {Kind: catalog.Timestamp},
	"TIMESTAMP":                   {Kind: catalog.Timestamp},
	"TIMESTAMP WITHOUT TIME ZONE": {Kind: catalog.Timestamp},
	"TIMESTAMP WITH TIME ZONE":    {Kind: catalog.TimestampTZ},
	"TIMESTAMPTZ":                 {Kind: catalog.TimestampTZ},
	"JSON":                        {Kind: catalog.JSON},
	"JSONB":                       {Kind: catalog.JSON},
	"UUID":                        {Kind: catalog.UUID},
}

// columnType normalizes a declared type. A name that is not known falls back
// on the affinity rules of https://www.sqlite.org/datatype3.html.
func columnType(declared string) catalog.Type {
	m := declaration.FindStringSubmatch(strings.ToUpper(declared))
	if m == nil {
		return byAffinity(strings.ToUpper(declared))
	}
	name := strings.Join(strings.Fields(m[1]+" "+m[4]), " ")
	t, known := typeNames[name]
	if !known {
		t = byAffinity(name)
	}
	first, _ := strconv.Atoi(m[2])
	second, _ := strconv.Atoi(m[3])
	switch t.Kind {
	case catalog.Decimal:
		t.Precision, t.Scale = first, second
	case catalog.Text, catalog.Bytes:
		t.Size = first
	}
	return t
}

func byAffinity(name string) catalog.Type {
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(name, p) {
				return true
			}
		}
		return false
	}
	switch {
	case has("FLOATING POINT"): // whole numbers by the letter of the rules, which nobody means
		return catalog.Type{Kind: catalog.Float, Bits: 64}
	case has("INT"):
		return catalog.Type{Kind: catalog.Int, Bits: 64}
	case has("CHAR", "CLOB", "TEXT"):
		return catalog.Type{Kind: catalog.Text}
	case has("BLOB"):
		return catalog.Type{Kind: catalog.Bytes}
	case has("REAL", "FLOA", "DOUB"):
		return catalog.Type{Kind: catalog.Float, Bits: 64}
	}
	return catalog.Type{Kind: catalog.Other}
}

var number = regexp.MustCompile(`^[+-]?(\d+(\.\d*)?|\.\d+)$`)

// defaultOf tells constants from expressions in a default's text.
func defaultOf(text sql.NullString, t catalog.Type) *catalog.Default {
	if !text.Valid || strings.EqualFold(text.String, "NULL") {
		return nil
	}
	s := strings.TrimSpace(text.String)
	constant := func(value string) *catalog.Default {
		return &catalog.Default{Kind: catalog.Constant, Text: value}
	}
	upper := strings.ToUpper(s)
	switch {
	case upper == "TRUE" || t.Kind == catalog.Bool && s == "1":
		return constant("true")
	case upper == "FALSE" || t.Kind == catalog.Bool && s == "0":
		return constant("false")
	case number.MatchString(s):
		return constant(strings.TrimPrefix(s, "+"))
	}
	if tokens := sqltext.Scan(s, dialect.SQLite); len(tokens) == 1 && (tokens[0].Kind == sqltext.Text || tokens[0].Kind == sqltext.QuotedName) {
		return constant(tokens[0].Text)
	}
	return &catalog.Default{Kind: catalog.Expression, Text: s}
}
