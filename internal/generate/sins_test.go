package generate_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

// previewOf previews a database that a script of testdata made.
func previewOf(t *testing.T, kind, engine string) *service {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "beekeeping")
	address := makeOf(t, kind, engine)
	var out bytes.Buffer
	require.Equal(t, 0, cli.Run([]string{"new", "--url", address, "--folder", folder, "--module", "beekeeping"}, nil, &out, &out), out.String())
	server := newPreview(t, folder, true)
	res, err := http.Get(server.URL + "/openapi.json")
	require.NoError(t, err)
	defer res.Body.Close()
	document, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return &service{t, server.URL, checksOf(t, document), "/openapi.json"}
}

// TestSins serves what real programs leave in their databases.
func TestSins(t *testing.T) {
	for _, engine := range []string{dialects.SQLite, dialects.Postgres, dialects.MySQL} {
		t.Run(engine, func(t *testing.T) {
			s := previewOf(t, "sins", engine)
			doc := s.read()
			for _, path := range doc.collections() {
				s.conform(path, doc)
				s.pageThrough(path, doc)
			}
			for path, p := range doc.Paths {
				if p.Post != nil {
					s.conformExamples(path, doc, true)
				}
			}
			s.defaults("/api/defaults")
		})
	}
}

// pageThrough goes through a collection in several orders, from its beginning to its
// end and back again, and wants each row once.
func (s *service) pageThrough(path string, doc apiDocument) {
	s.t.Helper()
	whole := s.get(path + "?limit=1000").is(200)
	all := sorted(whole.items())
	for _, column := range append(doc.Paths[path].columns(), "") {
		for _, order := range []string{column, "-" + column} {
			at := path + query("limit", "3", "sortby", order)
			if column == "" {
				at = path + "?limit=3"
			}
			first := s.get(at)
			if first.status == 400 && column != "" {
				continue // it cannot be ordered by
			}
			forwards, pages := s.follow(first.is(200), "next", len(all))
			assert.Equal(s.t, all, sorted(forwards), "forwards through %s by %s", path, order)
			last := linkOf(first, "last")
			if last == "" {
				assert.Len(s.t, all, len(first.items()))
				continue
			}
			end := s.get(last).is(200)
			assert.Equal(s.t, forwards[len(forwards)-len(end.items()):], end.items(), "the last page of %s by %s", path, order)
			backwards, _ := s.follow(end, "prev", len(all))
			assert.Equal(s.t, all, sorted(backwards), "backwards through %s by %s", path, order)
			back, _ := s.follow(pages[len(pages)-1], "prev", len(all))
			assert.Equal(s.t, all, sorted(back), "back through %s by %s", path, order)
		}
	}
}

// follow reads the pages that links lead to.
func (s *service) follow(a answer, rel string, most int) (rows []map[string]any, pages []answer) {
	s.t.Helper()
	for range most + 5 {
		rows, pages = append(rows, a.items()...), append(pages, a)
		next := linkOf(a, rel)
		if next == "" {
			return rows, pages
		}
		a = s.get(next).is(200)
	}
	require.Fail(s.t, "pages without an end", "%s", linkOf(a, rel))
	return nil, nil
}

func linkOf(a answer, rel string) string {
	for _, l := range a.header.Values("Link") {
		if target, ok := strings.CutSuffix(l, `>; rel="`+rel+`"`); ok {
			return strings.TrimPrefix(target, "<")
		}
	}
	return ""
}

func sorted(rows []map[string]any) []string {
	list := make([]string, len(rows))
	for i, row := range rows {
		list[i] = fmt.Sprint(row)
	}
	slices.Sort(list)
	return list
}

// defaults stores a row that says nothing, and one by the engine's own SQL: both
// must be the same.
func (s *service) defaults(path string) {
	s.t.Helper()
	mine := s.call("POST", path, `{}`).is(201)
	theirs := s.get(path + "?limit=1").is(200).items()[0]
	for name := range theirs { // where a value is differs from row to row
		if _, alone := mine.body[name]; !alone {
			delete(mine.body, strings.TrimSuffix(name, "_url"))
			delete(theirs, name)
		}
	}
	delete(mine.body, "id")
	delete(theirs, "id")
	assert.Equal(s.t, theirs, mine.body, "a row of defaults")
}

// TestOddValues looks at what SQLite keeps for other programs.
func TestOddValues(t *testing.T) {
	s := previewOf(t, "sins", dialects.SQLite)
	all := s.get("/api/weighings?sortby=id").is(200)
	assert.Contains(t, all.header.Get("Mistyped-Values"), "weighings.weight")
	rows := all.items()
	require.Len(t, rows, 10)
	assert.Equal(t, "heavy", rows[1]["weight"])
	assert.Equal(t, "ten", rows[1]["frames"])
	assert.Equal(t, "soon", rows[5]["seen_at"])
	for i := range 4 {
		assert.Equal(t, "2026-05-01T09:30:00", rows[i]["seen_at"], "row %d", i+1)
	}
	for _, value := range []string{"2026-05-01T09:30:00", "2026-05-01T09:30:00.25", "2026-05-01T08:00:00"} {
		want := 0
		for _, row := range rows {
			if row["seen_at"] == value {
				want++
			}
		}
		found := s.get("/api/weighings" + query("seen_at", value)).is(200)
		assert.Len(t, found.items(), want, value)
		filtered := s.get("/api/weighings" + query("filter", "seen_at = TIMESTAMP('"+value+"Z')")).is(200)
		assert.Len(t, filtered.items(), want, value)
	}
	one := s.get("/api/weighings/2").is(200)
	assert.Equal(t, rows[1], one.body)
	assert.NotEmpty(t, one.header.Get("Mistyped-Values"))
	tag := one.header.Get("ETag")
	changed := s.call("PATCH", "/api/weighings/2", `{"weight":3}`, "If-Match", tag).is(200)
	assert.Equal(t, "3", changed.body["weight"])
	assert.Equal(t, "ten", changed.body["frames"], "what the patch does not speak of stays")
	sums := s.get("/api/weighings/summary?measure=sum(price)").is(200).items()
	assert.Equal(t, 36.75, sums[0]["sum_price"])
	assert.Len(t, s.get("/api/weighings"+query("filter", "frames % 2 = 1 AND id = 5")).is(200).items(), 1, "beyond 2^53")
	for _, key := range []string{";", ".;", "..;", "%2F", "summary;", "a%2Cb%3Bc", "%252F"} {
		s.get("/api/looses/" + key).is(200)
	}
	for _, k := range []string{"", ".", "..", "/", "summary", "~", "a b"} {
		k = "new " + k
		location := s.call("POST", "/api/looses", fmt.Sprintf(`{"k":%q,"v":"x"}`, strings.TrimPrefix(k, "new "))).header.Get("Location")
		if location == "" {
			continue // it is there already
		}
		s.get(location).is(200)
	}
	assert.Len(t, s.get("/api/looses?v=1").is(200).items(), 3, "a whole number, a text and a number with a fraction that look alike")
	s.call("POST", "/api/members", `{"email":"ada@example.org"}`).is(422).blames("password_hash", "is missing")
	made := s.call("POST", "/api/members", `{"email":"ada@example.org","password_hash":"x"}`).is(201)
	assert.NotContains(t, made.text, "password_hash")
	assert.Contains(t, made.body, "passwd_min_length")
	assert.NotContains(t, made.body, "pin")
	s.get("/api/members?password_hash=x").is(400)
	s.call("PATCH", made.header.Get("Location"), `{"password_hash":"y"}`).is(200)
	pair := "/api/pairs/1,"
	patched := s.call("PATCH", pair, `{"extra":{"a":{"b":null,"d":2},"n":1}}`).is(200)
	assert.JSONEq(t, `{"a":{"c":[1,2],"d":2},"n":1}`, jsonOf(t, patched.body["extra"]))
}

func jsonOf(t *testing.T, v any) string {
	t.Helper()
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}
