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
		text, err := jwt.NewWithClaims(jwt.SigningMethodHS256, jwt.MapClaims{
			"iss": "https://login.example", "aud": "cooperative", "sub": "someone", "exp": time.Now().Add(time.Hour).Unix(), "roles": roles,
		}).SignedString([]byte(secret))
		require.NoError(t, err)
		return "Bearer " + text
	}
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(s.get("/openapi.json").is(200).text), &doc))
	assert.Len(t, doc["security"], 2)
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
}
