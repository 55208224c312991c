package migration

import (
	"fmt"
	"strings"

	"widegate/internal/catalog"
)

// runners say how a script is run so that it stops at the first error.
var runners = map[string]string{
	catalog.Postgres: "psql -v ON_ERROR_STOP=1 -f FILE",
	catalog.MySQL:    "mariadb DATABASE < FILE",
	catalog.SQLite:   "sqlite3 -bail DATABASE < FILE",
}

// Text is the script as a file. Its first lines say what it does.
func (s *Script) Text(title string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "-- %s\n--\n", oneLine(title))
	for _, c := range s.Changes {
		fmt.Fprintf(&b, "-- %s\n", oneLine(c.String()))
	}
	fmt.Fprintf(&b, "--\n-- Run it by `%s`.\n", runners[s.Engine])
	for _, note := range s.Notes {
		comment(&b, "Not in this script: "+note)
	}
	if open := s.Open(); len(open) > 0 {
		numbers := make([]string, len(open))
		for i, d := range open {
			numbers[i] = fmt.Sprint(d.Number)
		}
		each := "each"
		if len(open) == 1 {
			each = "it"
		}
		fmt.Fprintf(&b, "\n-- %s only you can decide, marked DECIDE below. Fill %s in, and then\n-- remove this line, at which the script stops until then:\nDECIDE %s;\n", places(len(open)), each, strings.Join(numbers, ", "))
	}
	begin, end := transaction(s.Engine)
	for _, place := range []Place{Ahead, Inside, Behind} {
		wrap := place == Inside && begin != ""
		if wrap {
			fmt.Fprintf(&b, "\n%s;\n", begin)
		}
		for _, step := range s.Steps {
			if step.Place == place {
				step.write(&b)
			}
		}
		if wrap {
			fmt.Fprintf(&b, "\n%s;\n", end)
		}
	}
	return []byte(b.String())
}

func places(n int) string {
	if n == 1 {
		return "There is one place that"
	}
	return fmt.Sprintf("There are %d places that", n)
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// comment writes a comment of lines that are not too long.
func comment(b *strings.Builder, text string) {
	line := "--"
	for _, word := range strings.Fields(text) {
		if len(line)+len(word) > 96 && line != "--" {
			b.WriteString(line + "\n")
			line = "--"
		}
		line += " " + word
	}
	b.WriteString(line + "\n")
}

func (s Step) write(b *strings.Builder) {
	b.WriteString("\n")
	if s.Note != "" {
		for line := range strings.Lines(s.Note) {
			b.WriteString("-- " + strings.TrimRight(line, "\n") + "\n")
		}
	}
	if d := s.Decision; d != nil {
		d.write(b)
		if d.Taken < 0 {
			return
		}
	}
	for _, statement := range s.statements() {
		b.WriteString(ended(statement) + "\n")
	}
}

// ended is a statement with its semicolon.
func ended(statement string) string {
	return strings.TrimRight(strings.TrimSpace(statement), ";") + ";"
}

func (d *Decision) write(b *strings.Builder) {
	if d.Taken >= 0 {
		comment(b, fmt.Sprintf("Decision %d: %s Taken: %s.", d.Number, d.Question, d.Proposals[d.Taken].Title))
		return
	}
	comment(b, fmt.Sprintf("DECIDE %d: %s Take one of these, or write your own, in place of the line DECIDE:", d.Number, d.Question))
	for i, p := range d.Proposals {
		comment(b, fmt.Sprintf("  %c. %s", 'a'+i, p.Title))
		for _, statement := range p.SQL {
			for line := range strings.Lines(ended(statement)) {
				b.WriteString("--      " + strings.TrimRight(line, "\n") + "\n")
			}
		}
	}
	fmt.Fprintf(b, "DECIDE %d;\n", d.Number)
}
