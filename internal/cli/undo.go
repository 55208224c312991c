package cli

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"widegate/internal/apply"
	"widegate/internal/gomodule"
	"widegate/internal/merge"
	"widegate/internal/project"
)

// undoFlags are those of `undo`.
type undoFlags struct {
	list, merge, redo bool
	keep              []string
}

func (a *app) undoCommand() *cobra.Command {
	var flags undoFlags
	cmd := &cobra.Command{
		Use:   "undo",
		Short: "Take the last write back",
		Long: `Puts every file back as it was before the last write, and the records with them;
run again, the write before. A file that was edited since stops it, and nothing
is changed; with --merge those edits are kept and only the write's own changes
are taken out. The history is kept on this machine: the last 20 writes.`,
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error { return a.undo(cmd.Context(), flags) },
	}
	cmd.Flags().BoolVar(&flags.list, "list", false, "list the writes that can be taken back")
	cmd.Flags().BoolVar(&flags.merge, "merge", false, "keep edits made since the write")
	cmd.Flags().StringArrayVar(&flags.keep, "keep", nil, "with --merge, settle a place: `mine PLACE` or new PLACE")
	cmd.Flags().BoolVar(&flags.redo, "redo", false, "bring back what the last undo took back")
	return cmd
}

func (a *app) undo(ctx context.Context, flags undoFlags) error {
	p, err := project.Load(a.config)
	if err != nil {
		return err
	}
	store, err := a.open(p)
	if err != nil {
		return err
	}
	defer store.Close()
	if flags.list {
		return a.listHistory(store)
	}
	var conflicts []merge.Conflict
	var notices []merge.Notice
	var merger apply.Merger
	settled, err := choices(flags.keep)
	if err != nil {
		return err
	}
	if len(settled) > 0 && !flags.merge {
		return usageError{errors.New("--keep goes with --merge")}
	}
	if flags.merge {
		merger = func(files map[string]apply.Versions) (map[string][]byte, error) {
			result, err := mergeBack(ctx, p, files, settled)
			if err != nil {
				return nil, err
			}
			conflicts, notices = result.Conflicts, result.Notices
			return result.Changed, nil
		}
	}
	history, err := store.History(counted)
	if err != nil {
		return err
	}
	a.changing.Lock() // it is not left in the middle
	entry, err := store.Undo(ctx, flags.redo, merger, func() bool { return len(conflicts) > 0 })
	a.changing.Unlock()
	if len(conflicts) > 0 {
		a.showConflicts(conflicts)
		return decisionError{fmt.Errorf("nothing was taken back: %s must be decided on by you", count(len(conflicts), "place"))}
	}
	if err != nil {
		return err
	}
	a.showNotices(notices)
	verb := "Took back"
	if flags.redo {
		verb = "Brought back"
	}
	for _, e := range history {
		if e.ID == entry.ID {
			a.say("%s the %s of %s: %s.", verb, e.Kind, when(&e), files(e))
		}
	}
	return nil
}

// mergeBack takes what a write made out of files that were edited since.
func mergeBack(ctx context.Context, p *project.Project, files map[string]apply.Versions, settled []merge.Choice) (*merge.Result, error) {
	module, err := gomodule.Find(p.Root)
	if err != nil {
		return nil, err
	}
	sources, err := gomodule.Sources(p.Root)
	if err != nil {
		return nil, err
	}
	base, mine, theirs := merge.Tree{}, merge.Tree{}, merge.Tree{}
	for name, text := range sources {
		mine[name] = []byte(text)
	}
	put := func(tree merge.Tree, name string, text []byte) {
		delete(tree, name)
		if text != nil {
			tree[name] = text
		}
	}
	for name, v := range files {
		put(base, name, v.Base)
		put(mine, name, v.Mine)
		put(theirs, name, v.Theirs)
	}
	return merge.Trees(ctx, base, mine, theirs, &merge.Options{
		Choices: settled, Module: module.Path(), Root: p.Root, Outputs: []string{"-"}, Theirs: "the text from before the write",
	}), nil
}

func when(e *apply.Entry) string { return e.At.Local().Format("2006-01-02 15:04:05") }

// files counts the files of a run, those of the ledger apart.
func files(e apply.Entry) string {
	return fmt.Sprintf("%d new, %d changed, %d removed", e.New, e.Changed, e.Removed)
}

// counted reports whether a path of a run is a file of the code.
func counted(name string) bool {
	return !strings.HasPrefix(name, ".widegate") && path.Base(name) != ".gitignore"
}

func (a *app) listHistory(store *apply.Store) error {
	list, err := store.History(counted)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		a.say("There is no write to take back.")
		return nil
	}
	rows := columns{titles: []string{"when", "what", "files", ""}}
	for i := range list {
		state := ""
		switch {
		case list[i].Undone:
			state = "taken back"
		case list[i].Foreign:
			state = "not yours, or made in another folder: undo leaves it"
		}
		rows.add(when(&list[i]), list[i].Kind, files(list[i]), state)
	}
	rows.print(a)
	return nil
}
