package generate

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"widegate/internal/apply"
	"widegate/internal/merge"
	"widegate/internal/project"
	"widegate/internal/rooted"
)

// Version control can leave a file as one branch had it while its record is that of
// both, or of the other. The record then does not belong to the file: what the file
// lacks would count as removed by the developer. And what the other branch edited in
// the file is gone without a word.

// branches looks at the files that are as one branch had them: they are merged with
// the record of that branch, and edits of the other that they lack are asked about.
func (plan *Plan) branches(ctx context.Context) {
	repository := project.OpenRepository(ctx, plan.project.Root)
	if repository == nil {
		return
	}
	plan.loadSettled()
	for _, fork := range repository.Forks(ctx) {
		plan.oneSided(ctx, repository, fork)
	}
	plan.outrun(ctx, repository)
}

// side is a file and its record on a branch.
type side struct{ text, record []byte }

// oneSided looks for files that are just as one side of a fork has them, while the
// other side has edits in them.
func (plan *Plan) oneSided(ctx context.Context, repository *project.Repository, fork project.Fork) {
	changed := map[string]bool{}
	for _, revision := range []string{fork.Ours, fork.Theirs} {
		for _, name := range repository.Changed(ctx, fork.Base, revision) {
			changed[name] = true
		}
	}
	var names, files []string
	for _, name := range plan.ledger.Written() {
		if (changed[name] || changed[plan.ledger.BasePath(name)]) && plan.disk[name].text != nil && !plan.starter(name) {
			names = append(names, name)
			files = append(files, name, plan.ledger.BasePath(name))
		}
	}
	if len(names) == 0 {
		return
	}
	var versions [3]map[string][]byte
	for i, revision := range []string{fork.Base, fork.Ours, fork.Theirs} {
		texts, err := repository.Texts(ctx, revision, files...)
		if err != nil {
			return // a revision that is not there tells nothing
		}
		versions[i] = texts
	}
	for _, name := range names {
		var sides [3]side
		for i, texts := range versions {
			sides[i] = side{texts[name], texts[plan.ledger.BasePath(name)]}
		}
		switch mine := plan.disk[name].text; {
		case bytes.Equal(sides[1].text, sides[2].text):
		case bytes.Equal(mine, sides[1].text):
			plan.lacking(ctx, name, sides[0], sides[1], sides[2], fork.Theirs)
		case bytes.Equal(mine, sides[2].text):
			plan.lacking(ctx, name, sides[0], sides[2], sides[1], fork.Ours)
		}
	}
}

// lacking is for a file that is as one side has it: it is asked about what the other
// side edited in it.
func (plan *Plan) lacking(ctx context.Context, name string, base, here, other side, revision string) {
	if here.record == nil || other.record == nil || other.text == nil {
		return
	}
	plan.rebase(name, here.record)
	if bytes.Equal(other.text, other.record) || plan.settled[settlement(name, other.text)] {
		return // no edits in it, or none that are wanted
	}
	was := plan.carried(ctx, name, base, here.record)
	with := plan.carried(ctx, name, other, here.record)
	if was == nil {
		was = here.record
	}
	inside := slices.DeleteFunc(slices.Clone(plan.options.Choices), func(c merge.Choice) bool { return !strings.HasPrefix(c.Place, name+":") })
	both := merge.Files(ctx, name, was, here.text, with, &merge.Options{Branches: true, Outputs: []string{"-"}, Choices: inside})
	text, differs := both.Changed[name]
	if len(both.Conflicts) == 0 && !differs {
		return // all of them are
	}
	lost := merge.Conflict{File: name, Line: 1, Class: "other-branch", Message: fmt.Sprintf("the file is as one branch has it, and edits of the other (%.12s) are not in it%s; bring them in by --keep new, or leave them out by --keep mine", revision, firstAdded(here.text, text))}
	o := &merge.Options{Choices: plan.options.Choices}
	switch o.Kept(name) {
	case merge.Mine:
		plan.settled[settlement(name, other.text)] = true
	case merge.New:
		if plan.lost = append(plan.lost, both.Conflicts...); differs {
			plan.brought[name] = text
		}
	default:
		plan.lost = append(plan.lost, lost)
	}
}

// settlement is a line that says that the edits of another branch in a file are left
// out.
func settlement(name string, text []byte) string {
	return string(apply.StateOf(text)) + " " + name
}

// settledFile is below the root, and stays on this machine.
func (plan *Plan) settledFile() string { return plan.ledger.Folder + "/" + project.SettledFile }

// loadSettled reads what was left out before.
func (plan *Plan) loadSettled() {
	plan.settled = map[string]bool{}
	home, err := rooted.Open(plan.home)
	if err != nil {
		return
	}
	defer home.Close()
	text, err := home.Read(plan.settledFile())
	if err != nil {
		return // it is asked again
	}
	for line := range strings.Lines(string(text)) {
		plan.settled[strings.TrimSuffix(line, "\n")] = true
	}
}

// saveSettled keeps it.
func (plan *Plan) saveSettled() error {
	if len(plan.settled) == 0 {
		return nil
	}
	home, err := rooted.Open(plan.home)
	if err != nil {
		return err
	}
	defer home.Close()
	text := strings.Join(slices.Sorted(maps.Keys(plan.settled)), "\n") + "\n"
	if err := home.Write(plan.settledFile(), []byte(text), 0o644); err != nil {
		return fmt.Errorf("noting what is left out: %w", err)
	}
	return nil
}

// carried are the edits that a side has in a file, on another rendering.
func (plan *Plan) carried(ctx context.Context, name string, s side, onto []byte) []byte {
	if s.text == nil || s.record == nil {
		return s.text
	}
	r := merge.Files(ctx, name, s.record, s.text, onto, &merge.Options{Branches: true, Outputs: []string{"-"}, Choices: []merge.Choice{{Place: name, Side: merge.Mine}}})
	if text, changed := r.Changed[name]; changed {
		return text
	}
	return s.text
}

// firstAdded shows the first line that a text has and another has not.
func firstAdded(from, to []byte) string {
	have := map[string]bool{}
	for line := range bytes.Lines(from) {
		have[strings.TrimSpace(string(line))] = true
	}
	for line := range bytes.Lines(to) {
		if text := strings.TrimSpace(string(line)); text != "" && !have[text] {
			return fmt.Sprintf(", such as `%s`", text)
		}
	}
	return ""
}

// rebase merges a file with another record than the one that lies there.
func (plan *Plan) rebase(name string, record []byte) {
	plan.rebased[name] = true
	plan.ledger.Base[name] = record
}

// pastRevisions is how far back the text of a file is looked for.
const pastRevisions = 40

// outrun finds files whose record has things that they lack, while version control has
// just this text with an earlier record that lacks them too: the record has gone on
// without the file, as after taking one side of a conflict in it. The earlier one is
// theirs.
func (plan *Plan) outrun(ctx context.Context, repository *project.Repository) {
	have := map[string]map[string]bool{} // by folder
	for _, name := range plan.ledger.Written() {
		mine, record := plan.disk[name].text, plan.ledger.Base[name]
		if mine == nil || path.Ext(name) != ".go" || bytes.Equal(mine, record) || plan.starter(name) {
			continue
		}
		folder := path.Dir(name)
		if have[folder] == nil {
			have[folder] = merge.Declared(plan.tree(folder))[folder]
		}
		missing := merge.Declared(merge.Tree{name: record})[folder]
		maps.DeleteFunc(missing, func(key string, _ bool) bool { return have[folder][key] })
		if len(missing) == 0 {
			continue
		}
		at := plan.ledger.BasePath(name)
		past, err := repository.History(ctx, repository.Revisions(ctx, pastRevisions, name, at), name, at)
		if err != nil {
			continue // what cannot be read tells nothing
		}
		for _, texts := range past {
			if !bytes.Equal(texts[name], mine) || texts[at] == nil || bytes.Equal(texts[at], record) {
				continue
			}
			then := merge.Declared(merge.Tree{name: texts[at]})[folder]
			if slices.ContainsFunc(slices.Collect(maps.Keys(missing)), func(key string) bool { return !then[key] }) {
				plan.rebase(name, texts[at])
				break
			}
		}
	}
}

// tree is the Go files of a folder as they are on disk.
func (plan *Plan) tree(folder string) merge.Tree {
	tree := merge.Tree{}
	for name, f := range plan.disk {
		if path.Dir(name) == folder {
			tree[name] = f.text
		}
	}
	for name, text := range plan.around {
		if path.Dir(name) == folder {
			tree[name] = []byte(text)
		}
	}
	return tree
}
