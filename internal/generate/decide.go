package generate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/gomodule"
	"widegate/internal/merge"
	"widegate/internal/parallel"
	"widegate/internal/project"
)

// Decision says what happens to a file, and why.
type Decision struct {
	Path   string `json:"path"`
	Action Action `json:"action"`
	Reason string `json:"reason"`
}

// Action is what happens to a file.
type Action string

// The actions.
const (
	New     Action = "new"
	Changed Action = "changed" // not edited, and rendered anew
	Merged  Action = "merged"  // edited, and the new rendering brought in
	Same    Action = "same"
	Kept    Action = "kept"     // edited, and nothing to bring in
	Removed Action = "removed"  // no longer rendered
	LeftOut Action = "left out" // removed by the developer, and not made again
	Adopted Action = "adopted"  // was there already, just as it is rendered
	Blocked Action = "conflict" // a person must decide
)

// diskFile is what lies at a path.
type diskFile struct {
	text []byte // nil for nothing
	mode fs.FileMode
	real string // where links lead, below the root; empty without links
}

// readDisk reads what lies where files are rendered or were, and the other Go
// files of their folders and of the module.
func (plan *Plan) readDisk() error {
	if err := plan.lookAll(plan.allFiles()); err != nil {
		return err
	}
	return plan.readAround()
}

// lookAll reads files, several at a time.
func (plan *Plan) lookAll(names []string) error {
	found := make([]diskFile, len(names))
	faults := make([]error, len(names))
	parallel.Each(len(names), readers, func(i int) { found[i], faults[i] = plan.look(names[i]) })
	for i, name := range names {
		if faults[i] != nil {
			return faults[i]
		}
		if found[i].real != "" {
			plan.links[name] = found[i].real
		}
		if found[i].text != nil {
			plan.disk[name] = found[i]
		}
	}
	return nil
}

// readers is how many files are read at once.
const readers = 8

// look reads a file, through links that stay inside the root.
func (plan *Plan) look(name string) (diskFile, error) {
	at := filepath.Join(plan.home, filepath.FromSlash(name))
	real, err := plan.behind(at)
	if err != nil {
		return diskFile{}, fault.New("mend or remove the link", "%s is behind a link that leads nowhere: %w", name, err)
	}
	below, err := filepath.Rel(plan.home, real)
	if err != nil || !filepath.IsLocal(below) {
		return diskFile{}, fault.New("move it into the project, or leave it out", "%s is behind a link to %s, outside of the project", name, real)
	}
	f := diskFile{}
	if below = filepath.ToSlash(below); below != name {
		f.real = below
	}
	info, err := os.Lstat(real)
	if errors.Is(err, fs.ErrNotExist) {
		return f, nil
	}
	if err != nil {
		return f, fmt.Errorf("reading %s: %w", name, err)
	}
	if !info.Mode().IsRegular() {
		return f, fault.New("move it away, and write again", "%s is not a plain file", name)
	}
	f.mode = info.Mode().Perm()
	if f.text, err = os.ReadFile(real); err != nil {
		return f, fmt.Errorf("reading %s: %w", name, err)
	}
	if f.text == nil {
		f.text = []byte{}
	}
	return f, nil
}

// readAround reads the other Go files of the module.
func (plan *Plan) readAround() error {
	around, err := gomodule.Sources(plan.project.Root)
	if err != nil {
		return err
	}
	for name := range plan.disk {
		delete(around, name)
	}
	plan.around = around
	return nil
}

// behind is where a path leads when links are followed, whether something is
// there or not.
func (plan *Plan) behind(at string) (string, error) {
	if info, err := os.Lstat(at); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return filepath.EvalSymlinks(at)
	}
	plan.lock.Lock()
	defer plan.lock.Unlock()
	folder, err := plan.realFolder(filepath.Dir(at))
	return filepath.Join(folder, filepath.Base(at)), err
}

// realFolder is where a folder is, or will be made.
func (plan *Plan) realFolder(folder string) (string, error) {
	if real, known := plan.folders[folder]; known {
		return real, nil
	}
	real, err := filepath.EvalSymlinks(folder)
	if _, there := os.Lstat(folder); err != nil && errors.Is(there, fs.ErrNotExist) && folder != filepath.Dir(folder) {
		real, err = plan.realFolder(filepath.Dir(folder))
		real = filepath.Join(real, filepath.Base(folder))
	}
	if err == nil {
		plan.folders[folder] = real
	}
	return real, err
}

func (plan *Plan) allFiles() []string {
	names := plan.ledger.Written()
	for name := range plan.files {
		names = append(names, name)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// checkOptions refuses choices and files that mean nothing.
func (plan *Plan) checkOptions() error {
	names := plan.allFiles()
	for name := range plan.around {
		names = append(names, name)
	}
	for _, c := range merge.Unused(plan.options.Choices, names) {
		return fault.New("take a place from the report, such as store/hive.go:Hive.Name", "--keep: there is no file for %s", c.Place)
	}
	for _, b := range plan.options.BringBack {
		b = strings.TrimSuffix(filepath.ToSlash(b), "/")
		if b != "." && !slices.ContainsFunc(names, func(n string) bool { return n == b || strings.HasPrefix(n, b+"/") }) {
			return fault.New("name a file that was written, such as api/hive.go", "--bring-back: %s is no file that is generated", b)
		}
	}
	return nil
}

// merge brings the new texts together with what is on disk.
func (plan *Plan) merge(ctx context.Context) {
	base, mine, theirs := merge.Tree{}, merge.Tree{}, merge.Tree{}
	for name, text := range plan.ledger.Base {
		if !plan.starter(name) {
			base[name] = text
		}
	}
	for name, f := range plan.disk {
		mine[name] = f.text
	}
	for name, text := range plan.around {
		mine[name] = []byte(text)
	}
	maps.Copy(mine, plan.brought)
	for name, f := range plan.files {
		if !f.Starter {
			theirs[name] = f.Text
		}
	}
	p := plan.project
	options := &merge.Options{
		Choices: plan.options.Choices, BringBack: slices.Concat(plan.options.BringBack, plan.indispensable()), Module: plan.module.Path(), Root: p.Root,
		Outputs: []string{path.Clean(filepath.ToSlash(p.Code.Folder)), path.Clean(filepath.ToSlash(p.API.Folder))},
		Renames: plan.symbols, Unproven: plan.templated,
	}
	result := merge.Trees(ctx, base, mine, theirs, options)
	plan.changed, plan.Conflicts, plan.Notices = result.Changed, append(result.Conflicts, plan.lost...), result.Notices
	for name, text := range plan.brought {
		if _, changes := plan.changed[name]; !changes {
			plan.changed[name] = text
		}
	}
	plan.Breaks = plan.breaks(result.Conflicts)
	if plan.options.Tolerant && len(plan.Breaks) == 0 && len(result.Conflicts) > 0 {
		settled := *options
		for _, c := range result.Conflicts {
			settled.Choices = append(slices.Clone(settled.Choices), merge.Choice{Place: c.Place(), Side: merge.New})
		}
		plan.Breaks = plan.breaks(merge.Trees(ctx, base, mine, theirs, &settled).Conflicts)
	}
	for _, name := range plan.ledger.Mixed {
		at := path.Join(plan.ledger.Folder, name)
		if _, record := plan.ledger.Base[name]; record {
			at = plan.ledger.BasePath(name)
		}
		plan.Notices = append(plan.Notices, merge.Notice{File: at, Message: "two branches both wrote this record; it is rendered again"})
	}
	plan.starters()
	plan.guard()
	names := plan.allFiles()
	for _, name := range names {
		plan.Decisions = append(plan.Decisions, plan.decision(name))
	}
	for _, name := range slices.Sorted(maps.Keys(plan.changed)) {
		if _, found := slices.BinarySearch(names, name); !found {
			plan.Decisions = append(plan.Decisions, Decision{name, Changed, "your code, in which what is renamed is used"})
		}
	}
}

// indispensable are the files of the runtime that are gone, with all that they
// declare: nothing builds without them.
func (plan *Plan) indispensable() []string {
	var gone []string
	have := map[string]map[string]bool{}
	for _, name := range slices.Sorted(maps.Keys(plan.runtime)) {
		if plan.disk[name].text != nil || plan.ledger.Base[name] == nil {
			continue
		}
		folder := path.Dir(name)
		if have[folder] == nil {
			have[folder] = merge.Declared(plan.tree(folder))[folder]
		}
		declared := merge.Declared(merge.Tree{name: plan.ledger.Base[name]})[folder]
		if !slices.ContainsFunc(slices.Collect(maps.Keys(declared)), func(key string) bool { return have[folder][key] }) {
			gone = append(gone, name)
		}
	}
	return gone
}

// breaks are the places of the developer's own code that would not build. A place in
// a file that is rendered is none of them: there nothing that does not build is
// written, unless it is chosen for that place.
func (plan *Plan) breaks(list []merge.Conflict) []merge.Conflict {
	return slices.DeleteFunc(slices.Clone(list), func(c merge.Conflict) bool { return !c.Breaks() || plan.generated(c.File) })
}

// generated reports whether a file is or was rendered.
func (plan *Plan) generated(name string) bool {
	_, was := plan.ledger.Base[name]
	_, is := plan.files[name]
	return (was || is) && !plan.starter(name)
}

// manyFiles is how many files are removed without asking where the schema does not
// explain it.
const manyFiles = 3

// Unexplained are the files that the plan removes though their tables are still
// there, if they are many: a wrong setting may be the cause.
func (plan *Plan) Unexplained() []string {
	explained := map[string]bool{}
	for old := range plan.symbols.Files {
		explained[old] = true
	}
	if plan.Was != nil && plan.Catalog != nil {
		for _, e := range plan.Was.Entities {
			if _, there := plan.Catalog.Table(catalog.Split(plan.tableNow(e.Table.FullName()))); !there {
				explained[e.File] = true
			}
		}
	}
	var list []string
	for _, d := range plan.Decisions {
		if d.Action != Removed || explained[d.Path] || explained[strings.TrimSuffix(path.Base(d.Path), ".go")] {
			continue
		}
		list = append(list, d.Path)
	}
	if len(list) <= manyFiles {
		return nil
	}
	return list
}

func (plan *Plan) starter(name string) bool {
	f, rendered := plan.files[name]
	return rendered && f.Starter || !rendered && project.Starter(name)
}

// starters writes those that never were.
func (plan *Plan) starters() {
	for name, f := range plan.files {
		back := slices.Contains(plan.options.BringBack, name)
		if f.Starter && plan.disk[name].text == nil && (plan.ledger.Base[name] == nil || back) {
			plan.changed[name] = f.Text
		}
	}
}

// guard refuses to change files that may not be, and names that a file system
// without cases cannot tell apart.
func (plan *Plan) guard() {
	folders := map[string]map[string]string{}
	for _, name := range plan.allFiles() {
		known := slices.ContainsFunc(plan.Conflicts, func(c merge.Conflict) bool { return c.File == name && c.Class == "markers" })
		if line := plan.markers(name); line > 0 && !known {
			plan.refuse(name, "markers", "there are conflict markers in the file; settle them and run again")
			plan.Conflicts[len(plan.Conflicts)-1].Line = line
		}
	}
	owners := plan.ledger.Others(plan.project.Root)
	var foreign []string
	for _, name := range slices.Sorted(maps.Keys(plan.files)) {
		if owners[name] != "" && !plan.starter(name) {
			foreign = append(foreign, name)
		}
	}
	if len(foreign) > 0 {
		plan.refuse(foreign[0], "other-project", fmt.Sprintf("the file, and %d more, belongs to another project file of this folder, whose records are in %s; give one of the two other folders by code.folder and api.folder", len(foreign)-1, owners[foreign[0]]))
	}
	for _, name := range slices.Sorted(maps.Keys(plan.changed)) {
		on := plan.disk[name]
		switch {
		case on.text != nil && on.mode&0o200 == 0:
			plan.refuse(name, "read-only", "the file is write-protected and would change; give yourself the right to write it, then run again")
		case on.text == nil && plan.changed[name] != nil:
			folder := path.Dir(name)
			if folders[folder] == nil {
				folders[folder] = plan.folded(folder)
			}
			if other := folders[folder][strings.ToLower(path.Base(name))]; other != "" && other != path.Base(name) {
				plan.refuse(name, "case-clash", fmt.Sprintf("%s is there already, and differs only in upper and lower case; rename it, since not every file system tells them apart", path.Join(folder, other)))
			}
		}
		if on.text != nil && hardLinked(filepath.Join(plan.project.Root, filepath.FromSlash(name))) {
			plan.Notices = append(plan.Notices, merge.Notice{File: name, Message: "the file has another name too (a hard link), which keeps the old text"})
		}
	}
}

// markers is the line of the first marker of an unfinished merge in a file that was
// edited, or 0.
func (plan *Plan) markers(name string) int {
	text := plan.disk[name].text
	if text == nil || bytes.Equal(text, plan.ledger.Base[name]) {
		return 0
	}
	return merge.Markers(text)
}

func (plan *Plan) refuse(name, class, message string) {
	plan.Conflicts = append(plan.Conflicts, merge.Conflict{File: name, Line: 1, Class: class, Message: message})
}

// folded are the names in a folder by their lower case.
func (plan *Plan) folded(folder string) map[string]string {
	names := map[string]string{}
	entries, err := os.ReadDir(filepath.Join(plan.project.Root, filepath.FromSlash(folder)))
	if err != nil {
		return names // it is not there yet
	}
	for _, e := range entries {
		names[strings.ToLower(e.Name())] = e.Name()
	}
	return names
}

// sameSchema reports whether the schema is the one of the last write.
func (plan *Plan) sameSchema() bool { return bytes.Equal(plan.encoded, plan.ledger.Record) }

// decision says what happens to a file.
func (plan *Plan) decision(name string) Decision {
	d := Decision{Path: name}
	base, wasRendered := plan.ledger.Base[name]
	f, rendered := plan.files[name]
	mine := plan.disk[name].text
	now, changes := plan.changed[name]
	edited := mine != nil && wasRendered && !bytes.Equal(mine, base)
	switch {
	case slices.ContainsFunc(plan.Conflicts, func(c merge.Conflict) bool { return c.File == name }):
		d.Action, d.Reason = Blocked, "you must decide, see below"
	case changes && now == nil:
		d.Action, d.Reason = Removed, "the schema gives it no more"
		if plan.sameSchema() {
			d.Reason = "the project file, or this version of widegate, gives it no more"
		}
	case changes && mine == nil && plan.runtime[name] && wasRendered:
		d.Action, d.Reason = New, "brought back: nothing builds without it"
	case changes && mine == nil && wasRendered:
		d.Action, d.Reason = New, "brought back"
	case changes && mine == nil:
		d.Action, d.Reason = New, "the schema gives it now"
	case changes && edited && plan.sameSchema():
		d.Action, d.Reason = Merged, "your edits, and what the project file, a merge or this version of widegate changes"
	case changes && edited:
		d.Action, d.Reason = Merged, "your edits, and what the schema changes"
	case changes && plan.brought[name] != nil && bytes.Equal(now, plan.brought[name]):
		d.Action, d.Reason = Merged, "your edits, and those of the other branch"
	case changes && plan.sameSchema():
		d.Action, d.Reason = Changed, "the project file, a merge or this version of widegate changes it"
	case changes:
		d.Action, d.Reason = Changed, "the schema changes it"
	case f.Starter && mine != nil:
		d.Action, d.Reason = Same, "yours since it was written"
	case mine == nil && rendered:
		d.Action, d.Reason = LeftOut, "you removed it"
	case !wasRendered && mine != nil && rendered:
		d.Action, d.Reason = Adopted, "it was there already"
	case edited && rendered && !bytes.Equal(mine, f.Text):
		d.Action, d.Reason = Kept, "your edits; the schema does not touch it"
	default:
		d.Action, d.Reason = Same, "nothing changed"
	}
	return d
}

// Count returns the number of files with one of the actions.
func (plan *Plan) Count(actions ...Action) int {
	n := 0
	for _, d := range plan.Decisions {
		if slices.Contains(actions, d.Action) {
			n++
		}
	}
	return n
}

// Texts are those of a file before the plan and after it; nil stands for none.
func (plan *Plan) Texts(name string) (before, after []byte) {
	before = plan.disk[name].text
	if now, changes := plan.changed[name]; changes {
		return before, now
	}
	return before, before
}
