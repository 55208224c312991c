package generate_test

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

// addTo appends to the project file of a folder, whose last part is api, and
// writes the code again.
func addTo(t *testing.T, folder, text string) {
	t.Helper()
	file := filepath.Join(folder, "widegate.yaml")
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(before, []byte(text)...), 0o644))
	var out strings.Builder
	require.Equal(t, 0, cli.Run([]string{"write", "--yes", "--config", file}, nil, &out, &out), out.String())
}

// TestVersions serves a version in which hives were boxes, with columns of other
// names, beside the one of today.
func TestVersions(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, `
  versions:
    v1:
      deprecated: 2026-06-01
      sunset: 2027-06-30
      entities:
        hive:
          path: boxes
          columns:
            frames: {name: strength}
            split_from_id: {name: parent_id}
            acquired_on: {hidden: true, value: 2020-01-01}
          relations: {split_from: {name: parent}, splits: {name: children}, treatments: {hidden: true}}
        harvest: {hidden: true}
clients: {typescript: {folder: clients/typescript, version: v1}}
`)
	today := startService(t, folder)
	former := *today
	former.document, former.checks = "/api/v1/openapi.json", newChecks(t, filepath.Join(folder, "api", "openapi-v1.json"))
	s := &former

	now, then := today.get("/api/hives?with=split_from").is(200).items(), s.get("/api/v1/boxes?with=parent").is(200)
	require.NotEmpty(t, now)
	for i, row := range then.items() {
		assert.Equal(t, now[i]["frames"], row["strength"])
		assert.Equal(t, now[i]["split_from_id"], row["parent_id"])
		for _, name := range []string{"frames", "split_from_id", "acquired_on", "split_from"} {
			assert.NotContains(t, row, name)
		}
		if from, ok := now[i]["split_from"].(map[string]any); ok {
			assert.Equal(t, from["frames"], row["parent"].(map[string]any)["strength"], "what is embedded has its former names too")
		}
	}
	assert.Equal(t, "@1780272000", then.header.Get("Deprecation"))
	assert.Equal(t, "Wed, 30 Jun 2027 00:00:00 GMT", then.header.Get("Sunset"))
	assert.Contains(t, strings.Join(then.header.Values("Link"), ", "), `</api>; rel="successor-version"`)
	assert.Empty(t, today.get("/api/hives").is(200).header.Get("Sunset"))

	made := s.call("POST", "/api/v1/boxes", `{"apiary_id":1,"name":"An old client's","strength":7}`).is(http.StatusCreated)
	assert.True(t, strings.HasPrefix(made.header.Get("Location"), "/api/v1/boxes/"), made.header.Get("Location"))
	stored := today.get(strings.Replace(made.header.Get("Location"), "/api/v1/boxes", "/api/hives", 1)).is(200)
	assert.Equal(t, "2020-01-01", stored.body["acquired_on"])
	assert.EqualValues(t, 7, stored.body["frames"])
	today.call("PATCH", strings.Replace(made.header.Get("Location"), "/api/v1/boxes", "/api/hives", 1), `{"acquired_on":"2026-05-05"}`).is(200)
	s.call("PUT", made.header.Get("Location"), `{"apiary_id":1,"name":"Replaced","strength":8}`).is(200)
	assert.Equal(t, "2026-05-05", today.get(strings.Replace(made.header.Get("Location"), "/api/v1/boxes", "/api/hives", 1)).body["acquired_on"], "what a version does not know stays as it is")

	s.call("POST", "/api/v1/boxes", `{"apiary_id":1,"name":"x","frames":7}`).is(422).blames("frames", "no such property")
	s.call("POST", "/api/v1/boxes", `{"apiary_id":1,"name":"x","strength":"many"}`).is(422).blames("strength", "whole number")
	s.get("/api/v1/hives").is(404)
	s.get("/api/v1/harvests").is(404)
	s.get("/api/v1/boxes?with=harvests").is(400).says("no relation")
	s.get("/api/v1/boxes/1/harvests").is(404)
	s.get("/api/v1/boxes/1/treatments").is(404)
	split := s.get("/api/v1/boxes?filter=parent_id+IS+NOT+NULL&limit=1").items()[0]
	s.get(fmt.Sprintf("/api/v1/boxes/%v/parent", split["id"])).is(200)
	s.get("/api/v1/boxes?filter=parent.strength+%3E+1&sortby=parent.strength").is(200)
	s.get("/api/v1/boxes/summary?by=parent.name&measure=max(strength)").is(200)
	batch := s.call("POST", "/api/v1/batch", `{"calls":[{"method":"PATCH","path":"/boxes/1","body":{"strength":11}}]}`).is(200)
	assert.Contains(t, batch.text, `"strength":11`)
	testConformance(t, s)

	script := filepath.Join(t.TempDir(), "former.mjs")
	require.NoError(t, os.WriteFile(script, []byte(`const { connect } = await import("file://" + process.argv[2] + "/dist/index.js");
const bees = connect({ url: process.argv[3], report: (list) => console.log(list) });
const { items } = await bees.hives.list({ filter: (box) => box.strength.more(5), with: { parent: true }, properties: ["id", "strength"], sortby: ["-strength"], limit: 1 });
await bees.hives.patch(1, { strength: 12 });
console.log(items[0].strength, "parent" in items[0], bees.harvests, (await bees.client.differences()).length);
`), 0o644))
	out, err := exec.Command("node", script, compileClient(t, folder), s.base+"/api/v1").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Regexp(t, `^\d+ true undefined 0\n$`, string(out))
}

// TestBadVersions names what is not there in a version.
func TestBadVersions(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	file := filepath.Join(folder, "widegate.yaml")
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	for text, fault := range map[string]string{
		"v1: {base: /api}":           "the same base",
		"v1: {sunset: soon}":         "no date",
		"V1: {}":                     "cannot be the name of a version",
		"v1: {entities: {hivs: {}}}": `did you mean "hive"`,
		"v1: {entities: {hive: {columns: {frame: {name: x}}}}}":     `did you mean "frames"`,
		"v1: {entities: {hive: {columns: {name: {hidden: true}}}}}": "say what new rows of the version have in it",
		"v1: {entities: {hive: {relations: {quen: {name: x}}}}}":    `did you mean "queen"`,
	} {
		require.NoError(t, os.WriteFile(file, append(before, []byte("\n  versions: {"+text+"}\n")...), 0o644))
		var out strings.Builder
		assert.NotEqual(t, 0, cli.Run([]string{"write", "--yes", "--config", file}, nil, &out, &out), text)
		assert.Contains(t, out.String(), fault, text)
	}
}
