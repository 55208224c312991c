package generate

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"widegate/internal/catalog"
	"widegate/internal/merge"
	"widegate/internal/model"
	"widegate/internal/project"
)

// former returns a function that makes the model of the last write, with the
// names and the project file as they were before renames are carried into them.
func (plan *Plan) former(p *project.Project) func() *model.Model {
	names := project.NewNames()
	if text, err := json.Marshal(plan.ledger.Names); err == nil && json.Unmarshal(text, names) != nil {
		names = project.NewNames()
	}
	return func() *model.Model {
		if plan.Before == nil {
			return nil
		}
		m, err := model.Build(plan.Before, p, names)
		if err != nil { // the developer has brought the new names into the project file
			if p, err = plan.formerProject(); err == nil {
				m, err = model.Build(plan.Before, p, names)
			}
		}
		if err != nil {
			return nil // the project file goes with the new schema only
		}
		m.AddRoutines(plan.Before, p.Routines)
		return m
	}
}

// formerProject is the project file with the names of the last write.
func (plan *Plan) formerProject() (*project.Project, error) {
	text, err := os.ReadFile(plan.project.File)
	if err != nil {
		return nil, err
	}
	if text, err = project.Renamed(text, catalog.Reversed(plan.Renames)); err != nil {
		return nil, err
	}
	return project.Parse(plan.project.File, text)
}

// carryRenames brings renames into the names that were given and into the
// project file.
func (plan *Plan) carryRenames() error {
	if len(plan.Renames) == 0 {
		return nil
	}
	plan.ledger.Names.Rename(plan.Renames)
	file := plan.project.File
	if file == "" {
		return nil
	}
	var err error
	if plan.file, err = plan.look(filepath.Base(file)); err != nil {
		return err
	}
	now, err := project.Renamed(plan.file.text, plan.Renames)
	if err != nil || string(now) == string(plan.file.text) {
		return err
	}
	if plan.project, err = project.Parse(file, now); err != nil {
		return fmt.Errorf("with the new names: %w", err)
	}
	plan.renamed = now
	return nil
}

// fileName is the project file, by its slash path below the root, links followed.
func (plan *Plan) fileName() string {
	if plan.file.real != "" {
		return plan.file.real
	}
	return filepath.Base(plan.project.File)
}

// spelling is a name and what it is now.
type spelling struct {
	old, now string
	moves    bool   // something else has the old name now
	owner    string // of a field: the entity …
	table    string // … and the type of its table
}

// findSymbols finds what the new rendering calls otherwise: names that were
// declared, and are declared no more, while the same with the new names of
// entities and fields in them is.
func (plan *Plan) findSymbols() {
	plan.symbols = merge.Renames{Files: map[string]string{}, Symbols: map[string]string{}, Uses: plan.options.RewriteUses}
	if len(plan.Renames) == 0 || plan.Was == nil {
		return
	}
	spellings := plan.spellings()
	base, theirs := merge.Tree{}, merge.Tree{}
	for name, text := range plan.ledger.Base {
		base[name] = text
	}
	for name, f := range plan.files {
		theirs[name] = f.Text
	}
	for name := range base {
		if now := respelled(path.Base(name), spellings); theirs[name] == nil && now != path.Base(name) {
			if to := path.Join(path.Dir(name), now); theirs[to] != nil && base[to] == nil {
				plan.symbols.Files[name] = to
			}
		}
	}
	for name := range base { // of what is the same on both sides nothing is called otherwise, unless names change places
		if bytes.Equal(base[name], theirs[name]) && !mayMove(base[name], spellings) {
			delete(base, name)
			delete(theirs, name)
		}
	}
	declared, now := merge.Declared(base), merge.Declared(theirs)
	for folder, keys := range declared {
		moving := map[string]bool{} // whose name is another thing's now
		for key := range keys {
			if to := movedKey(key, spellings, now[folder]); to != "" {
				plan.symbols.Symbols[key], moving[key] = to, true
			}
		}
		for key := range keys {
			if to := renamedKey(key, spellings, now[folder], keys, moving); to != "" {
				plan.symbols.Symbols[key] = to
			}
		}
	}
}

// mayMove reports whether a text has a name that something else has now.
func mayMove(text []byte, spellings []spelling) bool {
	return slices.ContainsFunc(spellings, func(s spelling) bool {
		return s.moves && bytes.Contains(text, []byte(s.old)) && bytes.Contains(text, []byte(s.owner))
	})
}

// movedKey is the new name of a declaration whose name something else has now, or
// nothing.
func movedKey(key string, spellings []spelling, now map[string]bool) string {
	if !now[key] {
		return ""
	}
	owner, member, isMember := strings.Cut(key, ".")
	if !isMember {
		owner, member = "", key
	}
	to := respelled(member, slices.DeleteFunc(slices.Clone(spellings), func(s spelling) bool { return !s.moves || s.owner != "" && s.owner != owner && s.table != owner }))
	switch {
	case to == member:
		return ""
	case isMember && now[owner+"."+to] || !isMember && now[to]:
		return to
	}
	return ""
}

// renamedKey is the new name of a declaration, or nothing for one that stays.
func renamedKey(key string, spellings []spelling, now, before, moving map[string]bool) string {
	if now[key] {
		return ""
	}
	free := func(name string) bool { return now[name] && (!before[name] || moving[name]) }
	owner, member, isMember := strings.Cut(key, ".")
	for _, newOwner := range []string{owner, respelled(owner, spellings)} {
		if !isMember {
			if newOwner != owner && free(newOwner) {
				return newOwner
			}
			continue
		}
		if to := respelled(member, spellings); to != member && free(newOwner+"."+to) {
			return to
		}
	}
	return ""
}

// spellings are the names of what was renamed, the longest first.
func (plan *Plan) spellings() []spelling {
	var list []spelling
	add := func(old, now string) {
		if old != now && old != "" && now != "" {
			list = append(list, spelling{old: old, now: now})
		}
	}
	for _, e := range plan.Was.Entities {
		now := plan.entityNow(e)
		if now == nil {
			continue
		}
		add(e.Name, now.Name)
		add(e.Plural, now.Plural)
		add(e.Local, now.Local)
		add(e.File, now.File)
		add(lowered(e.Plural), lowered(now.Plural))
		add(lowered(e.Name), lowered(now.Name))
		for _, f := range e.Fields {
			if field := now.Field(plan.columnNow(now, f.Column.Name)); field != nil {
				before := len(list)
				add(f.Name, field.Name)
				if len(list) > before {
					list[before].moves = slices.ContainsFunc(now.Fields, func(x *model.Field) bool { return x.Name == f.Name })
					list[before].owner, list[before].table = e.Name, e.Local+"Table"
				}
			}
		}
		for _, r := range e.Relations {
			for _, x := range now.Relations {
				if x.Name != r.Name && plan.sameRelation(now, r, x) {
					add(r.Name, x.Name)
				}
			}
		}
	}
	for _, labels := range plan.labelNames() {
		add(labels[0], labels[1])
	}
	slices.SortStableFunc(list, func(a, b spelling) int { return cmp.Compare(len(b.old), len(a.old)) })
	return list
}

// labelNames are the constants of labels that were renamed, and what they are called
// now.
func (plan *Plan) labelNames() [][2]string {
	var names [][2]string
	for _, r := range plan.Renames {
		if r.Thing != catalog.RenamedLabel {
			continue
		}
		for _, e := range plan.Model.Entities {
			for _, f := range e.Fields {
				if f.Enum == nil || r.In != e.Table.FullName()+"."+f.Column.Name && r.In != f.Column.Type.Enum {
					continue
				}
				if was := plan.fieldBefore(e, f); was != nil && was.Enum != nil {
					names = append(names, [2]string{constantOf(was.Enum, r.From), constantOf(f.Enum, r.To)})
				}
			}
		}
	}
	return names
}

// fieldBefore is the field of the last write that is one of now.
func (plan *Plan) fieldBefore(e *model.Entity, f *model.Field) *model.Field {
	for _, was := range plan.Was.Entities {
		if plan.entityNow(was) != e {
			continue
		}
		for _, x := range was.Fields {
			if plan.columnNow(e, x.Column.Name) == f.Column.Name {
				return x
			}
		}
	}
	return nil
}

func constantOf(e *model.Enum, text string) string {
	for _, l := range e.Labels {
		if l.Text == text {
			return l.Name
		}
	}
	return ""
}

func lowered(name string) string {
	first, size := utf8.DecodeRuneInString(name)
	return string(unicode.ToLower(first)) + name[size:]
}

// tableNow is what a table is called now.
func (plan *Plan) tableNow(full string) string {
	for _, r := range plan.Renames {
		if r.Thing == catalog.RenamedTable && r.From == full {
			return r.To
		}
	}
	return full
}

// sameRelation reports whether a relation of the last write is one of an entity
// as it is now.
func (plan *Plan) sameRelation(e *model.Entity, was, now *model.Relation) bool {
	if was.Kind != now.Kind || was.Owned != now.Owned || plan.tableNow(was.To.Table.FullName()) != now.To.Table.FullName() || len(was.Pairs) != len(now.Pairs) {
		return false
	}
	for i, pair := range was.Pairs {
		if plan.columnNow(e, pair[0]) != now.Pairs[i][0] || plan.columnNow(now.To, pair[1]) != now.Pairs[i][1] {
			return false
		}
	}
	return was.Join == nil && now.Join == nil || was.Join != nil && now.Join != nil && plan.tableNow(was.Join.Table.FullName()) == now.Join.Table.FullName()
}

func (plan *Plan) entityNow(e *model.Entity) *model.Entity {
	return plan.Model.Entity(plan.tableNow(e.Table.FullName()))
}

func (plan *Plan) columnNow(e *model.Entity, column string) string {
	for _, r := range plan.Renames {
		if r.Thing == catalog.RenamedColumn && r.In == e.Table.FullName() && r.From == column {
			return r.To
		}
	}
	return column
}

// respelled puts the new names in place of the old ones, where they stand as
// words of a name.
func respelled(name string, spellings []spelling) string {
	var b strings.Builder
	for at := 0; at < len(name); {
		found := false
		for _, s := range spellings {
			if strings.HasPrefix(name[at:], s.old) && wordBegins(name, at) && wordEnds(name, at+len(s.old)) {
				b.WriteString(s.now)
				at += len(s.old)
				found = true
				break
			}
		}
		if !found {
			_, size := utf8.DecodeRuneInString(name[at:])
			b.WriteString(name[at : at+size])
			at += size
		}
	}
	return b.String()
}

// wordBegins reports whether a word of a name such as listHives begins there.
func wordBegins(name string, at int) bool {
	if at == 0 {
		return true
	}
	before, _ := utf8.DecodeLastRuneInString(name[:at])
	now, _ := utf8.DecodeRuneInString(name[at:])
	return !unicode.IsLetter(before) || unicode.IsLower(before) && unicode.IsUpper(now)
}

func wordEnds(name string, at int) bool {
	if at >= len(name) {
		return true
	}
	after, _ := utf8.DecodeRuneInString(name[at:])
	return !unicode.IsLower(after)
}
