package rehearse

import (
	"encoding/json"
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

// TestJobs has the stand-in do ten jobs in plain words: it chooses functions by their
// descriptions, and calls them.
func TestJobs(t *testing.T) {
	s := serve(t, demoScript)
	client, tools := connected(t, offered(s, widegate.Plain, true))
	first := 0
	for _, j := range []struct {
		job, want string
		args      object
		gives     string
	}{
		{"Add a keeper to the cooperative", "create_keepers", object{"row": object{"member_no": "M1", "name": "Clover Ash", "joined_on": "2026-05-01"}}, `"member_no":"M1"`},
		{"Add an apiary in her name", "create_apiaries", object{"row": object{"keeper_id": 1, "name": "North Field", "registered_on": "2026-05-01"}}, `"name":"North Field"`},
		{"Add a hive to the apiary", "create_hives", object{"row": object{"apiary_id": 1, "name": "Hive 1"}}, `"frames":10`},
		{"How many hives are there, by temperament?", "summarize_hives", object{"by": []string{"temperament"}, "measure": []string{"count"}}, `"count":1`},
		{"Which hives stand in the apiary North Field?", "list_hives", object{"filter": "apiary.name = 'North Field'"}, `"name":"Hive 1"`},
		{"Note an inspection of hive 1 today", "create_inspections", object{"row": object{"hive_id": 1, "keeper_id": 1, "done_on": "2026-05-02"}}, `"hive_id":1`},
		{"Change the frames of a hive to 12", "change_hive", object{"key": 1, "changes": object{"frames": 12}}, `"frames":12`},
		{"Add a forage", "create_forages", object{"row": object{"name": "Heather", "blooms_from": 7, "blooms_to": 9}}, `"name":"Heather"`},
		{"Link a forage to an apiary", "link_apiary_forages", object{"key": 1, "other": 1}, `"done":true`},
		{"Show the inspection with the key 1", "get_inspection", object{"key": 1, "with": []string{"hive"}}, `"frames":12`},
	} {
		at := slices.Index(Rank(tools, j.job), j.want)
		assert.True(t, at >= 0 && at < 3, "%s: %s is number %d", j.job, j.want, at+1)
		if at == 0 {
			first++
		}
		result, err := client.CallTool(t.Context(), &mcp.CallToolParams{Name: j.want, Arguments: j.args})
		require.NoError(t, err)
		text := result.Content[0].(*mcp.TextContent).Text
		assert.False(t, result.IsError, "%s: %s", j.job, text)
		assert.Contains(t, text, j.gives, j.job)
	}
	t.Logf("the right function was first for %d of 10 jobs, and among the first three for all", first)
}

type object = map[string]any

// hostile are values that try to be something else: the texts by which the endpoints are
// attacked, and values of other types.
func hostile(t *testing.T) (list []any) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "..", "gate", "rest", "testdata", "hostile.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &list))
	return append([]any{"\\' OR 1 = 1 OR name = '", "../../keepers/1", "?limit=none&f=csv", "a,b;c(d)", -1, 1e300, true, nil, []any{"id", 7, nil}, object{"$ref": "#/x"}, []any{}, object{}}, list...)
}

// TestAttacks gives each argument of each function, at full length all, else a third of, values that try to be something else.
// Nothing goes wrong inside the service, and no row comes or goes by functions that read.
func TestAttacks(t *testing.T) {
	s := serve(t, demoScript)
	setUp, _ := connected(t, offered(s, widegate.Plain, true))
	for i, row := range []object{{"member_no": "M1", "name": "Clover", "joined_on": "2026-05-01"}, {"member_no": "M2", "name": "Heather", "joined_on": "2026-05-01"}} {
		result, err := setUp.CallTool(t.Context(), &mcp.CallToolParams{Name: "create_keepers", Arguments: object{"row": row}})
		require.NoError(t, err)
		require.False(t, result.IsError, i)
	}
	values, calls := hostile(t), 0
	for _, form := range []widegate.Form{widegate.Plain, widegate.Compact} {
		client, tools := connected(t, offered(s, form, true))
		for _, tool := range tools {
			schema, _ := tool.InputSchema.(object)
			properties, _ := schema["properties"].(object)
			for name := range properties {
				for i, v := range values {
					if os.Getenv("WIDEGATE_LONG") == "" && (i+calls)%3 > 0 {
						calls++
						continue // some of many
					}
					args := object{name: v}
					if resource, ok := properties["resource"]; ok && name != "resource" && resource != nil {
						args["resource"] = "keepers"
					}
					if strings.HasPrefix(tool.Name, "delete") || strings.HasPrefix(tool.Name, "unlink") {
						args["dry_run"] = true
					}
					result, err := client.CallTool(t.Context(), &mcp.CallToolParams{Name: tool.Name, Arguments: args})
					calls++
					if err != nil {
						continue // refused by the protocol
					}
					text := result.Content[0].(*mcp.TextContent).Text
					require.NotContains(t, text, "something went wrong", "%s %v", tool.Name, args)
					require.NotContains(t, strings.ToLower(text), "sqlite3", "%s %v", tool.Name, args)
				}
			}
		}
	}
	left, err := setUp.CallTool(t.Context(), &mcp.CallToolParams{Name: "summarize_keepers", Arguments: object{"measure": []string{"count"}}})
	require.NoError(t, err)
	assert.Contains(t, left.Content[0].(*mcp.TextContent).Text, `"count":2`)
	t.Logf("%d calls", calls)
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
