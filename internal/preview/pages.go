package preview

import (
	"bytes"
	"cmp"
	"fmt"
	"html/template"
	"net/http"

	"widegate/gate/desk"
	"widegate/gate/rest"
	"widegate/internal/catalog"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render/diagram"
)

// root is where the data pages are.
const root = "/desk"

// addPages puts the pages for people around an API.
func addPages(api *rest.API, data http.Handler, c *catalog.Catalog, m *model.Model, o Options) (http.Handler, error) {
	var brand project.Brand
	if b := m.API.Brand; b != nil {
		brand = *b
	}
	links := []desk.Link{{Name: "Schema", Path: "/schema"}}
	if o.Trials != nil {
		links = append(links, desk.Link{Name: "Templates", Path: "/templates"})
	}
	pages, err := desk.New(api, data, desk.Config{
		Title: cmp.Or(brand.Name, o.Title), Root: root, Looks: looks(m), ReadOnly: !o.Writes,
		Colour: brand.Colour, Icon: o.Icon, Script: o.Script, Notes: notes(m),
		Links: links,
	})
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.Handle(root+"/", pages)
	mux.Handle("GET /{$}", http.RedirectHandler(root+"/", http.StatusSeeOther))
	mux.Handle("GET /docs", http.RedirectHandler(root+"/docs", http.StatusSeeOther))
	mux.HandleFunc("GET /schema", pages.Page("The schema", func(r *http.Request) template.HTML { return schemaPage(c, m, r.URL.Query().Get("around")) }))
	if o.Trials != nil {
		addTrials(mux, pages.Page, m, o.Trials)
	}
	mux.HandleFunc("GET /schema.css", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/css; charset=utf-8")
		fmt.Fprintf(w, ".schema {%s}\n", diagram.Style)
	})
	mux.Handle("/", data)
	return mux, nil
}

// mostNotes is how much that needs attention the home page shows.
const mostNotes = 12

// notes are what needs attention, what is to be decided first.
func notes(m *model.Model) []desk.Note {
	var list []desk.Note
	for _, g := range model.Grouped(m.Attention) {
		n := desk.Note{Text: g.Text}
		if e := m.Entity(g.Items[0].Table); e != nil && len(g.Items) == 1 {
			n.Path = e.Path
		}
		list = append(list, n)
	}
	if more := len(list) - mostNotes; more > 0 {
		list = append(list[:mostNotes], desk.Note{Text: fmt.Sprintf("and %d more; `widegate read --attention` lists all", more)})
	}
	return list
}

// looks are how the tables look, by what the project file and the schema say.
func looks(m *model.Model) map[string]desk.Look {
	list := map[string]desk.Look{}
	for _, e := range m.Entities {
		l := m.Look(e)
		look := desk.Look{Label: l.Label, One: l.One, Group: l.Group, Help: l.Help, Tells: l.Tells, Order: l.Order, Columns: map[string]desk.ColumnLook{}, Rows: e.Table.Rows}
		if e.Table.IsView() {
			look.Rows = -1
		}
		for _, c := range l.Columns {
			look.Columns[c.Name] = desk.ColumnLook{Label: c.Label, Help: c.Help, Format: c.Format, Input: c.Input, Aside: c.Aside}
		}
		list[e.Path] = look
	}
	return list
}

// nearby is how many references away a table may be to be drawn around another.
const nearby = 1

// schemaPage is the diagram of the schema, or of what is around a table.
func schemaPage(c *catalog.Catalog, m *model.Model, around string) template.HTML {
	tables := drawn(c, m)
	title := fmt.Sprintf("%d tables and views", len(tables))
	if near := diagram.Around(c, around, nearby); around != "" && len(near) > 0 {
		tables, title = near, around+" and its neighbours"
	}
	d := diagram.Of(title, tables)
	for i, t := range tables {
		if e := m.Entity(t.FullName()); e != nil {
			d.Boxes[i].Link = root + "/rows/" + e.Path
		}
	}
	var b bytes.Buffer
	if err := schemaTemplate.Execute(&b, map[string]any{"Tables": c.Tables, "Around": around, "SVG": template.HTML(d.Inline())}); err != nil {
		return template.HTML(template.HTMLEscapeString(err.Error()))
	}
	return template.HTML(b.String()) //nolint:gosec // made by the template below, which escapes
}

// drawn are the tables of the model, for a diagram.
func drawn(c *catalog.Catalog, m *model.Model) (tables []*catalog.Table) {
	for i := range c.Tables {
		if m.Entity(c.Tables[i].FullName()) != nil || m.IsJoin(c.Tables[i].FullName()) {
			tables = append(tables, &c.Tables[i])
		}
	}
	return tables
}

var schemaTemplate = template.Must(template.New("").Parse(`<link rel="stylesheet" href="/schema.css">
<form class="line" method="get" action="/schema"><label>Around <select name="around"><option value="">all tables</option>{{range .Tables}}{{$name := .FullName}}<option{{if eq $name $.Around}} selected{{end}}>{{$name}}</option>{{end}}</select></label><button>Show</button><label>Find <input type="search" data-find data-key="/" placeholder="a table or a column"></label>
<span class="actions"><button type="button" data-zoom="0.8" aria-label="Larger">+</button><button type="button" data-zoom="1.25" aria-label="Smaller">−</button><button type="button" data-zoom="0">All of it</button><button type="button" data-print>Print</button></span></form>
<p class="keys">Tab goes from table to table and shows what is next to it, Enter opens its rows. Arrows move the picture; + and − change its size, 0 shows all.</p>
<div class="schema" tabindex="0" role="region" aria-label="The diagram">{{.SVG}}</div>
`))
