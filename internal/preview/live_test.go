package preview_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/gate/sqlite"
	"widegate/internal/generate"
	"widegate/internal/preview"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/testdb"
)

// statementVariable has this program run a statement on a SQLite file in place of
// tests, as another process would.
const statementVariable = "WIDEGATE_TEST_STATEMENT"

func TestMain(m *testing.M) {
	if statement := os.Getenv(statementVariable); statement != "" {
		db, err := sqlite.Open(context.Background(), os.Args[1])
		if err == nil {
			_, err = db.Exec(context.Background(), statement, nil)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(testdb.Main(m))
}

func execByAnother(t *testing.T, path string) func(string) {
	return func(statement string) {
		cmd := exec.Command(os.Args[0], path)
		cmd.Env = append(os.Environ(), statementVariable+"="+statement)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", statement, out)
	}
}

// TestGoesWithTheSchema changes a schema under a preview, which tells what has
// changed and serves it, and gets over a schema that cannot be served.
func TestGoesWithTheSchema(t *testing.T) {
	t.Run(dialects.SQLite, func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "bees.db")
		require.NoError(t, os.WriteFile(path, nil, 0o644))
		follow(t, read.Source{Engine: dialects.SQLite, URL: path}, execByAnother(t, path))
	})
	connect := map[string]func(t *testing.T) (url string, exec func(string)){
		dialects.Postgres: func(t *testing.T) (string, func(string)) {
			url := testdb.Postgres(t)
			return url, execOn(t, url, postgres.Open)
		},
		dialects.MySQL: func(t *testing.T) (string, func(string)) {
			url := testdb.MySQL(t)
			return url, execOn(t, url, mysql.Open)
		},
	}
	for engine, open := range connect {
		t.Run(engine, func(t *testing.T) {
			url, exec := open(t)
			follow(t, read.Source{Engine: engine, URL: url}, exec)
		})
	}
}

func execOn(t *testing.T, url string, open func(context.Context, string) (gate.DB, error)) func(string) {
	db, err := open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return func(statement string) {
		_, err := db.Exec(context.Background(), statement, nil)
		require.NoError(t, err, statement)
	}
}

// follow holds a preview of a database to what it should do.
func follow(t *testing.T, source read.Source, exec func(string)) {
	exec("CREATE TABLE hive (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL)")
	exec("INSERT INTO hive VALUES (1, 'one')")
	file := filepath.Join(t.TempDir(), "widegate.yaml")
	require.NoError(t, os.WriteFile(file, []byte("database: {url: x}\n"), 0o644))
	live, err := preview.NewLive(t.Context(), func(ctx context.Context) (*preview.Service, error) {
		p, err := project.Load(file)
		if err != nil {
			return nil, err
		}
		c, m, err := generate.Understand(ctx, p, source)
		if err != nil {
			return nil, err
		}
		return preview.Open(ctx, source, c, m, preview.Options{Title: "bees"})
	})
	require.NoError(t, err)
	live.Watch(file)
	server := httptest.NewServer(live)
	ctx, cancel := context.WithCancel(t.Context())
	told := make(chan []string, 10)
	failed := make(chan error, 10)
	ended := make(chan struct{})
	go func() {
		live.Follow(ctx, func(changes []string, err error) {
			if err != nil {
				failed <- err
				return
			}
			told <- changes
		})
		close(ended)
	}()
	t.Cleanup(func() {
		cancel()
		<-ended
		server.Close()
		require.NoError(t, live.Close())
	})
	get := func(path string) string {
		res, err := http.Get(server.URL + path)
		require.NoError(t, err)
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return string(text)
	}
	wait := func() []string {
		select {
		case changes := <-told:
			return changes
		case <-time.After(20 * time.Second):
			require.Fail(t, "nothing was told")
			return nil
		}
	}
	assert.JSONEq(t, `{"id":1,"name":"one"}`, get("/api/hives/1"))
	exec("ALTER TABLE hive ADD frames INTEGER")
	assert.Equal(t, []string{"hive: the column frames is new, " + live.Current().Catalog.Tables[0].Columns[0].Declared}, wait())
	assert.JSONEq(t, `{"id":1,"name":"one","frames":null}`, get("/api/hives/1"))
	assert.Contains(t, get("/desk/rows/hives"), "Frames")

	require.NoError(t, os.WriteFile(file, []byte("database: {url: x}\nentities: {hive: {path: boxes}}\n"), 0o644))
	assert.Equal(t, []string{"the project file has changed"}, wait())
	assert.Contains(t, get("/api/boxes/1"), "one")
	require.NoError(t, os.WriteFile(file, []byte("database: {url: x}\nentitys: {}\n"), 0o644))
	select {
	case err := <-failed:
		assert.ErrorContains(t, err, `unknown key "entitys"`)
	case <-time.After(20 * time.Second):
		require.Fail(t, "the fault was not told")
	}
	assert.Contains(t, get("/api/hives/1"), "cannot be served as it is now")
	require.NoError(t, os.WriteFile(file, []byte("database: {url: x}\n# mended\n"), 0o644))
	wait()
	assert.Contains(t, get("/api/hives/1"), "one")

	other, err := http.NewRequest("GET", server.URL+"/api/hives/1", nil)
	require.NoError(t, err)
	other.Host = "evil.example"
	res, err := http.DefaultClient.Do(other)
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusMisdirectedRequest, res.StatusCode, "names that lead here do not reach it")
}

// TestPreviewsNeedADatabase tells what to do where there is none.
func TestPreviewsNeedADatabase(t *testing.T) {
	assert.ErrorContains(t, preview.CheckSource(read.Source{Engine: dialects.SQLite, DDL: []string{"x.sql"}}), "a snapshot has no rows")
	assert.NoError(t, preview.CheckSource(read.Source{URL: "bees.db"}))
}
