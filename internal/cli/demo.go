package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"widegate/examples/beekeeping"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/gomodule"
	"widegate/internal/project"
	"widegate/internal/read"
)

// demo is what the flags of the command say.
type demo struct {
	folder  string
	url     string
	port    int
	rows    int
	noStart bool
}

func (a *app) demoCommand() *cobra.Command {
	var d demo
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Set up and run the full example",
		Long: `Makes the database of a beekeeping cooperative, sets up a project on it, writes
the code and starts the service. Ctrl-C ends it; run again to go on where it was.`,
		Example: `  widegate demo
  widegate demo --folder bees --rows 100000 --no-start
  widegate demo --url postgres://localhost/bees`,
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error { return a.demo(cmd, d) },
	}
	f := cmd.Flags()
	f.StringVar(&d.folder, "folder", "demo", "the `FOLDER` to make")
	f.StringVar(&d.url, "url", "", "the `URL` of an empty database to use; a file in the folder when left out")
	f.IntVar(&d.port, "port", 8080, "the `PORT` at which the service listens")
	f.IntVar(&d.rows, "rows", beekeeping.DefaultRows, "`NUMBER` of inspections; other tables in proportion")
	f.BoolVar(&d.noStart, "no-start", false, "do not start the service")
	return cmd
}

func (a *app) demo(cmd *cobra.Command, d demo) error {
	ctx := cmd.Context()
	if d.rows < 1 {
		return usageError{fmt.Errorf("--rows wants a number above 0; got %d", d.rows)}
	}
	if !d.noStart { // a port in use is told of before anything is made
		listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", d.port))
		if err != nil {
			return fault.New("take another by --port, or leave the service alone by --no-start", "%s", portFault(d.port, err))
		}
		listener.Close()
	}
	source, err := a.demoDatabase(ctx, d)
	if err != nil {
		return err
	}
	if err := a.demoProject(cmd, d, source); err != nil {
		return err
	}
	p, err := project.Load(filepath.Join(d.folder, project.FileName))
	if err != nil {
		return err
	}
	starting := *a
	starting.starts = !d.noStart
	plan, err := starting.writeDemo(ctx, p, source)
	if err != nil || d.noStart {
		return err
	}
	return a.serveDemo(ctx, d, plan)
}

// writeDemo shows what was understood and writes the code.
func (a *app) writeDemo(ctx context.Context, p *project.Project, source read.Source) (*generate.Plan, error) {
	store, err := a.open(p)
	if err != nil {
		return nil, err
	}
	defer store.Close()
	plan, err := a.plan(ctx, p, generate.Options{Full: true})
	if err != nil {
		return nil, err
	}
	if err := a.showCatalog(plan.Catalog, p, source, reading{}); err != nil {
		return nil, err
	}
	a.say("")
	if plan.Count(generate.New, generate.Changed, generate.Merged, generate.Removed) == 0 {
		a.showEntities(plan.Model)
		a.say("")
	}
	return plan, a.write(ctx, p, plan, store)
}

// demoDatabase makes and fills the database, unless it was made before.
func (a *app) demoDatabase(ctx context.Context, d demo) (read.Source, error) {
	if d.url == "" {
		d.url = registry.Embedded().Schemes()[0] + ":" + filepath.ToSlash(filepath.Join(d.folder, "bees.db"))
	}
	source, err := read.Parse([]string{d.url}, "")
	if err != nil {
		return source, err
	}
	e, err := source.Known()
	if err != nil {
		return source, err
	}
	if _, isFile := source.File(); isFile {
		if err := e.Make(ctx, source.URL); err != nil {
			return source, err
		}
	}
	before, err := read.Read(ctx, source)
	if err != nil {
		return source, err
	}
	if _, there := before.Table("", "hive"); there {
		a.say("The demo database is there already: %s", source.Redacted())
		return source, nil
	}
	if len(before.Tables) > 0 {
		return source, fault.New("give an empty database", "%s has tables already", source.Redacted())
	}
	db, err := e.OpenService(ctx, source.URL)
	if err != nil {
		return source, err
	}
	defer db.Close()
	if err := beekeeping.CreateTables(ctx, db); err != nil {
		return source, err
	}
	if err := beekeeping.Fill(ctx, db, d.rows); err != nil {
		return source, err
	}
	_, err = db.Exec(ctx, e.Analyze(), nil)
	return source, err
}

// demoProject sets the project up, unless that was done before.
func (a *app) demoProject(cmd *cobra.Command, d demo, source read.Source) error {
	_, err := os.Stat(filepath.Join(d.folder, project.FileName))
	if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	url := source.URL
	if file, isFile := source.File(); isFile {
		url = file
	}
	quiet := *a
	quiet.quiet = true // the next commands are run here, not proposed
	if err := quiet.setUp(cmd, setup{url: url, engine: source.Engine, folder: d.folder, pkg: "store", module: "beekeeping"}); err != nil {
		return err
	}
	for name, text := range map[string]string{"queries/cooperative.sql": beekeeping.Queries, "cmd/tour/main.go": beekeeping.Tour} {
		if err := writeBelow(d.folder, name, []byte(text)); err != nil {
			return fmt.Errorf("making the demo project: %w", err)
		}
	}
	return nil
}

// serveDemo builds the generated service and runs it until the context ends.
func (a *app) serveDemo(ctx context.Context, d demo, plan *generate.Plan) error {
	folder, err := filepath.Abs(d.folder)
	if err != nil {
		return err
	}
	binary := filepath.Join(folder, "bin", filepath.Base(plan.Command))
	report, done := a.progress("building the service:")
	err = gomodule.Build(ctx, folder, binary, plan.Command, func(n, all int) { report(fmt.Sprintf("%d of %s", n, count(all, "package"))) })
	done()
	switch {
	case errors.Is(err, gomodule.ErrNoToolchain):
		a.say("\nThere is no Go toolchain on the path, so the service is not started.")
		return nil
	case ctx.Err() != nil:
		return nil
	case err != nil:
		return fault.New("`go build ./...` in the folder tells more", "the service does not build: %w", err)
	}
	a.say("Ctrl-C ends the service. Meanwhile, in another terminal:")
	for _, path := range []string{"/hives?limit=3", "/hives/1?with=apiary,queen", "/apiaries/1/forages", "/hives?temperament=grumpy"} {
		a.say("  curl 'localhost:%d%s%s'", d.port, plan.Model.Base, path)
	}
	run := exec.CommandContext(ctx, binary, "-address", fmt.Sprintf("127.0.0.1:%d", d.port))
	run.Dir = folder
	run.Stdout, run.Stderr = raw(a.out), raw(a.err)
	run.Cancel = func() error { return run.Process.Signal(syscall.SIGTERM) }
	run.WaitDelay = 15 * time.Second
	err = run.Run()
	if ctx.Err() != nil {
		return nil
	}
	return err
}
