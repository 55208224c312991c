package generate_test

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bearer sends a token with each request.
type bearer string

func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	if b != "" {
		r.Header.Set("Authorization", "Bearer "+string(b))
	}
	return http.DefaultTransport.RoundTrip(r)
}

const beesSecret = "a secret that is long enough for HS256, as it must be"

func tokenOf(t *testing.T, subject string, roles ...string) string {
	t.Helper()
	text, err := jwt.NewWithClaims(jwt.SigningMethodHS256, jwt.MapClaims{
		"iss": "https://id.example", "aud": "bees", "sub": subject, "roles": roles, "exp": time.Now().Add(time.Hour).Unix(), "iat": time.Now().Unix(),
	}).SignedString([]byte(beesSecret))
	require.NoError(t, err)
	return text
}

// connectAssist connects a client of the protocol to the functions of a service.
func connectAssist(t *testing.T, s *service, token string, options *mcp.ClientOptions) *mcp.ClientSession {
	t.Helper()
	client := mcp.NewClient(&mcp.Implementation{Name: "test", Version: "1"}, options)
	session, err := client.Connect(t.Context(), &mcp.StreamableClientTransport{Endpoint: s.base + "/mcp", HTTPClient: &http.Client{Transport: bearer(token)}}, nil)
	require.NoError(t, err)
	t.Cleanup(func() { session.Close() })
	return session
}

// function calls a function, and returns what it gives, or what it says is wrong.
func function(t *testing.T, s *mcp.ClientSession, name string, args map[string]any) (content map[string]any, wrong string) {
	t.Helper()
	result, err := s.CallTool(t.Context(), &mcp.CallToolParams{Name: name, Arguments: args})
	require.NoError(t, err, name)
	if result.IsError {
		return nil, result.Content[0].(*mcp.TextContent).Text
	}
	text, err := json.Marshal(result.StructuredContent)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &content))
	return content, ""
}

func names(t *testing.T, s *mcp.ClientSession) (list []string) {
	t.Helper()
	for tool, err := range s.Tools(t.Context(), nil) {
		require.NoError(t, err)
		list = append(list, tool.Name)
	}
	return list
}

// TestFunctionsOfAService has assistants of several roles use a service.
func TestFunctionsOfAService(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	t.Setenv("BEES_SECRET", beesSecret)
	addTo(t, folder, `  tokens: {secret: BEES_SECRET, algorithms: [HS256], issuer: "https://id.example", audience: bees, roles: roles}
  allow: {read: [keeper, guest], create: [keeper], change: [keeper], delete: [boss]}
  assist: {write: true, form: plain}
  expose: {BestApiaries: [keeper], CloseHives: [boss]}
`)
	s := startService(t, folder)
	res, err := http.Post(s.base+"/mcp", "application/json", strings.NewReader("{}"))
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 401, res.StatusCode)
	assert.Contains(t, res.Header.Get("WWW-Authenticate"), `resource_metadata="`+s.base+`/.well-known/oauth-protected-resource"`)
	res, err = http.Get(s.base + "/.well-known/oauth-protected-resource")
	require.NoError(t, err)
	var about struct {
		Resource string
		Servers  []string `json:"authorization_servers"`
	}
	require.NoError(t, json.NewDecoder(res.Body).Decode(&about))
	res.Body.Close()
	assert.Equal(t, s.base+"/mcp", about.Resource)
	assert.Equal(t, []string{"https://id.example"}, about.Servers)
	req, err := http.NewRequest("POST", s.base+"/mcp", strings.NewReader("{}"))
	require.NoError(t, err)
	req.Header.Set("Origin", "https://evil.example")
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	res, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 403, res.StatusCode)

	keeper, guest := connectAssist(t, s, tokenOf(t, "k1", "keeper"), nil), connectAssist(t, s, tokenOf(t, "g1", "guest"), nil)
	offered := names(t, keeper)
	for _, name := range []string{"list_hives", "get_hive", "summarize_hives", "create_hives", "change_hive"} {
		assert.Contains(t, offered, name)
	}
	assert.NotContains(t, offered, "delete_hive", "keepers delete nothing")
	assert.NotContains(t, names(t, guest), "create_hives")

	list, _ := function(t, keeper, "list_hives", map[string]any{"filter": "apiary.name = 'North Field'", "with": []string{"apiary"}, "properties": []string{"id", "name"}, "limit": 2, "count": true})
	assert.Len(t, list["items"], 2)
	assert.NotEmpty(t, list["next"])
	assert.Greater(t, list["matched"], 2.0)
	assert.Contains(t, list["origin"], "never instructions")
	groups, _ := function(t, keeper, "summarize_hives", map[string]any{"by": []string{"temperament"}, "measure": []string{"count"}, "is_active": true})
	assert.Len(t, groups["items"], 3)

	added, wrong := function(t, keeper, "create_keepers", map[string]any{"row": map[string]any{"member_no": "M-900", "name": "Clover Ashgrove", "joined_on": "2026-12-01"}})
	require.Empty(t, wrong)
	id := added["row"].(map[string]any)["id"]
	apiary, wrong := function(t, keeper, "create_apiaries", map[string]any{"row": map[string]any{"keeper_id": id, "name": "New Meadow", "registered_on": "2026-12-01"}})
	require.Empty(t, wrong)
	at := apiary["row"].(map[string]any)["id"]
	changed, _ := function(t, keeper, "change_apiary", map[string]any{"key": at, "changes": map[string]any{"name": "Newer Meadow"}})
	assert.Equal(t, "Newer Meadow", changed["row"].(map[string]any)["name"])

	dry, _ := function(t, keeper, "create_hives", map[string]any{"row": map[string]any{"apiary_id": at, "name": "Dry"}, "dry_run": true})
	assert.Equal(t, true, dry["dry_run"])
	assert.EqualValues(t, 10, dry["row"].(map[string]any)["frames"])
	found, _ := function(t, keeper, "list_hives", map[string]any{"name": "Dry"})
	assert.Empty(t, found["items"], "nothing was stored")

	_, wrong = function(t, keeper, "create_hives", map[string]any{"row": map[string]any{"apiary_id": 999, "name": strings.Repeat("x", 99), "frames": 0, "colour": "red"}})
	for _, part := range []string{"name: at most 60 characters; got 99", "frames: must be at least 1; got 0", "colour: there is no such property"} {
		assert.Contains(t, wrong, part)
	}
	for name, c := range map[string]struct {
		args map[string]any
		says string
	}{
		"list_hives":      {map[string]any{"filter": "frame > 3"}, `no property "frame"`},
		"get_hive":        {map[string]any{"key": 999999}, "there is no such row. Find the row by a list function first."},
		"summarize_hives": {map[string]any{"measure": []string{"sum(name)"}}, "is no number"},
		"create_hives":    {map[string]any{"rows": 1}, `there is no argument and no column "rows" here; there are dry_run, row`},
		"change_hive":     {map[string]any{"key": 1, "changes": 5}, "changes wants an object"},
	} {
		_, wrong := function(t, keeper, name, c.args)
		assert.Contains(t, wrong, c.says, name)
	}
	_, err = guest.CallTool(t.Context(), &mcp.CallToolParams{Name: "create_hives", Arguments: map[string]any{"row": map[string]any{}}})
	assert.Error(t, err, "there is no such function for a guest")

	best, wrong := function(t, keeper, "query_best_apiaries", map[string]any{"since": "2020-01-01"})
	require.Empty(t, wrong)
	assert.NotEmpty(t, best["items"])

	// Deletes are asked about.
	mute := connectAssist(t, s, tokenOf(t, "b1", "boss", "keeper"), nil)
	_, wrong = function(t, mute, "delete_apiary", map[string]any{"key": at})
	assert.Contains(t, wrong, "must be agreed to")
	var asked []string
	answer := "decline"
	boss := connectAssist(t, s, tokenOf(t, "b1", "boss", "keeper"), &mcp.ClientOptions{ElicitationHandler: func(_ context.Context, req *mcp.ElicitRequest) (*mcp.ElicitResult, error) {
		asked = append(asked, req.Params.Message)
		return &mcp.ElicitResult{Action: answer, Content: map[string]any{"confirm": true}}, nil
	}})
	_, wrong = function(t, boss, "delete_apiary", map[string]any{"key": at})
	assert.Contains(t, wrong, "did not agree; nothing was done")
	answer = "accept"
	done, wrong := function(t, boss, "delete_apiary", map[string]any{"key": at})
	assert.Empty(t, wrong)
	assert.Equal(t, true, done["done"])
	require.Len(t, asked, 2)
	assert.Contains(t, asked[0], "of apiaries?")
	_, wrong = function(t, boss, "get_apiary", map[string]any{"key": at})
	assert.Contains(t, wrong, "there is no such row")

	schema, err := keeper.ReadResource(t.Context(), &mcp.ReadResourceParams{URI: "schema:///tables/hives"})
	require.NoError(t, err)
	assert.Contains(t, schema.Contents[0].Text, "A box of bees that stands in an apiary.")
}

// TestFunctionsByAnIndependentClient uses the functions by the client in TypeScript that
// the protocol itself has, over both transports; at full length against the preview too.
func TestFunctionsByAnIndependentClient(t *testing.T) {
	nodeTool(t, "tsc") // that is installed with it
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, "  assist: {write: true, form: compact}\n")
	s := startService(t, folder)
	script, err := filepath.Abs(filepath.Join("testdata", "assist.mjs"))
	require.NoError(t, err)
	told := func(table string, args ...string) map[string]int {
		t.Helper()
		cmd := exec.Command("node", append([]string{script}, args...)...)
		if table != "" {
			cmd.Env = append(os.Environ(), "BEES="+filepath.Join(folder, "bees.db"), "TABLE="+table)
		}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		at := strings.LastIndex(string(out), "{\"tools\"")
		require.GreaterOrEqual(t, at, 0, "%s", out)
		var numbers map[string]int
		require.NoError(t, json.NewDecoder(strings.NewReader(string(out[at:]))).Decode(&numbers))
		return numbers
	}
	overHTTP := told("", "http", s.base+"/mcp")
	program := filepath.Join(t.TempDir(), "widegate")
	run(t, ".", "go", "build", "-o", program, "widegate/cmd/widegate")
	config := filepath.Join(folder, "widegate.yaml")
	byPipe := told("smoker", "stdio", program, "assist", "--writes", "--config", config)
	assert.Equal(t, overHTTP["rows"], byPipe["rows"])
	assert.Equal(t, overHTTP["tools"], byPipe["tools"])
	t.Logf("%v", overHTTP)
	if os.Getenv("WIDEGATE_LONG") == "" {
		return // the preview, over HTTP, is for make soak
	}
	address := freeAddress(t)
	preview := exec.Command(program, "preview", "--assist", "--writes", "--quiet", "--port", address[strings.LastIndexByte(address, ':')+1:], "--config", config)
	require.NoError(t, preview.Start())
	t.Cleanup(func() {
		_ = preview.Process.Signal(os.Interrupt)
		_ = preview.Wait()
	})
	require.Eventually(t, func() bool {
		res, err := http.Get("http://" + address + "/health/live")
		if err == nil {
			res.Body.Close()
		}
		return err == nil
	}, 10*time.Second, 50*time.Millisecond)
	told("veil", "http", "http://"+address+"/mcp")
}
