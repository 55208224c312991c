package desk

import (
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"widegate/gate"
	"widegate/gate/cql2"
	"widegate/gate/rest"
)

// tableView is a page with rows of a resource.
type tableView struct {
	frame
	Resource *resource
	Base     string // the path of this page, without its parameters
	Shown    []*header
	Others   []*column // that are not shown
	Rows     []*line
	Problem  *problem // why there are none
	Query    url.Values
	Filters  []*column // that can be filtered by
	Matched  *int64
	First    string
	Previous string
	Next     string
	Last     string
	Count    string // asks for the number of rows
	Limits   []size
	Chooser  []chosen
	API      string // the URL of the same in the API
	Export   string
	Chart    string
	New      string
	Many     string
	Hides    bool // some rows may be there that the reader may not see
	rows     func() (usual, most int)
}

// size is a number of rows that a page may have.
type size struct {
	Rows int
	Href string // empty for the one that is chosen
}

// chosen is a column in the list to choose from.
type chosen struct {
	*column
	Shown bool
}

// header is a column of a table.
type header struct {
	*column
	Sort   string // the page in the order of this column
	Also   string // the page in the order that there is, and then of this column
	Order  string // ascending, descending, or none
	Rank   int    // the place in an order by several columns; 0 in one by one
	Before string // the page with this column one place further left
	Drop   string // the page without it
}

// line is a row of a table.
type line struct {
	Href  string
	Name  string
	Cells []cell
}

// own are parameters of the pages, which the API does not know.
var own = []string{"_trail", "_done", "_property", "_operator", "_value", "_also", "_last", "_choice", "_column", "by", "measure"}

// apiQuery are the parameters of a page that are the API's.
func apiQuery(q url.Values) url.Values {
	out := maps.Clone(q)
	for _, name := range own {
		out.Del(name)
	}
	for name, values := range out {
		if slices.Equal(values, []string{""}) && slices.Contains([]string{"filter", "q", "sortby", "properties", "limit", "after", "count"}, name) {
			out.Del(name) // a field of the form that was left empty
		}
	}
	return out
}

// table shows the rows of a resource.
func (v *visit) table() error {
	r, err := v.find(v.r.PathValue("resource"))
	if err != nil {
		return err
	}
	return v.showTable(r, "/"+r.Path, v.at("rows", r.Path), v.frame(r.Label, crumb{r.Label, v.at("rows", r.Path)}), "")
}

// under shows the rows that a row is related to.
func (v *visit) under() error {
	parent, err := v.find(v.r.PathValue("resource"))
	if err != nil {
		return err
	}
	rel := parent.relation(v.r.PathValue("relation"))
	if rel == nil {
		return &problem{Status: http.StatusNotFound, Title: "Not found", Detail: "There is no such relation."}
	}
	to, err := v.find(rel.To)
	if err != nil {
		return err
	}
	key := v.key()
	row, _, err := v.one("/"+parent.Path+"/"+key, url.Values{})
	if err != nil {
		return err
	}
	at := v.config.Root + "/under/" + parent.Path + "/" + key + "/" + url.PathEscape(rel.Name)
	trail := append(v.trail(), crumb{parent.tell(row), v.rowPath(parent, key)}, crumb{sentenceCase(rel.Name), at})
	add := ""
	if rel.Creates {
		add = v.at("new", to.Path) + "?" + url.Values{"_under": {parent.Path + "/" + key + "/" + rel.Path}}.Encode()
	}
	f := v.frame(sentenceCase(rel.Name)+" of "+parent.tell(row), trail...)
	f.Here = to.Path
	return v.showTable(to, "/"+parent.Path+"/"+key+"/"+rel.Path, at, f, add)
}

// key is the key in the path of the page, as it was sent.
func (v *visit) key() string {
	parts := strings.Split(strings.TrimPrefix(v.r.URL.EscapedPath(), v.config.Root+"/"), "/")
	if len(parts) < 3 {
		return ""
	}
	return parts[2]
}

func (v *visit) rowPath(r *resource, key string) string {
	return v.config.Root + "/row/" + url.PathEscape(r.Path) + "/" + key
}

// trail is the way to the page, as its link tells: rows, each by its resource and
// key, parted by spaces.
func (v *visit) trail() []crumb {
	var list []crumb
	for i, step := range strings.Fields(v.r.URL.Query().Get("_trail")) {
		path, key, ok := strings.Cut(step, "/")
		r, err := v.find(path)
		if !ok || err != nil || i >= maxTrail {
			continue
		}
		if row, _, err := v.one("/"+r.Path+"/"+key, url.Values{}); err == nil {
			list = append(list, crumb{r.tell(row), v.rowPath(r, key)})
		}
	}
	return list
}

// maxTrail bounds the way that a page shows.
const maxTrail = 4

// shownAtOnce is how many columns a table shows unasked.
const shownAtOnce = 9

// columnsOf are the columns that a page shows, in their order.
func (r *resource) columnsOf(q url.Values) (shown, others []*column) {
	var chosen []string
	if text := q.Get("properties"); text != "" {
		chosen = strings.Split(text, ",")
	}
	for _, name := range chosen {
		if c := r.column(name); c != nil {
			shown = append(shown, c)
		}
	}
	if chosen == nil {
		for _, c := range r.columns {
			if c.unasked() && len(shown) < shownAtOnce {
				shown = append(shown, c)
			}
		}
	}
	for _, c := range r.columns {
		if !slices.Contains(shown, c) {
			others = append(others, c)
		}
	}
	return shown, others
}

// unasked reports whether a table shows the column without being asked to.
func (c *column) unasked() bool {
	large := c.Type == gate.TypeJSON || c.Type == gate.TypeBytes && c.Content == ""
	return !c.Aside && !large
}

func names(columns []*column) []string {
	list := make([]string, len(columns))
	for i, c := range columns {
		list[i] = c.Name
	}
	return list
}

func (v *visit) showTable(r *resource, path, at string, f frame, add string) error {
	q := v.r.URL.Query()
	if q.Get("_property") != "" {
		return v.addFilter(r, q, at)
	}
	if also := q.Get("_also"); also != "" {
		http.Redirect(v.w, v.r, at+query(with(q, "_also", "", "properties", strings.TrimPrefix(q.Get("properties")+","+also, ","))), http.StatusSeeOther)
		return nil
	}
	if q.Get("_choice") != "" {
		list := strings.Join(q["_column"], ",")
		http.Redirect(v.w, v.r, at+query(with(q, "_choice", "", "_column", "", "properties", list)), http.StatusSeeOther)
		return nil
	}
	if q.Get("_last") != "" {
		return v.toLast(path, at, q)
	}
	api := apiQuery(q)
	shown, others := r.columnsOf(q)
	view := &tableView{frame: f, Resource: r, Base: at, Others: others, Query: q, Filters: r.filterable(), New: add, rows: v.api.PageRows}
	if r.Creates && add == "" && path == "/"+r.Path {
		view.New = v.at("new", r.Path)
	}
	if v.config.ReadOnly {
		view.New = ""
	}
	view.Hides = r.Limited
	view.API = v.api.Base() + path + query(api)
	if r.Sums && path == "/"+r.Path && len(r.groupings()) > 0 {
		view.Chart = v.at("chart", r.Path) + query(choice(api))
	}
	if len(choice(api)) > 0 && r.Many && !v.config.ReadOnly && path == "/"+r.Path {
		view.Many = v.at("many", r.Path) + query(choice(api))
	}
	export := maps.Clone(api)
	for _, name := range []string{"after", "offset", "count"} {
		export.Del(name)
	}
	export.Set("limit", "none")
	export.Set("f", "csv-safe")
	view.Export = v.config.Root + "/api" + path + query(export)
	ask := maps.Clone(api)
	ask.Del("properties") // the key and what tells a row are needed too
	if with := r.references(shown); len(with) > 0 {
		ask.Set("with", strings.Join(with, ","))
	}
	rows, err := v.list(path, ask)
	if err != nil {
		view.Problem, view.Many = problemOf(err), ""
		rows = &page{}
	}
	if q.Get("properties") == "" {
		shown, others = r.fitting(shown, others, rows.Items)
		view.Others = others
	}
	for _, c := range shown {
		view.Chooser = append(view.Chooser, chosen{c, true})
	}
	for _, c := range others {
		view.Chooser = append(view.Chooser, chosen{c, false})
	}
	for i, c := range shown {
		view.Shown = append(view.Shown, v.header(r, c, i, names(shown), q, at))
	}
	now := time.Now()
	for _, row := range rows.Items {
		view.Rows = append(view.Rows, v.line(r, row, shown, now))
	}
	view.setPages(rows, q, at)
	status := http.StatusOK
	if view.Problem != nil {
		status = view.Problem.Status
	}
	return v.show(status, "table", view)
}

// query is the parameters as they stand behind a path.
func query(q url.Values) string {
	if len(q) == 0 {
		return ""
	}
	return "?" + q.Encode()
}

// with changes parameters of a page; an empty value takes one away.
func with(q url.Values, changes ...string) url.Values {
	out := maps.Clone(q)
	out.Del("_done")
	for i := 0; i < len(changes); i += 2 {
		if changes[i+1] == "" {
			out.Del(changes[i])
			continue
		}
		out.Set(changes[i], changes[i+1])
	}
	return out
}

// choice are the parameters that choose rows.
func choice(q url.Values) url.Values {
	return with(q, "limit", "", "after", "", "offset", "", "sortby", "", "properties", "", "count", "", "f", "")
}

// references are the relations of shown columns, whose rows tell more than a key.
func (r *resource) references(shown []*column) []string {
	var list []string
	for _, c := range shown {
		if c.refers != nil {
			list = append(list, c.refers.Name)
		}
	}
	return list
}

func (v *visit) header(r *resource, c *column, i int, shown []string, q url.Values, at string) *header {
	h := &header{column: c}
	if c.Sortable() {
		keys := sortKeys(q)
		place, desc := sorted(keys, c.Name)
		if place > 0 {
			h.Order = map[bool]string{false: "ascending", true: "descending"}[desc]
		}
		if len(keys) > 1 {
			h.Rank = place
		}
		h.Sort = at + query(with(q, "sortby", sortText(toggled(keys, c.Name, true)), "after", "", "offset", ""))
		h.Also = at + query(with(q, "sortby", sortText(toggled(keys, c.Name, false)), "after", "", "offset", ""))
	}
	if i > 0 {
		moved := slices.Clone(shown)
		moved[i-1], moved[i] = moved[i], moved[i-1]
		h.Before = at + query(with(q, "properties", strings.Join(moved, ",")))
	}
	if len(shown) > 1 {
		h.Drop = at + query(with(q, "properties", strings.Join(slices.Delete(slices.Clone(shown), i, i+1), ",")))
	}
	return h
}

func (v *visit) line(r *resource, row record, shown []*column, now time.Time) *line {
	l := &line{Name: r.tell(row)}
	api := ""
	if len(r.Keys) > 0 {
		key := r.keyOf(row)
		l.Href = v.rowPath(r, key)
		api = v.config.Root + "/api/" + r.Path + "/" + key
	}
	for _, c := range shown {
		out := v.valueCell(c, row, api, now, true)
		if c.Name == r.Tells && out.Href == "" && row[c.Name] != nil {
			out.Href = l.Href
		}
		l.Cells = append(l.Cells, out)
	}
	return l
}

// valueCell shows a value, and what it refers to by what tells that.
func (v *visit) valueCell(c *column, row record, api string, now time.Time, short bool) cell {
	value := row[c.Name]
	if _, there := row[c.Name]; !there && c.URL != "" && row[c.URL] != nil {
		return c.contentCell(api, row)
	}
	out := c.cell(value, api, now, short)
	if c.refers == nil || value == nil {
		return out
	}
	to, err := v.find(c.refers.To)
	if err != nil {
		return out
	}
	if len(c.refers.Holds) == 1 {
		out.Row, out.Href = true, v.rowPath(to, rest.KeySegment(plain(value)))
	}
	if other, ok := row[c.refers.Name].(map[string]any); ok {
		out.Text, out.Class, out.Title, out.Format = to.tell(other), "", plain(value), ""
		out.Row, out.Href = true, v.rowPath(to, to.keyOf(other))
	}
	return out
}

// setPages finds the pages around this one. The last is known only where the
// rows were counted.
func (view *tableView) setPages(rows *page, q url.Values, at string) {
	view.Matched = rows.Matched
	lead := func(rel string) string {
		text, ok := rows.links[rel]
		if !ok {
			return ""
		}
		values, err := url.ParseQuery(text)
		if err != nil {
			return ""
		}
		return at + query(with(q, "after", values.Get("after"), "offset", values.Get("offset")))
	}
	view.Next, view.Previous = lead("next"), lead("prev")
	if q.Get("after") != "" || q.Get("offset") != "" {
		view.First = at + query(with(q, "after", "", "offset", ""))
	}
	if view.Next != "" {
		view.Last = at + query(with(q, "after", "", "offset", "", "_last", "1"))
	}
	usual, most := view.rows()
	now, err := strconv.Atoi(q.Get("limit"))
	if err != nil {
		now = usual
	}
	sizes := append([]int{usual}, pageSizes...)
	slices.Sort(sizes)
	for _, n := range slices.Compact(sizes) {
		href := at + query(with(q, "limit", strconv.Itoa(n), "after", "", "offset", ""))
		if n == now {
			href = ""
		}
		if n <= most {
			view.Limits = append(view.Limits, size{n, href})
		}
	}
	if rows.Matched == nil && view.Problem == nil {
		view.Count = at + query(with(q, "count", "true"))
	}
}

// pageSizes are how many rows a page may have, besides what is taken unasked.
var pageSizes = []int{25, 50, 100, 250, 1000}

// maxOffset is how many rows the API skips at most.
const maxOffset = 100_000

// toLast leads to the last page: the rows are counted for it. One that is too far
// away is reached by the opposite order.
func (v *visit) toLast(path, at string, q url.Values) error {
	ask := apiQuery(q)
	ask.Set("count", "true")
	limit, err := strconv.Atoi(q.Get("limit"))
	if err != nil {
		limit, _ = v.api.PageRows()
	}
	ask.Set("limit", "1")
	rows, err := v.list(path, ask)
	if err != nil {
		return err
	}
	last := int64(0)
	if rows.Matched != nil && *rows.Matched > 0 {
		last = (*rows.Matched - 1) / int64(limit) * int64(limit)
	}
	if last > maxOffset {
		return &problem{Status: http.StatusBadRequest, Title: "Too far", Detail: "The last page is more than " + thousands(strconv.Itoa(maxOffset)) + " rows away. Sort the other way round to see the last rows first."}
	}
	to := with(q, "_last", "", "after", "", "offset", "", "count", "true", "limit", strconv.Itoa(limit))
	if last > 0 {
		to.Set("offset", strconv.FormatInt(last, 10))
	}
	http.Redirect(v.w, v.r, at+query(to), http.StatusSeeOther)
	return nil
}

// What fits on a page that is 1280 wide, in letters or so.
const (
	roomForColumns = 118
	mostOfCell     = 44
	betweenCells   = 4
	leastColumns   = 3
)

// fitting leaves out the last of the columns that are shown unasked where not all
// have room.
func (r *resource) fitting(shown, others []*column, rows []record) (fit, rest []*column) {
	room := roomForColumns
	for i, c := range shown {
		width := utf8.RuneCountInString(c.Label)
		for _, row := range rows {
			text := plain(row[c.Name])
			if other, ok := row[c.refersName()].(map[string]any); ok {
				text = plain(other["name"])
			}
			if c.Type == gate.TypeTimestampTZ || c.Type == gate.TypeTimestamp {
				text = text[:min(len(text), 22)]
			}
			width = max(width, min(utf8.RuneCountInString(text), mostOfCell))
		}
		if room -= width + betweenCells; room < 0 && i >= leastColumns {
			return shown[:i], append(slices.Clone(shown[i:]), others...)
		}
	}
	return shown, others
}

func (c *column) refersName() string {
	if c.refers == nil {
		return ""
	}
	return c.refers.Name
}

func (r *resource) filterable() []*column {
	var list []*column
	for _, c := range r.columns {
		if c.Comparable() && c.Type != gate.TypeOther {
			list = append(list, c)
		}
	}
	return list
}

// operators are those of the filter form, with what they are in CQL2.
var operators = []struct{ Name, Text string }{
	{"=", "is"}, {"<>", "is not"}, {">", "is more than"}, {">=", "is at least"}, {"<", "is less than"}, {"<=", "is at most"},
	{"contains", "contains"}, {"begins", "begins with"}, {"null", "is empty"}, {"not null", "is not empty"},
}

// addFilter adds the condition of the form to the filter, and shows the page
// with it.
func (v *visit) addFilter(r *resource, q url.Values, at string) error {
	c := r.column(q.Get("_property"))
	if c == nil {
		return &problem{Status: http.StatusBadRequest, Title: "Bad request", Detail: "There is no property " + q.Get("_property") + "."}
	}
	text := c.condition(q.Get("_operator"), q.Get("_value"))
	if before := strings.TrimSpace(q.Get("filter")); before != "" {
		if strings.Contains(strings.ToUpper(before), " OR ") {
			before = "(" + before + ")"
		}
		text = before + " AND " + text
	}
	next := with(q, "_property", "", "_operator", "", "_value", "", "after", "", "offset", "", "filter", text)
	http.Redirect(v.w, v.r, at+query(next), http.StatusSeeOther)
	return nil
}

// condition is a condition on a column in CQL2.
func (c *column) condition(operator, value string) string {
	name := c.Name
	if strings.ContainsFunc(name, func(r rune) bool {
		return r != '_' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
	}) {
		name = `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
	}
	like := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(value)
	switch operator {
	case "null":
		return name + " IS NULL"
	case "not null":
		return name + " IS NOT NULL"
	case "contains":
		return fmt.Sprintf("CASEI(%s) LIKE CASEI(%s)", name, cql2.Quote("%"+like+"%"))
	case "begins":
		return fmt.Sprintf("CASEI(%s) LIKE CASEI(%s)", name, cql2.Quote(like+"%"))
	}
	literal := cql2.Quote(value)
	switch {
	case c.isNumber():
		if _, err := strconv.ParseFloat(value, 64); err == nil {
			literal = value
		}
	case c.Type == gate.TypeBool:
		literal = strings.ToUpper(strconv.FormatBool(value == "true" || value == "yes"))
	case c.Type == gate.TypeDate:
		literal = "DATE(" + literal + ")"
	case c.Type == gate.TypeTimestampTZ, c.Type == gate.TypeTimestamp:
		if !strings.HasSuffix(value, "Z") {
			if strings.Count(value, ":") == 1 {
				value += ":00"
			}
			value += "Z"
		}
		literal = "TIMESTAMP(" + cql2.Quote(value) + ")"
	}
	if !slices.ContainsFunc(operators[:6], func(o struct{ Name, Text string }) bool { return o.Name == operator }) {
		operator = "="
	}
	return name + " " + operator + " " + literal
}

// pick answers lookups: rows that have some words in them, by what tells them.
func (v *visit) pick() error {
	r, err := v.find(v.r.PathValue("resource"))
	if err != nil {
		return err
	}
	q := url.Values{"limit": {"12"}}
	if text := strings.TrimSpace(v.r.URL.Query().Get("q")); text != "" {
		q.Set("q", text)
	}
	if c := r.column(r.Tells); c != nil && c.Sortable() {
		q.Set("sortby", r.Tells)
	}
	rows, err := v.list("/"+r.Path, q)
	if err != nil {
		return err
	}
	target := v.r.URL.Query().Get("property")
	if r.column(target) == nil {
		return &problem{Status: http.StatusBadRequest, Title: "Bad request", Detail: "There is no property " + target + "."}
	}
	type found struct{ Value, Text string }
	list := []found{}
	for _, row := range rows.Items {
		list = append(list, found{plain(row[target]), r.tell(row)})
	}
	return v.sendJSON(list)
}
