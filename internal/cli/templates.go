package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/merge"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/outputs"
	"widegate/internal/render/own"
	"widegate/internal/render/typecheck"
)

func (a *app) templatesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "templates",
		Short: "Show the templates in use: built-in ones, those taken, and the project's own",
		Long: `Lists the templates in use: the built-in ones, those of them that the project has
taken to change them, and its own. Those of the project lie in its folder templates,
and in the folders that templates: of the project file names. Each is run for the
project, or for each schema, table, relation, enum, query or route, and gives a file
each time; write merges these files like all others.

A template of one's own is a text with a head:

  ---
  about: one page for each table
  for: entity
  path: docs/tables/{{.Entity.File}}.md
  ---
  # {{.Entity.Plural}}`,
		Example: `  widegate templates
  widegate templates data hive
  widegate templates try tables hive`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return a.listTemplates() },
	}
	cmd.AddCommand(a.showTemplateCommand(), a.takeTemplateCommand(), a.tryTemplateCommand(), a.templateDataCommand(), a.templateFilesCommand(), a.testTemplatesCommand())
	return cmd
}

func (a *app) listTemplates() error {
	p, err := project.Load(a.config)
	if err != nil {
		return err
	}
	files, err := generate.ReadTemplates(p)
	if err != nil {
		return err
	}
	templates, err := own.ParseAll(files, p.Settings)
	if err != nil {
		return err
	}
	taken, _, err := render.TakenOf(files)
	if err != nil {
		return err
	}
	builtIn, err := outputs.BuiltIn()
	if err != nil {
		return err
	}
	list := columns{titles: []string{"template", "from", "for each", "gives", "about"}}
	for _, b := range builtIn {
		list.add(b.Name, fromOf(b, taken), b.For, b.Gives, b.About)
	}
	for _, t := range templates {
		list.add(t.Name, t.File, t.Head.For, t.Head.Path, t.Head.About)
	}
	list.print(a.loud())
	return nil
}

// fromOf is where the text of a built-in template is from.
func fromOf(b render.BuiltIn, taken map[string]render.Taken) string {
	own, ok := taken[b.Name]
	switch {
	case !ok:
		return "built-in"
	case own.Version != b.Version():
		return own.File + ", taken from another version"
	}
	return own.File
}

func (a *app) takeTemplateCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "take TEMPLATE",
		Short: "Copy a built-in template into the project, to be changed there and used from then on",
		Long: `Copies a built-in template into the folder templates of the project. It is used from
then on: what you change in it, the next write brings into all its files, and your
edits in these stay. Where another version of widegate has another built-in one,
` + "`widegate templates`" + ` says so.`,
		Example: "  widegate templates take entity.go",
		Args:    cobra.ExactArgs(1),
		RunE:    func(_ *cobra.Command, args []string) error { return a.takeTemplate(args[0]) },
	}
}

func (a *app) takeTemplate(name string) error {
	p, err := project.Load(a.config)
	if err != nil {
		return err
	}
	at, err := generate.TakeTemplate(p, name)
	if err != nil {
		return err
	}
	a.say("Copied %s to %s. Change it there; `widegate write` brings the change into all its files.", name, relative(at))
	return nil
}

func (a *app) showTemplateCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "show TEMPLATE",
		Short:   "Show a template: what it says of itself, its settings and its text",
		Example: "  widegate templates show tables",
		Args:    cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := project.Load(a.config)
			if err != nil {
				return err
			}
			files, err := generate.ReadTemplates(p)
			if err != nil {
				return err
			}
			return a.loud().showTemplate(render.Input{Templates: files, Settings: p.Settings}, args[0])
		},
	}
}

func (a *app) showTemplate(in render.Input, name string) error {
	if b, err := outputs.Find(name); err == nil {
		a.say("%s, built-in: %s", b.Name, b.About)
		a.say("For each %s it gives a file such as %s.", b.For, b.Gives)
		a.heading("Text")
		a.sayLines(strings.TrimSuffix(b.Text, "\n"))
		return nil
	}
	t, err := own.Find(in, name)
	if err != nil {
		return err
	}
	a.say("%s: %s", t.File, t.Head.About)
	a.say("For each %s it gives %s.", t.Head.For, t.Head.Path)
	if len(t.Names()) > 0 {
		a.heading("Settings, under settings." + name + " of " + project.FileName)
		list := columns{titles: []string{"setting", "type", "is", "about"}}
		for _, s := range t.Names() {
			list.add(s, t.Setting(s).Type, t.Value(s), t.Setting(s).Help)
		}
		list.print(a)
	}
	a.heading("Text")
	for _, f := range in.Templates {
		if f.File == t.File {
			a.sayLines(strings.TrimSuffix(string(f.Text), "\n"))
		}
	}
	return nil
}

func (a *app) tryTemplateCommand() *cobra.Command {
	var diff, watch bool
	cmd := &cobra.Command{
		Use:   "try TEMPLATE [NAME]",
		Short: "Print what a template gives, for all or for one table, enum or query; nothing is written",
		Example: `  widegate templates try tables
  widegate templates try tables hive --diff`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			unit := ""
			if len(args) > 1 {
				unit = args[1]
			}
			try := func(ctx context.Context) error { return a.tryTemplate(ctx, args[0], unit, diff) }
			if watch {
				return a.tryAgain(cmd.Context(), try)
			}
			return try(cmd.Context())
		},
	}
	cmd.Flags().BoolVar(&watch, "watch", false, "print it again whenever a template or the project file changes, until Ctrl-C")
	cmd.Flags().BoolVar(&diff, "diff", false, "print the difference to what is on disk")
	return cmd
}

// tryAgain tries a template whenever one changes. What goes wrong is said, and waits
// for the next change.
func (a *app) tryAgain(ctx context.Context, try func(ctx context.Context) error) error {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for seen := ""; ; {
		p, err := project.Load(a.config)
		now := read.FileMark(a.config)
		if err == nil {
			now += templateMarks(p)
		}
		if now != seen && ctx.Err() == nil {
			seen = now
			if err == nil {
				err = try(ctx)
			}
			if err != nil && !errors.Is(err, context.Canceled) {
				a.complain(weightBreaks, indented(err))
			}
			a.say("Watching for changes; Ctrl-C ends it.")
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// templateInput reads what templates are run on.
func (a *app) templateInput(ctx context.Context) (*project.Project, render.Input, error) {
	p, source, err := a.source(nil, "")
	if err != nil {
		return nil, render.Input{}, err
	}
	in, err := generate.RenderInput(ctx, p, source)
	return p, in, err
}

func (a *app) tryTemplate(ctx context.Context, name, unit string, diff bool) error {
	p, in, err := a.templateInput(ctx)
	if err != nil {
		return err
	}
	files, err := outputs.Texts(in, name, unit)
	if err != nil {
		return err
	}
	if len(files) == 0 {
		a.say("It gives nothing: its condition holds for none.")
	}
	loud := a.loud()
	for _, f := range files {
		text := string(f.Text)
		if diff {
			if text, err = difference(p, f); err != nil {
				return err
			}
		}
		if !diff && len(files) > 1 {
			loud.heading(f.Path)
		}
		if text != "" {
			loud.sayLines(strings.TrimSuffix(text, "\n"))
		}
	}
	return nil
}

// difference is what a file changes on disk.
func difference(p *project.Project, f render.File) (string, error) {
	was, err := os.ReadFile(filepath.Join(p.Root, filepath.FromSlash(f.Path)))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("reading %s: %w", f.Path, err)
	}
	return merge.Unified("a/"+f.Path, "b/"+f.Path, was, f.Text), nil
}

func (a *app) templateFilesCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "files",
		Short:   "List the files that the templates give, with the template of each",
		Example: "  widegate templates files",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p, source, err := a.source(nil, "")
			if err != nil {
				return err
			}
			files, err := generate.GivenFiles(cmd.Context(), p, source)
			if err != nil {
				return err
			}
			list := columns{titles: []string{"file", "template", "from"}}
			for _, f := range files {
				list.add(f.Path, f.Template, cmp.Or(f.From, "built-in"))
			}
			list.print(a.loud())
			return nil
		},
	}
}

func (a *app) testTemplatesCommand() *cobra.Command {
	var accept bool
	cmd := &cobra.Command{
		Use:   "test [FOLDER]",
		Short: "Render a set of templates on its own example, and compare with the files that it expects",
		Long: `Renders the templates of a folder on the project in its folder example, and compares
the files that they give with those in its folder expected. The database of the
example is a script, so that no server is needed for SQLite:

  house-style/manifest.yaml
  house-style/tables.tmpl
  house-style/example/widegate.yaml   database: {ddl: [schema.sql], engine: sqlite}
  house-style/example/schema.sql
  house-style/expected/docs/tables/hive.md

It ends with status 1 where a file differs. --accept saves what the templates give as
what is expected.`,
		Example: `  widegate templates test
  widegate templates test ../house-style --accept`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			folder := filepath.Join(filepath.Dir(a.config), project.TemplatesFolder)
			if len(args) > 0 {
				folder = args[0]
			}
			return a.testTemplates(cmd.Context(), folder, accept)
		},
	}
	cmd.Flags().BoolVar(&accept, "accept", false, "save what the templates give as what is expected")
	return cmd
}

func (a *app) testTemplates(ctx context.Context, folder string, accept bool) error {
	trials, err := generate.TrySet(ctx, folder)
	if err != nil {
		return err
	}
	differ := 0
	for _, t := range trials {
		if t.Passes() {
			continue
		}
		differ++
		if !accept {
			a.loud().sayLines(strings.TrimSuffix(merge.Unified("expected/"+t.Path, "given/"+t.Path, t.Want, t.Got), "\n"))
		}
	}
	switch {
	case differ == 0:
		a.say("All %s are as expected.", count(len(trials), "file"))
		return nil
	case accept:
		if err := generate.Accept(folder, trials); err != nil {
			return err
		}
		a.say("Saved %s below %s.", count(differ, "file"), relative(filepath.Join(folder, "expected")))
		return nil
	}
	return fault.New("correct the templates, or save what they give by --accept", "%d of %s differ from what is expected", differ, count(len(trials), "file"))
}

func (a *app) templateDataCommand() *cobra.Command {
	var of string
	cmd := &cobra.Command{
		Use:   "data [TABLE]",
		Short: "Show what templates can say: each view with its fields, with examples from a table, and the functions",
		Long: `Shows what templates can say: each view with its fields, with examples from a table,
and the functions. Built-in templates get other data than the project's own: --of names
one.`,
		Example: `  widegate templates data hive
  widegate templates data hive --of entity.go`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			table := ""
			if len(args) > 0 {
				table = args[0]
			}
			_, in, err := a.templateInput(cmd.Context())
			if err != nil {
				return err
			}
			lines, err := own.Guide(in, table)
			if of != "" {
				lines, err = outputs.Guide(in, of, table)
			}
			if err != nil {
				return err
			}
			a.loud().showGuide(lines)
			return nil
		},
	}
	cmd.Flags().StringVar(&of, "of", "", "the data of a built-in template, such as entity.go")
	return cmd
}

func (a *app) showGuide(lines []typecheck.Line) {
	for i := 0; i < len(lines); {
		of := lines[i].Of
		a.heading(of)
		list := columns{titles: []string{"", "", "", ""}}
		for ; i < len(lines) && lines[i].Of == of; i++ {
			list.add(lines[i].Name, lines[i].Type, lines[i].Example, lines[i].About)
		}
		list.print(a)
	}
}
