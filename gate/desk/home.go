package desk

import (
	"cmp"
	"context"
	"net/http"
	"net/url"
	"slices"
	"time"

	"widegate/gate"
)

// group is the resources of one heading.
type group struct {
	Name      string
	Resources []*resource
}

// grouped are resources under their headings, in the order in which those come.
func grouped(resources []*resource) []*group {
	var groups []*group
	for _, r := range resources {
		i := slices.IndexFunc(groups, func(g *group) bool { return g.Name == r.Group })
		if i < 0 {
			i = len(groups)
			groups = append(groups, &group{Name: r.Group})
		}
		groups[i].Resources = append(groups[i].Resources, r)
	}
	return groups
}

// Note is something about a resource that needs attention.
type Note struct {
	Path string // of the resource; empty where it is about no one
	Text string
}

// home lists the resources, by name or by size.
func (v *visit) home() error {
	list, order := v.resources, v.r.URL.Query().Get("sort")
	switch order {
	case "size":
		list = slices.Clone(list)
		slices.SortStableFunc(list, func(a, b *resource) int { return cmp.Compare(b.Rows, a.Rows) })
	case "name":
		list = slices.Clone(list)
		slices.SortStableFunc(list, func(a, b *resource) int { return cmp.Compare(a.Label, b.Label) })
	default:
		order = ""
	}
	groups := grouped(list)
	if order != "" {
		groups = []*group{{Resources: list}}
	}
	sized := slices.ContainsFunc(list, func(r *resource) bool { return r.Rows > 0 })
	return v.show(http.StatusOK, "home", struct {
		frame
		Groups  []*group
		Order   string
		Sized   bool
		Notes   []Note
		Changes bool // some resources tell when their rows changed
	}{v.frame(v.config.Title), groups, order, sized, v.notes(), len(v.changing()) > 0})
}

// notes are those about resources that the reader knows of.
func (v *visit) notes() []Note {
	return slices.DeleteFunc(slices.Clone(v.config.Notes), func(n Note) bool {
		_, err := v.find(n.Path)
		return n.Path != "" && err != nil
	})
}

// changedLately is what the home page shows of recent changes.
const (
	recentTables = 8 // that are looked at, the largest first
	recentRows   = 3 // of each
	recentShown  = 8
	recentTime   = 2 * time.Second // for all of them
)

// changed is a row that was stored lately.
type changed struct {
	Resource *resource
	Name     string
	Href     string
	At       string
}

// stamp is the column that tells when rows were stored, or nil.
func (r *resource) stamp() *column {
	for _, flag := range []gate.Flag{gate.UpdatedAt, gate.CreatedAt} {
		for _, c := range r.columns {
			if c.Is(flag) && c.Sortable() {
				return c
			}
		}
	}
	return nil
}

// changing are the resources whose rows tell when they were stored.
func (v *visit) changing() []*resource {
	list := slices.DeleteFunc(slices.Clone(v.resources), func(r *resource) bool { return r.stamp() == nil || len(r.Keys) == 0 })
	slices.SortStableFunc(list, func(a, b *resource) int { return cmp.Compare(b.Rows, a.Rows) })
	return list[:min(len(list), recentTables)]
}

// sizes are how many rows there are of the resources of which nobody knows. The home
// page asks for them when it is there; what takes too long is left out.
func (v *visit) sizes() error {
	ctx, cancel := context.WithTimeout(v.r.Context(), recentTime)
	defer cancel()
	v.r = v.r.WithContext(ctx)
	counts := map[string]string{}
	for _, r := range v.resources {
		if r.Rows > 0 || !r.Sums {
			continue
		}
		page, err := v.list("/"+r.Path+"/summary", url.Values{"measure": {"count"}})
		if err != nil || len(page.Items) != 1 {
			continue
		}
		counts[r.Path] = thousands(plain(page.Items[0]["count"]))
	}
	return v.sendJSON(counts)
}

// recent is the part of the home page that tells of recent changes. The page asks
// for it when it is there, since a large table without an index takes its time.
func (v *visit) recent() error {
	ctx, cancel := context.WithTimeout(v.r.Context(), recentTime)
	defer cancel()
	v.r = v.r.WithContext(ctx)
	var list []changed
	for _, r := range v.changing() {
		c := r.stamp()
		rows, err := v.list("/"+r.Path, url.Values{"sortby": {"-" + c.Name}, "limit": {"3"}})
		if err != nil {
			continue // it may take too long, or be forbidden
		}
		for _, row := range rows.Items[:min(len(rows.Items), recentRows)] {
			list = append(list, changed{r, r.tell(row), v.rowPath(r, r.keyOf(row)), plain(row[c.Name])})
		}
	}
	slices.SortStableFunc(list, func(a, b changed) int { return cmp.Compare(b.At, a.At) })
	return v.show(http.StatusOK, "recent", struct{ Rows []changed }{list[:min(len(list), recentShown)]})
}
