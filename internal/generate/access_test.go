package generate_test

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

// TestGuardedService generates a service that asks for credentials, and calls
// it with good ones, others, and none.
func TestGuardedService(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	file := filepath.Join(folder, "widegate.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	text = append(text, []byte(`
  tokens: {issuer: "https://login.example", audience: cooperative, secret: COOPERATIVE_SECRET}
  keyfile: api-keys.json
  ifmatch: true
  cors: ["https://bees.example"]
  limits: {body: 300, requests: 64, statement: 20s}
  allow: {read: [known], create: [keeper], change: [keeper], delete: [admin]}
entities:
  keeper: {allow: {read: [admin], create: [admin]}}
  inspection: {allow: {read: [known, keeper], create: [known], change: [keeper, admin], delete: [admin], rows: {known: "keeper_id = claim.sub", keeper: "hive.apiary.keeper_id = claim.sub"}}}
  treatment: {allow: {columns: {ended_on: {read: [admin]}, inspection_id: {change: [admin]}}}}
  forage: {allow: {read: [anybody]}}
`)...)
	require.NoError(t, os.WriteFile(file, text, 0o644))
	key := fmt.Sprintf(`[{"name":"scale","sha256":"%x","roles":["keeper"]}]`, sha256.Sum256([]byte("the key of the scale")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "api-keys.json"), []byte(key), 0o600))
	var out strings.Builder
	require.Equal(t, 0, cli.Run([]string{"write", "--config", file}, nil, &out, &out), out.String())
	secret := strings.Repeat("s3cret!", 8)
	t.Setenv("COOPERATIVE_SECRET", secret)
	s := startService(t, folder)
	token := func(roles ...string) string {
		subject := "someone"
		if len(roles) > 0 && roles[0] >= "0" && roles[0] <= "9" {
			subject, roles = roles[0], roles[1:]
		}
		text, err := jwt.NewWithClaims(jwt.SigningMethodHS256, jwt.MapClaims{
			"iss": "https://login.example", "aud": "cooperative", "sub": subject, "exp": time.Now().Add(time.Hour).Unix(), "roles": roles,
		}).SignedString([]byte(secret))
		require.NoError(t, err)
		return "Bearer " + text
	}
	testDocuments(t, s, token)
	assert.Equal(t, "https://bees.example", s.call("GET", "/api/forages", "", "Origin", "https://bees.example").is(200).header.Get("Access-Control-Allow-Origin"))
	s.call("POST", "/api/hives", `{"name":"`+strings.Repeat("x", 400)+`"}`, "Authorization", token("keeper")).is(http.StatusRequestEntityTooLarge)
	s.get("/metrics").is(401)
	s.call("GET", "/metrics", "", "Authorization", token()).is(200)
	s.get("/api/hives").is(401).says("send credentials")
	s.call("GET", "/api/hives", "", "Authorization", "Bearer nonsense").is(401).says("no JWT")
	s.call("GET", "/api/hives", "", "Authorization", token()).is(200)
	s.call("GET", "/api/hives", "", "X-API-Key", "the key of the scale").is(200)
	s.call("GET", "/api/keepers", "", "Authorization", token("keeper")).is(403).says("the role admin")
	s.call("GET", "/api/apiaries?with=keeper", "", "Authorization", token("keeper")).is(400).says("no relation")
	s.call("GET", "/api/apiaries?with=keeper", "", "Authorization", token("admin")).is(200)
	hive := `{"apiary_id":1,"name":"Guarded","acquired_on":"2026-05-01"}`
	s.call("POST", "/api/hives", hive, "Authorization", token()).is(403)
	at := s.call("POST", "/api/hives", hive, "Authorization", token("keeper")).is(201)
	location, tag := at.header.Get("Location"), at.header.Get("ETag")
	s.call("PATCH", location, `{"frames":9}`, "Authorization", token("keeper")).is(http.StatusPreconditionRequired)
	s.call("PATCH", location, `{"frames":9}`, "Authorization", token("keeper"), "If-Match", tag).is(200)
	s.call("DELETE", location, "", "Authorization", token("keeper"), "If-Match", "*").is(403)
	s.call("DELETE", location, "", "Authorization", token("admin"), "If-Match", tag).is(412)
	s.call("DELETE", location, "", "Authorization", token("admin"), "If-Match", "*").is(204)
	testOwnRows(t, s, func(roles ...string) []string { return []string{"Authorization", token(roles...), "If-Match", "*"} })
}

// testDocuments reads the document and its page as several callers.
func testDocuments(t *testing.T, s *service, token func(roles ...string) string) {
	read := func(headers ...string) (doc apiDocument, text string) {
		text = s.call("GET", "/openapi.json", "", headers...).is(200).text
		require.NoError(t, json.Unmarshal([]byte(text), &doc))
		doc.resolve()
		return doc, text
	}
	anybody, text := read()
	assert.Equal(t, []string{"/api/forages"}, anybody.collections())
	assert.NotContains(t, text, "keepers")
	assert.NotContains(t, text, "ended_on")
	_, member := read("Authorization", token())
	assert.NotContains(t, member, "/api/keepers")
	assert.NotContains(t, member, "ended_on")
	assert.Contains(t, member, `"post"`, "inspections")
	_, admin := read("Authorization", token("admin"))
	assert.Contains(t, admin, "/api/keepers")
	assert.Contains(t, admin, "ended_on")
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(admin), &doc))
	assert.Len(t, doc["security"], 2)
	page := s.get("/docs").is(200)
	assert.Contains(t, page.header.Get("Content-Type"), "text/html")
	assert.Contains(t, page.text, "forages")
	assert.NotContains(t, page.text, "keepers")
	assert.Contains(t, s.call("GET", "/docs?tag=keepers", "", "Authorization", token("admin")).is(200).text, "/api/keepers/{key}")
	s.call("GET", "/openapi.json", "", "Authorization", "Bearer x").is(401)
	assert.NotContains(t, s.get("/api/nothing").is(404).text, "keepers")
}

// testOwnRows reads and writes inspections, which members know as far as they
// made them, and keepers as far as they are in their apiaries.
func testOwnRows(t *testing.T, s *service, as func(roles ...string) []string) {
	all := s.call("GET", "/api/inspections?limit=1000", "", as("admin", "keeper")[:2]...).is(200).items()
	assert.Empty(t, all, "someone is the number of no keeper")
	mine := s.call("GET", "/api/inspections?limit=1000&count=true", "", as("1")[:2]...).is(200)
	require.NotEmpty(t, mine.items())
	for _, row := range mine.items() {
		assert.EqualValues(t, 1, row["keeper_id"])
	}
	others := 0
	for keeper := 1.0; keeper < 6; keeper++ {
		for _, row := range s.call("GET", "/api/inspections?limit=1000&with=hive.apiary", "", as(fmt.Sprint(keeper), "keeper")[:2]...).is(200).items() {
			owner := row["hive"].(map[string]any)["apiary"].(map[string]any)["keeper_id"]
			assert.True(t, owner == keeper || row["keeper_id"] == keeper)
			if owner == keeper && row["keeper_id"] != keeper {
				others++
			}
		}
	}
	assert.NotZero(t, others, "roles add up")
	groups := s.call("GET", "/api/inspections/summary?by=keeper_id", "", as("1")[:2]...).is(200)
	assert.JSONEq(t, `{"items":[{"keeper_id":1}]}`, groups.text)

	made := s.call("POST", "/api/inspections", `{"hive_id":1,"done_on":"2031-01-01"}`, as("1")...).is(201)
	assert.EqualValues(t, 1, made.body["keeper_id"], "the claim fills the column in")
	s.call("POST", "/api/inspections", `{"hive_id":1,"done_on":"2031-01-02","keeper_id":2}`, as("1")...).is(422).blames("keeper_id", "there is no such row")
	s.call("PATCH", made.header.Get("Location"), `{"notes":"x"}`, as("1")...).is(403)
	s.call("GET", made.header.Get("Location"), "", as("2")...).is(404)

	treatment := s.call("GET", "/api/treatments?limit=1", "", as("1")[:2]...).is(200).items()[0]
	assert.NotContains(t, treatment, "ended_on")
	s.call("GET", "/api/treatments?filter=ended_on+IS+NULL", "", as("1")[:2]...).is(400).says("no property")
	s.call("GET", "/api/treatments?sortby=ended_on", "", as("1")[:2]...).is(400)
	s.call("GET", "/api/hives?filter=treatments.ended_on+IS+NULL", "", as("1")[:2]...).is(400)
	at := fmt.Sprintf("/api/treatments/%v", treatment["id"])
	s.call("PATCH", at, `{"inspection_id":null}`, as("1", "keeper")...).is(403).blames("inspection_id", "the role admin")
	s.call("PATCH", at, `{"dose":2}`, as("1", "keeper")...).is(200)
	assert.Contains(t, s.call("GET", at, "", as("1", "admin")[:2]...).is(200).body, "ended_on")
}
