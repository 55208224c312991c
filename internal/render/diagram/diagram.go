// Package diagram draws the tables of a catalog and the references between
// them: as text for Graphviz (DOT) and Mermaid, and as an SVG picture that it
// lays out itself.
//
// A diagram is a value, made from a catalog and independent of how it is
// drawn. In the picture a table stands to the right of those it refers to,
// where no cycle forbids it, so that references can be followed leftwards to
// what everything rests on.
package diagram

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/printable"
)

// Diagram is what is drawn.
type Diagram struct {
	Title string
	Boxes []Box
	Lines []Line
}

// Box is a table or view.
type Box struct {
	Name string
	View bool
	Rows []Row
	More int    // columns that are not shown
	Link string // where a picture on a page leads; empty: nowhere
}

// Row is a column in a box.
type Row struct {
	Name, Type    string
	Key, Referred bool // part of the key; part of a reference
	Nullable      bool
}

// Line is a reference, from the box that holds it to the one referred to, by
// their places in Boxes.
type Line struct {
	From, To int
	Row      int    // of the first referring column in its box; -1 where it is not shown
	Columns  string // that refer
	Optional bool   // the columns may be null
	One      bool   // no two rows refer to the same
}

// shownColumns is how many columns a box shows that are neither key nor
// reference; in a diagram of many tables there are fewer.
const (
	shownColumns     = 12
	shownColumnsMany = 3
	manyTables       = 25
)

// Of makes the diagram of some tables of a catalog.
func Of(title string, tables []*catalog.Table) *Diagram {
	d := &Diagram{Title: title}
	most := shownColumns
	if len(tables) > manyTables {
		most = shownColumnsMany
	}
	place := map[string]int{}
	for i, t := range tables {
		place[t.FullName()] = i
		d.Boxes = append(d.Boxes, boxOf(t, most))
	}
	for i, t := range tables {
		for _, ref := range t.References {
			to, ok := place[catalog.Qualify(ref.Schema, ref.Table)]
			if !ok || len(ref.Columns) == 0 {
				continue
			}
			d.Lines = append(d.Lines, lineOf(t, ref, i, to, d.Boxes[i]))
		}
	}
	return d
}

func boxOf(t *catalog.Table, most int) Box {
	b := Box{Name: t.FullName(), View: t.IsView()}
	others := 0
	for _, c := range t.Columns {
		r := Row{Name: c.Name, Type: c.Declared, Nullable: c.Nullable && !t.IsView()}
		r.Key = t.PrimaryKey != nil && slices.Contains(t.PrimaryKey.Columns, c.Name)
		r.Referred = slices.ContainsFunc(t.References, func(ref catalog.Reference) bool { return slices.Contains(ref.Columns, c.Name) })
		if !r.Key && !r.Referred {
			if others++; others > most {
				b.More++
				continue
			}
		}
		b.Rows = append(b.Rows, r)
	}
	return b
}

func lineOf(t *catalog.Table, ref catalog.Reference, from, to int, b Box) Line {
	l := Line{From: from, To: to, Columns: strings.Join(ref.Columns, ", ")}
	l.Row = slices.IndexFunc(b.Rows, func(r Row) bool { return r.Name == ref.Columns[0] })
	l.Optional = slices.ContainsFunc(ref.Columns, func(name string) bool { c, ok := t.Column(name); return ok && c.Nullable })
	isKey := func(columns []string) bool {
		return len(columns) > 0 && !slices.ContainsFunc(columns, func(c string) bool { return !slices.Contains(ref.Columns, c) })
	}
	l.One = t.PrimaryKey != nil && isKey(t.PrimaryKey.Columns) || slices.ContainsFunc(t.Uniques, func(k catalog.Key) bool { return isKey(k.Columns) })
	return l
}

// Around picks the tables that one refers to or is referred to by, up to a
// number of steps away.
func Around(c *catalog.Catalog, table string, steps int) []*catalog.Table {
	near := map[string]bool{table: true}
	for range steps {
		grown := map[string]bool{}
		for i := range c.Tables {
			t := &c.Tables[i]
			for _, ref := range t.References {
				to := catalog.Qualify(ref.Schema, ref.Table)
				if near[to] || near[t.FullName()] {
					grown[to], grown[t.FullName()] = true, true
				}
			}
		}
		for name := range grown {
			near[name] = true
		}
	}
	var list []*catalog.Table
	for i := range c.Tables {
		if near[c.Tables[i].FullName()] {
			list = append(list, &c.Tables[i])
		}
	}
	return list
}

// DOT returns the diagram in the language of Graphviz,
// https://graphviz.org/doc/info/lang.html.
func (d *Diagram) DOT() string {
	var b strings.Builder
	b.WriteString("digraph schema {\n  rankdir=RL;\n  node [shape=plaintext, fontname=\"monospace\", fontsize=10];\n")
	for i, box := range d.Boxes {
		fmt.Fprintf(&b, "  t%d [label=<<table border=\"0\" cellborder=\"1\" cellspacing=\"0\" cellpadding=\"3\"><tr><td bgcolor=\"%s\"><b>%s</b></td></tr>", i, headColor(box), escapeXML(box.Name))
		for k, r := range box.Rows {
			fmt.Fprintf(&b, "<tr><td port=\"c%d\" align=\"left\">%s %s</td></tr>", k, escapeXML(r.mark()+r.Name), escapeXML(r.Type))
		}
		if box.More > 0 {
			fmt.Fprintf(&b, "<tr><td align=\"left\">%s</td></tr>", box.more())
		}
		b.WriteString("</table>>];\n")
	}
	for _, l := range d.Lines {
		port := ""
		if l.Row >= 0 {
			port = fmt.Sprintf(":c%d", l.Row)
		}
		tail := "crow"
		if l.One {
			tail = "tee"
		}
		if l.Optional {
			tail += "odot"
		}
		fmt.Fprintf(&b, "  t%d%s -> t%d [dir=both, arrowtail=%s, arrowhead=tee, tooltip=%q];\n", l.From, port, l.To, tail, l.Columns)
	}
	b.WriteString("}\n")
	return b.String()
}

func (b Box) more() string { return fmt.Sprintf("… %d more", b.More) }

func (r Row) mark() string {
	switch {
	case r.Key && r.Referred:
		return "◆→ "
	case r.Key:
		return "◆ "
	case r.Referred:
		return "→ "
	}
	return ""
}

// Mermaid returns the diagram as an entity relationship diagram of Mermaid,
// https://mermaid.js.org/syntax/entityRelationshipDiagram.html.
func (d *Diagram) Mermaid() string {
	var b strings.Builder
	b.WriteString("erDiagram\n")
	for i, box := range d.Boxes {
		fmt.Fprintf(&b, "  t%d[%s] {\n", i, mermaidText(box.Name))
		for _, r := range box.Rows {
			fmt.Fprintf(&b, "    %s %s%s\n", mermaidWord(r.Type), mermaidWord(r.Name), mermaidKeys(r))
		}
		b.WriteString("  }\n")
	}
	for _, l := range d.Lines {
		many, one := "}o", "||"
		if l.One {
			many = "|o"
		}
		if l.Optional {
			one = "o|"
		}
		fmt.Fprintf(&b, "  t%d %s--%s t%d : %s\n", l.From, many, one, l.To, mermaidText(l.Columns))
	}
	return b.String()
}

func mermaidKeys(r Row) string {
	switch {
	case r.Key && r.Referred:
		return " PK, FK"
	case r.Key:
		return " PK"
	case r.Referred:
		return " FK"
	}
	return ""
}

// mermaidText writes a text in quotes; there is no way to quote a quote. Pages
// that draw the diagram must not take it for markup, nor for a directive.
func mermaidText(s string) string {
	return `"` + mermaidSigns.Replace(printable.Line(s)) + `"`
}

var mermaidSigns = strings.NewReplacer(`"`, "'", "<", "‹", ">", "›", "%%", "% %")

// mermaidWord makes a word of what a type or column is called: it begins with
// a letter, and holds letters, digits and a few signs.
func mermaidWord(s string) string {
	word := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_-()[]", r) {
			return r
		}
		return '_'
	}, s)
	if word == "" || !(word[0] >= 'a' && word[0] <= 'z' || word[0] >= 'A' && word[0] <= 'Z') {
		word = "c" + word
	}
	return word
}
