package generate_test

import (
	"bytes"
	"cmp"
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/sqlite"
	"widegate/internal/cli"
	"widegate/internal/testdb"
	"widegate/internal/testdb/dialects"
)

// clientSettings ask for the clients.
const clientSettings = "clients: {typescript: {folder: clients/typescript, exact: true}, go: {folder: client}}\n"

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

// wrongUse is a line that must not compile, with a part of what the compiler says.
var wrongUse = regexp.MustCompile(`^(.*) //! (.+)$`)

// TestWrongUsesOfClients has the compiler refuse uses of the client, each with a
// message that names what is wrong, and take those that are right.
func TestWrongUsesOfClients(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, "\nclients: {typescript: {folder: clients/typescript}}\n")
	at := compileClient(t, folder)
	text, err := os.ReadFile(filepath.Join("testdata", "clients", "wrong.ts"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(at, "wrong.ts"), text, 0o644))
	out, err := exec.Command(nodeTool(t, "tsc"), "--noEmit", "-p", at).CombinedOutput()
	require.Error(t, err)
	said := map[int]string{}
	at = "" // of what the compiler says now
	place := regexp.MustCompile(`^\S*wrong\.ts\((\d+),\d+\): `)
	for _, line := range strings.Split(string(out), "\n") {
		if m := place.FindStringSubmatch(line); m != nil {
			at = m[1]
		}
		n, _ := strconv.Atoi(at)
		said[n] += line + "\n"
	}
	cases := 0
	for i, line := range strings.Split(string(text), "\n") {
		m := wrongUse.FindStringSubmatch(line)
		if m == nil {
			assert.Empty(t, said[i+1], "%s", line)
			continue
		}
		cases++
		assert.Contains(t, said[i+1], m[2], "%s", m[1])
	}
	assert.Greater(t, cases, 40)
}

// TestSizeOfClients holds what a page loads of the client to its bounds: the runtime,
// and what each resource adds.
func TestSizeOfClients(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, "\nclients: {typescript: {folder: clients/typescript}}\n")
	at := filepath.Join(folder, "clients", "typescript")
	size := func(text string) int {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(at, "page.ts"), []byte(text), 0o644))
		out, err := exec.Command(nodeTool(t, "esbuild"), filepath.Join(at, "page.ts"), "--bundle", "--minify", "--format=esm").Output()
		require.NoError(t, err)
		var b bytes.Buffer
		w, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
		require.NoError(t, err)
		_, err = w.Write(out)
		require.NoError(t, errors.Join(err, w.Close()))
		return b.Len()
	}
	runtime := size(`import { Client } from "./client.ts"; console.log(new Client({ url: "/api" }));`)
	one := size(`import { Client } from "./client.ts"; import { hives } from "./resources/hive.ts"; console.log(hives(new Client({ url: "/api" })));`)
	all := size(`import { connect } from "./index.ts"; console.log(connect({ url: "/api" }));`)
	t.Logf("the sender alone %d bytes, with one resource %d, with all 16 %d", runtime, one, all)
	assert.Less(t, one, 8<<10)
	assert.Less(t, (all-one)/15, 300)
	assert.Less(t, runtime, one, "what is not used is left out")
}

// TestClientOfAMoodyService has the client meet a service that is slow or away.
func TestClientOfAMoodyService(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, "\nclients: {typescript: {folder: clients/typescript}}\n")
	script, err := filepath.Abs(filepath.Join("testdata", "clients", "moody.mjs"))
	require.NoError(t, err)
	out, err := exec.Command("node", script, compileClient(t, folder)).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "17\n", string(out))
}

// TestDatesOfClients has points in time as Dates.
func TestDatesOfClients(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, "  expose: {SearchHives: [], HivesOfKeepers: []}\nclients: {typescript: {folder: clients/typescript, dates: true}}\n")
	script, err := filepath.Abs(filepath.Join("testdata", "clients", "dates.mjs"))
	require.NoError(t, err)
	s := startService(t, folder)
	out, err := exec.Command("node", script, compileClient(t, folder), s.base+"/api").CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// drive uses the page as a person would: it saves a name that is too long, and goes
// through a relation.
const drive = `<script type="module">
const until = async (there) => { for (let i = 0; i < 200; i++) { const x = there(); if (x) return x; await new Promise((done) => setTimeout(done, 50)); } throw new Error("it does not come: " + there); };
const label = (name) => [...document.querySelectorAll("label")].find((l) => l.firstChild?.textContent === name);
try {
  const input = (await until(() => label("name"))).querySelector("input");
  input.value = "x".repeat(99);
  input.form.requestSubmit();
  await until(() => label("name").querySelector(".fault").textContent);
  document.body.dataset.fault = label("name").querySelector(".fault").textContent;
  document.body.dataset.problem = document.querySelector("#problem").textContent;
  [...document.querySelectorAll("button")].find((b) => b.textContent === "inspections").click();
  const link = await until(() => document.querySelector("td a[href^='#inspections/']"));
  document.body.dataset.related = link.getAttribute("href");
  link.click();
  await until(() => document.querySelector("h1").textContent.startsWith("inspections "));
  const frames = label("brood_frames").querySelector("input");
  frames.value = "9";
  frames.form.requestSubmit();
  await until(() => !frames.isConnected && label("brood_frames")?.querySelector("input").value === "9");
  location.hash = "hives?filter=frames%20%3E%20&q=";
  document.body.dataset.refused = await until(() => document.querySelector("#problem").textContent);
  document.body.dataset.ended = "well";
} catch (e) { document.body.dataset.ended = e.stack; }
</script>`

// TestPageOfClients uses the page that comes with the client in a browser, from another
// origin than the service's; on all engines at full length.
func TestPageOfClients(t *testing.T) {
	program, err := exec.LookPath("chromium")
	if err != nil {
		testdb.Missing(t, "chromium is not installed", "install it to test the page in a browser")
	}
	for engine := range engines {
		t.Run(engine, func(t *testing.T) {
			if engine != dialects.SQLite && os.Getenv("WIDEGATE_LONG") == "" {
				t.Skip("all engines are for make soak")
			}
			testPageOfClients(t, program, engine)
		})
	}
}

func testPageOfClients(t *testing.T, program, engine string) {
	t.Helper()
	folder := makeDemo(t, engine)
	at := filepath.Join(folder, "clients", "typescript")
	pages := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/page/drive.html" {
			text, err := os.ReadFile(filepath.Join(at, "page", "index.html"))
			assert.NoError(t, err)
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, string(text)+drive)
			return
		}
		http.FileServer(http.Dir(at)).ServeHTTP(w, r)
	}))
	defer pages.Close()
	addTo(t, folder, "  cors: ["+pages.URL+"]\nclients: {typescript: {folder: clients/typescript, page: true}}\n")
	compileClient(t, folder)
	s := startService(t, folder)
	address := pages.URL + "/page/drive.html?api=" + url.QueryEscape(s.base+"/api") + "#hives/7"
	out, err := exec.Command(program, "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=30000", "--dump-dom", address).Output()
	require.NoError(t, err)
	body := regexp.MustCompile(`<body[^>]*>`).FindString(string(out))
	assert.Contains(t, body, `data-fault="at most 60 characters; got 99"`)
	assert.Contains(t, body, `data-problem="Unprocessable Entity: one value of the body is not right"`)
	assert.Contains(t, body, `data-related="#inspections/`)
	assert.Contains(t, body, `data-refused="Bad Request: `)
	assert.Contains(t, body, `data-ended="well"`)
}

// TestStoryOfAFrontEnd changes a schema, five times at full length, under a front end that uses the
// client. What `changes` foretells of it must be what the compiler says afterwards.
func TestStoryOfAFrontEnd(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, "\nclients: {typescript: {folder: clients/typescript}}\n")
	packages, err := filepath.Abs(filepath.Join("..", "..", "node_modules"))
	require.NoError(t, err)
	require.NoError(t, os.Symlink(packages, filepath.Join(folder, "node_modules")))
	text, err := os.ReadFile(filepath.Join("testdata", "clients", "front.ts"))
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(folder, "web"), 0o755))
	front := filepath.Join(folder, "web", "front.ts")
	require.NoError(t, os.WriteFile(front, text, 0o644))
	options := strings.Replace(string(mustRead(t, filepath.Join(folder, "clients", "typescript", "tsconfig.json"))), `"include": [`, `"include": ["../../web/*.ts", `, 1)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "clients", "typescript", "tsconfig.web.json"), []byte(options), 0o644))
	said := func() []string {
		out, _ := exec.Command(nodeTool(t, "tsc"), "--noEmit", "-p", filepath.Join(folder, "clients", "typescript", "tsconfig.web.json")).CombinedOutput()
		return places(regexp.MustCompile(`web/front\.ts\((\d+),\d+\)`), string(out))
	}
	require.Empty(t, said())
	db, err := sqlite.Open(t.Context(), filepath.Join(folder, "bees.db"))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	config := filepath.Join(folder, "widegate.yaml")
	broken := 0
	changes := []struct {
		name, sql string
		flags     []string
	}{
		{"a column is dropped", "ALTER TABLE queen DROP COLUMN is_clipped", nil},
		{"a column is renamed", "ALTER TABLE queen RENAME COLUMN breed TO lineage", []string{"--renamed", "queen.breed=lineage"}},
		{"a view is dropped", "DROP VIEW apiary_yield", nil},
		{"a column changes its type", "ALTER TABLE sensor_reading DROP COLUMN temperature_c; ALTER TABLE sensor_reading ADD COLUMN temperature_c TEXT", []string{"--renamed", "sensor_reading.temperature_c="}},
		{"a table is dropped", "DROP TABLE inspection_photo", nil},
	}
	if os.Getenv("WIDEGATE_LONG") == "" {
		changes = changes[:1]
	}
	for _, change := range changes {
		_, err := db.Exec(t.Context(), change.sql, nil)
		require.NoError(t, err, change.name)
		var out bytes.Buffer
		cli.Run(append([]string{"changes", "--config", config}, change.flags...), nil, &out, &out)
		_, callers, _ := strings.Cut(out.String(), "Code that uses the client\n")
		foretold := places(regexp.MustCompile(`(?m)^  web/front\.ts:(\d+): `), callers)
		before := said()
		out.Reset()
		require.Equal(t, 0, cli.Run(append([]string{"write", "--yes", "--config", config}, change.flags...), nil, &out, &out), "%s: %s", change.name, out.String())
		after := said()
		fresh := slices.DeleteFunc(slices.Clone(after), func(line string) bool { return slices.Contains(before, line) })
		assert.Equal(t, fresh, slices.DeleteFunc(foretold, func(line string) bool { return slices.Contains(before, line) }), "%s: %s", change.name, out.String())
		t.Logf("%s: lines %v", change.name, fresh)
		broken += len(fresh)
	}
	assert.GreaterOrEqual(t, broken, 2)
}

// places are the lines that a pattern finds, each once, in order.
func places(pattern *regexp.Regexp, text string) (lines []string) {
	for _, m := range pattern.FindAllStringSubmatch(text, -1) {
		if !slices.Contains(lines, m[1]) {
			lines = append(lines, m[1])
		}
	}
	slices.SortFunc(lines, func(a, b string) int { return cmp.Or(len(a)-len(b), strings.Compare(a, b)) })
	return lines
}

func mustRead(t *testing.T, file string) []byte {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	return text
}
