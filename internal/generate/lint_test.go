package generate_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/testdb"
)

// TestDocumentsAreClean reads documents with two linters that know nothing of each
// other. A licence is the only thing that they miss: it is not ours to choose.
func TestDocumentsAreClean(t *testing.T) {
	tools := filepath.Join("..", "..", "node_modules", ".bin")
	if _, err := os.Stat(filepath.Join(tools, "spectral")); err != nil {
		testdb.Missing(t, "the linters of OpenAPI documents are not installed", "run `npm ci`")
	}
	tools, err := filepath.Abs(tools)
	require.NoError(t, err)
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".spectral.yaml"), []byte("extends: [\"spectral:oas\"]\n"), 0o600))
	golden, err := os.ReadFile(filepath.Join("..", "..", "examples", "beekeeping", "service", "api", "openapi.json"))
	require.NoError(t, err)
	documents := map[string][]byte{"demo.json": golden}
	for _, engine := range []string{dialects.SQLite, dialects.Postgres, dialects.MySQL} {
		s := previewOf(t, "sins", engine)
		res, err := http.Get(s.base + s.document)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		documents[engine+".json"] = text
	}
	var names []string
	for name, text := range documents {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), text, 0o600))
		names = append(names, name)
	}
	lint(t, folder, filepath.Join(tools, "spectral"), append([]string{"lint", "--format", "json"}, names...)...)
	lint(t, folder, filepath.Join(tools, "redocly"), append([]string{"lint", "--extends=recommended", "--skip-rule=info-license", "--format=json"}, names...)...)
}

// lint runs a linter, which prints a list of what it found.
func lint(t *testing.T, folder, program string, args ...string) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = folder
	cmd.Env = append(os.Environ(), "REDOCLY_TELEMETRY=off", "REDOCLY_SUPPRESS_UPDATE_NOTICE=true")
	out, err := cmd.Output()
	var list []json.RawMessage
	dec, reports := json.NewDecoder(bytes.NewReader(out)), 0
	for {
		var report json.RawMessage
		if dec.Decode(&report) != nil { // words may follow
			break
		}
		var whole struct{ Problems []json.RawMessage }
		if own := []json.RawMessage(nil); json.Unmarshal(report, &own) == nil {
			list = append(list, own...)
		} else if json.Unmarshal(report, &whole) == nil {
			list = append(list, whole.Problems...)
		}
		reports++
	}
	require.NotZero(t, reports, "%s: %v: %s", filepath.Base(program), err, out)
	for _, found := range list {
		assert.Fail(t, "not clean", "%s %v: %s", filepath.Base(program), args, found)
	}
}
