// Package dialect is how PostgreSQL writes SQL.
package dialect

import (
	"fmt"
	"regexp"
	"strings"

	"widegate/internal/printable"
	"widegate/internal/sqltext"
)

// PostgreSQL is its dialect.
var PostgreSQL = &sqltext.Dialect{
	Name:     "postgres",
	Schemas:  true,
	TextType: "text",
	Quote:    `"`, NameQuotes: `"`, TextQuotes: "'",
	Bare:      regexp.MustCompile(`^[a-z_][a-z0-9_]*$`), // upper case is folded
	QuoteName: postgresName, QuoteText: postgresText,
	MarkedEscapes: &sqltext.Escapes{Letters: map[byte]string{'n': "\n", 't': "\t", 'r': "\r", 'b': "\b", 'f': "\f"}, Numbers: true},
	DollarTexts:   true, NestedComments: true, LineEnds: "\n\r",
	StatementsInParentheses: true,
	NumberedArgs:            true, TextCast: "::text", ZeroDivision: true, NaN: true, SecondDigits: 6, LongText: "TEXT", ExactSums: true,
	Functions: []sqltext.Function{
		{Names: "bit_and bit_or bit_xor", Value: sqltext.AsFirst, Nulls: sqltext.IfNoRows},
		{Names: "random", Value: sqltext.AsFloat, Nulls: sqltext.Never},
		{Names: "greatest least", Value: sqltext.AsWidest, Nulls: sqltext.IfAllArgs},
		{Names: "concat concat_ws format printf", Value: sqltext.AsText, Nulls: sqltext.Never},
	},
	MostColumns:    1664, // appendix K of its documentation
	OwnedSequences: true, Follows: true, TriggersFollow: true,
	Shell: sqltext.Shell{
		Backslash: true,
		Prepare:   blankShell,
		Includes:  regexp.MustCompile(`(?m)^\\ir?[ \t]+(\S+)`),
		Commands:  regexp.MustCompile(`(?mi)^(?:\\(?:include_relative|include|ir|i|copy|connect|c|gexec|g|if|elif|else|endif|o|w|!)\b[^\n]*|copy\s[^;]*\sfrom\s+stdin\b[^;]*;)`),
	},
	Marks: []sqltext.Mark{
		{Weight: sqltext.Decisive, Form: regexp.MustCompile(`\b(?:big|small)serial\b|\bcreate extension\b|\$\$|\$_\$|\bset search_path\b|\bcreate (?:type|domain)\b|\bcomment on (?:table|column|schema|function|type|extension)\b|\bowner to\b|\bidentity\b|\bplpgsql\b|\btext\[\]|\balter table only\b|\breturns trigger\b|\bnextval\(|\bpg_catalog\.|\busing (?:gin|gist|brin)\b`)},
		{Weight: sqltext.Strong, Form: regexp.MustCompile(`::[a-z]|\bserial\b|\btimestamptz\b|\bjsonb\b|\bbytea\b|\bcharacter varying\b|\bcreate (?:schema|sequence|materialized view|policy)\b|\bgen_random_uuid\b|\bwith(?:out)? time zone\b|\bcitext\b|\btsvector\b`)},
		{Weight: sqltext.Weak, Form: regexp.MustCompile(`\buuid\b|\bnow\(\)|\bboolean default (?:true|false)\b|\bdouble precision\b|\bcascade;`)},
	},
}

func lineEnd(s string) int {
	if at := strings.IndexByte(s, '\n'); at >= 0 {
		return at
	}
	return len(s)
}

var copyFromInput = regexp.MustCompile(`(?is)^copy\s[^;]*\sfrom\s+stdin\b[^;]*;`)

// blankShell puts spaces over the commands of PostgreSQL's shell and the data
// that follow COPY … FROM stdin, so that every other place stays what it was.
func blankShell(d *sqltext.Dialect, source string) string {
	if !strings.Contains(source, "\n\\") && !strings.HasPrefix(source, "\\") && !strings.Contains(strings.ToLower(source), "from stdin") {
		return source
	}
	out := []byte(source)
	blank := func(from, to int) {
		for i := from; i < to; i++ {
			if out[i] != '\n' {
				out[i] = ' '
			}
		}
	}
	for at := 0; at < len(source); {
		lineStart := at == 0 || source[at-1] == '\n'
		rest := source[at:]
		if lineStart && rest[0] == '\\' {
			end := at + lineEnd(rest)
			blank(at, end)
			at = end
			continue
		}
		if c := copyFromInput.FindString(rest[:min(len(rest), 1<<16)]); lineStart && c != "" {
			end := len(source)
			if i := strings.Index(rest, "\n\\."); i >= 0 {
				end = at + i + len("\n\\.")
			}
			blank(at, end)
			at = end
			continue
		}
		at = sqltext.Next(source, at, d).To
	}
	return string(out)
}

// escapes is a name or a text with the characters that act on a terminal as
// escapes, in the form of PostgreSQL's U& names and E texts; ok tells whether
// there are any.
func escapes(s, long, short string, acts func(rune) bool) (escaped string, ok bool) {
	if !strings.ContainsFunc(s, acts) {
		return s, false
	}
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\\':
			b.WriteString(`\\`)
		case !acts(r) || r == 0: // which no escape spells, and verify finds
			b.WriteRune(r)
		case r > 0xffff:
			fmt.Fprintf(&b, long, r)
		default:
			fmt.Fprintf(&b, short, r)
		}
	}
	return b.String(), true
}

// postgresName is a name of PostgreSQL in quotes.
func postgresName(name string) string {
	text, escaped := escapes(name, `\+%06x`, `\%04x`, func(r rune) bool { return r == '\n' || r == '\t' || printable.Acts(r) })
	text = `"` + strings.ReplaceAll(text, `"`, `""`) + `"`
	if escaped {
		return "U&" + text
	}
	return text
}

// postgresText is a constant of PostgreSQL.
func postgresText(s string) string {
	text, escaped := escapes(s, `\U%08x`, `\u%04x`, printable.Acts)
	text = "'" + strings.ReplaceAll(text, "'", "''") + "'"
	if escaped {
		return "E" + text
	}
	return text
}
