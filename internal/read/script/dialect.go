package script

import "regexp"

// signs are what only the scripts of one engine have.
var signs = []struct {
	dialect Dialect
	form    *regexp.Regexp
}{
	{Postgres, regexp.MustCompile(`(?i)\b(big|small)?serial\b|\bcreate\s+extension\b|\$\$|\$_\$|::\s*[a-z]|\btimestamptz\b|\bjsonb\b|\bbytea\b|\bset\s+search_path\b|\bcreate\s+(type|domain|schema|sequence)\b|\bcomment\s+on\b|\bcharacter varying\b|\bowner\s+to\b|\bgenerated\s+(always|by default)\s+as\s+identity\b|\blanguage\s+'?(plpgsql|sql)\b|\btext\[\]|\balter\s+table\s+only\b`)},
	{MySQL, regexp.MustCompile("(?im)^#|\\bengine\\s*=|\\bauto_increment\\b|\\bdefault\\s+charset|\\bunsigned\\b|/\\*M?!|\\benum\\s*\\(|\\bkey\\s+`|\\b(tiny|medium)(int|text|blob)\\b|\\bdelimiter\\b|\\bcharacter\\s+set\\b|`\\s*(var)?(char|int)")},
	{SQLite, regexp.MustCompile(`(?i)\bautoincrement\b|\bwithout\s+rowid\b|\bpragma\b|\)\s*strict\b|\bcreate\s+virtual\s+table\b`)},
}

// Guess finds whose dialect scripts are in by what only one engine has.
// Without any such sign it is SQLite, which takes plain SQL as it is.
func Guess(files []*File) Dialect {
	best, most := SQLite, 0
	for _, s := range signs {
		n := 0
		for _, f := range files {
			n += len(s.form.FindAllStringIndex(f.Text, 50))
		}
		if n > most {
			best, most = s.dialect, n
		}
	}
	return best
}
