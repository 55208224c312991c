package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// A conversion says what a change of type does to values.
type conversion struct {
	condition string // in SQL, of the column before: the value is changed, or does not fit; empty: no value is
	tries     string // an expression that may raise an error for a value, and is not the value where it is changed
	anchored  bool   // what it does depends on a time zone
	unknown   bool   // it cannot be told
}

// harmless reports whether no value is changed, and every one fits.
func (c conversion) harmless() bool {
	return c.condition == "" && c.tries == "" && !c.anchored && !c.unknown
}

// or joins conditions, leaving empty ones out.
func or(list ...string) string {
	list = slices.DeleteFunc(list, func(s string) bool { return s == "" })
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return "(" + strings.Join(list, ") OR (") + ")"
}

// intRange are the least and the largest number of a type.
func intRange(t catalog.Type) (low, high string) {
	signed := map[int][2]string{8: {"-128", "127"}, 16: {"-32768", "32767"}, 24: {"-8388608", "8388607"}, 32: {"-2147483648", "2147483647"}, 64: {"-9223372036854775808", "9223372036854775807"}}
	unsigned := map[int]string{8: "255", 16: "65535", 24: "16777215", 32: "4294967295", 64: "18446744073709551615"}
	bits := t.Bits
	if t.Kind == catalog.Bool {
		bits = 8
	}
	if bits == 0 {
		bits = 64
	}
	if t.Unsigned {
		return "0", unsigned[bits]
	}
	return signed[bits][0], signed[bits][1]
}

func number(k catalog.TypeKind) bool {
	return k == catalog.Int || k == catalog.Decimal || k == catalog.Float
}

// whole is the pattern of whole numbers as they are printed, decimal that of
// others.
const (
	whole   = "^(0|-?[1-9][0-9]{0,30})$"
	decimal = "^-?(0|[1-9][0-9]{0,60})([.][0-9]{1,60})?$"
)

// outside is a condition for numbers that a type does not hold.
func outside(column string, now catalog.Type) string {
	low, high := intRange(now)
	return fmt.Sprintf("%s NOT BETWEEN %s AND %s", column, low, high)
}

func zoned(k catalog.TypeKind) bool { return k == catalog.TimestampTZ }

// crossesZone reports whether a time gets or loses its place in the world.
func crossesZone(a alteration) bool {
	was, now := a.was.Type.Kind, a.now.Type.Kind
	times := []catalog.TypeKind{catalog.Timestamp, catalog.Date, catalog.Time}
	timeZoned := func(c *catalog.Column) bool { return strings.Contains(c.Declared, "with time zone") }
	return zoned(was) && slices.Contains(times, now) || zoned(now) && slices.Contains(times, was) ||
		was == catalog.Time && now == catalog.Time && timeZoned(a.was) != timeZoned(a.now)
}

// PostgreSQL.

// pgCast is an expression of one type as one of another.
func pgCast(was, now *catalog.Column, expr string) string {
	from, to := was.Type.Kind, now.Type.Kind
	direct := from == to && from != catalog.EnumKind && from != catalog.Compound && from != catalog.Other || number(from) && number(to) || from == catalog.Text || to == catalog.Text ||
		isDay(from) && isDay(to)
	switch {
	case from == catalog.Bool && number(to):
		return fmt.Sprintf("%s::integer::%s", expr, now.Declared)
	case number(from) && to == catalog.Bool:
		return fmt.Sprintf("(%s <> 0)", expr)
	case direct:
		return fmt.Sprintf("%s::%s", expr, now.Declared)
	}
	return fmt.Sprintf("%s::text::%s", expr, now.Declared)
}

// sameKindOnly reports whether two types of one kind are still not the same, as
// inet and cidr, or bit(5) and bit(8).
func sameKindOnly(a alteration) bool {
	if a.was.Declared == a.now.Declared || a.was.Type.Kind != a.now.Type.Kind {
		return false
	}
	switch a.was.Type.Kind {
	case catalog.Network, catalog.Geometric, catalog.FullText, catalog.Money, catalog.XML, catalog.Interval:
		return true
	case catalog.BitString:
		return strings.HasPrefix(a.now.Declared, "bit(")
	}
	return false
}

func isDay(k catalog.TypeKind) bool {
	return k == catalog.Date || k == catalog.Timestamp || k == catalog.TimestampTZ
}

// pgConversion tells what PostgreSQL does to the values of a column.
func (d *draft) pgConversion(a alteration, column string) conversion {
	was, now := a.was.Type, a.now.Type
	switch {
	case crossesZone(a):
		return conversion{anchored: true}
	case a.was.Declared == "json" && a.now.Declared == "jsonb":
		return conversion{condition: fmt.Sprintf("(%s::jsonb)::text <> %[1]s::text", column)}
	case strings.HasPrefix(a.now.Declared, "character(") && was.Kind == catalog.Text && now.Size > 0 && !strings.HasPrefix(a.was.Declared, "character("):
		return conversion{condition: fmt.Sprintf("char_length(%s) > %d OR %[1]s LIKE '%% '", column, now.Size)}
	case widens(was, now) && !coarser(a) && !sameKindOnly(a):
		return conversion{}
	case was.Kind == catalog.Int && now.Kind == catalog.Int:
		return conversion{condition: outside(column, now)}
	case was.Kind == catalog.Text && now.Kind == catalog.Text && now.Size > 0:
		return conversion{condition: fmt.Sprintf("char_length(%s) > %d", column, now.Size)}
	case number(was.Kind) && now.Kind == catalog.Bool:
		return conversion{condition: column + " NOT IN (0, 1)"}
	case was.Kind == catalog.Text && now.Kind == catalog.Int:
		low, high := intRange(now)
		return conversion{condition: fmt.Sprintf("CASE WHEN %s ~ '%s' THEN %[1]s::numeric NOT BETWEEN %[3]s AND %[4]s ELSE %[1]s IS NOT NULL END", column, whole, low, high)}
	case now.Kind == catalog.EnumKind && (was.Kind == catalog.EnumKind || was.Kind == catalog.Text):
		if e, ok := d.after.Enum(now.Enum); ok {
			return conversion{condition: fmt.Sprintf("%s::text NOT IN (%s)", column, d.literals(e.Labels))}
		}
	}
	there := pgCast(a.was, a.now, column)
	back := pgCast(a.now, a.was, "("+there+")")
	compare := "(%s)::text IS DISTINCT FROM (%s)::text"
	if number(was.Kind) || isDay(was.Kind) || was.Kind == catalog.Time {
		compare = "(%s) IS DISTINCT FROM (%s)"
	}
	return conversion{tries: fmt.Sprintf(compare, back, column)}
}

func (d *draft) literals(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		quoted[i] = literal(d.engine, s)
	}
	return strings.Join(quoted, ", ")
}

// MySQL and MariaDB.

// charset is the character set of a collation, and the sets whose characters all
// belong to another one.
func charset(collation string) string {
	set, _, _ := strings.Cut(collation, "_")
	if set == "utf8" {
		return "utf8mb3"
	}
	return set
}

var within = map[string][]string{"utf8mb4": {"utf8mb3", "latin1", "ascii", "ucs2", "utf16", "latin2", "cp1250", "cp1251", "koi8r"}, "utf8mb3": {"ascii", "latin1"}, "latin1": {"ascii"}}

// textBytes is how many bytes the types of texts and bytes without a length
// hold.
var textBytes = map[string]int64{"tinytext": 255, "text": 65535, "mediumtext": 1<<24 - 1, "longtext": 1<<32 - 1, "tinyblob": 255, "blob": 65535, "mediumblob": 1<<24 - 1, "longblob": 1<<32 - 1}

// fraction is how many digits of the second a type holds.
func fraction(declared string) int {
	_, after, ok := strings.Cut(declared, "(")
	var n int
	if ok {
		fmt.Sscanf(after, "%d", &n)
	}
	return n
}

// myConversion tells what MySQL and MariaDB do to the values of a column.
func (d *draft) myConversion(a alteration, column string) conversion {
	was, now := a.was.Type, a.now.Type
	if crossesZone(a) || zoned(was.Kind) != zoned(now.Kind) && (was.Kind == catalog.Text || now.Kind == catalog.Text) {
		return conversion{anchored: true}
	}
	if was.Kind == now.Kind && a.was.Declared == a.now.Declared && a.was.Collation == a.now.Collation {
		return conversion{}
	}
	unlike := func(expr string) conversion {
		return conversion{condition: fmt.Sprintf("NOT (%s <=> %s)", expr, column)}
	}
	integral := was.Kind == catalog.Int || was.Kind == catalog.Bool
	negative := ""
	if now.Unsigned && !was.Unsigned {
		negative = column + " < 0"
	}
	switch now.Kind {
	case catalog.Int, catalog.Bool:
		return d.myToInt(a, column, integral)
	case catalog.Decimal:
		target := fmt.Sprintf("DECIMAL(%d,%d)", now.Precision, now.Scale)
		switch {
		case integral || was.Kind == catalog.Decimal || was.Kind == catalog.Float:
			return conversion{condition: or(fmt.Sprintf("NOT (CAST(%s AS %s) <=> %[1]s)", column, target), negative)}
		case was.Kind == catalog.Text:
			return conversion{condition: or(fmt.Sprintf("%s IS NOT NULL AND NOT (%[1]s REGEXP '%s' AND CAST(CAST(%[1]s AS %s) AS CHAR) = %[1]s)", column, decimal, target), negative)}
		}
	case catalog.Float:
		switch {
		case integral:
			return conversion{condition: or(fmt.Sprintf("abs(CAST(%s AS DECIMAL(65,0))) > %s", column, map[bool]string{true: "16777216", false: "9007199254740992"}[now.Bits == 32]), negative)}
		case was.Kind == catalog.Decimal && now.Bits == 64:
			return conversion{condition: or(fmt.Sprintf("NOT (CAST(%s + 0e0 AS DECIMAL(%d,%d)) <=> %[1]s)", column, was.Precision, was.Scale), negative)}
		case was.Kind == catalog.Float && now.Bits == 32:
			return conversion{condition: or(fmt.Sprintf("NOT (CAST(%s AS FLOAT) <=> %[1]s)", column), negative)}
		case was.Kind == catalog.Float:
			return conversion{condition: negative}
		case was.Kind == catalog.Text && now.Bits == 64:
			return conversion{condition: or(fmt.Sprintf("NOT (CAST(%s + 0e0 AS CHAR) <=> %[1]s)", column), negative)}
		}
	case catalog.Text:
		return d.myToText(a, column)
	case catalog.JSON:
		if was.Kind == catalog.Text {
			return conversion{condition: or(fmt.Sprintf("%s IS NOT NULL AND NOT json_valid(%[1]s)", column), d.recoded(a, column))}
		}
	case catalog.Bytes:
		return d.myToBytes(a, column)
	case catalog.Date:
		switch was.Kind {
		case catalog.Timestamp:
			return unlike("CAST(" + column + " AS DATE)")
		case catalog.Text:
			return unlike("CAST(CAST(" + column + " AS DATE) AS CHAR)")
		}
	case catalog.Time, catalog.Timestamp, catalog.TimestampTZ:
		return d.myToTime(a, column)
	case catalog.EnumKind:
		switch was.Kind {
		case catalog.EnumKind, catalog.Text:
			return conversion{condition: fmt.Sprintf("CAST(%s AS BINARY) NOT IN (%s)", column, d.literals(now.Labels))}
		}
	case catalog.Set:
		if was.Kind == catalog.Set {
			var lost []string
			for _, l := range was.Labels {
				if !slices.Contains(now.Labels, l) {
					lost = append(lost, fmt.Sprintf("find_in_set(%s, %s) > 0", literal(d.engine, l), column))
				}
			}
			return conversion{condition: or(lost...)}
		}
	case catalog.UUID:
		if was.Kind == catalog.Text {
			return unlike("CAST(CAST(" + column + " AS UUID) AS CHAR)")
		}
	}
	return conversion{unknown: true}
}

func (d *draft) myToInt(a alteration, column string, integral bool) conversion {
	was, now := a.was.Type, a.now.Type
	fits := outside(column, now)
	switch {
	case strings.HasPrefix(a.now.Declared, "bit"):
		fits = column + " NOT IN (0, 1)"
	case a.now.Declared == "year" || strings.HasPrefix(a.now.Declared, "year("):
		fits = column + " NOT BETWEEN 1901 AND 2155 AND " + column + " <> 0"
	}
	switch {
	case integral && a.now.Declared != "year" && !strings.HasPrefix(a.now.Declared, "bit") && wider(was, now):
		return conversion{}
	case integral:
		return conversion{condition: fits}
	case was.Kind == catalog.Decimal || was.Kind == catalog.Float:
		return conversion{condition: or(fmt.Sprintf("NOT (round(%s) <=> %[1]s)", column), fits)}
	case was.Kind == catalog.Text:
		return conversion{condition: fmt.Sprintf("%s IS NOT NULL AND NOT (%[1]s REGEXP '%s' AND NOT (%s))", column, whole, strings.ReplaceAll(fits, column, "CAST("+column+" AS DECIMAL(65,0))"))}
	}
	return conversion{unknown: true}
}

// wider reports whether every whole number of one type is one of the other.
func wider(was, now catalog.Type) bool {
	bits := func(t catalog.Type) int {
		if t.Kind == catalog.Bool {
			return 8
		}
		return t.Bits
	}
	return bits(now) >= bits(was) && was.Unsigned == now.Unsigned || was.Unsigned && !now.Unsigned && bits(now) > bits(was)
}

// recoded is a condition for texts with characters that the new character set
// lacks.
func (d *draft) recoded(a alteration, column string) string {
	was, now := charset(a.was.Collation), charset(a.now.Collation)
	if was == "" || now == "" || was == now || slices.Contains(within[now], was) {
		return ""
	}
	return fmt.Sprintf("NOT (CAST(CONVERT(CONVERT(%s USING %s) USING %s) AS BINARY) <=> CAST(%[1]s AS BINARY))", column, now, was)
}

func (d *draft) myToText(a alteration, column string) conversion {
	was, now := a.was.Type, a.now.Type
	text := column
	switch was.Kind {
	case catalog.Text, catalog.JSON:
	case catalog.Int, catalog.Bool, catalog.Decimal, catalog.Date, catalog.Time, catalog.Timestamp, catalog.EnumKind, catalog.Set, catalog.UUID, catalog.Network:
		text = "CAST(" + column + " AS CHAR)"
	case catalog.Float:
		return conversion{condition: or(fmt.Sprintf("NOT (CAST(%s AS CHAR) + 0e0 <=> %[1]s)", column), tooLong(fmt.Sprintf("CAST(%s AS CHAR)", column), a))}
	default:
		return conversion{unknown: true}
	}
	long := tooLong(text, a)
	if was.Kind == catalog.Text && was.Size > 0 && now.Size >= was.Size {
		long = ""
	}
	if bytes := textBytes[a.now.Declared]; bytes > 0 && (textBytes[a.was.Declared] > 0 && textBytes[a.was.Declared] <= bytes && charset(a.was.Collation) == charset(a.now.Collation) || was.Kind == catalog.Text && was.Size > 0 && int64(was.Size)*4 <= bytes || bytes == textBytes["longtext"]) {
		long = ""
	}
	spaces := ""
	if strings.HasPrefix(a.now.Declared, "char(") && !strings.HasPrefix(a.was.Declared, "char(") && was.Kind == catalog.Text {
		spaces = text + " LIKE '% '"
	}
	return conversion{condition: or(long, spaces, d.recoded(a, column))}
}

// tooLong is a condition for texts that are too long for a type.
func tooLong(text string, a alteration) string {
	if bytes := textBytes[a.now.Declared]; bytes > 0 {
		set := charset(a.now.Collation)
		if set == "" {
			return fmt.Sprintf("octet_length(%s) > %d", text, bytes)
		}
		return fmt.Sprintf("octet_length(CONVERT(%s USING %s)) > %d", text, set, bytes)
	}
	if a.now.Type.Size > 0 {
		return fmt.Sprintf("char_length(%s) > %d", text, a.now.Type.Size)
	}
	return ""
}

func (d *draft) myToBytes(a alteration, column string) conversion {
	was, now := a.was.Type, a.now.Type
	if was.Kind != catalog.Bytes && was.Kind != catalog.Text {
		return conversion{unknown: true}
	}
	switch bytes := textBytes[a.now.Declared]; {
	case strings.HasPrefix(a.now.Declared, "binary("):
		return conversion{condition: fmt.Sprintf("octet_length(%s) <> %d", column, now.Size)}
	case bytes > 0 && textBytes[a.was.Declared] > 0 && textBytes[a.was.Declared] <= bytes:
		return conversion{}
	case bytes > 0:
		return conversion{condition: fmt.Sprintf("octet_length(%s) > %d", column, bytes)}
	case now.Size > 0 && was.Kind == catalog.Bytes && was.Size > 0 && now.Size >= was.Size:
		return conversion{}
	case now.Size > 0:
		return conversion{condition: fmt.Sprintf("octet_length(%s) > %d", column, now.Size)}
	}
	return conversion{unknown: true}
}

func (d *draft) myToTime(a alteration, column string) conversion {
	was, now := a.was.Type, a.now.Type
	digits := fraction(a.now.Declared)
	word := map[catalog.TypeKind]string{catalog.Time: "TIME", catalog.Timestamp: "DATETIME", catalog.TimestampTZ: "DATETIME"}[now.Kind]
	switch {
	case was.Kind == now.Kind && fraction(a.was.Declared) <= digits:
		return conversion{}
	case was.Kind == now.Kind:
		return conversion{condition: fmt.Sprintf("NOT (CAST(%s AS %s(%d)) <=> %[1]s)", column, word, digits)}
	case now.Kind == catalog.Timestamp && was.Kind == catalog.Date:
		return conversion{}
	case now.Kind != catalog.TimestampTZ && was.Kind == catalog.Text:
		return conversion{condition: fmt.Sprintf("NOT (CAST(CAST(%s AS %s(%d)) AS CHAR) <=> %[1]s)", column, word, digits)}
	}
	return conversion{unknown: true}
}

// SQLite.

// affinity is what a declared type makes of values; see section 3.1 of
// "Datatypes In SQLite".
func affinity(declared string) string {
	s := strings.ToUpper(declared)
	has := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(s, w) })
	}
	switch {
	case has("INT"):
		return "INTEGER"
	case has("CHAR", "CLOB", "TEXT"):
		return "TEXT"
	case has("BLOB") || s == "" || s == "ANY":
		return "BLOB"
	case has("REAL", "FLOA", "DOUB"):
		return "REAL"
	}
	return "NUMERIC"
}

// liteConversion tells what SQLite does to the values of a column when they are
// copied.
func (d *draft) liteConversion(a alteration, column string, strict bool) conversion {
	now := affinity(a.now.Declared)
	if strict {
		return conversion{condition: strictly(a.now.Declared, column)}
	}
	if affinity(a.was.Declared) == now {
		return conversion{}
	}
	wantsNumber := number(a.now.Type.Kind) || a.now.Type.Kind == catalog.Bool
	text := fmt.Sprintf("typeof(%s) = 'text' AND CAST(CAST(%[1]s AS NUMERIC) AS TEXT) <> %[1]s", column)
	if !wantsNumber {
		text += fmt.Sprintf(" AND %s NOT GLOB '*[^0-9.+eE -]*'", column)
	}
	switch now {
	case "TEXT":
		return conversion{condition: fmt.Sprintf("typeof(%s) = 'real' AND CAST(CAST(%[1]s AS TEXT) AS REAL) <> %[1]s", column)}
	case "INTEGER", "NUMERIC":
		broken := ""
		if a.now.Type.Kind == catalog.Int || a.now.Type.Kind == catalog.Bool {
			broken = fmt.Sprintf("typeof(%s) = 'real' AND %[1]s <> CAST(%[1]s AS INTEGER)", column)
		}
		return conversion{condition: or(text, broken)}
	case "REAL":
		return conversion{condition: or(text, fmt.Sprintf("typeof(%s) = 'integer' AND CAST(CAST(%[1]s AS REAL) AS INTEGER) <> %[1]s", column))}
	}
	return conversion{}
}

// strictly is a condition for values that a column of a strict table refuses or
// changes.
func strictly(declared, column string) string {
	switch strings.ToUpper(declared) {
	case "INT", "INTEGER":
		return fmt.Sprintf("%s IS NOT NULL AND NOT (typeof(%[1]s) = 'integer' OR typeof(%[1]s) = 'real' AND %[1]s = CAST(%[1]s AS INTEGER) OR typeof(%[1]s) = 'text' AND CAST(CAST(%[1]s AS INTEGER) AS TEXT) = %[1]s)", column)
	case "REAL":
		return fmt.Sprintf("%s IS NOT NULL AND NOT (typeof(%[1]s) = 'real' OR typeof(%[1]s) = 'integer' AND CAST(CAST(%[1]s AS REAL) AS INTEGER) = %[1]s OR typeof(%[1]s) = 'text' AND CAST(CAST(%[1]s AS NUMERIC) AS TEXT) = %[1]s)", column)
	case "TEXT":
		return fmt.Sprintf("typeof(%s) = 'blob' OR typeof(%[1]s) = 'real' AND CAST(CAST(%[1]s AS TEXT) AS REAL) <> %[1]s", column)
	case "BLOB":
		return fmt.Sprintf("%s IS NOT NULL AND typeof(%[1]s) <> 'blob'", column)
	}
	return ""
}
