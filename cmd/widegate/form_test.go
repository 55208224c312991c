package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/testdb"
)

// terminal is a program that runs on a terminal of its own.
type terminal struct {
	t     *testing.T
	tty   *os.File
	mu    sync.Mutex
	shown bytes.Buffer
	done  chan error
}

func onTerminal(t *testing.T, folder string, args ...string) *terminal {
	t.Helper()
	program, err := exec.LookPath("widegate")
	require.NoError(t, err)
	cmd := exec.Command(program, args...)
	cmd.Dir = folder
	cmd.Env = append(os.Environ(), "TERM=xterm")
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 120})
	require.NoError(t, err)
	term := &terminal{t: t, tty: tty, done: make(chan error, 1)}
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, err := tty.Read(buffer)
			term.mu.Lock()
			term.shown.Write(buffer[:n])
			term.mu.Unlock()
			if bytes.Contains(buffer[:n], []byte("\x1b[6n")) { // it asks where the cursor is
				_, _ = tty.WriteString("\x1b[1;1R")
			}
			if err != nil {
				break
			}
		}
		term.done <- cmd.Wait()
	}()
	t.Cleanup(func() { cmd.Process.Kill(); tty.Close() })
	return term
}

// await waits until the terminal shows a text, and forgets what it showed.
func (term *terminal) await(text string) {
	term.t.Helper()
	found := func() bool {
		term.mu.Lock()
		defer term.mu.Unlock()
		if !strings.Contains(term.shown.String(), text) {
			return false
		}
		term.shown.Reset()
		return true
	}
	require.Eventually(term.t, found, 20*time.Second, 20*time.Millisecond, "%q is not shown", text)
	time.Sleep(150 * time.Millisecond) // until the form reads keys
}

func (term *terminal) keys(keys string) {
	term.t.Helper()
	_, err := term.tty.WriteString(keys)
	require.NoError(term.t, err)
}

const (
	enter = "\r"
	down  = "\x1b[B"
	right = "\x1b[C"
	space = " "
	clear = "\x15"
	leave = "\x03"
)

// TestFormOnATerminal sets a project up by answering questions, and gets what
// flags would have written.
func TestFormOnATerminal(t *testing.T) {
	folder := t.TempDir()
	schema, err := filepath.Abs("../../examples/beekeeping/schema/postgres.sql")
	require.NoError(t, err)
	term := onTerminal(t, folder, "new")
	term.await("Where is the schema?")
	term.keys(down + down + down + enter)
	term.await("Scripts")
	term.keys("nosuch.sql" + enter)
	term.await("there is no file or folder nosuch.sql")
	term.keys(clear + schema + enter)
	term.await("Take all 17 tables?")
	term.keys(right + enter)
	term.await("Which tables?")
	term.keys(strings.Repeat(down, 8) + space + enter)
	term.await("Folder of the project")
	term.keys(clear + "bees" + enter + enter)
	term.await("apiary comes along, because of hive")
	term.keys(enter)
	require.NoError(t, <-term.done)
	asked, err := os.ReadFile(filepath.Join(folder, "bees", "widegate.yaml"))
	require.NoError(t, err)
	program, err := exec.LookPath("widegate")
	require.NoError(t, err)
	byFlags := exec.Command(program, "new", "--url", schema, "--take", "hive", "--folder", "flags")
	byFlags.Dir = folder
	require.NoError(t, byFlags.Run())
	flags, err := os.ReadFile(filepath.Join(folder, "flags", "widegate.yaml"))
	require.NoError(t, err)
	assert.Equal(t, string(flags), string(asked))
}

func TestFormTriesTheConnection(t *testing.T) {
	folder := t.TempDir()
	term := onTerminal(t, folder, "new")
	term.await("Where is the schema?")
	term.keys(enter)
	term.await("URL of the database")
	term.keys("postgres://nobody@127.0.0.1:1/bees" + enter)
	term.await("nothing answers at 127.0.0.1:1")
	term.keys(clear + "mysql://nobody@127.0.0.1:1/bees" + enter)
	term.await("that is a place of mysql, not of postgres")
	term.keys(clear + testdb.Postgres(t) + enter)
	term.await("the schema is empty")
	assert.Error(t, <-term.done)
}

func TestLeavingTheFormWritesNothing(t *testing.T) {
	folder := t.TempDir()
	term := onTerminal(t, folder, "new")
	term.await("Where is the schema?")
	term.keys(leave)
	assert.Error(t, <-term.done)
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestRenamesAreAsked has a person settle what nobody can know.
func TestRenamesAreAsked(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	write("before.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY, title TEXT);\n")
	write("after.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT);\n")
	term := onTerminal(t, folder, "changes", "before.sql", "after.sql", "--engine", "sqlite")
	term.await("Was the column title of hive renamed to name?")
	term.keys("y")
	term.await("The same without questions: --renamed hive.title=name")
	assert.Error(t, <-term.done, "it breaks something")
	term = onTerminal(t, folder, "migration", "before.sql", "after.sql", "--engine", "sqlite")
	term.await("Was the column title of hive renamed to name?")
	term.keys("n")
	term.await("hive: the column title is gone")
	assert.Error(t, <-term.done, "a decision is open")
}

// TestTableOnATerminal drafts a table by answering questions.
func TestTableOnATerminal(t *testing.T) {
	folder := t.TempDir()
	term := onTerminal(t, folder, "table", "--engine", "sqlite", "--into", "schema")
	term.await("Name of the table")
	term.keys(enter)
	term.await("type a name")
	term.keys("swarm" + enter)
	term.await("Column 1, as NAME:TYPE")
	term.keys("size:texxt" + enter)
	term.await("there is no type")
	term.keys(clear + "seen_on:date" + enter)
	term.await("Another column?")
	term.keys("y")
	term.await("Column 2, as NAME:TYPE")
	term.keys("size:int,null" + enter)
	term.await("Another column?")
	term.keys("n")
	term.await("Wrote schema/0001_swarm.sql")
	require.NoError(t, <-term.done)
	text, err := os.ReadFile(filepath.Join(folder, "schema", "0001_swarm.sql"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "seen_on DATE NOT NULL,\n    size INTEGER\n")
}

// TestWriteAsksBeforeItBreaksSomething leaves all as it is until the answer is yes.
func TestWriteAsksBeforeItBreaksSomething(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	write("go.mod", "module bees\n\ngo 1.26.0\n")
	write("widegate.yaml", "database: {engine: sqlite, ddl: [schema.sql]}\n")
	write("schema.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY, title TEXT, box TEXT);\n")
	term := onTerminal(t, folder, "write")
	term.await("Wrote")
	require.NoError(t, <-term.done)
	write("schema.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY, title TEXT);\n")
	term = onTerminal(t, folder, "write")
	term.await("Hive.box is gone from answers and requests")
	term.keys("n")
	term.await("nothing was written: this breaks")
	assert.Error(t, <-term.done)
	text, err := os.ReadFile(filepath.Join(folder, "store", "hive.go"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "Box")
	term = onTerminal(t, folder, "write")
	term.await("Write all the same?")
	term.keys("y")
	term.await("Take it back by")
	require.NoError(t, <-term.done)
	text, err = os.ReadFile(filepath.Join(folder, "store", "hive.go"))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "Box")
}

// TestARenameIsAskedAboutOnce has own code break, for which the plan is made twice.
func TestARenameIsAskedAboutOnce(t *testing.T) {
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	write("go.mod", "module bees\n\ngo 1.26.0\n")
	write("widegate.yaml", "database: {engine: sqlite, ddl: [schema.sql]}\n")
	write("schema.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY, title TEXT);\n")
	term := onTerminal(t, folder, "write")
	term.await("Wrote")
	require.NoError(t, <-term.done)
	write("own/own.go", "package own\n\nimport \"bees/store\"\n\nvar Titles = store.Hives.Title\n")
	write("schema.sql", "CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT);\n")
	term = onTerminal(t, folder, "write")
	term.await("Was the column title of hive renamed to name?")
	term.keys("y")
	term.await("Write all the same?")
	term.keys("y")
	term.await("Take it back by")
	require.NoError(t, <-term.done)
}
