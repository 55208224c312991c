package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"widegate/gate"
)

// Call is a call of a named query or a routine.
type Call struct {
	method, path string
	values       url.Values
	body         []byte
}

// NewCall begins a call, of GET with arguments in the address, of POST with them in the
// body.
func NewCall(method, path string) *Call {
	return &Call{method: method, path: path, values: url.Values{}, body: []byte{'{'}}
}

// Arg adds an argument, which p points to. One that is null is left out.
func (c *Call) Arg(column gate.Column, p any) {
	if gate.IsNull(p) {
		return
	}
	if c.method == http.MethodGet {
		c.values.Add(column.Name, shown(&column, p))
		return
	}
	c.member(column.Name)
	c.body = column.AppendJSON(c.body, p)
}

func (c *Call) member(name string) {
	if len(c.body) > 1 {
		c.body = append(c.body, ',')
	}
	c.body = append(gate.AppendJSONString(c.body, name), ':')
}

// Choice adds an argument that is one of some words.
func (c *Call) Choice(name string, place int, words ...string) {
	if place < 0 || place >= len(words) {
		return
	}
	if c.method == http.MethodGet {
		c.values.Add(name, words[place])
		return
	}
	c.member(name)
	c.body = gate.AppendJSONString(c.body, words[place])
}

// List adds an argument of any number of values.
func List[T any](c *Call, column gate.Column, list []T, at func(*T) any) {
	if c.method == http.MethodGet {
		for i := range list {
			c.values.Add(column.Name, shown(&column, at(&list[i])))
		}
		return
	}
	c.member(column.Name)
	c.body = append(c.body, '[')
	for i := range list {
		if i > 0 {
			c.body = append(c.body, ',')
		}
		c.body = column.AppendJSON(c.body, at(&list[i]))
	}
	c.body = append(c.body, ']')
}

// Member is a value of a row, or a row of a resource in it.
type Member struct {
	name  string
	field any
	info  *gate.Info
	put   func(row any)
}

// Value is a value that p points to. What is the whole row has no name.
func Value(name string, p any) Member { return Member{name: name, field: p} }

// Row is a row of a resource that is put into to, or null.
func Row[E any](name string, t gate.Described[E], to *E) Member {
	return Member{name: name, info: gate.InfoOf(gate.QueryOf(t)), put: func(row any) { *to = row.(E) }}
}

// serviceOf is the service that a call goes to.
func serviceOf(db gate.DB) (*Service, error) {
	s, ok := db.(*Service)
	if !ok {
		return nil, fmt.Errorf("calling a service: %T is none; call the function of the store", db)
	}
	return s, s.reading()
}

// ask makes the call, and returns the text that comes back.
func (c *Call) ask(ctx context.Context, db gate.DB, row bool) (*Service, []byte, error) {
	s, err := serviceOf(db)
	if err != nil {
		return nil, nil, err
	}
	sent := call{method: c.method, path: c.path, values: c.values, safe: c.method == http.MethodGet, row: row}
	if !sent.safe {
		sent.body = append(c.body, '}')
		sent = s.keyed(sent)
	}
	a, err := s.send(ctx, sent)
	if err != nil {
		return nil, nil, fmt.Errorf("calling %s: %w", c.path, err)
	}
	text, err := a.text()
	return s, text, err
}

// readMembers reads a row of a result.
func (s *Service) readMembers(ctx context.Context, members []Member, text []byte) error {
	if len(members) == 1 && members[0].name == "" {
		return s.readMember(ctx, members[0], text)
	}
	return eachMember(text, func(name string, raw []byte) error {
		for _, m := range members {
			if m.name == name {
				return s.readMember(ctx, m, raw)
			}
		}
		return nil
	})
}

func (s *Service) readMember(ctx context.Context, m Member, raw []byte) error {
	if m.info == nil {
		return gate.ParseJSON(m.field, raw)
	}
	if string(raw) == "null" {
		return nil
	}
	res, err := s.resourceOf(m.info)
	if err != nil {
		return err
	}
	row, reader := m.info.New(), s.newReader(res)
	if err := reader.read(row, raw); err != nil {
		return err
	}
	m.put(row)
	return s.fetch(ctx, reader)
}

// AllRows makes a call that gives rows; scan makes room for one, and says where its
// values go.
func AllRows[R any](ctx context.Context, db gate.DB, c *Call, scan func(row *R) []Member) ([]R, error) {
	s, text, err := c.ask(ctx, db, false)
	if err != nil {
		return nil, err
	}
	list, err := pageOf(text)
	if err != nil {
		return nil, err
	}
	rows := []R{}
	for item := range list.items {
		var row R
		if err := s.readMembers(ctx, scan(&row), item); err != nil {
			return nil, fmt.Errorf("reading what %s gave: %w", c.path, err)
		}
		rows = append(rows, row)
	}
	return rows, nil
}

// OneRow makes a call that gives one row, or gate.ErrNotFound.
func OneRow[R any](ctx context.Context, db gate.DB, c *Call, scan func(row *R) []Member) (row R, err error) {
	s, text, err := c.ask(ctx, db, true)
	if err != nil {
		return row, err
	}
	members := scan(&row)
	if len(members) == 1 && members[0].name == "" && members[0].info == nil {
		members[0].name = "value" // a single value stands in an object
	}
	if err := s.readMembers(ctx, members, text); err != nil {
		return row, fmt.Errorf("reading what %s gave: %w", c.path, err)
	}
	return row, nil
}

// MaybeRow makes a call that gives one row or none, and reports whether there is one.
func MaybeRow[R any](ctx context.Context, db gate.DB, c *Call, scan func(row *R) []Member) (R, bool, error) {
	row, err := OneRow(ctx, db, c, scan)
	if errors.Is(err, gate.ErrNotFound) {
		return *new(R), false, nil
	}
	return row, err == nil, err
}

// Count makes a call that tells how many rows it touched.
func Count(ctx context.Context, db gate.DB, c *Call) (n int64, err error) {
	_, text, err := c.ask(ctx, db, false)
	if err != nil {
		return 0, err
	}
	var counted struct {
		Count int64 `json:"count"`
	}
	if err := json.Unmarshal(text, &counted); err != nil {
		return 0, errNotJSON
	}
	return counted.Count, nil
}

// Do makes a call that gives nothing.
func Do(ctx context.Context, db gate.DB, c *Call) error {
	_, _, err := c.ask(ctx, db, false)
	return err
}
