package rollout

import (
	"regexp"

	"widegate/internal/sqltext"
)

// statement is one of a script, as it is sent.
type statement struct {
	sqltext.Statement
	text  string
	class class
}

// class is what a statement means for the record of what is done.
type class uint8

const (
	work    class = iota // changes the schema or rows, and can be taken back in a transaction
	settles              // what only the session knows, and is said again when a script goes on
	begins               // a transaction
	ends                 // a transaction, and keeps what it did
	drops                // a transaction, or a part of it
	final                // work that cannot be taken back, or be done within a transaction
)

// classes are the patterns of statements that are not plain work, the first of
// which holds. What an engine cannot do in a transaction, or ends one by, is
// final.
var classes = map[sqltext.Dialect][]struct {
	class   class
	pattern *regexp.Regexp
}{
	sqltext.Postgres: {
		{begins, begin},
		{ends, regexp.MustCompile(`(?i)^(commit|end)\b`)},
		{drops, rollback},
		{settles, regexp.MustCompile(`(?i)^(set|reset|prepare|execute|deallocate|discard|listen|create\s+(local\s+|global\s+)?temp|select\s+(pg_catalog\.)?set_config\b)`)},
		{final, regexp.MustCompile(`(?is)^(vacuum|cluster\s*;?$|(create|drop)\s+(database|tablespace|subscription)\b|alter\s+system\b|reindex\s+(\([^)]*\)\s*)?(database|system|schema)\b|alter\s+type\s.*\sadd\s+value\b)|^(create|drop|reindex)\b.*\bconcurrently\b|^alter\s+table\s.*\sdetach\s+partition\s.*\sconcurrently\b`)},
	},
	sqltext.MySQL: {
		{begins, begin},
		{ends, regexp.MustCompile(`(?i)^commit\b`)},
		{drops, rollback},
		{settles, regexp.MustCompile(`(?i)^(set|use|prepare|execute|deallocate|do|(create|drop)\s+temporary)\b`)},
		{work, regexp.MustCompile(`(?i)^(insert|replace|update|delete|select|with|values)\b`)},
		{final, regexp.MustCompile(``)}, // the server ends a transaction at each change of a schema
	},
	sqltext.SQLite: {
		{begins, begin},
		{ends, regexp.MustCompile(`(?i)^(commit|end)\b`)},
		{drops, rollback},
		{settles, regexp.MustCompile(`(?i)^(pragma|create\s+temp(orary)?|attach|detach)\b`)},
		{final, regexp.MustCompile(`(?i)^vacuum\b`)},
	},
}

var (
	begin    = regexp.MustCompile(`(?i)^(begin|start\s+transaction)\b`)
	rollback = regexp.MustCompile(`(?i)^(rollback|abort|savepoint|release)\b`)
)

func classOf(text string, d sqltext.Dialect) class {
	for _, c := range classes[d] {
		if c.pattern.MatchString(text) {
			return c.class
		}
	}
	return work
}

// whole reports whether all statements may run in one transaction that the script
// does not begin itself. A setting of SQLite does nothing in a transaction.
func (s *Script) whole(d sqltext.Dialect) bool {
	if d == sqltext.MySQL {
		return false
	}
	for _, st := range s.statements {
		if st.class != work && (st.class != settles || d == sqltext.SQLite) {
			return false
		}
	}
	return true
}
