package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widegate/internal/catalog"
	"widegate/internal/generate"
	"widegate/internal/impact"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render/openapi"
)

// changesFlags are those of `changes`.
type changesFlags struct {
	schemaFlags
	asJSON, all bool
}

func (a *app) changesCommand() *cobra.Command {
	var f changesFlags
	cmd := &cobra.Command{
		Use:   "changes [FROM] [TO]",
		Short: "Show what changed in the schema, and what it breaks",
		Long: `Compares two schemas, and says what the changes mean: for the generated code, for
clients of the interface, for named queries, and for your own code. Nothing is
written.

` + sourcesHelp + `

What was dropped while something like it was added may have been renamed. That is
asked on a terminal; elsewhere the likely ones are taken, and --renamed, or
` + "`renamed:`" + ` in the project file, says how it is. Your own code is looked at when
FROM is the last write. The exit status is 3 when something breaks.`,
		Example: `  widegate changes
  widegate changes --renamed hive.title=name
  widegate changes @main
  widegate changes sqlite:bees.db schema.sql --json`,
		Args: usage(cobra.MaximumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error { return a.changes(cmd.Context(), f, args) },
	}
	f.schemaFlags.add(cmd)
	cmd.Flags().BoolVar(&f.asJSON, "json", false, "print all of it as JSON")
	cmd.Flags().BoolVar(&f.all, "all", false, "print everything, however much it is")
	return cmd
}

func (a *app) changes(ctx context.Context, f changesFlags, args []string) error {
	report, from, err := a.meaning(ctx, f.schemaFlags, args)
	if err != nil {
		return err
	}
	if f.asJSON {
		err = a.printJSON(report)
	} else {
		a.loud().showReport(report, from, f.all)
	}
	if err == nil && report.Breaks() {
		if len(args) == 0 && len(report.Conflicts)+len(report.Queries) == 0 {
			a.adviseOn(report)
		}
		return decisionError{errors.New(broken(report))}
	}
	return err
}

// meaning makes the report of what is between two schemas.
func (a *app) meaning(ctx context.Context, f schemaFlags, args []string) (*impact.Report, string, error) {
	if len(args) == 0 {
		p, err := project.Load(a.config)
		if err != nil {
			return nil, "", err
		}
		a.tellUnfinished(p)
		plan, err := a.plan(ctx, p, generate.Options{Full: true, Tolerant: true, Settle: a.settler(ctx, p, f.renamed)})
		if err != nil {
			return nil, "", err
		}
		if plan.Before == nil {
			return nil, "", errNothingWritten
		}
		report, err := plan.Meaning(ctx)
		return report, "the last write", err
	}
	b, err := a.twoSchemas(ctx, args, f)
	if err != nil {
		return nil, "", err
	}
	report, err := compareModels(b)
	return report, b.from, err
}

// compareModels says what is between two schemas of which no code is known.
func compareModels(b *between) (*impact.Report, error) {
	r := &impact.Report{Changes: catalog.Compare(b.before, b.after, b.renames...), Renames: b.renames, Code: []impact.Line{}, Interface: []impact.Line{}, Queries: []string{}, Uses: []impact.Use{}, Callers: []impact.Use{}}
	if r.Changes == nil {
		r.Changes = []catalog.Change{}
	}
	before, after := b.former, b.project
	if before == nil {
		before = project.Default()
	}
	if after == nil {
		after = project.Default()
	}
	was, err := model.Build(b.before, before, project.NewNames())
	if err != nil {
		return r, nil // a schema that no code can be made of has no interface
	}
	now, err := model.Build(b.after, after, project.NewNames())
	if err != nil {
		return r, nil
	}
	r.Code = append(r.Code, impact.Code(was, now, b.renames)...)
	r.Interface, err = impact.Clients(was, now, openapi.Render(was.Seen(), ""), openapi.Render(now.Seen(), ""), b.renames)
	return r, err
}

// broken sums up what breaks.
func broken(r *impact.Report) string {
	var parts []string
	clients := 0
	for _, l := range r.Interface {
		if l.Breaks {
			clients++
		}
	}
	add := func(n int, one, many string) {
		switch {
		case n == 1:
			parts = append(parts, "1 "+one)
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d %s", n, many))
		}
	}
	add(len(r.Uses), "place in your code", "places in your code")
	add(len(r.Callers), "place in code that uses the client", "places in code that uses the client")
	add(len(r.Queries), "named query", "named queries")
	add(clients, "thing that clients may rely on", "things that clients may rely on")
	add(len(r.Conflicts), "place where you must decide", "places where you must decide")
	return "this breaks " + strings.Join(parts, ", ")
}

// showReport prints what changed and what it means.
func (a *app) showReport(r *impact.Report, from string, all bool) {
	if r.Empty() {
		a.say("Nothing has changed since %s.", from)
		return
	}
	a.showChanges(r, from)
	most := reportLines
	if all {
		most = 1 << 30
	}
	a.showLines("In the code", r.Code, most, func(l impact.Line) string { return l.Text })
	mark := func(l impact.Line) string {
		if l.Breaks {
			return "breaks  " + l.Text + ": " + l.Rule
		}
		return "        " + l.Text
	}
	lines := slices.Clone(r.Interface)
	slices.SortStableFunc(lines, func(x, y impact.Line) int { return rank(x.Breaks) - rank(y.Breaks) })
	a.showLines("For clients", lines, most, mark)
	if len(r.Queries) > 0 {
		a.heading("Named queries that do not hold any more")
		for _, q := range r.Queries {
			a.sayMarked(weightBreaks, "breaks", q)
		}
	}
	if len(r.Uses) > 0 {
		a.heading("Your own code")
		for _, u := range r.Uses {
			a.say("  %s: %s%s", at(u.File, u.Line), u.Message, nowCalled(u))
		}
	}
	if len(r.Callers) > 0 {
		a.heading("Code that uses the client")
		for _, u := range r.Callers {
			a.say("  %s: %s", at(u.File, u.Line), u.Message)
		}
	}
	if len(r.Conflicts) > 0 {
		a.heading("Your edits that meet the change")
		for _, c := range r.Conflicts {
			a.say("  %s", c)
		}
	}
	if !r.Breaks() {
		a.say("\nNothing breaks.")
	}
}

// at is a place in a file, without the line where none is known.
func at(file string, line int) string {
	if line == 0 {
		return file
	}
	return fmt.Sprintf("%s:%d", file, line)
}

func rank(first bool) int {
	if first {
		return 0
	}
	return 1
}

func nowCalled(u impact.Use) string {
	if u.Now == "" {
		return ""
	}
	return "; it is called " + u.Now + " now"
}

// reportLines is how many lines of one kind are printed.
const reportLines = 20

func (a *app) showLines(title string, lines []impact.Line, most int, text func(l impact.Line) string) {
	if len(lines) == 0 {
		return
	}
	a.heading(title)
	for i, l := range lines {
		if i == most {
			a.say("  … and %d more, see --all", len(lines)-most)
			return
		}
		if what, breaks := strings.CutPrefix(text(l), "breaks  "); breaks {
			a.sayMarked(weightBreaks, "breaks", what)
			continue
		}
		a.say("  %s", text(l))
	}
}

// showChanges prints the changes of the schema by table.
func (a *app) showChanges(r *impact.Report, from string) {
	a.headline("Since " + from)
	groups := map[string][]catalog.Change{}
	var order []string
	for _, c := range r.Changes {
		if _, known := groups[c.In]; !known && c.In != "" {
			order = append(order, c.In)
		}
		groups[c.In] = append(groups[c.In], c)
	}
	for _, c := range groups[""] {
		a.say("  %s%s", c.Text, likely(c, r.Renames))
	}
	slices.Sort(order)
	for _, in := range order {
		a.say("  %s", in)
		for _, c := range groups[in] {
			a.say("    %s%s", c.Text, likely(c, r.Renames))
		}
	}
}

// likely says how sure a rename is, where nobody has settled it.
func likely(c catalog.Change, renames []catalog.Rename) string {
	if c.Kind != catalog.Renamed {
		return ""
	}
	for _, r := range renames {
		if r.In == c.In && r.From == c.Was && r.Confidence < 1 {
			return fmt.Sprintf(" (%.0f %% sure: %s)", 100*r.Confidence, r.Why)
		}
	}
	return ""
}
