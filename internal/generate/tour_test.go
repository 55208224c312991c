package generate_test

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/project"
)

// TestTour runs the example program on each engine. It uses the store, and the
// named queries, as a developer does.
func TestTour(t *testing.T) {
	for engine := range engines {
		t.Run(engine, func(t *testing.T) {
			folder := makeDemo(t, engine)
			run(t, folder, "go", "vet", "./cmd/tour")
			tour := exec.Command("go", "run", "./cmd/tour")
			tour.Dir = folder
			tour.Env = append(tour.Environ(), "DATABASE_URL="+urlOf(t, folder))
			text, err := tour.CombinedOutput()
			require.NoError(t, err, "%s", text)
			for _, said := range []string{
				"Hive 7 is calm and stands on 10 frames", "Batch B25-0001 filled 86 jars", "There is no hive -1",
				"2 calm hives in the north", "2 hives match the form", "A hive with nine inspections: false",
				"Hive 1 in North Field: 4 forages around, inspected on 2025-06-06 2025-05-27",
				"Went through 800 readings", "25 hives are calm", "The heaviest weighs 57.94 kg",
				"It is calm until somebody looks", "Faults: name: at most 60 characters; got 80; frames: must be at most 40; got 99",
				"Taken: apiary_id and name", "of the readings away again", "Both hives refer to the apiary: true",
				"The best apiary is Lower Wood with 1601.1", "Hive 17 in Old Mill has a queen: true and 8 inspections", "5 hives closed",
			} {
				assert.True(t, strings.Contains(string(text), said), "%q is missing in\n%s", said, text)
			}
			_, after, _ := strings.Cut(string(text), "== Related rows ==")
			loading, _, _ := strings.Cut(after, "==")
			assert.Equal(t, 4, strings.Count(loading, "sql:"), "one statement for the rows, and one for each relation")
		})
	}
}

// urlOf is the database that a project file names.
func urlOf(t *testing.T, folder string) string {
	t.Helper()
	p, err := project.Load(filepath.Join(folder, project.FileName))
	require.NoError(t, err)
	return p.Database.URL
}
