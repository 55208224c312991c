package generate_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
	"widegate/gate"
	"widegate/gate/mysql"
	"widegate/gate/postgres"
	"widegate/gate/sqlite"
	"widegate/internal/cli"
	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// relatedTo is a relation in the client in Go.
var relatedTo = regexp.MustCompile(`, (store\.[\pL\pN_]+\.[\pL\pN_]+)\)`)

// walkByGo goes through all resources of a service by its client in Go, and through the
// tables of its database by the store, with the same code: both must tell the same.
func walkByGo(t *testing.T, s *service, folder, address string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(folder, "client", "client.go"))
	require.NoError(t, err)
	var tables strings.Builder
	for _, part := range strings.Split(string(text), "remote.Describe(")[1:] {
		path, rest, _ := strings.Cut(part, ", ")
		name := regexp.MustCompile(`^store\.[\pL\pN_]+`).FindString(rest)
		tables.WriteString("\ttable(w, " + path + ", " + name)
		for _, m := range relatedTo.FindAllStringSubmatch(rest, -1) {
			tables.WriteString(", " + m[1])
		}
		tables.WriteString(")\n")
	}
	program, err := os.ReadFile(filepath.Join("testdata", "clients", "walk.go.txt"))
	require.NoError(t, err)
	at := filepath.Join(folder, "cmd", "walk")
	require.NoError(t, os.MkdirAll(at, 0o755))
	code := strings.NewReplacer("MODULE", "beekeeping", "TABLES", tables.String()).Replace(string(program))
	require.NoError(t, os.WriteFile(filepath.Join(at, "main.go"), []byte(code), 0o644))
	build := exec.Command("go", "build", "-o", filepath.Join(at, "walk"), "./cmd/walk")
	build.Dir = folder
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	run := exec.Command(filepath.Join(at, "walk"), address, s.base+"/api")
	run.Dir = folder
	out, err = run.CombinedOutput()
	require.NoError(t, err, "%s", out)
	var told struct{ Resources, Rows, Found, Related, Stored, Updated int }
	require.NoError(t, json.Unmarshal(out[strings.LastIndex(string(out), "{"):], &told), "%s", out)
	assert.Greater(t, told.Resources, 10)
	assert.Greater(t, told.Rows, 10)
	assert.Greater(t, told.Found, 50)
	assert.Greater(t, told.Related, 5)
	assert.Greater(t, told.Stored, 5)
	assert.Greater(t, told.Updated, 5)
	t.Logf("%+v", told)
}

// goSettings ask for the client in Go and for a call by it.
const goSettings = "  expose: {BestApiaries: []}\nclients: {go: {folder: client}}\n"

// TestWrongUsesOfTheGoClient has the compiler refuse uses of the client in Go, each with
// a message that names what is wrong, and take those that are right.
func TestWrongUsesOfTheGoClient(t *testing.T) {
	folder := makeDemo(t, "sqlite")
	addTo(t, folder, goSettings)
	text, err := os.ReadFile(filepath.Join("testdata", "clients", "wrong.go.txt"))
	require.NoError(t, err)
	at := filepath.Join(folder, "cmd", "wrong")
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "main.go"), text, 0o644))
	build := exec.Command("go", "build", "-gcflags=-e", "./cmd/wrong")
	build.Dir = folder
	out, err := build.CombinedOutput()
	require.Error(t, err)
	said := map[int]string{}
	place := regexp.MustCompile(`main\.go:(\d+):\d+: (.*)`)
	for _, m := range place.FindAllStringSubmatch(string(out), -1) {
		n, _ := strconv.Atoi(m[1])
		said[n] += m[2] + "\n"
	}
	cases := 0
	for i, line := range strings.Split(string(text), "\n") {
		m := wrongUse.FindStringSubmatch(line)
		if m == nil {
			assert.Empty(t, said[i+1], "%s", line)
			continue
		}
		cases++
		assert.Contains(t, said[i+1], strings.TrimSpace(m[2]), "%s", m[1])
	}
	assert.Greater(t, cases, 25)
}

// keptAnswers makes the table that keeps answers to requests with an idempotency key.
var keptAnswers = map[string]string{
	"sqlite":   "CREATE TABLE request_key (id TEXT PRIMARY KEY, request TEXT NOT NULL, answer TEXT NOT NULL, made_at TIMESTAMP NOT NULL)",
	"postgres": "CREATE TABLE request_key (id VARCHAR(64) PRIMARY KEY, request VARCHAR(64) NOT NULL, answer TEXT NOT NULL, made_at TIMESTAMP NOT NULL)",
	"mysql":    "CREATE TABLE request_key (id VARCHAR(64) PRIMARY KEY, request VARCHAR(64) NOT NULL, answer LONGTEXT NOT NULL, made_at DATETIME NOT NULL)",
}

// cutAll ends the connections of others to a database; SQLite has none.
var cutAll = map[string]func(t *testing.T, db gate.DB){
	"sqlite": func(*testing.T, gate.DB) {},
	"postgres": func(t *testing.T, db gate.DB) {
		_, err := db.Exec(t.Context(), "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()", nil)
		assert.NoError(t, err)
	},
	"mysql": func(t *testing.T, db gate.DB) {
		rows, err := db.Query(t.Context(), "SELECT id FROM information_schema.processlist WHERE db = database() AND id <> connection_id()", nil)
		require.NoError(t, err)
		var ids []int64
		for rows.Next() {
			var id int64
			require.NoError(t, rows.Scan([]any{&id}))
			ids = append(ids, id)
		}
		require.NoError(t, rows.Close())
		for _, id := range ids {
			_, _ = db.Exec(t.Context(), fmt.Sprintf("KILL %d", id), nil) // it may have gone
		}
	},
}

// TestClientsStoreRowsOnce, on all engines at full length, has both clients store rows while the connections of the
// database are cut and the service is killed: what is said to be stored is there, and
// nothing is there twice.
func TestClientsStoreRowsOnce(t *testing.T) {
	for engine := range keptAnswers {
		t.Run(engine, func(t *testing.T) {
			if engine != dialects.Postgres && os.Getenv("WIDEGATE_LONG") == "" {
				t.Skip("all engines are for make soak")
			}
			folder := filepath.Join(t.TempDir(), "demo")
			args := []string{"demo", "--folder", folder, "--no-start"}
			where := engines[engine](t)
			if where != "" {
				args = append(args, "--url", where)
			} else {
				where = "sqlite:" + filepath.Join(folder, "bees.db")
			}
			var out bytes.Buffer
			require.Equal(t, 0, cli.Run(args, nil, &out, &out), out.String())
			open := map[string]func(context.Context, string) (gate.DB, error){"sqlite": sqlite.Open, "postgres": postgres.Open, "mysql": mysql.Open}[engine]
			db, err := open(t.Context(), where)
			require.NoError(t, err)
			t.Cleanup(func() { db.Close() })
			for _, statement := range []string{keptAnswers[engine], "DELETE FROM treatment"} {
				_, err = db.Exec(t.Context(), statement, nil)
				require.NoError(t, err)
			}
			addTo(t, folder, "  repeats: request_key\n"+clientSettings)
			text, err := os.ReadFile(filepath.Join("testdata", "clients", "load.go.txt"))
			require.NoError(t, err)
			require.NoError(t, os.MkdirAll(filepath.Join(folder, "cmd", "load"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(folder, "cmd", "load", "main.go"), text, 0o644))
			run(t, folder, "go", "build", "-o", "bin/", "./cmd/...")
			script, err := filepath.Abs(filepath.Join("testdata", "clients", "load.mjs"))
			require.NoError(t, err)
			client := compileClient(t, folder)

			address, server := freeAddress(t), (*exec.Cmd)(nil)
			start := func() {
				server = exec.Command(filepath.Join(folder, "bin", "beekeeping"), "-address", address)
				server.Dir = folder
				require.NoError(t, server.Start())
			}
			kill := func() {
				_ = server.Process.Kill()
				_ = server.Wait()
			}
			start()
			t.Cleanup(func() { kill() })
			var told [2]bytes.Buffer
			var ends []io.Closer
			loads := []*exec.Cmd{exec.Command(filepath.Join(folder, "bin", "load"), "http://"+address+"/api"), exec.Command("node", script, client, "http://"+address+"/api")}
			for i, load := range loads {
				load.Stdout, load.Stderr = &told[i], &told[i]
				end, err := load.StdinPipe()
				require.NoError(t, err)
				ends = append(ends, end)
				require.NoError(t, load.Start())
			}
			for round := range 30 {
				time.Sleep(150 * time.Millisecond)
				if round%10 == 7 {
					kill()
					start()
					continue
				}
				cutAll[engine](t, db)
			}
			time.Sleep(time.Second) // what is left is stored in peace
			for i := range loads {
				require.NoError(t, ends[i].Close())
				require.NoError(t, loads[i].Wait(), "%s", told[i].String())
			}
			for i, name := range []string{"go", "typescript"} {
				stored := map[float64]int{}
				rows, err := db.Query(t.Context(), fmt.Sprintf("SELECT dose FROM treatment WHERE hive_id = %d", i+1), nil)
				require.NoError(t, err)
				for rows.Next() {
					var dose float64
					require.NoError(t, rows.Scan([]any{&dose}))
					stored[dose]++
				}
				require.NoError(t, rows.Close())
				require.NotContains(t, told[i].String(), "!", "each row is stored in the end")
				acknowledged := strings.Fields(told[i].String())
				for _, text := range acknowledged {
					dose, err := strconv.ParseFloat(text, 64)
					require.NoError(t, err)
					assert.Equal(t, 1, stored[dose], "%s says that %s is stored", name, text)
				}
				for dose, n := range stored {
					assert.Equal(t, 1, n, "%v is stored twice", dose)
				}
				assert.Greater(t, len(acknowledged), 50)
				t.Logf("%s: %d rows acknowledged, %d stored", name, len(acknowledged), len(stored))
			}
		})
	}
}

// freeAddress is an address of this machine that nobody uses.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}
