package sqltext

import (
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Statement is one statement of a script, without the semicolon behind it.
type Statement struct {
	File    *File
	Text    string
	From    int    // where it begins in the file, in bytes
	Comment string // the comments that stand between it and the one before
}

// Position returns the line and column, from 1, of a place in the statement,
// given in bytes from its beginning. Columns count characters.
func (s Statement) Position(at int) (line, column int) {
	before := s.File.Text[:min(s.From+max(at, 0), len(s.File.Text))]
	start := strings.LastIndexByte(before, '\n') + 1
	return strings.Count(before, "\n") + 1, utf8.RuneCountInString(before[start:]) + 1
}

// Head is the beginning of the statement, for messages.
func (s Statement) Head() string {
	words := strings.Fields(s.Text)
	if len(words) > 5 {
		return strings.Join(words[:5], " ") + " …"
	}
	return strings.Join(words, " ")
}

// Split splits a file at the semicolons that end statements. It leaves out
// what is for the engines' own shells: their commands, data to be copied in,
// and changes of the delimiter, which it obeys.
func Split(f *File, d *Dialect) []Statement {
	source := f.Text
	if d.Shell.Prepare != nil {
		source = d.Shell.Prepare(d, source)
	}
	s := splitter{file: f, source: source, dialect: d, delimiter: ";"}
	for at := 0; at < len(source); {
		at = s.step(at)
	}
	s.flush(len(source))
	return s.list
}

// Included lists the files that a script has a shell run, which are not read with
// it, with their places as of Statement.Position.
func Included(f *File, d *Dialect) []Statement {
	var list []Statement
	for _, m := range d.Shell.Includes.FindAllStringIndex(f.Text, -1) {
		list = append(list, Statement{File: f, Text: f.Text[m[0]:m[1]], From: m[0]})
	}
	return list
}

// ForShell lists what a script leaves to the client of its engine, and no server
// understands, with places as of Statement.Position.
func ForShell(f *File, d *Dialect) []Statement {
	var list []Statement
	pattern := d.Shell.Commands
	if !pattern.MatchString(f.Text) {
		return nil
	}
	statements := Split(f, d)
	for _, m := range pattern.FindAllStringIndex(f.Text, -1) {
		inside := slices.ContainsFunc(statements, func(s Statement) bool { return s.From <= m[0] && m[0] < s.From+len(s.Text) && !d.Shell.Anywhere })
		if !inside {
			list = append(list, Statement{File: f, Text: f.Text[m[0]:m[1]], From: m[0]})
		}
	}
	return list
}

type splitter struct {
	file      *File
	source    string
	dialect   *Dialect
	delimiter string
	list      []Statement
	words     []Token // of the statement so far
	comments  []string
	blocks    []block // of a body, that are open
	closed    bool    // the last END closed a block
	open      int     // parentheses; PostgreSQL's rules have statements in them
}

var delimiterLine = regexp.MustCompile(`(?i)^delimiter[ \t]+(\S+)[^\n]*`)

// step takes what stands at a place and returns the next place.
func (s *splitter) step(at int) int {
	if len(s.words) == 0 && s.shellLine(at) {
		return at + indexOr(s.source[at:], "\n", len(s.source)-at)
	}
	if s.dialect.Shell.Delimiters && len(s.words) == 0 {
		if m := delimiterLine.FindStringSubmatch(s.source[at:]); m != nil {
			s.delimiter = m[1]
			return at + len(m[0])
		}
	}
	own := s.delimiter != ";"
	if strings.HasPrefix(s.source[at:], s.delimiter) && (own || len(s.blocks) == 0 && s.open == 0) {
		s.flush(at)
		return at + len(s.delimiter)
	}
	if own && s.source[at] == ';' && len(s.blocks) == 0 { // the server takes several statements at once
		s.flush(at)
		return at + 1
	}
	t := Next(s.source, at, s.dialect)
	if own && t.Kind == Word { // END$$ holds the delimiter
		if end := strings.Index(t.Text, s.delimiter); end > 0 {
			t.Text, t.To = t.Text[:end], at+end
		}
	}
	switch {
	case t.Kind == Comment && len(s.words) == 0:
		s.comments = append(s.comments, t.Text)
	case t.Kind == Comment, t.Text == "" && t.Kind == Sign:
	default:
		s.words = append(s.words, t)
		s.nest(t)
		switch {
		case !s.dialect.StatementsInParentheses:
		case t.Sign("("):
			s.open++
		case t.Sign(")"):
			s.open = max(s.open-1, 0)
		}
	}
	return t.To
}

// shellLine reports whether a line that begins at a place is for the engine's shell.
func (s *splitter) shellLine(at int) bool {
	if s.dialect.Shell.Line == nil || at > 0 && s.source[at-1] != '\n' {
		return false
	}
	return s.dialect.Shell.Line.MatchString(s.source[at:min(len(s.source), at+200)])
}

// nest keeps count of the blocks in the body of a trigger or routine, whose
// semicolons end no statement.
func (s *splitter) nest(t Token) {
	if t.Kind != Word || !s.hasBody() {
		return
	}
	switch strings.ToUpper(t.Text) {
	case "BEGIN":
		if s.dialect.Blocks && s.beginsStatement() {
			s.blocks = append(s.blocks, statements)
		}
	case "ATOMIC":
		s.blocks = append(s.blocks, statements)
	case "CASE":
		if len(s.blocks) > 0 && !s.behind("END") {
			s.blocks = append(s.blocks, cases)
		}
	case "END":
		s.end()
	}
	if s.dialect.NamedEnds && s.closed && s.behind("END") && slices.ContainsFunc([]string{"IF", "LOOP", "REPEAT", "WHILE", "FOR"}, t.Is) {
		s.blocks = append(s.blocks, statements) // that END closed no BEGIN
	}
}

// block is what an END closes.
type block int

const (
	statements block = iota // BEGIN … END
	cases                   // CASE … END
)

// end closes a block, unless the word is only the name of a column: a block of
// statements ends behind one of them.
func (s *splitter) end() {
	n := len(s.blocks)
	s.closed = n > 0 && (s.blocks[n-1] == cases || s.beginsStatement())
	if s.closed {
		s.blocks = s.blocks[:n-1]
	}
}

// beginsStatement reports whether the last word stands where a statement of a body
// may begin.
func (s *splitter) beginsStatement() bool {
	n := len(s.words)
	if n < 2 || len(s.blocks) == 0 {
		return n < 2 || !s.words[n-2].Sign(".") && !s.words[n-2].Sign(",") && !s.words[n-2].Sign("(")
	}
	before := s.words[n-2]
	return before.Sign(";") || before.Sign(":") || slices.ContainsFunc([]string{"BEGIN", "ATOMIC", "THEN", "ELSE", "DO", "LOOP", "REPEAT"}, before.Is) || s.behindHandler()
}

// behindHandler reports whether the last word stands behind DECLARE … HANDLER FOR ….
func (s *splitter) behindHandler() bool {
	for i := len(s.words) - 2; i >= 0 && !s.words[i].Sign(";"); i-- {
		if s.words[i].Is("HANDLER") {
			return true
		}
	}
	return false
}

// behind reports whether the word before the last one is that.
func (s *splitter) behind(word string) bool {
	n := len(s.words)
	return n > 1 && s.words[n-2].Is(word)
}

// hasBody reports whether the statement makes a trigger or routine.
func (s *splitter) hasBody() bool {
	if !s.words[0].Is("CREATE") {
		return false
	}
	for _, t := range s.words[1:min(len(s.words), 9)] {
		switch {
		case t.Is("TRIGGER"), t.Is("FUNCTION"), t.Is("PROCEDURE"), t.Is("EVENT"):
			return true
		case t.Is("TABLE"), t.Is("VIEW"), t.Is("INDEX"):
			return false
		}
	}
	return false
}

func (s *splitter) flush(end int) {
	if len(s.words) > 0 {
		from := s.words[0].From
		text := strings.TrimRight(s.source[from:end], " \t\r\n")
		s.list = append(s.list, Statement{File: s.file, Text: text, From: from, Comment: strings.Join(s.comments, " ")})
		s.comments = nil
	}
	s.words, s.blocks, s.open = nil, nil, 0
}

// Pieces are the statements of a text as a program sends them, comments that an
// engine executes included.
func Pieces(text string, d *Dialect) []string {
	var list []string
	for _, s := range Split(&File{Path: "script", Text: text}, d) {
		list = append(list, text[s.From:s.From+len(s.Text)])
	}
	return list
}
