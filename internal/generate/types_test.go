package generate_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/postgres"
	"widegate/internal/cli"
	"widegate/internal/testdb"
)

// TestOddValuesAreRefused sends a service of PostgreSQL what its columns do not
// take: each is the caller's fault, said with the value, and none is stored.
func TestOddValuesAreRefused(t *testing.T) {
	address := testdb.Postgres(t)
	db, err := postgres.Open(t.Context(), address)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(t.Context(), `CREATE TABLE hive (id int PRIMARY KEY, ip inet, tags text[], days daterange, kept interval, at time, n numeric(4,1), bits bit(3))`, nil)
	require.NoError(t, err)
	folder := filepath.Join(t.TempDir(), "beekeeping")
	var out bytes.Buffer
	require.Equal(t, 0, cli.Run([]string{"new", "--url", address, "--folder", folder, "--module", "beekeeping"}, nil, &out, &out), out.String())
	require.Equal(t, 0, cli.Run([]string{"write", "--config", filepath.Join(folder, "widegate.yaml")}, nil, &out, &out), out.String())
	text, err := os.ReadFile(filepath.Join(folder, "store", "hive.go"))
	require.NoError(t, err)
	for _, field := range []string{"gate.Maybe[gate.List[string]]", "gate.Maybe[gate.Range[gate.Date]]", "gate.Maybe[gate.Interval]", "gate.Maybe[gate.TimeOfDay]"} {
		assert.Contains(t, string(text), field)
	}
	s := startService(t, folder)
	for body, want := range map[string]string{
		`{"id":1,"ip":"not an address"}`:                          "wants an address such as",
		`{"id":1,"tags":"a"}`:                                     "wants an array",
		`{"id":1,"tags":["a",5]}`:                                 "element 2 wants a string",
		`{"id":1,"days":{"from":"2026-05-02","to":"2026-05-01"}}`: "whose end does not come before its beginning",
		`{"id":1,"days":{"from":"May","to":null}}`:                "wants a date",
		`{"id":1,"kept":"two days"}`:                              "wants a duration",
		`{"id":1,"at":"25 o'clock"}`:                              "wants a time",
		`{"id":1,"at":"26:00:00"}`:                                "out of range",
		`{"id":1,"bits":"12"}`:                                    "wants bits such as 1010",
		`{"id":1,"n":12345.6}`:                                    "at most 4 digits",
	} {
		a := s.call("POST", "/api/hives", body)
		assert.GreaterOrEqual(t, a.status, 400, body)
		assert.Less(t, a.status, 500, "%s: %s", body, a.text)
		assert.Contains(t, a.text, want, body)
	}
	assert.Empty(t, s.get("/api/hives").is(200).items())
	row := `{"id":1,"ip":"10.0.0.1","tags":["a",null],"days":{"from":"2026-05-01","to":null,"bounds":"[)"},"kept":"P1M-2DT0.5S","at":"24:00:00","n":123.4,"bits":"101"}`
	assert.Equal(t, row, strings.TrimSpace(s.call("POST", "/api/hives", row).is(201).text))
	assert.Len(t, s.get("/api/hives?kept=P1M-2DT0.5S&at=24:00:00").is(200).items(), 1)
	s.get("/api/hives?tags=a").is(400)
}
