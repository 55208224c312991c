package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/spf13/cobra"

	"widegate/gate/assist"
	"widegate/internal/preview"
	"widegate/internal/read"
	"widegate/internal/rehearse"
)

// assisting is what the flags of assist say.
type assisting struct {
	previewing
	check    bool
	register bool
}

func (a *app) assistCommand() *cobra.Command {
	var o assisting
	cmd := &cobra.Command{
		Use:   "assist [URL|SCRIPTS...]",
		Short: "Offer a database to an assistant, as functions",
		Long: `Serves functions on a database over standard input and output, by the Model Context
Protocol: to list, find, count and sum the rows of each table, and with --writes to add,
change and delete them. Without a URL it is the database of the project file, with what
api.assist says there. Programs for assistants start it themselves; --register prints the
lines by which they know it. Deletes are asked about first. When the schema changes, so
do the functions.`,
		Example: `  widegate assist --register
  widegate assist --check
  widegate assist sqlite:bees.db --check`,
		RunE: func(cmd *cobra.Command, args []string) error { return a.assist(cmd.Context(), o, args) },
	}
	f := cmd.Flags()
	f.BoolVar(&o.writes, "writes", false, "let rows be added, changed and deleted")
	f.BoolVar(&o.check, "check", false, "list the functions, call each that reads, and end")
	f.BoolVar(&o.register, "register", false, "print the lines by which programs for assistants know it, and end")
	f.StringVar(&o.engine, "engine", "", "the `ENGINE` of scripts: "+strings.Join(read.Engines, ", "))
	f.StringSliceVar(&o.schemas, "schema", nil, "a `SCHEMA` to read; may be repeated")
	return cmd
}

func (a *app) assist(ctx context.Context, o assisting, args []string) error {
	if o.register {
		return a.registerAssist(o, args)
	}
	folder, err := os.MkdirTemp("", "widegate-assist-")
	if err != nil {
		return fmt.Errorf("making a folder: %w", err)
	}
	defer os.RemoveAll(folder)
	live, err := preview.NewLive(ctx, func(ctx context.Context) (*preview.Service, error) {
		return a.openPreview(ctx, o.previewing, args, filepath.Join(folder, "assist.db"), func(string) {})
	})
	if err != nil {
		return err
	}
	defer live.Close()
	a.watchPreview(live, o.previewing, args)
	offered, err := a.offered(ctx, live, o, args)
	if err != nil {
		return err
	}
	if o.check {
		return a.checkAssist(ctx, offered)
	}
	go live.Follow(ctx, func([]string, error) {})
	return offered.Run(ctx, &mcp.IOTransport{Reader: io.NopCloser(a.in), Writer: nopCloser{a.raw}}, lookAtSchema)
}

// lookAtSchema is how often it is looked whether functions are to be made anew.
const lookAtSchema = 2 * time.Second

// offered are the functions of a preview.
func (a *app) offered(ctx context.Context, live *preview.Live, o assisting, args []string) (*assist.Assist, error) {
	options := live.Current().AssistOptions(preview.Options{Writes: o.writes, Title: a.assistTitle(args, o)})
	if o.writes {
		options.DryRun = live.DryRun
	}
	if err := a.addPrompts(&options, args); err != nil {
		return nil, err
	}
	options.Log = slog.New(slog.NewTextHandler(a.err, nil))
	if o.check {
		options.Log, options.Calls = nil, math.MaxInt
	}
	offered := assist.New(live, options)
	return offered, offered.Check(ctx)
}

// addPrompts adds the prompts of the project.
func (a *app) addPrompts(options *assist.Options, args []string) (err error) {
	p, _, err := a.source(args, "")
	if err != nil || len(args) > 0 || p.API.Assist == nil || p.API.Assist.Prompts == "" {
		return err
	}
	options.Add, err = assist.Prompts(os.DirFS(filepath.Join(p.Root, p.API.Assist.Prompts)))
	return err
}

// nopCloser is a writer that stays open.
type nopCloser struct{ io.Writer }

func (nopCloser) Close() error { return nil }

// assistTitle names what is served.
func (a *app) assistTitle(args []string, o assisting) string {
	if len(args) > 0 {
		_, source, err := a.source(args, o.engine)
		if err == nil && source.URL != "" {
			return databaseName(source)
		}
		return filepath.Base(args[0])
	}
	folder, err := filepath.Abs(filepath.Dir(a.config))
	if err != nil {
		return "database"
	}
	return filepath.Base(folder)
}

// checkAssist tries the functions, and tells what came of it.
func (a *app) checkAssist(ctx context.Context, offered *assist.Assist) error {
	r, err := rehearse.Functions(ctx, offered)
	a.say("%s: %s", count(len(r.Functions), "function"), strings.Join(r.Functions, ", "))
	a.say("%s to read them; %s of their list", count(r.Called, "call"), count(r.Bytes, "byte"))
	if len(r.Left) > 0 {
		a.say("Not called, for want of arguments: %s", strings.Join(r.Left, ", "))
	}
	if err != nil {
		return err
	}
	a.say("All that were called answered.")
	return nil
}

// registerAssist prints how programs for assistants start the command, in the JSON form
// that most of them take.
func (a *app) registerAssist(o assisting, args []string) error {
	program, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program: %w", err)
	}
	words := []string{"assist"}
	if len(args) == 0 {
		config, err := filepath.Abs(a.config)
		if err != nil {
			return fmt.Errorf("finding the project file: %w", err)
		}
		words = append(words, "--config", config)
	}
	words = append(words, args...)
	if o.engine != "" {
		words = append(words, "--engine", o.engine)
	}
	for _, s := range o.schemas {
		words = append(words, "--schema", s)
	}
	if o.writes {
		words = append(words, "--writes")
	}
	text, err := json.MarshalIndent(map[string]any{"mcpServers": map[string]any{
		a.assistTitle(args, o): map[string]any{"command": program, "args": words},
	}}, "", "  ")
	if err != nil {
		return fmt.Errorf("writing the lines: %w", err)
	}
	a.say("%s", text)
	return nil
}
