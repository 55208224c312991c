package rest

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"
)

// Version is an earlier version of the interface, which keeps answering in its
// old shape beside the one of today.
type Version struct {
	Base       string    // before its paths, such as /api/v1
	OpenAPI    []byte    // its document, at Base/openapi.json
	Deprecated time.Time // since when it should not be used any more (RFC 9745)
	Sunset     time.Time // when it goes (RFC 8594)

	Resources map[string]Former // by the path of today; what is not named is as it is today
}

// Former says how a resource was.
type Former struct {
	Path      string            // empty: as today
	Hidden    bool              // it was not there
	Columns   map[string]string // by the name of today, the one it had; empty: it was not there
	Relations map[string]string // the same
	Values    map[string]string // of columns that were not there, what they are in rows stored through the version
}

type versionKey struct{}

// baseFor is what stands before the paths of the version that a request is for.
func (a *API) baseFor(ctx context.Context) string {
	if v, ok := ctx.Value(versionKey{}).(*Version); ok {
		return v.Base
	}
	return a.config.Base
}

func (v *Version) lacks(path, relation string) bool {
	if v == nil {
		return false
	}
	name, ok := v.Resources[path].Relations[relation]
	return ok && name == ""
}

func (v *Version) relationName(path, relation string) string {
	if v != nil {
		if name := v.Resources[path].Relations[relation]; name != "" {
			return name
		}
	}
	return relation
}

// check finds names that mean nothing.
func (v *Version) check(resources []*resource) error {
	for path, former := range v.Resources {
		r := resourceAt(resources, path)
		if r == nil {
			return fmt.Errorf("version %s speaks of %s, which is no resource", v.Base, path)
		}
		for name := range former.Columns {
			if _, ok := r.places[name]; !ok {
				return fmt.Errorf("version %s speaks of the column %s of %s, which is not there", v.Base, name, path)
			}
		}
		for name := range former.Relations {
			if r.relation(name) == nil {
				return fmt.Errorf("version %s speaks of the relation %s of %s, which is not there", v.Base, name, path)
			}
		}
	}
	return nil
}

func resourceAt(list []*resource, path string) *resource {
	for _, r := range list {
		if r.path == path {
			return r
		}
	}
	return nil
}

// dress gives a resource the names that it had in a version.
func (r *resource) dress(v *Version) {
	r.base = v.Base
	former := v.Resources[r.path]
	if former.Path != "" {
		r.path = former.Path
	}
	for i := range r.facets {
		f := &r.facets[i]
		column := r.info.Columns[i].Name
		if value, ok := former.Values[column]; ok {
			f.value = &value
		}
		if name, ok := former.Columns[column]; ok {
			f.hidden = f.hidden || name == ""
			f.secret = f.secret && name != ""
			f.name = name
		}
	}
}

func (rel *relation) rename(name string) {
	rel.name = name
	rel.prefix = memberPrefix(name)
}

// pattern is that of a route in the version; there is none where what it leads
// to was not there.
func (v *Version) pattern(r *resource, pattern string) (string, bool) {
	method, path, _ := strings.Cut(pattern, " ")
	words := strings.Split(path, "/")
	if r == nil || len(words) < 2 || words[1] != r.path {
		return method + " " + v.Base + path, true
	}
	former := v.Resources[r.path]
	if former.Path != "" {
		words[1] = former.Path
	}
	if len(words) > 3 {
		for i := range r.relations {
			rel := &r.relations[i]
			if pathWord(rel.name) != words[3] {
				continue
			}
			if v.lacks(r.path, rel.name) || v.Resources[rel.at.path].Hidden {
				return "", false
			}
			words[3] = pathWord(v.relationName(r.path, rel.name))
			break
		}
	}
	return method + " " + v.Base + strings.Join(words, "/"), !former.Hidden
}

// pathWord is the name of a relation in paths.
func pathWord(name string) string { return strings.ReplaceAll(name, "_", "-") }

// announce tells with each answer of the version that it will go.
func (v *Version) announce(h http.Header, successor string) {
	if !v.Deprecated.IsZero() {
		h.Set("Deprecation", fmt.Sprintf("@%d", v.Deprecated.Unix()))
		h.Add("Link", fmt.Sprintf("<%s>; rel=%q", successor, "successor-version"))
	}
	if !v.Sunset.IsZero() {
		h.Set("Sunset", v.Sunset.UTC().Format(http.TimeFormat))
	}
}
