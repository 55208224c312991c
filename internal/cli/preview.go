package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"widegate/gate/assist"
	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/preview"
	"widegate/internal/read"
	"widegate/internal/rollout"
)

// previewing is what the flags of preview say.
type previewing struct {
	port    int
	writes  bool
	apply   bool
	assist  bool
	engine  string
	schemas []string
}

func (a *app) previewCommand() *cobra.Command {
	var o previewing
	cmd := &cobra.Command{
		Use:   "preview [URL|SCRIPTS...]",
		Short: "Look at a database in the browser, with nothing generated",
		Long: `Serves a database on this machine: pages for its rows and its schema, and the
whole HTTP interface that the generated service would have, with its documentation.
Without a URL it is the database of the project file, with the names, paths and columns
that the file says. In place of a URL there may be scripts: they are run in an embedded
database, which is gone afterwards. When the schema or the project file changes, so does
what is served. Nothing can be saved unless --writes is given. Ctrl-C ends it.`,
		Example: `  widegate preview sqlite:bees.db
  widegate preview schema --writes
  widegate preview postgres://localhost/bees --writes
  widegate preview --port 9000`,
		RunE: func(cmd *cobra.Command, args []string) error { return a.preview(cmd.Context(), o, args) },
	}
	f := cmd.Flags()
	f.IntVar(&o.port, "port", 8090, "the `PORT` to listen at; 0 is any that is free")
	f.BoolVar(&o.writes, "writes", false, "let rows be saved, changed and deleted")
	f.BoolVar(&o.apply, "apply", false, "run the project's scripts first that the database has not run")
	f.BoolVar(&o.assist, "assist", false, "offer functions to assistants too, at /mcp")
	f.StringVar(&o.engine, "engine", "", "the `ENGINE` of scripts: "+strings.Join(read.Engines, ", "))
	f.StringSliceVar(&o.schemas, "schema", nil, "a `SCHEMA` to read; may be repeated")
	return cmd
}

func (a *app) preview(ctx context.Context, o previewing, args []string) error {
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", o.port)) // a port in use is told of first
	if err != nil {
		return fault.New("take another port with --port, or 0 for any that is free", "%s", portFault(o.port, err))
	}
	defer listener.Close()
	folder, err := os.MkdirTemp("", "widegate-preview-")
	if err != nil {
		return fmt.Errorf("making a folder for the preview: %w", err)
	}
	defer os.RemoveAll(folder)
	report, done := a.progress("preparing:")
	ended := sync.OnceFunc(done)
	defer ended()
	live, err := preview.NewLive(ctx, func(ctx context.Context) (*preview.Service, error) {
		return a.openPreview(ctx, o, args, filepath.Join(folder, "preview.db"), report)
	})
	ended()
	if err != nil {
		return err
	}
	defer live.Close()
	a.watchPreview(live, o, args)
	handler, err := a.previewHandler(ctx, live, o, args)
	if err != nil {
		return err
	}
	a.showPreview(live, "http://"+listener.Addr().String(), o)
	return a.servePreview(ctx, live, handler, listener)
}

// watchPreview has the preview go with the files that it is made from.
func (a *app) watchPreview(live *preview.Live, o previewing, args []string) {
	if len(args) == 0 {
		live.Watch(a.config)
	}
	if _, source, err := a.source(args, o.engine); err == nil {
		for _, path := range source.DDL {
			live.Watch(path)
		}
	}
}

// openPreview opens the database of a source, or a file in which its scripts are
// made. Scripts of a project that have not run on its database are told of.
func (a *app) openPreview(ctx context.Context, o previewing, args []string, file string, report func(string)) (*preview.Service, error) {
	p, source, err := a.source(args, o.engine)
	if err != nil {
		return nil, err
	}
	if len(args) == 0 {
		source.URL = generate.Database(p).URL
	}
	if len(o.schemas) > 0 {
		source.Schemas = o.schemas
	}
	source.Progress = report
	title := databaseName(source)
	switch {
	case source.Snapshot != "":
		return nil, preview.CheckSource(source)
	case source.URL == "" && len(source.DDL) > 0:
		title = filepath.Base(source.DDL[0])
		if source, err = a.embed(ctx, source, file); err != nil {
			return nil, err
		}
	case len(source.DDL) > 0:
		if err := a.offerScripts(ctx, o, source, report); err != nil {
			return nil, err
		}
		source.DDL = nil // what is served is what the database has
	}
	c, m, err := generate.Understand(ctx, p, source)
	if err != nil {
		return nil, err
	}
	options := preview.Options{Writes: o.writes, Title: title}
	if options.Icon, err = p.Icon(); err != nil {
		return nil, err
	}
	if options.Script, err = p.Script(); err != nil {
		return nil, err
	}
	if len(args) == 0 && p.Root != "" {
		options.Trials = &trials{app: a, source: source}
	}
	return preview.Open(ctx, source, c, m, options)
}

func (a *app) embed(ctx context.Context, source read.Source, file string) (read.Source, error) {
	made, notes, err := preview.Embed(ctx, source, file)
	if err != nil {
		return made, err
	}
	for _, n := range notes {
		fmt.Fprintf(a.err, "  note: %s\n", n)
	}
	made.Progress = source.Progress
	return made, nil
}

// offerScripts runs the scripts that the database lacks where that is agreed to.
func (a *app) offerScripts(ctx context.Context, o previewing, source read.Source, report func(string)) error {
	waiting, missing := behind(ctx, source)
	if waiting == 0 {
		return nil
	}
	what := fmt.Sprintf("%s has not run %s", source.Redacted(), count(waiting, "script"))
	if !o.apply {
		report("")
		yes, err := a.confirm(ctx, what+". Run them now?", "run", "leave it")
		if err != nil {
			return err
		}
		if !yes {
			if !missing {
				fmt.Fprintf(a.err, "  note: %s; `widegate apply` runs them\n", what)
				return nil
			}
			return fault.New("run `widegate apply`, or `widegate preview --apply`", "the database %s is not there; %s would make it", source.Redacted(), count(waiting, "script"))
		}
	}
	return a.bringUp(ctx, source)
}

// bringUp makes a database where it is missing, and runs the scripts that wait.
func (a *app) bringUp(ctx context.Context, source read.Source) error {
	scripts, err := rollout.Load(source)
	if err != nil {
		return err
	}
	missing, err := read.Missing(ctx, source)
	if err != nil {
		return err
	}
	return a.runScripts(ctx, applying{}, source, scripts, missing)
}

// portFault says that a port cannot be listened on.
func portFault(port int, err error) string {
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Sprintf("port %d is in use by another program", port)
	}
	if errors.Is(err, syscall.EACCES) {
		return fmt.Sprintf("port %d may not be used by this user", port)
	}
	return err.Error()
}

// databaseName is what a database is called in titles.
func databaseName(s read.Source) string {
	if path, isFile := s.File(); isFile {
		return strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
	}
	name := s.Redacted()
	name, _, _ = strings.Cut(name[strings.LastIndex(name, "/")+1:], "?")
	return name
}

func (a *app) showPreview(live *preview.Live, at string, o previewing) {
	c, m := live.Current().Catalog, live.Current().Model
	views := 0
	for i := range c.Tables {
		if c.Tables[i].IsView() {
			views++
		}
	}
	a.say("%s: %s, %s", c.Engine.Name, count(len(c.Tables)-views, "table"), count(views, "view"))
	a.say("")
	a.say("  rows           %s/desk/", at)
	a.say("  schema         %s/schema", at)
	a.say("  API            %s%s/%s", at, m.Base, m.Entities[0].Path)
	a.say("  documentation  %s/docs", at)
	if o.assist {
		a.say("  assistants     %s/mcp", at)
	}
	a.say("")
	if o.writes {
		a.say("Rows can be saved, changed and deleted. No credentials are asked for.")
	} else {
		a.say("Nothing can be saved; --writes changes that. No credentials are asked for.")
	}
	fmt.Fprintf(a.err, "serving %s\n", at)
}

// previewHandler is the preview, with functions for assistants where they are wanted.
func (a *app) previewHandler(ctx context.Context, live *preview.Live, o previewing, args []string) (http.Handler, error) {
	if !o.assist {
		return live, nil
	}
	offered, err := a.offered(ctx, live, assisting{previewing: o}, args)
	if err != nil {
		return nil, err
	}
	functions, err := offered.Shared(ctx, lookAtSchema)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	mux.Handle(assist.Path, functions)
	mux.Handle("/", live)
	return mux, nil
}

func (a *app) servePreview(ctx context.Context, live *preview.Live, handler http.Handler, listener net.Listener) error {
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	go live.Follow(ctx, func(changes []string, err error) {
		if err != nil {
			fmt.Fprintf(a.err, "widegate: %v\n", err)
			return
		}
		a.say("Read again:")
		for _, c := range changes {
			a.say("  %s", c)
		}
	})
	select {
	case err := <-ended:
		return fmt.Errorf("serving: %w", err)
	case <-ctx.Done():
	}
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err := server.Shutdown(grace); err != nil {
		return errors.Join(fmt.Errorf("ending: %w", err), server.Close())
	}
	return nil
}
