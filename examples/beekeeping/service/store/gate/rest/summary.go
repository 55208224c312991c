package rest

import (
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"beekeeping/store/gate"
	"beekeeping/store/gate/cql2"
)

// summary is a request for values of groups of rows.
type summary struct {
	res      *resource
	format   format
	query    gate.Summary
	columns  []summaryColumn
	language string
}

// summaryColumn is a property of the answer.
type summaryColumn struct {
	name   string
	value  value
	column *gate.Column // that it is a value of; nil for counts and the like
}

var summaryParameters = []string{"by", "measure", "having", "sortby", "limit", "offset", "filter", "filter-lang", "q", "f"}

var summaryFormats = []format{asJSON, asNDJSON, asCSV, asSafe}

// Summarize makes a handler for values of groups of rows: counts, sums, minima,
// maxima, averages, and the values that there are.
//
//go:noinline
func Summarize[E, K any](s *Shape[E, K]) Handler {
	rows := gate.Untyped(s.query)
	return func(w http.ResponseWriter, r *http.Request) error {
		res, err := s.res.in(r.Context(), toRead)
		if err != nil {
			return err
		}
		m, err := readSummary(r, res, res.among(rows))
		if err != nil {
			return err
		}
		return m.send(w, r)
	}
}

func readSummary(r *http.Request, res *resource, rows *gate.Query[any]) (*summary, error) {
	values, err := readQuery(r)
	if err != nil {
		return nil, err
	}
	m := &summary{res: res, query: gate.Summary{Rows: rows, Limit: res.api.config.Limits.Page}, language: values.Get("filter-lang")}
	if m.format, err = chooseFormat(r, values.Get("f"), summaryFormats); err != nil {
		return nil, err
	}
	if err := m.readColumns(values.Get("by"), values.Get("measure")); err != nil {
		return nil, err
	}
	for _, name := range sortedNames(values) {
		if err := m.readParameter(name, values[name]); err != nil {
			return nil, err
		}
	}
	if m.query.Order == nil {
		for i := range m.query.By {
			m.query.Order = append(m.query.Order, gate.Step{Place: i})
		}
	}
	return m, nil
}

func (m *summary) readColumns(by, measures string) error {
	for _, name := range splitList(by) {
		v, err := m.value(name)
		if err != nil {
			return err
		}
		if !v.column.Sortable() {
			return NewProblem(http.StatusBadRequest, "by: rows cannot be grouped by %s", name)
		}
		m.query.By = append(m.query.By, v.term)
		m.columns = append(m.columns, summaryColumn{name, v, v.column})
	}
	if measures == "" && by == "" {
		measures = "count"
	}
	for _, text := range splitList(measures) {
		c, err := m.measure(text)
		if err != nil {
			return err
		}
		m.query.Values = append(m.query.Values, c.value.term)
		m.columns = append(m.columns, c)
	}
	for i, c := range m.columns {
		if slices.ContainsFunc(m.columns[:i], func(o summaryColumn) bool { return o.name == c.name }) {
			return NewProblem(http.StatusBadRequest, "%s is asked for twice", c.name)
		}
	}
	if len(m.columns) > maxNodes {
		return NewProblem(http.StatusBadRequest, "at most %d values a group", maxNodes)
	}
	return nil
}

func splitList(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, ",")
}

// value finds a column, maybe of a row that is related.
func (m *summary) value(name string) (value, error) {
	node := &cql2.Node{Op: cql2.Property, Value: name, Place: name}
	steps, _, err := m.res.walk(node)
	var v value
	if err == nil {
		v, err = (&typing{res: m.res}).property(node)
	}
	if err != nil {
		return v, m.problem("", err)
	}
	for _, s := range steps {
		if !s.rel.Single() {
			return v, NewProblem(http.StatusBadRequest, "%s leads to several rows; summarize those themselves", name)
		}
	}
	return v, nil
}

// problem tells what is wrong with a name or a condition.
func (m *summary) problem(what string, err error) error {
	var wrong *cql2.Error
	if !errors.As(err, &wrong) {
		return err
	}
	if what == "" {
		return NewProblem(http.StatusBadRequest, "%s", wrong.Text)
	}
	return NewProblem(http.StatusBadRequest, "%s: %s", what, wrong.Error())
}

// measure reads count or sum(frames), whose property is sum_frames.
func (m *summary) measure(text string) (summaryColumn, error) {
	const known = "measure wants count, or count(x), distinct(x), sum(x), avg(x), min(x) or max(x) of a property x"
	if text == "count" {
		return summaryColumn{name: text, value: value{term: gate.Aggregate("count", gate.Term{}), family: numbers}}, nil
	}
	name, rest, ok := strings.Cut(text, "(")
	of, closed := strings.CutSuffix(rest, ")")
	if !ok || !closed || !slices.Contains([]string{"count", "distinct", "sum", "avg", "min", "max"}, name) {
		return summaryColumn{}, NewProblem(http.StatusBadRequest, known+"; got %q", text)
	}
	v, err := m.value(of)
	if err != nil {
		return summaryColumn{}, err
	}
	if of = name + "_" + of; m.res.api.config.Camel {
		of = gate.CamelCase(of)
	}
	c := summaryColumn{name: of, value: value{term: gate.Aggregate(name, v.term), family: numbers}}
	switch name {
	case "sum", "avg":
		if v.family != numbers {
			return c, NewProblem(http.StatusBadRequest, "measure: %s is no number; %s has no meaning for it", of, name)
		}
	case "distinct":
		if !v.column.Sortable() {
			return c, NewProblem(http.StatusBadRequest, "measure: the different values of %s cannot be counted", of)
		}
	case "min", "max":
		if !v.column.Sortable() || v.column.Type == gate.TypeBool || v.column.Type == gate.TypeUUID || v.column.Type == gate.TypeEnum {
			return c, NewProblem(http.StatusBadRequest, "measure: the values of %s have no order", of)
		}
		c.column = v.column
		c.value.family, c.value.column, c.value.info, c.value.engine, c.value.index = v.family, v.column, v.info, v.engine, v.index
	}
	return c, nil
}

func (m *summary) readParameter(name string, values []string) (err error) {
	last := values[len(values)-1]
	switch name {
	case "by", "measure", "filter-lang", "f":
	case "limit":
		most := m.res.api.config.Limits.Rows
		if m.query.Limit, err = readLimit(last, most); err == nil && m.query.Limit == 0 {
			err = NewProblem(http.StatusBadRequest, "limit wants a whole number from 1 to %d; got %q", most, last)
		}
	case "offset":
		m.query.Offset, err = readWhole("offset", last, maxOffset)
	case "sortby":
		err = m.readOrder(last)
	case "having":
		err = m.readHaving(last)
	case "filter":
		cond, err := m.res.readFilter(m.language, last)
		m.query.Rows = m.query.Rows.Where(cond)
		return err
	case "q":
		cond, err := m.res.contains(last)
		m.query.Rows = m.query.Rows.Where(cond)
		return err
	default:
		if _, ok := m.res.find(name); !ok {
			known := slices.Concat(summaryParameters, m.res.columnNames())
			return NewProblem(http.StatusBadRequest, "there is no parameter %q; there are %s", name, strings.Join(known, ", "))
		}
		m.query.Rows, err = readEquality(m.query.Rows, m.res, name, values)
	}
	return err
}

func (m *summary) names() []string {
	names := make([]string, len(m.columns))
	for i, c := range m.columns {
		names[i] = c.name
	}
	return names
}

func (m *summary) readOrder(text string) error {
	for _, step := range splitList(text) {
		name := strings.TrimLeft(step, "+ ")
		desc := strings.HasPrefix(name, "-")
		place := slices.Index(m.names(), strings.TrimPrefix(name, "-"))
		if place < 0 {
			return NewProblem(http.StatusBadRequest, "sortby: the answer has no %q; it has %s", strings.TrimPrefix(name, "-"), strings.Join(m.names(), ", "))
		}
		m.query.Order = append(m.query.Order, gate.Step{Place: place, Desc: desc})
	}
	return nil
}

func (m *summary) readHaving(text string) error {
	if len(m.query.By) == 0 {
		return NewProblem(http.StatusBadRequest, "having chooses among groups; say by what with by=")
	}
	named := map[string]value{}
	for _, c := range m.columns[len(m.query.By):] {
		named[c.name] = c.value
	}
	root, err := parseFilter(m.language, text)
	if err != nil {
		return m.problem("having", err)
	}
	cond, err := condition(root, true, func(n *cql2.Node, _ bool) (gate.Cond[any], error) {
		return (&typing{named: named}).predicate(n)
	})
	if err != nil {
		return m.problem("having", err)
	}
	m.query.Having = []gate.Cond[any]{cond}
	return nil
}

// send answers with the groups.
func (m *summary) send(w http.ResponseWriter, r *http.Request) error {
	fields := make([]any, len(m.columns))
	for i, t := range slices.Concat(m.query.By, m.query.Values) {
		fields[i] = t.Field()
	}
	b := buffers.Get().(*[]byte)
	defer putBuffer(b)
	*b = append((*b)[:0], m.format.open...)
	if m.format.isCSV() {
		*b = m.format.appendRecord(*b, m.names())
	}
	written, odd := false, gate.OddOf(r.Context())
	err := m.query.Read(r.Context(), m.res.api.readDB(r.Context()), func() []any {
		for _, f := range fields {
			odd.Forget(f)
		}
		return fields
	}, func() error {
		if written {
			*b = append(*b, m.format.between...)
		}
		written = true
		*b = m.appendGroup(*b, fields, odd)
		return nil
	})
	if err != nil {
		return err
	}
	switch {
	case m.format.name == "json":
		*b = append(*b, ']', '}', '\n')
	case m.format.name == "ndjson" && written:
		*b = append(*b, '\n')
	}
	send(w, http.StatusOK, m.format.media, *b)
	return nil
}

func (m *summary) appendGroup(b []byte, fields []any, odd *gate.Odd) []byte {
	if m.format.isCSV() {
		record := make([]string, len(fields))
		for i, f := range fields {
			if text, _, found := odd.Text(f); found {
				record[i] = text
			} else if !gate.IsNull(f) {
				record[i] = string(gate.AppendText(nil, f))
			}
		}
		return m.format.appendRecord(b, record)
	}
	for i, c := range m.columns {
		b = append(b, "{,"[min(i, 1)])
		b = append(gate.AppendJSONString(b, c.name), ':')
		if text, null, found := odd.Text(fields[i]); found && !null {
			b = gate.AppendJSONString(b, text)
			continue
		}
		if c.column != nil {
			b = c.column.AppendJSON(b, fields[i])
			continue
		}
		b = appendNumber(b, fields[i])
	}
	return append(b, '}')
}

// appendNumber writes a number; one with more digits than every reader of JSON
// keeps becomes a string.
func appendNumber(b []byte, field any) []byte {
	text := gate.AppendJSON(nil, field)
	if digits := len(text); digits > 16 && text[0] != '"' {
		if _, err := strconv.ParseInt(string(text), 10, 64); err != nil && strings.IndexByte(string(text), '.') < 0 {
			return append(append(append(b, '"'), text...), '"')
		}
	}
	return append(b, text...)
}
