package rehearse

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	widegate "widegate/gate/assist"
	"widegate/internal/generate"
	"widegate/internal/preview"
	"widegate/internal/project"
	"widegate/internal/read"
)

// serve serves the tables of a script.
func serve(t testing.TB, script string) *preview.Service {
	t.Helper()
	made, _, err := preview.Embed(t.Context(), read.Source{DDL: []string{script}, Engine: "sqlite"}, filepath.Join(t.TempDir(), "bees.db"))
	require.NoError(t, err)
	made.DDL = nil
	p := project.Default()
	c, m, err := generate.Understand(t.Context(), p, made)
	require.NoError(t, err)
	s, err := preview.Open(t.Context(), made, c, m, preview.Options{Writes: true, Title: "bees"})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func offered(s *preview.Service, form widegate.Form, write bool) *widegate.Assist {
	o := s.AssistOptions(preview.Options{Writes: write, Title: "bees"})
	o.Form, o.Calls = form, 1_000_000
	return widegate.New(s, o)
}

// connected is a client of functions.
func connected(t testing.TB, a *widegate.Assist) (*mcp.ClientSession, []*mcp.Tool) {
	t.Helper()
	server, err := a.Server(t.Context(), nil)
	require.NoError(t, err)
	near, far := mcp.NewInMemoryTransports()
	_, err = server.Connect(t.Context(), far, nil)
	require.NoError(t, err)
	client, err := mcp.NewClient(&mcp.Implementation{Name: "test", Version: "1"}, nil).Connect(t.Context(), near, nil)
	require.NoError(t, err)
	t.Cleanup(func() { client.Close() })
	var tools []*mcp.Tool
	for tool, err := range client.Tools(t.Context(), nil) {
		require.NoError(t, err)
		tools = append(tools, tool)
	}
	return client, tools
}

var demoScript = filepath.Join("..", "..", "examples", "beekeeping", "schema", "sqlite.sql")

// manyTables is a schema of 170 tables, as a large cooperative might have.
func manyTables(t testing.TB) string {
	t.Helper()
	var b strings.Builder
	regions := strings.Fields("north south east west alpine coastal river forest heath urban")
	things := strings.Fields("apiary hive queen inspection treatment harvest batch forage keeper swarm frame feeder sensor jar order invoice delivery")
	for _, r := range regions {
		for i, thing := range things {
			fmt.Fprintf(&b, "CREATE TABLE %s_%s ( -- A %s of the %s region.\n  id INTEGER PRIMARY KEY,\n  name TEXT NOT NULL, noted_on DATE, amount INTEGER NOT NULL DEFAULT 0", r, thing, thing, r)
			if i > 0 {
				fmt.Fprintf(&b, ", %s_id INTEGER REFERENCES %s_%s (id)", things[i-1], r, things[i-1])
			}
			b.WriteString("\n);\n")
		}
	}
	file := filepath.Join(t.TempDir(), "many.sql")
	require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	return file
}

// TestFunctionsAnswer calls all that reads, of several schemas and in both forms.
func TestFunctionsAnswer(t *testing.T) {
	for name, script := range map[string]string{
		"demo": demoScript, "torture": filepath.Join("..", "generate", "testdata", "torture", "sqlite.sql"), "170 tables": manyTables(t),
	} {
		s := serve(t, script)
		for _, form := range []widegate.Form{widegate.Plain, widegate.Compact} {
			r, err := Functions(t.Context(), offered(s, form, false))
			assert.NoError(t, err, "%s, %s", name, form)
			assert.Greater(t, r.Called, 30)
			t.Logf("%s, %s: %d functions, %d calls, a list of %d bytes", name, form, len(r.Functions), r.Called, r.Bytes)
		}
	}
}

// TestChoosing has the stand-in choose functions for jobs in plain words.
func TestChoosing(t *testing.T) {
	_, tools := connected(t, offered(serve(t, demoScript), widegate.Plain, true))
	jobs := []struct{ job, want string }{
		{"Add a keeper to the cooperative", "create_keepers"},
		{"Add an apiary in her name", "create_apiaries"},
		{"How many hives are there, by temperament?", "summarize_hives"},
		{"Which hives stand in the apiary North Field?", "list_hives"},
		{"What is the average weight of the harvests?", "summarize_harvests"},
		{"Note an inspection of hive 7 today", "create_inspections"},
		{"Change the frames of a hive to 12", "change_hive"},
		{"Show the treatment with the key 12", "get_treatment"},
		{"Delete the sensor reading of this morning", "delete_sensor_reading"},
		{"Link a forage to an apiary", "link_apiary_forages"},
	}
	first := 0
	for _, j := range jobs {
		at := slices.Index(Rank(tools, j.job), j.want)
		assert.True(t, at >= 0 && at < 3, "%s: %s is number %d", j.job, j.want, at+1)
		if at == 0 {
			first++
		}
	}
	t.Logf("the right function was first for %d of %d jobs, and among the first three for all", first, len(jobs))
}

// TestEveryFunctionIsFound asks for each function of a schema in words that a person would
// have for it.
func TestEveryFunctionIsFound(t *testing.T) {
	asks := map[string]string{"list": "find %s", "get": "get one of the %s", "summarize": "count the %s", "create": "add a new one to the %s", "change": "change one of the %s", "delete": "delete one of the %s", "link": "link %s", "unlink": "unlink %s"}
	for name, script := range map[string]string{
		"demo": demoScript, "torture": filepath.Join("..", "generate", "testdata", "torture", "sqlite.sql"), "170 tables": manyTables(t),
	} {
		_, tools := connected(t, offered(serve(t, script), widegate.Plain, true))
		found, asked := 0, 0
		for i, tool := range tools {
			if i%(1+len(tools)/150) > 0 {
				continue // some of many
			}
			verb, _, _ := strings.Cut(tool.Name, "_")
			thing := tool.Title[strings.IndexByte(tool.Title, ' ')+1:]
			asked++
			if slices.Index(Rank(tools, fmt.Sprintf(asks[verb], thing)), tool.Name) < 3 {
				found++
			}
		}
		t.Logf("%s: %d of %d among the first three", name, found, asked)
		assert.Greater(t, float64(found), 0.9*float64(asked), name)
	}
}

// BenchmarkFunctions compares a call with a request to the endpoint that it is for.
func BenchmarkFunctions(b *testing.B) {
	s := serve(b, demoScript)
	client, _ := connected(b, offered(s, widegate.Plain, true))
	_, err := client.CallTool(b.Context(), &mcp.CallToolParams{Name: "create_keepers", Arguments: map[string]any{"row": map[string]any{"member_no": "M1", "name": "Clover", "joined_on": "2026-05-01"}}})
	require.NoError(b, err)
	b.Run("endpoint", func(b *testing.B) {
		for b.Loop() {
			w := httptest.NewRecorder()
			s.ServeHTTP(w, httptest.NewRequest(http.MethodGet, "http://localhost/api/keepers/1", nil))
			require.Equal(b, 200, w.Code)
		}
	})
	b.Run("function", func(b *testing.B) {
		for b.Loop() {
			result, err := client.CallTool(b.Context(), &mcp.CallToolParams{Name: "get_keeper", Arguments: map[string]any{"key": 1}})
			require.NoError(b, err)
			require.False(b, result.IsError)
		}
	})
}
