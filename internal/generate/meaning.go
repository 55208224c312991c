package generate

import (
	"path"
	"slices"

	"widegate/internal/catalog"
	"widegate/internal/impact"
	"widegate/internal/merge"
	"widegate/internal/render/openapi"
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

// Meaning is what the plan would change, and what that breaks. It is empty where
// nothing was written before, or nothing is different.
func (plan *Plan) Meaning() (*impact.Report, error) {
	r := &impact.Report{
		Changes: []catalog.Change{}, Renames: plan.Renames, Code: []impact.Line{}, Interface: []impact.Line{}, Queries: []string{},
		Uses: impact.Uses(plan.Breaks, plan.symbols.Symbols), Conflicts: plan.others(plan.Conflicts),
	}
	if plan.Before == nil || plan.Model == nil {
		return r, nil
	}
	r.Changes = append(r.Changes, catalog.Compare(plan.Before, plan.Catalog, plan.Renames...)...)
	for _, fault := range plan.Queries {
		r.Queries = append(r.Queries, fault.Error())
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
	return r, nil
}
