package sqltext

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
)

// A sign is what the scripts of one engine have. Its weight is how much it says:
// some are in no other engine's language, others only rare there.
type sign struct {
	dialect Dialect
	weight  int
	form    *regexp.Regexp
}

const (
	decisive = 100
	strong   = 20
	weak     = 3
)

// signs are looked for in the text without comments, in small letters, with
// white space as single spaces and with texts as empty quotes.
var signs = []sign{
	{Postgres, decisive, regexp.MustCompile(`\b(?:big|small)serial\b|\bcreate extension\b|\$\$|\$_\$|\bset search_path\b|\bcreate (?:type|domain)\b|\bcomment on (?:table|column|schema|function|type|extension)\b|\bowner to\b|\bidentity\b|\bplpgsql\b|\btext\[\]|\balter table only\b|\breturns trigger\b|\bnextval\(|\bpg_catalog\.|\busing (?:gin|gist|brin)\b`)},
	{Postgres, strong, regexp.MustCompile(`::[a-z]|\bserial\b|\btimestamptz\b|\bjsonb\b|\bbytea\b|\bcharacter varying\b|\bcreate (?:schema|sequence|materialized view|policy)\b|\bgen_random_uuid\b|\bwith(?:out)? time zone\b|\bcitext\b|\btsvector\b`)},
	{Postgres, weak, regexp.MustCompile(`\buuid\b|\bnow\(\)|\bboolean default (?:true|false)\b|\bdouble precision\b|\bcascade;`)},
	{MySQL, decisive, regexp.MustCompile("\\bengine ?=|\\bauto_increment\\b|\\bdefault charset|/\\*m?!|\\bkey `|\\b(?:tiny|medium|long)(?:text|blob)\\b|\\bmediumint\\b|\\bdelimiter [^ a-z]|\\bcharacter set\\b|\\bon update current_timestamp\\b|\\bint ?\\(\\d+\\) unsigned")},
	{MySQL, strong, regexp.MustCompile("\\bunsigned\\b|\\benum ?\\(''|\\bset ?\\(''|\\btinyint\\b|` ?(?:var)?(?:char|int)\\b|\\bint ?\\(\\d+\\)|\\bcomment ''|\\bdatetime ?\\(\\d\\)|\\buse `")},
	{MySQL, weak, regexp.MustCompile("#line|`|\\bdatetime\\b|\\bdouble\\b")},
	{SQLite, decisive, regexp.MustCompile(`\bautoincrement\b|\bwithout rowid\b|\bpragma [a-z]|\) ?strict\b|\bcreate virtual table\b|\bsqlite_(?:sequence|stat1|master)\b|\bstrftime ?\(|\bjulianday ?\(|\bdatetime ?\(''|\binsert or (?:replace|ignore)\b|\brandomblob ?\(|\bvacuum;`)},
	{SQLite, strong, regexp.MustCompile(`\binteger primary key\b|\bbegin transaction\b|\bglob ''|\bcollate nocase\b|\[[a-z_ ]+\] [a-z]`)},
	{SQLite, weak, regexp.MustCompile(`\binteger not null\b|\bblob\b|\bdatetime\b|` + "`")},
}

// What is looked at: so much of a file, and so much of all together.
const (
	mostOfFile  = 256 << 10
	mostOfFiles = 8 << 20
)

// enough is how often a sign counts.
const enough = 4

// Guess finds whose dialect scripts are in by what only one engine has.
// Without any such sign it is SQLite, which takes plain SQL as it is.
func Guess(files []*File) Dialect { return Guesses(files)[0] }

// Guesses are the dialects that scripts may be in, the likeliest first.
func Guesses(files []*File) []Dialect {
	found := make([]int, len(signs))
	looked := 0
	for _, f := range files {
		text := f.Text[:min(len(f.Text), mostOfFile)]
		if looked += len(text); looked > mostOfFiles {
			break
		}
		text = bare(text)
		for i, s := range signs {
			if found[i] < enough {
				found[i] += len(s.form.FindAllStringIndex(text, enough-found[i]))
			}
		}
	}
	score := map[Dialect]int{SQLite: 1}
	for i, s := range signs {
		score[s.dialect] += s.weight * found[i]
	}
	list := slices.DeleteFunc([]Dialect{SQLite, Postgres, MySQL}, func(d Dialect) bool { return score[d] == 0 })
	slices.SortStableFunc(list, func(a, b Dialect) int { return cmp.Compare(score[b], score[a]) })
	return list
}

// bare is a text in small letters without its comments and the insides of its
// texts. What is between quotes in names stays.
func bare(text string) string {
	var b strings.Builder
	space := true
	for at := 0; at < len(text); {
		rest := text[at:]
		switch c := rest[0]; {
		case strings.HasPrefix(rest, "--"):
			at += indexOr(rest, "\n", len(rest))
		case c == '#' && (at == 0 || text[at-1] == '\n'): // for MySQL, and for SQLite's shell
			b.WriteString("#line ")
			at, space = at+indexOr(rest, "\n", len(rest)), true
		case strings.HasPrefix(rest, "/*") && !strings.HasPrefix(rest, "/*!") && !strings.HasPrefix(rest, "/*M!"):
			at += commentEnd(rest, MySQL)
		case c == '\'':
			_, n := quoted(rest, c, nil)
			b.WriteString("''")
			at, space = at+n, false
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			if !space {
				b.WriteByte(' ')
			}
			at, space = at+1, true
		default:
			b.WriteByte(c)
			at, space = at+1, false
		}
	}
	return strings.ToLower(b.String())
}
