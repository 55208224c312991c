package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/charmbracelet/huh"

	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/printable"
	"widegate/internal/project"
	"widegate/internal/read"
)

// sourcesHelp says what the commands about two schemas take.
const sourcesHelp = `A schema is the URL of a database, the path of a SQLite file, DDL scripts or their
folder, a snapshot (the .json that read --json printed), or @REVISION: what the
last write recorded in that revision of version control, as in @main. Without
FROM it is the one of the last write, without TO the one of the project file.`

// between is two schemas and what is known of them.
type between struct {
	project       *project.Project // nil where there is no project file
	former        *project.Project // as it was in a revision; else the same
	before, after *catalog.Catalog
	from, to      string // what they are called
	source        read.Source
	alike         catalog.Alike // nil where there is no data on one of the sides
	renames       []catalog.Rename
	possible      []catalog.Rename // that nobody has settled
}

// schemaFlags are those of the commands about two schemas.
type schemaFlags struct {
	engine  string
	scratch string
	renamed []string
	schemas []string
}

// twoSchemas reads the schemas that the arguments name, and finds out what was
// renamed between them.
func (a *app) twoSchemas(ctx context.Context, args []string, f schemaFlags) (*between, error) {
	b := &between{}
	var err error
	if _, missing := os.Stat(a.config); missing == nil || len(args) < 2 {
		if b.project, err = project.Load(a.config); err != nil {
			return nil, err
		}
	}
	words := append(slices.Clone(args), "", "")
	if b.after, b.to, b.source, err = a.schema(ctx, b.project, words[1], f, false); err != nil {
		return nil, err
	}
	if f.engine == "" {
		f.engine = b.after.Engine.Name
	}
	var old read.Source
	if b.before, b.from, old, err = a.schema(ctx, b.project, words[0], f, true); err != nil {
		return nil, err
	}
	if b.before.Engine != b.after.Engine {
		return nil, fault.New("name two sources of one engine", "%s is of %s, %s of %s", b.from, b.before.Engine.Name, b.to, b.after.Engine.Name)
	}
	if old.URL != "" && b.source.URL != "" {
		data := read.NewData(old, b.source)
		defer data.Close()
		b.alike = func(was, now *catalog.Table, a, b string) (float64, bool) { return data.Common(ctx, was, now, a, b) }
	}
	if b.former = b.project; strings.HasPrefix(words[0], "@") {
		if b.former, _, err = project.Revision(ctx, a.config, words[0][1:], registry.Dialects()); err != nil {
			return nil, err
		}
	}
	b.renames, err = a.settleRenames(ctx, b, f.renamed)
	return b, err
}

// schema reads one of the two.
func (a *app) schema(ctx context.Context, p *project.Project, word string, f schemaFlags, from bool) (*catalog.Catalog, string, read.Source, error) {
	revision, isRevision := strings.CutPrefix(word, "@")
	switch {
	case word == "" && from:
		ledger, err := project.LoadLedger(p, registry.Dialects())
		if err != nil {
			return nil, "", read.Source{}, err
		}
		c := ledger.Schema()
		if c == nil {
			return nil, "", read.Source{}, errNothingWritten
		}
		return c, "the last write", read.Source{}, nil
	case word == "":
		source := generate.Source(p)
		c, err := a.readSource(ctx, source)
		return c, read.Hide(sourceName(source)), source, err
	case isRevision:
		_, ledger, err := project.Revision(ctx, a.config, revision, registry.Dialects())
		if err != nil {
			return nil, "", read.Source{}, err
		}
		return ledger.Schema(), word, read.Source{}, nil
	}
	engine := f.engine
	if strings.EqualFold(word[max(0, len(word)-5):], ".json") {
		engine = "" // it says so itself
	}
	source, err := read.Parse([]string{word}, engine)
	if err != nil && engine != "" {
		source, err = read.Parse([]string{word}, "")
	}
	if err != nil {
		return nil, "", read.Source{}, err
	}
	if len(source.DDL) > 0 && engine != registry.Embedded().Dialect().Name {
		source.Scratch = f.scratch
		if p != nil && f.scratch == "" {
			source.Scratch = p.Database.Scratch
		}
	}
	wanted := f.schemas
	if p != nil && len(wanted) == 0 && (source.Engine == "" || p.Database.Engine == "" || source.Engine == p.Database.Engine) {
		wanted = p.Database.Schemas
	}
	if source.Schemas, err = present(ctx, source, wanted); err != nil {
		return nil, "", read.Source{}, err
	}
	c, err := a.readSource(ctx, source)
	return c, read.Hide(word), source, err
}

// present leaves out the schemas that a live database does not have yet, or no
// longer: the other side has them.
func present(ctx context.Context, source read.Source, schemas []string) ([]string, error) {
	if source.URL == "" || len(schemas) == 1 {
		return schemas, nil
	}
	there, own, err := read.Schemas(ctx, source)
	if err != nil {
		return nil, err
	}
	if own == "" && len(there) == 0 { // a database has one only
		return schemas, nil
	}
	if len(schemas) == 0 { // a change of any of them counts
		if own != "" && !slices.Contains(there, own) {
			there = append(there, own)
		}
		return there, nil
	}
	return slices.DeleteFunc(slices.Clone(schemas), func(s string) bool { return !slices.Contains(there, s) }), nil
}

func sourceName(s read.Source) string {
	switch {
	case len(s.DDL) > 0:
		return strings.Join(s.DDL, ", ")
	case s.Snapshot != "":
		return s.Snapshot
	}
	return s.URL
}

var errNothingWritten = fault.New("write the code once by `widegate write`, or name the schema to start from", "nothing was written here yet")

// settler finds the renames between the last write and the schema of now.
func (a *app) settler(ctx context.Context, p *project.Project, flags []string) func(before, after *catalog.Catalog) ([]catalog.Rename, error) {
	return func(before, after *catalog.Catalog) ([]catalog.Rename, error) {
		return a.settleRenames(ctx, &between{project: p, before: before, after: after, from: "the last write"}, flags)
	}
}

// settleRenames finds what was renamed. What flags and the project file say
// holds; on a terminal the rest is asked; elsewhere the likely ones are taken.
func (a *app) settleRenames(ctx context.Context, b *between, flags []string) ([]catalog.Rename, error) {
	var given []catalog.Rename
	for _, word := range flags {
		old, now, ok := strings.Cut(word, "=")
		if !ok || old == "" {
			return nil, usageError{fmt.Errorf("--renamed takes OLD=NEW, as in hive.title=name, not %q", word)}
		}
		r, there := catalog.Settle(b.before, b.after, old, now)
		if catalog.Done(b.before, old, now) {
			fmt.Fprintf(a.err, "widegate: --renamed %s: it is called so since an earlier write\n", word)
			continue
		}
		if !there {
			return nil, fault.New("write a table, table.column, enum or enum.label as it was called", "--renamed %s: the schema of %s has no %s", word, b.from, old)
		}
		given = append(given, r)
	}
	fromFlags := len(given)
	if b.project != nil {
		for _, old := range slices.Sorted(maps.Keys(b.project.Renamed)) {
			if r, there := catalog.Settle(b.before, b.after, old, b.project.Renamed[old]); there {
				given = append(given, r)
			}
		}
	}
	found := catalog.FindRenames(b.before, b.after, given, b.alike)
	for _, r := range given[:fromFlags] { // the project file may tell of earlier ones
		used := slices.ContainsFunc(found, func(x catalog.Rename) bool { return x.Thing == r.Thing && x.From == r.From && x.To == r.To })
		if !used && catalog.Stays(b.before, b.after, r) {
			fmt.Fprintf(a.err, "widegate: --renamed %s: both names are there since an earlier write\n", r)
			continue
		}
		if !used && r.To != "" {
			return nil, fault.New("see what is there by `widegate changes`", "--renamed %s: it is not so that %s is gone and %s is new", r, r.From, r.To)
		}
	}
	settled, err := a.askRenames(ctx, b, found)
	b.possible = slices.DeleteFunc(slices.Clone(found), func(r catalog.Rename) bool {
		asked := isTerminal(a.in) && isTerminal(a.err)
		return asked || slices.ContainsFunc(settled, func(x catalog.Rename) bool { return x.Thing == r.Thing && x.In == r.In && x.From == r.From })
	})
	return settled, err
}

// askRenames asks about those that nobody has settled.
func (a *app) askRenames(ctx context.Context, b *between, found []catalog.Rename) ([]catalog.Rename, error) {
	terminal := isTerminal(a.in) && isTerminal(a.err)
	var settled []catalog.Rename
	var said []string
	for _, r := range found {
		if r.Confidence == 1 {
			settled = append(settled, r)
		}
	}
	for _, r := range found {
		yes := r.Confidence >= catalog.Likely
		if r.Confidence == 1 {
			continue
		}
		if terminal {
			ask := huh.NewConfirm().Title(printable.Line(renameQuestion(r))).Description(printable.Line(fmt.Sprintf("%.0f %% likely: %s", 100*r.Confidence, r.Why))).Affirmative("renamed").Negative("no, one is gone and one is new").Value(&yes)
			if err := (&form{app: a}).run(ctx, ask); err != nil {
				return nil, err
			}
			answer := r
			if !yes {
				answer.To = ""
			}
			said = append(said, "--renamed "+answer.String())
		}
		if yes {
			settled = append(settled, r)
		}
	}
	if len(said) > 0 {
		fmt.Fprintf(a.err, "The same without questions: %s\n", strings.Join(said, " "))
	}
	// A table that was not renamed has no renamed columns.
	return slices.DeleteFunc(settled, func(r catalog.Rename) bool {
		inTable := func(x catalog.Rename) bool { return x.Thing == catalog.RenamedTable && x.To == r.In }
		return slices.ContainsFunc(found, inTable) && !slices.ContainsFunc(settled, inTable)
	}), nil
}

func renameQuestion(r catalog.Rename) string {
	in := ""
	if r.In != "" {
		in = " of " + r.In
	}
	return fmt.Sprintf("Was the %s %s%s renamed to %s?", r.Thing, r.From, in, r.To)
}
