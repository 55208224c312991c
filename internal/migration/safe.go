package migration

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// A schema may be somebody else's: the names and texts in it can be chosen so
// that a client of the engine takes them for commands of its own, which run
// programs. Names and constants are therefore quoted in a form that no client
// looks into, comments are one line whatever they hold, and every statement of a
// script is read once more as a client reads it. One that would be more than a
// single statement is refused.

// verify returns an error for a statement that a client would not take as one.
func (s *Script) verify() error {
	plain := false // a backslash in a text is one, by the settings of the session
	for _, l := range s.lines() {
		if err := s.verifyAll(plain, l.sql); err != nil {
			return err
		}
		if strings.HasPrefix(l.sql, "SET ") && strings.Contains(l.sql, "sql_mode =") {
			plain = strings.Contains(l.sql, "NO_BACKSLASH_ESCAPES")
		}
	}
	for _, d := range s.Decisions {
		for _, p := range d.Proposals {
			if err := s.verifyAll(false, p.SQL...); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Script) verifyAll(plain bool, statements ...string) error {
	for _, text := range statements {
		text = strings.TrimRight(strings.TrimSpace(text), ";")
		if plain {
			text = strings.ReplaceAll(text, `\`, `\\`)
		}
		if why := unsafe(s.ways.Dialect(), text); text != "" && why != "" {
			return fault.New("look at where that text comes from; rename it, or make the change by hand", "no script is drafted: a text of the schema %s, in %q", why, shortened(text))
		}
	}
	return nil
}

// shortened is enough of a statement to find it by.
func shortened(text string) string {
	const most = 160
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + "…"
}

// heads are the words that statements of scripts begin with.
var heads = strings.Fields(`alter begin comment commit create deallocate delete do drop execute grant insert
	lock pragma prepare rename replace revoke rollback security select set start truncate unlock update with`)

// unsafe says why a client would take a text for something else than one
// statement; empty if it would not.
func unsafe(d *sqltext.Dialect, text string) string {
	if at := strings.IndexFunc(text, acts); at >= 0 {
		r, _ := utf8.DecodeRuneInString(text[at:])
		return fmt.Sprintf("holds the control character %U", r)
	}
	if !utf8.ValidString(text) {
		return "is no UTF-8"
	}
	tokens := sqltext.Scan(text+"\n;", d)
	if len(tokens) == 0 || !tokens[len(tokens)-1].Sign(";") {
		return "opens a quote or a comment and does not close it"
	}
	tokens = tokens[:len(tokens)-1]
	head := slices.IndexFunc(tokens, func(t sqltext.Token) bool { return t.Kind != sqltext.Comment })
	if head < 0 || tokens[head].Kind != sqltext.Word || !slices.Contains(heads, strings.ToLower(tokens[head].Text)) {
		return "does not begin as a statement that changes a schema"
	}
	return unsafeTokens(d, text, tokens)
}

// acts reports whether a character has no place in a script even in quotes.
func acts(r rune) bool {
	return r < ' ' && !strings.ContainsRune("\n\t\r\f\v", r) || r == 0x7f || r >= 0x80 && r <= 0x9f
}

func unsafeTokens(d *sqltext.Dialect, text string, tokens []sqltext.Token) string {
	body := hasBody(text)
	for i, t := range tokens {
		switch {
		case t.Kind == sqltext.Comment:
			if inner, runs := conditional(d, text[t.From:t.To]); runs {
				if why := unsafeTokens(d, inner, sqltext.Scan(inner, d)); why != "" {
					return why
				}
			}
		case t.Sign(";") && !body:
			return "holds more than one statement"
		case t.Sign(`\`) && d.Shell.Backslash && !(i+1 < len(tokens) && tokens[i+1].Kind == sqltext.Word && tokens[i+1].Text == "N"):
			return "holds a command of the client"
		case d.Shell.Delimiters && t.Is("delimiter"):
			return "holds a command of the client"
		case (t.Kind == sqltext.Word || t.Kind == sqltext.Sign) && slices.Contains(d.Shell.Ends, strings.ToLower(t.Text)) && alone(text, t):
			return "holds a line at which the client ends a statement"
		}
	}
	return ""
}

// conditional is the text of a comment that servers run.
func conditional(d *sqltext.Dialect, comment string) (inner string, runs bool) {
	for _, begin := range d.RunComments {
		if inner, runs = strings.CutPrefix(comment, begin); runs {
			return strings.TrimSuffix(inner, "*/"), true
		}
	}
	return "", false
}

// alone reports whether nothing else stands on the line of a token.
func alone(text string, t sqltext.Token) bool {
	from := strings.LastIndexByte(text[:t.From], '\n') + 1
	to := len(text)
	if end := strings.IndexByte(text[t.To:], '\n'); end >= 0 {
		to = t.To + end
	}
	return strings.TrimSpace(text[from:to]) == strings.TrimSpace(text[t.From:t.To])
}

// makers are the words that begin a statement which a catalog gives for what it
// holds.
var makers = strings.Fields("alter comment create drop grant revoke security set")

// settings are those that MySQL keeps with a routine.
var settings = regexp.MustCompile(`^sql_mode = '[A-Z0-9_,]*', collation_connection = \w+$`)

// verifyCatalog returns an error for a statement in a catalog that does
// something else than make what it is for: snapshots are files that anybody can
// write.
func verifyCatalog(c *catalog.Catalog) error {
	check := func(what, name, text string) error {
		if text == "" {
			return nil
		}
		tokens := sqltext.Scan(text, c.Engine)
		at := slices.IndexFunc(tokens, func(t sqltext.Token) bool { return t.Kind != sqltext.Comment })
		if at >= 0 && tokens[at].Kind == sqltext.Word && slices.Contains(makers, strings.ToLower(tokens[at].Text)) {
			return nil
		}
		return fault.New("read the schema from the database again", "no script is drafted: the statement for the %s %q makes none: %q", what, name, shortened(text))
	}
	session := func(what, name, text string) error {
		if text == "" || settings.MatchString(text) {
			return nil
		}
		return fault.New("read the schema from the database again", "no script is drafted: the settings of the %s %q are none: %q", what, name, shortened(text))
	}
	extras := func(list []catalog.Extra) error {
		for _, e := range list {
			if err := cmp.Or(check(e.Kind, e.Name, e.Make), check(e.Kind, e.Name, e.Undo), session(e.Kind, e.Name, e.Session)); err != nil {
				return err
			}
		}
		return nil
	}
	for _, r := range c.Routines {
		if err := cmp.Or(check("routine", r.Name, r.Definition), session("routine", r.Name, r.Session)); err != nil {
			return err
		}
	}
	for i := range c.Tables {
		t := &c.Tables[i]
		for _, x := range t.Triggers {
			if err := cmp.Or(check("trigger", x.Name, x.Definition), session("trigger", x.Name, x.Session)); err != nil {
				return err
			}
		}
		if err := extras(t.Extras); err != nil {
			return err
		}
	}
	return extras(c.Extras)
}
