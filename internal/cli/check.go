package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/generate"
	"widegate/internal/impact"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render/openapi"
)

func (a *app) checkCommand() *cobra.Command {
	var asJSON bool
	var against string
	cmd := &cobra.Command{
		Use:   "check",
		Short: "Check that the code is what the schema gives",
		Long: `Compares the code with what schema and project file give now, and writes nothing:
a line for each file that a write would change, for each place where you would
have to decide, and with --against for each thing that clients of the interface
may rely on and that is no more as it was in a revision of version control.

The exit status is 0 when the code is up to date, edits of yours included, and
nothing breaks for clients; else it is 3.`,
		Example: `  widegate check
  widegate check --against main`,
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error { return a.check(cmd.Context(), against, asJSON) },
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the state of each file as JSON")
	cmd.Flags().StringVar(&against, "against", "", "compare the interface with the one of this `REVISION`")
	return cmd
}

func (a *app) check(ctx context.Context, against string, asJSON bool) error {
	p, err := project.Load(a.config)
	if err != nil {
		return err
	}
	unfinished := a.tellUnfinished(p)
	plan, err := a.plan(ctx, p, generate.Options{Full: against != "", Settle: a.settler(ctx, p, nil)})
	if err != nil {
		return err
	}
	var broken []impact.Line
	if against != "" {
		if broken, err = a.brokenSince(ctx, against, plan); err != nil {
			return err
		}
	}
	if asJSON {
		err = a.printPlan(plan, map[string]any{"breaking": orEmpty(broken), "unfinished": unfinished})
	} else {
		a.sayRuntime(p)
		a.showNotices(plan.Notices)
		a.showDecisions(plan, generate.New, generate.Changed, generate.Merged, generate.Removed, generate.Kept, generate.LeftOut, generate.Blocked)
		for _, l := range broken {
			a.say("  breaks    %s: %s", l.Text, l.Rule)
		}
	}
	if err != nil {
		return err
	}
	return a.judge(plan, verdict{broken, against, unfinished, asJSON})
}

// brokenSince is what clients of the interface of a revision may rely on, and is
// not so any more.
func (a *app) brokenSince(ctx context.Context, revision string, plan *generate.Plan) ([]impact.Line, error) {
	p, ledger, err := project.Revision(ctx, a.config, revision, registry.Dialects())
	if err != nil {
		return nil, err
	}
	was, err := model.Build(ledger.Schema(), p, &ledger.Names)
	if err != nil {
		return nil, fmt.Errorf("revision %s: %w", revision, err)
	}
	var renames []catalog.Rename
	for _, r := range catalog.FindRenames(ledger.Schema(), plan.Catalog, nil, nil) {
		if r.Confidence >= catalog.Likely {
			renames = append(renames, r)
		}
	}
	lines, err := impact.Clients(was, plan.Model, openapi.Render(was.Seen(), ""), openapi.Render(plan.Model.Seen(), ""), renames)
	if err != nil {
		return nil, err
	}
	var broken []impact.Line
	for _, l := range lines {
		if l.Breaks {
			broken = append(broken, l)
		}
	}
	return broken, nil
}

// verdict is what was found beside the plan.
type verdict struct {
	broken     []impact.Line
	against    string
	unfinished bool
	asJSON     bool
}

// judge says what is wrong in one line, and what to do next.
func (a *app) judge(plan *generate.Plan, v verdict) error {
	if err := a.decisionNeeded(plan, "a write would stop"); err != nil {
		return err
	}
	var wrong []string
	if v.unfinished {
		wrong = append(wrong, "a write was cut off")
	}
	if n := plan.Count(generate.New, generate.Changed, generate.Merged, generate.Removed); n > 0 {
		fmt.Fprintln(a.err, "  next: `widegate write --dry-run` shows the differences, `widegate write` brings the code up to date")
		wrong = append(wrong, fmt.Sprintf("the code is stale: a write would change %s", count(n, "file")))
	}
	if len(v.broken) > 0 {
		fmt.Fprintln(a.err, "  next: keep what clients rely on, or give them a version of their own by `api.versions` in the project file")
		wrong = append(wrong, fmt.Sprintf("%s broken for clients since %s", count(len(v.broken), "thing"), v.against))
	}
	if len(wrong) > 0 {
		return decisionError{errors.New(strings.Join(wrong, "; "))}
	}
	if !v.asJSON {
		a.say("The code is what the schema gives: %s, %d of them with your edits.",
			count(len(plan.Decisions), "file"), plan.Count(generate.Kept))
	}
	return nil
}
