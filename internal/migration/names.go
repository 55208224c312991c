package migration

import (
	"regexp"
	"strings"

	"widegate/internal/catalog"
)

// plainName needs no quotes: PostgreSQL folds upper case, the others keep it.
var plainName = map[string]*regexp.Regexp{
	catalog.Postgres: regexp.MustCompile(`^[a-z_][a-z0-9_]*$`),
	catalog.MySQL:    regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`),
	catalog.SQLite:   regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`),
}

// reserved are words that one of the engines takes for its own where a name
// should stand.
var reserved = func() map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Fields(`abort accessible action add after all alter analyse analyze and any array as asc asensitive asymmetric attach authorization autoincrement
		before begin between bigint binary blob both by call cascade case cast change char character check collate collation column commit concurrently condition conflict constraint
		continue convert create cross current current_catalog current_date current_role current_schema current_time current_timestamp current_user cursor database databases
		day_hour day_microsecond day_minute day_second dec decimal declare default deferrable deferred delayed delete desc describe detach deterministic distinct distinctrow div do
		double drop dual each else elseif enclosed end escape escaped except exclude exclusive exists exit explain fail false fetch filter first float float4 float8 following for force
		foreign freeze from full fulltext function generated glob grant group grouping groups having high_priority hour_microsecond hour_minute hour_second if ignore ilike immediate in
		index indexed infile initially inner inout insensitive insert instead int int1 int2 int3 int4 int8 integer intersect interval into is isnull iterate join key keys kill last
		lateral leading leave left like limit linear lines load localtime localtimestamp lock long longblob longtext loop low_priority match materialized maxvalue mediumblob mediumint
		mediumtext middleint mod modifies natural no not nothing notnull null nulls numeric of offset on only open optimize option optionally or order others out outer outfile over
		overlaps overlay parse_vcol_expr partition placing plan position pragma preceding precision primary procedure purge query raise range read reads real recursive references regexp reindex release
		rename repeat replace require restrict return returning revoke right rlike rollback row rows row_number rows savepoint schema schemas second_microsecond select sensitive separator
		session_user set show similar smallint some spatial specific sql sqlexception sqlstate sqlwarning ssl starting straight_join symmetric system_user table tablesample temp temporary terminated
		then ties tinyblob tinyint tinytext to trailing transaction trigger true unbounded undo union unique unlock unsigned update usage use user using utc_date utc_time utc_timestamp
		vacuum values varbinary varchar varcharacter variadic varying verbose view virtual when where while window with without write xor year_month zerofill`) {
		words[w] = true
	}
	return words
}()

// quote is a name as a statement takes it, in quotes only where it must be.
func quote(engine, name string) string {
	if plainName[engine].MatchString(name) && !reserved[strings.ToLower(name)] {
		return name
	}
	if engine == catalog.MySQL {
		return "`" + strings.ReplaceAll(name, "`", "``") + "`"
	}
	if engine == catalog.Postgres {
		return postgresName(name)
	}
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// literal is a text as a constant.
func literal(engine, text string) string {
	if engine == catalog.Postgres {
		return postgresText(text)
	}
	text = strings.ReplaceAll(text, "'", "''")
	if engine == catalog.MySQL {
		text = strings.ReplaceAll(text, `\`, `\\`)
	}
	return "'" + text + "'"
}

// mentions reports whether a text of SQL has a word in it that may be the name.
func mentions(text, name string) bool {
	for at := 0; ; {
		i := strings.Index(strings.ToLower(text[at:]), strings.ToLower(name))
		if i < 0 {
			return false
		}
		from := at + i
		to := from + len(name)
		if (from == 0 || !wordByte(text[from-1])) && (to >= len(text) || !wordByte(text[to])) {
			return true
		}
		at = from + 1
		if at >= len(text) {
			return false
		}
	}
}

func wordByte(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
