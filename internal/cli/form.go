package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/huh"

	"widegate/internal/catalog"
	"widegate/internal/engine"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/model"
	"widegate/internal/printable"
	"widegate/internal/project"
	"widegate/internal/read"
)

// connectTime bounds the test of a URL that was typed.
const connectTime = 10 * time.Second

// errLeft ends a form that the person left.
var errLeft = errors.New("left without writing anything")

// form asks for what the flags of new would say.
type form struct {
	app     *app
	setup   setup
	kind    string // what the schema is read from
	catalog *catalog.Catalog
}

// The kinds of sources that the form offers besides the engines.
const (
	fromScripts  = "scripts"
	fromSnapshot = "snapshot"
)

// ask runs the form and returns the setup that it amounts to.
func (a *app) ask(ctx context.Context, s setup) (setup, error) {
	f := &form{app: a, setup: s}
	for _, step := range []func(context.Context) error{f.askSource, f.askSchemas, f.askTables, f.askPlace, f.confirm} {
		if err := step(ctx); err != nil {
			return setup{}, err
		}
	}
	a.say("The same without questions:\n  %s\n", f.setup.commandLine())
	return f.setup, nil
}

// run shows a group of questions.
func (f *form) run(ctx context.Context, fields ...huh.Field) error {
	err := huh.NewForm(huh.NewGroup(fields...)).WithTheme(huh.ThemeBase()).WithInput(f.app.in).WithOutput(raw(f.app.err)).RunWithContext(ctx)
	if errors.Is(err, huh.ErrUserAborted) || errors.Is(err, io.EOF) || errors.Is(err, context.Canceled) {
		return errLeft
	}
	return err
}

// place is how the form asks where a schema is.
type place struct{ title, placeholder, description string }

// placeOf asks for a database.
func placeOf(e engine.Engine) place {
	if file, isFile := e.File(e.Example("bees")); isFile {
		return place{"Path of the database file", file, "It is read when you press enter."}
	}
	return place{"URL of the database", e.Example("database"), "It is tried out when you press enter. ${NAME} may stand for a variable of the environment."}
}

// places are those of schemas that are no databases.
var places = map[string]place{
	fromScripts:  {"Scripts", "migrations/ or schema/*.sql", "A .sql file, a folder or a pattern."},
	fromSnapshot: {"Snapshot", "schema.json", "What widegate read --json printed."},
}

func (f *form) askSource(ctx context.Context) error {
	var options []huh.Option[string]
	for _, e := range registry.All() {
		what := " database"
		if _, isFile := e.File(""); isFile {
			what = " file"
		}
		options = append(options, huh.NewOption("in a "+e.Title()+what, e.Dialect().Name))
	}
	options = append(options, huh.NewOption("in SQL scripts or migrations", fromScripts), huh.NewOption("in a snapshot", fromSnapshot))
	if err := f.run(ctx, huh.NewSelect[string]().Title("Where is the schema?").Value(&f.kind).Options(options...)); err != nil {
		return err
	}
	place, ok := places[f.kind]
	if !ok {
		e, err := registry.Of(f.kind)
		if err != nil {
			return err
		}
		place = placeOf(e)
	}
	return f.run(ctx, huh.NewInput().Title(place.title).Placeholder(place.placeholder).Description(place.description).Value(&f.setup.url).Validate(func(text string) error {
		return explained(f.try(ctx, strings.TrimSpace(text)))
	}))
}

// explained puts what to do next behind an error, where the form shows it.
func explained(err error) error {
	if next := fault.Next(err); next != "" {
		err = fmt.Errorf("%w; %s", err, next)
	}
	if err == nil {
		return nil
	}
	return errors.New(printable.Line(err.Error())) // it is shown in the form
}

// try reads the schema at what was typed.
func (f *form) try(ctx context.Context, text string) error {
	if text == "" {
		return errors.New("type where the schema is, or press ctrl+c to leave")
	}
	ctx, cancel := context.WithTimeout(ctx, connectTime)
	defer cancel()
	f.setup.url = text
	source, err := f.setup.source()
	if err != nil {
		return err
	}
	if engine := source.Engine; engine != "" && slices.Contains(read.Engines, f.kind) && engine != f.kind {
		return fmt.Errorf("that is a place of %s, not of %s", engine, f.kind)
	}
	c, err := read.Read(ctx, source)
	if err != nil {
		return err
	}
	f.catalog = c
	return nil
}

func (f *form) askSchemas(ctx context.Context) error {
	if _, other := places[f.kind]; other || len(f.setup.schemas) > 0 {
		return nil
	}
	source, err := f.setup.source()
	if err != nil {
		return err
	}
	names, _, err := read.Schemas(ctx, source)
	if err != nil || len(names) < 2 {
		return err
	}
	options := make([]huh.Option[string], len(names))
	for i, name := range names {
		options[i] = huh.NewOption(printable.Line(name), name).Selected(name == "public")
	}
	err = f.run(ctx, huh.NewMultiSelect[string]().Title("Which schemas?").Description("space chooses, enter goes on").Options(options...).Value(&f.setup.schemas).Validate(func(list []string) error {
		if len(list) == 0 {
			return errors.New("choose at least one")
		}
		return nil
	}))
	if err != nil {
		return err
	}
	if slices.Equal(f.setup.schemas, []string{"public"}) {
		f.setup.schemas = nil
	}
	return f.try(ctx, f.setup.url)
}

func (f *form) askTables(ctx context.Context) error {
	if len(f.catalog.Tables) == 0 {
		return fault.New("create tables first", "the schema is empty")
	}
	all := true
	err := f.run(ctx, huh.NewConfirm().Title(fmt.Sprintf("Take all %s?", count(len(f.catalog.Tables), "table"))).Affirmative("all").Negative("let me choose").Value(&all))
	if err != nil || all {
		return err
	}
	options := make([]huh.Option[string], len(f.catalog.Tables))
	for i := range f.catalog.Tables {
		t := &f.catalog.Tables[i]
		options[i] = huh.NewOption(printable.Line(tableChoice(t)), t.FullName())
	}
	return f.run(ctx, huh.NewMultiSelect[string]().Title("Which tables?").Description("space chooses, / searches, enter goes on; what they refer to comes along").
		Options(options...).Height(min(len(options)+3, tallestList)).Value(&f.setup.take).Validate(func(list []string) error {
		if len(list) == 0 {
			return errors.New("choose at least one")
		}
		return nil
	}))
}

// tableChoice names a table and what it refers to.
func tableChoice(t *catalog.Table) string {
	text := nameAndKind(t)
	if refers := referenceText(t); refers != "" {
		text += " → " + shortened(refers, 60)
	}
	return text
}

func (f *form) askPlace(ctx context.Context) error {
	needed := func(text string) error {
		if strings.TrimSpace(text) == "" {
			return errors.New("type a name, or . for this folder")
		}
		return nil
	}
	return f.run(ctx,
		huh.NewInput().Title("Folder of the project").Value(&f.setup.folder).Validate(func(text string) error {
			if _, err := os.Lstat(filepath.Join(text, project.FileName)); err == nil && !f.setup.yes {
				return errors.New("there is a " + project.FileName + " in it already")
			}
			return needed(text)
		}),
		huh.NewInput().Title("Package of entities and queries").Value(&f.setup.pkg).Validate(func(text string) error {
			_, err := project.Parse(project.FileName, project.Draft{URL: "x", Package: text}.Text())
			if err != nil {
				return errors.New("use small letters and digits, beginning with a letter")
			}
			return nil
		}),
	)
}

// confirm shows what will be written, and what comes along.
func (f *form) confirm(ctx context.Context) error {
	p := project.Default()
	p.Tables.Take = f.setup.take
	m, err := model.Build(f.catalog, p, project.NewNames())
	if err != nil {
		return err
	}
	text := fmt.Sprintf("%s become entities.", count(len(m.Entities), "table"))
	for i, came := range m.Followed {
		if i == followedLines {
			text += fmt.Sprintf("\nand %d more come along", len(m.Followed)-i)
			break
		}
		text += fmt.Sprintf("\n%s comes along, because of %s", came.Table, came.By)
	}
	write := true
	if err := f.run(ctx, huh.NewConfirm().Title("Write "+filepath.Join(f.setup.folder, project.FileName)+"?").Description(printable.Text(text)).Affirmative("write").Negative("leave").Value(&write)); err != nil {
		return err
	}
	if !write {
		return errLeft
	}
	return nil
}

// tallestList is how many lines a list of tables takes; longer ones scroll.
const tallestList = 26

// followedLines is how many tables that come along are named.
const followedLines = 10

// commandLine is the command that says by flags what the form asked for.
func (s setup) commandLine() string {
	words := []string{"widegate", "new", "--url", shellWord(read.Hide(s.url))}
	for _, schema := range s.schemas {
		words = append(words, "--schema", shellWord(schema))
	}
	for _, table := range s.take {
		words = append(words, "--take", shellWord(table))
	}
	if s.folder != "." {
		words = append(words, "--folder", shellWord(s.folder))
	}
	if s.pkg != defaultPackage {
		words = append(words, "--package", shellWord(s.pkg))
	}
	return strings.Join(words, " ")
}

// shellWord quotes what a shell would change.
func shellWord(s string) string {
	if s != "" && !strings.ContainsAny(s, " \t\n'\"\\$`*?[]{}()<>|&;#~!") {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
