package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render/golang"
)

// showTables prints the chosen tables in detail.
func (a *app) showTables(c, chosen *catalog.Catalog, p *project.Project) error {
	m, err := a.modelOf(c, p)
	if err != nil {
		return err
	}
	for i := range chosen.Tables {
		if i > 0 {
			a.say("")
		}
		a.showTable(&chosen.Tables[i], m)
	}
	return nil
}

func (a *app) showTable(t *catalog.Table, m *model.Model) {
	e := m.Entity(t.FullName())
	facts := []string{string(t.Kind), count(len(t.Columns), "column")}
	if t.Rows >= 0 {
		facts = append(facts, "about "+count(int(t.Rows), "row"))
	}
	facts = append(facts, t.Options...)
	if t.Partition != "" {
		facts = append(facts, "partitioned by "+t.Partition)
	}
	if t.Updatable {
		facts = append(facts, "updatable")
	}
	a.say("%s: %s", t.FullName(), strings.Join(facts, ", "))
	if t.Comment != "" {
		a.say("  %s", shortened(strings.Join(strings.Fields(t.Comment), " "), 110))
	}
	a.say("")
	a.showColumns(t, e)
	a.showRules(t)
	switch {
	case e != nil:
		a.showRelations(e)
		a.say("\n  endpoints")
		for _, point := range e.Endpoints(m.Base) {
			a.say("    %-24s %s", strings.Join(point.Methods, " "), point.Path)
		}
	case m.IsJoin(t.FullName()):
		a.say("\n  only a relation between the tables it refers to: it has no entity of its own")
	default:
		a.say("\n  not taken: nothing is generated for it")
	}
}

func (a *app) showColumns(t *catalog.Table, e *model.Entity) {
	list := columns{titles: []string{"column", "type", "Go", "default", ""}}
	for i := range t.Columns {
		c := &t.Columns[i]
		goName := ""
		if e != nil {
			if f := e.Field(c.Name); f != nil {
				goName = f.Name + " " + golang.FieldType(f)
			}
		}
		list.add(c.Name, nullable(c), goName, defaultText(c), shortened(strings.Join(columnNotes(t, c), "; "), 50))
	}
	list.print(a)
}

func nullable(c *catalog.Column) string {
	text := shortened(orDash(c.Declared), 40)
	if c.Nullable {
		return text + " null"
	}
	return text
}

func defaultText(c *catalog.Column) string {
	switch {
	case c.Generated != "":
		return shortened("= "+c.Generated, 28)
	case c.Default == nil:
		return ""
	case c.Default.Kind == catalog.Identity && c.Default.Sequence != "":
		return "numbered by " + c.Default.Sequence
	case c.Default.Kind == catalog.Identity:
		return "numbered"
	case c.Default.Kind == catalog.Constant && c.Type.Kind == catalog.Text:
		return shortened(fmt.Sprintf("%q", c.Default.Text), 28)
	}
	return shortened(c.Default.Text, 28)
}

// columnNotes say what a column is part of, and its comment.
func columnNotes(t *catalog.Table, c *catalog.Column) []string {
	var notes []string
	if t.PrimaryKey != nil && slices.Contains(t.PrimaryKey.Columns, c.Name) {
		notes = append(notes, "key")
	}
	for _, r := range t.References {
		if slices.Contains(r.Columns, c.Name) {
			notes = append(notes, "→ "+catalog.Qualify(r.Schema, r.Table))
		}
	}
	if c.Comment != "" {
		notes = append(notes, strings.Join(strings.Fields(c.Comment), " "))
	}
	return notes
}

func (a *app) showRules(t *catalog.Table) {
	list := columns{titles: []string{"", "", ""}}
	for _, k := range t.Uniques {
		list.add("unique", strings.Join(k.Columns, ", "), k.Name)
	}
	for _, in := range t.Indexes {
		kind := "index"
		if in.Unique {
			kind = "unique index"
		}
		if in.Method != "" {
			kind = in.Method + " " + kind
		}
		text := strings.Join(in.Columns, ", ")
		if in.Where != "" {
			text += " where " + in.Where
		}
		list.add(kind, shortened(text, 70), in.Name)
	}
	for _, k := range t.Checks {
		list.add("check", shortened(strings.TrimSpace(k.Expr+" "+k.Options), 70), k.Name)
	}
	for _, trigger := range t.Triggers {
		list.add("trigger", shortened(strings.Join(strings.Fields(trigger.Definition), " "), 70), trigger.Name)
	}
	for _, e := range t.Extras {
		list.add(e.Kind, shortened(strings.Join(strings.Fields(e.Make), " "), 70), e.Name)
	}
	if len(list.rows) > 0 {
		a.say("")
		list.print(a)
	}
}

func (a *app) showRelations(e *model.Entity) {
	if len(e.Relations) == 0 {
		return
	}
	a.say("\n  relations of %s", e.Name)
	list := columns{titles: []string{"", "", "", "", ""}}
	for _, r := range e.Relations {
		many := "one " + r.To.Name
		if r.Kind != model.ToOne {
			many = "many " + r.To.Plural
		}
		var on []string
		for _, p := range r.Pairs {
			on = append(on, p[0]+" = "+p[1])
		}
		if r.Join != nil {
			on = []string{"through " + r.Join.Table.FullName()}
		}
		back := ""
		if o := e.Opposite(r); o != nil {
			back = "from there: " + o.Name
		}
		list.add("  "+r.Name, many, strings.Join(on, ", "), back)
	}
	list.titles = list.titles[:4]
	list.print(a)
}

// showSuggestions prints the references that names and data speak for.
func (a *app) showSuggestions(ctx context.Context, source read.Source, c, chosen *catalog.Catalog) error {
	var found []model.Candidate
	for _, candidate := range model.Candidates(c) {
		if _, ok := chosen.Table(candidate.Table.Schema, candidate.Table.Name); ok {
			found = append(found, candidate)
		}
	}
	if len(found) == 0 {
		a.say("No column looks like a reference that is not declared.")
		return nil
	}
	matches, err := a.match(ctx, source, found)
	if err != nil {
		return err
	}
	list := columns{titles: []string{"column", "may refer to", "#values that match"}}
	var lines []string
	for i, f := range found {
		list.add(f.Table.FullName()+"."+f.Column, f.To.FullName()+"."+f.Target, shareText(matches, i))
		if matches == nil || matches[i].Fault == nil && matches[i].Values > 0 && matches[i].Matched == matches[i].Values {
			lines = append(lines, fmt.Sprintf("  - {table: %s, columns: %s, to: %s}", project.Quoted(f.Table.FullName()), project.QuotedList([]string{f.Column}), project.Quoted(f.To.FullName())))
		}
	}
	a.say("%s that the schema does not declare:\n", count(len(found), "possible reference"))
	list.print(a)
	if len(lines) > 0 {
		a.say("\nThe lines for widegate.yaml%s:\n\nrelations:", map[bool]string{true: "", false: " of those whose values all match"}[matches == nil])
		a.sayLines(strings.Join(lines, "\n"))
	}
	return nil
}

// match checks candidates against the data, where there are any.
func (a *app) match(ctx context.Context, source read.Source, found []model.Candidate) ([]read.Match, error) {
	if source.URL == "" {
		a.say("Scripts and snapshots have no data: these are guesses by name and type.\n")
		return nil, nil
	}
	pairs := make([]read.Pair, len(found))
	for i, f := range found {
		pairs[i] = read.Pair(f)
	}
	var done func()
	source.Progress, done = a.progress("checking")
	defer done()
	return read.Matches(ctx, source, pairs)
}

func shareText(matches []read.Match, i int) string {
	switch {
	case matches == nil:
		return "not checked"
	case matches[i].Fault != nil:
		return "could not be checked"
	case matches[i].Values == 0:
		return "no values"
	}
	m := matches[i]
	return fmt.Sprintf("%s of %s, %d %%", thousands(int64(m.Matched)), thousands(int64(m.Values)), 100*m.Matched/m.Values)
}
