package generate

import (
	"path"
	"regexp"
	"slices"
	"strings"

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
	return r, nil
}
