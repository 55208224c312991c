// Package preview serves a database over HTTP with nothing generated. The tables
// are described to the same runtime that generated code is written for, by rows
// that hold their values in lists in place of structs; so both answer alike.
package preview

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"strings"

	"widegate/gate"
	"widegate/gate/assist"
	"widegate/gate/rest"
	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render/diagram"
	"widegate/internal/render/openapi"
	"widegate/internal/secret"
)

// Options are what is asked of a preview beside the project file.
type Options struct {
	Writes bool   // rows may be saved, changed and deleted
	Title  string // of the OpenAPI document
	Icon   string // of the pages, as a data URL
	Script []byte // of the pages: the project's formatters
	Trials Trials // of the project's templates; nil where there is no project
}

// Service answers requests for a database as it is at one moment.
type Service struct {
	http.Handler
	Catalog *catalog.Catalog
	Model   *model.Model

	db     gate.DB
	dryRun func(w http.ResponseWriter, r *http.Request) // nil where nothing is stored
}

// Open connects to the database of a source, whose schema and model were read.
func Open(ctx context.Context, source read.Source, c *catalog.Catalog, m *model.Model, o Options) (*Service, error) {
	for _, e := range m.Entities {
		withoutRecords(e)
	}
	db, err := connect(ctx, c.Engine.Name, source)
	if err != nil {
		return nil, err
	}
	s := &Service{Catalog: c, Model: m, db: db}
	api, err := serve(m, db, o)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	var data http.Handler = api
	if o.Writes {
		s.dryRun = api.DryRun
	} else {
		data = readOnly(api, m.Base)
	}
	if s.Handler, err = addPages(api, data, c, m, o); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

// CheckSource refuses a source that has no rows.
func CheckSource(source read.Source) error {
	if source.URL == "" {
		return fault.New("name a database or scripts: `widegate preview URL`, or `database: {url: …}` in widegate.yaml", "there is no database to look at: a snapshot has no rows")
	}
	return nil
}

// withoutRecords makes texts of composite values: their parts are Go types, which
// only generated code has.
func withoutRecords(e *model.Entity) {
	for _, f := range e.Fields {
		if f.Kind == model.KindRecord || f.Element != nil && f.Element.Kind == model.KindRecord {
			f.Kind, f.Composite, f.Element = model.KindOther, nil, nil
		}
	}
}

// Close gives the connections back.
func (s *Service) Close() error { return s.db.Close() }

func connect(ctx context.Context, engine string, source read.Source) (gate.DB, error) {
	if err := source.Check(); err != nil {
		return nil, err
	}
	e, err := registry.Of(engine)
	if err != nil {
		return nil, err
	}
	db, err := e.OpenService(ctx, source.URL)
	return db, secret.Error(err, source.URL)
}

// serve makes the service of a model.
func serve(m *model.Model, db gate.DB, o Options) (*rest.API, error) {
	tables := newTables(m)
	config := rest.Config{
		Base: m.Base, DB: db, OpenAPI: openapi.Render(unguarded(m).Seen(), o.Title),
		Camel: m.API.Names == project.Camel, RequireIfMatch: m.API.IfMatch, Gather: m.API.Gathers(), Repeats: m.API.Repeats,
	}
	if l := m.API.Limits; l != nil {
		config.Limits = rest.Limits{Body: int64(l.Body), Requests: l.Requests, Statement: l.Timeout(), Page: l.Page, Rows: l.Rows}
	}
	for _, v := range m.Versions {
		config.Versions = append(config.Versions, version(v, o))
	}
	var parts []rest.Part
	for _, e := range m.Entities {
		parts = append(parts, tables[e].part(tables))
	}
	exposed := &calls{model: m, tables: tables}
	if len(m.Exposed) > 0 {
		parts = append(parts, exposed.part())
	}
	api, err := rest.New(config, parts...)
	if err != nil {
		return nil, fmt.Errorf("making the preview: %w", err)
	}
	exposed.api = api
	return api, nil
}

// AssistOptions say which functions for assistants are offered.
func (s *Service) AssistOptions(o Options) assist.Options {
	options := assist.Options{Title: o.Title, Base: s.Model.Base, Write: o.Writes, DryRun: s.dryRun}
	options.Diagrams = map[string]func() string{
		"diagram.svg": func() string { return diagram.Of(o.Title, drawn(s.Catalog, s.Model)).SVG() },
		"diagram.mmd": func() string { return diagram.Of(o.Title, drawn(s.Catalog, s.Model)).Mermaid() },
	}
	if a := s.Model.API.Assist; a != nil {
		options.Form, options.Offer, options.Unasked = assist.Form(a.Form), a.Offer, a.Unasked
	}
	return options
}

// version is an earlier version of the interface as the runtime is told of it.
func version(v *model.Version, o Options) rest.Version {
	out := rest.Version{
		Base: v.Base, Deprecated: v.Deprecated, Sunset: v.Sunset, Resources: map[string]rest.Former{},
		OpenAPI: openapi.Render(unguarded(v.Model), o.Title+" "+v.Name),
	}
	renamed := func(list []model.Renamed) map[string]string {
		names := map[string]string{}
		for _, n := range list {
			names[n.Name] = n.Former
		}
		return names
	}
	for _, f := range v.Resources {
		out.Resources[f.Entity.Path] = rest.Former{Path: f.Path, Hidden: f.Hidden, Columns: renamed(f.Columns), Relations: renamed(f.Relations), Values: renamed(f.Values)}
	}
	return out
}

// unguarded is the model without credentials, for which a preview does not ask:
// it serves this machine, and whoever started it.
func unguarded(m *model.Model) *model.Model {
	own, api := *m, *m.API
	api.Tokens, api.KeyFile, api.Allow = nil, "", nil
	own.API = &api
	return &own
}

// readOnly lets requests through that only read.
func readOnly(next http.Handler, base string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.Method {
		case http.MethodGet, http.MethodHead, http.MethodOptions:
			next.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(path.Clean(r.URL.Path), base+"/") {
			rest.NewProblem(http.StatusForbidden, "the preview only reads; start it with --writes to save, change and delete rows").ServeHTTP(w, r)
			return
		}
		next.ServeHTTP(w, r)
	})
}
