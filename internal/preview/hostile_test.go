package preview_test

import (
	"database/sql"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"
	_ "modernc.org/sqlite" // makes the database

	"widegate/internal/preview"
	"widegate/internal/project"
	"widegate/internal/read"
)

// markup are texts that a page would run, or leave its place by.
var markup = []string{
	`<script>alert(1)</script>`, `"><img src=x onerror=alert(1)>`, `' onmouseover='alert(1)`, `</title><script>alert(1)</script>`, `</textarea><script>alert(1)</script>`,
	`javascript:alert(1)`, `{{.}}`, `<svg onload=alert(1)>`, `--><script>alert(1)</script>`, `</style><script>alert(1)</script>`, "\x1b[2J\u202e", `</template><script>alert(1)</script>`,
}

// TestHostilePages has markup in the names of tables and columns and in rows,
// and looks at every page: none has an element or an attribute that comes from
// them.
func TestHostilePages(t *testing.T) {
	file := filepath.Join(t.TempDir(), "bees.db")
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	name := func(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }
	for _, m := range markup {
		_, err := db.Exec("CREATE TABLE " + name("t "+m) + " (id INTEGER PRIMARY KEY, name TEXT NOT NULL, " + name("c "+m) + " TEXT, parent INTEGER REFERENCES " + name("t "+m) + " (id))")
		require.NoError(t, err)
		_, err = db.Exec("INSERT INTO "+name("t "+m)+" VALUES (1, ?, ?, 1)", m, m)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	p := project.Default()
	s := opened(t, p, read.Source{URL: file}, preview.Options{Writes: true, Title: markup[0]})
	server := httptest.NewServer(s)
	defer server.Close()
	seen, wait := map[string]bool{}, []string{"/", "/desk/", "/desk/docs"}
	for len(wait) > 0 && len(seen) < 400 {
		at := wait[0]
		wait = wait[1:]
		if seen[at] {
			continue
		}
		seen[at] = true
		res, err := http.Get(server.URL + at)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		require.Less(t, res.StatusCode, 500, "%s: %s", at, text)
		if !strings.HasPrefix(res.Header.Get("Content-Type"), "text/html") {
			continue
		}
		assert.Contains(t, res.Header.Get("Content-Security-Policy"), "script-src 'self'", at)
		wait = append(wait, checkPage(t, at, string(text))...)
	}
	t.Logf("%d pages", len(seen))
	require.Greater(t, len(seen), 3*len(markup), "the pages lead to each other")
}

var handlerName = regexp.MustCompile(`(?i)^on[a-z]+$`)

// checkPage looks at the elements of a page, and returns where its links lead.
func checkPage(t *testing.T, at, text string) (links []string) {
	t.Helper()
	tokens := html.NewTokenizer(strings.NewReader(text))
	for {
		switch tokens.Next() {
		case html.ErrorToken:
			return links
		case html.StartTagToken, html.SelfClosingTagToken:
			tag := tokens.Token()
			source := ""
			for _, a := range tag.Attr {
				assert.False(t, handlerName.MatchString(a.Key), "%s: %s", at, tag)
				assert.False(t, slices.Contains([]string{"href", "src", "action"}, a.Key) && strings.HasPrefix(strings.ToLower(strings.TrimSpace(a.Val)), "javascript:"), "%s: %s", at, tag)
				if a.Key == "src" {
					source = a.Val
				}
				if tag.Data == "a" && a.Key == "href" && strings.HasPrefix(a.Val, "/") {
					links = append(links, a.Val)
				}
			}
			assert.False(t, tag.Data == "script" && !strings.HasPrefix(source, "/"), "%s: a script in the page: %s", at, tag)
			assert.False(t, tag.Data == "img" && source == "x", "%s: %s", at, tag)
		}
	}
}
