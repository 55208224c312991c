package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/preview"
	"widegate/internal/read"
)

// previewing is what the flags of preview say.
type previewing struct {
	port    int
	writes  bool
	schemas []string
}

func (a *app) previewCommand() *cobra.Command {
	var o previewing
	cmd := &cobra.Command{
		Use:   "preview [URL]",
		Short: "Look at a database in the browser, with nothing generated",
		Long: `Serves a database on this machine: pages for its rows and its schema, and the
whole HTTP interface that the generated service would have, with its documentation.
Without a URL it is the database of the project file, which is honoured in all it says
of names, paths and columns. When the schema or the project file changes, so does what
is served. Nothing can be stored unless --writes is given. Ctrl-C ends it.`,
		Example: `  widegate preview sqlite:bees.db
  widegate preview postgres://localhost/bees --writes
  widegate preview --port 9000`,
		Args: usage(cobra.MaximumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error { return a.preview(cmd.Context(), o, args) },
	}
	f := cmd.Flags()
	f.IntVar(&o.port, "port", 8090, "where to listen; 0 is any port that is free")
	f.BoolVar(&o.writes, "writes", false, "let rows be stored, changed and removed")
	f.StringSliceVar(&o.schemas, "schema", nil, "a schema to read; may be repeated")
	return cmd
}

func (a *app) preview(ctx context.Context, o previewing, args []string) error {
	open := func(ctx context.Context) (*preview.Service, error) {
		p, source, err := a.source(args, "")
		if err != nil {
			return nil, err
		}
		if len(o.schemas) > 0 {
			source.Schemas = o.schemas
		}
		if err := preview.CheckSource(source); err != nil {
			return nil, err
		}
		c, m, err := generate.Understand(ctx, p, source)
		if err != nil {
			return nil, err
		}
		return preview.Open(ctx, source, c, m, preview.Options{Writes: o.writes, Title: databaseName(source)})
	}
	live, err := preview.NewLive(ctx, open)
	if err != nil {
		return err
	}
	defer live.Close()
	if len(args) == 0 {
		live.Watch(a.config)
	}
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", o.port))
	if err != nil {
		return fault.New("take another port with --port, or 0 for any that is free", "%v", err)
	}
	at := "http://" + listener.Addr().String()
	a.showPreview(live, at, o)
	return a.servePreview(ctx, live, listener)
}

// databaseName is what a database is called in titles.
func databaseName(s read.Source) string {
	if path := s.Path(); !strings.Contains(s.URL, "://") || strings.HasPrefix(strings.ToLower(s.URL), "sqlite:") {
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
	a.say("%s: %s, %s", c.Engine, count(len(c.Tables)-views, "table"), count(views, "view"))
	a.say("")
	a.say("  rows           %s/desk/", at)
	a.say("  schema         %s/schema", at)
	a.say("  API            %s%s/%s", at, m.Base, m.Entities[0].Path)
	a.say("  documentation  %s/docs", at)
	a.say("")
	if o.writes {
		a.say("Rows can be stored, changed and removed. No credentials are asked for.")
	} else {
		a.say("Nothing can be stored; --writes changes that. No credentials are asked for.")
	}
	fmt.Fprintf(a.err, "serving %s\n", at)
}

func (a *app) servePreview(ctx context.Context, live *preview.Live, listener net.Listener) error {
	server := &http.Server{Handler: live, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
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
