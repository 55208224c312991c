package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/migration"
	"widegate/internal/read"
)

// migrationFlags are those of `migration`.
type migrationFlags struct {
	schemaFlags
	decide        []string
	into, name    string
	down          bool
	prove, asJSON bool
}

func (a *app) migrationCommand() *cobra.Command {
	var f migrationFlags
	cmd := &cobra.Command{
		Use:   "migration [FROM] [TO]",
		Short: "Draft the script that moves a database from one schema to another",
		Long: `Prints the SQL script that makes the second schema of the first one, or writes it
into a folder of numbered migrations, with the script that leads back.

` + sourcesHelp + `

Where only you can decide, such as what becomes of the values of a column that is
gone, the script has a place marked DECIDE with proposals, and stops there until
you have filled it in, or taken one: --decide 1=a takes the first proposal of
place 1, --decide all=a the first of all.

--prove makes the old schema in a scratch database, with generated rows, runs the
script and the way back there, and shows what came out.`,
		Example: `  widegate migration sqlite:bees.db schema.sql
  widegate migration sqlite:bees.db schema.sql --renamed hive.title=name
  widegate migration @main --into migrations --name forages
  widegate migration postgres://localhost/bees schema.sql --decide all=a --prove --scratch postgres://localhost/`,
		Args: usage(cobra.MaximumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error { return a.migration(cmd.Context(), f, args) },
	}
	f.schemaFlags.add(cmd)
	cmd.Flags().StringArrayVar(&f.decide, "decide", nil, "take a proposal: `PLACE=LETTER`, or all=LETTER")
	cmd.Flags().StringVar(&f.into, "into", "", "write both scripts into this `FOLDER` under the next number")
	cmd.Flags().StringVar(&f.name, "name", "", "`WORDS` for the names of the files")
	cmd.Flags().BoolVar(&f.down, "down", false, "print the script that leads back")
	cmd.Flags().BoolVar(&f.prove, "prove", false, "run it in a scratch database and show what came out")
	cmd.Flags().BoolVar(&f.asJSON, "json", false, "print the decisions, or what --prove found, as JSON")
	return cmd
}

func (f *schemaFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.engine, "engine", "", "the dialect of scripts: "+strings.Join(read.Engines, ", "))
	cmd.Flags().StringVar(&f.scratch, "scratch", "", "the `URL` of a server that may make throw-away databases, to run scripts in")
	cmd.Flags().StringArrayVar(&f.renamed, "renamed", nil, "what was renamed: `OLD=NEW`, as in hive.title=name; OLD= says that it was dropped")
}

func (a *app) migration(ctx context.Context, f migrationFlags, args []string) error {
	decide, err := decider(f.decide)
	if err != nil {
		return err
	}
	if f.down && (f.into != "" || f.prove) {
		return usageError{errors.New("--down prints the way back; --into writes both ways, --prove tries both")}
	}
	b, err := a.twoSchemas(ctx, args, f.schemaFlags)
	if err != nil {
		return err
	}
	there, err := migration.Draft(b.before, b.after, migration.Options{Renames: b.renames, Decide: decide})
	if errors.Is(err, migration.ErrSame) {
		a.say("Nothing to move: %s and %s are the same.", b.from, b.to)
		return nil
	}
	if err != nil {
		return err
	}
	back, err := migration.Draft(b.after, b.before, migration.Options{Renames: catalog.Reversed(b.renames)})
	if err != nil {
		return err
	}
	switch {
	case f.prove:
		return a.prove(ctx, f, b, there)
	case f.asJSON:
		err = a.printJSON(map[string]any{"changes": orEmpty(there.Changes), "decisions": decisionsOf(there), "statements": there.Texts()})
		return errors.Join(err, a.openDecisions(there))
	case f.into != "":
		return a.writeMigration(f, b, there, back)
	case f.down:
		_, err = a.out.Write(back.Text(fmt.Sprintf("From %s back to %s.", b.to, b.from)))
		return err
	}
	if _, err = a.out.Write(there.Text(fmt.Sprintf("From %s to %s.", b.from, b.to))); err != nil {
		return err
	}
	return a.openDecisions(there)
}

// openDecisions says on standard error that places wait.
func (a *app) openDecisions(s *migration.Script) error {
	if n := len(s.Open()); n > 0 {
		fmt.Fprintln(a.err, "  next: fill in the places marked DECIDE, or take proposals, as in `--decide 1=a`")
		return decisionError{fmt.Errorf("the script waits for you: %s must be decided on", count(n, "place"))}
	}
	return nil
}

func (a *app) printJSON(value any) error {
	enc := json.NewEncoder(a.out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(value)
}

type decisionJSON struct {
	Number    int      `json:"number"`
	Question  string   `json:"question"`
	Proposals []string `json:"proposals"`
	Taken     string   `json:"taken,omitempty"`
}

func decisionsOf(s *migration.Script) []decisionJSON {
	list := []decisionJSON{}
	for _, d := range s.Decisions {
		x := decisionJSON{Number: d.Number, Question: d.Question}
		for i, p := range d.Proposals {
			x.Proposals = append(x.Proposals, fmt.Sprintf("%c. %s", 'a'+i, p.Title))
		}
		if d.Taken >= 0 {
			x.Taken = string(rune('a' + d.Taken))
		}
		list = append(list, x)
	}
	return list
}

// decider takes the proposals that flags name.
func decider(flags []string) (func(d *migration.Decision) int, error) {
	taken := map[string]int{}
	for _, word := range flags {
		place, letter, ok := strings.Cut(word, "=")
		_, err := strconv.Atoi(place)
		if !ok || len(letter) != 1 || letter[0] < 'a' || letter[0] > 'z' || err != nil && place != "all" {
			return nil, usageError{fmt.Errorf("--decide takes PLACE=LETTER, as in 1=a, or all=a, not %q", word)}
		}
		taken[place] = int(letter[0] - 'a')
	}
	return func(d *migration.Decision) int {
		choice, ok := taken[strconv.Itoa(d.Number)]
		if !ok {
			choice, ok = taken["all"]
		}
		if !ok || choice >= len(d.Proposals) {
			return -1
		}
		return choice
	}, nil
}

// writeMigration writes both scripts. A file that is there already is never
// touched.
func (a *app) writeMigration(f migrationFlags, b *between, there, back *migration.Script) error {
	name := f.name
	if name == "" {
		name = nameOf(there.Changes)
	}
	if err := a.saveScripts(f.into, name, there, back, fmt.Sprintf("From %s to %s.", b.from, b.to)); err != nil {
		return err
	}
	return a.openDecisions(there)
}

// newFile writes a file that is not there yet, wholly or not at all.
func newFile(path string, text []byte) error {
	draft, err := os.CreateTemp(filepath.Dir(path), ".widegate-*")
	if err != nil {
		return fault.New("name a folder that may be written", "writing %s: %w", path, err)
	}
	defer os.Remove(draft.Name())
	_, err = draft.Write(text)
	if err := errors.Join(err, draft.Chmod(0o644), draft.Sync(), draft.Close()); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if err := os.Link(draft.Name(), path); err != nil { // which takes the place of nothing
		return fault.New("move it away, or name another folder", "writing %s: %w", path, errors.Unwrap(err))
	}
	return nil
}

// nameOf makes a few words of the first changes.
func nameOf(changes []catalog.Change) string {
	if len(changes) == 0 {
		return ""
	}
	c := changes[0]
	name := strings.TrimSuffix(c.In+"_"+c.Name, "_")
	return strings.TrimPrefix(fmt.Sprintf("%s_%s", name, c.Kind), "_")
}

func (a *app) prove(ctx context.Context, f migrationFlags, b *between, there *migration.Script) error {
	url := f.scratch
	if url == "" && b.project != nil {
		url = b.project.Database.Scratch
	}
	if len(there.Open()) > 0 {
		a.showDecisionsOf(there)
		return a.openDecisions(there)
	}
	report, done := a.progress("proving in a scratch database")
	report("")
	within := func(do func(db migration.Database) error) error {
		return read.InWorkspace(ctx, b.before.Engine, url, func(w read.Workspace) error { return do(w) })
	}
	proof, err := migration.Prove(ctx, within, b.before, b.after, there, b.renames)
	done()
	if err != nil {
		return err
	}
	if f.asJSON {
		err = a.printJSON(proof)
	} else {
		a.showProof(proof)
	}
	if err == nil && !proof.Holds() {
		return decisionError{errors.New("the script does not do what it should, see above")}
	}
	return err
}

// showDecisionsOf prints each open place with its proposals.
func (a *app) showDecisionsOf(s *migration.Script) {
	for _, d := range s.Open() {
		fmt.Fprintf(a.err, "  %d. %s\n", d.Number, d.Question)
		for i, p := range d.Proposals {
			fmt.Fprintf(a.err, "     %c. %s\n", 'a'+i, p.Title)
		}
	}
}

// rowsShown is how many keys of changed rows are printed.
const rowsShown = 5

func (a *app) showProof(p *migration.Proof) {
	list := columns{titles: []string{"table", "#rows before", "#after", "#changed", "which"}}
	for _, t := range p.Tables {
		which := strings.Join(t.Changed[:min(len(t.Changed), rowsShown)], "; ")
		if len(t.Changed) > rowsShown {
			which += " …"
		}
		list.add(t.Table, strconv.Itoa(t.Before), strconv.Itoa(t.After), strconv.Itoa(len(t.Changed)), which)
	}
	list.print(a)
	for _, name := range p.Empty {
		a.say("  note: no rows could be made up for %s", name)
	}
	if len(p.Differs) == 0 {
		a.say("The result reads as the new schema, after %s.", count(p.Statements, "statement"))
	}
	for _, line := range p.Differs {
		a.say("  not as the new schema: %s", line)
	}
	switch {
	case p.NoWayBack != "":
		a.say("  the way back stops: %s", p.NoWayBack)
	case len(p.Back) == 0:
		a.say("The way back reads as the old one.")
	}
	for _, line := range p.Back {
		a.say("  not as the old schema: %s", line)
	}
}
