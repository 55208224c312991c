package scripts

import (
	"regexp"
	"slices"
	"strings"

	"widegate/internal/engine/mysql/dialect"

	"widegate/internal/sqltext"
)

// head is what a statement begins with: its verb, and what it makes, changes or
// drops, both in lower case.
type head struct {
	verb, object string
	temporary    bool
	name         string // as it is written behind the object, with its quotes taken off
}

// objects are what the statements that change a schema are about.
var objects = strings.Fields("table view index function procedure trigger event database schema user role server tablespace logfile undo sequence package instance resource spatial_reference_system")

var firstWord = regexp.MustCompile(`^[A-Za-z]+`)

// headOf reads the beginning of a statement. What may stand between its verb and
// its object, such as OR REPLACE and DEFINER, is passed over.
func headOf(text string) head {
	if first := strings.ToLower(firstWord.FindString(text)); slices.Contains(rowVerbs, first) {
		return head{verb: first} // of which dumps have many, and long ones
	}
	tokens := slices.DeleteFunc(sqltext.Scan(text, dialect.MySQL), func(t sqltext.Token) bool { return t.Kind == sqltext.Comment })
	if len(tokens) == 0 || tokens[0].Kind != sqltext.Word {
		return head{}
	}
	h := head{verb: strings.ToLower(tokens[0].Text)}
	for i, t := range tokens[1:min(len(tokens), 24)] {
		word := strings.ToLower(t.Text)
		switch {
		case t.Kind != sqltext.Word:
		case word == "temporary":
			h.temporary = true
		case slices.Contains(objects, word):
			h.object = word
			if i+2 < len(tokens) {
				h.name = tokens[i+2].Text
			}
			return h
		}
	}
	if len(tokens) > 1 {
		h.name = tokens[1].Text
	}
	return h
}

// rowVerbs begin statements that change rows, the session or who may do what,
// and no schema.
var rowVerbs = strings.Fields(`insert replace update delete select set lock unlock start begin commit rollback savepoint release analyze optimize check repair
	truncate load call do flush grant revoke show describe desc explain help handler prepare execute deallocate with values xa kill reset purge change stop
	import install uninstall cache binlog clone restart shutdown signal resignal get end backup delimiter`)

// outside are objects that are not part of a schema.
var outside = strings.Fields("user role server tablespace logfile undo instance resource")

// passOver reports whether a statement is none of a schema's.
func (h head) passOver() bool {
	return slices.Contains(rowVerbs, h.verb) || h.temporary || slices.Contains(outside, h.object)
}
