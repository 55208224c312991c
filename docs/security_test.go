package docs_test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSecurityNamesItsTests holds every row of the page on security to name
// tests that exist.
func TestSecurityNamesItsTests(t *testing.T) {
	text, err := os.ReadFile("security.md")
	require.NoError(t, err)
	list, err := exec.Command("git", "-C", "..", "grep", "-hoE", "--untracked", "^func Test[A-Za-z]+", "--", "*_test.go").Output()
	require.NoError(t, err)
	known := map[string]bool{}
	for line := range strings.Lines(string(list)) {
		known[strings.TrimPrefix(strings.TrimSpace(line), "func ")] = true
	}
	rows := 0
	for line := range strings.Lines(string(text)) {
		if !strings.HasPrefix(line, "| ") || strings.HasPrefix(line, "| what could") {
			continue
		}
		rows++
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		require.Len(t, cells, 3, line)
		tests := regexp.MustCompile("`(Test[A-Za-z]+)`").FindAllStringSubmatch(cells[2], -1)
		assert.NotEmpty(t, tests, line)
		for _, m := range tests {
			assert.True(t, known[m[1]], "there is no test %s", m[1])
		}
	}
	assert.Greater(t, rows, 15)
}
