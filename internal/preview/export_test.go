package preview

import (
	"net/http"

	"widegate/gate/desk"
	"widegate/gate/rest"
)

// Guarded serves the database of a preview with pages, for callers who show a key.
func (s *Service) Guarded(identify func(r *http.Request) (*rest.Identity, error), allow map[string]rest.Allow) (http.Handler, error) {
	tables := newTables(s.Model)
	var parts []rest.Part
	for _, e := range s.Model.Entities {
		parts = append(parts, tables[e].part(tables))
	}
	api, err := rest.New(rest.Config{Base: s.Model.Base, DB: s.db, Identify: identify, KeysOnly: true, Allow: allow, OpenAPI: []byte(`{"openapi":"3.1.0","info":{"title":"bees","version":"1"},"paths":{}}`)}, parts...)
	if err != nil {
		return nil, err
	}
	pages, err := desk.New(api, api, desk.Config{Title: "bees", Root: root, Looks: looks(s.Model)})
	if err != nil {
		return nil, err
	}
	api.Handle(root+"/", pages)
	return api, nil
}
