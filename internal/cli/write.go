package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widegate/internal/apply"
	"widegate/internal/generate"
	"widegate/internal/gomodule"
	"widegate/internal/model"
	"widegate/internal/project"
)

func (a *app) writeCommand() *cobra.Command {
	var dryRun, asJSON bool
	cmd := &cobra.Command{
		Use:   "write",
		Short: "Write the code, or write it again",
		Long: `Reads the schema that the project file names and writes the code for it. Files
that were edited are never overwritten: where one was, and the schema changes
it too, nothing is written and the file is named.`,
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, err := project.Load(a.config)
			if err != nil {
				return err
			}
			if dryRun {
				return a.dryRun(cmd.Context(), p, asJSON)
			}
			lock, err := generate.Lock(p)
			if err != nil {
				return err
			}
			defer lock.Unlock()
			plan, err := a.plan(cmd.Context(), p)
			if err != nil {
				return err
			}
			if asJSON {
				return a.writeJSON(cmd.Context(), plan, lock)
			}
			return a.write(cmd.Context(), p, plan, lock)
		},
	}
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what would be written, and write nothing")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print what happens to each file as JSON")
	return cmd
}

// plan makes the plan of a project, and tells what is being read when it takes
// long.
func (a *app) plan(ctx context.Context, p *project.Project) (*generate.Plan, error) {
	source := generate.Source(p)
	source.Cache = schemaCache()
	var done func()
	source.Progress, done = a.progress("reading")
	defer done()
	return generate.Make(ctx, p, source)
}

// dryRun says what a write would do.
func (a *app) dryRun(ctx context.Context, p *project.Project, asJSON bool) error {
	plan, err := a.plan(ctx, p)
	if err != nil {
		return err
	}
	if !asJSON {
		return a.showPlan(plan)
	}
	if err := a.printDecisions(plan); err != nil {
		return err
	}
	return a.clashes(plan)
}

func (a *app) writeJSON(ctx context.Context, plan *generate.Plan, lock *apply.Lock) error {
	if err := a.printDecisions(plan); err != nil {
		return err
	}
	_, err := plan.Apply(ctx, lock)
	if errors.Is(err, generate.ErrClash) {
		return a.clashes(plan)
	}
	return err
}

// printDecisions prints what happens to each file as JSON.
func (a *app) printDecisions(plan *generate.Plan) error {
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	return enc.Encode(plan.Decisions)
}

// showPlan prints what a write would do.
func (a *app) showPlan(plan *generate.Plan) error {
	list := columns{titles: []string{"", ""}}
	for _, d := range plan.Decisions {
		if d.Action != apply.Same && d.Action != apply.Kept {
			list.add(string(d.Action), d.Path)
		}
	}
	if len(list.rows) == 0 {
		a.say("Nothing would be written: the code is what the schema gives.")
		return nil
	}
	list.print(a)
	a.say("\nNothing was written.")
	return a.clashes(plan)
}

// clashes explains what a person must decide, as an error.
func (a *app) clashes(plan *generate.Plan) error {
	list := plan.Clashes()
	if len(list) == 0 {
		return nil
	}
	for _, d := range list {
		switch d.Action {
		case apply.EditClash:
			fmt.Fprintf(a.err, "  %s was edited since it was written, and the schema changes it too\n", d.Path)
		case apply.NotOurs:
			fmt.Fprintf(a.err, "  %s is there already and was not written by widegate\n", d.Path)
		}
	}
	fmt.Fprintf(a.err, "  next: move each away, write again, and bring your edits into the new one\n")
	return decisionError{fmt.Errorf("nothing was written: %s must be decided on by you", count(len(list), "file"))}
}

func (a *app) write(ctx context.Context, p *project.Project, plan *generate.Plan, lock *apply.Lock) error {
	summary, err := plan.Apply(ctx, lock)
	if errors.Is(err, generate.ErrClash) {
		return a.clashes(plan)
	}
	if err != nil {
		return err
	}
	for _, d := range plan.Decisions {
		switch d.Action {
		case apply.Kept:
			a.say("  kept     %s, with your edits", d.Path)
		case apply.LeftOut:
			a.say("  left out %s, which you removed", d.Path)
		case apply.Removed:
			a.say("  removed  %s", d.Path)
		}
	}
	if summary.Written == 0 {
		a.say("Nothing to write: the code is what the schema gives (%s).", elapsed(summary.Elapsed))
		return nil
	}
	a.showEntities(plan.Model)
	a.showAttention(plan.Model)
	a.say("\nWrote %s: %d new, %d changed, %d removed; %s of code for the tables, in %s.", count(summary.Written, "file"),
		plan.Count(apply.New), plan.Count(apply.Changed), plan.Count(apply.Removed), count(summary.Lines, "line"), elapsed(summary.Elapsed))
	return a.sayNext(p, plan, summary)
}

func elapsed(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// showEntities prints each entity with its relations and its path.
func (a *app) showEntities(m *model.Model) {
	list := columns{titles: []string{"entity", "relations", "endpoint", "verbs"}}
	shown := m.Entities
	if len(shown) > overviewTables+10 {
		shown = shown[:overviewTables]
	}
	for _, e := range shown {
		var relations []string
		for _, r := range e.Relations {
			relations = append(relations, r.Name)
		}
		list.add(e.Name, shortened(strings.Join(relations, " "), 44), m.Base+"/"+e.Path, verbs(e))
	}
	list.print(a)
	if more := len(m.Entities) - len(shown); more > 0 {
		a.say("  and %d more", more)
	}
	if len(m.Joins) > 0 {
		names := make([]string, len(m.Joins))
		for i, t := range m.Joins {
			names[i] = t.FullName()
		}
		a.say("  tables that are only a relation: %s", shortened(strings.Join(names, ", "), 100))
	}
}

func verbs(e *model.Entity) string {
	switch e.Verbs {
	case model.Full:
		return "GET POST PUT PATCH DELETE"
	case model.Append:
		return "GET POST"
	}
	return "GET"
}

// shortened cuts a list of words at a space.
func shortened(s string, width int) string {
	if len(s) <= width {
		return s
	}
	cut := strings.LastIndexByte(s[:width-2], ' ')
	return strings.TrimSuffix(s[:max(cut, 0)], ",") + " …"
}

// sayNext prints the commands to try next.
func (a *app) sayNext(p *project.Project, plan *generate.Plan, summary generate.Summary) error {
	if errors.Is(summary.Tidied, gomodule.ErrNoToolchain) {
		a.say("\nThere is no Go toolchain on the path; where there is one, run\n  go mod tidy")
	} else if summary.Tidied != nil {
		fmt.Fprintf(a.err, "widegate: go.mod could not be completed: %v\n  next: run `go mod tidy`\n", summary.Tidied)
	}
	a.say("\nTry")
	if folder := relative(p.Root); folder != "." {
		a.say("  cd %s", folder)
	}
	a.say("  go run %s", plan.Command)
	a.say("  curl localhost:8080%s/%s", plan.Model.Base, firstPath(plan.Model))
	return nil
}

// firstPath is the path of a table worth looking at first: the one with the
// most relations.
func firstPath(m *model.Model) string {
	return slices.MaxFunc(m.Entities, func(x, y *model.Entity) int { return len(x.Relations) - len(y.Relations) }).Path
}

// relative is a folder as seen from the current one.
func relative(folder string) string {
	here, err := os.Getwd()
	if err != nil {
		return folder
	}
	full, err := filepath.Abs(folder)
	if err != nil {
		return folder
	}
	below, err := filepath.Rel(here, full)
	if err != nil {
		return folder
	}
	return below
}
