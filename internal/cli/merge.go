package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/mod/modfile"

	"widegate/internal/fault"
	"widegate/internal/gomodule"
	"widegate/internal/merge"
	"widegate/internal/rooted"
)

// mergeFlags are those of `merge`.
type mergeFlags struct {
	report, renames, path string
	keep, bringBack       []string
}

func (a *app) mergeCommand() *cobra.Command {
	var flags mergeFlags
	cmd := &cobra.Command{
		Use:   "merge BASE MINE THEIRS",
		Short: "Merge three versions of a file or folder, by declarations",
		Long: `Brings the changes from BASE to THEIRS into MINE, which is changed in place. All
three are files, or all three are folders; MINE may then have files of your own.
Go is merged by declarations, fields and statements; YAML, JSON, SQL and
TypeScript by their structure; everything else by lines.

The exit status is 0 when everything was merged, and 3 when something needs
your decision: MINE is then as it was. With --path, as version control calls it,
both texts are then in MINE, between markers.`,
		Args: usage(cobra.ExactArgs(3)),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.merge(cmd.Context(), flags, args[0], args[1], args[2])
		},
	}
	cmd.Flags().StringVar(&flags.report, "report", "", "write conflicts and notices to this `FILE` as JSON")
	cmd.Flags().StringVar(&flags.renames, "renames", "", "read known renames from this JSON `FILE`")
	cmd.Flags().StringVar(&flags.path, "path", "", "the `NAME` of the file, where version control gives MINE a temporary name")
	cmd.Flags().StringArrayVar(&flags.keep, "keep", nil, "settle a place: `mine PLACE` or new PLACE")
	cmd.Flags().StringSliceVar(&flags.bringBack, "bring-back", nil, "make this `FILE` again, which MINE has no more")
	return cmd
}

func (a *app) merge(ctx context.Context, flags mergeFlags, base, mine, theirs string) error {
	options := &merge.Options{BringBack: flags.bringBack}
	var err error
	if options.Choices, err = choices(flags.keep); err != nil {
		return err
	}
	if flags.renames != "" {
		text, err := os.ReadFile(flags.renames)
		if err != nil {
			return fmt.Errorf("reading the renames: %w", err)
		}
		if err := json.Unmarshal(text, &options.Renames); err != nil {
			return fault.New(`write {"files": {"old.go": "new.go"}, "symbols": {"Old": "New"}}`, "%s holds no renames: %w", flags.renames, err)
		}
	}
	if flags.path != "" {
		return a.mergeBranches(ctx, flags, base, mine, theirs, options)
	}
	var result *merge.Result
	info, err := os.Stat(mine)
	if err != nil {
		return fmt.Errorf("reading MINE: %w", err)
	}
	for _, other := range []string{base, theirs} {
		if o, err := os.Stat(other); err == nil && o.IsDir() != info.IsDir() {
			return usageError{fmt.Errorf("BASE, MINE and THEIRS are all files, or all folders; %s is not as %s", other, mine)}
		}
	}
	if info.IsDir() {
		result, err = mergeFolders(ctx, base, mine, theirs, options)
	} else {
		result, err = mergeFiles(ctx, base, mine, theirs, options)
	}
	if err != nil {
		return err
	}
	if len(result.Conflicts) == 0 {
		result.Conflicts = protected(mine, info.IsDir(), result.Changed)
	}
	if flags.report != "" {
		if err := writeReport(flags.report, result); err != nil {
			return err
		}
	}
	if len(result.Conflicts) > 0 {
		a.showConflicts(result.Conflicts)
		return decisionError{fmt.Errorf("nothing was merged: %s must be decided on by you", count(len(result.Conflicts), "place"))}
	}
	for _, n := range result.Notices {
		fmt.Fprintf(a.err, "  %s\n", n)
	}
	if !info.IsDir() {
		for _, text := range result.Changed {
			return os.WriteFile(mine, text, info.Mode().Perm())
		}
		return nil
	}
	return putFiles(mine, result.Changed)
}

// choices reads what --keep was given.
func choices(list []string) ([]merge.Choice, error) {
	var all []merge.Choice
	for _, word := range list {
		side, place, ok := strings.Cut(word, " ")
		switch {
		case ok && side == "mine" && place != "":
			all = append(all, merge.Choice{Place: place, Side: merge.Mine})
		case ok && side == "new" && place != "":
			all = append(all, merge.Choice{Place: place, Side: merge.New})
		default:
			return nil, usageError{fmt.Errorf("--keep takes mine PLACE or new PLACE, not %q", word)}
		}
	}
	return all, nil
}

// mergeBranches is for version control: MINE has a temporary name, and what clashes
// is left in it between markers.
func (a *app) mergeBranches(ctx context.Context, flags mergeFlags, base, mine, theirs string, o *merge.Options) error {
	texts, err := readVersions(base, mine, theirs)
	if err != nil {
		return err
	}
	text, result := merge.Branches(ctx, filepath.ToSlash(flags.path), texts[0], texts[1], texts[2], o)
	if flags.report != "" {
		if err := writeReport(flags.report, result); err != nil {
			return err
		}
	}
	for _, n := range result.Notices {
		fmt.Fprintf(a.err, "  %s\n", n)
	}
	if err := os.WriteFile(mine, text, 0o644); err != nil {
		return fmt.Errorf("writing MINE: %w", err)
	}
	if len(result.Conflicts) == 0 {
		return nil
	}
	for _, c := range result.Conflicts {
		fmt.Fprintf(a.err, "  %s\n", c)
	}
	fmt.Fprintln(a.err, "  next: choose between the markers in the file, or write what should stand there, and delete the markers")
	return decisionError{fmt.Errorf("%s: you must decide on %s", flags.path, count(len(result.Conflicts), "place"))}
}

func readVersions(files ...string) ([][]byte, error) {
	var texts [][]byte
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("reading the versions: %w", err)
		}
		texts = append(texts, text)
	}
	return texts, nil
}

// mergeFiles merges one file; of Go what comes out is checked with the module that
// MINE lies in.
func mergeFiles(ctx context.Context, base, mine, theirs string, o *merge.Options) (*merge.Result, error) {
	texts, err := readVersions(base, mine, theirs)
	if err != nil {
		return nil, err
	}
	name := filepath.Base(mine)
	module, err := gomodule.Find(filepath.Dir(mine))
	if filepath.Ext(name) != ".go" || err != nil {
		return merge.Files(ctx, name, texts[0], texts[1], texts[2], o), nil
	}
	root, below, err := module.Place(mine)
	if err != nil {
		return nil, err
	}
	around, err := gomodule.Sources(root)
	if err != nil {
		return nil, err
	}
	o.Root, o.Module = root, module.Root()
	return merge.InTree(ctx, below, texts[0], texts[1], texts[2], around, o), nil
}

func mergeFolders(ctx context.Context, base, mine, theirs string, o *merge.Options) (*merge.Result, error) {
	var trees [3]merge.Tree
	for i, folder := range []string{base, mine, theirs} {
		tree, err := readTree(folder)
		if err != nil {
			return nil, err
		}
		trees[i] = tree
	}
	if list := leadingOut(mine, trees[0], trees[2]); len(list) > 0 {
		return &merge.Result{Conflicts: list}, nil
	}
	o.Root = mine
	if text, ok := trees[1]["go.mod"]; ok {
		o.Module = modfile.ModulePath(text)
	}
	return merge.Trees(ctx, trees[0], trees[1], trees[2], o), nil
}

// protected refuses to change files that may not be.
func protected(mine string, folder bool, changed merge.Tree) []merge.Conflict {
	var list []merge.Conflict
	for _, name := range slices.Sorted(maps.Keys(changed)) {
		at := mine
		if folder {
			at = filepath.Join(mine, filepath.FromSlash(name))
		}
		if info, err := os.Stat(at); err == nil && info.Mode().Perm()&0o200 == 0 {
			list = append(list, merge.Conflict{File: name, Line: 1, Class: "read-only", Message: "the file is write-protected and would change; give yourself the right to write it, then run again"})
		}
		if folder && !staysBelow(mine, name) {
			list = append(list, linkConflict(name))
		}
	}
	return list
}

// readTree reads all files below a folder but those of version control.
func readTree(folder string) (merge.Tree, error) {
	tree := merge.Tree{}
	home, err := os.OpenRoot(folder)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", folder, err)
	}
	defer home.Close()
	err = filepath.WalkDir(folder, func(at string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && strings.HasPrefix(entry.Name(), ".git"):
			return filepath.SkipDir
		case entry.IsDir():
			return nil
		}
		below, err := filepath.Rel(folder, at)
		if err != nil {
			return err
		}
		if info, err := home.Stat(below); err != nil || !info.Mode().IsRegular() {
			return nil // a link to a folder, to nowhere or out of this one, a socket
		}
		text, err := home.ReadFile(below)
		if err != nil {
			return err
		}
		tree[filepath.ToSlash(below)] = text
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", folder, err)
	}
	return tree, nil
}

func linkConflict(name string) merge.Conflict {
	return merge.Conflict{File: name, Line: 1, Class: "link", Message: "the file is, or lies behind, a link that leads out of the folder; move it in, and run again"}
}

// leadingOut are the files of a folder that are merged and are links which lead
// out of it.
func leadingOut(folder string, trees ...merge.Tree) []merge.Conflict {
	names := map[string]bool{}
	for _, tree := range trees {
		for name := range tree {
			names[name] = true
		}
	}
	var list []merge.Conflict
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if _, err := os.Stat(filepath.Join(folder, filepath.FromSlash(name))); err == nil && !staysBelow(folder, name) {
			list = append(list, linkConflict(name))
		}
	}
	return list
}

// staysBelow reports whether a path stays in a folder when links are followed.
func staysBelow(folder, name string) bool {
	home, err := os.OpenRoot(folder)
	if err != nil {
		return false
	}
	defer home.Close()
	_, err = home.Stat(filepath.FromSlash(name))
	return err == nil || errors.Is(err, fs.ErrNotExist) && rooted.Check(name) == nil
}

// putFiles brings the changes to disk, through links that stay in the folder.
func putFiles(folder string, changed merge.Tree) error {
	home, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer home.Close()
	for name, text := range changed {
		at := filepath.FromSlash(name)
		if text == nil {
			if err := home.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("removing %s: %w", name, err)
			}
			continue
		}
		if err := home.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return fmt.Errorf("writing %s: %w", name, err)
		}
		mode := fs.FileMode(0o644)
		if info, err := home.Stat(at); err == nil {
			mode = info.Mode().Perm()
		}
		if err := home.WriteFile(at, text, mode); err != nil {
			return fmt.Errorf("writing %s: %w", name, err)
		}
	}
	return nil
}

func writeReport(file string, result *merge.Result) error {
	report := struct {
		Conflicts []merge.Conflict `json:"conflicts"`
		Notices   []merge.Notice   `json:"notices"`
	}{result.Conflicts, result.Notices}
	if report.Conflicts == nil {
		report.Conflicts = []merge.Conflict{}
	}
	if report.Notices == nil {
		report.Notices = []merge.Notice{}
	}
	text, err := json.MarshalIndent(report, "", "  ")
	if err != nil {
		return fmt.Errorf("writing the report: %w", err)
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}
