package bench

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var (
	mostRows   = flag.Int("rows", 1_000_000, "how many rows the growth of a table goes to")
	mostTables = flag.Int("tables", 1000, "how many tables the growth of a schema goes to")
)

// growth is how something grows: what it takes at each size.
type growth struct {
	name  string
	sizes []int
	takes []float64
	unit  string
}

func (g *growth) add(size int, takes float64) {
	g.sizes, g.takes = append(g.sizes, size), append(g.takes, takes)
}

// exponent is x in "it takes as much as size to the power of x", by the last two
// sizes: what is fixed weighs least there. 1 is linear.
func (g *growth) exponent() float64 {
	n := len(g.sizes)
	if n < 2 {
		return math.NaN()
	}
	return math.Log(g.takes[n-1]/g.takes[n-2]) / math.Log(float64(g.sizes[n-1])/float64(g.sizes[n-2]))
}

func (g *growth) print() {
	var columns strings.Builder
	for i, size := range g.sizes {
		fmt.Fprintf(&columns, "%10d: %-9s", size, fmt.Sprintf("%.4g", g.takes[i])+" "+g.unit)
	}
	fmt.Printf("%-34s %s  exponent %.2f\n", g.name, columns.String(), g.exponent())
}

// BenchmarkGrowth prints how what the tool and its service take grows with tables,
// rows, relations, connections and depth.
func BenchmarkGrowth(b *testing.B) {
	b.Run("tables", growTables)
	b.Run("relations", growRelations)
	for _, engine := range engines {
		b.Run("rows/"+engine, func(b *testing.B) { growRows(b, engine) })
		b.Run("service/"+engine, func(b *testing.B) { growService(b, engine) })
	}
}

// sizes are powers of ten.
func sizes(from, to int) []int {
	var list []int
	for n := from; n <= to; n *= 10 {
		list = append(list, n)
	}
	return list
}

// run runs the tool, and returns its seconds of the processor's time and megabytes.
func run(b *testing.B, folder, tool string, args ...string) (seconds, megabytes float64) {
	b.Helper()
	cmd := exec.Command(tool, args...)
	cmd.Dir = folder
	out, err := cmd.CombinedOutput()
	var ended *exec.ExitError
	if !errors.As(err, &ended) || ended.ExitCode() != 3 { // a decision is needed
		require.NoError(b, err, "%s", out)
	}
	usage := cmd.ProcessState.SysUsage().(*syscall.Rusage)
	return (cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()).Seconds(), float64(usage.Maxrss) / 1024
}

// newTool builds the tool, and a project in a folder of its own from a script.
func newTool(b *testing.B, script string) (tool, folder string) {
	b.Helper()
	tool = filepath.Join(b.TempDir(), "widegate")
	out, err := exec.Command("go", "build", "-o", tool, "widegate/cmd/widegate").CombinedOutput()
	require.NoError(b, err, "%s", out)
	folder = b.TempDir()
	write := func(name, text string) {
		require.NoError(b, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	write("schema.sql", script)
	write("widegate.yaml", "database:\n  engine: sqlite\n  ddl: [schema.sql]\n")
	write("go.mod", "module bees\n\ngo 1.26\n")
	return tool, folder
}

// tables is a script of tables, each of which refers to two before it.
func tables(n int) string {
	var s strings.Builder
	for i := range n {
		fmt.Fprintf(&s, "CREATE TABLE frame%04d (id INTEGER PRIMARY KEY, name TEXT NOT NULL, note TEXT, weight DECIMAL(6,2) NOT NULL DEFAULT 0, seen_on DATE, is_full BOOLEAN NOT NULL DEFAULT FALSE", i)
		if i > 0 {
			fmt.Fprintf(&s, ", upper_id INTEGER NOT NULL REFERENCES frame%04d (id), beside_id INTEGER REFERENCES frame%04d (id)", i/2, i/3)
		}
		s.WriteString(");\n")
	}
	return s.String()
}

func growTables(b *testing.B) {
	names := []string{"read", "first write", "write, nothing to do", "changes, one column more", "write, one column more", "migration"}
	times, memory := map[string]*growth{}, map[string]*growth{}
	for _, name := range names {
		times[name], memory[name] = &growth{name: name, unit: "s"}, &growth{name: name + ", memory", unit: "MB"}
	}
	for _, n := range sizes(10, *mostTables) {
		tool, folder := newTool(b, tables(n))
		at := filepath.Join(folder, "schema.sql")
		measure := func(name string, args ...string) {
			seconds, megabytes := run(b, folder, tool, args...)
			times[name].add(n, seconds)
			memory[name].add(n, megabytes)
		}
		measure("read", "read", "--json")
		measure("first write", "write")
		measure("write, nothing to do", "write")
		text, err := os.ReadFile(at)
		require.NoError(b, err)
		require.NoError(b, os.WriteFile(at, bytes.Replace(text, []byte("note TEXT"), []byte("note TEXT, remark TEXT"), 1), 0o600))
		measure("changes, one column more", "changes")
		measure("migration", "migration")
		measure("write, one column more", "write", "--yes")
	}
	for _, name := range names {
		times[name].print()
		memory[name].print()
	}
}

func growRelations(b *testing.B) {
	write := &growth{name: "first write, by relations of a table", unit: "s"}
	for _, n := range sizes(1, 100) {
		var s strings.Builder
		s.WriteString("CREATE TABLE hive (id INTEGER PRIMARY KEY, name TEXT NOT NULL);\nCREATE TABLE visit (id INTEGER PRIMARY KEY")
		for i := range n {
			fmt.Fprintf(&s, ", r%03d_id INTEGER REFERENCES hive (id)", i)
		}
		s.WriteString(");\n")
		tool, folder := newTool(b, s.String())
		seconds, _ := run(b, folder, tool, "write")
		write.add(n, seconds)
	}
	write.print()
}

// timed is the median time of a request in milliseconds.
func timed(b *testing.B, url string) float64 {
	b.Helper()
	var list []float64
	for began := time.Now(); len(list) < 5 || time.Since(began) < 300*time.Millisecond; {
		at := time.Now()
		res, err := http.Get(url)
		require.NoError(b, err)
		_, err = io.Copy(io.Discard, res.Body)
		require.NoError(b, err)
		res.Body.Close()
		require.Equal(b, 200, res.StatusCode, url)
		list = append(list, float64(time.Since(at).Microseconds())/1000)
	}
	slices.Sort(list)
	return list[len(list)/2]
}

func growRows(b *testing.B, engine string) {
	of := func(name string) *growth { return &growth{name: engine + ", " + name, unit: "ms"} }
	row, page, deep, count, all := of("one row"), of("first page of 100"), of("last page by cursor"), of("count"), of("export")
	for _, n := range sizes(1000, *mostRows) {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			s := open(b, engine)
			fill(b, &s, n)
			at := start(b, "ours", engine, s.url).URL + "/api/deliveries"
			row.add(n, timed(b, fmt.Sprint(at, "/", n/2)))
			page.add(n, timed(b, at+"?limit=100"))
			deep.add(n, timed(b, lastPage(b, at, n)))
			count.add(n, timed(b, at+"?limit=1&count=true"))
			all.add(n, timed(b, at+"?limit=none&f=ndjson"))
		})
	}
	for _, g := range []*growth{row, page, deep, count, all} {
		g.print()
	}
}

// lastPage goes from page to page to the last hundred rows of n.
func lastPage(b *testing.B, at string, n int) string {
	b.Helper()
	after := ""
	for read := 0; ; {
		size := min(1000, n-100-read)
		if size <= 0 {
			return at + "?limit=100&after=" + url.QueryEscape(after)
		}
		res, err := http.Get(fmt.Sprint(at, "?limit=", size, "&properties=id&after=", url.QueryEscape(after)))
		require.NoError(b, err)
		var body struct {
			Items []any
			Next  string
		}
		require.NoError(b, json.NewDecoder(res.Body).Decode(&body))
		res.Body.Close()
		require.NotEmpty(b, body.Items)
		read, after = read+len(body.Items), body.Next
	}
}

func growService(b *testing.B, engine string) {
	s := open(b, engine)
	fill(b, &s, 10_000)
	server := start(b, "ours", engine, s.url)
	depth := &growth{name: engine + ", page of 10 by embedded depth", unit: "ms"}
	with := ""
	for i := range 4 {
		with += []string{"samples", ".delivery"}[i%2]
		if i == 1 {
			with += "."
		}
		depth.add(i+1, timed(b, server.URL+"/api/deliveries?limit=10&with="+strings.TrimSuffix(with, ".")))
	}
	depth.print()
	cpu := &growth{name: engine + ", CPU of a request by connections", unit: "µs"}
	for _, n := range append(sizes(1, 100), 500) { // the service takes 512 requests at once
		used, sent := together(b, server, n)
		cpu.add(n, used*1e4/float64(sent))
	}
	cpu.print()
}

// together sends requests over many connections for a second, and returns what they
// took of the server's processor time, in hundredths of a second.
func together(b *testing.B, s *server, connections int) (seconds float64, sent int) {
	b.Helper()
	clients := make([]*client, connections)
	for i := range clients {
		clients[i] = dial(b, s)
	}
	before := s.processor()
	counts := make([]int, connections)
	var wait sync.WaitGroup
	for i, c := range clients {
		wait.Go(func() {
			for end := time.Now().Add(time.Second); time.Now().Before(end); counts[i]++ {
				if err := c.do(request("GET", fmt.Sprintf("/api/deliveries/%d", 1+(i*31+counts[i]*7919)%10_000), "")); err != nil {
					b.Error(err)
					return
				}
			}
		})
	}
	wait.Wait()
	for _, n := range counts {
		sent += n
	}
	for _, c := range clients {
		c.conn.Close()
	}
	return s.processor() - before, sent
}
