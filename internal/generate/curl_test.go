package generate_test

import (
	"bytes"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
)

// TestCalls runs each line of curl that read prints for the demo.
func TestCalls(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	s := startService(t, folder)
	var out, complaints bytes.Buffer
	require.Equal(t, 0, cli.Run([]string{"read", "--curl", "--config", filepath.Join(folder, "widegate.yaml")}, nil, &out, &complaints), complaints.String())
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Greater(t, len(lines), 100)
	slices.SortStableFunc(lines, func(a, b string) int { // what others refer to goes last
		return strings.Count(a, "-X DELETE") - strings.Count(b, "-X DELETE")
	})
	done, files := 0, t.TempDir()
	for _, line := range lines {
		if strings.HasPrefix(line, "#") {
			continue
		}
		text := strings.Replace(line, "localhost:8080", strings.TrimPrefix(s.base, "http://"), 1)
		if !strings.Contains(text, "--output") {
			text += " --output /dev/null"
		}
		cmd := exec.Command("sh", "-c", text+" -s -w '%{http_code}'")
		cmd.Dir = files
		status, err := cmd.Output()
		require.NoError(t, err, line)
		// Rows that others refer to stay, values are taken, and some rows have
		// nothing that is related.
		if assert.Contains(t, []string{"200", "201", "204", "404", "409"}, string(status), line) && status[0] == '2' {
			done++
		}
	}
	assert.Greater(t, done, len(lines)*3/4)
}
