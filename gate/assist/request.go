package assist

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// request is what a call asks the service for.
type request struct {
	method, path string
	query        *query
	body         []byte
	dry          bool   // nothing is to be stored
	ask          string // what to ask whoever uses the assistant first; empty for nothing
	answer       object // that is known without asking
}

// query are the parameters of a request.
type query struct{ values url.Values }

func newQuery() *query { return &query{url.Values{}} }

func (q *query) text(name, value string) {
	if value != "" {
		q.values.Set(name, value)
	}
}

func (q *query) list(name string, values []string) { q.text(name, strings.Join(values, ",")) }

// value adds an argument as a parameter; a list is one parameter for each of its values.
func (q *query) value(name string, v any) {
	switch v := v.(type) {
	case nil:
	case []any:
		for _, one := range v {
			q.value(name, one)
		}
	case string:
		q.values.Add(name, v)
	default:
		text, err := json.Marshal(v)
		if err == nil {
			q.values.Add(name, string(text))
		}
	}
}

// arguments are those of a call. What is wrong with one is told when all are read.
type arguments struct {
	values object
	fault  *error
}

// readArguments reads the arguments of a call. Numbers keep their digits.
func readArguments(text json.RawMessage) (arguments, error) {
	args := arguments{values: object{}, fault: new(error)}
	if len(text) == 0 || string(text) == "null" {
		return args, nil
	}
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.UseNumber()
	if err := dec.Decode(&args.values); err != nil {
		return args, errors.New("the arguments must be a JSON object")
	}
	return args, nil
}

func (a arguments) wrong(format string, args ...any) {
	if *a.fault == nil {
		*a.fault = fmt.Errorf(format, args...)
	}
}

// done is the request, unless an argument was wrong.
func (a arguments) done(r *request) (*request, error) { return r, *a.fault }

func (a arguments) without(names ...string) arguments {
	inner := arguments{values: object{}, fault: a.fault}
	for name, v := range a.values {
		if !slices.Contains(names, name) {
			inner.values[name] = v
		}
	}
	return inner
}

func (a arguments) text(name string) string {
	switch v := a.values[name].(type) {
	case nil:
		return ""
	case string:
		return v
	case json.Number:
		return v.String()
	}
	a.wrong("%s wants a text", name)
	return ""
}

func (a arguments) truth(name string) bool {
	switch v := a.values[name].(type) {
	case nil:
		return false
	case bool:
		return v
	}
	a.wrong("%s wants true or false", name)
	return false
}

// texts are those of a list; one text may stand for it.
func (a arguments) texts(name string) []string {
	switch v := a.values[name].(type) {
	case nil:
		return nil
	case string:
		return strings.Split(v, ",")
	case []any:
		list := make([]string, len(v))
		for i, one := range v {
			s, ok := one.(string)
			if !ok {
				a.wrong("%s wants texts", name)
			}
			list[i] = s
		}
		return list
	}
	a.wrong("%s wants a list of texts", name)
	return nil
}

// number is a whole number from 1 on; 0 where it is left out.
func (a arguments) number(name string, most int) int {
	v, there := a.values[name]
	if !there {
		return 0
	}
	n, err := strconv.Atoi(fmt.Sprint(v))
	if err != nil || n < 1 || n > most {
		a.wrong("%s wants a whole number from 1 to %d; got %v", name, most, v)
		return 0
	}
	return n
}

// key is a key of some columns as it stands in a path: a value, a list of them, or a text
// with commas between them.
func (a arguments) key(name string, columns int) string {
	var parts []string
	if list, ok := a.values[name].([]any); ok {
		for _, v := range list {
			parts = append(parts, fmt.Sprint(v))
		}
	} else if text := a.text(name); columns == 1 && text != "" {
		parts = []string{text}
	} else if text != "" {
		parts = strings.Split(text, ",")
	}
	if len(parts) == 0 {
		a.wrong("%s is missing", name)
	}
	for i, p := range parts {
		parts[i] = strings.NewReplacer(".", "%2E", ",", "%2C").Replace(url.PathEscape(p))
	}
	return strings.Join(parts, ",")
}

// raw is an object among the arguments, as JSON.
func (a arguments) raw(name string) []byte {
	v, ok := a.values[name].(object)
	if !ok {
		a.wrong("%s wants an object with the columns and their values", name)
		return nil
	}
	text, err := json.Marshal(v)
	if err != nil {
		a.wrong("%s: %w", name, err)
	}
	return text
}

// all are the arguments as one object, without some.
func (a arguments) all(without ...string) []byte {
	text, err := json.Marshal(a.without(without...).values)
	if err != nil {
		a.wrong("%w", err)
	}
	return text
}

// choose adds what chooses rows to a query.
func (r *resource) choose(q *query, args arguments) {
	q.text("filter", args.text("filter"))
	q.text("q", args.text("q"))
	for _, c := range r.columns {
		if v, ok := args.values[c.name]; ok && c.name != "filter" && c.name != "q" {
			q.value(c.name, v)
		}
	}
	q.list("sortby", args.texts("sortby"))
}

func (r *resource) listRequest(args arguments, o Options) (*request, error) {
	q := newQuery()
	r.choose(q, args)
	q.list("with", args.texts("with"))
	q.list("properties", args.texts("properties"))
	q.text("after", args.text("after"))
	if args.truth("count") {
		q.text("count", "true")
	}
	limit := args.number("limit", o.Rows)
	if limit == 0 {
		limit = min(20, o.Rows)
	}
	q.text("limit", strconv.Itoa(limit))
	return args.done(&request{method: "GET", path: r.path, query: q})
}

func (r *resource) summaryRequest(args arguments) (*request, error) {
	q := newQuery()
	r.choose(q, args)
	q.list("by", args.texts("by"))
	q.list("measure", args.texts("measure"))
	q.text("having", args.text("having"))
	if n := args.number("limit", 1000); n > 0 {
		q.text("limit", strconv.Itoa(n))
	}
	return args.done(&request{method: "GET", path: r.path + "/summary", query: q})
}
