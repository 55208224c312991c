package generate

import (
	"bytes"
	"context"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/impact"
	"widegate/internal/merge"
	"widegate/internal/model"
	"widegate/internal/render/openapi"
	"widegate/internal/render/typescript"
	"widegate/internal/tscheck"
)

// document is the rendered OpenAPI document, which --only leaves out.
func (plan *Plan) document(name string) []byte {
	if len(plan.options.Only) > 0 {
		return openapi.Render(plan.Model.Seen(), "")
	}
	return plan.files[name].Text
}

// others are the conflicts that are not in the developer's own code.
func (plan *Plan) others(list []merge.Conflict) []merge.Conflict {
	return slices.DeleteFunc(slices.Clone(list), func(c merge.Conflict) bool { return c.Breaks() && !plan.generated(c.File) })
}

var nameWord = regexp.MustCompile(`[\pL\pN_]+`)

// causeOf is the change because of which a query does not hold: one of a name that
// the engine complains about.
func causeOf(text string, changes []catalog.Change) string {
	words := map[string]bool{}
	for _, w := range nameWord.FindAllString(text, -1) {
		words[strings.ToLower(w)] = true
	}
	for _, c := range changes {
		name := c.Name
		if c.Kind == catalog.Renamed {
			name = c.Was
		}
		if c.Kind == catalog.Added || !words[strings.ToLower(name)] || name == "" {
			continue
		}
		if c.In != "" {
			return "; because of " + c.In + ": " + c.Text
		}
		return "; because " + c.Text
	}
	return ""
}

// Meaning is what the plan would change, and what that breaks. It is empty where
// nothing was written before, or nothing is different.
func (plan *Plan) Meaning(ctx context.Context) (*impact.Report, error) {
	r := &impact.Report{
		Changes: []catalog.Change{}, Renames: plan.Renames, Code: []impact.Line{}, Interface: []impact.Line{}, Queries: []string{},
		Uses: impact.Uses(plan.Breaks, plan.symbols.Symbols), Callers: []impact.Use{}, Conflicts: plan.others(plan.Conflicts),
	}
	if plan.Before == nil || plan.Model == nil {
		return r, nil
	}
	r.Changes = append(r.Changes, catalog.Compare(plan.Before, plan.Catalog, plan.Renames...)...)
	for _, fault := range plan.Queries {
		r.Queries = append(r.Queries, fault.Error()+causeOf(fault.Error(), r.Changes))
	}
	if plan.Was == nil {
		return r, nil
	}
	r.Code = append(impact.Code(plan.Was, plan.Model, plan.Renames), plan.functions()...)
	document := path.Join(path.Clean(plan.project.API.Folder), "openapi.json")
	if before := plan.ledger.Base[document]; before != nil {
		var err error
		if r.Interface, err = impact.Clients(plan.Was, plan.Model, before, plan.document(document), plan.Renames); err != nil {
			return nil, err
		}
	}
	return r, plan.callers(ctx, r)
}

// callers adds the places in code of the project that a new client breaks.
func (plan *Plan) callers(ctx context.Context, r *impact.Report) error {
	c := plan.project.Clients.TypeScript
	if c == nil {
		return nil
	}
	folder := path.Clean(c.Folder)
	before, after := map[string][]byte{}, map[string][]byte{}
	for name, text := range plan.ledger.Base {
		if below, in := strings.CutPrefix(name, folder+"/"); in {
			before[below] = text
		}
	}
	for name, f := range plan.files {
		if below, in := strings.CutPrefix(name, folder+"/"); in {
			after[below] = f.Text
		}
	}
	if len(before) == 0 || maps.EqualFunc(before, after, bytes.Equal) {
		return nil
	}
	client := tscheck.Client{Root: plan.home, Folder: folder, Package: path.Base(plan.module.Path()) + "-client"}
	faults, err := client.Breaks(ctx, before, after, gone(plan.Was.Seen(), plan.Model.Seen()))
	for _, f := range faults {
		r.Callers = append(r.Callers, impact.Use{File: f.File, Line: f.Line, Message: f.Message})
	}
	return err
}

// gone are names that a resource had for callers of the service, and has no more.
func gone(was, now *model.Model) []string {
	there := map[string]map[string]bool{} // by table
	for _, e := range now.Entities {
		there[e.Table.FullName()] = called(e)
	}
	lost := map[string]bool{}
	for _, e := range was.Entities {
		for name := range called(e) {
			if !there[e.Table.FullName()][name] {
				lost[name] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(lost))
}

// called are the names by which callers know a resource and what is in it.
func called(e *model.Entity) map[string]bool {
	names := map[string]bool{typescript.Constant(e): true}
	for _, f := range e.Fields {
		names[f.Column.Name] = true
	}
	for _, r := range e.Relations {
		names[r.JSON] = true
	}
	return names
}
