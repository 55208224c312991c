// Package dialect is how MySQL and MariaDB write SQL.
package dialect

import (
	"regexp"
	"strings"

	"widegate/internal/sqltext"
)

// MySQL is their dialect.
var MySQL = &sqltext.Dialect{
	Name:     "mysql",
	TextType: "char",
	Quote:    "`", NameQuotes: "`", TextQuotes: `'"`,
	Bare: regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`),
	QuoteText: func(text string) string {
		return "'" + strings.NewReplacer("'", "''", `\`, `\\`).Replace(text) + "'"
	},
	Escapes:      &sqltext.Escapes{Letters: map[byte]string{'n': "\n", 't': "\t", 'r': "\r", 'b': "\b", '0': "\x00", 'Z': "\x1a", '%': `\%`, '_': `\_`}},
	HashComments: true, RunComments: []string{"/*!", "/*M!"},
	Blocks: true, NamedEnds: true,
	LongText: "LONGTEXT", ExactSums: true, OutVariables: true,
	Functions: []sqltext.Function{
		{Names: "bit_and bit_or bit_xor", Value: sqltext.AsInteger, Nulls: sqltext.Never},
		{Names: "rand", Value: sqltext.AsFloat, Nulls: sqltext.Never},
		{Names: "uuid gen_random_uuid", Value: sqltext.AsText, Nulls: sqltext.Never},
	},
	MostColumns: 4096,
	Follows:     true, ColumnChecks: true, ViewOptionsApart: true,
	Shell: sqltext.Shell{
		Backslash:  true,
		Prepare:    openVersioned,
		Line:       regexp.MustCompile(`(?i)^(?:source|\\\.)[ \t]+\S+`),
		Delimiters: true, Anywhere: true,
		Includes: regexp.MustCompile(`(?mi)^(?:source|\\\.)[ \t]+(\S+)`),
		Commands: regexp.MustCompile(`(?mi)^(?:source|\\\.)[ \t]+\S+`),
	},
	Marks: []sqltext.Mark{
		{Weight: sqltext.Decisive, Form: regexp.MustCompile("\\bengine ?=|\\bauto_increment\\b|\\bdefault charset|/\\*m?!|\\bkey `|\\b(?:tiny|medium|long)(?:text|blob)\\b|\\bmediumint\\b|\\bdelimiter [^ a-z]|\\bcharacter set\\b|\\bon update current_timestamp\\b|\\bint ?\\(\\d+\\) unsigned")},
		{Weight: sqltext.Strong, Form: regexp.MustCompile("\\bunsigned\\b|\\benum ?\\(''|\\bset ?\\(''|\\btinyint\\b|` ?(?:var)?(?:char|int)\\b|\\bint ?\\(\\d+\\)|\\bcomment ''|\\bdatetime ?\\(\\d\\)|\\buse `")},
		{Weight: sqltext.Weak, Form: regexp.MustCompile("#line|`|\\bdatetime\\b|\\bdouble\\b")},
	},
}

var versioned = regexp.MustCompile(`^/\*(M?!)\d*`)

// existsClause is what only MariaDB reads, so that a script may be run again. It
// says nothing of the schema.
var existsClause = regexp.MustCompile(`^/\*M!\d* IF (NOT )?EXISTS \*/`)

// openVersioned puts spaces over the signs of comments that MySQL and MariaDB
// execute, /*!40101 … */, so that what stands in them counts.
func openVersioned(d *sqltext.Dialect, source string) string {
	if !strings.Contains(source, "!") {
		return source
	}
	out := []byte(source)
	for at := 0; at < len(source); {
		m := versioned.FindString(source[at:])
		if clause := existsClause.FindString(source[at:]); clause != "" {
			for i := range clause {
				out[at+i] = ' '
			}
			at += len(clause)
			continue
		}
		if m == "" {
			t := sqltext.Next(source, at, d)
			if t.Kind == sqltext.Sign && strings.HasPrefix(source[at:], "*/") {
				copy(out[at:], "  ")
				at += 2
				continue
			}
			at = t.To
			continue
		}
		for i := range len(m) {
			out[at+i] = ' '
		}
		at += len(m)
	}
	return string(out)
}
