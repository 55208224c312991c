package desk

import (
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"time"

	"widegate/gate/rest"
)

// rowView is the page of one row.
type rowView struct {
	frame
	Resource *resource
	Name     string
	API      string
	at       string // the path of what is asked of the API by the pages
	Values   []value
	Related  []*relatedView
	Edit     string
	Remove   string
}

// value is a property of a row with its value.
type value struct {
	*column
	cell
}

// relatedView is the rows that a row is related to, or some of them.
type relatedView struct {
	Label  string
	To     *resource
	All    string
	Add    string
	More   bool
	Shown  []*column
	Rows   []*line
	Single bool
}

// relatedColumns is how many columns of them it shows.
const relatedColumns = 5

// someRelated is how many related rows the page of a row shows.
const someRelated = 5

// row shows one row and what it is related to.
func (v *visit) row() error {
	r, err := v.find(v.r.PathValue("resource"))
	if err != nil {
		return err
	}
	key := v.key()
	with := url.Values{}
	for _, c := range r.columns {
		if c.refers != nil {
			with.Add("with", c.refers.Name)
		}
	}
	row, _, err := v.one("/"+r.Path+"/"+key, with)
	if err != nil {
		return err
	}
	name := r.tell(row)
	view := &rowView{
		frame:    v.frame(name, append(append([]crumb{{r.Label, v.at("rows", r.Path)}}, v.trail()...), crumb{name, v.rowPath(r, key)})...),
		Resource: r, Name: name, API: v.api.Base() + "/" + r.Path + "/" + key, at: v.config.Root + "/api/" + r.Path + "/" + key,
	}
	if r.Changes && !v.config.ReadOnly {
		view.Edit = v.config.Root + "/edit/" + r.Path + "/" + key
	}
	if r.Removes && !v.config.ReadOnly {
		view.Remove = v.config.Root + "/remove/" + r.Path + "/" + key
	}
	now := time.Now()
	for _, c := range r.columns {
		view.Values = append(view.Values, value{c, v.valueCell(c, row, view.at, now, false)})
	}
	for i := range r.Relations {
		rel := &r.Relations[i]
		if rel.Single && rel.Holds != nil {
			continue // among the values
		}
		related, err := v.related(r, key, rel, now)
		if err != nil {
			return err
		}
		view.Related = append(view.Related, related)
	}
	return v.show(http.StatusOK, "row", view)
}

func (v *visit) related(r *resource, key string, rel *rest.Relationship, now time.Time) (*relatedView, error) {
	to, err := v.find(rel.To)
	if err != nil {
		return nil, err
	}
	view := &relatedView{Label: sentenceCase(rel.Name), To: to, Single: rel.Single}
	path := "/" + r.Path + "/" + key + "/" + rel.Path
	for _, c := range to.columns {
		back := c.refers != nil && c.refers.To == r.Path && len(rel.Holds) == 0
		if c.unasked() && !back && len(view.Shown) < relatedColumns {
			view.Shown = append(view.Shown, c)
		}
	}
	var rows []record
	if rel.Single {
		row, _, err := v.one(path, withRelations(to, view.Shown))
		if p := problemOf(err); err != nil && p.Status != http.StatusNotFound {
			return nil, err
		}
		if err == nil {
			rows = []record{row}
		}
	} else {
		q := withRelations(to, view.Shown)
		q.Set("limit", fmt.Sprint(someRelated))
		list, err := v.list(path, q)
		if err != nil {
			return nil, err
		}
		rows, view.More = list.Items, list.Next != ""
		view.All = v.config.Root + "/under/" + r.Path + "/" + key + "/" + url.PathEscape(rel.Name)
	}
	if rel.Creates && !v.config.ReadOnly {
		view.Add = v.at("new", to.Path) + "?" + url.Values{"_under": {r.Path + "/" + key + "/" + rel.Path}}.Encode()
	}
	for _, row := range rows {
		l := v.line(to, row, view.Shown, now)
		if l.Href != "" {
			l.Href += "?" + url.Values{"_trail": {r.Path + "/" + key}}.Encode()
		}
		view.Rows = append(view.Rows, l)
	}
	return view, nil
}

// withRelations are the parameters that load what shown columns refer to.
func withRelations(r *resource, shown []*column) url.Values {
	q := url.Values{}
	for _, name := range r.references(shown) {
		q.Add("with", name)
	}
	return q
}

func (v *visit) sendJSON(data any) error {
	text, err := json.Marshal(data)
	if err != nil {
		return fmt.Errorf("writing the answer: %w", err)
	}
	v.w.Header().Set("Content-Type", "application/json")
	v.w.Write(text) // an error means that nobody waits any more
	return nil
}

// funcs are what the pages call.
func (d *Desk) funcs() template.FuncMap {
	return template.FuncMap{
		"at":        func(parts ...string) string { return d.at(parts...) },
		"operators": func() []struct{ Name, Text string } { return operators },
		"count":     count,
		"icon":      func(data string) template.URL { return template.URL(data) }, //nolint:gosec // the project's own
	}
}

// count is a number of rows in words.
func count(n int64) string {
	if n < 0 {
		return ""
	}
	return thousands(fmt.Sprint(n))
}
