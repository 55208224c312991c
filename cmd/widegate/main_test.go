package main

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"

	"widegate/internal/cli"
	"widegate/internal/testdb"
)

// TestMain lets scripts run the program itself, as a process of its own.
func TestMain(m *testing.M) {
	testscript.Main(runner{m}, map[string]func(){
		"widegate": func() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

type runner struct{ m *testing.M }

func (r runner) Run() int { return testdb.Main(r.m) }

func goEnv(t *testing.T, name string) string {
	t.Helper()
	out, err := exec.Command("go", "env", name).Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

func TestScripts(t *testing.T) { runScripts(t, "testdata/script", nil) }

// TestServerScripts are those that need PostgreSQL and MariaDB.
func TestServerScripts(t *testing.T) {
	runScripts(t, "testdata/servers", map[string]string{
		"POSTGRES": testdb.Postgres(t), "MYSQL": testdb.MySQL(t), "PGSCRATCH": testdb.PostgresScratch(t), "MYSCRATCH": testdb.MySQLScratch(t),
	})
}

func runScripts(t *testing.T, folder string, variables map[string]string) {
	t.Helper()
	schema, err := filepath.Abs("../../examples/beekeeping/schema")
	if err != nil {
		t.Fatal(err)
	}
	program, err := exec.LookPath("widegate") // which testscript put on the path
	if err != nil {
		t.Fatal(err)
	}
	environment := map[string]string{"SCHEMA": schema, "WIDEGATE": program, "XDG_CONFIG_HOME": t.TempDir()}
	maps.Copy(environment, variables)
	for _, name := range []string{"GOCACHE", "GOMODCACHE", "GOPROXY", "GOFLAGS", "GONOSUMDB", "GOSUMDB"} {
		environment[name] = goEnv(t, name)
	}
	testscript.Run(t, testscript.Params{
		Dir: folder,
		Setup: func(env *testscript.Env) error {
			for name, value := range environment {
				env.Setenv(name, value)
			}
			return nil
		},
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			"status":  status,
			"sqlite":  runSQLite,
			"same":    same,
			"replace": replace,
			"append":  appendTo,
			"crlf":    crlf,
		},
	})
}

// status runs a command and checks its exit status: status 3 widegate write.
func status(ts *testscript.TestScript, _ bool, args []string) {
	err := ts.Exec(args[1], args[2:]...)
	got := "0"
	if exit, ok := err.(*exec.ExitError); ok {
		got = fmt.Sprint(exit.ExitCode())
	}
	if got != args[0] {
		ts.Fatalf("exit status %s, want %s", got, args[0])
	}
}

// replace changes a text in a file: replace OLD NEW FILE.
func replace(ts *testscript.TestScript, _ bool, args []string) {
	path := ts.MkAbs(args[2])
	text := ts.ReadFile(args[2])
	if !strings.Contains(text, args[0]) {
		ts.Fatalf("%s has no %q", args[2], args[0])
	}
	ts.Check(os.WriteFile(path, []byte(strings.Replace(text, args[0], args[1], 1)), 0o644))
}

// appendTo adds a line to a file: append FILE LINE.
func appendTo(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(ts.ReadFile(args[0])+args[1]+"\n"), 0o644))
}

// crlf gives a file the line ends of Windows: crlf FILE.
func crlf(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.ReplaceAll(ts.ReadFile(args[0]), "\n", "\r\n")), 0o644))
}

// same checks that a folder has the same files as one copied before; with one
// argument, it makes the copy.
func same(ts *testscript.TestScript, _ bool, args []string) {
	folder := ts.MkAbs(args[0])
	snapshot := ts.Getenv("WORK") + ".snapshot"
	if len(args) == 1 {
		ts.Check(os.RemoveAll(snapshot))
		ts.Check(os.CopyFS(snapshot, os.DirFS(folder)))
		return
	}
	out, err := exec.Command("diff", "-r", snapshot, folder).CombinedOutput()
	if err != nil {
		ts.Fatalf("the folder changed:\n%s", out)
	}
}
