package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/charmbracelet/huh"
	"github.com/spf13/cobra"

	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/migration"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/sqltext"
)

// tableFlags are those of `table`.
type tableFlags struct {
	engine, into, name string
	decide             []string
}

func (a *app) tableCommand() *cobra.Command {
	var f tableFlags
	cmd := &cobra.Command{
		Use:   "table [NAME] [COLUMN:TYPE...]",
		Short: "Draft a new table, or new columns of one, as the next migration",
		Long: `Writes the script that makes a table, or adds columns to one that is there, into
the folder of scripts that the project file names, under the next number, with
the script that takes it back. On a terminal, and without columns, it asks.

A column is NAME:TYPE. The types are
  ` + strings.Join(migration.TypeWords, ", ") + `,
the name of a table, which the column then refers to, or raw TYPE for one of the
engine's own. Behind the type may stand, each after a comma,
  ` + strings.Join(migration.OptionWords, ", ") + `.
A column must have a value unless it says null. A new table gets a numbered id.`,
		Example: `  widegate table swarm hive_id:hive 'caught_on:date' 'weight_kg:decimal(6,2),null'
  widegate table hive 'paint:enum(white|blue|none),default=none'
  widegate table swarm --engine sqlite --into schema`,
		RunE: func(cmd *cobra.Command, args []string) error { return a.table(cmd.Context(), f, args) },
	}
	cmd.Flags().StringVar(&f.engine, "engine", "", "the `ENGINE`, where there is no project file: "+strings.Join(read.Engines, ", "))
	cmd.Flags().StringVar(&f.into, "into", "", "the `FOLDER` of scripts, in place of the project's")
	cmd.Flags().StringVar(&f.name, "name", "", "`WORDS` for the names of the files")
	cmd.Flags().StringArrayVar(&f.decide, "decide", nil, "take a proposal: `PLACE=LETTER`, or all=LETTER")
	return cmd
}

func (a *app) table(ctx context.Context, f tableFlags, args []string) error {
	decide, err := decider(f.decide)
	if err != nil {
		return err
	}
	before, folder, err := a.schemaToExtend(ctx, f)
	if err != nil {
		return err
	}
	if len(args) < 2 {
		if args, err = a.askTable(ctx, before, args); err != nil {
			return err
		}
	}
	ways, err := registry.Drafting(before.Engine)
	if err != nil {
		return err
	}
	after, err := migration.Extend(ways, before, args[0], args[1:])
	if err != nil {
		return err
	}
	there, err := migration.Draft(ways, before, after, migration.Options{Decide: decide.take})
	if err != nil {
		return err
	}
	if err := decide.unused("--decide", there); err != nil {
		return err
	}
	if len(there.Open()) > 0 && folder != "" { // a script that waits would keep the folder from being read
		a.showDecisionsOf(there)
		fmt.Fprintln(a.err, "  next: take proposals, as in `--decide 1=a`; nothing was written")
		return decisionError{fmt.Errorf("the draft waits for you to decide %s", count(len(there.Open()), "place"))}
	}
	if folder == "" {
		_, err = raw(a.out).Write(there.Text(fmt.Sprintf("The table %s.", args[0])))
		return errors.Join(err, a.openDecisions(there))
	}
	back, err := migration.Draft(ways, after, before, migration.Options{})
	if err != nil {
		return err
	}
	name := f.name
	if name == "" {
		name = args[0]
		if _, ok := before.Table(catalog.Split(args[0])); ok {
			columns := make([]string, len(args)-1)
			for i, w := range args[1:] {
				columns[i], _, _ = strings.Cut(w, ":")
			}
			name += "_" + strings.Join(columns, "_")
		}
	}
	return a.saveScripts(ctx, before.Engine.Name, folder, name, there, back, "The table "+args[0]+".")
}

// schemaToExtend is the schema of the project, and the folder of its scripts. A
// folder without scripts is an empty schema.
func (a *app) schemaToExtend(ctx context.Context, f tableFlags) (*catalog.Catalog, string, error) {
	source := read.Source{Engine: f.engine}
	folder := f.into
	if _, err := os.Stat(a.config); err == nil {
		p, err := project.Load(a.config)
		if err != nil {
			return nil, "", err
		}
		if source = generate.Source(p); folder == "" && len(source.DDL) > 0 {
			if info, err := os.Stat(source.DDL[0]); err == nil && info.IsDir() || !strings.HasSuffix(source.DDL[0], ".sql") {
				folder = source.DDL[0]
			}
			if at, err := seenFrom(p.Root, folder); folder != "" && (err != nil || !filepath.IsLocal(at)) {
				return nil, "", fault.New("name it by --into, if that is where you want the script", "the project file names the folder %s, which lies outside of the project", folder)
			}
		}
	} else if folder != "" {
		source.DDL = []string{folder}
	}
	if len(source.DDL) > 0 && empty(source.DDL) {
		e, err := registry.Named(source.Engine)
		if err != nil {
			return nil, "", fault.New("name it by --engine "+strings.Join(read.Engines, ", or ")+", or set database.engine in the project file", "the engine is not known, since there is no script yet")
		}
		return &catalog.Catalog{Engine: e.Dialect()}, folder, nil
	}
	if source.URL == "" && len(source.DDL) == 0 && source.Snapshot == "" {
		return nil, "", fault.New("make a project file with `widegate new`, or say --engine ENGINE --into FOLDER", "there is no project file, and no folder of scripts is named")
	}
	c, err := a.readSource(ctx, source)
	return c, folder, err
}

// empty reports whether there is no script yet.
func empty(paths []string) bool {
	files, err := sqltext.Find(paths)
	return err != nil || len(files) == 0
}

// saveScripts writes the scripts there and back under the next number.
func (a *app) saveScripts(ctx context.Context, engine, folder, name string, there, back *migration.Script, title string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fault.New("name a folder that may be written", "making the folder of scripts: %w", err)
	}
	up, down, err := migration.FileNames(folder, name)
	if err != nil {
		return err
	}
	if err := newFile(up, there.Text(title)); err != nil {
		return err
	}
	if err := newFile(down, back.Text("Back: "+title)); err != nil {
		return err
	}
	a.say("Wrote %s: %s, %s of them for you to decide.", relative(up), count(len(there.Steps), "step"), strconv.Itoa(len(there.Open())))
	waiting := ""
	if n := len(back.Open()); n > 0 {
		waiting = fmt.Sprintf(", %s to decide", count(n, "place"))
	}
	a.say("Wrote %s, the way back%s.", relative(down), waiting)
	if p, err := a.projectHere(); err == nil && p != nil {
		a.sayNext(p, toApply(ctx, p), toWrite(p))
	} else if err == nil {
		a.heading("Next")
		a.say("  widegate new --url %s --engine %s", folder, engine)
	}
	return nil
}

// askTable asks for the table and its columns, one after the other.
func (a *app) askTable(ctx context.Context, c *catalog.Catalog, args []string) ([]string, error) {
	if !isTerminal(a.in) {
		return nil, usageError{errors.New("name a table and its columns, as in widegate table swarm 'name:text(60)'")}
	}
	f := &form{app: a}
	table := ""
	if len(args) > 0 {
		table = args[0]
	}
	notEmpty := func(text string) error {
		if strings.TrimSpace(text) == "" {
			return errors.New("type a name")
		}
		return nil
	}
	if table == "" {
		if err := f.run(ctx, huh.NewInput().Title("Name of the table").Description("A new one, or one that gets more columns.").Value(&table).Validate(notEmpty)); err != nil {
			return nil, err
		}
	}
	ways, err := registry.Drafting(c.Engine)
	if err != nil {
		return nil, err
	}
	words := []string{table}
	for {
		column, more := "", false
		valid := func(text string) error {
			if text == "" && len(words) > 1 {
				return nil
			}
			_, err := migration.Extend(ways, c, table, append(slices.Clone(words[1:]), text))
			return explained(err)
		}
		ask := huh.NewInput().Title(fmt.Sprintf("Column %d, as NAME:TYPE", len(words))).Placeholder("weight_kg:decimal(6,2),null").Value(&column).Validate(valid).
			Description("Types: " + strings.Join(migration.TypeWords, ", ") + ", or a table. Options: " + strings.Join(migration.OptionWords, ", ") + ".")
		again := huh.NewConfirm().Title("Another column?").Value(&more)
		if err := f.run(ctx, ask); err != nil {
			return nil, err
		}
		if column != "" {
			words = append(words, column)
		}
		if err := f.run(ctx, again); err != nil {
			return nil, err
		}
		if !more {
			return words, nil
		}
	}
}
