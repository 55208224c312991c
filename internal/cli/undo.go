package cli

import (
	"context"
	"fmt"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"widegate/internal/apply"
	"widegate/internal/merge"
	"widegate/internal/project"
)

// undoFlags are those of `undo`.
type undoFlags struct{ list, merge, redo bool }

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
	var merger apply.Merger
	if flags.merge {
		merger = func(name string, base, mine, theirs []byte) ([]byte, error) {
			result := merge.Files(ctx, name, base, mine, theirs, &merge.Options{Outputs: []string{"-"}})
			conflicts = append(conflicts, result.Conflicts...)
			if text, changed := result.Changed[name]; changed {
				return text, nil
			}
			return mine, nil
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

func when(e *apply.Entry) string { return e.At.Local().Format("2006-01-02 15:04:05") }

// files counts the files of a run, those of the ledger apart.
func files(e apply.Entry) string {
	return fmt.Sprintf("%d new, %d changed, %d removed", e.New, e.Changed, e.Removed)
}

// counted reports whether a path of a run is a file of the code.
func counted(name string) bool {
	return !strings.HasPrefix(name, project.LedgerFolder+"/") && path.Base(name) != ".gitignore"
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
