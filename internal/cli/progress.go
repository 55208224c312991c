package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"widegate/internal/printable"
	"widegate/internal/read"
)

// Where lines stay, they come no faster than pace, and no slower than silence.
const (
	pace    = time.Second
	silence = 2 * time.Second
)

// patience is how long nothing is said.
const patience = 500 * time.Millisecond

// progress returns a function that is told what is being done, and one that
// ends it. What takes longer than half a second is shown on standard error:
// on a terminal in one line that goes away, elsewhere in a line for each thing.
func (a *app) progress(doing string) (report func(what string), done func()) {
	start := time.Now()
	last := start.Add(-pace)
	var mu sync.Mutex
	current, said := "", ""
	show := func() {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case a.quiet || time.Since(start) < patience || current == "":
		case isTerminal(a.err):
			said = current
			fmt.Fprintf(raw(a.err), "\r\x1b[K%s, %d s", printable.Line(strings.TrimSpace(doing+" "+current)), int(time.Since(start).Seconds()))
		case said != current && time.Since(last) > pace:
			said, last = current, time.Now()
			fmt.Fprintf(a.err, "%s\n", strings.TrimSpace(doing+" "+current))
		case time.Since(last) > silence:
			last = time.Now()
			fmt.Fprintf(a.err, "%s, %d s\n", strings.TrimSpace(doing+" "+current), int(time.Since(start).Seconds()))
		}
	}
	stop := make(chan struct{})
	var group sync.WaitGroup
	group.Go(func() {
		tick := time.NewTicker(patience / 2)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				show()
			}
		}
	})
	report = func(what string) {
		mu.Lock()
		current = what
		mu.Unlock()
	}
	done = func() {
		close(stop)
		group.Wait()
		if said != "" && isTerminal(a.err) {
			fmt.Fprint(raw(a.err), "\r\x1b[K")
		}
	}
	return report, done
}

// isTerminal reports whether a person reads or types there.
func isTerminal(stream any) bool {
	if w, isWriter := stream.(io.Writer); isWriter {
		stream = raw(w)
	}
	f, ok := stream.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// schemaCache is where this user keeps what scripts gave. A program that was
// built anew reads them anew.
func schemaCache() read.Cache {
	folder, err := os.UserCacheDir()
	if err != nil {
		return read.Cache{}
	}
	version := ""
	if info, ok := debug.ReadBuildInfo(); ok {
		version = info.Main.Version
	}
	if self, err := os.Executable(); err == nil {
		if info, err := os.Stat(self); err == nil {
			version += fmt.Sprint(info.Size(), info.ModTime().UnixNano())
		}
	}
	return read.Cache{Folder: filepath.Join(folder, "widegate", "schemas"), Version: version}
}
