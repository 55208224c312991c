package generate_test

import (
	"bytes"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

// TestServiceWithOptions serves the demo with what the project file can switch on,
// on three engines, beside a preview of the same.
func TestServiceWithOptions(t *testing.T) {
	for engine := range engines {
		t.Run(engine, func(t *testing.T) {
			folder := makeDemo(t, engine)
			addTo(t, folder, `
  bulk: 20
  limits: {page: 10, rows: 1000}
  expose: {BestApiaries: [], SearchHives: [], HivesOfKeepers: [], LastInspection: [], CloseHives: []}
  versions: {v1: {entities: {hive: {path: boxes, columns: {weight_kg: {name: grams}}}}}}
entities:
  keeper: {bulk: 0}
  inspection_photo: {columns: {photo: {media: image/*, most: 4096}}}
`)
			s := startService(t, folder)
			p := newPreview(t, folder, true)
			for _, part := range []struct {
				name string
				test func(t *testing.T, s *service)
			}{
				{"preview", func(t *testing.T, s *service) { testPreview(t, s, p.URL) }}, {"queries", testQueries}, {"many", testMany}, {"contents", testContents}, {"conformance", testConformance},
			} {
				t.Run(part.name, func(t *testing.T) { part.test(t, &service{t, s.base, s.checks, s.document}) })
			}
		})
	}
}

// testMany changes and removes many rows at once.
func testMany(t *testing.T, s *service) {
	assert.Len(t, s.get("/api/hives").is(200).items(), 10)
	s.get("/api/hives?limit=1001").is(400).says("from 1 to 1000")
	s.call("PATCH", "/api/hives", `{"frames":11}`).is(400).says("say which rows")
	s.call("PATCH", "/api/hives?filter=id%3E0", `{"frames":11}`).is(400).says("more than 20")
	s.call("PATCH", "/api/hives?filter=id%3E0", `{"frames":99}`).is(422).blames("frames", "at most 40")
	calm := s.get("/api/hives?count=true&limit=1&filter=apiary.id=1").is(200).body["matched"]
	assert.Equal(t, calm, s.call("PATCH", "/api/hives?filter=apiary.id=1", `{"frames":11,"weight_kg":null}`).is(200).body["count"])
	for _, h := range s.get("/api/hives?apiary_id=1&limit=100").is(200).items() {
		assert.EqualValues(t, 11, h["frames"])
		assert.Nil(t, h["weight_kg"])
	}
	s.call("PATCH", "/api/hives?filter=apiary_id=1", `{"name":"one for all"}`).is(409)
	s.call("PATCH", "/api/hives?filter=id=1", `{"apiary_id":9999}`).is(422).blames("apiary_id", "no such row")
	s.call("DELETE", "/api/apiaries?filter=id=1", "").is(409)
	before := s.get("/api/treatments?count=true&limit=1").is(200).body["matched"].(float64)
	gone := s.call("DELETE", "/api/treatments?hive_id=1&hive_id=2&hive_id=3", "").is(200).body["count"].(float64)
	assert.NotZero(t, gone)
	assert.Equal(t, before-gone, s.get("/api/treatments?count=true&limit=1").is(200).body["matched"])
	s.call("DELETE", "/api/keepers?filter=id=1", "").is(405)
	s.call("DELETE", "/api/batch-harvests?filter=batch_id=1", "").is(200)
}

// testContents stores pictures as they are.
func testContents(t *testing.T, s *service) {
	const at = "/api/inspection-photos/1/photo"
	first := s.get(at).is(200)
	assert.Equal(t, "image/png", first.header.Get("Content-Type"))
	assert.True(t, strings.HasPrefix(first.text, "\x89PNG"))
	s.call("PUT", at, "text", "Content-Type", "text/plain").is(415).says("image/*")
	s.call("PUT", at, strings.Repeat("x", 5000), "Content-Type", "image/gif").is(413)
	s.call("PUT", at, "GIF89a\x00\xff", "Content-Type", "image/gif", "If-Match", first.header.Get("ETag")).is(204)
	s.call("PUT", at, "GIF89a", "Content-Type", "image/gif", "If-Match", first.header.Get("ETag")).is(412)
	again := s.get(at).is(200)
	assert.Equal(t, "GIF89a\x00\xff", again.text)
	assert.Equal(t, "image/gif", again.header.Get("Content-Type"))
	assert.Equal(t, "image/gif", s.get("/api/inspection-photos/1").body["media_type"])
	s.call("DELETE", at, "").is(405)
}

// TestCamelCase spells everything in the other way, and tries it all.
func TestCamelCase(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, `
  names: camel
  expose: {BestApiaries: [], SearchHives: []}
  versions: {v1: {entities: {hive: {columns: {weight_kg: {name: grams}}}}}}
`)
	s := startService(t, folder)
	row := s.get("/api/hives/40?with=splitFrom,sensorReadings").is(200)
	for _, name := range []string{"apiaryId", "weightKg", "splitFrom", "sensorReadings", "isActive"} {
		assert.Contains(t, row.body, name)
	}
	assert.NotContains(t, row.text, "_id")
	s.get("/api/hives/40/split-from").is(200)
	s.get("/api/hives?apiaryId=1&sortby=-weightKg&filter=splitFrom.apiaryId%20IS%20NULL").is(200)
	s.get("/api/hives?apiary_id=1").is(400)
	s.call("POST", "/api/hives", `{"apiaryId":1,"name":"x","frames":99}`).is(422).blames("frames", "at most 40")
	s.call("POST", "/api/hives", `{"apiary_id":1,"name":"x"}`).is(422).blames("apiaryId", "missing")
	s.call("POST", "/api/hives", `{"apiaryId":1,"name":"Hive 1"}`).is(409).says("apiaryId, name")
	assert.Contains(t, s.get("/api/queries/search-hives?most=1").is(200).items()[0]["hive"], "apiaryId")
	testConformance(t, s)
	old := &service{t, s.base, newChecks(t, filepath.Join(folder, "api", "openapi-v1.json")), "/api/v1/openapi.json"}
	was := old.get("/api/v1/hives/1").is(200).body
	assert.Contains(t, was, "grams")
	assert.Contains(t, was, "apiaryId")

	var out, complaints bytes.Buffer
	require.Equal(t, 0, cli.Run([]string{"read", "hive", "--curl", "--config", filepath.Join(folder, "widegate.yaml")}, nil, &out, &complaints), complaints.String())
	post := strings.Split(out.String(), "\n")[slices.IndexFunc(strings.Split(out.String(), "\n"), func(l string) bool { return strings.Contains(l, "-X POST") })]
	status, err := exec.Command("sh", "-c", strings.Replace(post, "localhost:8080", strings.TrimPrefix(s.base, "http://"), 1)+" -s -o /dev/null -w '%{http_code}'").Output()
	require.NoError(t, err)
	assert.Equal(t, "201", string(status), post)
}
