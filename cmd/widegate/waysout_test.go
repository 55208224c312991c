package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// wayOut is a class of conflict with a case of it, and the edit that its text asks for.
// An empty text removes the file.
type wayOut struct {
	class, archive string
	file, text     string // the edit of mine
	keepMine       int    // exit status of --keep mine at each place; -1 where there is no place
	keepNew        int
}

// The ways out of each class: the edit, the developer's text, the new text.
var waysOut = []wayOut{
	{"both-inserted", "both-insert-at-one-place", "api.go", "package store\n\nfunc a() {\n\tfirst()\n\tsecond()\n}\n\nfunc first()  {}\nfunc second() {}\n", 0, 0},
	{"both-added", "both-added-different", "own.go", "package store\n\nfunc ours() { println() }\n", 0, 0},
	{"both-changed", "statement-changed-by-both", "a.go", "package store\n\nfunc f(n int) int {\n\tn = n + 3\n\treturn n\n}\n", 0, 0},
	{"changed-dropped", "field-dropped-changed", "hive.go", "package store\n\ntype Hive struct {\n\tID int64\n}\n", 0, 0},
	{"not-ours", "not-ours", "hive.go", "", 0, 0},
	{"maybe-renamed", "type-maybe-renamed", "a.go", "package store\n\ntype Colony struct {\n\tID     int\n\tName   string\n\tFrames int64\n\tOwn    string\n}\n\ntype Hive struct {\n\tID     int\n\tName   string\n\tFrames int\n\tColour string\n}\n", 0, 0},
	{"import-clash", "import-clash", "a.go", "package store\n\nimport safe \"crypto/rand\"\n\nfunc f() { safe.Text() }\n", -1, -1},
	{"all-missing", "everything-missing", "a.go", "package store\n\nfunc a() {}\n", 0, 0},
	{"breaks", "use-of-a-dropped-field-breaks", "own.go", "package store\n\nfunc Own(h *Hive) int { return h.ID }\n", 0, 0},
	{"needs-deleted", "needs-what-was-deleted", "hive.go", "package store\n\nfunc help() int { return 1 }\n\nfunc F() int { return 2 }\n", 0, 0},
	{"constant", "iota-appended-by-both", "hive.go", "package store\n\nconst (\n\tA = iota\n\tB\n)\n\nconst Own = 7\n", -1, -1},
	{"route-clash", "route-patterns-clash", "a.go", "package api\n\nimport \"net/http\"\n\nfunc one(mux *http.ServeMux) {\n\tmux.HandleFunc(\"GET /mine/{key}\", nil)\n\tmux.HandleFunc(\"GET /hives\", nil)\n}\n", -1, -1},
	{"unreadable", "broken-file-refused", "hive.go", "package store\n\ntype Hive struct{}\n", -1, -1},
	{"markers", "markers-refused", "hive.go", "package store\n\ntype Hive struct{}\n", -1, -1},
	{"declared-twice", "declared-twice", "hive.go", "package store\n\nfunc a() {}\n", -1, -1},
}

// TestWaysOut follows what is printed for each class of conflict.
func TestWaysOut(t *testing.T) {
	for _, w := range waysOut {
		t.Run(w.class, func(t *testing.T) {
			t.Parallel()
			r := w.start(t)
			out, status := r.merge()
			require.Equal(t, 3, status, out)
			require.Contains(t, out, "("+w.class+")")
			places := placesIn(out)

			edited := w.start(t)
			at := filepath.Join(edited.folder, "mine", w.file)
			require.NoError(t, os.RemoveAll(at))
			if w.text != "" {
				edited.write("mine/"+w.file, w.text)
			}
			said, status := edited.merge()
			assert.Zero(t, status, "after the edit: %s", said)

			results := []string{fmt.Sprintf("edit %d", status)}
			for _, way := range []struct {
				side string
				want int
			}{{"mine", w.keepMine}, {"new", w.keepNew}} {
				if way.want < 0 {
					assert.Empty(t, places, "no place is offered: %s", out)
					results = append(results, way.side+" not offered")
					continue
				}
				require.NotEmpty(t, places, out)
				chosen := w.start(t)
				var keep []string
				for _, place := range places {
					keep = append(keep, "--keep", way.side+" "+place)
				}
				said, status := chosen.merge(keep...)
				assert.Equal(t, way.want, status, "%s: %s", way.side, said)
				results = append(results, fmt.Sprintf("%s %d", way.side, status))
			}
			t.Logf("%s: %s", w.class, strings.Join(results, ", "))
		})
	}
}

// placesIn are the places that were printed for a choice.
func placesIn(out string) []string {
	var places []string
	for line := range strings.Lines(out) {
		if place, ok := strings.CutPrefix(strings.TrimSpace(line), "place "); ok {
			places = append(places, place)
		}
	}
	return places
}

// start lays the three versions of a case out.
func (w wayOut) start(t *testing.T) *repository {
	t.Helper()
	r := &repository{t, t.TempDir(), t.TempDir()}
	a, err := txtar.ParseFile("../../internal/merge/testdata/cases/" + w.archive + ".txtar")
	require.NoError(t, err)
	for _, f := range a.Files {
		if strings.Contains(f.Name, "/") {
			r.write(f.Name, strings.ReplaceAll(string(f.Data), "␀", ""))
		}
	}
	for _, folder := range []string{"base", "mine", "theirs"} {
		require.NoError(t, os.MkdirAll(filepath.Join(r.folder, folder), 0o755))
	}
	return r
}

func (r *repository) merge(keep ...string) (string, int) {
	r.t.Helper()
	return r.run("widegate", append(append([]string{"merge"}, keep...), "base", "mine", "theirs")...)
}
