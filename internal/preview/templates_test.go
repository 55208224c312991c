package preview

import (
	"errors"
	"html/template"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/model"
)

// told are trials that give what they are told to.
type told struct {
	names []string
	trial Trial
	err   error
	asked []any
}

func (f *told) Names() ([]string, error) { return f.names, nil }

func (f *told) Try(_ *http.Request, name, table string, diff bool) (Trial, error) {
	f.asked = []any{name, table, diff}
	return f.trial, f.err
}

func TestPageOfTemplates(t *testing.T) {
	m := &model.Model{Entities: []*model.Entity{{Table: &catalog.Table{Name: "apiary"}}, {Table: &catalog.Table{Name: "hive", Schema: "field"}}}}
	trials := &told{names: []string{"entity.go", "tables"}, trial: Trial{File: "templates/tables.tmpl", Text: "one\n<b>two</b>\n", Files: []Tried{{"docs/hive.md", "<script>alert(1)</script>"}}}}
	mux := http.NewServeMux()
	addTrials(mux, func(_ string, content func(r *http.Request) template.HTML) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write([]byte(content(r))) }
	}, m, trials)
	get := func(path string) string {
		t.Helper()
		w := httptest.NewRecorder()
		mux.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		require.Equal(t, http.StatusOK, w.Code)
		return w.Body.String()
	}

	page := get("/templates")
	assert.Equal(t, []any{"tables", "apiary", false}, trials.asked, "the project's own template, on the first table")
	assert.Contains(t, page, `<option selected>tables</option>`)
	assert.Contains(t, page, `<option>field.hive</option>`)
	assert.Contains(t, page, "&lt;b&gt;two&lt;/b&gt;")
	assert.Contains(t, page, "&lt;script&gt;alert(1)&lt;/script&gt;")

	part := get("/templates/trial?template=entity.go&table=field.hive&diff=1")
	assert.Equal(t, []any{"entity.go", "field.hive", true}, trials.asked)
	assert.NotContains(t, part, "<form")
	assert.Contains(t, part, "<h2>docs/hive.md</h2>")

	trials.err = errors.Join(fault.New("use one of Name", "templates/tables.tmpl:2:5: Entity has no Nmae"))
	trials.trial.Files = nil
	page = get("/templates?template=tables")
	assert.Contains(t, page, `<li class="faulty-line"><code>&lt;b&gt;two&lt;/b&gt;</code></li>`)
	assert.Contains(t, page, "Entity has no Nmae")
	assert.Contains(t, page, "Next: use one of Name")

	trials.err = nil
	for range mostTried + 3 {
		trials.trial.Files = append(trials.trial.Files, Tried{Path: "a"})
	}
	assert.Contains(t, get("/templates?template=tables"), "and 3 files more")
	assert.Contains(t, get("/templates.js"), "setInterval")
	assert.Contains(t, get("/templates.css"), ".faulty-line")
}
