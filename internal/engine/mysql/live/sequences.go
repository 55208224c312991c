package live

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"widegate/internal/engine/mysql/dialect"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// readSequences reads the sequences of MariaDB; MySQL has none.
func (r *reader) readSequences(ctx context.Context) error {
	err := r.each(ctx, "sequences", `SELECT table_schema, table_name FROM information_schema.tables WHERE table_schema IN {schemas} AND table_type = 'SEQUENCE'`, func(row *sql.Rows) error {
		var s catalog.Sequence
		err := row.Scan(&s.Schema, &s.Name)
		r.catalog.Sequences = append(r.catalog.Sequences, s)
		return err
	})
	if err != nil {
		return err
	}
	for i := range r.catalog.Sequences {
		s := &r.catalog.Sequences[i]
		var name, text string
		if err := r.db.QueryRowContext(ctx, "SHOW CREATE SEQUENCE "+quoteName(s.Schema)+"."+quoteName(s.Name)).Scan(&name, &text); err != nil {
			return fmt.Errorf("reading the sequence %s: %w", s.Name, err)
		}
		s.Options = SequenceOptions(text)
	}
	return nil
}

// sequenceWords are the options of a sequence, by the words that give them.
var sequenceWords = []struct{ word, sql string }{
	{"start", "START WITH"}, {"minvalue", "MINVALUE"}, {"maxvalue", "MAXVALUE"}, {"increment", "INCREMENT BY"}, {"cache", "CACHE"}, {"cycle", "CYCLE"},
}

// usualOptions are those of a sequence that counts up or down of which nothing
// else is said; see CREATE SEQUENCE in MariaDB's documentation.
func usualOptions(given map[string]string) map[string]string {
	usual := map[string]string{"minvalue": "1", "maxvalue": "9223372036854775806", "increment": "1", "cache": "1000"}
	first := "minvalue"
	if strings.HasPrefix(given["increment"], "-") {
		usual["minvalue"], usual["maxvalue"] = "-9223372036854775807", "-1"
		first = "maxvalue"
	}
	usual["start"] = usual[first]
	if given[first] != "" {
		usual["start"] = given[first]
	}
	return usual
}

// SequenceOptions are the options in the statement that makes a sequence, as SQL,
// without those that are the usual ones.
func SequenceOptions(statement string) string {
	given := givenOptions(statement)
	usual := usualOptions(given)
	var list []string
	for _, o := range sequenceWords {
		if value, there := given[o.word]; there && value != usual[o.word] {
			list = append(list, strings.TrimSpace(o.sql+" "+strings.TrimPrefix(value, "yes")))
		}
	}
	return strings.Join(list, " ")
}

// AllSequenceOptions adds the usual ones, as a statement needs them that changes
// a sequence.
func AllSequenceOptions(options string) string {
	given := givenOptions(options)
	usual := usualOptions(given)
	var list []string
	for _, o := range sequenceWords {
		switch value := given[o.word]; {
		case o.word == "cycle" && value == "":
			list = append(list, "NOCYCLE")
		case o.word == "cycle":
			list = append(list, "CYCLE")
		case value == "":
			list = append(list, o.sql+" "+usual[o.word])
		default:
			list = append(list, o.sql+" "+value)
		}
	}
	return strings.Join(list, " ")
}

// givenOptions are the options by their words in lower case.
func givenOptions(statement string) map[string]string {
	given := map[string]string{}
	tokens := sqltext.Scan(statement, dialect.MySQL)
	for i, t := range tokens {
		word := strings.ToLower(t.Text)
		switch {
		case t.Kind != sqltext.Word:
		case word == "nocache":
			given["cache"] = "0"
		case word == "cycle":
			given[word] = "yes"
		case word == "start", word == "minvalue", word == "maxvalue", word == "increment", word == "cache":
			if value := numberAfter(tokens[i+1:]); value != "" {
				given[word] = value
			}
		}
	}
	return given
}

// numberAfter reads a number behind an optional WITH, BY or =.
func numberAfter(tokens []sqltext.Token) string {
	sign := ""
	for _, t := range tokens {
		switch {
		case t.Is("with"), t.Is("by"), t.Sign("="):
		case t.Sign("-"):
			sign = "-"
		case t.Kind == sqltext.Word && t.Text[0] >= '0' && t.Text[0] <= '9':
			return sign + t.Text
		default:
			return ""
		}
	}
	return ""
}
