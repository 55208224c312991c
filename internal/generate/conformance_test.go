package generate_test

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// apiDocument is what the tests below read of an OpenAPI document; they know
// nothing else of the service.
type apiDocument struct {
	Paths      map[string]apiPath `json:"paths"`
	Components struct {
		Parameters map[string]apiParameter `json:"parameters"`
	} `json:"components"`
}

type apiPath struct {
	Parameters               []apiParameter `json:"parameters"`
	Get, Post, Patch, Delete *apiOperation
}

type apiOperation struct {
	Parameters  []apiParameter `json:"parameters"`
	RequestBody struct {
		Content map[string]struct {
			Examples map[string]struct{ Value json.RawMessage }
		}
	}
}

type apiParameter struct {
	Name, Description string
	Ref               string `json:"$ref"`
	Schema            struct {
		Items struct{ Enum []string }
	}
}

func (s *service) read() apiDocument {
	s.t.Helper()
	var doc apiDocument
	require.NoError(s.t, json.Unmarshal([]byte(s.get(s.document).is(200).text), &doc))
	doc.resolve()
	return doc
}

// resolve puts shared parameters where they are referred to.
func (d apiDocument) resolve() {
	for _, p := range d.Paths {
		lists := [][]apiParameter{p.Parameters}
		for _, o := range []*apiOperation{p.Get, p.Post, p.Patch, p.Delete} {
			if o != nil {
				lists = append(lists, o.Parameters)
			}
		}
		for _, list := range lists {
			for i := range list {
				if name, shared := strings.CutPrefix(list[i].Ref, "#/components/parameters/"); shared {
					ref := list[i].Ref
					list[i] = d.Components.Parameters[name]
					list[i].Ref = ref
				}
			}
		}
	}
}

// collections are the paths that list rows and are no relations.
func (d apiDocument) collections() []string {
	var paths []string
	for path, p := range d.Paths {
		if strings.HasPrefix(path, "/api/") && !strings.Contains(path, "{") && !strings.HasSuffix(path, "/summary") && p.Get != nil && p.columns() != nil {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	return paths
}

// columns are the properties that rows of a path have.
func (p apiPath) columns() []string {
	for _, parameter := range p.Get.Parameters {
		if parameter.Name == "properties" {
			return parameter.Schema.Items.Enum
		}
	}
	return nil
}

// chooses reports whether a column can be a parameter.
func (p apiPath) chooses(column string) bool {
	return slices.ContainsFunc(p.Get.Parameters, func(a apiParameter) bool { return a.Name == column && strings.Contains(a.Ref, ".") })
}

// raw sends a request whose answer may be no JSON, and checks it as call does.
func (s *service) raw(path string) (string, *http.Response) {
	s.t.Helper()
	res, err := http.Get(s.base + path)
	require.NoError(s.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(s.t, err)
	require.Equal(s.t, 200, res.StatusCode, "%s: %s", path, text)
	return string(text), res
}

func query(parts ...string) string {
	values := url.Values{}
	for i := 0; i < len(parts); i += 2 {
		values.Set(parts[i], parts[i+1])
	}
	return "?" + values.Encode()
}

// conform holds a collection to its part of the document.
func (s *service) conform(path string, doc apiDocument) {
	s.t.Helper()
	columns := doc.Paths[path].columns()
	if len(columns) == 0 {
		return
	}
	first := s.get(path + query("limit", "1000", "count", "true")).is(200)
	matched := int(first.body["matched"].(float64))
	s.conformFormats(path, columns, matched)
	s.conformPages(path)
	for _, c := range columns {
		s.conformColumn(path, c, doc.Paths[path].chooses(c), first.items(), matched)
	}
	s.get(path + "?no_such_thing=1").is(400).says("there is no parameter")
	s.get(path + "?f=pdf").is(400)
	s.get(path + query("filter", ")")).is(400).says("at character 1")
	s.get(path + query("properties", "no such thing")).is(400)
	s.call("GET", path, "", "Accept", "image/png").is(406)
	s.call("BREW", path, "").is(405)
}

// sameAs holds a row of a list to the row by itself: where the list has the URL of a
// value, that is where the value is.
func (s *service) sameAs(listed, alone map[string]any, what string) {
	s.t.Helper()
	listed, alone = maps.Clone(listed), maps.Clone(alone)
	for name, at := range listed {
		own := strings.TrimSuffix(strings.TrimSuffix(name, "_url"), "Url")
		value, there := alone[own]
		if _, both := alone[name]; both || own == name || !there {
			continue
		}
		if at != nil {
			text, res := s.raw(at.(string))
			assert.Equal(s.t, 200, res.StatusCode, at)
			assert.Equal(s.t, value, base64.StdEncoding.EncodeToString([]byte(text)), at)
		} else {
			assert.Nil(s.t, value, "%s of %s", own, what)
		}
		delete(listed, name)
		delete(alone, own)
	}
	assert.Equal(s.t, listed, alone, what)
}

func (s *service) conformFormats(path string, columns []string, matched int) {
	s.t.Helper()
	text, res := s.raw(path + "?f=ndjson&limit=none")
	assert.Equal(s.t, "application/x-ndjson", res.Header.Get("Content-Type"))
	assert.Equal(s.t, matched, strings.Count(text, "\n"), path)
	for line := range strings.Lines(text) {
		require.True(s.t, json.Valid([]byte(line)), "%s: %s", path, line)
	}
	text, res = s.raw(path + "?f=csv&limit=none")
	assert.Contains(s.t, res.Header.Get("Content-Type"), "text/csv")
	records, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(s.t, err, path)
	for i, name := range records[0] {
		if name == columns[i]+"_url" || name == columns[i]+"Url" {
			records[0][i] = columns[i] // in lists URLs stand in place of binary values
		}
	}
	assert.Equal(s.t, columns, records[0])
	assert.Len(s.t, records, matched+1, path)
	text, _ = s.raw(path + "?f=xml")
	decoder := xml.NewDecoder(strings.NewReader(text))
	for {
		if _, err = decoder.Token(); err != nil {
			break
		}
	}
	assert.ErrorIs(s.t, err, io.EOF, path)
}

// conformPages goes through pages and back again.
func (s *service) conformPages(path string) {
	s.t.Helper()
	var pages []string
	at := path + "?limit=2"
	var last answer
	for at != "" && len(pages) < 4 {
		last = s.get(at).is(200)
		pages = append(pages, fmt.Sprint(last.items()))
		at = linkOf(last, "next")
	}
	for i := len(pages) - 2; i >= 0; i-- {
		before := linkOf(last, "prev")
		if before == "" && i == 0 && !strings.Contains(fmt.Sprint(last.header["Link"]), "after") {
			return // rows without a key have no way back
		}
		if before == "" {
			return
		}
		last = s.get(before).is(200)
		assert.Equal(s.t, pages[i], fmt.Sprint(last.items()), "back to page %d of %s", i, path)
	}
}

func (s *service) conformColumn(path, column string, chooses bool, rows []map[string]any, matched int) {
	s.t.Helper()
	for _, item := range s.get(path + query("properties", column)).is(200).items() {
		assert.Len(s.t, item, 1)
		assert.Contains(s.t, item, column)
	}
	name := `"` + strings.ReplaceAll(column, `"`, `""`) + `"`
	both := s.get(path + query("filter", name+" IS NULL OR NOT ("+name+" IS NULL)", "count", "true", "limit", "1")).is(200)
	assert.EqualValues(s.t, matched, both.body["matched"], "%s of %s", column, path)
	if !chooses {
		refused := s.get(path + query(column, "x"))
		assert.Equal(s.t, 400, refused.status, "%s of %s: %s", column, path, refused.text)
		return
	}
	sortable := s.get(path + query("sortby", "-"+column, "limit", "3"))
	if sortable.status == 200 && !strings.Contains(column, ",") {
		groups := s.get(path + "/summary" + query("by", column, "measure", "count", "limit", "1000")).is(200).items()
		sum := 0.0
		for _, g := range groups {
			sum += g["count"].(float64)
		}
		assert.EqualValues(s.t, matched, sum, "groups by %s of %s", column, path)
	}
	for _, row := range rows[:min(2, len(rows))] {
		s.conformValue(path, column, name, row[column])
	}
}

// conformValue asks for the rows that have a value, in three ways.
func (s *service) conformValue(path, column, name string, value any) {
	s.t.Helper()
	if len(fmt.Sprint(value)) > 2000 {
		return // longer than a URL may be
	}
	literal := "'" + strings.ReplaceAll(fmt.Sprint(value), "'", "''") + "'"
	text := fmt.Sprint(value)
	switch v := value.(type) {
	case nil, map[string]any, []any:
		return
	case float64:
		if v != float64(int64(v)) || v > 1<<53 || v < -(1<<53) {
			return // what is read here is not exact
		}
		text = fmt.Sprintf("%.0f", v)
		literal = text
	case bool:
		literal = strings.ToUpper(text)
	}
	plain := s.get(path + query(column, text, "count", "true", "limit", "1"))
	odd := s.get(path+"?limit=1000").header.Get("Mistyped-Values") != ""
	if plain.status == 400 && odd {
		return // what is stored is no value of the column
	}
	plain.is(200)
	if plain.body["matched"] == 0.0 {
		return // NaN and the like are equal to nothing on some engines
	}
	filtered := s.get(path + query("filter", name+" = "+literal, "count", "true", "limit", "1"))
	if filtered.status == 400 && literal[0] == '\'' { // numbers that are strings in JSON
		filtered = s.get(path + query("filter", name+" = "+text, "count", "true", "limit", "1"))
	}
	if filtered.status == 400 && odd {
		return
	}
	assert.Equal(s.t, plain.body["matched"], filtered.is(200).body["matched"], "%s = %s of %s", column, literal, path)
	tree, err := json.Marshal(map[string]any{"op": "=", "args": []any{map[string]any{"property": column}, json.RawMessage(jsonLiteral(literal, value))}})
	require.NoError(s.t, err)
	inJSON := s.get(path + query("filter-lang", "cql2-json", "filter", string(tree), "count", "true", "limit", "1"))
	if inJSON.status == 200 {
		assert.Equal(s.t, plain.body["matched"], inJSON.body["matched"])
	}
}

func jsonLiteral(literal string, value any) []byte {
	if literal[0] != '\'' {
		return []byte(strings.ToLower(literal))
	}
	text, _ := json.Marshal(value)
	return text
}

// keyOf is the key of a row in a path, by the description of the parameter.
func (p apiPath) keyOf(row map[string]any) string {
	columns := strings.Split(strings.TrimSuffix(afterLast(p.Parameters[0].Description, ": "), "."), ",")
	var parts []string
	for _, c := range columns {
		parts = append(parts, strings.ReplaceAll(url.PathEscape(textOf(row[c])), "+", "%2B"))
	}
	return strings.Join(parts, ",")
}

// conformExamples sends each example of a path's requests, and does with the
// row that comes of it what the document says can be done.
func (s *service) conformExamples(path string, doc apiDocument, must bool) {
	s.t.Helper()
	at := path
	collection, under, ok := strings.Cut(path, "/{key}")
	if ok {
		rows := s.get(collection + "?limit=1").is(200).items()
		if len(rows) == 0 {
			return
		}
		at = collection + "/" + doc.Paths[collection+"/{key}"].keyOf(rows[0]) + under
	}
	for name, example := range doc.Paths[path].Post.RequestBody.Content["application/json"].Examples {
		a := s.call("POST", at, string(example.Value))
		if a.status == 409 || !must && a.status == 422 { // the row 1 has one already, say
			continue
		}
		if !must && a.status == 500 && brokenInSQLite(path) {
			continue
		}
		a.is(201)
		location := a.header.Get("Location")
		if location == "" {
			continue
		}
		read := s.get(location).is(200)
		embeds := false
		for member := range a.body {
			if _, own := read.body[member]; !own {
				delete(a.body, member)
				embeds = true
			}
		}
		assert.Equal(s.t, a.body, read.body, "%s of %s", name, path)
		tag := read.header.Get("ETag")
		assert.Equal(s.t, tag, a.header.Get("ETag"))
		assert.Equal(s.t, 304, s.call("GET", location, "", "If-None-Match", tag).status)
		s.call("PATCH", location, `{}`, "If-Match", `"other"`).is(412)
		s.call("PATCH", location, `{}`, "If-Match", tag).is(200)
		s.call("PATCH", location, `[]`, "Content-Type", "application/json-patch+json", "If-Match", tag).is(200)
		s.call("DELETE", location, "", "If-Match", `W/`+tag).is(412)
		s.call("DELETE", location, "", "If-Match", tag).is(204)
		s.get(location).is(404)
		if embeds {
			continue // what was embedded is still there
		}
		many := s.call("POST", at, "["+string(example.Value)+"]").is(201)
		require.Len(s.t, many.items(), 1)
		base := location[:strings.LastIndex(location, "/")]
		s.call("DELETE", base+"/"+doc.Paths[base+"/{key}"].keyOf(many.items()[0]), "").is(204)
	}
}

// brokenInSQLite are tables of the torture schema that SQLite itself refuses to
// store rows in: their references lead to columns that are no keys.
func brokenInSQLite(path string) bool {
	for _, name := range []string{"computed-only", "wrong-targets", "lost", "not-unique"} {
		if strings.Contains(path, name) {
			return true
		}
	}
	return false
}

// testConformance holds the demo's service to its own document.
func testConformance(t *testing.T, s *service) {
	doc := s.read()
	require.Greater(t, len(doc.collections()), 10)
	for _, path := range doc.collections() {
		s.conform(path, doc)
	}
	sent := 0
	for path, p := range doc.Paths {
		if p.Post != nil {
			s.conformExamples(path, doc, true)
			sent++
		}
	}
	assert.Greater(t, sent, 20)
}

// testExports streams more than fits into a buffer.
func testExports(t *testing.T, s *service) {
	var lines bytes.Buffer
	for i := range 3000 {
		fmt.Fprintf(&lines, `{"hive_id":2,"keeper_id":1,"done_on":"%s","notes":"%s"}`+"\n", time.Unix(int64(i)*86400, 0).UTC().Format(time.DateOnly), strings.Repeat("bees ", 20))
	}
	s.call("POST", "/api/inspections", lines.String(), "Content-Type", "application/x-ndjson", "Prefer", "return=minimal").is(201)
	text, res := s.raw("/api/inspections?limit=none&f=ndjson")
	assert.Greater(t, strings.Count(text, "\n"), 3000)
	assert.Equal(t, []string{"chunked"}, res.TransferEncoding)
	for line := range strings.Lines(text) {
		require.True(t, json.Valid([]byte(line)))
	}
}
