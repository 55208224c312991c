package remote

import (
	"context"
	"encoding/json"
	"log/slog"
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"
)

// report tells how the interfaces differ.
func (s *Service) report(differences []string) {
	if s.options.Report != nil {
		s.options.Report(differences)
		return
	}
	slog.Warn("the service has another interface than this client was made from", "differences", differences)
}

// document is what is read of an OpenAPI document.
type document struct {
	Paths      map[string]map[string]json.RawMessage `json:"paths"`
	Components struct {
		Schemas map[string]struct {
			Properties map[string]json.RawMessage `json:"properties"`
		} `json:"schemas"`
	} `json:"components"`
}

// differences tells how the interface of the service differs from the one that the
// client was made from. It tells nothing where that cannot be found out.
func (s *Service) differences(ctx context.Context) (list []string) {
	c := call{method: http.MethodGet, root: true, path: "/openapi.json", header: http.Header{"If-None-Match": {s.made.ETag}}}
	a, _, _, err := s.attempt(ctx, c)
	if err != nil {
		return nil
	}
	text, err := a.text()
	var d document
	if err != nil || json.Unmarshal(text, &d) != nil {
		return nil
	}
	for _, r := range s.made.Resources {
		list = append(list, s.byInfo[r.info].differences(s, &d)...)
	}
	return list
}

func (r *resource) differences(s *Service, d *document) (list []string) {
	var operation struct {
		Responses map[string]struct {
			Ref string `json:"$ref"`
		} `json:"responses"`
	}
	at, ok := d.Paths[strings.TrimRight(s.made.Base, "/")+"/"+r.path]
	if !ok || json.Unmarshal(at["get"], &operation) != nil {
		return []string{"there is no " + r.path + " any more, or not for this caller"}
	}
	name := strings.TrimSuffix(path.Base(operation.Responses["200"].Ref), ".list")
	there := d.Components.Schemas[name+".part"].Properties
	if there == nil {
		return nil
	}
	known := map[string]bool{}
	for i, name := range r.columns {
		known[name] = !r.hides(i)
	}
	for name := range r.links {
		known[name] = true
	}
	for name := range r.related {
		known[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(known)) {
		if _, ok := there[name]; known[name] && !ok {
			list = append(list, r.path+" has no "+name+" any more, or not for this caller")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(there)) {
		if !known[name] {
			list = append(list, r.path+" has "+name+", which this client does not know")
		}
	}
	return list
}
