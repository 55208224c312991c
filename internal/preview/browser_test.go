package preview_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/sqlite"
	"widegate/internal/cli"
	"widegate/internal/generate"
	"widegate/internal/preview"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/testdb"
)

// browser is a page in headless Chromium.
type browser struct {
	t    *testing.T
	ctx  context.Context
	base string
}

// open starts a browser on a preview. What the page's console complains of fails
// the test.
func open(t *testing.T, handler http.Handler) *browser {
	t.Helper()
	program := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			program = path
			break
		}
	}
	if program == "" {
		missing(t, "install chromium to test the pages in a browser")
	}
	server := httptest.NewServer(handler)
	t.Cleanup(server.Close)
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 15*time.Minute) // what hangs is ended by patience
	t.Cleanup(cancel)
	chromedp.ListenTarget(ctx, func(event any) {
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			t.Errorf("the page's script failed: %s", e.ExceptionDetails.Error())
		}
	})
	b := &browser{t, ctx, server.URL}
	require.NoError(t, chromedp.Run(ctx)) // the browser lives as long as this context
	b.do(chromedp.Navigate(b.base + "/"))
	return b
}

func missing(t *testing.T, text string) {
	t.Helper()
	testdb.Missing(t, "the pages are not tested in a browser", text)
}

func (b *browser) do(actions ...chromedp.Action) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if err := chromedp.Run(ctx, actions...); err != nil {
		b.fail(err)
	}
}

// patience is how long a page may take.
const patience = time.Minute

// fail ends the test with what the page says.
func (b *browser) fail(err error) {
	b.t.Helper()
	var address, text string
	_ = chromedp.Run(b.ctx, chromedp.Location(&address), chromedp.Evaluate("document.querySelector('main').innerText.slice(0, 600)", &text))
	require.NoError(b.t, err, "%s\n%s", address, text)
}

func (b *browser) visit(path string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.base + path))
}

// click follows a link or sends a form, and waits for the next page.
func (b *browser) click(selector string) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if _, err := chromedp.RunResponse(ctx, chromedp.Click(selector, chromedp.ByQuery)); err != nil {
		b.fail(fmt.Errorf("clicking %s: %w", selector, err))
	}
}

func (b *browser) text(selector string) string {
	b.t.Helper()
	var text string
	b.do(chromedp.Text(selector, &text, chromedp.ByQuery))
	return text
}

func (b *browser) count(selector string) int {
	b.t.Helper()
	var n int
	b.do(chromedp.Evaluate(fmt.Sprintf("document.querySelectorAll(%q).length", selector), &n))
	return n
}

func (b *browser) set(selector, value string) {
	b.t.Helper()
	b.do(chromedp.SetValue(selector, value, chromedp.ByQuery))
}

// demo previews the demo, whose rows may be changed.
func demo(t *testing.T, engine string) *preview.Service {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "bees")
	var out bytes.Buffer
	words := []string{"demo", "--folder", folder, "--no-start"}
	switch engine {
	case "postgres":
		words = append(words, "--url", testdb.Postgres(t))
	case "mysql":
		words = append(words, "--url", testdb.MySQL(t))
	}
	require.Equal(t, 0, cli.Run(words, nil, &out, &out), out.String())
	file := filepath.Join(folder, "widegate.yaml")
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "formats.js"), []byte(`desk.formatters.stars = (value) => "★".repeat(Number(value));`), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "icon.svg"), []byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 8 8"><path d="M4 0l4 4-4 4-4-4z" fill="#c90"/></svg>`), 0o644))
	require.NoError(t, os.WriteFile(file, append(before, `
  bulk: 100
  formatters: formats.js
  brand: {name: The bees, icon: icon.svg, colour: "#23663a"}
entities:
  hive: {columns: {frames: {format: own stars}}}
  batch: {columns: {jar_price: {format: currency EUR}}}
`...), 0o644))
	p, err := project.Load(file)
	require.NoError(t, err)
	icon, err := p.Icon()
	require.NoError(t, err)
	script, err := p.Script()
	require.NoError(t, err)
	return opened(t, p, generate.Source(p), preview.Options{Writes: true, Title: "bees", Icon: icon, Script: script})
}

// opened is a preview that ends with the test.
func opened(t *testing.T, p *project.Project, source read.Source, o preview.Options) *preview.Service {
	t.Helper()
	c, m, err := generate.Understand(t.Context(), p, source)
	require.NoError(t, err)
	s, err := preview.Open(t.Context(), source, c, m, o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return s
}

// TestInABrowser does with the pages what people do, on each engine.
func TestInABrowser(t *testing.T) {
	for _, engine := range []string{"sqlite", "postgres", "mysql"} {
		t.Run(engine, func(t *testing.T) { testInABrowser(t, engine) })
	}
}

func testInABrowser(t *testing.T, engine string) {
	s := demo(t, engine)
	b := open(t, s)
	for _, part := range []struct {
		name string
		test func(t *testing.T, b *browser, s *preview.Service)
	}{
		{"columns", testColumns}, {"sorting", testSorting}, {"views", testViews}, {"menu", testMenu}, {"charts", testCharts}, {"formats", testFormats}, {"home", testHome}, {"signing in", testSigningIn},
		{"browse", testBrowsing}, {"create", testCreating}, {"conflict", testConflict}, {"picture", testPicture}, {"many", testMany}, {"api", testConsole}, {"schema", testSchema}, {"accessibility", testAccessibility},
	} {
		if part.name == "accessibility" && engine != "sqlite" {
			continue // the pages are the same
		}
		t.Run(part.name, func(t *testing.T) { part.test(t, &browser{t, b.ctx, b.base}, s) })
	}
}

func testBrowsing(t *testing.T, b *browser, s *preview.Service) {
	b.visit("/")
	b.click(`a.card[href="/desk/rows/apiaries"]`)
	assert.Equal(t, 10, b.count("tbody tr"))
	b.set("select[name=_property]", "name")
	b.set("select[name=_operator]", "contains")
	b.set("input[name=_value]", "north")
	b.click(".builder button")
	var filter string
	b.do(chromedp.Value("input[name=filter]", &filter, chromedp.ByQuery))
	assert.Equal(t, "CASEI(name) LIKE CASEI('%north%')", filter)
	assert.Less(t, b.count("tbody tr"), 10)
	b.click("tbody tr td:nth-child(1) a") // to the row
	apiary := b.text("h1")
	b.click(`section a[href^="/desk/under/apiaries/"]`) // to its hives
	assert.Equal(t, "Hives of "+apiary, b.text("h1"))
	b.visit("/desk/row/apiaries/1")
	b.click("section tbody tr td a") // to one of them, by the trail
	assert.Contains(t, b.text(".trail"), "North Field")
	b.click(".trail li:nth-child(3) a") // and back
	assert.Equal(t, "North Field", b.text("h1"))

	b.visit("/desk/rows/hives")
	b.do(chromedp.Click("tbody td a[data-beside]", chromedp.ByQuery), chromedp.WaitVisible(".beside .values", chromedp.ByQuery))
	assert.Equal(t, "North Field", b.text(".beside h2"), "what a row refers to opens beside it")
	assert.Equal(t, "Hives", b.text("h1"))
	b.do(chromedp.KeyEvent(kb.Escape), chromedp.WaitNotPresent(".beside", chromedp.ByQuery))

	b.visit("/desk/rows/inspections?limit=20&sortby=-done_on")
	first := b.text("tbody tr td")
	b.do(chromedp.KeyEvent("]"), chromedp.Sleep(300*time.Millisecond), chromedp.WaitVisible("a[rel=prev]", chromedp.ByQuery))
	assert.NotEqual(t, first, b.text("tbody tr td"))
	b.do(chromedp.KeyEvent("["), chromedp.Sleep(300*time.Millisecond), chromedp.WaitVisible("a[rel=next]", chromedp.ByQuery))
	assert.Equal(t, first, b.text("tbody tr td"))
	b.click("a.total")
	assert.Equal(t, "400 rows", b.text(".total"))
	b.click("a[rel~=last]")
	assert.Equal(t, 20, b.count("tbody tr"))
	var href string
	b.do(chromedp.AttributeValue("a[download]", "href", &href, nil, chromedp.ByQuery))
	res, err := http.Get(b.base + href)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Equal(t, 401, strings.Count(string(text), "\r\n")-strings.Count(string(text), "\r\n\r\n"), "all rows, whichever page is shown")
}

func testCreating(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/rows/hives")
	b.do(chromedp.KeyEvent("n"), chromedp.WaitVisible(".row-form", chromedp.ByQuery))
	b.do(chromedp.SendKeys("#f-apiary_id", "mill", chromedp.ByQuery), chromedp.WaitVisible(".choices li", chromedp.ByQuery),
		input.DispatchKeyEvent(input.KeyDown).WithKey("Enter").WithCode("Enter").WithWindowsVirtualKeyCode(13).WithText("\r"))
	assert.Equal(t, "Old Mill", b.text(".lookup .shown"), "looked up by its name")
	b.do(chromedp.SendKeys("#f-name", "Hive of the browser", chromedp.ByQuery))
	b.set("#f-frames", "99")
	b.click(".row-form button.primary")
	assert.Contains(t, b.text("#x-frames"), "at most 40")
	var kept string
	b.do(chromedp.Value("#f-name", &kept, chromedp.ByQuery))
	assert.Equal(t, "Hive of the browser", kept)
	b.set("#f-frames", "12")
	b.click(".row-form button.primary")
	assert.Equal(t, "Hive of the browser", b.text("h1"))
	assert.Equal(t, "Saved.", b.text(".notice"))
}

func testConflict(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/edit/hives/7")
	req, err := http.NewRequest("PATCH", b.base+"/api/hives/7", strings.NewReader(`{"frames":3}`))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	b.set("#f-name", "Mine")
	b.click(".row-form button.primary")
	assert.Contains(t, b.text(".problem"), "Somebody else has changed this row")
	assert.Contains(t, b.text(".problem"), "Frames\n3")
	b.click(".row-form button.primary")
	assert.Equal(t, "Mine", b.text("h1"))
}

func testPicture(t *testing.T, b *browser, _ *preview.Service) {
	picture, err := http.Get(b.base + "/api/inspection-photos/1/photo")
	require.NoError(t, err)
	defer picture.Body.Close()
	data, err := io.ReadAll(picture.Body)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "new.png")
	require.NoError(t, os.WriteFile(file, data, 0o644))
	b.visit("/desk/new/inspection-photos")
	b.set("#f-inspection_id", "1")
	b.set("#f-taken_at", "2026-05-01T10:00")
	b.do(chromedp.SetUploadFiles("#f-photo", []string{file}, chromedp.ByQuery))
	b.click(".row-form button.primary")
	var width int
	b.do(chromedp.Sleep(300*time.Millisecond), chromedp.Evaluate("document.querySelector('.values img').naturalWidth", &width))
	assert.Positive(t, width, "the picture is shown")
}

func testMany(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/rows/hives?filter=apiary_id%3D2")
	b.click(`a[href^="/desk/many/hives"]`)
	assert.Contains(t, b.text("h1"), "rows of Hives are chosen")
	b.set("select[name=property]", "temperament")
	b.set("input[name=value]", "calm")
	b.click("button[value=change]")
	assert.Contains(t, b.text(".notice"), "rows changed.")
}

func testConsole(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/docs?find=GET+/api/hives/{key}")
	b.do(chromedp.Click("#getHive summary", chromedp.ByQuery), chromedp.WaitVisible("#getHive-path-key", chromedp.ByQuery), chromedp.SendKeys("#getHive-path-key", "3", chromedp.ByQuery),
		chromedp.Click("#getHive button.primary", chromedp.ByQuery), chromedp.WaitVisible("#getHive .said pre", chromedp.ByQuery))
	assert.Contains(t, b.text("#getHive .said"), "200 OK")
	assert.Contains(t, b.text("#getHive .said pre"), `"id": 3`)
	assert.Contains(t, b.text("#getHive .curl"), "/api/hives/3'")
}

func testSchema(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/schema")
	before := ""
	b.do(chromedp.AttributeValue(".schema svg", "viewBox", &before, nil, chromedp.ByQuery), chromedp.Click(`[data-zoom="0.8"]`, chromedp.ByQuery))
	var after string
	b.do(chromedp.Evaluate("(v => [v.x, v.y, v.width, v.height].join(' '))(document.querySelector('.schema svg').viewBox.baseVal)", &after))
	assert.NotEqual(t, before, after)
	b.do(chromedp.SendKeys("[data-find]", "hatched", chromedp.ByQuery))
	assert.Equal(t, 1, b.count(".schema .found"), "the table with such a column")
	b.visit("/schema?around=queen")
	assert.Less(t, b.count(".schema svg a"), 6)
	b.click(`.schema a[href="/desk/rows/queens"]`)
	assert.Equal(t, "Queens", b.text("h1"))
}

// testAccessibility has an accessibility engine look at each kind of page, in
// light and dark, and on a telephone's width.
func testAccessibility(t *testing.T, b *browser, _ *preview.Service) {
	engine, err := os.ReadFile("../../node_modules/axe-core/axe.min.js")
	if errors.Is(err, os.ErrNotExist) {
		missing(t, "run `npm ci` to check the pages for accessibility")
	}
	require.NoError(t, err)
	for _, path := range []string{
		"/desk/", "/desk/rows/hives?sortby=-weight_kg&count=true", "/desk/rows/hives?filter=x", "/desk/rows/inspection-photos", "/desk/row/apiaries/1", "/desk/row/inspections/2", "/desk/new/hives", "/desk/edit/inspection-photos/1", "/desk/remove/hives/1",
		"/desk/many/hives?apiary_id=1", "/desk/docs?tag=hives", "/schema?around=queen", "/desk/row/hives/999",
		"/desk/?sort=size", "/desk/chart/inspections", "/desk/chart/hives?by=apiary_id", "/desk/rows/batches", "/schema", "/desk/sign-in",
	} {
		for _, look := range []struct {
			width  int64
			scheme string
		}{{1280, "light"}, {1280, "dark"}, {390, "light"}} {
			width := look.width
			b.do(chromedp.EmulateViewport(width, 800), emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: look.scheme}}))
			b.visit(path)
			var report string
			b.do(chromedp.Evaluate(string(engine)+";0", nil))
			b.do(chromedp.Evaluate("axe.run().then(r => JSON.stringify(r.violations.map(v => ({rule: v.id, help: v.help, at: v.nodes.slice(0, 3).map(n => n.html)}))))", &report,
				func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
			assert.Equal(t, "[]", report, "%s at a width of %d, %s", path, width, look.scheme)
			var wide bool
			b.do(chromedp.Evaluate("document.documentElement.scrollWidth > innerWidth + 1", &wide))
			assert.False(t, wide, "%s is wider than the window at %d", path, width)
		}
	}
	b.do(chromedp.EmulateViewport(1280, 800))
}

// TestLargeSchemaInABrowser opens the pages of 200 tables.
func TestLargeSchemaInABrowser(t *testing.T) {
	path := filepath.Join(t.TempDir(), "large.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	for i := range 200 {
		refers := ""
		if i > 0 {
			refers = fmt.Sprintf(", station_%d_id INTEGER REFERENCES station_%d (id)", i/2, i/2)
		}
		_, err := db.Exec(t.Context(), fmt.Sprintf("CREATE TABLE station_%d (id INTEGER PRIMARY KEY, name TEXT NOT NULL%s)", i, refers), nil)
		require.NoError(t, err)
	}
	_, err = db.Exec(t.Context(), "INSERT INTO station_0 VALUES (1, 'one')", nil)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	b := open(t, opened(t, project.Default(), read.Source{Engine: "sqlite", URL: path}, preview.Options{Title: "large"}))
	assert.Equal(t, 200, b.count("a.card"))
	b.click(`a.card[href="/desk/rows/stations-0"]`)
	assert.Equal(t, 1, b.count("tbody tr"))
	assert.Contains(t, b.text(".badge"), "read only")
	b.visit("/schema")
	assert.Equal(t, 200, b.count(".schema svg a"))
	b.visit("/desk/docs?find=stations-77")
	assert.Positive(t, b.count(".operation"))
	var doc map[string]any
	res, err := http.Get(b.base + "/openapi.json")
	require.NoError(t, err)
	defer res.Body.Close()
	require.NoError(t, json.NewDecoder(res.Body).Decode(&doc))
}
