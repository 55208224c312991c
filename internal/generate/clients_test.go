package generate_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/testdb"
)

// clientSettings ask for the client in TypeScript.
const clientSettings = "clients: {typescript: {folder: clients/typescript, exact: true}}\n"

// nodeTool is a program of the packages that the tests use.
func nodeTool(t *testing.T, name string) string {
	t.Helper()
	at, err := filepath.Abs(filepath.Join("..", "..", "node_modules", ".bin", name))
	require.NoError(t, err)
	if _, err := os.Stat(at); err != nil {
		testdb.Missing(t, name+" is not installed", "run `npm ci`")
	}
	return at
}

// compileClient compiles the client of a project, and returns its folder.
func compileClient(t *testing.T, folder string) string {
	t.Helper()
	at := filepath.Join(folder, "clients", "typescript")
	out, err := exec.Command(nodeTool(t, "tsc"), "-p", at).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return at
}

// walkClient goes through all resources of a service by its client.
func walkClient(t *testing.T, s *service, folder string) {
	t.Helper()
	script, err := filepath.Abs(filepath.Join("testdata", "clients", "walk.mjs"))
	require.NoError(t, err)
	out, err := exec.Command("node", script, compileClient(t, folder), s.base+"/api").CombinedOutput()
	require.NoError(t, err, "%s", out)
	var told struct{ Resources, Rows, Found, Stored, Related int }
	require.NoError(t, json.Unmarshal(out, &told), "%s", out)
	assert.Greater(t, told.Resources, 10)
	assert.Greater(t, told.Rows, 10)
	assert.Greater(t, told.Found, 20)
	assert.Greater(t, told.Stored, 5)
	assert.Greater(t, told.Related, 5)
	t.Logf("%+v", told)
}
