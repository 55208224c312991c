package preview_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/model"
	"widegate/internal/preview"
	"widegate/internal/testdb/dialects"
)

// TestRelatedRowsOfLists asks for lists with random trees of related rows, and for
// each row by itself with the same tree: a list writes related rows as it reads
// them, a row by itself comes by entities.
func TestRelatedRowsOfLists(t *testing.T) {
	for _, engine := range []string{dialects.SQLite, dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			s := demo(t, engine)
			r := rand.New(rand.NewPCG(7, 11))
			rows, related := 0, 0
			for range 150 {
				e := s.Model.Entities[r.IntN(len(s.Model.Entities))]
				if len(e.Relations) == 0 || len(e.Key) == 0 || hasContent(e) {
					continue
				}
				with := url.QueryEscape(randomTree(r, e, 1+r.IntN(3)))
				query := fmt.Sprintf("?limit=%d&with=%s", 1+r.IntN(12), with)
				var list struct{ Items []json.RawMessage }
				get(t, s, "/api/"+e.Path+query+randomOrder(r, e), &list)
				for _, item := range list.Items {
					var row json.RawMessage
					get(t, s, "/api/"+e.Path+"/"+keyOf(t, e, item)+"?with="+with, &row)
					assert.Equal(t, string(row), string(item), "%s%s", e.Path, query)
					rows++
					related += strings.Count(string(item), "{") - 1
				}
			}
			compareForms(t, s)
			assert.Greater(t, rows, 300)
			assert.Greater(t, related, 1000)
		})
	}
}

// compareForms asks for rows by themselves, as they are and by their form: the one
// is written as it is read, the other comes by an entity.
func compareForms(t *testing.T, s *preview.Service) {
	compared := 0
	for _, e := range s.Model.Entities {
		if len(e.Key) == 0 {
			continue
		}
		var list struct{ Items []json.RawMessage }
		get(t, s, "/api/"+e.Path+"?limit=20", &list)
		for _, item := range list.Items {
			at := "/api/" + e.Path + "/" + keyOf(t, e, item)
			plain, formed := httptest.NewRecorder(), httptest.NewRecorder()
			s.ServeHTTP(plain, httptest.NewRequest("GET", at, nil))
			s.ServeHTTP(formed, httptest.NewRequest("GET", at+"?f=json", nil))
			require.Equal(t, 200, plain.Code, "%s: %s", at, plain.Body)
			assert.Equal(t, formed.Body.String(), plain.Body.String(), at)
			assert.Equal(t, formed.Header(), plain.Header(), at)
			compared++
		}
	}
	assert.Greater(t, compared, 100)
}

func get(t *testing.T, s *preview.Service, target string, to any) {
	t.Helper()
	w := httptest.NewRecorder()
	s.ServeHTTP(w, httptest.NewRequest("GET", target, nil))
	require.Equal(t, 200, w.Code, "%s: %s", target, w.Body)
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), to), target)
}

// randomTree names some relations, some of them narrowed, some with relations of
// theirs.
func randomTree(r *rand.Rand, e *model.Entity, depth int) string {
	var parts []string
	for _, n := range r.Perm(len(e.Relations))[:1+r.IntN(min(3, len(e.Relations)))] {
		rel := e.Relations[n]
		part := rel.JSON
		if rel.Kind != model.ToOne && r.IntN(2) == 0 {
			part += fmt.Sprintf("(limit:%d;sortby:-%s)", 1+r.IntN(4), rel.To.Fields[0].Column.Name)
		}
		if depth > 1 && len(rel.To.Relations) > 0 && r.IntN(2) == 0 {
			for _, nested := range strings.Split(randomTree(r, rel.To, depth-1), ",") {
				if !strings.ContainsAny(nested, ";)") || strings.Count(nested, "(") == strings.Count(nested, ")") {
					parts = append(parts, part+"."+nested)
				}
			}
			continue
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, ",")
}

// hasContent reports whether lists show URLs in place of values.
func hasContent(e *model.Entity) bool {
	return slices.ContainsFunc(e.Fields, func(f *model.Field) bool { return f.Content != nil })
}

func randomOrder(r *rand.Rand, e *model.Entity) string {
	f := e.Fields[r.IntN(len(e.Fields))]
	if r.IntN(2) == 0 || f.Kind == model.KindJSON || f.Kind == model.KindList {
		return ""
	}
	return "&sortby=-" + f.Column.Name
}

// keyOf is the key of a row as it stands in a path.
func keyOf(t *testing.T, e *model.Entity, item []byte) string {
	var row map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(item, &row))
	parts := make([]string, len(e.Key))
	for i, f := range e.Key {
		text := strings.Trim(string(row[f.Column.Name]), `"`)
		parts[i] = url.PathEscape(text)
	}
	return strings.Join(parts, ",")
}
