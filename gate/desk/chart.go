package desk

import (
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"widegate/gate"
)

// chartView is a page with a chart of a resource, by its summary.
type chartView struct {
	frame
	Resource *resource
	Base     string
	By       []*column // that rows can be grouped by
	Measures []measure
	Chosen   struct{ By, Measure string }
	Filter   url.Values // what chooses the rows
	Chart    *chart
	Problem  *problem
	API      string
	Note     string
	Rows     string // the table with the same rows
}

// measure is what a chart shows of a group.
type measure struct{ Name, Label string }

// chart is the numbers of a picture, in its order.
type chart struct {
	Kind   string // bars, line or histogram
	X, Y   string // what the axes are
	Points []point
}

// point is a group with its value.
type point struct {
	Label string
	Value float64
	Text  string // the value as it is shown
	None  bool   // there is nothing to measure
	Href  string // the rows of the group
	Rest  bool   // of all groups that are not shown; not in the picture
}

// What a chart takes in.
const (
	chartGroups = 1000 // of one request
	chartPages  = 20
	mostBars    = 24
	histogram   = 20 // bins
	mostPoints  = 120
)

// chartable reports how rows can be grouped by a column: by bars for few values,
// by time, or by ranges of numbers. Empty: not at all.
func (c *column) chartable() string {
	switch {
	case !c.Sortable() || c.Content != "":
		return ""
	case c.Type == gate.TypeDate || c.Type == gate.TypeTimestamp || c.Type == gate.TypeTimestampTZ:
		return "line"
	case c.refers != nil || c.Type == gate.TypeEnum || c.Type == gate.TypeBool:
		return "bars"
	case c.Is(gate.Key):
		return ""
	case c.isNumber():
		return "histogram"
	case c.Type == gate.TypeText && !c.Is(gate.Auto):
		return "bars"
	}
	return ""
}

// preferred is the order in which groupings are proposed.
var preferred = []string{"line", "bars", "histogram"}

func (r *resource) groupings() []*column {
	var list []*column
	for _, c := range r.columns {
		if c.chartable() != "" {
			list = append(list, c)
		}
	}
	return list
}

// measures are the count, and what can be worked out of numbers.
func (r *resource) measures() []measure {
	list := []measure{{"count", "Number of rows"}}
	for _, c := range r.columns {
		if !c.isNumber() || c.refers != nil || c.Is(gate.Key) || c.Is(gate.Version) {
			continue
		}
		for _, f := range []struct{ name, label string }{{"sum", "Sum of "}, {"avg", "Average of "}, {"min", "Least "}, {"max", "Greatest "}} {
			list = append(list, measure{f.name + "(" + c.Name + ")", f.label + strings.ToLower(c.Label[:1]) + c.Label[1:]})
		}
	}
	return list
}

// chart shows a chart of a resource.
func (v *visit) chart() error {
	r, err := v.find(v.r.PathValue("resource"))
	if err != nil {
		return err
	}
	q := v.r.URL.Query()
	view := &chartView{
		frame:    v.frame("Chart of "+strings.ToLower(r.Label[:1])+r.Label[1:], crumb{r.Label, v.at("rows", r.Path)}, crumb{"Chart", v.at("chart", r.Path)}),
		Resource: r, Base: v.at("chart", r.Path), By: r.groupings(), Measures: r.measures(), Filter: choice(apiQuery(with(q, "by", "", "measure", ""))),
	}
	view.Rows = v.at("rows", r.Path) + query(view.Filter)
	view.Chosen.By, view.Chosen.Measure = q.Get("by"), cmp.Or(q.Get("measure"), "count")
	if len(view.By) == 0 {
		view.Problem = &problem{Status: http.StatusOK, Title: "No chart", Detail: "Rows of this table cannot be grouped by any of their columns."}
		return v.show(http.StatusOK, "chart", view)
	}
	by := r.column(view.Chosen.By)
	if by == nil || by.chartable() == "" {
		by = slices.MinFunc(view.By, func(a, b *column) int {
			return slices.Index(preferred, a.chartable()) - slices.Index(preferred, b.chartable())
		})
		view.Chosen.By = by.Name
	}
	chosen := slices.IndexFunc(view.Measures, func(m measure) bool { return m.Name == view.Chosen.Measure })
	if chosen < 0 {
		chosen, view.Chosen.Measure = 0, "count"
	}
	if err := v.draw(view, r, by, view.Measures[chosen]); err != nil {
		view.Problem = problemOf(err)
		return v.show(view.Problem.Status, "chart", view)
	}
	return v.show(http.StatusOK, "chart", view)
}

// groupOf is a group of a summary as numbers: enough to put several together.
type groupOf struct {
	value any
	count float64
	total float64 // the measure, or for an average the sum
	none  bool    // there is no value to measure
}

func (v *visit) draw(view *chartView, r *resource, by *column, m measure) error {
	function, name, _ := strings.Cut(strings.TrimSuffix(m.Name, ")"), "(")
	ask := m.Name
	if function == "avg" {
		ask = "sum(" + name + ")"
	}
	groups, more, err := v.groups(view, r, by, function, ask)
	if err != nil {
		return err
	}
	if more {
		view.Note = fmt.Sprintf("There are more than %s different values; only the first ones are counted here.", thousands(strconv.Itoa(chartGroups*chartPages)))
	}
	c := &chart{Kind: by.chartable(), X: by.Label, Y: m.Label}
	join, adds := joined[function], function == "count" || function == "sum"
	switch c.Kind {
	case "line":
		c.Points = overTime(groups, join, adds)
	case "histogram":
		c.Points = binned(groups, join, adds)
	default:
		c.Points, more = v.bars(r, by, groups, join, view.Filter)
		if more {
			view.Note = fmt.Sprintf("The picture has the %d largest of %d groups; the table has the others together.", mostBars, len(groups))
		}
	}
	for i := range c.Points {
		if c.Points[i].Text = short(c.Points[i].Value); c.Points[i].None {
			c.Points[i].Text = "–"
		}
	}
	view.Chart = c
	return nil
}

// groups asks for all groups, page by page. For an average the number of rows is
// asked for too.
func (v *visit) groups(view *chartView, r *resource, by *column, function, ask string) (list []groupOf, more bool, err error) {
	names, counted := []string{"count"}, "count"
	if function != "count" {
		_, of, _ := strings.Cut(ask, "(")
		names, counted = []string{"count(" + of, ask}, "count_"+strings.TrimSuffix(of, ")")
	}
	q := with(view.Filter, "by", by.Name, "measure", strings.Join(names, ","), "limit", strconv.Itoa(chartGroups))
	view.API = v.api.Base() + "/" + r.Path + "/summary" + query(q)
	property := strings.NewReplacer("(", "_", ")", "").Replace(ask)
	for n := range chartPages {
		if n > 0 {
			q.Set("offset", strconv.Itoa(n*chartGroups))
		}
		page, err := v.list("/"+r.Path+"/summary", q)
		if err != nil {
			return nil, false, err
		}
		for _, row := range page.Items {
			g := groupOf{value: row[by.Name], count: number(row[v.measured(counted)])}
			g.total = g.count
			if function != "count" {
				g.total, g.none = number(row[v.measured(property)]), g.count == 0
			}
			list = append(list, g)
		}
		if len(page.Items) < chartGroups {
			return list, false, nil
		}
	}
	return list, true, nil
}

// measured is the name of a measure in an answer.
func (v *visit) measured(name string) string {
	if v.api.Camel() {
		return gate.CamelCase(name)
	}
	return name
}

func number(v any) float64 {
	n, _ := strconv.ParseFloat(plain(v), 64)
	return n
}

// join puts the groups together that are shown as one.
type join func(groups []groupOf) float64

var joined = map[string]join{
	"count": sum, "sum": sum,
	"avg": func(groups []groupOf) float64 {
		count := 0.0
		for _, g := range groups {
			count += g.count
		}
		return sum(groups) / count
	},
	"min": func(groups []groupOf) float64 {
		return slices.MinFunc(groups, func(a, b groupOf) int { return cmp.Compare(a.total, b.total) }).total
	},
	"max": func(groups []groupOf) float64 {
		return slices.MaxFunc(groups, func(a, b groupOf) int { return cmp.Compare(a.total, b.total) }).total
	},
}

func sum(groups []groupOf) float64 {
	total := 0.0
	for _, g := range groups {
		total += g.total
	}
	return total
}

// of makes a point of groups. Those without a value to measure count for nothing.
func (j join) of(label string, groups []groupOf) point {
	measured := slices.DeleteFunc(slices.Clone(groups), func(g groupOf) bool { return g.none })
	if len(measured) == 0 {
		return point{Label: label, None: true}
	}
	return point{Label: label, Value: j(measured)}
}

// bars are a bar for each of the largest groups, and one for the others.
func (v *visit) bars(r *resource, by *column, groups []groupOf, join join, filter url.Values) (list []point, more bool) {
	groups = slices.Clone(groups)
	if by.Type != gate.TypeEnum && by.Type != gate.TypeBool || len(groups) > mostBars {
		slices.SortStableFunc(groups, func(a, b groupOf) int {
			return cmp.Compare(join.of("", []groupOf{b}).Value, join.of("", []groupOf{a}).Value)
		})
	}
	if more = len(groups) > mostBars+1; !more {
		mostOf := len(groups)
		groups = groups[:mostOf]
	}
	shown := groups
	if more {
		shown = groups[:mostBars]
	}
	names := v.namesOf(by, shown)
	for _, g := range shown {
		p := join.of(names[plain(g.value)], []groupOf{g})
		condition := by.condition("=", plain(g.value))
		if g.value == nil {
			p.Label, condition = "none", by.condition("null", "")
		} else if by.Type == gate.TypeBool {
			p.Label = map[string]string{"true": "yes", "false": "no"}[plain(g.value)]
		}
		if before := filter.Get("filter"); before != "" {
			condition = "(" + before + ") AND " + condition
		}
		p.Href = v.at("rows", r.Path) + query(with(filter, "filter", condition))
		list = append(list, p)
	}
	if more {
		rest := join.of("others", groups[mostBars:])
		rest.Rest = true
		list = append(list, rest)
	}
	return list, more
}

// namesOf are what the values of a column are called: what a reference refers to
// by what tells that.
func (v *visit) namesOf(by *column, groups []groupOf) map[string]string {
	names := map[string]string{}
	var values []string
	for _, g := range groups {
		names[plain(g.value)] = plain(g.value)
		if g.value != nil {
			values = append(values, plain(g.value))
		}
	}
	if by.refers == nil || len(values) == 0 || len(by.refers.Target) != 1 {
		return names
	}
	to, err := v.find(by.refers.To)
	if err != nil {
		return names
	}
	rows, err := v.list("/"+to.Path, url.Values{by.refers.Target[0]: values, "limit": {strconv.Itoa(len(values))}})
	if err != nil {
		return names // the keys must do
	}
	for _, row := range rows.Items {
		names[plain(row[by.refers.Target[0]])] = to.tell(row)
	}
	return names
}

// unit is a length of time that a chart counts by.
type unit struct {
	layout string
	start  func(t time.Time) time.Time
	next   func(t time.Time) time.Time
}

var calendar = []unit{
	{"2006-01-02", func(t time.Time) time.Time { return t.Truncate(24 * time.Hour) }, func(t time.Time) time.Time { return t.AddDate(0, 0, 1) }},
	{"2006-01", func(t time.Time) time.Time { return time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, time.UTC) }, func(t time.Time) time.Time { return t.AddDate(0, 1, 0) }},
	{"2006", func(t time.Time) time.Time { return time.Date(t.Year(), 1, 1, 0, 0, 0, 0, time.UTC) }, func(t time.Time) time.Time { return t.AddDate(1, 0, 0) }},
}

// overTime are the groups by day, month or year, whichever gives a picture that can
// be read. Where nothing was, numbers that add up are 0, and others are missing.
func overTime(groups []groupOf, join join, adds bool) []point {
	at := map[time.Time][]groupOf{}
	var first, last time.Time
	for _, g := range groups {
		t, ok := moment(plain(g.value))
		if !ok {
			continue
		}
		if first.IsZero() || t.Before(first) {
			first = t
		}
		if t.After(last) {
			last = t
		}
		at[t] = append(at[t], g)
	}
	if first.IsZero() {
		return nil
	}
	days := last.Sub(first).Hours() / 24
	u := calendar[0]
	switch {
	case days > mostPoints*30.5:
		u = calendar[2]
	case days > mostPoints:
		u = calendar[1]
	}
	together := map[time.Time][]groupOf{}
	for t, list := range at {
		together[u.start(t)] = append(together[u.start(t)], list...)
	}
	var list []point
	for t := u.start(first); !t.After(last) && len(list) < 10*mostPoints; t = u.next(t) {
		p := join.of(t.Format(u.layout), together[t])
		p.None = p.None && !adds
		list = append(list, p)
	}
	return list
}

func moment(text string) (time.Time, bool) {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", time.DateOnly} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC(), true
		}
	}
	return time.Time{}, false
}

// binned are the groups in ranges of the same width.
func binned(groups []groupOf, join join, adds bool) []point {
	var low, high float64
	found := false
	for _, g := range groups {
		if g.value == nil {
			continue
		}
		n := number(g.value)
		if !found {
			low, high, found = n, n, true
		}
		low, high = min(low, n), max(high, n)
	}
	if !found {
		return nil
	}
	width := round((high - low) / histogram)
	if width == 0 {
		width = 1
	}
	start := floorTo(low, width)
	bins := map[int][]groupOf{}
	most := 0
	for _, g := range groups {
		if g.value != nil {
			i := int((number(g.value) - start) / width)
			bins[i] = append(bins[i], g)
			most = max(most, i)
		}
	}
	var list []point
	for i := range most + 1 {
		p := join.of(short(start+float64(i)*width)+" – "+short(start+float64(i+1)*width), bins[i])
		p.None = p.None && !adds
		list = append(list, p)
	}
	return list
}
