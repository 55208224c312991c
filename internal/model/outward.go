package model

import (
	"widegate/gate"
	"widegate/internal/fault"
	"widegate/internal/project"
)

// Outward is the name of a column or relation in JSON and in parameters.
func (m *Model) Outward(name string) string {
	if m.API.Names == project.Camel {
		return gate.CamelCase(name)
	}
	return name
}

// Seen is the model with the names that callers of the service see: those of
// columns, unless the project file asks for others.
func (m *Model) Seen() *Model {
	if m.API.Names != project.Camel {
		return m
	}
	return m.former(&Version{Base: m.Base})
}

// checkCamel finds columns and relations that would have the same name.
func (b *builder) checkCamel(e *Entity) error {
	if b.project.API.Names != project.Camel {
		return nil
	}
	seen := map[string]string{}
	for _, name := range append(e.columnNames(), e.relationNames()...) {
		own := gate.CamelCase(name)
		if other, ok := seen[own]; ok && other != name {
			return fault.New("take `names: camel` out of api", "%s: %s and %s would both be called %s", e.Table.FullName(), other, name, own)
		}
		seen[own] = name
	}
	return nil
}
