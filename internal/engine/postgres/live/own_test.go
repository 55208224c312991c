package live

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCalledFunctionsAreListed finds the functions that the queries of this
// package call.
func TestCalledFunctionsAreListed(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	other := strings.Fields("any all and as coalesce exists filter from in lateral not nullif on or over row select then trim using values when where with")
	found := 0
	for _, file := range append(files, "../postgres.go") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, query := range regexp.MustCompile("(?s)`[^`]*\\bFROM\\b[^`]*`").FindAllString(string(text), -1) {
			for _, m := range regexp.MustCompile(`([a-z_][a-z_0-9]*)\(`).FindAllStringSubmatch(query, -1) {
				found++ // a single letter is an alias
				assert.True(t, len(m[1]) == 1 || slices.Contains(called, m[1]) || slices.Contains(other, m[1]), "%s calls %s", file, m[1])
			}
		}
	}
	assert.Greater(t, found, 50)
}

func TestWithoutCatalog(t *testing.T) {
	for from, to := range map[string]string{
		`"$user", public`: `"$user", public`, "evil, pg_catalog, public": "evil, public", `"pg_catalog"`: "", "": "", `"Pg_Catalog", a`: `"Pg_Catalog", a`,
	} {
		assert.Equal(t, to, withoutCatalog(from))
	}
}
