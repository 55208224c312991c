package preview_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/rest"
	"widegate/gate/sqlite"
	"widegate/internal/preview"
	"widegate/internal/project"
	"widegate/internal/read"
)

// script runs a line of script on the page.
func (b *browser) script(line string) (out string) {
	b.t.Helper()
	b.do(chromedp.Evaluate("String("+line+")", &out))
	return out
}

// leads runs a line of script that leads to another page, and waits for that.
func (b *browser) leads(line string) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	if _, err := chromedp.RunResponse(ctx, chromedp.Evaluate("void ("+line+")", nil)); err != nil {
		b.fail(fmt.Errorf("%s: %w", line, err))
	}
}

// until waits for something that a page does by itself, which may be to lead to
// another one.
func (b *browser) until(condition string) {
	b.t.Helper()
	require.Eventually(b.t, func() bool {
		var holds bool
		return chromedp.Run(b.ctx, chromedp.Evaluate(condition, &holds)) == nil && holds
	}, patience, 50*time.Millisecond, condition)
}

// forget empties what the browser keeps of the pages.
func (b *browser) forget() { b.script("localStorage.clear()") }

func (b *browser) heads() string {
	return b.script(`[...document.querySelectorAll("thead th")].map(h => h.textContent.trim()).join("|")`)
}

func testColumns(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/rows/hives")
	before := b.heads()
	b.do(chromedp.Click(`[data-toggle="chooser"]`, chromedp.ByQuery))
	assert.Equal(t, "frames", b.script(`(() => { const boxes = [...document.querySelectorAll("#chooser input[type=checkbox]")]; boxes.forEach(x => { x.checked = ["name", "frames"].includes(x.value); }); boxes.find(x => x.value === "frames").focus(); return document.activeElement.value; })()`))
	for range 12 { // up to the top, by keys
		b.do(chromedp.KeyEvent(kb.ArrowUp, chromedp.KeyModifiers(input.ModifierAlt)))
	}
	b.click("#chooser .primary")
	assert.Equal(t, "Frames|Name", b.heads())
	b.visit("/desk/rows/queens")
	b.visit("/desk/rows/hives")
	b.until(`location.search.includes("properties") && document.readyState === "complete"`)
	assert.Equal(t, "Frames|Name", b.heads(), "the browser has kept it")
	b.do(chromedp.Click(`[data-toggle="chooser"]`, chromedp.ByQuery))
	b.click("#chooser [data-forget]")
	assert.Equal(t, before, b.heads())
	b.forget()
}

func testSorting(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/rows/hives")
	b.click(`thead a[href*="sortby=temperament"]`)
	b.leads(`document.querySelector('thead a[data-also*="temperament%2Cname"]').dispatchEvent(new MouseEvent("click", {shiftKey: true, bubbles: true, cancelable: true}))`)
	assert.Equal(t, "12", b.script(`[...document.querySelectorAll("thead sup")].map(x => x.textContent).sort().join("")`))
	b.click(`.sizes a[href*="limit=25"]`)
	assert.Equal(t, 25, b.count("tbody tr"))
	b.click(`.pages [rel~="last"]`)
	assert.Contains(t, b.text(".total"), "50 rows")
	assert.Equal(t, 0, b.count(`.pages [rel="next"]`))
	b.click(`.pages [rel="first"]`)
	assert.Equal(t, 0, b.count(`.pages [rel="prev"]`))
	b.forget()
}

func testViews(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/rows/hives?filter=frames%3E9&sortby=-name")
	b.do(chromedp.Click(".views button", chromedp.ByQuery), chromedp.SendKeys(".views input", "Large ones\r", chromedp.ByQuery))
	b.visit("/desk/rows/hives?limit=25")
	assert.Contains(t, b.text(".views select"), "Large ones")
	b.leads(`(() => { const s = document.querySelector(".views select"); s.value = [...s.options].find(o => o.text === "Large ones").value; s.dispatchEvent(new Event("change")); })()`)
	assert.Equal(t, "frames>9", b.script(`document.querySelector("[name=filter]").value`))
	b.do(chromedp.Click(".views button:last-child", chromedp.ByQuery))
	assert.Equal(t, 0, b.count(".views select"))
	b.forget()
}

func testMenu(t *testing.T, b *browser, _ *preview.Service) {
	b.forget()
	b.visit("/desk/rows/queens")
	b.visit("/desk/rows/keepers")
	assert.Equal(t, "Queens", b.text(".menu .recent"))
	b.do(chromedp.SendKeys("[data-menu-find]", "photo", chromedp.ByQuery))
	assert.Equal(t, "Inspection photos", b.script(`[...document.querySelectorAll(".menu li:not([hidden]) a[data-path]")].filter(a => a.offsetParent).map(a => a.textContent).join()`))
	b.leads(`document.querySelector("[data-menu-find]").dispatchEvent(new KeyboardEvent("keydown", {key: "Enter", bubbles: true}))`)
	assert.Equal(t, "Inspection photos", b.text("h1"))
	b.do(chromedp.Click(".menu summary", chromedp.ByQuery))
	b.visit("/desk/rows/queens")
	assert.Equal(t, "false", b.script(`document.querySelector(".menu details").open`), "a group stays folded")
	b.do(chromedp.Click(".menu summary", chromedp.ByQuery))
	b.forget()
}

func testCharts(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/rows/inspections")
	b.click(`a[href^="/desk/chart/inspections"]`)
	assert.Positive(t, b.count(".chart .dot"), "over time")
	b.visit("/desk/chart/hives?by=temperament")
	assert.Equal(t, 3, b.count(".chart .bar"))
	calm := b.script(`[...document.querySelectorAll(".numbers tr")].find(r => r.textContent.includes("calm")).querySelector(".number").textContent`)
	b.click(`.numbers a[href*="calm"]`)
	b.click("a.total")
	assert.Equal(t, calm+" rows", b.text(".total"), "as the rows are")
	b.visit("/desk/chart/hives?by=weight_kg&measure=avg(frames)")
	assert.Greater(t, b.count(".chart .bar"), 4)
	b.forget()
}

func testFormats(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/rows/hives?properties=name,frames,acquired_on&limit=25")
	assert.Equal(t, "true", b.script(`[...document.querySelectorAll('[data-format="own stars"]')].every(c => c.textContent === "★".repeat(Number(c.dataset.value)))`))
	assert.Equal(t, "true", b.script(`[...document.querySelectorAll('[data-format="date"]')].every(c => c.textContent === new Intl.DateTimeFormat(undefined, {dateStyle: "medium", timeZone: "UTC"}).format(new Date(c.dataset.value)))`))
	b.visit("/desk/rows/batches?properties=jar_price&filter=jar_price%3E0")
	assert.Equal(t, "true", b.script(`(() => { const c = document.querySelector('[data-format="currency EUR"]'); return c.textContent.includes("€"); })()`))
	assert.Equal(t, "The bees", strings.TrimSpace(b.text(".brand")))
	assert.Equal(t, "rgb(35, 102, 58)", b.script(`getComputedStyle(document.querySelector(".primary")).backgroundColor`))
	b.visit("/desk/rows/inspection-photos")
	assert.Positive(t, b.count(`tbody img[src^="/desk/api/inspection-photos/"]`))
	b.do(chromedp.Poll(`document.querySelector("tbody img").naturalWidth > 0`, nil))
	b.forget()
}

func testHome(t *testing.T, b *browser, _ *preview.Service) {
	b.visit("/desk/?sort=name")
	assert.Equal(t, "Apiaries", b.text(".card-name"))
	b.visit("/desk/?sort=size")
	assert.Equal(t, "Sensor readings", b.text(".card-name"))
	b.do(chromedp.WaitVisible("[data-load] li a", chromedp.ByQuery))
	assert.NotContains(t, b.text("[data-load]"), "Looking")
}

// testSigningIn has pages that ask for credentials.
func testSigningIn(t *testing.T, b *browser, s *preview.Service) {
	guarded, err := s.Guarded(func(r *http.Request) (*rest.Identity, error) {
		switch r.Header.Get("X-Api-Key") {
		case "":
			return nil, nil
		case "good":
			return &rest.Identity{Subject: "Heather", Roles: []string{"keeper"}}, nil
		}
		return nil, rest.ErrCredentials
	}, map[string]rest.Allow{
		"":        {Read: []string{"keeper"}, Create: []string{"keeper"}, Change: []string{"keeper"}},
		"forages": {Read: []string{rest.Anybody}, Rows: map[string]string{rest.Anybody: "id < 0"}},
	})
	require.NoError(t, err)
	server := httptest.NewServer(guarded)
	defer server.Close()
	in := &browser{t, b.ctx, server.URL}
	in.visit("/desk/rows/forages")
	assert.Contains(t, in.text(".empty"), "There are no rows here that you may see. Sign in")
	in.click(".empty a")
	in.do(chromedp.SendKeys("#credentials", "bad", chromedp.ByQuery))
	in.click(".row-form .primary")
	assert.NotEmpty(t, in.text(".fault"))
	in.do(chromedp.SendKeys("#credentials", "good", chromedp.ByQuery))
	in.click(".row-form .primary")
	assert.Equal(t, "Forages", in.text("h1"), "back where it was asked for")
	assert.Equal(t, "Heather", in.text(".who"))
	in.visit("/desk/rows/inspection-photos")
	in.until(`document.querySelector("tbody img") && document.querySelector("tbody img").naturalWidth > 0`) // with the same credentials
	in.visit("/desk/docs")
	assert.Equal(t, 1, in.count("[data-credentials]"))
	in.visit("/desk/")
	in.until(`document.querySelector('[data-size="hive-overviews"]').textContent > 0`)
	in.click(".right form button")
	assert.Equal(t, 0, in.count(".who"))
	assert.Equal(t, 0, in.count(`a.card[href="/desk/rows/hives"]`), "what may be seen by nobody else is gone")
}

// TestExtremesInABrowser has a table of 250 columns, one of many rows, texts that
// are long and read from the right, and references of two columns.
func TestExtremesInABrowser(t *testing.T) {
	path := filepath.Join(t.TempDir(), "extreme.db")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	db, err := sqlite.Open(t.Context(), path)
	require.NoError(t, err)
	columns := make([]string, 250)
	for i := range columns {
		columns[i] = fmt.Sprintf("reading_%d INTEGER DEFAULT %d", i, i)
	}
	for _, s := range []string{
		"CREATE TABLE wide (id INTEGER PRIMARY KEY, " + strings.Join(columns, ", ") + ")",
		"INSERT INTO wide DEFAULT VALUES",
		"CREATE TABLE region (country TEXT NOT NULL, code TEXT NOT NULL, name TEXT NOT NULL, PRIMARY KEY (country, code))",
		"CREATE TABLE place (id INTEGER PRIMARY KEY, country TEXT, code TEXT, words TEXT, FOREIGN KEY (country, code) REFERENCES region (country, code))",
		"INSERT INTO region VALUES ('CH', 'BE', 'Bern and around')",
		"INSERT INTO place VALUES (1, 'CH', 'BE', 'مرحبا بالنحل في هذا المكان الجميل'), (2, NULL, NULL, '" + strings.Repeat("Wabe", 400) + "')",
		"CREATE TABLE many (id INTEGER PRIMARY KEY, n INTEGER NOT NULL)",
		"INSERT INTO many (n) WITH RECURSIVE c (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < 1000000) SELECT i FROM c",
	} {
		_, err := db.Exec(t.Context(), s, nil)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	b := open(t, opened(t, project.Default(), read.Source{Engine: "sqlite", URL: path}, preview.Options{Title: "extreme"}))
	b.visit("/desk/rows/places")
	assert.Equal(t, "Bern and around", b.text(`a[href="/desk/row/regions/CH,BE"]`), "of two columns, by what tells the row")
	assert.Equal(t, "rtl", b.script(`getComputedStyle([...document.querySelectorAll("td span")].find(s => s.textContent.includes("مرحبا"))).direction`))
	for _, page := range []string{"/desk/rows/places", "/desk/rows/wides", "/desk/row/places/2", "/desk/row/wides/1", "/desk/rows/manies", "/desk/chart/manies"} {
		b.visit(page)
		assert.Equal(t, "false", b.script("document.documentElement.scrollWidth > innerWidth + 1"), page)
	}
	b.visit("/desk/rows/places")
	assert.Equal(t, "false", b.script(`(() => { const s = document.querySelector(".scroll"); return s.scrollWidth > s.clientWidth + 1; })()`), "the last column is not cut")
	b.visit("/desk/rows/wides")
	assert.Equal(t, "false", b.script(`(() => { const s = document.querySelector(".scroll"); return s.scrollWidth > s.clientWidth + 1; })()`))
	assert.Equal(t, 251, b.count("#chooser li"))
	b.visit("/desk/rows/manies?count=true")
	assert.Contains(t, strings.ReplaceAll(b.text(".total"), "\u202f", ""), "1000000 rows")
	b.click(`.pages [rel~="last"]`)
	assert.Contains(t, b.text(".problem"), "Sort the other way round")
}

// TestScriptsArePreviewed makes the tables of scripts in an embedded database.
func TestScriptsArePreviewed(t *testing.T) {
	for engine, text := range map[string]string{
		"sqlite":   "CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT NOT NULL);\nINSERT INTO hive (name) VALUES ('First');",
		"postgres": "CREATE TYPE mood AS ENUM ('calm', 'fierce');\nCREATE TABLE keeper (id serial PRIMARY KEY);\nCREATE TABLE hive (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, keeper_id int REFERENCES keeper, name varchar(30) NOT NULL, mood mood NOT NULL DEFAULT 'calm', tags text[], made_at timestamptz NOT NULL DEFAULT now(), weight numeric(6,2), UNIQUE (name));\nCREATE VIEW calm AS SELECT * FROM hive;",
		"mysql":    "CREATE TABLE keeper (id int AUTO_INCREMENT PRIMARY KEY);\nCREATE TABLE hive (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, keeper_id int, name varchar(30) NOT NULL, mood enum('calm','fierce') NOT NULL DEFAULT 'calm', ok tinyint(1) NOT NULL DEFAULT 1, made_at timestamp NOT NULL DEFAULT CURRENT_TIMESTAMP, FOREIGN KEY (keeper_id) REFERENCES keeper (id)) COMMENT 'A box';",
	} {
		folder := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(folder, "1.sql"), []byte(text), 0o644))
		source, err := read.Parse([]string{folder}, engine)
		require.NoError(t, err)
		made, notes, err := preview.Embed(t.Context(), source, filepath.Join(t.TempDir(), "made.db"))
		require.NoError(t, err, engine)
		assert.Equal(t, engine == "postgres", len(notes) == 1, engine)
		s := opened(t, project.Default(), made, preview.Options{Writes: true, Title: "made"})
		w := httptest.NewRecorder()
		r := httptest.NewRequest("POST", "http://localhost/api/hives", strings.NewReader(`{"name":"New"}`))
		r.Header.Set("Content-Type", "application/json")
		s.ServeHTTP(w, r)
		assert.Equal(t, 201, w.Code, "%s: %s", engine, w.Body)
		if engine != "sqlite" {
			assert.Contains(t, w.Body.String(), `"mood":"calm"`)
			continue
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, "2.sql"), []byte("ALTER TABLE hive ADD COLUMN frames INTEGER;"), 0o644))
		_, _, err = preview.Embed(t.Context(), source, made.URL)
		require.NoError(t, err)
		rows, err := read.Names(t.Context(), made, "SELECT name FROM hive ORDER BY id")
		require.NoError(t, err)
		assert.Equal(t, []string{"First", "New"}, rows, "what was entered stays when a script is added")
	}
}
