// Package cli is the command line of Wide Gate: flags, prompts, progress and
// printing, one file a command. What is done is decided elsewhere.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os/signal"
	"path"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/printable"
	"widegate/internal/project"
	"widegate/internal/read"
)

// The exit statuses.
const (
	statusDone     = 0
	statusFailed   = 1
	statusUsage    = 2
	statusDecision = 3
)

// usageError is a command line that cannot be understood.
type usageError struct{ err error }

func (e usageError) Error() string { return e.err.Error() }
func (e usageError) Unwrap() error { return e.err }

// decisionError ends a command that has said all it has to say and waits for a
// person to decide.
type decisionError struct{ err error }

func (e decisionError) Error() string { return e.err.Error() }

// app is what the commands share. What is printed may hold names and texts that
// others chose, so that both writers replace what acts on a terminal.
type app struct {
	in       io.Reader
	out, err io.Writer
	raw      io.Writer // out as it is, for what programs read
	config   string
	quiet    bool
	starts   bool        // the service is started here, and not proposed
	changing *sync.Mutex // held while files are changed
	trusted  bool        // scripts run on a scratch server whatever its user may do
}

// Run runs a command line and returns the exit status.
func Run(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, raw: out, out: printable.NewWriter(out), err: printable.NewWriter(errOut), changing: &sync.Mutex{}}
	root := a.root()
	root.SetArgs(joinedChoices(args))
	done := make(chan error, 1)
	go func() {
		err := root.ExecuteContext(ctx)
		if err != nil {
			err = wrongCommand(root, err)
		}
		done <- err
	}()
	select {
	case err := <-done:
		return a.status(err)
	case <-ctx.Done():
	}
	return a.interrupted(done)
}

// grace is how long a command may take to end when it is interrupted.
const grace = 500 * time.Millisecond

// interrupted waits for a command that was told to end. One that is in the
// middle of a computation is left behind; one that changes files ends first.
func (a *app) interrupted(done <-chan error) int {
	select {
	case err := <-done:
		return a.status(err)
	case <-time.After(grace):
	}
	a.changing.Lock()
	select {
	case err := <-done: // what it did is done
		return a.status(err)
	case <-time.After(grace / 4):
		fmt.Fprintln(raw(a.err), "widegate: interrupted")
		return statusFailed
	}
}

// joinedChoices makes one argument of the two that --keep takes.
func joinedChoices(args []string) []string {
	var list []string
	for i := 0; i < len(args); i++ {
		if args[i] == "--keep" && i+2 < len(args) && (args[i+1] == "mine" || args[i+1] == "new") {
			list = append(list, "--keep="+args[i+1]+" "+args[i+2])
			i += 2
			continue
		}
		list = append(list, args[i])
	}
	return list
}

// status prints an error and returns the exit status that it stands for.
func (a *app) status(err error) int {
	var usage usageError
	var decision decisionError
	switch {
	case err == nil:
		return statusDone
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(raw(a.err), "widegate: interrupted")
		return statusFailed
	case errors.As(err, &decision):
		a.complain(weightDecide, indented(err))
		return statusDecision
	}
	a.complain(weightBreaks, indented(err))
	if next := fault.Next(err); next != "" {
		fmt.Fprintf(a.err, "  next: %s\n", next)
	}
	if errors.As(err, &usage) {
		if fault.Next(err) != "" {
			return statusUsage
		}
		fmt.Fprintln(a.err, "  next: see `widegate --help`, or `widegate COMMAND --help`")
		return statusUsage
	}
	return statusFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "widegate",
		Short: "Code and REST endpoints for the database you have",
		Long: `Wide Gate reads the schema of a database and writes the Go code in front of it:
typed entities, queries and REST endpoints for every table and relationship.`,
		SilenceUsage:  true,
		SilenceErrors: true,
		Args:          usage(cobra.NoArgs),
		RunE:          func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(wrongFlag)
	root.PersistentFlags().StringVar(&a.config, "config", project.FileName, "the project `FILE`")
	root.PersistentFlags().BoolVarP(&a.quiet, "quiet", "q", false, "print nothing but errors and what was asked for")
	root.PersistentFlags().BoolVar(&a.trusted, "trust-scripts", false, "run scripts on a scratch server also as a user who may leave the scratch database")
	trustDatabase := false
	root.PersistentFlags().BoolVar(&trustDatabase, "trust-database", false, "read also a database whose functions stand in for those of the server")
	root.Version = version()
	root.SetVersionTemplate("widegate {{.Version}}\n")
	root.PersistentPreRun = func(cmd *cobra.Command, _ []string) {
		if trustDatabase {
			cmd.SetContext(read.Trusting(cmd.Context()))
		}
	}
	root.AddCommand(a.newCommand(), a.readCommand(), a.namesCommand(), a.templatesCommand(), a.writeCommand(), a.changesCommand(), a.checkCommand(), a.undoCommand(), a.mergeCommand(), a.branchesCommand(), a.migrationCommand(), a.tableCommand(), a.applyCommand(), a.previewCommand(), a.assistCommand(), a.demoCommand(), a.projectSchemaCommand(), a.manCommand(), a.versionCommand())
	a.complete(root)
	return root
}

// usage makes a check of arguments report wrong use.
func usage(check cobra.PositionalArgs) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := check(cmd, args); err != nil {
			if unknownCommand.MatchString(err.Error()) && !cmd.HasParent() {
				return usageError{err}
			}
			return usageError{fmt.Errorf("%s: got %s; it is used as `%s`", cmd.CommandPath(), count(len(args), "argument"), strings.TrimSuffix(cmd.UseLine(), " [flags]"))}
		}
		return nil
	}
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the version",
		Args:  usage(cobra.NoArgs),
		RunE: func(*cobra.Command, []string) error {
			runtime, err := generate.RuntimeVersion()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out, "widegate %s\nruntime %s\n", version(), runtime)
			if p, none := a.projectHere(); none == nil && p != nil {
				a.sayRuntime(p)
			}
			return err
		},
	}
}

// sayRuntime says when the copy of the runtime in a project is an old one.
func (a *app) sayRuntime(p *project.Project) {
	copied, there := generate.RuntimeOf(p)
	if now, err := generate.RuntimeVersion(); err == nil && there && copied != now {
		a.say("The runtime in %s is %s; `widegate write` brings it up to date.", path.Join(filepath.ToSlash(p.Code.Folder), "gate"), cmp.Or(copied, "older than that"))
	}
}

func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	return info.Main.Version + " " + info.GoVersion
}

// indented is the text of an error. Lines after the first are indented, so that
// none of them can pass for something that the tool says itself.
func indented(err error) string {
	return strings.ReplaceAll(strings.TrimSpace(err.Error()), "\n", "\n  ")
}

// raw is a writer that passes everything on, for what the tool says itself: an
// escape sequence of its own, a script.
func raw(w io.Writer) io.Writer {
	if safe, ok := w.(*printable.Writer); ok {
		return safe.Behind()
	}
	return w
}

// say prints a line for a person, unless they asked for quiet. A text among the
// arguments stays in its line.
func (a *app) say(format string, args ...any) {
	if a.quiet {
		return
	}
	for i, arg := range args {
		if text, ok := arg.(string); ok {
			args[i] = printable.Line(text)
		}
	}
	fmt.Fprintf(a.out, format+"\n", args...)
}

// sayLines prints a text of several lines.
func (a *app) sayLines(text string) {
	if !a.quiet {
		fmt.Fprintln(a.out, text)
	}
}
