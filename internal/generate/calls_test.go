package generate_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

// testQueries calls the named queries of the demo over HTTP.
func testQueries(t *testing.T, s *service) {
	best := s.get("/api/queries/best-apiaries?since=2020-01-01").is(200).items()
	require.NotEmpty(t, best)
	assert.IsType(t, "", best[0]["total"], "a sum may have any number of digits")
	found := s.get("/api/queries/search-hives?most=3&sort=heaviest&temperament=calm").is(200).items()
	require.Len(t, found, 3)
	assert.Equal(t, "calm", found[0]["hive"].(map[string]any)["temperament"])
	assert.Equal(t, found[0]["hive"].(map[string]any)["apiary_id"], found[0]["apiary"].(map[string]any)["id"])
	assert.Equal(t, s.get("/api/hives/"+textOf(found[0]["hive"].(map[string]any)["id"])).body, found[0]["hive"])
	assert.Empty(t, s.get("/api/queries/hives-of-keepers").is(200).items())
	assert.NotEmpty(t, s.get("/api/queries/hives-of-keepers?keepers=1&keepers=2&keepers=3&keepers=4").is(200).items())
	s.get("/api/queries/last-inspection?hive_id=1").is(200)
	s.get("/api/queries/last-inspection?hive_id=99999").is(404)
	s.get("/api/queries/last-inspection").is(400).blames("hive_id", "is missing")
	s.get("/api/queries/best-apiaries?since=soon").is(400).blames("since", "date")
	s.get("/api/queries/best-apiaries?since=2020-01-01&until=2").is(400).says("there is no parameter")
	s.get("/api/queries/search-hives?most=1&sort=id;drop+table+hive").is(400).blames("sort", "name, heaviest")
	s.get("/api/queries/search-hives?most=1&temperament=angry").is(400).blames("temperament", "calm, nervous, fierce")
	s.get("/api/queries/close-hives?apiary_id=1").is(405)
	assert.NotZero(t, s.call("POST", "/api/queries/close-hives", `{"apiary_id":1}`).is(200).body["count"])
	assert.Zero(t, s.call("POST", "/api/queries/close-hives", `{"apiary_id":1}`).is(200).body["count"])
	s.call("POST", "/api/queries/close-hives", `{"apiary_id":"one","x":1}`).is(422).blames("apiary_id", "whole number").blames("x", "no such argument")
	s.call("POST", "/api/queries/close-hives", "").is(415)
	lines, _ := s.raw("/api/queries/best-apiaries?since=2020-01-01&f=ndjson")
	assert.Equal(t, len(best), strings.Count(lines, "\n"))
	s.get("/api/queries/best-apiaries?since=2020-01-01&f=csv").is(400)
	batch := s.call("POST", "/api/batch", `{"calls":[{"method":"POST","path":"/queries/close-hives","body":{"apiary_id":2}},{"method":"GET","path":"/queries/best-apiaries?since=2020-01-01"}]}`).is(200)
	assert.Contains(t, batch.text, `"count"`)
}

// testRoutines calls functions and procedures of the database.
func testRoutines(t *testing.T, s *service, engine string) {
	switch engine {
	case dialects.Postgres:
		assert.EqualValues(t, 5, s.get("/api/routines/add-up?a=2&b=3").is(200).body["value"])
		assert.EqualValues(t, 5, s.call("POST", "/api/routines/add-up", `{"a":2,"b":3}`).is(200).body["value"])
		assert.NotEmpty(t, s.get("/api/routines/list-hives?lowest=0").is(200).items())
		assert.EqualValues(t, 7, s.call("POST", "/api/routines/do-nothing", `{"n":7}`).is(200).body["n"])
		s.get("/api/routines/do-nothing?n=7").is(405)
		s.get("/api/routines/add-up?a=2147483647&b=1").is(422)
		s.get("/api/routines/add-up?a=2").is(400).blames("b", "is missing")
	case dialects.MySQL:
		assert.EqualValues(t, "5.50", s.get("/api/routines/add-up?a=2&b=3.5").is(200).body["value"])
		s.call("POST", "/api/routines/nothing", "").is(415)
		s.call("POST", "/api/routines/nothing", "", "Content-Type", "application/x-www-form-urlencoded").is(415)
		s.call("POST", "/api/routines/nothing", "", "Content-Type", "application/json").is(204)
		assert.Equal(t, map[string]any{"b": 4.0, "c": "xyz"}, s.call("POST", "/api/routines/swap", `{"a":4,"c":"xyz"}`).is(200).body)
	}
}

// TestBadExposure names what is no function.
func TestBadExposure(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	file := filepath.Join(folder, "widegate.yaml")
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	for text, fault := range map[string]string{"{BestApiares: []}": "did you mean BestApiaries?", "{BestApiaries: [keeper]}": "asks for no credentials"} {
		require.NoError(t, os.WriteFile(file, append(before, []byte("\n  expose: "+text+"\n")...), 0o644))
		var out strings.Builder
		assert.NotEqual(t, 0, cli.Run([]string{"write", "--config", file}, nil, &out, &out))
		assert.Contains(t, out.String(), fault)
	}
}
