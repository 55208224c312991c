package bench

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/pprof"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"widegate/bench/api"
	"widegate/bench/store"
	"widegate/gate"
	"widegate/gate/rest"
)

// serveVariable tells a process of this test what to serve: which service, the
// engine and the URL of the database.
const serveVariable = "WIDEGATE_BENCH_SERVE"

// server is a service in a process of its own.
type server struct {
	URL string
	pid int
}

// start runs a service until the test ends.
func start(t testing.TB, service, engine, url string) *server {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), serveVariable+"="+service+" "+engine+" "+url)
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		in.Close()
		cmd.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	require.NoError(t, err, "the server did not start")
	return &server{"http://" + strings.TrimSpace(line), cmd.Process.Pid}
}

// serveProcess serves until its standard input ends.
func serveProcess(what string) {
	fields := strings.SplitN(what, " ", 3)
	handler, err := handlerOf(context.Background(), fields[0], fields[1], fields[2])
	if err == nil {
		var l net.Listener
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err == nil {
			defer profile(fields[0] + "-" + fields[1])()
			fmt.Println(l.Addr())
			go http.Serve(l, handler)
			bufio.NewReader(os.Stdin).ReadByte()
			return
		}
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// profileVariable names the folder where servers leave profiles of what they do.
const profileVariable = "WIDEGATE_BENCH_PROFILES"

// profile writes a profile of the processor's time until it is stopped.
func profile(name string) (stop func()) {
	folder := os.Getenv(profileVariable)
	if folder == "" {
		return func() {}
	}
	f, err := os.Create(filepath.Join(folder, name+".pprof"))
	if err == nil {
		err = pprof.StartCPUProfile(f)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return func() {}
	}
	return func() {
		pprof.StopCPUProfile()
		f.Close()
	}
}

func handlerOf(ctx context.Context, service, engine, url string) (http.Handler, error) {
	if service == "byhand" {
		store, err := openByHand(ctx, engine, url)
		if err != nil {
			return nil, err
		}
		return store.Handler(), nil
	}
	db, err := openOurs(ctx, engine, url)
	if err != nil {
		return nil, err
	}
	if service == "limit" {
		return limit(db, engine), nil
	}
	return api.New(db, func(c *rest.Config) { c.Gather = service != "apart" })
}

// limit is what could be at best for a list of 100: the same query, whose rows are
// read and thrown away, and an answer of the same length.
func limit(db gate.DB, engine string) http.Handler {
	answer := bytes.Repeat([]byte("x"), 38000)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		from, _ := strconv.ParseInt(r.URL.Query().Get("from"), 10, 64)
		rows, err := db.Query(r.Context(), limitQuery[engine], []any{from})
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		defer rows.Close()
		d := new(store.Delivery)
		fields := []any{&d.ID, &d.Code, &d.Keeper, &d.Remark, &d.WeightKg, &d.IsAccepted, &d.DeliveredOn, &d.RecordedAt, &d.PreviousID, &d.Tag, &d.Facts, &d.Moisture, &d.Region, &d.Grade}
		for rows.Next() {
			if err := rows.Scan(fields); err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
				return
			}
		}
		w.Header().Set("Content-Length", strconv.Itoa(len(answer)))
		w.Write(answer)
	})
}

const allColumns = `id, code, keeper, remark, weight_kg, is_accepted, delivered_on, recorded_at, previous_id, tag, facts, moisture, region, grade`

var limitQuery = map[string]string{
	"postgres": "SELECT " + allColumns + " FROM delivery WHERE id >= $1 ORDER BY id LIMIT 101",
	"mysql":    "SELECT " + allColumns + " FROM delivery WHERE id >= ? ORDER BY id LIMIT 101",
	"sqlite":   "SELECT " + allColumns + " FROM delivery WHERE id >= ? ORDER BY id LIMIT 101",
}

// processor is the time of the processor that a process has used, in hundredths
// of a second, as proc(5) has it; 0 where there is no such file.
func (s *server) processor() float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	user, _ := strconv.ParseFloat(fields[11], 64)
	system, _ := strconv.ParseFloat(fields[12], 64)
	return user + system
}

// turn is what one side did in its turns.
type turn struct {
	server  *server
	clients []*client
	make    func(i int) []byte
	next    int
	sent    int
	rates   []float64 // requests a second of each slice
	cpu     float64
	waits   []time.Duration
}

// slice sends requests for a while over all connections at once. A request that
// was sent is waited for, so that no connection is cut in the middle of one.
func (t *turn) slice(long time.Duration) error {
	var lock sync.Mutex
	var wait sync.WaitGroup
	var failed error
	sent := 0
	cpu, began := t.server.processor(), time.Now()
	for _, c := range t.clients {
		wait.Go(func() {
			var waits []time.Duration
			var err error
			for err == nil && time.Since(began) < long {
				lock.Lock()
				t.next++
				i := t.next
				lock.Unlock()
				text, at := t.make(i), time.Now()
				err = c.do(text)
				waits = append(waits, time.Since(at))
			}
			lock.Lock()
			defer lock.Unlock()
			sent += len(waits)
			t.waits = append(t.waits, waits...)
			if err != nil {
				failed = err
			}
		})
	}
	wait.Wait()
	t.rates = append(t.rates, float64(sent)/time.Since(began).Seconds())
	t.cpu += t.server.processor() - cpu
	t.sent += sent
	return failed
}
