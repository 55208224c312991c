package generate_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// relatedTo is a relation in the client in Go.
var relatedTo = regexp.MustCompile(`, (store\.[\pL\pN_]+\.[\pL\pN_]+)\)`)

// walkByGo goes through all resources of a service by its client in Go, and through the
// tables of its database by the store, with the same code: both must tell the same.
func walkByGo(t *testing.T, s *service, folder, address string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(folder, "client", "client.go"))
	require.NoError(t, err)
	var tables strings.Builder
	for _, part := range strings.Split(string(text), "remote.Describe(")[1:] {
		path, rest, _ := strings.Cut(part, ", ")
		name := regexp.MustCompile(`^store\.[\pL\pN_]+`).FindString(rest)
		tables.WriteString("\ttable(w, " + path + ", " + name)
		for _, m := range relatedTo.FindAllStringSubmatch(rest, -1) {
			tables.WriteString(", " + m[1])
		}
		tables.WriteString(")\n")
	}
	program, err := os.ReadFile(filepath.Join("testdata", "clients", "walk.go.txt"))
	require.NoError(t, err)
	at := filepath.Join(folder, "cmd", "walk")
	require.NoError(t, os.MkdirAll(at, 0o755))
	code := strings.NewReplacer("MODULE", "beekeeping", "TABLES", tables.String()).Replace(string(program))
	require.NoError(t, os.WriteFile(filepath.Join(at, "main.go"), []byte(code), 0o644))
	build := exec.Command("go", "build", "-o", filepath.Join(at, "walk"), "./cmd/walk")
	build.Dir = folder
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	run := exec.Command(filepath.Join(at, "walk"), address, s.base+"/api")
	run.Dir = folder
	out, err = run.CombinedOutput()
	require.NoError(t, err, "%s", out)
	var told struct{ Resources, Rows, Found, Related, Stored, Updated int }
	require.NoError(t, json.Unmarshal(out[strings.LastIndex(string(out), "{"):], &told), "%s", out)
	assert.Greater(t, told.Resources, 10)
	assert.Greater(t, told.Rows, 10)
	assert.Greater(t, told.Found, 50)
	assert.Greater(t, told.Related, 5)
	assert.Greater(t, told.Stored, 5)
	assert.Greater(t, told.Updated, 5)
	t.Logf("%+v", told)
}
