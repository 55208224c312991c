package generate_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/pb33f/libopenapi"
	validator "github.com/pb33f/libopenapi-validator"
	"github.com/pb33f/libopenapi/datamodel"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/cli"
	"widegate/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// engines are the databases on which everything here is tried.
var engines = map[string]func(t testing.TB) string{
	"sqlite":   func(testing.TB) string { return "" },
	"postgres": testdb.Postgres,
	"mysql":    testdb.MySQL,
}

// makeDemo sets the demo up and returns its folder.
func makeDemo(t *testing.T, engine string) string {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "demo")
	args := []string{"demo", "--folder", folder, "--no-start"}
	if url := engines[engine](t); url != "" {
		args = append(args, "--url", url)
	}
	var out bytes.Buffer
	require.Equal(t, 0, cli.Run(args, nil, &out, &out), out.String())
	return folder
}

// service is a generated service that runs.
type service struct {
	t        *testing.T
	base     string
	checks   validator.Validator
	document string // its path
}

var address = regexp.MustCompile(`serving (http://\S+)/api`)

// startService builds and starts the service in a folder.
func startService(t *testing.T, folder string) *service {
	t.Helper()
	run(t, folder, "go", "vet", "./...")
	run(t, folder, "go", "build", "-o", "bin/", "./cmd/beekeeping")
	return startBuilt(t, folder)
}

// startBuilt starts a service that has been built, with more flags.
func startBuilt(t *testing.T, folder string, flags ...string) *service {
	t.Helper()
	cmd := exec.Command(filepath.Join(folder, "bin", "beekeeping"), append([]string{"-address", "127.0.0.1:0"}, flags...)...)
	cmd.Dir = folder
	log, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	logged := make(chan struct{})
	t.Cleanup(func() {
		require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		<-logged
		assert.NoError(t, cmd.Wait(), "the service ends cleanly")
	})
	first := make([]byte, 200)
	n, err := log.Read(first)
	require.NoError(t, err)
	go func() {
		rest, _ := io.ReadAll(log) // until the service ends
		if t.Failed() {
			t.Logf("the service's log:\n%s", rest)
		}
		close(logged)
	}()
	found := address.FindSubmatch(first[:n])
	require.NotNil(t, found, "%s", first[:n])
	return &service{t, string(found[1]), newChecks(t, filepath.Join(folder, "api", "openapi.json")), "/openapi.json"}
}

// newChecks reads a document, and finds what is wrong with it.
func newChecks(t *testing.T, file string) validator.Validator {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return checksOf(t, text)
}

// checksOf is newChecks for the text of a document.
func checksOf(t *testing.T, text []byte) validator.Validator {
	t.Helper()
	// Related rows are embedded only on request: the circles end.
	config := datamodel.NewDocumentConfiguration()
	config.IgnoreArrayCircularReferences = true
	config.IgnorePolymorphicCircularReferences = true
	doc, err := libopenapi.NewDocumentWithConfiguration(text, config)
	require.NoError(t, err)
	checks, errs := validator.NewValidator(doc)
	require.Empty(t, errs)
	valid, faults := checks.ValidateDocument()
	require.True(t, valid, "%v", faults)
	ids := map[string]bool{}
	for _, m := range regexp.MustCompile(`"operationId": "([^"]+)"`).FindAllSubmatch(text, -1) {
		assert.False(t, ids[string(m[1])], "two operations are called %s", m[1])
		ids[string(m[1])] = true
	}
	return checks
}

func run(t *testing.T, folder, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir = folder
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// answer is what came back for a request.
type answer struct {
	t      *testing.T
	status int
	header http.Header
	text   string
	body   map[string]any
}

// call sends a request and checks that the answer is as the document says.
func (s *service) call(method, path, body string, headers ...string) answer {
	s.t.Helper()
	req, err := http.NewRequest(method, s.base+path, strings.NewReader(body))
	require.NoError(s.t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(s.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(s.t, err)
	a := answer{t: s.t, status: res.StatusCode, header: res.Header, text: string(text)}
	if len(text) > 0 && strings.Contains(res.Header.Get("Content-Type"), "json") {
		require.NoError(s.t, json.Unmarshal(text, &a.body), "%s", text)
	}
	// The document cannot say that a body is left out as Prefer asks.
	minimal := res.Header.Get("Preference-Applied") != "" && len(text) == 0
	odd := res.Header.Get("Mistyped-Values") != "" // what is stored does not fit, and so does not the answer
	if res.StatusCode < 400 && !minimal && !odd && method != http.MethodHead && method != http.MethodOptions && path != s.document && !strings.HasPrefix(path, "/desk/") && !strings.HasPrefix(path, "/docs") {
		res.Body = io.NopCloser(bytes.NewReader(text))
		valid, faults := s.checks.ValidateHttpResponse(req, res)
		for _, f := range faults {
			assert.True(s.t, valid, "%s %s: %s: %s %v", method, path, f.Message, f.Reason, f.SchemaValidationErrors)
		}
	}
	return a
}

func (s *service) get(path string) answer { s.t.Helper(); return s.call("GET", path, "") }

// is checks the status.
func (a answer) is(status int) answer {
	a.t.Helper()
	require.Equal(a.t, status, a.status, a.text)
	if status >= 400 {
		assert.Equal(a.t, "application/problem+json", a.header.Get("Content-Type"))
		assert.EqualValues(a.t, status, a.body["status"])
		assert.NotContains(a.t, strings.ToLower(a.text), "sqlstate", "no text of a driver gets out")
	}
	return a
}

// says checks the detail of a problem.
func (a answer) says(part string) answer {
	a.t.Helper()
	assert.Contains(a.t, a.body["detail"], part)
	return a
}

// blames checks that a problem points at a member with these words.
func (a answer) blames(member, part string) answer {
	a.t.Helper()
	errors, _ := a.body["errors"].([]any)
	for _, e := range errors {
		if e := e.(map[string]any); e["pointer"] == "#/"+member {
			assert.Contains(a.t, e["detail"], part)
			return a
		}
	}
	assert.Fail(a.t, "nothing points at "+member, a.text)
	return a
}

func (a answer) items() []map[string]any {
	a.t.Helper()
	list, ok := a.body["items"].([]any)
	require.True(a.t, ok, a.text)
	items := make([]map[string]any, len(list))
	for i, item := range list {
		items[i] = item.(map[string]any)
	}
	return items
}

func pluck(items []map[string]any, name string) []any {
	values := make([]any, len(items))
	for i, item := range items {
		values[i] = item[name]
	}
	return values
}

func TestGeneratedService(t *testing.T) {
	for engine := range engines {
		t.Run(engine, func(t *testing.T) {
			s := startService(t, makeDemo(t, engine))
			for _, part := range []struct {
				name string
				test func(t *testing.T, s *service)
			}{
				{"everything answers", testEverythingAnswers}, {"lists", testLists}, {"pages", testPages}, {"relations", testRelations},
				{"writes", testWrites}, {"patches", testPatches}, {"composite keys", testCompositeKeys}, {"links", testLinks},
				{"views", testViews}, {"filters", testFilters}, {"conformance", testConformance}, {"exports", testExports}, {"wrong requests", testWrongRequests}, {"conflicts", testConflicts}, {"service", testServicePaths},
			} {
				t.Run(part.name, func(t *testing.T) { part.test(t, &service{t, s.base, s.checks, s.document}) })
			}
		})
	}
}

// testEverythingAnswers reads each collection and each first row with all of
// its relations.
func testEverythingAnswers(t *testing.T, s *service) {
	for _, path := range []string{
		"apiaries", "batches", "batch-harvests", "forages", "harvests", "hives", "inspections", "inspection-photos",
		"keepers", "queens", "sensor-readings", "substances", "treatments", "apiary-yields", "batch-origins", "hive-overviews",
	} {
		list := s.get("/api/" + path + "?limit=3&count=true").is(200)
		assert.NotEmpty(t, list.items(), path)
		assert.NotZero(t, list.body["matched"], path)
	}
	for path, relations := range map[string][]string{
		"hives/40":           {"apiary", "split-from", "queen", "splits", "inspections", "harvests", "treatments", "sensor-readings"},
		"apiaries/1":         {"keeper", "deputy", "hives", "forages"},
		"keepers/1":          {"apiaries", "deputy-apiaries", "inspections"},
		"batches/1":          {"batch-harvests", "harvests"},
		"harvests/1":         {"hive", "batch-harvests", "batches"},
		"inspections/1":      {"hive", "keeper", "inspection-photos", "treatments"},
		"batch-harvests/1,1": {"batch", "harvest"},
	} {
		s.get("/api/" + path).is(200)
		with := strings.ReplaceAll(strings.Join(relations, ","), "-", "_")
		row := s.get("/api/" + path + "?with=" + with).is(200)
		for _, r := range relations {
			direct := s.get("/api/" + path + "/" + r)
			embedded, there := row.body[strings.ReplaceAll(r, "-", "_")]
			require.True(t, there, "%s with %s", path, r)
			switch {
			case embedded == nil:
				direct.is(404)
			case direct.body["items"] != nil:
				assert.Equal(t, embedded, any(direct.is(200).body["items"]), "%s/%s", path, r)
			default:
				assert.Equal(t, embedded, any(direct.is(200).body), "%s/%s", path, r)
			}
		}
	}
}

func testLists(t *testing.T, s *service) {
	calm := s.get("/api/hives?temperament=calm&apiary_id=3&limit=100").is(200).items()
	require.NotEmpty(t, calm)
	for _, h := range calm {
		assert.Equal(t, "calm", h["temperament"])
		assert.EqualValues(t, 3, h["apiary_id"])
	}
	both := s.get("/api/hives?temperament=fierce&temperament=nervous&count=true&limit=1").is(200)
	all := s.get("/api/hives?count=true&limit=1").is(200)
	calmToo := s.get("/api/hives?temperament=calm&count=true&limit=1").is(200)
	assert.Equal(t, all.body["matched"], both.body["matched"].(float64)+calmToo.body["matched"].(float64))
	assert.NotContains(t, s.get("/api/hives").is(200).body, "matched", "nothing is counted unasked")

	frames := pluck(s.get("/api/hives?sortby=-frames,%2Bname&limit=200").is(200).items(), "frames")
	assert.True(t, slices.IsSortedFunc(frames, func(a, b any) int { return int(b.(float64) - a.(float64)) }))
	assert.Len(t, s.get("/api/hives?split_from_id=&active=").is(400).body, 5)
	for _, h := range s.get("/api/hives?split_from_id=&limit=5").is(200).items() {
		assert.Nil(t, h["split_from_id"], "an empty value is null")
	}
	assert.Empty(t, s.get("/api/hives?name=nobody%27s%20%25").is(200).items())
	day := s.get("/api/inspections?limit=1").is(200).items()[0]["done_on"].(string)
	for _, i := range s.get("/api/inspections?done_on=" + day).is(200).items() {
		assert.Equal(t, day, i["done_on"])
	}
	head := s.call("HEAD", "/api/hives", "")
	assert.Equal(t, 200, head.status)
	assert.Empty(t, head.text)
}

// testPages walks through collections by the links and by the cursor.
func testPages(t *testing.T, s *service) {
	for _, query := range []string{"", "sortby=weight_kg", "sortby=-weight_kg,temperament", "sortby=-acquired_on,split_from_id", "temperament=calm&sortby=name", "sortby=-split_from.name,apiary.name,-weight_kg"} {
		whole := pluck(s.get("/api/hives?limit=1000&"+query).is(200).items(), "id")
		var paged []any
		path := "/api/hives?limit=7&" + query
		for path != "" {
			page := s.get(path).is(200)
			paged = append(paged, pluck(page.items(), "id")...)
			path = ""
			for _, link := range page.header.Values("Link") {
				if strings.HasSuffix(link, `rel="next"`) {
					path = strings.TrimPrefix(strings.Split(link, ">")[0], "<")
					assert.Contains(t, link, page.body["next"].(string))
				}
			}
		}
		assert.Equal(t, whole, paged, query)
	}
	var names []any
	path := "/api/apiary-yields?limit=3"
	for next, more := "", true; more; {
		page := s.get(path + "&after=" + next).is(200)
		names = append(names, pluck(page.items(), "apiary_name")...)
		next, more = page.body["next"].(string)
	}
	assert.Len(t, names, 10, "rows without a key have pages too")
	s.get("/api/hives?after=xyz").is(400).says("`next` of an answer")
	s.get("/api/hives?sortby=name&after=" + s.get("/api/hives?limit=1").body["next"].(string)).is(400)
}

func testRelations(t *testing.T, s *service) {
	list := s.get("/api/hives?with=apiary.keeper,inspections.treatments.substance,queen&limit=30").is(200).items()
	withTreatment := 0
	for _, h := range list {
		apiary := h["apiary"].(map[string]any)
		assert.Equal(t, h["apiary_id"], apiary["id"])
		assert.Equal(t, apiary["keeper_id"], apiary["keeper"].(map[string]any)["id"])
		for _, i := range h["inspections"].([]any) {
			assert.Equal(t, h["id"], i.(map[string]any)["hive_id"])
			for _, tr := range i.(map[string]any)["treatments"].([]any) {
				withTreatment++
				assert.NotEmpty(t, tr.(map[string]any)["substance"].(map[string]any)["name"])
			}
		}
	}
	assert.NotZero(t, withTreatment)
	s.get("/api/hives?with=bees").is(400).says("they have apiary, split_from, queen")
	s.get("/api/hives?with=splits.splits.splits.splits.splits").is(400).says("the limit is 4")
	s.get("/api/hives/1/split-from").is(404)
	s.get("/api/hives/9999/inspections").is(404)
	assert.Len(t, s.get("/api/hives/1/inspections?limit=2&sortby=-done_on").is(200).items(), 2)
}

func testWrites(t *testing.T, s *service) {
	made := s.call("POST", "/api/hives", `{"apiary_id":2,"name":"Wíth ünïcode 蜂 \"'","weight_kg":12.5,"acquired_on":"2026-02-28"}`).is(201)
	at := made.header.Get("Location")
	assert.Equal(t, fmt.Sprintf("/api/hives/%v", made.body["id"]), at)
	assert.Equal(t, "calm", made.body["temperament"], "the default of the schema")
	assert.EqualValues(t, 10, made.body["frames"])
	assert.Equal(t, true, made.body["is_active"])
	assert.NotEmpty(t, made.body["created_at"])
	assert.Equal(t, made.body, s.get(at).is(200).body)

	put := s.call("PUT", at, `{"apiary_id":3,"name":"Replaced","frames":12,"is_active":false}`).is(200)
	assert.Equal(t, "Replaced", put.body["name"])
	assert.Equal(t, false, put.body["is_active"])
	assert.Nil(t, put.body["weight_kg"], "what a replacement leaves out is null")
	assert.Equal(t, put.body, s.get(at).is(200).body)
	s.call("PUT", at, `{"name":"x"}`).is(422).blames("apiary_id", "is missing")
	s.call("PUT", "/api/hives/99999", `{"apiary_id":3,"name":"x"}`).is(404)

	under := s.call("POST", at+"/inspections", `{"keeper_id":1,"done_on":"2026-01-05","measurements":{"varroa":[1,2,{"x":null}]}}`).is(201)
	assert.Equal(t, made.body["id"], under.body["hive_id"], "the reference comes from the path")
	photo := s.call("POST", "/api/inspection-photos", fmt.Sprintf(`{"inspection_id":%v,"taken_at":"2026-01-05T12:00:00+02:00","photo":"AAEC/w=="}`, under.body["id"])).is(201)
	assert.Equal(t, "AAEC/w==", photo.body["photo"])
	assert.Equal(t, "2026-01-05T10:00:00Z", photo.body["taken_at"])
	assert.Equal(t, under.body["measurements"], map[string]any{"varroa": []any{1.0, 2.0, map[string]any{"x": nil}}})

	assert.Empty(t, s.call("DELETE", at, "").is(204).text)
	s.get(at).is(404)
	s.call("DELETE", at, "").is(404)
	s.get(photo.header.Get("Location")).is(404)
}

func testPatches(t *testing.T, s *service) {
	made := s.call("POST", "/api/hives", `{"apiary_id":2,"name":"To patch","weight_kg":9.25}`).is(201)
	at := made.header.Get("Location")
	patched := s.call("PATCH", at, `{"weight_kg":null,"temperament":"fierce"}`, "Content-Type", "application/merge-patch+json").is(200)
	assert.Nil(t, patched.body["weight_kg"], "null is null")
	assert.Equal(t, "fierce", patched.body["temperament"])
	assert.Equal(t, "To patch", patched.body["name"], "what is absent stays")
	assert.Equal(t, patched.body, s.call("PATCH", at, `{}`).is(200).body)
	s.call("PATCH", at, `{"name":null}`).is(422).blames("name", "must not be null")
	s.call("PATCH", at, `{"id":123}`).is(422).blames("id", "cannot be changed")
	s.call("PATCH", at, fmt.Sprintf(`{"id":%v,"frames":3}`, made.body["id"])).is(200)
	s.call("PATCH", "/api/hives/99999", `{"frames":3}`).is(404)
	s.call("DELETE", at, "").is(204)
}

func testCompositeKeys(t *testing.T, s *service) {
	at := "/api/sensor-readings/7,2026-03-01T10:00:00Z"
	made := s.call("PUT", at, `{"temperature_c":-4.5}`).is(201)
	assert.Equal(t, at, strings.ReplaceAll(made.header.Get("Location"), "%3A", ":"))
	assert.Equal(t, "2026-03-01T10:00:00Z", made.body["read_at"])
	assert.Equal(t, 0.5, s.call("PUT", at, `{"humidity_pct":0.5}`).is(200).body["humidity_pct"])
	assert.Nil(t, s.get(at).is(200).body["temperature_c"])
	assert.EqualValues(t, 3, s.call("PATCH", at, `{"weight_kg":3}`).is(200).body["weight_kg"])
	s.call("DELETE", at, "").is(204)
	s.get("/api/sensor-readings/7").is(404).says("hive_id and read_at, joined by commas")
	s.get("/api/sensor-readings/7,noon").is(404)
}

func testLinks(t *testing.T, s *service) {
	before := len(s.get("/api/apiaries/2/forages").is(200).items())
	s.call("DELETE", "/api/apiaries/2/forages/13", "").is(204)
	s.call("PUT", "/api/apiaries/2/forages/13", "").is(204)
	s.call("PUT", "/api/apiaries/2/forages/13", "").is(204)
	after := s.get("/api/apiaries/2/forages").is(200).items()
	assert.Contains(t, pluck(after, "id"), 13.0)
	assert.Contains(t, pluck(s.get("/api/forages/13/apiaries").is(200).items(), "id"), 2.0)
	s.call("DELETE", "/api/apiaries/2/forages/13", "").is(204)
	s.call("DELETE", "/api/apiaries/2/forages/13", "").is(204)
	assert.LessOrEqual(t, len(s.get("/api/apiaries/2/forages").is(200).items()), before)
	s.call("PUT", "/api/apiaries/2/forages/999", "").is(404)
	s.call("PUT", "/api/apiaries/999/forages/1", "").is(404)
}

func testViews(t *testing.T, s *service) {
	yield := s.get("/api/apiary-yields?sortby=apiary_id&limit=1").is(200).items()[0]
	assert.IsType(t, 0.0, yield["harvests"], "a count is a number")
	assert.IsType(t, "", yield["weight_kg"], "a sum has digits without limit, so it travels as a string")
	s.call("POST", "/api/apiary-yields", `{}`).is(405).says("possible are GET, HEAD")
	overview := s.get("/api/hive-overviews?limit=1&sortby=hive_id").is(200).items()[0]
	assert.Regexp(t, `^\d{4}-\d\d-\d\d$`, overview["last_inspected_on"])
}

func testWrongRequests(t *testing.T, s *service) {
	s.get("/api/hives?colour=red").is(400).says(`there is no parameter "colour"`)
	s.get("/api/hives?temperament=grumpy").is(400).says("calm, nervous, fierce")
	s.get("/api/hives?frames=many").is(400).says("wants a whole number")
	s.get("/api/hives?limit=0").is(400).says("from 1 to 1000")
	s.get("/api/hives?limit=1001").is(400)
	s.get("/api/hives?sortby=shape").is(400).says("they have id, apiary_id")
	s.get("/api/apiaries?sortby=details").is(400).says("cannot be ordered by details")
	s.get("/api/apiaries?details=x").is(400)
	s.get("/api/hives?count=maybe").is(400)
	s.get("/api/hives?a=%zz").is(400)
	s.get("/api/hives/one").is(404).says("wants a whole number")
	s.get("/api/hives/1?colour=red").is(400)
	s.get("/api/beehives").is(404).says("below /api/ are apiaries")
	s.get("/api/hives/1/bees").is(404)
	s.call("GET", "/api/hives", "", "Accept", "image/png").is(406)
	s.call("POST", "/api/hives", `{"name":`).is(400).says("line 1, column")
	s.call("POST", "/api/hives", "{\n  \"name\": x}").is(400).says("line 2, column 11")
	s.call("POST", "/api/hives", `[1]`).is(422)
	s.call("POST", "/api/hives", `name=x`, "Content-Type", "application/x-www-form-urlencoded").is(415).says("application/json")
	s.call("POST", "/api/hives", `{"name":"`+strings.Repeat("x", 9<<20)+`"}`).is(413)
	s.call("POST", "/api/hives", `{"apiary_id":"1","name":"`+strings.Repeat("ü", 61)+`","frames":41,"weight_kg":1.234,"temperament":"mad","bees":1}`).is(422).
		says("6 values").blames("apiary_id", "whole number").blames("name", "at most 60 characters; got 61").blames("frames", "at most 40").
		blames("weight_kg", "at most 6 digits, 2 after the point; got 1.234").blames("temperament", "one of calm").blames("bees", "no such property")
	s.call("POST", "/api/hives", `{}`).is(422).blames("apiary_id", "is missing").blames("name", "is missing")
	s.call("POST", "/api/hives", `{"apiary_id":4711,"name":"x"}`).is(422).blames("apiary_id", "no such row")
	s.call("POST", "/api/treatments", `{"hive_id":1,"substance_id":1,"started_on":"2026-05-02","ended_on":"2026-05-01","dose":1}`).is(422).says("treatment_ends_after_start")
	assert.Equal(t, "GET, HEAD, POST", s.call("DELETE", "/api/hives", "").is(405).header.Get("Allow"))
	assert.Equal(t, "GET, HEAD, POST, OPTIONS", s.call("OPTIONS", "/api/hives", "").is(204).header.Get("Allow"))
	s.call("GET", "/api/hives", "", "Host", "bees.example").is(200)
}

func testConflicts(t *testing.T, s *service) {
	first := s.get("/api/hives/1").is(200)
	same := fmt.Sprintf(`{"apiary_id":%v,"name":%q}`, first.body["apiary_id"], first.body["name"])
	s.call("POST", "/api/hives", same).is(409).says("combination of apiary_id, name").blames("name", "taken")
	s.call("DELETE", "/api/apiaries/1", "").is(409).says("still referred to").says("hives")
	member := s.get("/api/keepers/1").is(200).body["member_no"]
	s.call("PATCH", "/api/keepers/2", fmt.Sprintf(`{"member_no":%q}`, member)).is(409).says("another row has this member_no already")
	assert.Equal(t, "Hive 1", s.get("/api/hives/1").is(200).body["name"])
}

func testServicePaths(t *testing.T, s *service) {
	s.get("/health/live").is(200)
	s.get("/health/ready").is(200)
	doc := s.get("/openapi.json").is(200)
	assert.Equal(t, "3.1.0", doc.body["openapi"])
	req, err := http.NewRequest("GET", s.base+"/api/hives", nil)
	require.NoError(t, err)
	req.Host = "bees.example"
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusMisdirectedRequest, res.StatusCode, "a page elsewhere cannot reach the service by another name")
}

// TestDialectsGiveTheSame compares what is generated from the same schema in
// three dialects.
func TestDialectsGiveTheSame(t *testing.T) {
	type shape struct {
		Paths      map[string]any `json:"paths"`
		Components struct {
			Schemas map[string]struct {
				Required   []string       `json:"required"`
				Properties map[string]any `json:"properties"`
			} `json:"schemas"`
		} `json:"components"`
	}
	docs := map[string]shape{}
	entities := map[string]string{}
	for engine := range engines {
		folder := makeDemo(t, engine)
		text, err := os.ReadFile(filepath.Join(folder, "api", "openapi.json"))
		require.NoError(t, err)
		text = regexp.MustCompile(`,\s*"description": "[^"]*"`).ReplaceAll(text, nil)                                                                        // views carry comments on one engine only
		text = regexp.MustCompile(`"anyOf": \[\s*\{([^{}]*)\},\s*\{\s*"type": "string",\s*"enum": \[\s*"NaN"\s*\]\s*\}\s*\]`).ReplaceAll(text, []byte("$1")) // which decimal numbers may be on one engine only
		text = regexp.MustCompile(`"anyOf": \[\s*\{([^{}]*)\},\s*\{\s*"type": "string",\s*"enum": \[\s*"NaN"\s*\]\s*\},\s*\{\s*"type": "null"\s*\}\s*\]`).ReplaceAllFunc(text, func(found []byte) []byte {
			inside := regexp.MustCompile(`\{([^{}]*)\}`).FindSubmatch(found)[1]
			return bytes.Replace(inside, []byte(`"type": "number"`), []byte(`"type": ["number", "null"]`), 1)
		})
		var s shape
		require.NoError(t, json.Unmarshal(text, &s))
		docs[engine] = s
		for _, name := range []string{"hive.go", "queen.go", "sensor_reading.go", "batch_harvest.go", "apiary_yield.go", "treatment.go"} {
			code, err := os.ReadFile(filepath.Join(folder, "store", name))
			require.NoError(t, err)
			entity, _, found := strings.Cut(string(code), "Def = new")
			require.True(t, found, name)
			entity = regexp.MustCompile(`(?m) +// .*$`).ReplaceAllString(entity, "")
			entities[engine] += regexp.MustCompile(`(?m)^// .*$`).ReplaceAllString(entity, "")
		}
	}
	assert.Equal(t, docs["sqlite"], docs["postgres"])
	assert.Equal(t, docs["sqlite"], docs["mysql"])
	assert.Equal(t, entities["sqlite"], entities["postgres"])
	assert.Equal(t, entities["sqlite"], entities["mysql"])
}

// TestServiceRefusesOpenAddresses starts a service where others could reach it.
func TestServiceRefusesOpenAddresses(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	cmd := exec.Command("go", "run", "./cmd/beekeeping", "-address", "0.0.0.0:0")
	cmd.Dir = folder
	done := time.AfterFunc(2*time.Minute, func() { cmd.Process.Kill() })
	defer done.Stop()
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "can be reached from other machines")
	assert.Contains(t, string(out), "access: open")
}
