package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/rollout"
)

// applying is what the flags of apply say.
type applying struct {
	scripts             []string
	engine              string
	dryRun, list, late  bool
	adopt               bool
	accept, interrupted string
}

func (a *app) applyCommand() *cobra.Command {
	var f applying
	cmd := &cobra.Command{
		Use:   "apply [URL]",
		Short: "Create a database from its scripts, or bring it up to date",
		Long: `Runs the scripts that the project file names under database.ddl on a database, in
the order of their numbers and each once. A database that is not there is made. The
database keeps the record of what has run, in the table widegate_scripts.

Without URL the database is that of DATABASE_URL, or of database.url in the project
file. A script runs in one transaction where the engine can take changes of a schema
back. MySQL and MariaDB cannot: there the record counts statements, and the next run
goes on behind the last that was done.

A script that has changed since it was run stops the run, and so does one that stands
before others that have run.`,
		Example: `  widegate apply
  widegate apply --dry-run
  widegate apply postgres://localhost/bees --list
  widegate apply sqlite:bees.db --scripts schema`,
		Args: usage(cobra.MaximumNArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error { return a.applyScripts(cmd.Context(), f, args) },
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&f.scripts, "scripts", nil, "scripts, or their `FOLDER`, in place of the project's")
	flags.StringVar(&f.engine, "engine", "", "the `ENGINE` of the scripts, where the URL does not say: "+strings.Join(read.Engines, ", "))
	flags.BoolVar(&f.dryRun, "dry-run", false, "show what would run, and change nothing")
	flags.BoolVar(&f.list, "list", false, "list all scripts and how they stand, and change nothing")
	flags.BoolVar(&f.late, "late", false, "run scripts also behind those that come after them")
	flags.BoolVar(&f.adopt, "adopt", false, "record all scripts as run, on a database that has what they make")
	flags.StringVar(&f.accept, "accept", "", "record the `SCRIPT` as it is now, which has changed or is gone")
	flags.StringVar(&f.interrupted, "begun", "", "how a statement stands at which a run was interrupted: `after`, it was done, or again")
	return cmd
}

func (a *app) applyScripts(ctx context.Context, f applying, args []string) error {
	if f.interrupted != "" && f.interrupted != "after" && f.interrupted != "again" {
		return usageError{fmt.Errorf("--begun wants after or again; got %q", f.interrupted)}
	}
	if changes := f.adopt || f.accept != "" || f.interrupted != ""; changes && (f.dryRun || f.list) {
		return usageError{errors.New("--dry-run and --list change nothing; leave them out, or --adopt, --accept and --begun")}
	}
	target, err := a.applyTo(f, args)
	if err != nil {
		return err
	}
	scripts, err := rollout.Load(target)
	if err != nil {
		return err
	}
	missing, err := read.Missing(ctx, target)
	if err != nil {
		return err
	}
	a.say("%s", target.Redacted())
	switch {
	case f.adopt:
		return a.recorded(rollout.Adopt(ctx, target, scripts), count(len(scripts), "script"))
	case f.accept != "":
		return a.recorded(rollout.Accept(ctx, target, scripts, f.accept), f.accept)
	case f.interrupted != "":
		if err := rollout.Settle(ctx, target, scripts, f.interrupted == "after"); err != nil {
			return err
		}
	}
	return a.runScripts(ctx, f, target, scripts, missing)
}

func (a *app) recorded(err error, what string) error {
	if err == nil {
		a.say("Recorded %s.", what)
	}
	return err
}

// applyTo is the database and its scripts.
func (a *app) applyTo(f applying, args []string) (read.Source, error) {
	var known read.Source
	if _, missing := os.Stat(a.config); missing == nil || len(f.scripts) == 0 {
		p, err := project.Load(a.config)
		if err != nil {
			return known, err
		}
		known = generate.Database(p)
	}
	if len(f.scripts) > 0 {
		known.DDL = f.scripts
	}
	if len(known.DDL) == 0 {
		return read.Source{}, fault.New("name them by `database: {ddl: [schema]}` there, or by --scripts FOLDER", "%s names no scripts", a.config)
	}
	url := cmp.Or(strings.Join(args, ""), os.Getenv("DATABASE_URL"), known.URL)
	if url == "" {
		return read.Source{}, fault.New("name one as in `widegate apply "+exampleURL("")+"`, by DATABASE_URL, or by `database: {url: …}` in the project file", "no database is named")
	}
	url, err := project.Expand(url)
	if err != nil {
		return known, err
	}
	target, err := read.Parse([]string{url}, cmp.Or(f.engine, known.Engine))
	if err != nil {
		return target, err
	}
	if target.URL == "" {
		return target, fault.New("give the URL of a database, as in "+exampleURL("")+"; scripts are named by --scripts", "%s is no database", url)
	}
	target.DDL, target.Schemas = known.DDL, known.Schemas
	return target, nil
}

// runScripts shows how the scripts stand, and runs those that wait.
func (a *app) runScripts(ctx context.Context, f applying, target read.Source, scripts []*rollout.Script, missing bool) error {
	status := &rollout.Status{}
	if missing {
		for _, s := range scripts {
			status.Entries = append(status.Entries, rollout.Entry{Script: s, State: rollout.Waiting})
		}
	} else {
		var err error
		if status, err = rollout.Look(ctx, target, scripts); err != nil {
			return err
		}
	}
	waiting := status.Waiting()
	switch {
	case f.list:
		a.loud().showScripts(status.Entries)
		return nil
	case f.dryRun:
		if missing {
			a.loud().say("The database would be made.")
		}
		a.loud().showScripts(waiting)
		a.loud().say("%s would run.", count(len(waiting), "script"))
		return status.Refuse(f.late)
	}
	if missing {
		if err := read.MakeDatabase(ctx, target); err != nil {
			return err
		}
		a.say("Made the database.")
	}
	if err := status.Refuse(f.late); err != nil {
		return err
	}
	if len(waiting) == 0 {
		a.say("Nothing to run: the database is up to date.")
		return nil
	}
	report, done := a.progress("running")
	ran, err := rollout.Run(ctx, target, scripts, rollout.Options{Late: f.late, Progress: report})
	done()
	for _, name := range ran {
		a.say("  ran  %s", name)
	}
	if err != nil {
		return err
	}
	a.say("The database is up to date.")
	if p, err := a.projectHere(); err == nil && p != nil && len(f.scripts) == 0 {
		a.sayNext(p, afterApply(p))
	}
	return nil
}

// afterApply are the steps that make sense when the database has changed.
func afterApply(p *project.Project) []step {
	if !written(p) {
		return toWrite(p)
	}
	return []step{{"widegate changes", "says what that means for the code"}, {"widegate write", "brings it into the code"}, {"widegate preview", "shows the rows in the browser"}}
}

// loud is the app that prints what was asked for.
func (a *app) loud() *app {
	own := *a
	own.quiet = false
	return &own
}

func (a *app) showScripts(entries []rollout.Entry) {
	list := columns{titles: []string{"script", "state", "#statements", "run at"}}
	for _, e := range entries {
		at, statements := "", fmt.Sprint(e.Statements())
		if !e.Ended.IsZero() {
			at = e.Ended.Local().Format(time.DateTime)
		}
		switch e.State {
		case rollout.Begun:
			statements = fmt.Sprintf("%d of %d", e.Done, e.Statements())
		case rollout.Gone:
			statements = ""
		}
		list.add(e.Name, string(e.State), statements, at)
	}
	if len(list.rows) > 0 {
		list.print(a)
	}
}

// behind is how many of a project's scripts have not run on its database, and
// whether that is missing; 0 where it cannot be told.
func behind(ctx context.Context, target read.Source) (waiting int, missing bool) {
	scripts, err := rollout.Load(target)
	if err != nil {
		return 0, false
	}
	if missing, err = read.Missing(ctx, target); err != nil {
		return 0, false
	}
	if missing {
		return len(scripts), true
	}
	status, err := rollout.Look(ctx, target, scripts)
	if err != nil || status.Foreign() {
		return 0, false
	}
	return len(status.Waiting()), false
}
