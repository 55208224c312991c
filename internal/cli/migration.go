package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/fault"
	"widegate/internal/migration"
	"widegate/internal/printable"
	"widegate/internal/read"
)

// migrationFlags are those of `migration`.
type migrationFlags struct {
	schemaFlags
	decide, decideBack []string
	into, name         string
	down               bool
	prove, asJSON      bool
	script, scriptBack string
	rowsFrom           string
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

A script tests the rows that are there before it changes anything, and is done
wholly or not at all. It takes over views, triggers, rights and the like; what it
cannot take over stands in its first lines.

--prove makes the old schema in a scratch database, with generated rows or with
some of a real database (--rows-from URL), runs the script and the way back there,
also under unhelpful settings and in the engine's own client, and shows what came
out. A script whose decisions you filled in is proved by --script FILE.`,
		Example: `  widegate migration sqlite:bees.db schema.sql
  widegate migration sqlite:bees.db schema.sql --renamed hive.title=name
  widegate migration @main --into migrations --name forages
  widegate migration postgres://localhost/bees schema.sql --decide all=a --prove --scratch postgres://localhost/`,
		Args: usage(cobra.MaximumNArgs(2)),
		RunE: func(cmd *cobra.Command, args []string) error { return a.migration(cmd.Context(), f, args) },
	}
	f.schemaFlags.add(cmd)
	cmd.Flags().StringArrayVar(&f.decide, "decide", nil, "take a proposal: `PLACE=LETTER`, or all=LETTER")
	cmd.Flags().StringArrayVar(&f.decideBack, "decide-back", nil, "the same for the script that leads back: `PLACE=LETTER`")
	cmd.Flags().StringVar(&f.into, "into", "", "write both scripts into this `FOLDER` under the next number")
	cmd.Flags().StringVar(&f.name, "name", "", "`WORDS` for the names of the files")
	cmd.Flags().BoolVar(&f.down, "down", false, "print the script that leads back")
	cmd.Flags().BoolVar(&f.prove, "prove", false, "run it in a scratch database and show what came out")
	cmd.Flags().StringVar(&f.script, "script", "", "with --prove: run this `FILE`, in which the decisions are filled in")
	cmd.Flags().StringVar(&f.scriptBack, "script-back", "", "with --prove: the `FILE` that leads back")
	cmd.Flags().StringVar(&f.rowsFrom, "rows-from", "", "with --prove: take rows from the database at this `URL`, at most 1,000 a table")
	cmd.Flags().BoolVar(&f.asJSON, "json", false, "print the decisions, or what --prove found, as JSON")
	return cmd
}

func (f *schemaFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.engine, "engine", "", "the `ENGINE` of scripts: "+strings.Join(read.Engines, ", "))
	cmd.Flags().StringVar(&f.scratch, "scratch", "", "the `URL` of a server that may make throw-away databases, to run scripts in")
	cmd.Flags().StringSliceVar(&f.schemas, "schema", nil, "the `SCHEMAS` to look at; all that hold something when left out")
	cmd.Flags().StringArrayVar(&f.renamed, "renamed", nil, "what was renamed: `OLD=NEW`, as in hive.title=name; OLD= says that it was dropped")
}

func (a *app) migration(ctx context.Context, f migrationFlags, args []string) error {
	decide, err := decider(f.decide)
	if err != nil {
		return err
	}
	decideBack, err := decider(f.decideBack)
	if err != nil {
		return err
	}
	if f.down && len(f.decideBack) == 0 {
		decideBack, decide = decide, &proposals{}
	}
	if !f.prove && (f.script != "" || f.scriptBack != "" || f.rowsFrom != "") {
		return usageError{errors.New("--script, --script-back and --rows-from go with --prove")}
	}
	if f.down && (f.into != "" || f.prove) {
		return usageError{errors.New("--down prints the way back; --into writes both ways, --prove tries both")}
	}
	b, err := a.twoSchemas(ctx, args, f.schemaFlags)
	if err != nil {
		return err
	}
	ways, err := registry.Drafting(b.before.Engine)
	if err != nil {
		return err
	}
	there, err := migration.Draft(ways, b.before, b.after, migration.Options{Renames: b.renames, Possible: b.possible, Decide: decide.take})
	if errors.Is(err, migration.ErrSame) {
		a.say("Nothing to move: %s and %s are the same.", b.from, b.to)
		return nil
	}
	if err != nil {
		return err
	}
	back, err := migration.Draft(ways, b.after, b.before, migration.Options{Renames: catalog.Reversed(b.renames), Possible: catalog.Reversed(b.possible), Decide: decideBack.take})
	if err != nil {
		return err
	}
	if err := errors.Join(decide.unused("--decide", there), decideBack.unused(map[bool]string{true: "--decide", false: "--decide-back"}[f.down && len(f.decideBack) == 0], back)); err != nil {
		return err
	}
	switch {
	case f.prove:
		return a.prove(ctx, f, b, there, back)
	case f.asJSON:
		err = a.printJSON(map[string]any{"changes": orEmpty(there.Changes), "decisions": decisionsOf(there), "statements": there.Texts()})
		return errors.Join(err, a.openDecisions(there))
	case f.into != "":
		return a.writeMigration(ctx, f, b, there, back)
	case f.down:
		if _, err = raw(a.out).Write(back.Text(fmt.Sprintf("From %s back to %s.", b.to, b.from))); err != nil {
			return err
		}
		return a.openDecisions(back)
	}
	if _, err = raw(a.out).Write(there.Text(fmt.Sprintf("From %s to %s.", b.from, b.to))); err != nil {
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

// proposals are those that flags take, by the number of the place or "all".
type proposals struct {
	letters map[string]byte
	used    map[string]bool
}

// decider reads the proposals that flags name.
func decider(flags []string) (*proposals, error) {
	c := &proposals{letters: map[string]byte{}, used: map[string]bool{}}
	for _, word := range flags {
		place, letter, ok := strings.Cut(word, "=")
		n, err := strconv.Atoi(place)
		if !ok || len(letter) != 1 || letter[0] < 'a' || letter[0] > 'z' || (err != nil || n < 1) && place != "all" {
			return nil, usageError{fmt.Errorf("--decide takes PLACE=LETTER, as in 1=a, or all=a, not %q", word)}
		}
		if err == nil {
			place = strconv.Itoa(n)
		}
		c.letters[place] = letter[0]
	}
	return c, nil
}

func (c *proposals) take(d *migration.Decision) int {
	for _, place := range []string{strconv.Itoa(d.Number), "all"} {
		letter, ok := c.letters[place]
		if ok && int(letter-'a') < len(d.Proposals) {
			c.used[place] = true
			return int(letter - 'a')
		}
		if ok {
			return -1
		}
	}
	return -1
}

// unused finds the choices that no place of the script has.
func (c *proposals) unused(flag string, s *migration.Script) error {
	for _, place := range slices.Sorted(maps.Keys(c.letters)) {
		if c.used[place] {
			continue
		}
		word := fmt.Sprintf("%s %s=%c", flag, place, c.letters[place])
		n, err := strconv.Atoi(place)
		switch {
		case err == nil && n <= len(s.Decisions):
			return usageError{fmt.Errorf("%s: place %d has the proposals a to %c", word, n, 'a'+len(s.Decisions[n-1].Proposals)-1)}
		case place == "all" && len(s.Decisions) == 0:
			continue
		case len(s.Decisions) == 0:
			return usageError{fmt.Errorf("%s: there is nothing to decide in this script; leave it out", word)}
		case err == nil:
			return usageError{fmt.Errorf("%s: the script has only %s to decide", word, count(len(s.Decisions), "place"))}
		}
		return usageError{fmt.Errorf("%s: no place has a proposal %c", word, c.letters[place])}
	}
	return nil
}

// writeMigration writes both scripts. A file that is there already is never
// touched.
func (a *app) writeMigration(ctx context.Context, f migrationFlags, b *between, there, back *migration.Script) error {
	name := f.name
	if name == "" {
		name = nameOf(there.Changes)
	}
	if err := a.saveScripts(ctx, b.before.Engine.Name, f.into, name, there, back, fmt.Sprintf("From %s to %s.", b.from, b.to)); err != nil {
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

func (a *app) prove(ctx context.Context, f migrationFlags, b *between, there, back *migration.Script) error {
	url := f.scratch
	if url == "" && b.project != nil {
		url = b.project.Database.Scratch
	}
	ways, err := registry.Drafting(b.before.Engine)
	if err != nil {
		return err
	}
	v := migration.Proving{Engine: ways, Before: b.before, After: b.after, There: there, Back: back, Renames: b.renames, Possible: b.possible}
	if v.ThereText, err = filledIn(f.script); err != nil {
		return err
	}
	if v.BackText, err = filledIn(f.scriptBack); err != nil {
		return err
	}
	if len(there.Open()) > 0 && v.ThereText == nil {
		a.showDecisionsOf(there)
		return a.openDecisions(there)
	}
	if f.rowsFrom != "" {
		source, err := read.Parse([]string{f.rowsFrom}, b.before.Engine.Name)
		if err != nil {
			return err
		}
		v.Rows = func(ctx context.Context, old *catalog.Catalog, exec func(ctx context.Context, statement string) error) ([]string, error) {
			return migration.CopyRows(ctx, ways, old, exec, func(ctx context.Context, query string) ([]string, error) { return read.Names(ctx, source, query) })
		}
	}
	report, done := a.progress("proving in a scratch database")
	report("")
	within := func(do func(db migration.Database) error) error {
		return read.InWorkspace(ctx, b.before.Engine.Name, url, a.trusted, func(w read.Workspace) error { return do(w) })
	}
	proof, err := migration.Prove(ctx, within, v)
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

// filledIn reads a script in which the decisions are filled in.
func filledIn(path string) ([]byte, error) {
	if path == "" {
		return nil, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.New("name the file of a script", "reading the script: %w", err)
	}
	if open := waiting.FindString(string(text)); open != "" {
		return nil, fault.New("fill in the places marked DECIDE, and remove those lines", "%s: the script waits for a decision: %s", path, open)
	}
	return text, nil
}

var waiting = regexp.MustCompile(`(?m)^(INSERT INTO widegate_open VALUES \(\d+\); )?DECIDE [\d, ]+;`)

// showDecisionsOf prints each open place with its proposals.
func (a *app) showDecisionsOf(s *migration.Script) {
	for _, d := range s.Open() {
		fmt.Fprintf(a.err, "  %d. %s\n", d.Number, printable.Line(d.Question))
		for i, p := range d.Proposals {
			fmt.Fprintf(a.err, "     %c. %s\n", 'a'+i, printable.Line(p.Title))
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
		a.say("  note: there are no rows in %s", name)
	}
	for _, line := range p.Refused {
		a.say("  refused: %s", line)
	}
	a.say("Run %s.", strings.Join(p.Ways, ", "))
	if len(p.Differs) == 0 {
		by := ""
		if p.Dumped {
			by = ", by the engine's own dump too"
		}
		a.say("The result reads as the new schema, after %s%s.", count(p.Statements, "statement"), by)
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
