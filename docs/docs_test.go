// Package docs_test runs the commands of the README and of the pages beside it
// as they stand, and compares what they print.
package docs_test

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// step is a command of a page with what it should print. In the output, … stands
// for any text.
type step struct {
	command string
	output  []string
}

// readSteps reads the console blocks of a page: lines that begin with a dollar
// sign are commands, with > lines that go on, the others output.
func readSteps(t *testing.T, path string) []step {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	var steps []step
	inside := false
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\n")
		switch {
		case strings.HasPrefix(line, "```"):
			inside = line == "```console"
		case !inside:
		case strings.HasPrefix(line, "$ "):
			steps = append(steps, step{command: line[2:]})
		case strings.HasPrefix(line, ">"):
			steps[len(steps)-1].command += "\n" + strings.TrimPrefix(strings.TrimPrefix(line, ">"), " ")
		case line != "":
			steps[len(steps)-1].output = append(steps[len(steps)-1].output, line)
		}
	}
	return steps
}

// serves reports whether a command runs until it is ended.
func serves(command string) bool {
	return strings.HasPrefix(strings.TrimPrefix(command, "CGO_ENABLED=0 "), "go run ./cmd/") && !strings.Contains(command, "tour") || strings.HasPrefix(command, "widegate preview") ||
		strings.HasPrefix(command, "widegate demo") && !strings.Contains(command, "--no-start")
}

func TestPages(t *testing.T) {
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	bin := t.TempDir()
	out, err := exec.Command("go", "build", "-o", bin, "widegate/cmd/widegate").CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
	pages, err := filepath.Glob("*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "../README.md") {
		steps := readSteps(t, page)
		if len(steps) == 0 {
			continue
		}
		t.Run(filepath.Base(page), func(t *testing.T) {
			s := &shell{t: t, folder: t.TempDir(), port: freePort(t)}
			if filepath.Base(page) == "README.md" {
				s.folder = root
			}
			for _, st := range steps {
				s.run(st)
			}
		})
	}
}

func freePort(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	_, port, err := net.SplitHostPort(l.Addr().String())
	require.NoError(t, err)
	return port
}

// shell runs commands one after another as if typed into one terminal, or two
// where one of them serves. The port 8080 becomes one that is free.
type shell struct {
	t      *testing.T
	folder string
	port   string
	stop   func() // what serves; the next command that does takes its place
}

func (s *shell) run(st step) {
	s.t.Helper()
	command := strings.ReplaceAll(st.command, "localhost:8080", "localhost:"+s.port)
	if serves(command) {
		s.serve(st, command)
		return
	}
	after := filepath.Join(s.t.TempDir(), "folder")
	cmd := exec.Command("sh", "-c", command+"\nstatus=$?\npwd > "+after+"\nexit $status")
	cmd.Dir = s.folder
	var text, complaints bytes.Buffer
	cmd.Stdout, cmd.Stderr = &text, &complaints
	require.NoError(s.t, cmd.Run(), "%s\n%s%s", command, &text, &complaints)
	s.compare(st, text.String())
	folder, err := os.ReadFile(after)
	require.NoError(s.t, err)
	s.folder = strings.TrimSpace(string(folder))
}

// serve starts a command that runs until the page ends, and waits until the
// service answers.
func (s *shell) serve(st step, command string) {
	s.t.Helper()
	flag := " -address 127.0.0.1:" + s.port
	if strings.HasPrefix(command, "widegate") {
		flag = " --port " + s.port
	}
	cmd := exec.Command("sh", "-c", "exec env "+command+flag)
	cmd.Dir = s.folder
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	read, write := io.Pipe()
	cmd.Stdout, cmd.Stderr = write, write
	if s.stop != nil {
		s.stop()
	}
	require.NoError(s.t, cmd.Start())
	ended := make(chan struct{})
	go func() {
		_ = cmd.Wait() // `go run` reports the signal
		write.Close()
		close(ended)
	}()
	s.stop = sync.OnceFunc(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		<-ended
	})
	s.t.Cleanup(s.stop)
	var text strings.Builder
	lines := bufio.NewScanner(read)
	for lines.Scan() {
		fmt.Fprintln(&text, lines.Text())
		if strings.HasPrefix(lines.Text(), "serving ") {
			break
		}
	}
	go io.Copy(io.Discard, read)
	s.compare(st, text.String())
	for range 50 {
		if res, err := http.Get("http://127.0.0.1:" + s.port + "/health/live"); err == nil {
			res.Body.Close()
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Fail(s.t, "the service does not answer")
}

// compare looks for the lines of the page in the output, in their order.
func (s *shell) compare(st step, got string) {
	s.t.Helper()
	got = strings.ReplaceAll(got, s.port, "8080")
	pattern := "(?s)"
	for _, line := range st.output {
		if line == "…" {
			continue
		}
		pattern += ".*" + strings.ReplaceAll(regexp.QuoteMeta(line), "…", ".*?")
	}
	assert.Regexp(s.t, regexp.MustCompile(pattern), got, st.command)
}
