package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/printable"
)

// line is a part of a script: comments, or a statement with those above it.
type line struct {
	comment string // without the signs; empty for none
	raw     string // a comment as it is
	sql     string
	open    *Decision
	spaced  bool // an empty line stands before it
	joined  bool // it stands on the line of the one before it
}

// lines are the script from its first statement to its last.
func (s *Script) lines() []line {
	var list []line
	plain := func(statements []string) {
		for i, statement := range statements {
			list = append(list, line{sql: statement, spaced: i == 0})
		}
	}
	plain(s.Session.Begin)
	if open := s.Open(); len(open) > 0 {
		list = append(list, s.gate(open)...)
	}
	e := s.ways
	for i, c := range s.AllChecks() {
		list = append(list, line{comment: c.comment(), spaced: true})
		for _, statement := range e.Check(i+1, c) {
			list = append(list, line{sql: statement, joined: joins(statement)})
		}
	}
	plain(s.Session.ready)
	for _, step := range s.Steps {
		list = append(list, s.stepLines(e, step)...)
	}
	plain(s.Session.End)
	return list
}

// gate is the place at which a script with open decisions stops.
func (s *Script) gate(open []*Decision) []line {
	numbers := make([]string, len(open))
	for i, d := range open {
		numbers[i] = fmt.Sprint(d.Number)
	}
	each := "each"
	if len(open) == 1 {
		each = "it"
	}
	return []line{{
		comment: fmt.Sprintf("%s only you can decide, marked DECIDE below. Fill %s in, and then remove this line, at which the script stops until then:", places(len(open)), each),
		raw:     s.ways.Stop(fmt.Sprintf("DECIDE %s;", strings.Join(numbers, ", "))), spaced: true,
	}}
}

// stepLines are a step with its comments.
func (s *Script) stepLines(e Engine, step Step) []line {
	list := []line{{comment: OneLine(step.Note), spaced: true}}
	if d := step.Decision; d != nil {
		if d.Taken < 0 {
			return append(list, line{open: d, raw: e.Stop(fmt.Sprintf("DECIDE %d;", d.Number))})
		}
		p := d.Proposals[d.Taken]
		list = append(list, line{comment: fmt.Sprintf("Decision %d: %s Taken: %s.", d.Number, d.Question, p.Title)})
	}
	for _, statement := range step.statements() {
		list = append(list, line{sql: statement, joined: joins(statement)})
		for _, guard := range e.Guard(statement) {
			list = append(list, line{sql: guard, joined: joins(guard)})
		}
	}
	return list
}

// joins reports whether a statement only carries on the one before it.
func joins(statement string) bool {
	return statement == "PREPARE widegate FROM @widegate_do" || statement == "EXECUTE widegate"
}

// Text is the script as a file. Its first lines say what it does.
func (s *Script) Text(title string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "-- %s\n--\n", OneLine(title))
	for _, c := range s.Changes {
		fmt.Fprintf(&b, "-- %s\n", OneLine(c.String()))
	}
	fmt.Fprintf(&b, "--\n-- Run it by `%s`.\n", s.ways.Traits().Runner)
	comment(&b, s.ways.Traits().Promise)
	for _, note := range s.Notes {
		comment(&b, "Note: "+note)
	}
	w := &writer{bodies: s.ways.Traits().Bodies, delimiter: ";"}
	for _, l := range s.lines() {
		w.write(l)
	}
	w.delimit(";")
	return []byte(b.String() + strings.Join(w.lines, "\n") + "\n")
}

// writer puts the lines of a script together.
type writer struct {
	bodies    bool // these want another delimiter
	delimiter string
	lines     []string
}

func (w *writer) add(text string) {
	w.lines = append(w.lines, strings.Split(strings.TrimRight(text, "\n"), "\n")...)
}

// delimit changes the delimiter, which some clients need for a statement that has
// semicolons in it.
func (w *writer) delimit(sign string) {
	if w.delimiter != sign {
		w.add("DELIMITER " + sign)
		w.delimiter = sign
	}
}

func (w *writer) write(l line) {
	if l.spaced && (len(w.lines) == 0 || w.lines[len(w.lines)-1] != "") {
		w.lines = append(w.lines, "")
	}
	var b strings.Builder
	if l.comment != "" {
		comment(&b, l.comment)
	}
	if l.open != nil {
		l.open.write(&b)
	}
	if b.Len() > 0 {
		w.add(b.String())
	}
	if l.raw != "" {
		w.add(l.raw)
	}
	text := strings.TrimRight(strings.TrimSpace(l.sql), ";")
	if text == "" {
		return
	}
	sign := ";"
	if w.bodies && hasBody(text) {
		sign = "$$"
	}
	if l.joined && w.delimiter == sign {
		w.lines[len(w.lines)-1] += " " + text + sign
		return
	}
	w.delimit(sign)
	w.add(text + sign)
}

// hasBody reports whether a statement makes something whose body has semicolons.
func hasBody(text string) bool {
	return routineHead.MatchString(text) && strings.Contains(text, ";")
}

func places(n int) string {
	if n == 1 {
		return "There is one place that"
	}
	return fmt.Sprintf("There are %d places that", n)
}

// OneLine is a text on one line.
func OneLine(s string) string { return printable.Line(strings.Join(strings.Fields(s), " ")) }

// comment writes a comment of lines that are not too long.
func comment(b *strings.Builder, text string) {
	for part := range strings.Lines(text) {
		line := "--"
		for _, word := range strings.Fields(printable.Line(strings.Join(strings.Fields(part), " "))) {
			if len(line)+len(word) > 96 && line != "--" {
				b.WriteString(line + "\n")
				line = "--"
			}
			line += " " + word
		}
		b.WriteString(line + "\n")
	}
}

// ended is a statement with its semicolon.
func ended(statement string) string {
	return strings.TrimRight(strings.TrimSpace(statement), ";") + ";"
}

// write writes an open decision with its proposals.
func (d *Decision) write(b *strings.Builder) {
	comment(b, fmt.Sprintf("DECIDE %d: %s Take one of these, or write your own, in place of the line DECIDE:", d.Number, d.Question))
	for i, p := range d.Proposals {
		comment(b, fmt.Sprintf("  %c. %s", 'a'+i, p.Title))
		for _, c := range p.Checks {
			comment(b, "     The rows in question: "+OneLine(c.List))
		}
		for _, statement := range p.SQL {
			for _, line := range strings.FieldsFunc(ended(statement), func(r rune) bool { return r == '\n' || r == '\r' }) {
				b.WriteString("--      " + printable.Text(line) + "\n")
			}
		}
	}
}

// Message is what a check says when it fails, but for the number of rows.
func (c Check) Message() string { return c.Place + ": " + c.Fault }

func (c Check) comment() string {
	text := "Checked: " + c.Message() + "."
	if c.List != "" {
		text += " The rows: " + OneLine(c.List)
	}
	if c.Help != "" {
		text += "\nIf there are any: " + c.Help + "."
	}
	return text
}

// unsaid are the checks that a list does not have yet.
func unsaid(list []Check, c Check) bool {
	return !slices.ContainsFunc(list, func(x Check) bool { return x.Count == c.Count })
}
