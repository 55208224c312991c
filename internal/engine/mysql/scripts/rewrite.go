package scripts

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"widegate/internal/engine/mysql/dialect"
	"widegate/internal/sqltext/ddl"

	"widegate/internal/sqltext"
)

// rewritten is a statement in the form that the grammar takes. It knows where
// each part of it stood in the source.
type rewritten struct {
	source, text string
	copied       []copied
	expressions  map[string]string // defaults, by the texts that stand for them
}

// copied is a part of the source that was taken over as it is.
type copied struct{ from, to, at int }

type rewriter struct {
	rewritten
	out strings.Builder
	at  int // up to where the source has been taken
}

func (r *rewriter) keep(to int) {
	if to > r.at {
		r.copied = append(r.copied, copied{r.at, to, r.out.Len()})
		r.out.WriteString(r.source[r.at:to])
		r.at = to
	}
}

// replace puts another text in the place of a part of the source.
func (r *rewriter) replace(from, to int, by string) {
	r.keep(from)
	r.out.WriteString(by)
	r.at = to
}

// place is where something in the text stood in the source.
func (r *rewritten) place(at int) int {
	found := 0
	for _, c := range r.copied {
		if at < c.at {
			break
		}
		found = min(c.from+at-c.at, c.to)
	}
	return found
}

// afterType are the words that may follow the type of a column.
var afterType = []string{"not", "null", "default", "comment", "as", "generated", "unique", "primary", "key", "references", "check", "first", "after", "srid", "invisible", "ref_system_id"}

// rewrite brings what the grammar does not know, of MariaDB, of geometry and of
// defaults that are expressions, to a form that it takes.
func rewrite(text string) rewritten {
	r := &rewriter{rewritten: rewritten{source: text, expressions: map[string]string{}}}
	tokens := sqltext.Scan(text, dialect.MySQL)
	for i, t := range tokens {
		if t.From < r.at { // within what was replaced
			continue
		}
		next := func(words ...string) bool {
			return i+1 < len(tokens) && slices.ContainsFunc(words, tokens[i+1].Is)
		}
		previous := func(words ...string) bool { return i > 0 && slices.ContainsFunc(words, tokens[i-1].Is) }
		typed := foreignTypes[strings.ToLower(t.Text)]
		switch {
		case t.Kind == sqltext.Word && typed > 0 && i > 0 && (tokens[i-1].Kind == sqltext.QuotedName || tokens[i-1].Kind == sqltext.Word) && endsType(tokens[i+1:]):
			r.replace(t.From, t.To, "varbinary("+strconv.Itoa(typed)+")")
		case t.Is("srid") && i+1 < len(tokens):
			r.replace(t.From, tokens[i+1].To, "")
		case t.Is("spatial") && next("key", "index") && i > 1:
			r.replace(t.From, t.To, "fulltext") // addIndex knows it by its column
		case t.Is("persistent") && i > 0 && tokens[i-1].Sign(")"):
			r.replace(t.From, t.To, "stored")
		case t.Is("or") && next("replace") && i+2 < len(tokens) && tokens[i+2].Is("table"):
			r.replace(t.From, tokens[i+1].To, "")
		case t.Is("with") && next("system") && i+2 < len(tokens) && tokens[i+2].Is("versioning"):
			r.replace(t.From, tokens[i+2].To, "")
		case t.Is("default") && !previous("set") && i+1 < len(tokens):
			r.takeDefault(tokens[i+1:])
		}
	}
	r.keep(len(text))
	r.text = r.out.String()
	return r.rewritten
}

// takeDefault puts a text in the place of a default that is an expression in
// parentheses, or takes from a sequence.
func (r *rewriter) takeDefault(tokens []sqltext.Token) {
	end := 0
	switch {
	case tokens[0].Sign("("):
		end = closing(tokens)
	case (tokens[0].Is("nextval") || tokens[0].Is("next")) && len(tokens) > 1:
		end = 1 + closing(tokens[1:])
		if tokens[0].Is("next") { // NEXT VALUE FOR name
			end = min(3, len(tokens)-1)
		}
	default:
		return
	}
	if end <= 0 || end >= len(tokens) {
		return
	}
	mark := fmt.Sprintf("\x01%d", len(r.expressions))
	r.expressions[mark] = r.source[tokens[0].From:tokens[end].To]
	r.replace(tokens[0].From, tokens[end].To, "'"+mark+"'")
}

// closing is the place of the parenthesis that closes the first one, or 0.
func closing(tokens []sqltext.Token) int {
	depth := 0
	for i, t := range tokens {
		switch {
		case t.Sign("("):
			depth++
		case t.Sign(")"):
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return 0
}

var grammarPlace = regexp.MustCompile(`^line \d+ column \d+ near "((?s).*)"`)

// problem takes the place out of the parser's message.
func (r *rewritten) problem(err error) error {
	message := strings.TrimSpace(err.Error())
	place := grammarPlace.FindStringSubmatch(message)
	if place == nil {
		return &ddl.Problem{Text: message}
	}
	near := place[1]
	if near == "" {
		return &ddl.Problem{At: len(r.source), Text: "the statement ends too early"}
	}
	at := max(strings.LastIndex(r.text, near), 0)
	if words := strings.Fields(near); len(words) > 4 {
		near = strings.Join(words[:4], " ") + " …"
	}
	return &ddl.Problem{At: r.place(at), Text: fmt.Sprintf("syntax error at or near %q", near)}
}
