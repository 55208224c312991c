package drafting

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
)

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
func myConversion(d *migration.Writing, a migration.Alteration, column string) migration.Conversion {
	was, now := a.Was.Type, a.Now.Type
	if migration.CrossesZone(a) || migration.Zoned(was.Kind) != migration.Zoned(now.Kind) && (was.Kind == catalog.Text || now.Kind == catalog.Text) {
		return migration.Conversion{Anchored: true}
	}
	if was.Kind == now.Kind && a.Was.Declared == a.Now.Declared && a.Was.Collation == a.Now.Collation {
		return migration.Conversion{}
	}
	unlike := func(expr string) migration.Conversion {
		return migration.Conversion{Condition: fmt.Sprintf("NOT (%s <=> %s)", expr, column)}
	}
	integral := was.Kind == catalog.Int || was.Kind == catalog.Bool
	negative := ""
	if now.Unsigned && !was.Unsigned {
		negative = column + " < 0"
	}
	switch now.Kind {
	case catalog.Int, catalog.Bool:
		return myToInt(d, a, column, integral)
	case catalog.Decimal:
		target := fmt.Sprintf("DECIMAL(%d,%d)", now.Precision, now.Scale)
		switch {
		case integral || was.Kind == catalog.Decimal || was.Kind == catalog.Float:
			return migration.Conversion{Condition: migration.Or(fmt.Sprintf("NOT (CAST(%s AS %s) <=> %[1]s)", column, target), negative)}
		case was.Kind == catalog.Text:
			return migration.Conversion{Condition: migration.Or(fmt.Sprintf("%s IS NOT NULL AND NOT (%[1]s REGEXP '%s' AND CAST(CAST(%[1]s AS %s) AS CHAR) = %[1]s)", column, migration.Decimal, target), negative)}
		}
	case catalog.Float:
		switch {
		case integral:
			return migration.Conversion{Condition: migration.Or(fmt.Sprintf("abs(CAST(%s AS DECIMAL(65,0))) > %s", column, map[bool]string{true: "16777216", false: "9007199254740992"}[now.Bits == 32]), negative)}
		case was.Kind == catalog.Decimal && now.Bits == 64:
			return migration.Conversion{Condition: migration.Or(fmt.Sprintf("NOT (CAST(%s + 0e0 AS DECIMAL(%d,%d)) <=> %[1]s)", column, was.Precision, was.Scale), negative)}
		case was.Kind == catalog.Float && now.Bits == 32:
			return migration.Conversion{Condition: migration.Or(fmt.Sprintf("NOT (CAST(%s AS FLOAT) <=> %[1]s)", column), negative)}
		case was.Kind == catalog.Float:
			return migration.Conversion{Condition: negative}
		case was.Kind == catalog.Text && now.Bits == 64:
			return migration.Conversion{Condition: migration.Or(fmt.Sprintf("NOT (CAST(%s + 0e0 AS CHAR) <=> %[1]s)", column), negative)}
		}
	case catalog.Text:
		return myToText(d, a, column)
	case catalog.JSON:
		if was.Kind == catalog.Text {
			return migration.Conversion{Condition: migration.Or(fmt.Sprintf("%s IS NOT NULL AND NOT json_valid(%[1]s)", column), recoded(a, column))}
		}
	case catalog.Bytes:
		return myToBytes(d, a, column)
	case catalog.Date:
		switch was.Kind {
		case catalog.Timestamp:
			return unlike("CAST(" + column + " AS DATE)")
		case catalog.Text:
			return unlike("CAST(CAST(" + column + " AS DATE) AS CHAR)")
		}
	case catalog.Time, catalog.Timestamp, catalog.TimestampTZ:
		return myToTime(d, a, column)
	case catalog.EnumKind:
		switch was.Kind {
		case catalog.EnumKind, catalog.Text:
			return migration.Conversion{Condition: fmt.Sprintf("CAST(%s AS BINARY) NOT IN (%s)", column, d.Literals(now.Labels))}
		}
	case catalog.Set:
		if was.Kind == catalog.Set {
			var lost []string
			for _, l := range was.Labels {
				if !slices.Contains(now.Labels, l) {
					lost = append(lost, fmt.Sprintf("find_in_set(%s, %s) > 0", d.SQL.Literal(l), column))
				}
			}
			return migration.Conversion{Condition: migration.Or(lost...)}
		}
	case catalog.UUID:
		if was.Kind == catalog.Text {
			return unlike("CAST(CAST(" + column + " AS UUID) AS CHAR)")
		}
	}
	return migration.Conversion{Unknown: true}
}

func myToInt(d *migration.Writing, a migration.Alteration, column string, integral bool) migration.Conversion {
	was, now := a.Was.Type, a.Now.Type
	fits := migration.Outside(column, now)
	switch {
	case strings.HasPrefix(a.Now.Declared, "bit"):
		fits = column + " NOT IN (0, 1)"
	case a.Now.Declared == "year" || strings.HasPrefix(a.Now.Declared, "year("):
		fits = column + " NOT BETWEEN 1901 AND 2155 AND " + column + " <> 0"
	}
	switch {
	case integral && a.Now.Declared != "year" && !strings.HasPrefix(a.Now.Declared, "bit") && wider(was, now):
		return migration.Conversion{}
	case integral:
		return migration.Conversion{Condition: fits}
	case was.Kind == catalog.Decimal || was.Kind == catalog.Float:
		return migration.Conversion{Condition: migration.Or(fmt.Sprintf("NOT (round(%s) <=> %[1]s)", column), fits)}
	case was.Kind == catalog.Text:
		return migration.Conversion{Condition: fmt.Sprintf("%s IS NOT NULL AND NOT (%[1]s REGEXP '%s' AND NOT (%s))", column, migration.Whole, strings.ReplaceAll(fits, column, "CAST("+column+" AS DECIMAL(65,0))"))}
	}
	return migration.Conversion{Unknown: true}
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
func recoded(a migration.Alteration, column string) string {
	was, now := charset(a.Was.Collation), charset(a.Now.Collation)
	if was == "" || now == "" || was == now || slices.Contains(within[now], was) {
		return ""
	}
	return fmt.Sprintf("NOT (CAST(CONVERT(CONVERT(%s USING %s) USING %s) AS BINARY) <=> CAST(%[1]s AS BINARY))", column, now, was)
}

func myToText(d *migration.Writing, a migration.Alteration, column string) migration.Conversion {
	was, now := a.Was.Type, a.Now.Type
	text := column
	switch was.Kind {
	case catalog.Text, catalog.JSON:
	case catalog.Int, catalog.Bool, catalog.Decimal, catalog.Date, catalog.Time, catalog.Timestamp, catalog.EnumKind, catalog.Set, catalog.UUID, catalog.Network:
		text = "CAST(" + column + " AS CHAR)"
	case catalog.Float:
		return migration.Conversion{Condition: migration.Or(fmt.Sprintf("NOT (CAST(%s AS CHAR) + 0e0 <=> %[1]s)", column), tooLong(fmt.Sprintf("CAST(%s AS CHAR)", column), a))}
	default:
		return migration.Conversion{Unknown: true}
	}
	long := tooLong(text, a)
	if was.Kind == catalog.Text && was.Size > 0 && now.Size >= was.Size {
		long = ""
	}
	if bytes := textBytes[a.Now.Declared]; bytes > 0 && (textBytes[a.Was.Declared] > 0 && textBytes[a.Was.Declared] <= bytes && charset(a.Was.Collation) == charset(a.Now.Collation) || was.Kind == catalog.Text && was.Size > 0 && int64(was.Size)*4 <= bytes || bytes == textBytes["longtext"]) {
		long = ""
	}
	spaces := ""
	if strings.HasPrefix(a.Now.Declared, "char(") && !strings.HasPrefix(a.Was.Declared, "char(") && was.Kind == catalog.Text {
		spaces = text + " LIKE '% '"
	}
	return migration.Conversion{Condition: migration.Or(long, spaces, recoded(a, column))}
}

// tooLong is a condition for texts that are too long for a type.
func tooLong(text string, a migration.Alteration) string {
	if bytes := textBytes[a.Now.Declared]; bytes > 0 {
		set := charset(a.Now.Collation)
		if set == "" {
			return fmt.Sprintf("octet_length(%s) > %d", text, bytes)
		}
		return fmt.Sprintf("octet_length(CONVERT(%s USING %s)) > %d", text, set, bytes)
	}
	if a.Now.Type.Size > 0 {
		return fmt.Sprintf("char_length(%s) > %d", text, a.Now.Type.Size)
	}
	return ""
}

func myToBytes(d *migration.Writing, a migration.Alteration, column string) migration.Conversion {
	was, now := a.Was.Type, a.Now.Type
	if was.Kind != catalog.Bytes && was.Kind != catalog.Text {
		return migration.Conversion{Unknown: true}
	}
	switch bytes := textBytes[a.Now.Declared]; {
	case strings.HasPrefix(a.Now.Declared, "binary("):
		return migration.Conversion{Condition: fmt.Sprintf("octet_length(%s) <> %d", column, now.Size)}
	case bytes > 0 && textBytes[a.Was.Declared] > 0 && textBytes[a.Was.Declared] <= bytes:
		return migration.Conversion{}
	case bytes > 0:
		return migration.Conversion{Condition: fmt.Sprintf("octet_length(%s) > %d", column, bytes)}
	case now.Size > 0 && was.Kind == catalog.Bytes && was.Size > 0 && now.Size >= was.Size:
		return migration.Conversion{}
	case now.Size > 0:
		return migration.Conversion{Condition: fmt.Sprintf("octet_length(%s) > %d", column, now.Size)}
	}
	return migration.Conversion{Unknown: true}
}

func myToTime(d *migration.Writing, a migration.Alteration, column string) migration.Conversion {
	was, now := a.Was.Type, a.Now.Type
	digits := fraction(a.Now.Declared)
	word := map[catalog.TypeKind]string{catalog.Time: "TIME", catalog.Timestamp: "DATETIME", catalog.TimestampTZ: "DATETIME"}[now.Kind]
	switch {
	case was.Kind == now.Kind && fraction(a.Was.Declared) <= digits:
		return migration.Conversion{}
	case was.Kind == now.Kind:
		return migration.Conversion{Condition: fmt.Sprintf("NOT (CAST(%s AS %s(%d)) <=> %[1]s)", column, word, digits)}
	case now.Kind == catalog.Timestamp && was.Kind == catalog.Date:
		return migration.Conversion{}
	case now.Kind != catalog.TimestampTZ && was.Kind == catalog.Text:
		return migration.Conversion{Condition: fmt.Sprintf("NOT (CAST(CAST(%s AS %s(%d)) AS CHAR) <=> %[1]s)", column, word, digits)}
	}
	return migration.Conversion{Unknown: true}
}
