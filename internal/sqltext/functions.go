package sqltext

import (
	"slices"
	"strings"
)

// Nulls is when a function's value may be null.
type Nulls uint8

// When a function's value may be null.
const (
	IfAnyArg  Nulls = iota // where an argument is
	Never                  // such as a count
	Always                 // it may be for other reasons too
	IfNoRows               // an aggregate: of no rows, or of nothing but nulls
	IfAllArgs              // such as coalesce
)

// Value is the type of a function's value.
type Value uint8

// The types of values.
const (
	AsFirst  Value = iota // that of the first argument
	AsWidest              // that of the widest number among them, or of the first
	AsText
	AsInteger
	AsFloat
	AsBool
	AsDate
	AsTimestamp   // without zone
	AsTimestampTZ // a point in time
	AsJSON
	AsSum
	AsAverage
	AsTheEngine // which must be asked
)

// Function is what is known of functions of SQL.
type Function struct {
	Names string // with spaces between them
	Value Value
	Nulls Nulls
}

// functions are those that all engines have alike, as far as they have them. Where the
// engine describes a query, its types count; whether a value may be null, no engine
// tells.
var functions = []Function{
	{"count row_number rank dense_rank ntile", AsInteger, Never},
	{"percent_rank cume_dist", AsFloat, Never},
	{"sum", AsSum, IfNoRows},
	{"avg", AsAverage, IfNoRows},
	{"stddev stddev_pop stddev_samp variance var_pop var_samp std median corr covar_pop covar_samp regr_slope regr_intercept", AsTheEngine, Always},
	{"percentile_cont percentile_disc mode", AsTheEngine, Always},
	{"bool_and bool_or every", AsBool, IfNoRows},
	{"min max", AsFirst, IfNoRows},
	{"any_value", AsFirst, IfNoRows},
	{"lag lead first_value last_value nth_value", AsFirst, Always},
	{"coalesce ifnull nvl", AsWidest, IfAllArgs},
	{"nullif", AsFirst, Always},
	{"abs", AsFirst, IfAnyArg},
	{"round trunc truncate", AsWidest, IfAnyArg},
	{"ceil ceiling floor", AsFirst, IfAnyArg},
	{"sign", AsTheEngine, IfAnyArg},
	{"power pow sqrt exp ln log log2 log10 sin cos tan asin acos atan atan2 degrees radians pi julianday", AsFloat, Always},
	{"mod", AsWidest, Always},
	{"greatest least", AsWidest, IfAnyArg},
	{"lower upper lcase ucase trim ltrim rtrim btrim replace translate reverse repeat initcap quote_literal quote_ident md5 quote unistr", AsText, IfAnyArg},
	{"substr substring mid left right lpad rpad split_part substring_index overlay regexp_replace regexp_substr", AsText, Always},
	{"concat_ws format printf concat", AsText, Always},
	{"group_concat string_agg", AsText, IfNoRows},
	{"hex char to_char date_format time_format strftime dayname monthname conv bin oct elt sha1 sha2 sha256 encode", AsText, Always},
	{"json_type json_quote json_unquote json_value", AsText, Always},
	{"length char_length character_length octet_length bit_length instr position strpos locate ascii unicode ord bit_count field find_in_set", AsInteger, IfAnyArg},
	{"json_array_length json_length json_depth json_valid json_contains json_contains_path", AsInteger, Always},
	{"unixepoch unix_timestamp year month day hour minute second quarter week dayofweek dayofmonth dayofyear weekday datediff timestampdiff period_diff to_days last_insert_rowid changes total_changes last_insert_id", AsInteger, Always},
	{"extract date_part", AsFloat, Always},
	{"date last_day curdate makedate", AsDate, Always},
	{"now current_timestamp transaction_timestamp statement_timestamp clock_timestamp localtimestamp sysdate utc_timestamp", AsTimestampTZ, Never},
	{"exists", AsBool, Never},
}

// Function is what is known of a function; false where nothing is.
func (d *Dialect) Function(name string) (Function, bool) {
	for _, list := range [][]Function{d.Functions, functions} {
		for _, f := range list {
			if slices.Contains(strings.Fields(f.Names), name) {
				return f, true
			}
		}
	}
	return Function{}, false
}

// ByName turns a table of names with spaces between them into one by each name.
func ByName(table map[string]string) map[string]string {
	list := map[string]string{}
	for value, names := range table {
		for _, name := range strings.Fields(names) {
			list[name] = value
		}
	}
	return list
}
