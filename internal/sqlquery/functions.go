package sqlquery

import (
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// nulls is when a function's value may be null.
type nulls uint8

const (
	ifAnyArg  nulls = iota // where an argument is
	never                  // such as a count
	always                 // it may be for other reasons too
	ifNoRows               // an aggregate: of no rows, or of nothing but nulls
	ifAllArgs              // such as coalesce
)

// valueType is the type of a function's value.
type valueType uint8

const (
	asFirst  valueType = iota // that of the first argument
	asWidest                  // that of the widest number among them, or of the first
	asText
	asInteger
	asFloat
	asBool
	asDate
	asTimestamp   // without zone
	asTimestampTZ // a point in time
	asJSON
	asSum
	asAverage
	asTheEngine // which must be asked
)

// function is what is known of a function of SQL.
type function struct {
	value valueType
	nulls nulls
	only  string // the engine on which it is that; empty is all that have it
}

// functions are known functions by their names. Where the engine describes a
// query, its types count; whether a value may be null, no engine tells.
var functions = []struct {
	names string
	function
}{
	{"count row_number rank dense_rank ntile", function{asInteger, never, ""}},
	{"percent_rank cume_dist", function{asFloat, never, ""}},
	{"total", function{asFloat, never, catalog.SQLite}},
	{"sum", function{asSum, ifNoRows, ""}},
	{"avg", function{asAverage, ifNoRows, ""}},
	{"stddev stddev_pop stddev_samp variance var_pop var_samp std median corr covar_pop covar_samp regr_slope regr_intercept", function{asTheEngine, always, ""}},
	{"percentile_cont percentile_disc mode", function{asTheEngine, always, ""}},
	{"bool_and bool_or every", function{asBool, ifNoRows, ""}},
	{"bit_and bit_or bit_xor", function{asFirst, ifNoRows, catalog.Postgres}},
	{"bit_and bit_or bit_xor", function{asInteger, never, catalog.MySQL}},
	{"min max", function{asFirst, ifNoRows, ""}},
	{"any_value", function{asFirst, ifNoRows, ""}},
	{"lag lead first_value last_value nth_value", function{asFirst, always, ""}},
	{"coalesce ifnull nvl", function{asWidest, ifAllArgs, ""}},
	{"nullif", function{asFirst, always, ""}},
	{"abs", function{asFirst, ifAnyArg, ""}},
	{"round", function{asFloat, ifAnyArg, catalog.SQLite}},
	{"round trunc truncate", function{asWidest, ifAnyArg, ""}},
	{"ceil ceiling floor", function{asFirst, ifAnyArg, ""}},
	{"sign", function{asTheEngine, ifAnyArg, ""}},
	{"power pow sqrt exp ln log log2 log10 sin cos tan asin acos atan atan2 degrees radians pi julianday", function{asFloat, always, ""}},
	{"mod", function{asWidest, always, ""}},
	{"random", function{asInteger, never, catalog.SQLite}},
	{"random", function{asFloat, never, catalog.Postgres}},
	{"rand", function{asFloat, never, catalog.MySQL}},
	{"greatest least", function{asWidest, ifAllArgs, catalog.Postgres}},
	{"greatest least", function{asWidest, ifAnyArg, ""}},
	{"lower upper lcase ucase trim ltrim rtrim btrim replace translate reverse repeat initcap quote_literal quote_ident md5 quote unistr", function{asText, ifAnyArg, ""}},
	{"substr substring mid left right lpad rpad split_part substring_index overlay regexp_replace regexp_substr", function{asText, always, ""}},
	{"concat concat_ws format printf", function{asText, never, catalog.Postgres}},
	{"concat_ws format printf concat", function{asText, always, ""}},
	{"group_concat string_agg", function{asText, ifNoRows, ""}},
	{"hex", function{asText, never, catalog.SQLite}},
	{"hex char to_char date_format time_format strftime dayname monthname conv bin oct elt sha1 sha2 sha256 encode", function{asText, always, ""}},
	{"typeof", function{asText, never, catalog.SQLite}},
	{"json_type json_quote json_unquote json_value", function{asText, always, ""}},
	{"json_group_array json_group_object", function{asJSON, never, catalog.SQLite}},
	{"json_array json_object json_set json_insert json_replace json_remove json_patch json", function{asJSON, always, catalog.SQLite}},
	{"length char_length character_length octet_length bit_length instr position strpos locate ascii unicode ord bit_count field find_in_set", function{asInteger, ifAnyArg, ""}},
	{"json_array_length json_length json_depth json_valid json_contains json_contains_path", function{asInteger, always, ""}},
	{"unixepoch unix_timestamp year month day hour minute second quarter week dayofweek dayofmonth dayofyear weekday datediff timestampdiff period_diff to_days last_insert_rowid changes total_changes last_insert_id", function{asInteger, always, ""}},
	{"extract date_part", function{asFloat, always, ""}},
	{"date last_day curdate makedate", function{asDate, always, ""}},
	{"datetime", function{asTimestamp, always, catalog.SQLite}},
	{"time timediff", function{asText, always, catalog.SQLite}},
	{"now current_timestamp transaction_timestamp statement_timestamp clock_timestamp localtimestamp sysdate utc_timestamp", function{asTimestampTZ, never, ""}},
	{"exists", function{asBool, never, ""}},
	{"uuid gen_random_uuid", function{asText, never, catalog.MySQL}},
}

// functionOf is what is known of a function on an engine.
func functionOf(name, engine string) (function, bool) {
	for _, f := range functions {
		if (f.only == "" || f.only == engine) && slices.Contains(strings.Fields(f.names), name) {
			return f.function, true
		}
	}
	return function{}, false
}

// call is the type of a function's value. What stands behind it may be OVER,
// FILTER and the like.
func (a *analysis) call(name string, args, rest []sqltext.Token, s *scope) catalog.Column {
	parts := splitTokens(args)
	switch name {
	case "cast", "try_cast":
		return a.castCall(args, s)
	case "iif", "if":
		if len(parts) == 3 {
			return a.eitherOf(parts[1:], s)
		}
	case "position", "overlay", "trim", "substring", "extract": // with words between their arguments
		parts = slices.DeleteFunc(splitAtWords(args), func(p []sqltext.Token) bool { return len(p) == 0 })
	}
	list := make([]catalog.Column, 0, len(parts))
	for _, part := range parts {
		if len(part) > 0 && part[0].Is("DISTINCT") {
			part = part[1:]
		}
		if len(part) > 0 {
			list = append(list, a.typeOf(untilOrder(part), s))
		}
	}
	f, known := functionOf(name, a.catalog.Engine)
	if !known {
		return unknown
	}
	if (name == "min" || name == "max") && len(list) > 1 && a.catalog.Engine == catalog.SQLite { // of several values
		f = function{asWidest, ifAnyArg, ""}
	}
	c := f.typeOf(list, a.catalog.Engine)
	c.Nullable = f.null(list, mayLackRows(rest, s))
	return c
}

// mayLackRows reports whether an aggregate may be of no rows: where a whole
// table is summed up, where rows are filtered, and where a window has bounds.
func mayLackRows(rest []sqltext.Token, s *scope) bool {
	window, bounded := false, false
	for i, t := range rest {
		switch {
		case t.Is("FILTER"):
			return true
		case t.Is("OVER"):
			window = true
			bounded = i+1 < len(rest) && !rest[i+1].Sign("(") // a window that is named elsewhere
		case isOneOf(t, []string{"ROWS", "RANGE", "GROUPS"}):
			bounded = true
		}
	}
	if window {
		return bounded
	}
	return s == nil || !s.grouped
}

// untilOrder leaves out the order that an aggregate takes its values in, and
// what stands between them.
func untilOrder(part []sqltext.Token) []sqltext.Token {
	end := len(part)
	topLevel(part, func(i int) bool {
		if i > 0 && (part[i].Is("ORDER") || part[i].Is("SEPARATOR")) {
			end = i
		}
		return end == len(part)
	})
	return part[:end]
}

// splitAtWords splits arguments at the words that some functions have between
// them.
func splitAtWords(args []sqltext.Token) [][]sqltext.Token {
	var list [][]sqltext.Token
	from := 0
	topLevel(args, func(i int) bool {
		if args[i].Sign(",") || isOneOf(args[i], []string{"FROM", "FOR", "IN", "PLACING", "BOTH", "LEADING", "TRAILING"}) {
			list = append(list, args[from:i])
			from = i + 1
		}
		return true
	})
	return append(list, args[from:])
}

func (f function) null(args []catalog.Column, noRows bool) bool {
	nullable := func(c catalog.Column) bool { return c.Nullable }
	switch f.nulls {
	case never:
		return false
	case always:
		return true
	case ifAllArgs:
		return !slices.ContainsFunc(args, func(c catalog.Column) bool { return !c.Nullable })
	case ifNoRows:
		return noRows || len(args) == 0 || args[0].Nullable
	}
	return slices.ContainsFunc(args, nullable)
}

// plainTypes are the types of values that are always the same.
var plainTypes = map[valueType]catalog.Type{
	asText: text, asInteger: integer, asFloat: float, asBool: boolean,
	asDate: {Kind: catalog.Date}, asTimestamp: {Kind: catalog.Timestamp}, asTimestampTZ: {Kind: catalog.TimestampTZ}, asJSON: {Kind: catalog.JSON},
}

func (f function) typeOf(args []catalog.Column, engine string) catalog.Column {
	first := catalog.Column{}
	if len(args) > 0 {
		first = args[0]
	}
	switch f.value {
	case asFirst:
		return first
	case asWidest:
		return widest(args)
	case asSum:
		return of(sumType(first.Type.Kind, engine), true)
	case asAverage:
		if engine == catalog.SQLite || first.Type.Kind == catalog.Float {
			return of(float, true)
		}
		return of(decimal, true)
	case asTheEngine:
		return of(catalog.Type{}, true)
	}
	return of(plainTypes[f.value], true)
}

func sumType(of catalog.TypeKind, engine string) catalog.Type {
	switch {
	case of == catalog.Int && engine == catalog.SQLite:
		return integer
	case of == catalog.Int, of == catalog.Decimal:
		return decimal
	}
	return float
}

// widest is the type of a value that is one of several, any of which may be
// null. What a column declares stays where all declare the same.
func widest(list []catalog.Column) catalog.Column {
	var result catalog.Column
	rank := func(c catalog.Column) int {
		return slices.Index([]catalog.TypeKind{catalog.Int, catalog.Decimal, catalog.Float}, c.Type.Kind)
	}
	declared := ""
	for _, c := range list {
		result.Nullable = result.Nullable || c.Nullable
		if c.Type.Kind == "" {
			continue
		}
		if known := result.Type.Kind != ""; !known {
			declared = c.Declared
		} else if c.Declared != declared {
			declared = ""
		}
		if result.Type.Kind == "" || rank(result) >= 0 && rank(c) > rank(result) {
			result.Type = c.Type
		}
	}
	result.Declared = declared
	return result
}

// eitherOf is the type of one of several expressions.
func (a *analysis) eitherOf(parts [][]sqltext.Token, s *scope) catalog.Column {
	list := make([]catalog.Column, len(parts))
	for i, part := range parts {
		list[i] = a.typeOf(part, s)
	}
	return widest(list)
}
