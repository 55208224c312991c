package rest

import (
	"context"
	"encoding/json"

	"widegate/gate"
)

// computed is a property that is not stored.
type computed struct {
	name   string
	schema json.RawMessage
	of     func(ctx context.Context, row any) any
}

// Compute adds a property to the rows of a shape in answers. It is worked out
// for each row that is sent, can be chosen by properties, and cannot be filtered
// by. What of returns is written by encoding/json; schema is a JSON Schema of
// it for the OpenAPI document, such as {"type":"integer"}.
func Compute[E, K any](s *Shape[E, K], name, schema string, of func(ctx context.Context, row E) any) {
	s.res.computed = append(s.res.computed, computed{
		name: name, schema: json.RawMessage(schema),
		of: func(ctx context.Context, row any) any { return of(ctx, row.(E)) },
	})
	s.res.index()
}

// appendComputed writes a property that is not stored; one that is no JSON is
// null.
func (r *resource) appendComputed(b []byte, m member, row any) []byte {
	ctx := r.ctx
	if ctx == nil {
		ctx = context.Background()
	}
	text, err := json.Marshal(r.computed[-1-m.column].of(ctx, row))
	if err != nil {
		return append(b, "null"...)
	}
	return append(b, text...)
}

// nameOf is what a property is called.
func (r *resource) nameOf(m member) string {
	if m.column < 0 {
		return r.computed[-1-m.column].name
	}
	if m.link != "" {
		return r.linkName(m.column)
	}
	return r.facets[m.column].name
}

// stored are the members that are columns.
func (r *resource) stored() []member { return r.members[:len(r.members)-len(r.computed)] }

// whole reports whether rows are needed as entities before they can be sent.
func (r *resource) whole() bool { return r.info.Hooked() || len(r.computed) > 0 }

func memberPrefix(name string) string { return "," + string(gate.AppendJSONString(nil, name)) + ":" }
