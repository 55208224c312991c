package main

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"widegate/internal/testdb"
)

// repository is a small project in version control, worked on by the programs
// themselves.
type repository struct {
	t      *testing.T
	folder string
	home   string
}

// run runs a program in the project.
func (r *repository) run(name string, args ...string) (string, int) {
	r.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir = r.folder
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+r.home, "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_EDITOR=true", "GOFLAGS=-trimpath",
		"GIT_AUTHOR_NAME=k", "GIT_AUTHOR_EMAIL=k@example.com", "GIT_COMMITTER_NAME=k", "GIT_COMMITTER_EMAIL=k@example.com")
	out, err := cmd.CombinedOutput()
	if exit, ok := err.(*exec.ExitError); ok {
		return string(out), exit.ExitCode()
	}
	require.NoError(r.t, err)
	return string(out), 0
}

// must runs a program that must not fail.
func (r *repository) must(name string, args ...string) string {
	r.t.Helper()
	out, status := r.run(name, args...)
	require.Zero(r.t, status, "%s %v\n%s", name, args, out)
	return out
}

func (r *repository) read(name string) string {
	r.t.Helper()
	text, err := os.ReadFile(filepath.Join(r.folder, filepath.FromSlash(name)))
	if os.IsNotExist(err) {
		return ""
	}
	require.NoError(r.t, err)
	return string(text)
}

func (r *repository) write(name, text string) {
	r.t.Helper()
	at := filepath.Join(r.folder, filepath.FromSlash(name))
	require.NoError(r.t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(r.t, os.WriteFile(at, []byte(text), 0o644))
}

// has reports whether a text is anywhere in the code.
func (r *repository) has(token string) bool {
	r.t.Helper()
	found := false
	for _, folder := range []string{"store", "api", "own"} {
		_ = filepath.WalkDir(filepath.Join(r.folder, folder), func(at string, entry os.DirEntry, err error) error { // a folder that is not there has nothing
			if err == nil && !entry.IsDir() && !found {
				text, err := os.ReadFile(at)
				found = err == nil && strings.Contains(string(text), token)
			}
			return nil
		})
	}
	return found
}

// apiary is a schema that branches change: columns by table, in order.
type apiary struct {
	tables  []string
	columns map[string][]string
}

func newApiary() *apiary {
	return &apiary{[]string{"keeper", "hive"}, map[string][]string{
		"keeper": {"name TEXT NOT NULL", "email TEXT", "joined_on DATE", "level INTEGER"},
		"hive":   {"keeper_id INTEGER NOT NULL REFERENCES keeper (id)", "name TEXT NOT NULL", "frames INTEGER NOT NULL DEFAULT 10", "mood TEXT NOT NULL DEFAULT 'calm' CHECK (mood IN ('calm', 'fierce'))", "weight DECIMAL(6,2)", "is_active BOOLEAN"},
	}}
}

func (a *apiary) clone() *apiary {
	c := &apiary{slices.Clone(a.tables), map[string][]string{}}
	for name, columns := range a.columns {
		c.columns[name] = slices.Clone(columns)
	}
	return c
}

func (a *apiary) sql() string {
	var b strings.Builder
	for _, table := range a.tables {
		fmt.Fprintf(&b, "CREATE TABLE %s (\n  id INTEGER PRIMARY KEY", table)
		for _, c := range a.columns[table] {
			fmt.Fprintf(&b, ",\n  %s", c)
		}
		b.WriteString("\n);\n\n")
	}
	return b.String()
}

func (a *apiary) replace(table, old, now string) {
	for i, c := range a.columns[table] {
		if strings.HasPrefix(c, old+" ") {
			a.columns[table][i] = now
		}
	}
}

// schemaSteps change a schema; each side has a letter of its own.
var schemaSteps = []func(a *apiary, side string, r *rand.Rand){
	func(a *apiary, side string, r *rand.Rand) { // a column somewhere
		table := a.tables[r.IntN(2)]
		at := r.IntN(len(a.columns[table]) + 1)
		a.columns[table] = slices.Insert(a.columns[table], at, side+"_note TEXT")
	},
	func(a *apiary, side string, _ *rand.Rand) { // one at the same place on both sides
		a.columns["hive"] = append(a.columns["hive"], side+"_size INTEGER")
	},
	func(a *apiary, side string, _ *rand.Rand) { // a table that refers to hives
		a.tables = append(a.tables, side+"_swarm")
		a.columns[side+"_swarm"] = []string{"hive_id INTEGER NOT NULL REFERENCES hive (id)", "seen_on DATE"}
	},
	func(a *apiary, side string, _ *rand.Rand) { // another type for a column
		if side == "a" {
			a.replace("hive", "weight", "weight DOUBLE PRECISION")
			return
		}
		a.replace("keeper", "level", "level TEXT")
	},
	func(a *apiary, side string, _ *rand.Rand) { // a column less
		drop := map[string]string{"a": "is_active ", "b": "joined_on "}[side]
		for table, columns := range a.columns {
			a.columns[table] = slices.DeleteFunc(columns, func(c string) bool { return strings.HasPrefix(c, drop) })
		}
	},
	func(a *apiary, side string, _ *rand.Rand) { // a label more
		if side == "a" {
			a.replace("hive", "mood", "mood TEXT NOT NULL DEFAULT 'calm' CHECK (mood IN ('calm', 'nervous', 'fierce'))")
		}
	},
	func(*apiary, string, *rand.Rand) {}, // nothing
}

// branchEdit is an edit of a developer; TOKEN stands for what it is found again by.
type branchEdit struct{ file, old, now string }

var branchEdits = []branchEdit{
	{"store/hive.go", "`json:\"name\"`", "`json:\"name\" xml:\"TOKEN\"`"},
	{"store/hive.go", "`json:\"frames\"`", "`json:\"frames\" xml:\"TOKEN\"`"},
	{"store/keeper.go", "`json:\"email\"`", "`json:\"email\"` // TOKEN"},
	{"store/hive.go", "", "\n// TOKEN is ours.\nfunc (h *Hive) TOKEN() int64 { return h.ID }\n"},
	{"store/keeper.go", "", "\n// TOKEN is ours.\nfunc TOKEN() int { return 1 }\n"},
	{"store/hive.go", "\tID ", "\tTOKEN bool `json:\"-\"`\n\tID "},
	{"store/hive.go", "var Hives = newHiveTable()", "// TOKEN.\nvar Hives = newHiveTable()"},
	{"store/hive.go", "// From table hive.", "// Licence TOKEN.\n\n// From table hive."},
	{"store/hive.go", "type hiveTable struct {\n", "type hiveTable struct {\n\t// TOKEN stands alone.\n\n"},
	{"api/hive.go", "\t\trest.On(\"GET /hives\", s.listHives),\n", "\t\trest.On(\"GET /hives\", s.listHives),\n\t\trest.On(\"GET /hives/TOKEN\", s.listHives),\n"},
	{"api/hive.go", "\tlist, err := rest.ReadList(r, s.hive)\n", "\tw.Header().Set(\"TOKEN\", \"x\")\n\tlist, err := rest.ReadList(r, s.hive)\n"},
	{"api/hive.go", "// listHives answers", "// TOKEN.\n// listHives answers"},
	{"api/keeper.go", "\treturn rest.SendRow(w, r, s.keeper, key)\n", "\tw.Header().Set(\"TOKEN\", \"x\")\n\treturn rest.SendRow(w, r, s.keeper, key)\n"},
	{"api/openapi.json", "\"description\": \"", "\"description\": \"TOKEN "},
	{"own/TOKEN.go", "", "package own\n\n// TOKEN is ours.\nfunc TOKEN() {}\n"},
}

// make makes an edit; false means that its place is not there.
func (e branchEdit) make(r *repository, token string) bool {
	name := strings.ReplaceAll(e.file, "TOKEN", token)
	text, now := r.read(name), strings.ReplaceAll(e.now, "TOKEN", token)
	switch {
	case e.old == "":
		r.write(name, text+now)
	case !strings.Contains(text, e.old):
		return false
	default:
		r.write(name, strings.Replace(text, e.old, now, 1))
	}
	return true
}

// outcome counts how pairs of branches ended.
type outcome struct {
	lock   sync.Mutex
	counts map[string]int
}

func (o *outcome) add(what string) {
	o.lock.Lock()
	defer o.lock.Unlock()
	o.counts[what]++
}

// TestBranches has two branches change schema and code, and brings them together in
// the ways that git has. The edits of both are there, or a conflict names their file;
// none is lost without a word.
func TestBranches(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		testdb.Missing(t, "there is no git", "install the package git")
	}
	pairs := 6
	if thorough {
		pairs = 300
	}
	if n, err := strconv.Atoi(os.Getenv("WIDEGATE_PAIRS")); err == nil {
		pairs = n
	}
	ways := []string{"merge", "merge ours", "merge theirs", "rebase", "rebase ours", "cherry-pick"}
	result := &outcome{counts: map[string]int{}}
	start := startRepository(t)
	t.Run("pairs", func(t *testing.T) {
		for i := range pairs {
			t.Run(fmt.Sprint(i), func(t *testing.T) {
				t.Parallel()
				way, driver := ways[i%len(ways)], i/len(ways)%2 == 0
				r := &repository{t, filepath.Join(t.TempDir(), "bees"), start.home}
				require.NoError(t, os.CopyFS(r.folder, os.DirFS(start.folder)))
				ended := r.pair(rand.New(rand.NewPCG(uint64(i), 11)), way, driver)
				result.add(fmt.Sprintf("%-12s %-7s %s", way, map[bool]string{true: "driver", false: "none"}[driver], ended))
			})
		}
	})
	for _, line := range slices.Sorted(maps.Keys(result.counts)) {
		t.Logf("%s: %d", line, result.counts[line])
	}
}

// startRepository is the project that all pairs start from.
func startRepository(t *testing.T) *repository {
	t.Helper()
	r := &repository{t, filepath.Join(t.TempDir(), "bees"), t.TempDir()}
	r.write("go.mod", "module bees\n\ngo 1.26.0\n")
	r.write("widegate.yaml", "database:\n  engine: sqlite\n  ddl: [schema.sql]\n")
	r.write("schema.sql", newApiary().sql())
	r.must("widegate", "write", "-q")
	r.must("git", "init", "-q", "-b", "main", ".")
	r.must("git", "add", ".")
	r.must("git", "commit", "-qm", "start")
	return r
}

// side lets one branch change the schema and edit the code, before or after it is
// written again; it returns the tokens of its edits by the files they are in.
func (r *repository) side(side string, a *apiary, random *rand.Rand) map[string]string {
	r.t.Helper()
	tokens := map[string]string{}
	edit := func() {
		for range random.IntN(3) {
			token := fmt.Sprintf("Ours%s%d", strings.ToUpper(side), len(tokens))
			if e := branchEdits[random.IntN(len(branchEdits))]; e.make(r, token) {
				tokens[token] = strings.ReplaceAll(e.file, "TOKEN", token)
			}
		}
	}
	edit()
	if random.IntN(4) > 0 {
		r.write("schema.sql", a.sql())
		r.must("widegate", "write", "-q", "--yes")
		edit()
	}
	r.must("git", "add", ".")
	r.must("git", "commit", "-q", "--allow-empty", "-m", side)
	return tokens
}

func (r *repository) pair(random *rand.Rand, way string, driver bool) string {
	r.t.Helper()
	if driver {
		r.must("widegate", "branches", "--setup")
		r.must("git", "add", ".")
		r.must("git", "commit", "-qm", "driver")
	}
	both := newApiary()
	change := func(side string, alone *apiary) {
		for range 1 + random.IntN(2) {
			step, seed := schemaSteps[random.IntN(len(schemaSteps))], random.Uint64()
			if strings.Contains(alone.sql(), side+"_note") || strings.Contains(alone.sql(), side+"_size") || strings.Contains(alone.sql(), side+"_swarm") {
				continue
			}
			step(alone, side, rand.New(rand.NewPCG(seed, 1)))
			step(both, side, rand.New(rand.NewPCG(seed, 1)))
		}
	}
	a, b := newApiary(), newApiary()
	change("a", a)
	change("b", b)
	r.must("git", "checkout", "-q", "-b", "other")
	tokens := r.side("b", b, random)
	r.must("git", "checkout", "-q", "main")
	maps.Copy(tokens, r.side("a", a, random))

	verb, take, _ := strings.Cut(way, " ")
	switch verb {
	case "merge":
		r.run("git", "merge", "-q", "-m", "merged", "other")
	case "rebase":
		r.must("git", "checkout", "-q", "other")
		r.run("git", "rebase", "-q", "main")
	case "cherry-pick":
		r.run("git", "cherry-pick", "other")
	}
	conflicted := strings.Fields(r.must("git", "diff", "--name-only", "--diff-filter=U"))
	code := slices.DeleteFunc(slices.Clone(conflicted), func(name string) bool {
		return strings.HasPrefix(name, ".widegate") || name == "schema.sql"
	})
	r.write("schema.sql", both.sql())
	if take != "" && len(conflicted) > 0 {
		r.must("git", append([]string{"checkout", "--" + take, "--"}, conflicted...)...)
		r.write("schema.sql", both.sql())
		code = nil
	}
	if len(code) > 0 {
		r.marked(code, tokens)
		out, status := r.run("widegate", "write", "--yes")
		require.Equal(r.t, 3, status, "in conflict: %v\n%s", code, out)
		for _, name := range code {
			if !strings.HasSuffix(name, ".json") || strings.Contains(r.read(name), "<<<<<<<") {
				require.Contains(r.t, out, name)
			}
		}
		return "conflict in the file, and write waits"
	}
	return r.settled(tokens)
}

// marked checks that what is in conflict has the edits of both sides.
func (r *repository) marked(files []string, tokens map[string]string) {
	r.t.Helper()
	for token, file := range tokens {
		require.True(r.t, r.has(token), "%s of %s is gone, in conflict: %v", token, file, files)
	}
}

// settled writes, and checks that every edit is there, or that its file is named.
func (r *repository) settled(tokens map[string]string) string {
	r.t.Helper()
	out, status := r.run("widegate", "write", "--yes")
	ended := "both sides are there"
	if status == 3 {
		ended = "write asks"
		var keep []string
		for token, file := range tokens {
			if !r.has(token) {
				require.Contains(r.t, out, file, "%s is gone, and nothing is said of it", token)
			}
		}
		for line := range strings.Lines(out) { // the printed way out brings them in
			if place, ok := strings.CutPrefix(strings.TrimSpace(line), "place "); ok {
				keep = append(keep, "--keep", "new "+place)
			}
		}
		if strings.Contains(out, "(other-branch)") && strings.Count(out, "(other-branch)")*2 == len(keep) {
			said := out
			out, status = r.run("widegate", append([]string{"write", "--yes"}, keep...)...)
			out += said
			ended = "write asks, and --keep new brings them in"
		}
		if status == 3 { // both edited one place
			for token, file := range tokens {
				require.True(r.t, r.has(token) || strings.Contains(out, file), "%s of %s is gone, and nothing is said of it\n%s", token, file, out)
			}
			return "write asks for a decision"
		}
	}
	require.Zero(r.t, status, out)
	for token, file := range tokens {
		require.True(r.t, r.has(token), "%s of %s is lost\n%s", token, file, out)
	}
	r.must("go", "vet", "./...")
	out, status = r.run("widegate", "check")
	require.Zero(r.t, status, out)
	return ended
}
