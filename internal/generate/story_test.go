package generate

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/examples/beekeeping"
)

// story is what happens to a project: each chapter is an edit of the developer
// and then a change of the schema.
var story = []struct {
	edit   func(t *testing.T, root string)
	schema [2]string // replaced by
}{
	{replaceIn("store/hive.go", "IsActive    bool                     `json:\"is_active\"`", "IsActive    bool                     `json:\"is_active\"`\n\tPainted bool `json:\"-\"` // ours"),
		[2]string{"CREATE TABLE queen ( --", "CREATE TABLE swarm (id INTEGER PRIMARY KEY, hive_id BIGINT NOT NULL REFERENCES hive (id), seen_on DATE NOT NULL);\nCREATE TABLE queen ( --"}},
	{replaceIn("api/hive.go", "\t\trest.On(\"GET /hives\", s.listHives),\n", "\t\trest.On(\"GET /hives\", s.listHives),\n\t\trest.On(\"GET /hives/heaviest\", s.listHives), // ours\n"),
		[2]string{"seen_on DATE NOT NULL)", "seen_on DATE NOT NULL, size INTEGER)"}},
	{replaceIn("api/hive.go", "\treturn rest.SendRow(w, r, s.hive, key)\n", "\tw.Header().Set(\"X-Ours\", \"yes\")\n\treturn rest.SendRow(w, r, s.hive, key)\n"),
		[2]string{"  frames ", "  colour TEXT,\n  frames "}},
	{replaceIn("store/keeper.go", "`json:\"email\"`", "`json:\"email,omitempty\" xml:\"mail\"`"),
		[2]string{"  email VARCHAR(120)", "  mail_address VARCHAR(120)"}},
	{replaceIn("api/openapi.json", "\"A box of bees that stands in an apiary.\"", "\"Our box of bees.\""),
		[2]string{"CREATE TABLE swarm (", "CREATE TABLE frame (id INTEGER PRIMARY KEY, hive_id BIGINT NOT NULL REFERENCES hive (id), place INTEGER NOT NULL);\nCREATE TABLE swarm ("}},
	{replaceIn("store/hive.go", "// Hive is a box of bees that stands in an apiary.", "// Hive is a box of bees that stands in an apiary.\n// We paint ours."),
		[2]string{"  colour TEXT,\n", "  colour TEXT NOT NULL DEFAULT 'white',\n"}},
	{moveLast("api/hive.go", "api/hive_get.go", "// getHive answers GET"),
		[2]string{"size INTEGER)", "size INTEGER, noise INTEGER)"}},
	{appendIn("store/queen.go", "\n// Old reports whether a queen should be replaced.\nfunc (q *Queen) Old(year int64) bool { return year > 2 }\n"),
		[2]string{"  mail_address VARCHAR(120) UNIQUE,\n", "  mail_address VARCHAR(120) UNIQUE,\n  marked_with TEXT,\n"}},
	{replaceIn("api/service.go", "\t\tBase:    \"/api\",", "\t\tBase:    \"/bees\", // ours"),
		[2]string{"CREATE TABLE frame (id", "CREATE TABLE frame (wax INTEGER, id"}},
	{replaceIn("store/hive.go", "{Name: \"frames\", Type: gate.TypeInt64, Flags: gate.HasDefault, Least: \"1\", Most: \"40\",", "{Name: \"frames\", Type: gate.TypeInt64, Flags: gate.HasDefault, Least: \"5\", Most: \"40\","),
		[2]string{"size INTEGER, noise INTEGER)", "noise INTEGER)"}},
}

// filesOf are all files of a project that are not the ledger's.
func filesOf(t *testing.T, root string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			if err == nil && entry.Name() == ".widegate" {
				return filepath.SkipDir
			}
			return err
		}
		text, err := os.ReadFile(at)
		name, _ := filepath.Rel(root, at)
		files[filepath.ToSlash(name)] = string(text)
		return err
	}))
	return files
}

// notPast checks that no record has gone past a text that was not written: a file that
// was as its record says is so still, and one that was edited has been brought along
// where its record changed what it has.
func notPast(t *testing.T, root string, before, records map[string]string) {
	t.Helper()
	after := filesOf(t, root)
	base := filepath.Join(root, ".widegate", "base")
	walked := 0
	require.NoError(t, filepath.WalkDir(base, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		below, _ := filepath.Rel(base, at)
		name := strings.TrimSuffix(filepath.ToSlash(below), ".base")
		text, err := os.ReadFile(at)
		require.NoError(t, err)
		walked++
		if was, known := records[name]; !known || before[name] == was {
			require.Equal(t, string(text), after[name], "the record of %s has gone past it", name)
		} else if was != string(text) {
			require.NotEqual(t, before[name], after[name], "the record of %s moved, and the file did not", name)
		}
		return nil
	}))
	require.Greater(t, walked, 80)
}

func replaceIn(name, old, now string) func(*testing.T, string) {
	return func(t *testing.T, root string) {
		at := filepath.Join(root, filepath.FromSlash(name))
		text, err := os.ReadFile(at)
		require.NoError(t, err)
		if !strings.Contains(string(text), old) {
			old = firstLike(string(text), old)
		}
		require.Contains(t, string(text), old, name)
		require.NoError(t, os.WriteFile(at, []byte(strings.Replace(string(text), old, now, 1)), 0o644))
	}
}

// firstLike finds a line that differs in its spaces only.
func firstLike(text, line string) string {
	for l := range strings.SplitSeq(text, "\n") {
		if strings.Join(strings.Fields(l), " ") == strings.Join(strings.Fields(line), " ") {
			return l
		}
	}
	return line
}

func appendIn(name, text string) func(*testing.T, string) {
	return func(t *testing.T, root string) {
		f, err := os.OpenFile(filepath.Join(root, filepath.FromSlash(name)), os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteString(text)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
}

// moveLast moves the end of a file, from a comment on, to a file of its own.
func moveLast(from, to, mark string) func(*testing.T, string) {
	return func(t *testing.T, root string) {
		at := filepath.Join(root, filepath.FromSlash(from))
		text, err := os.ReadFile(at)
		require.NoError(t, err)
		head, tail, found := strings.Cut(string(text), mark)
		require.True(t, found)
		require.NoError(t, os.WriteFile(at, []byte(strings.TrimSpace(head)+"\n"), 0o644))
		moved := "package api\n\nimport (\n\t\"net/http\"\n\n\t\"bees/store/gate/rest\"\n)\n\n" + mark + tail
		require.NoError(t, os.WriteFile(filepath.Join(root, filepath.FromSlash(to)), []byte(moved), 0o644))
	}
}

// TestStory lets ten schema changes and ten edits of entities, endpoints and
// the OpenAPI document meet in the code of the demo. Each edit is there to the
// end, each change is carried in, and the code builds.
func TestStory(t *testing.T) {
	ddl, err := beekeeping.Schema("sqlite")
	require.NoError(t, err)
	p := newProject(t, ddl)
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "go.mod"), []byte("module bees\n\ngo 1.26.0\n"), 0o644)) // of real versions
	p.Code.Tests = true
	write := func() *Plan {
		before := filesOf(t, p.Root)
		store, _, err := Open(p)
		require.NoError(t, err)
		defer store.Close()
		plan, err := Make(t.Context(), p, Source(p), Options{})
		require.NoError(t, err)
		require.Empty(t, plan.Conflicts)
		records := plan.ledger.Written()
		was := map[string]string{}
		for _, name := range records {
			was[name] = string(plan.ledger.Base[name])
		}
		_, err = plan.Apply(t.Context(), store)
		require.NoError(t, err)
		notPast(t, p.Root, before, was)
		return plan
	}
	write()
	merged := 0
	for i, chapter := range story {
		chapter.edit(t, p.Root)
		require.Contains(t, ddl, chapter.schema[0], "chapter %d", i)
		ddl = strings.Replace(ddl, chapter.schema[0], chapter.schema[1], 1)
		require.NoError(t, os.WriteFile(filepath.Join(p.Root, "schema.sql"), []byte(ddl), 0o644))
		if i == 3 { // the column of the edited field has another name now
			plan, err := Make(t.Context(), p, Source(p), Options{})
			require.NoError(t, err)
			require.Len(t, plan.Conflicts, 1)
			assert.Equal(t, "store/keeper.go:Keeper.Email", plan.Conflicts[0].Place())
			replaceIn("store/keeper.go", "`json:\"email,omitempty\" xml:\"mail\"`", "`json:\"email\"`")(t, p.Root)
		}
		merged += write().Count(Merged)
	}
	assert.GreaterOrEqual(t, merged, 8)
	for name, texts := range map[string][]string{
		"store/hive.go":    {"// ours", "// We paint ours.", `Least: "5"`, "Colour", "Swarms", "Frames"},
		"api/hive.go":      {"/hives/heaviest", "Swarms"},
		"api/hive_get.go":  {"X-Ours", "rest.SendRow"},
		"api/openapi.json": {"Our box of bees.", `"swarms"`, `"/api/frames"`},
		"store/queen.go":   {"func (q *Queen) Old"},
		"store/swarm.go":   {"Noise"},
		"store/keeper.go":  {"MailAddress", "MarkedWith"},
		"api/service.go":   {`Base:    "/bees", // ours`, "frameRoutes"},
	} {
		text, err := os.ReadFile(filepath.Join(p.Root, filepath.FromSlash(name)))
		require.NoError(t, err)
		for _, want := range texts {
			assert.Contains(t, string(text), want, name)
		}
	}
	vet := exec.Command("go", "vet", "./...")
	vet.Dir = p.Root
	out, err := vet.CombinedOutput()
	require.NoError(t, err, "%s", out)
}
