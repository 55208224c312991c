package main

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// forgery is something that a branch brings along in the ledger, or a link among
// the files, and what the tool says of it.
type forgery struct {
	name string
	do   func(f *forger)
	says string // in what the commands print, a regular expression
}

// forger plants things in a project.
type forger struct {
	t             *testing.T
	root, outside string
}

func (f *forger) write(name, text string) {
	at := filepath.Join(f.root, filepath.FromSlash(name))
	require.NoError(f.t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(f.t, os.WriteFile(at, []byte(text), 0o644))
}

// link puts a link in the place of what is there.
func (f *forger) link(name, to string) {
	at := filepath.Join(f.root, filepath.FromSlash(name))
	require.NoError(f.t, os.RemoveAll(at))
	require.NoError(f.t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(f.t, os.Symlink(strings.ReplaceAll(to, "OUTSIDE", f.outside), at))
}

func sumOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

const forgedID = "20990101T000000.000000001"

// step is a step of a forged journal.
func (f *forger) step(path, pre, post string) map[string]any {
	state := func(text string) string {
		if text == "" {
			return "absent"
		}
		return sumOf(text)
	}
	return map[string]any{"path": strings.ReplaceAll(path, "OUTSIDE", f.outside), "pre": state(pre), "post": state(post), "mode": 0o644, "n": 0}
}

// journal writes one with the checksum that anybody can compute, under every
// name that it has had.
func (f *forger) journal(at, id, state string, steps ...map[string]any) {
	journal, err := json.Marshal(map[string]any{"id": id, "kind": "write", "state": state, "ops": steps})
	require.NoError(f.t, err)
	sum := sumOf(string(journal))
	f.write(at, fmt.Sprintf(`{"journal":%s,"sum":%q,"seal":%q}`, journal, sum, sum))
}

// forged has a journal of one step, with the texts that it needs beside it.
func forged(state, path, pre, post string) func(f *forger) {
	return func(f *forger) {
		f.journal(".widegate/journal", forgedID, state, f.step(path, pre, post))
		f.write(".widegate/tx-"+forgedID+"/new/0", post)
		f.write(".widegate/tx-"+forgedID+"/old/0", pre)
	}
}

// forgedRun has a run in the history, which undo would take back.
func forgedRun(folder, id, path, pre, post string) func(f *forger) {
	return func(f *forger) {
		f.journal(".widegate/history/"+folder+"/journal", id, "done", f.step(path, pre, post))
		f.write(".widegate/history/"+folder+"/old/0", pre)
		f.write(".widegate/history/"+folder+"/new/0.text", post)
	}
}

// named changes the names that were given.
func named(change func(hive map[string]any, all map[string]any)) func(f *forger) {
	return func(f *forger) {
		at := filepath.Join(f.root, ".widegate", "names.json")
		text, err := os.ReadFile(at)
		require.NoError(f.t, err)
		all := map[string]any{}
		require.NoError(f.t, json.Unmarshal(text, &all))
		change(all["tables"].(map[string]any)["hive"].(map[string]any), all)
		text, err = json.Marshal(all)
		require.NoError(f.t, err)
		f.write(".widegate/names.json", string(text))
		f.touched()
	}
}

func hiveName(key, value string) func(f *forger) {
	return named(func(hive, _ map[string]any) { hive[key] = value })
}

// touched changes the schema, so that there is something to write.
func (f *forger) touched() {
	f.write("schema/2.sql", "CREATE TABLE swarm (id INTEGER PRIMARY KEY, hive_id INTEGER REFERENCES hive (id));")
	f.write("schema/3.sql", "ALTER TABLE hive ADD COLUMN colour TEXT;")
}

func linked(name, to string) func(f *forger) {
	return func(f *forger) {
		f.link(name, to)
		f.touched()
	}
}

func recorded(name, text string) func(f *forger) {
	return func(f *forger) {
		f.write(".widegate/base/"+name, text)
		f.touched()
	}
}

const (
	secret    = "the neighbour's secret\n"
	ownText   = "package store\n\n// Mine is the developer's.\nconst Mine = 1\n"
	notSealed = `not replayed: it was not written by you`
	noWrite   = `no write to take back: \d+ in the history you did not make`
	isLink    = `is a link, and links are not followed|behind a link`
	noRecord  = `never written here`
)

var forgeries = []forgery{
	// A journal that would be replayed by the next run.
	{"journal makes a file outside", forged("apply", "../outside/new", "", "planted\n"), notSealed},
	{"journal makes a file at a full path", forged("apply", "OUTSIDE/new", "", "planted\n"), notSealed},
	{"journal replaces a file outside", forged("apply", "../outside/secret", secret, "planted\n"), notSealed},
	{"journal removes a file outside", forged("apply", "../outside/secret", secret, ""), notSealed},
	{"journal leaves by a detour", forged("apply", "store/../../outside/secret", secret, ""), notSealed},
	{"journal writes a hook", forged("apply", ".git/hooks/pre-commit", "", "#!/bin/sh\n"), notSealed},
	{"journal removes the developer's file", forged("apply", "store/own.go", ownText, ""), notSealed},
	{"journal replaces the developer's file", forged("apply", "store/own.go", ownText, "package store\n"), notSealed},
	{"journal replaces the project file", forged("apply", "widegate.yaml", "x", "y"), notSealed},
	{"journal rolls back outside", forged("rollback", "../outside/secret", "planted\n", secret), notSealed},
	{"journal rolls back the developer's file", forged("rollback", "store/own.go", "", ownText), notSealed},
	{"journal of a state that there is not", forged("whatever", "../outside/secret", secret, ""), notSealed},
	{"journal with an id that leads out", func(f *forger) {
		f.journal(".widegate/journal", "../../outside", "apply", f.step("store/own.go", ownText, ""))
	}, notSealed},
	{"journal that stages beside a file outside", func(f *forger) {
		step := f.step("../outside/secret", "", "planted\n")
		step["aside"], step["id"] = true, "../x"
		f.journal(".widegate/journal", forgedID, "apply", step)
	}, notSealed},
	{"journal through a link", func(f *forger) {
		f.link("way", "OUTSIDE")
		forged("apply", "way/secret", secret, "")(f)
	}, notSealed},
	{"journal without steps", func(f *forger) { f.journal(".widegate/journal", forgedID, "apply") }, notSealed},
	{"journal of a drive", forged("apply", `C:\outside\secret`, secret, ""), notSealed},
	{"journal with a backslash", forged("apply", `..\outside\secret`, secret, ""), notSealed},
	{"journal with a control character", forged("apply", "a\x1b]0;x\x07\nb", "", "x"), notSealed},
	{"journal of another folder", func(f *forger) {
		runs, err := os.ReadDir(filepath.Join(f.root, ".widegate", "history"))
		require.NoError(f.t, err)
		require.NotEmpty(f.t, runs)
		text, err := os.ReadFile(filepath.Join(f.root, ".widegate", "history", runs[0].Name(), "journal"))
		require.NoError(f.t, err)
		f.write(".widegate/journal", string(text))
	}, notSealed},
	{"journal that is no JSON", func(f *forger) { f.write(".widegate/journal", "{") }, `journal .* is damaged`},
	{"journal that is empty", func(f *forger) { f.write(".widegate/journal", "") }, `journal .* is damaged`},
	{"journal with a step that is no step", func(f *forger) { f.write(".widegate/journal", `{"journal":{"ops":[7]},"seal":"0"}`) }, `journal .* is damaged`},
	{"journal that is a folder", func(f *forger) { f.write(".widegate/journal/x", "") }, `not a plain file`},

	// A run that was cut off before its journal stood.
	{"run that staged beside a file outside", func(f *forger) {
		step := f.step("../outside/secret", "", "planted\n")
		step["aside"], step["id"] = true, forgedID
		f.journal(".widegate/tx-"+forgedID+"/journal", forgedID, "staging", step)
	}, `left as it is`},
	{"run whose id leads out", func(f *forger) {
		f.journal(".widegate/tx-1/journal", "../../../outside/taken", "done", f.step("a", "", "x"))
	}, `left as it is`},
	{"run that goes into the history", func(f *forger) {
		f.journal(".widegate/tx-"+forgedID+"/journal", forgedID, "done", f.step("store/own.go", "", ownText))
	}, `left as it is`},
	{"run whose journal is a link", func(f *forger) { f.link(".widegate/tx-1/journal", "OUTSIDE/secret") }, `left as it is`},

	// A run in the history, which undo would take back.
	{"history removes a file outside", forgedRun(forgedID, forgedID, "../outside/secret", "", secret), noWrite},
	{"history replaces a file outside", forgedRun(forgedID, forgedID, "../outside/secret", "planted\n", secret), noWrite},
	{"history makes a file outside", forgedRun(forgedID, forgedID, "../outside/new", "planted\n", ""), noWrite},
	{"history removes the developer's file", forgedRun(forgedID, forgedID, "store/own.go", "", ownText), noWrite},
	{"history replaces the developer's file", forgedRun(forgedID, forgedID, "store/own.go", "package store\n", ownText), noWrite},
	{"history writes a hook", forgedRun(forgedID, forgedID, ".git/hooks/pre-commit", "#!/bin/sh\n", ""), noWrite},
	{"history with an id that leads out", forgedRun(forgedID, "../../outside", "store/own.go", "", ownText), noWrite},
	{"history under the name of another run", forgedRun("zzz", forgedID, "store/own.go", "", ownText), noWrite},
	{"history of many runs", func(f *forger) {
		for i := range 40 {
			id := fmt.Sprintf("2099010%dT0000%02d.000000001", i%9+1, i)
			forgedRun(id, id, "store/own.go", "", ownText)(f)
		}
	}, noWrite},
	{"history whose old text is a link", func(f *forger) {
		forgedRun(forgedID, forgedID, "store/own.go", secret, ownText)(f)
		f.link(".widegate/history/"+forgedID+"/old/0", "OUTSIDE/secret")
	}, noWrite},

	// Names that go into code and into the names of files.
	{"file outside", hiveName("file", "../../outside/new"), `cannot be the name of a Go file`},
	{"file at a full path", hiveName("file", "/tmp/new"), `cannot be the name of a Go file`},
	{"file among the hooks", hiveName("file", "../.git/hooks/pre-commit"), `cannot be the name of a Go file`},
	{"file that the go command passes over", hiveName("file", "_hive"), `cannot be the name of a Go file`},
	{"file that is a device", hiveName("file", "nul"), `cannot be the name of a Go file`},
	{"file with a line end", hiveName("file", "hive\n"), `cannot be the name of a Go file`},
	{"entity with code", hiveName("entity", "Hive struct{}\nfunc init() { panic(1) }\ntype X"), `cannot be a name in Go`},
	{"plural with code", hiveName("plural", "Hives = 1\nfunc init() {}\nvar X"), `cannot be a name in Go`},
	{"path with code", hiveName("path", "hives\"); panic(\""), `cannot be a word of a path`},
	{"path with parent folders", hiveName("path", "../.."), `cannot be a word of a path`},
	{"column with code", named(func(hive, _ map[string]any) { hive["columns"].(map[string]any)["name"] = "Name string; X" }), `cannot be a name in Go`},
	{"relation with code", named(func(hive, _ map[string]any) {
		hive["relations"] = map[string]any{">apiary(apiary_id)": "Apiary *Apiary\n}\nfunc init() {}\ntype X struct { Y"}
	}), `cannot be a name in Go`},
	{"enum with code", named(func(_, all map[string]any) {
		all["enums"] = map[string]any{"hive.temperament": "X string\nfunc init() {}\ntype Y"}
	}), `cannot be a name in Go`},
	{"words with code", named(func(hive, _ map[string]any) {
		hive["words"] = map[string]any{"Hive": "hive\nfunc init() {}"}
	}), `cannot be the words of Hive`},
	{"names that are no names", func(f *forger) { f.write(".widegate/names.json", `{"tables": []}`) }, `is damaged`},

	// Records of what was written.
	{"record of the developer's file", recorded("store/own.go.base", ownText), noRecord},
	{"record of go.mod", recorded("go.mod.base", "module bees\n"), noRecord},
	{"record of the project file", recorded("widegate.yaml.base", "x"), noRecord},
	{"record of a hook", recorded(".git/hooks/pre-commit.base", "#!/bin/sh\n"), noRecord},
	{"record of the environment", recorded(".env.base", "PASSWORD=x\n"), noRecord},
	{"record of a device", recorded("store/con.go.base", "// Edits here are kept when it is written again.\npackage store\n"), noRecord},
	{"record under another name", recorded("store/hive.go", "x"), `is no record`},

	// Links.
	{"ledger is a link", linked(".widegate", "OUTSIDE"), isLink},
	{"ledger is a link to nowhere", linked(".widegate", "OUTSIDE/new"), isLink},
	{"lock is a link", linked(".widegate/lock", "OUTSIDE/secret"), `not a plain file|` + isLink},
	{"lock is a link to nowhere", linked(".widegate/lock", "OUTSIDE/new"), `not a plain file|` + isLink},
	{"journal is a link", linked(".widegate/journal", "OUTSIDE/secret"), isLink},
	{"draft of the journal is a link", linked(".widegate/journal.tmp", "OUTSIDE/new"), ``},
	{"history is a link", linked(".widegate/history", "OUTSIDE"), isLink},
	{"records are a link", linked(".widegate/base", "OUTSIDE"), isLink},
	{"a record is a link", linked(".widegate/base/store/hive.go.base", "OUTSIDE/secret"), isLink},
	{"names are a link", linked(".widegate/names.json", "OUTSIDE/secret"), isLink},
	{"schema is a link", linked(".widegate/catalog.json", "OUTSIDE/secret"), isLink},
	{"what was told is a link", linked(".widegate/queries.json", "OUTSIDE/secret"), isLink},
	{"fingerprint is a link", linked(".widegate/fresh", "OUTSIDE/secret"), isLink},
	{"fingerprint is a link to nowhere", linked(".widegate/fresh", "OUTSIDE/new"), isLink},
	{"store is a link", linked("store", "OUTSIDE"), isLink},
	{"store is a link to nowhere", linked("store", "OUTSIDE/new"), isLink},
	{"api is a link", linked("api", "OUTSIDE"), isLink},
	{"cmd is a link", linked("cmd", "OUTSIDE"), isLink},
	{"a generated file is a link", linked("store/hive.go", "OUTSIDE/secret"), isLink},
	{"a new file is a link to nowhere", linked("store/swarm.go", "OUTSIDE/new"), isLink},
	{"a folder of the runtime is a link", linked("store/gate/rest", "OUTSIDE"), isLink},
	{"go.mod is a link", linked("go.mod", "OUTSIDE/secret"), isLink},
	{"go.mod is a link to nowhere", linked("go.mod", "OUTSIDE/new"), isLink},
	{"a run is a link", linked(".widegate/tx-1", "OUTSIDE"), ``},
}

// TestForgedLedgers runs the commands that read the ledger in projects into
// which somebody put what is not theirs. Nothing outside changes, nor any file of
// the developer's, and the tool says what is wrong.
func TestForgedLedgers(t *testing.T) {
	require.GreaterOrEqual(t, len(forgeries), 60)
	model := forgedProject(t)
	for _, forgery := range forgeries {
		t.Run(forgery.name, func(t *testing.T) {
			t.Parallel()
			around := t.TempDir()
			f := &forger{t: t, root: filepath.Join(around, "project"), outside: filepath.Join(around, "outside")}
			require.NoError(t, os.CopyFS(f.root, os.DirFS(model)))
			require.NoError(t, os.MkdirAll(f.outside, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(f.outside, "secret"), []byte(secret), 0o644))
			forgery.do(f)
			var said strings.Builder
			for _, words := range []string{
				"write --dry-run", "undo --list", "check", "changes", "write --yes", "undo", "undo --merge", "undo --redo",
				"write --yes --bring-back .", "write --yes --json", "undo",
			} {
				said.WriteString(f.run(strings.Fields(words)...))
			}
			t.Log(shortened(said.String()))
			if forgery.says != "" {
				assert.True(t, regexp.MustCompile(forgery.says).MatchString(said.String()), "it is told of: %s", shortened(said.String()))
			}
			assert.Empty(t, unsafe.FindString(said.String()), "control characters are not printed")
			assert.NotContains(t, said.String(), "goroutine", "nothing panics")
			assert.Equal(t, map[string]string{"secret": secret}, filesIn(t, f.outside))
			own := filesIn(t, f.root)
			assert.NotContains(t, own, ".git/hooks/pre-commit")
			if !strings.HasPrefix(forgery.name, "store is") { // the link took its place
				assert.Equal(t, ownText, own["store/own.go"])
			}
			for name, text := range own {
				if strings.HasSuffix(name, ".go") {
					assert.NotContains(t, text, "panic(1)", name)
				}
			}
		})
	}
}

// shortened leaves the lines that tell of something.
func shortened(said string) string {
	var lines []string
	for line := range strings.Lines(said) {
		if strings.HasPrefix(line, "$ ") || strings.Contains(line, "widegate:") || strings.Contains(line, "next:") {
			lines = append(lines, line)
		}
	}
	return "\n" + strings.Join(lines, "")
}

// unsafe are characters that act on a terminal, line ends apart.
var unsafe = regexp.MustCompile(`[\x00-\x08\x0b-\x1f\x7f\x{80}-\x{9f}\x{202a}-\x{202e}\x{2066}-\x{2069}\x{feff}]`)

func (f *forger) run(args ...string) string {
	program, err := exec.LookPath("widegate")
	require.NoError(f.t, err)
	cmd := exec.Command(program, args...)
	cmd.Dir = f.root
	settings := filepath.Join(filepath.Dir(f.outside), "settings")
	cmd.Env = []string{"PATH=/nowhere", "HOME=" + settings, "XDG_CONFIG_HOME=" + settings, "XDG_CACHE_HOME=" + settings}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		f.t.Fatal(err)
	}
	return fmt.Sprintf("$ widegate %s\n%s", strings.Join(args, " "), out.String())
}

// forgedProject is one that was written twice, with a file of the developer's
// beside the generated ones.
func forgedProject(t *testing.T) string {
	t.Helper()
	around := t.TempDir()
	f := &forger{t: t, root: filepath.Join(around, "project"), outside: filepath.Join(around, "outside")}
	f.write("schema/1.sql", `CREATE TABLE apiary (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
CREATE TABLE hive (id INTEGER PRIMARY KEY, apiary_id INTEGER NOT NULL REFERENCES apiary (id), name TEXT NOT NULL,
  temperament TEXT NOT NULL CHECK (temperament IN ('calm', 'fierce')));`)
	f.write("go.mod", "module bees\n\ngo 1.26\n")
	f.write("widegate.yaml", "database: {engine: sqlite, ddl: [schema]}\n")
	require.Contains(t, f.run("write"), "Wrote")
	f.write("store/own.go", ownText)
	f.write("schema/1a.sql", "ALTER TABLE apiary ADD COLUMN height INTEGER;")
	require.Contains(t, f.run("write", "--yes"), "Wrote")
	return f.root
}

// filesIn are the plain files below a folder.
func filesIn(t *testing.T, folder string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(at)
		below, _ := filepath.Rel(folder, at)
		files[filepath.ToSlash(below)] = string(text)
		return err
	}))
	return files
}
