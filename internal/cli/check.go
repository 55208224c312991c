package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"widegate/internal/generate"
	"widegate/internal/project"
)

func (a *app) checkCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "check",
		Short: "Check that the code is what the schema gives",
		Long: `Compares the code with what schema and project file give now, and writes nothing.
The exit status is 0 when the code is up to date, edits of yours included, and 3
when a write would change something or needs a decision.`,
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error { return a.check(cmd.Context(), asJSON) },
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print the state of each file as JSON")
	return cmd
}

func (a *app) check(ctx context.Context, asJSON bool) error {
	p, err := project.Load(a.config)
	if err != nil {
		return err
	}
	plan, err := a.plan(ctx, p, generate.Options{})
	if err != nil {
		return err
	}
	if asJSON {
		err = a.printPlan(plan)
	} else {
		a.showNotices(plan.Notices)
		a.showDecisions(plan, generate.New, generate.Changed, generate.Merged, generate.Removed, generate.Kept, generate.LeftOut, generate.Blocked)
	}
	if err != nil {
		return err
	}
	if err := a.decisionNeeded(plan, "a write would stop"); err != nil {
		return err
	}
	if n := plan.Count(generate.New, generate.Changed, generate.Merged, generate.Removed); n > 0 {
		fmt.Fprintln(a.err, "  next: `widegate write --dry-run` shows the differences, `widegate write` brings the code up to date")
		return decisionError{fmt.Errorf("the code is stale: a write would change %s", count(n, "file"))}
	}
	if !asJSON {
		a.say("The code is what the schema gives: %s, %d of them with your edits.",
			count(len(plan.Decisions), "file"), plan.Count(generate.Kept))
	}
	return nil
}
