package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/huh"
	"github.com/spf13/cobra"

	"widegate/internal/apply"
	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/gomodule"
	"widegate/internal/impact"
	"widegate/internal/merge"
	"widegate/internal/model"
	"widegate/internal/project"
)

// writeFlags are those of `write`.
type writeFlags struct {
	dryRun, asJSON        bool
	yes, rewrite, watch   bool
	keep, only, bringBack []string
	renamed               []string
}

func (f writeFlags) options() (generate.Options, error) {
	choices, err := choices(f.keep)
	return generate.Options{Choices: choices, Only: f.only, BringBack: f.bringBack, RewriteUses: f.rewrite}, err
}

func (a *app) writeCommand() *cobra.Command {
	var flags writeFlags
	cmd := &cobra.Command{
		Use:   "write",
		Short: "Write the code, or write it again",
		Long: `Reads the schema that the project file names and writes the code for it. Edits in
files that were written are kept, and what the schema changes is brought into
them. Where both changed one thing, nothing at all is written: each place is
named, and you settle it in the file, or by --keep, and write again.

  --keep mine PLACE   your text stays; the record moves on
  --keep new PLACE    the new text replaces yours

Where the change breaks something, clients of the interface or code of yours, it
says so first and asks; --yes is the answer for scripts. What was renamed in the
schema is carried through: into names, into your edits and into the project file,
and with --rewrite-uses into your own code.

A PLACE is what the report names: a file, FILE:DECLARATION or
FILE:DECLARATION.MEMBER. The last write is taken back by ` + "`widegate undo`.",
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error { return a.runWrite(cmd.Context(), flags) },
	}
	cmd.Flags().BoolVar(&flags.dryRun, "dry-run", false, "show what would be written, and write nothing")
	cmd.Flags().BoolVar(&flags.asJSON, "json", false, "print what happens to each file as JSON")
	cmd.Flags().BoolVarP(&flags.yes, "yes", "y", false, "write also what breaks something")
	cmd.Flags().BoolVar(&flags.rewrite, "rewrite-uses", false, "rewrite uses of what is renamed in your own code, all or none")
	cmd.Flags().BoolVar(&flags.watch, "watch", false, "write again whenever the schema, queries, templates or the project file change, until Ctrl-C")
	cmd.Flags().StringArrayVar(&flags.renamed, "renamed", nil, "what was renamed: `OLD=NEW`, as in hive.title=name; OLD= says that it was dropped")
	cmd.Flags().StringArrayVar(&flags.keep, "keep", nil, "settle a place: `mine PLACE` or new PLACE")
	cmd.Flags().StringSliceVar(&flags.only, "only", nil, "write the files of this `TABLE` only")
	cmd.Flags().StringSliceVar(&flags.bringBack, "bring-back", nil, "make this `FILE` again, which you removed")
	return cmd
}

func (a *app) runWrite(ctx context.Context, flags writeFlags) error {
	options, err := flags.options()
	if err != nil {
		return err
	}
	if flags.watch {
		if flags.dryRun || flags.asJSON {
			return usageError{errors.New("--watch writes; it goes with neither --dry-run nor --json")}
		}
		return a.watch(ctx, flags)
	}
	return a.writeOnce(ctx, flags, options)
}

func (a *app) writeOnce(ctx context.Context, flags writeFlags, options generate.Options) error {
	p, err := project.Load(a.config)
	if err != nil {
		return err
	}
	options.Settle = a.settler(ctx, p, flags.renamed)
	if flags.dryRun {
		return a.dryRun(ctx, p, options, flags.asJSON)
	}
	store, err := a.open(p)
	if err != nil {
		return err
	}
	defer store.Close()
	plan, err := a.plan(ctx, p, options)
	if err != nil {
		return err
	}
	if plan, err = a.agreed(ctx, p, plan, options, flags); err != nil {
		return err
	}
	if flags.asJSON {
		return a.writeJSON(ctx, plan, store)
	}
	return a.write(ctx, p, plan, store)
}

// agreed returns the plan to carry out. One that breaks something is shown first,
// and must be agreed to; places of the developer's own code then break.
func (a *app) agreed(ctx context.Context, p *project.Project, plan *generate.Plan, options generate.Options, flags writeFlags) (*generate.Plan, error) {
	if list := plan.Unexplained(); len(list) > 0 && !flags.yes && !slices.ContainsFunc(plan.Conflicts, func(c merge.Conflict) bool { return !c.Breaks() }) {
		if err := a.agreeToRemove(ctx, list); err != nil {
			return nil, err
		}
	}
	report, err := plan.Meaning(ctx)
	if err != nil || !report.Breaks() || len(report.Conflicts) > 0 {
		return plan, err
	}
	if !flags.asJSON {
		a.showReport(report, "the last write", false)
		a.say("")
	}
	if flags.rewrite && len(report.Uses) > 0 {
		fmt.Fprintln(a.err, "  next: change those places first, or leave --rewrite-uses out")
		return nil, decisionError{fmt.Errorf("nothing was written: with all uses rewritten, %s would not build", count(len(report.Uses), "place"))}
	}
	if !flags.yes {
		yes, err := a.confirm(ctx, "Write all the same?", "write", "cancel")
		if err != nil {
			return nil, err
		}
		if !yes {
			a.adviseOn(report)
			return nil, decisionError{fmt.Errorf("nothing was written: %s", broken(report))}
		}
	}
	if len(report.Uses) == 0 {
		return plan, nil
	}
	renames := plan.Renames // which are not asked about again
	options.Settle = func(_, _ *catalog.Catalog) ([]catalog.Rename, error) { return renames, nil }
	for _, c := range plan.Breaks {
		options.Choices = append(options.Choices, merge.Choice{Place: c.Place(), Side: merge.New})
	}
	return a.plan(ctx, p, options)
}

// agreeToRemove asks before many files are removed that the schema still has tables
// for.
func (a *app) agreeToRemove(ctx context.Context, list []string) error {
	const shown = 10
	for _, name := range list[:min(len(list), shown)] {
		fmt.Fprintf(a.err, "  would be removed  %s\n", name)
	}
	if more := len(list) - shown; more > 0 {
		fmt.Fprintf(a.err, "  and %d more\n", more)
	}
	yes, err := a.confirm(ctx, fmt.Sprintf("Delete %s? The schema does not explain it.", count(len(list), "file")), "delete", "cancel")
	if err != nil || yes {
		return err
	}
	fmt.Fprintln(a.err, "  next: look at `code.folder`, `api.folder` and `tables` in the project file; if the files are to go, `widegate write --yes`")
	return decisionError{fmt.Errorf("nothing was written: %s would be removed, which the schema does not explain", count(len(list), "file"))}
}

// adviseOn says what can be done about what breaks.
func (a *app) adviseOn(r *impact.Report) {
	if slices.ContainsFunc(r.Uses, func(u impact.Use) bool { return u.Now != "" }) {
		fmt.Fprintln(a.err, "  next: `widegate write --rewrite-uses` carries the new names into your code")
	}
	fmt.Fprintln(a.err, "  next: change what breaks first, or write all the same by `widegate write --yes`")
}

// confirm asks on a terminal; elsewhere the answer is no.
func (a *app) confirm(ctx context.Context, question, yesWord, noWord string) (bool, error) {
	if !isTerminal(a.in) || !isTerminal(a.err) {
		return false, nil
	}
	yes := false
	err := (&form{app: a}).run(ctx, huh.NewConfirm().Title(question).Affirmative(yesWord).Negative(noWord).Value(&yes))
	return yes, err
}

// open locks a project, and tells what became of a run that was killed.
func (a *app) open(p *project.Project) (*apply.Store, error) {
	store, found, err := generate.Open(p)
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS) {
		return nil, fault.New("give yourself the right to write to it, or copy the project to a folder of yours", "the folder %s cannot be written to: %w", p.Root, err)
	}
	if err != nil {
		return nil, err
	}
	switch {
	case found.Finished != "":
		a.say("A write that was cut off has been finished first.")
	case found.Undone != "":
		a.say("A write that was cut off has been turned back first: %s changed meanwhile.", strings.Join(found.Changed, ", "))
	}
	for _, folder := range found.Foreign {
		fmt.Fprintf(a.err, "widegate: %s is left as it is: you did not make it on this machine in this folder\n  next: delete it, if you do not know where it comes from\n", folder)
	}
	return store, nil
}

// plan makes the plan of a project, and tells what is being done when it takes
// long.
func (a *app) plan(ctx context.Context, p *project.Project, options generate.Options) (*generate.Plan, error) {
	source := generate.Source(p)
	source.Cache, source.Trusted = schemaCache(), a.trusted
	report, done := a.progress("")
	defer done()
	source.Progress = func(what string) { report("reading " + what) }
	options.Progress = report
	return generate.Make(ctx, p, source, options)
}

// dryRun shows what a write would do.
func (a *app) dryRun(ctx context.Context, p *project.Project, options generate.Options, asJSON bool) error {
	a.tellUnfinished(p)
	plan, err := a.plan(ctx, p, options)
	if err != nil {
		return err
	}
	if asJSON {
		if err := a.printPlan(plan, nil); err != nil {
			return err
		}
		return a.decisionNeeded(plan, "nothing was written")
	}
	return a.showPlan(plan)
}

// tellUnfinished says that a write was killed, and reports whether one was.
func (a *app) tellUnfinished(p *project.Project) bool {
	unfinished := apply.Unfinished(filepath.Join(p.Root, p.Ledger()))
	if unfinished {
		fmt.Fprintln(a.err, "widegate: a write was cut off here; the next `widegate write` finishes it")
	}
	return unfinished
}

func (a *app) writeJSON(ctx context.Context, plan *generate.Plan, store *apply.Store) error {
	if err := a.printPlan(plan, nil); err != nil {
		return err
	}
	_, err := a.apply(ctx, plan, store)
	if errors.Is(err, generate.ErrConflict) {
		return a.decisionNeeded(plan, "nothing was written")
	}
	return err
}

// printPlan prints what happens to each file as JSON.
func (a *app) printPlan(plan *generate.Plan, more map[string]any) error {
	all := map[string]any{"files": orEmpty(plan.Decisions), "conflicts": orEmpty(plan.Conflicts), "notices": orEmpty(plan.Notices)}
	maps.Copy(all, more)
	return a.printJSON(all)
}

// orEmpty makes an empty list of none, for JSON.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// decisionNeeded explains what a person must decide, as an error.
func (a *app) decisionNeeded(plan *generate.Plan, outcome string) error {
	if len(plan.Conflicts) == 0 {
		return nil
	}
	a.showConflicts(plan.Conflicts)
	return decisionError{fmt.Errorf("%s: %s must be decided on by you", outcome, count(len(plan.Conflicts), "place"))}
}

func (a *app) write(ctx context.Context, p *project.Project, plan *generate.Plan, store *apply.Store) error {
	summary, err := a.apply(ctx, plan, store)
	if err == nil {
		err = saveProjectSchema(p)
	}
	if errors.Is(err, generate.ErrConflict) {
		return a.decisionNeeded(plan, "nothing was written")
	}
	if err != nil {
		return err
	}
	a.showNotices(plan.Notices)
	if summary.Written == 0 {
		a.showDecisions(plan, generate.Kept, generate.LeftOut)
		a.say("Nothing to write: the code is what the schema gives (%s).", elapsed(summary.Elapsed))
		return nil
	}
	again := plan.Count(generate.Same, generate.Changed, generate.Merged, generate.Kept) > 0
	if again {
		a.showDecisions(plan, generate.New, generate.Changed, generate.Merged, generate.Removed, generate.Kept, generate.LeftOut)
	} else {
		a.showEntities(plan.Model)
	}
	a.showAttention(plan.Model)
	a.heading(fmt.Sprintf("Wrote %s: %s; %s of code for the tables, in %s.", count(summary.Written, "file"), a.tally(plan), count(summary.Lines, "line"), elapsed(summary.Elapsed)))
	a.sayAfterWrite(ctx, p, plan, summary, again)
	return nil
}

// apply brings a plan to disk. It is not left in the middle.
func (a *app) apply(ctx context.Context, plan *generate.Plan, store *apply.Store) (generate.Summary, error) {
	a.changing.Lock()
	defer a.changing.Unlock()
	report, done := a.progress("")
	defer done()
	report("writing the files, and completing go.mod")
	return plan.Apply(ctx, store)
}

// tally counts the files by what happens to them.
func (a *app) tally(plan *generate.Plan) string {
	text := fmt.Sprintf("%d new, %d changed, %d removed", plan.Count(generate.New), plan.Count(generate.Changed), plan.Count(generate.Removed))
	if n := plan.Count(generate.Merged); n > 0 {
		text = fmt.Sprintf("%d new, %d changed, %d merged with your edits, %d removed", plan.Count(generate.New), plan.Count(generate.Changed), n, plan.Count(generate.Removed))
	}
	return text
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
	if m.API.None {
		list.titles = list.titles[:2]
	}
	shown := m.Entities
	if len(shown) > overviewTables+10 {
		shown = shown[:overviewTables]
	}
	for _, e := range shown {
		var relations []string
		for _, r := range e.Relations {
			relations = append(relations, r.Name)
		}
		cells := []string{e.Name, shortened(strings.Join(relations, " "), 44), m.Base + "/" + e.Path, verbs(e)}
		list.add(cells[:len(list.titles)]...)
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

// sayAfterWrite prints the commands that make sense after a write.
func (a *app) sayAfterWrite(ctx context.Context, p *project.Project, plan *generate.Plan, summary generate.Summary, again bool) {
	if errors.Is(summary.Tidied, gomodule.ErrNoToolchain) {
		a.say("\nThere is no Go toolchain on the path; where there is one, run\n  go mod tidy")
	} else if summary.Tidied != nil {
		fmt.Fprintf(a.err, "widegate: go.mod could not be completed: %v\n  next: run `go mod tidy`\n", summary.Tidied)
	}
	if again {
		a.say("Take it back by `widegate undo`.")
		if apply := toApply(ctx, p); len(apply) > 0 {
			a.sayNext(p, apply)
		}
		return
	}
	if !a.starts {
		a.sayNext(p, toApply(ctx, p), toRun(p, plan.Command, plan.Model))
	}
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
