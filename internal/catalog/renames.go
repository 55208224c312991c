package catalog

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Rename says that something is called otherwise in a later schema.
type Rename struct {
	Thing string `json:"thing"`        // table, column, enum or label
	In    string `json:"in,omitempty"` // full name of the column's table, or of the label's enum, in the later schema
	From  string `json:"from"`         // tables and enums by their full names
	To    string `json:"to"`

	Confidence float64 `json:"confidence"` // from 0 to 1; 1 where a person said so
	Why        string  `json:"why,omitempty"`
}

// The things that are renamed.
const (
	RenamedTable  = "table"
	RenamedColumn = "column"
	RenamedEnum   = "enum"
	RenamedLabel  = "label"
)

// String is how the rename is written, as in hive.title=name.
func (r Rename) String() string {
	if r.In == "" {
		return r.From + "=" + r.To
	}
	return r.In + "." + r.From + "=" + r.To
}

func (r Rename) change() Change {
	return Change{Kind: Renamed, Thing: r.Thing, In: r.In, Name: r.To, Was: r.From, Now: r.To, Text: fmt.Sprintf("the %s %s is called %s now", r.Thing, r.From, r.To)}
}

// clone copies all of a catalog that renaming changes.
func (c *Catalog) clone() *Catalog {
	out := *c
	out.Tables = slices.Clone(c.Tables)
	for i := range out.Tables {
		t := &out.Tables[i]
		t.Columns = slices.Clone(t.Columns)
		for k := range t.Columns {
			t.Columns[k].Type = t.Columns[k].Type.clone()
		}
		if t.PrimaryKey != nil {
			key := *t.PrimaryKey
			key.Columns = slices.Clone(key.Columns)
			t.PrimaryKey = &key
		}
		t.Uniques = slices.Clone(t.Uniques)
		for k := range t.Uniques {
			t.Uniques[k].Columns = slices.Clone(t.Uniques[k].Columns)
		}
		t.References = slices.Clone(t.References)
		for k := range t.References {
			t.References[k].Columns = slices.Clone(t.References[k].Columns)
			t.References[k].Target = slices.Clone(t.References[k].Target)
		}
		t.Indexes = slices.Clone(t.Indexes)
		for k := range t.Indexes {
			t.Indexes[k].Columns = slices.Clone(t.Indexes[k].Columns)
		}
		t.Checks = slices.Clone(t.Checks)
		t.Triggers = slices.Clone(t.Triggers)
		t.Extras = slices.Clone(t.Extras)
		for k := range t.Columns {
			if def := t.Columns[k].Default; def != nil {
				own := *def
				t.Columns[k].Default = &own
			}
		}
	}
	out.Enums = slices.Clone(c.Enums)
	for i := range out.Enums {
		out.Enums[i].Labels = slices.Clone(out.Enums[i].Labels)
	}
	return &out
}

func (t Type) clone() Type {
	if t.Element != nil {
		inner := t.Element.clone()
		t.Element = &inner
	}
	return t
}

// Renamed returns the catalog as it is once the renames have been carried out,
// in all that refers to what they name, expressions of their table included.
// Texts of views stay.
func (c *Catalog) Renamed(list []Rename) *Catalog {
	if len(list) == 0 {
		return c
	}
	out := c.clone()
	for _, kind := range []string{RenamedTable, RenamedEnum, RenamedColumn, RenamedLabel} {
		for _, r := range list { // those of a name that moves on are in order
			if r.Thing == kind {
				out.rename(r)
			}
		}
	}
	return out
}

// Reversed are the renames of the way back.
func Reversed(renames []Rename) []Rename {
	list := slices.Clone(renames)
	for i := range list {
		r := &list[i]
		r.From, r.To = r.To, r.From
		for _, outer := range renames {
			if (outer.Thing == RenamedTable || outer.Thing == RenamedEnum) && outer.To == r.In {
				r.In = outer.From
			}
		}
	}
	return list
}

// Split takes a full name apart. Names of tables may hold a dot only where
// there is a schema in front of it.
func Split(full string) (schema, name string) {
	if before, after, ok := strings.Cut(full, "."); ok {
		return before, after
	}
	return "", full
}

func (c *Catalog) rename(r Rename) {
	switch r.Thing {
	case RenamedTable:
		c.renameTable(r)
	case RenamedColumn:
		c.renameColumn(r)
	case RenamedEnum:
		for i := range c.Enums {
			if e := &c.Enums[i]; Qualify(e.Schema, e.Name) == r.From {
				e.Schema, e.Name = Split(r.To)
			}
		}
		c.eachType(func(t *Type, declared *string) {
			if t.Enum == r.From {
				t.Enum = r.To
				if declared != nil {
					*declared = strings.ReplaceAll(*declared, r.From, r.To)
				}
			}
		})
	case RenamedLabel:
		c.renameColumnLabel(r)
		for i := range c.Enums {
			if e := &c.Enums[i]; Qualify(e.Schema, e.Name) == r.In {
				for k := range e.Labels {
					if e.Labels[k] == r.From {
						e.Labels[k] = r.To
					}
				}
			}
		}
	}
}

// followed are the texts about a table in which an engine follows a rename
// by itself.
func (t *Table) followed(change func(text string) string) {
	if t.PrimaryKey != nil {
		t.PrimaryKey.Definition = change(t.PrimaryKey.Definition)
	}
	for i := range t.Uniques {
		t.Uniques[i].Definition = change(t.Uniques[i].Definition)
	}
	for i := range t.Indexes {
		t.Indexes[i].Definition = change(t.Indexes[i].Definition)
	}
	for i := range t.References {
		t.References[i].Definition = change(t.References[i].Definition)
	}
	for i := range t.Extras {
		t.Extras[i].Make, t.Extras[i].Undo = change(t.Extras[i].Make), change(t.Extras[i].Undo)
	}
}

// keepSequences notes the names that the columns' own sequences keep when the
// table or the column gets another name.
func (t *Table) keepSequences(column string) {
	for i := range t.Columns {
		c := &t.Columns[i]
		if def := c.Default; def != nil && def.Kind == Identity && def.Sequence == "" && def.Own == "" && (column == "" || c.Name == column) {
			def.Own = t.Name + "_" + c.Name + "_seq"
		}
	}
}

// settleSequences leaves out the names that are the usual ones again.
func (t *Table) settleSequences() {
	for i := range t.Columns {
		c := &t.Columns[i]
		if def := c.Default; def != nil && def.Own == t.Name+"_"+c.Name+"_seq" {
			def.Own = ""
		}
	}
}

func (c *Catalog) renameTable(r Rename) {
	schema, name := Split(r.To)
	_, was := Split(r.From)
	for i := range c.Tables {
		t := &c.Tables[i]
		if t.FullName() == r.From {
			if c.Engine.OwnedSequences {
				t.keepSequences("")
			}
			t.Schema, t.Name = schema, name
			if c.Engine.OwnedSequences {
				t.settleSequences()
			}
			if c.Engine.Follows {
				t.followed(func(text string) string { return replaceWord(text, was, name) })
			}
			for k := range t.Triggers {
				if c.Engine.Follows {
					t.Triggers[k].Definition = replaceWord(t.Triggers[k].Definition, was, name)
				}
			}
		}
		for k := range t.References {
			if ref := &t.References[k]; Qualify(ref.Schema, ref.Table) == r.From {
				ref.Schema, ref.Table = schema, name
			}
		}
		for k := range t.Inherits {
			if t.Inherits[k] == r.From {
				t.Inherits = slices.Clone(t.Inherits)
				t.Inherits[k] = r.To
			}
		}
	}
}

func (c *Catalog) renameColumn(r Rename) {
	swap := func(list []string) {
		for i := range list {
			if list[i] == r.From {
				list[i] = r.To
			}
		}
	}
	for i := range c.Tables {
		t := &c.Tables[i]
		for k := range t.References {
			if ref := &t.References[k]; Qualify(ref.Schema, ref.Table) == r.In {
				swap(ref.Target)
			}
		}
		if t.FullName() != r.In {
			continue
		}
		if c.Engine.OwnedSequences {
			t.keepSequences(r.From)
		}
		if c.Engine.Follows {
			t.followed(func(text string) string { return replaceWord(text, r.From, r.To) })
		}
		if c.Engine.TriggersFollow { // into the parts of a trigger that are not its function
			for k := range t.Triggers {
				t.Triggers[k].Definition = replaceWord(t.Triggers[k].Definition, r.From, r.To)
			}
		}
		for k := range t.Columns {
			if t.Columns[k].Name == r.From {
				t.Columns[k].Name = r.To
			}
			t.Columns[k].Generated = replaceWord(t.Columns[k].Generated, r.From, r.To)
		}
		for k := range t.Checks {
			t.Checks[k].Expr = replaceWord(t.Checks[k].Expr, r.From, r.To)
			if c.Engine.ColumnChecks && t.Checks[k].Name == r.From { // one of the column itself
				t.Checks[k].Name = r.To
			}
		}
		t.settleSequences()
		if t.PrimaryKey != nil {
			swap(t.PrimaryKey.Columns)
		}
		for k := range t.Uniques {
			swap(t.Uniques[k].Columns)
		}
		for k := range t.References {
			swap(t.References[k].Columns)
		}
		for k := range t.Indexes {
			in := &t.Indexes[k]
			in.Where = replaceWord(in.Where, r.From, r.To)
			swap(in.Columns)
			for n := range in.Columns {
				if strings.HasPrefix(in.Columns[n], "(") {
					in.Columns[n] = replaceWord(in.Columns[n], r.From, r.To)
				}
			}
		}
	}
}

// ReplaceWord puts one name in place of another in a text of SQL, where it
// stands as a word and in no literal.
func ReplaceWord(text, from, to string) string { return replaceWord(text, from, to) }

func replaceWord(text, from, to string) string {
	if from == "" || !strings.Contains(text, from) {
		return text
	}
	var b strings.Builder
	for at := 0; at < len(text); {
		i := strings.Index(text[at:], from)
		if i < 0 {
			b.WriteString(text[at:])
			break
		}
		if quote := strings.IndexByte(text[at:], '\''); quote >= 0 && quote < i {
			end := strings.IndexByte(text[at+quote+1:], '\'')
			if end < 0 {
				b.WriteString(text[at:])
				break
			}
			next := at + quote + 1 + end + 1
			b.WriteString(text[at:next])
			at = next
			continue
		}
		start, end := at+i, at+i+len(from)
		if (start == 0 || !wordByte(text[start-1])) && (end >= len(text) || !wordByte(text[end])) {
			b.WriteString(text[at:start] + to)
		} else {
			b.WriteString(text[at:end])
		}
		at = end
	}
	return b.String()
}

func wordByte(c byte) bool {
	return c == '_' || c == '$' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

// eachType visits the types of all columns, and what they are declared as.
func (c *Catalog) eachType(do func(t *Type, declared *string)) {
	for i := range c.Tables {
		for k := range c.Tables[i].Columns {
			column := &c.Tables[i].Columns[k]
			declared := &column.Declared
			for t := &column.Type; t != nil; t = t.Element {
				do(t, declared)
			}
		}
	}
}

// Likely is the confidence from which a rename is taken for one unless
// somebody says otherwise.
const Likely = 0.75

// possible is the confidence from which a rename is worth asking about.
const possible = 0.5

// Alike says from 0 to 1 how many values two columns have in common, the first of
// the old schema and the second of the new one; it is false where that cannot be
// known.
type Alike func(old, now *Table, was, is string) (float64, bool)

// FindRenames tells renames from what was dropped while something like it was
// added: by names, types, places, keys, references and, where alike is not nil,
// data. Those that are given hold; one whose To is empty says that what it names
// was dropped.
func FindRenames(before, after *Catalog, given []Rename, alike Alike) []Rename {
	f := &finder{before: before, after: after, given: given, alike: alike}
	f.things(RenamedEnum, f.enumPairs())
	f.things(RenamedTable, f.tablePairs())
	moved := before.Renamed(f.found)
	for i := range after.Tables {
		now := &after.Tables[i]
		if old, ok := moved.Table(now.Schema, now.Name); ok && !now.IsView() && !old.IsView() {
			f.columns(moved, old, now)
		}
	}
	for _, now := range after.Enums {
		if old, ok := moved.Enum(Qualify(now.Schema, now.Name)); ok {
			f.labels(*old, now)
		}
	}
	f.columnLabels(before.Renamed(f.found))
	return f.found
}

type finder struct {
	before, after *Catalog
	given, found  []Rename
	alike         Alike

	columnCounts map[string]int
	siblings     map[[2]string]int // how many tables lost the one column and gained the other
}

// pair is a thing that is gone and one that is new.
type pair struct {
	in, from, to string
	score        float64
	why          string
}

// settled is what a person said of something that is gone.
func (f *finder) settled(thing, in, from string) (Rename, bool) {
	for _, r := range f.given {
		if r.Thing == thing && f.newName(r.In) == in && r.From == from {
			r.In = in
			return r, true
		}
	}
	return Rename{}, false
}

// newName is what a table or an enum is called now.
func (f *finder) newName(full string) string {
	for _, r := range f.found {
		if (r.Thing == RenamedTable || r.Thing == RenamedEnum) && r.From == full {
			return r.To
		}
	}
	return full
}

// things takes the best pairs, each thing once.
func (f *finder) things(thing string, pairs []pair) {
	slices.SortStableFunc(pairs, func(a, b pair) int {
		return cmp.Or(cmp.Compare(b.score, a.score), strings.Compare(a.from, b.from), strings.Compare(a.to, b.to))
	})
	froms, tos := map[string]bool{}, map[string]bool{}
	for _, p := range pairs {
		if r, ok := f.settled(thing, p.in, p.from); ok && r.To == p.to {
			froms[p.from], tos[p.to] = true, true
			r.Confidence, r.Why = 1, "as you said"
			f.found = append(f.found, r)
		}
	}
	for _, p := range pairs {
		_, told := f.settled(thing, p.in, p.from)
		if told || froms[p.from] || tos[p.to] || p.score < possible {
			continue
		}
		froms[p.from], tos[p.to] = true, true
		f.found = append(f.found, Rename{Thing: thing, In: p.in, From: p.from, To: p.to, Confidence: float64(int(p.score*100)) / 100, Why: p.why})
	}
}

// mostPairs is the largest number of pairs of a dropped and an added thing that
// are weighed. Above it, only renames that a person names are taken.
const mostPairs = 40_000

// worth reports whether a pair, one of many, is weighed.
func (f *finder) worth(many int, thing, in, from, to string) bool {
	if many <= mostPairs {
		return true
	}
	r, told := f.settled(thing, in, from)
	return told && r.To == to
}

// onlyTables are the tables that only one of two catalogs has.
func onlyTables(c, other *Catalog) []*Table {
	known := map[string]bool{}
	for i := range other.Tables {
		known[other.Tables[i].FullName()] = true
	}
	var list []*Table
	for i := range c.Tables {
		if !known[c.Tables[i].FullName()] {
			list = append(list, &c.Tables[i])
		}
	}
	return list
}

func (f *finder) tablePairs() []pair {
	var pairs []pair
	gone, fresh := onlyTables(f.before, f.after), onlyTables(f.after, f.before)
	for _, old := range gone {
		for _, now := range fresh {
			if now.IsView() != old.IsView() || !f.worth(len(gone)*len(fresh), RenamedTable, "", old.FullName(), now.FullName()) {
				continue
			}
			score, why := f.tableLikeness(old, now)
			pairs = append(pairs, pair{from: old.FullName(), to: now.FullName(), score: score, why: why})
		}
	}
	return pairs
}

// tableLikeness weighs the columns that few tables have: that two tables have an
// id, a name and a time says little.
func (f *finder) tableLikeness(old, now *Table) (float64, string) {
	same, own, ownSame := 0, 0, 0
	for i := range old.Columns {
		was := &old.Columns[i]
		c, ok := now.Column(was.Name)
		if !ok {
			c, ok = now.folded(was.Name)
		}
		ok = ok && sameFamily(was.Type, c.Type)
		if ok {
			same++
		}
		if !f.common(was.Name) {
			own++
			if ok {
				ownSame++
			}
		}
	}
	for i := range now.Columns {
		if _, there := old.Column(now.Columns[i].Name); !there && !f.common(now.Columns[i].Name) {
			own++
		}
	}
	columns := ratio(2*same, len(old.Columns)+len(now.Columns))
	rare := ratio(ownSame, own)
	if own == 0 {
		rare = 0.5
	}
	why := fmt.Sprintf("%d of %d columns are the same", same, len(old.Columns))
	related := relatedNames(old.Name, now.Name)
	moved := old.Name == now.Name
	followed := f.referencesFollow(old, now)
	score := 0.55*columns + 0.15*rare
	switch {
	case strings.EqualFold(old.FullName(), now.FullName()) && columns >= 0.5:
		return 0.97, "the same name in other letters, " + why
	case moved && columns >= 0.6:
		return 0.95, "the same name in another schema, " + why
	case keyText(old.PrimaryKey) != keyText(now.PrimaryKey):
		score -= 0.2
	case columns >= 0.6 && related && (rare >= 0.5 || followed):
		return 0.92, why + ", and the names are related"
	case columns >= 0.6 && followed:
		return 0.92, why + ", and what referred to the one refers to the other"
	case columns >= 0.8 && ownSame >= 2 && rare >= 0.7:
		return 0.9, why
	case columns >= 0.5 && rare >= 0.5 && related:
		return 0.8, why + ", and the names are related"
	}
	if related {
		score += 0.1
	}
	return min(score, 0.7), why
}

// folded is the column of that name in whatever letters.
func (t *Table) folded(name string) (*Column, bool) {
	for i := range t.Columns {
		if strings.EqualFold(t.Columns[i].Name, name) {
			return &t.Columns[i], true
		}
	}
	return nil, false
}

// common reports whether many tables have a column of that name.
func (f *finder) common(column string) bool {
	if f.columnCounts == nil {
		f.columnCounts = map[string]int{}
		for _, t := range f.before.Tables {
			for _, c := range t.Columns {
				f.columnCounts[c.Name]++
			}
		}
	}
	switch column {
	case "id", "name", "title", "description", "created_at", "updated_at", "deleted_at", "note", "notes", "position", "code", "kind", "type", "status":
		return true
	}
	return f.columnCounts[column] > 1+len(f.before.Tables)/3
}

// referencesFollow reports whether a table that stays referred to the old one and
// now refers to the new one by the same column or in the same place.
func (f *finder) referencesFollow(old, now *Table) bool {
	for i := range f.before.Tables {
		t := &f.before.Tables[i]
		later, ok := f.after.Table(t.Schema, t.Name)
		if !ok {
			continue
		}
		for _, r := range t.References {
			if r.Schema != old.Schema || r.Table != old.Name {
				continue
			}
			if slices.ContainsFunc(later.References, func(x Reference) bool {
				return x.Schema == now.Schema && x.Table == now.Name && (slices.Equal(x.Columns, r.Columns) || later.position(x.Columns) == t.position(r.Columns))
			}) {
				return true
			}
		}
	}
	return false
}

func ratio(part, whole int) float64 {
	if whole == 0 {
		return 0
	}
	return float64(part) / float64(whole)
}

func common(a, b []string) int {
	n := 0
	for _, s := range a {
		if slices.Contains(b, s) {
			n++
		}
	}
	return n
}

// columns finds the renamed columns of a table.
func (f *finder) columns(moved *Catalog, old, now *Table) {
	var pairs []pair
	gone, fresh := onlyColumns(old, now), onlyColumns(now, old)
	for _, i := range gone {
		for _, k := range fresh {
			if !f.worth(len(gone)*len(fresh), RenamedColumn, now.FullName(), old.Columns[i].Name, now.Columns[k].Name) {
				continue
			}
			score, why := f.columnLikeness(old, now, i, k, len(gone), len(fresh))
			if score > 0 {
				score, why = f.weighData(old, now, old.Columns[i].Name, now.Columns[k].Name, score, why)
			}
			pairs = append(pairs, pair{in: now.FullName(), from: old.Columns[i].Name, to: now.Columns[k].Name, score: score, why: why})
		}
	}
	froms, tos := f.take(f.movedOn(RenamedColumn, now.FullName(), columnNames(old), columnNames(now)))
	f.things(RenamedColumn, rivals(unsettled(pairs, froms, tos)))
}

// unsettled leaves out the pairs of what is settled.
func unsettled(pairs []pair, froms, tos map[string]bool) []pair {
	return slices.DeleteFunc(pairs, func(p pair) bool { return froms[p.from] || tos[p.to] })
}

// onlyColumns are the places of the columns that only one of two tables has.
func onlyColumns(t, other *Table) []int {
	var list []int
	for i := range t.Columns {
		if _, there := other.Column(t.Columns[i].Name); !there {
			list = append(list, i)
		}
	}
	return list
}

// rivals leaves nothing certain that has a rival which is nearly as good.
func rivals(pairs []pair) []pair {
	out := slices.Clone(pairs)
	for i, p := range pairs {
		for k, q := range pairs {
			if i != k && (p.from == q.from || p.to == q.to) && p.score >= Likely && q.score >= p.score-0.1 && q.score >= Likely {
				out[i].score = min(out[i].score, 0.7)
			}
		}
	}
	return out
}

// weighData has the values of two columns decide, where they are known: those
// that have few values in common are two columns, whatever their names say.
func (f *finder) weighData(old, now *Table, was, is string, score float64, why string) (float64, string) {
	if f.alike == nil {
		return score, why
	}
	table, there := f.before.Table(Split(f.oldName(old.FullName())))
	if !there {
		return score, why
	}
	common, known := f.alike(table, now, was, is)
	if !known {
		return score, why
	}
	if why != "" {
		why += ", "
	}
	why = fmt.Sprintf("%s%.0f %% of the values", why, 100*common)
	switch {
	case common < 0.2:
		return min(score, 0.3), why
	case common >= 0.8 && score >= 0.3:
		return max(score, 0.93), why
	case common < 0.5:
		return min(score, 0.7), why
	}
	return score, why
}

// oldName is what a table was called.
func (f *finder) oldName(full string) string {
	for _, r := range f.found {
		if r.Thing == RenamedTable && r.To == full {
			return r.From
		}
	}
	return full
}

// columnLikeness looks for evidence that a column is called otherwise now. It is
// certain only where nothing speaks against it and a name, a place, a reference
// or a comment speaks for it.
func (f *finder) columnLikeness(old, now *Table, i, k, gone, fresh int) (float64, string) {
	was, is := &old.Columns[i], &now.Columns[k]
	if vetoed(old, now, was, is) {
		return 0, ""
	}
	related, rival := relatedNames(was.Name, is.Name), variants(was.Name, is.Name)
	alone := gone == 1 && fresh == 1
	place := f.samePlace(old, now, i, k)
	sibling := f.sibling(was.Name, is.Name) > 1
	wider := was.Declared == is.Declared || wideningKinds(was.Type, is.Type)
	same := was.Nullable == is.Nullable && defaultText(was.Default) == defaultText(is.Default)
	a, b := partsOf(old, was.Name), partsOf(now, is.Name)
	parts := len(a) > 0 && maps.Equal(a, b)
	comment := was.Comment != "" && was.Comment == is.Comment
	var why []string
	score := 0.21
	for _, e := range []struct {
		holds  bool
		weight float64
		text   string
	}{
		{was.Declared == is.Declared, 0.15, "the same type"}, {was.Declared != is.Declared && wider, 0.1, "a wider type"}, {related, 0.3, "names that are related"},
		{place == between, 0.25, "the same place"}, {place == atEnd, 0.1, "the same place"}, {sibling, 0.3, "the same rename in another table"}, {parts, 0.25, "the same keys and references"},
		{comment, 0.35, "the same comment"}, {alone, 0.1, ""}, {same, 0.05, ""},
	} {
		if e.holds {
			score += e.weight
			if e.text != "" {
				why = append(why, e.text)
			}
		}
	}
	sure := wider && !rival && (comment || sibling && (alone || place != elsewhere || related) || related && (alone || place != elsewhere || parts || onlyRelated(old, now, was.Name, is.Name)) || place == between && same && (was.Declared == is.Declared) || parts && place != elsewhere)
	if strings.EqualFold(was.Name, is.Name) {
		return 0.97, "the same name in other letters"
	}
	switch {
	case sure:
		return min(max(score, 0.8), 0.97), strings.Join(why, ", ")
	case rival:
		return min(score, 0.55), strings.Join(why, ", ")
	}
	return min(score, 0.7), strings.Join(why, ", ")
}

// onlyRelated reports whether no other column that went or came has a name that
// is related to one of the two.
func onlyRelated(old, now *Table, was, is string) bool {
	for _, k := range onlyColumns(now, old) {
		if name := now.Columns[k].Name; name != is && relatedNames(was, name) {
			return false
		}
	}
	for _, i := range onlyColumns(old, now) {
		if name := old.Columns[i].Name; name != was && relatedNames(name, is) {
			return false
		}
	}
	return true
}

// vetoed reports whether something speaks against a rename: another family of
// types, another role in keys, references or computing, another meaning.
func vetoed(old, now *Table, was, is *Column) bool {
	numbered := func(c *Column) bool { return c.Default != nil && c.Default.Kind == Identity }
	inKey := func(t *Table, name string) bool {
		return t.PrimaryKey != nil && slices.Contains(t.PrimaryKey.Columns, name)
	}
	if !sameFamily(was.Type, is.Type) || (was.Generated == "") != (is.Generated == "") || numbered(was) != numbered(is) || inKey(old, was.Name) != inKey(now, is.Name) {
		return true
	}
	a, b := targets(old, was.Name), targets(now, is.Name)
	return len(a)+len(b) > 0 && !slices.Equal(a, b) || opposed(was.Name, is.Name)
}

// targets are the tables that a column refers to.
func targets(t *Table, column string) []string {
	var list []string
	for _, r := range t.References {
		if slices.Contains(r.Columns, column) {
			list = append(list, Qualify(r.Schema, r.Table))
		}
	}
	slices.Sort(list)
	return list
}

// sameFamily reports whether two types hold the same kind of values.
func sameFamily(a, b Type) bool {
	family := func(k TypeKind) TypeKind {
		switch k {
		case Float, Decimal:
			return Int
		case Timestamp:
			return TimestampTZ
		}
		return k
	}
	return family(a.Kind) == family(b.Kind) && a.Enum == b.Enum
}

// wideningKinds reports whether a type holds what another one does, and more.
func wideningKinds(was, is Type) bool {
	switch {
	case is.Unsigned && !was.Unsigned:
		return false
	case was.Kind == Int && is.Kind == Int:
		return is.Bits >= was.Bits && is.Unsigned == was.Unsigned
	case was.Kind == Text && is.Kind == Text:
		return is.Size == 0 || was.Size > 0 && is.Size >= was.Size
	case was.Kind == Decimal && is.Kind == Decimal:
		return is.Precision == 0 || was.Precision > 0 && is.Scale >= was.Scale && is.Precision-is.Scale >= was.Precision-was.Scale
	case was.Kind == Int && is.Kind == Decimal:
		return is.Precision == 0 || is.Precision-is.Scale >= 10
	case was.Kind == Float && is.Kind == Float:
		return is.Bits >= was.Bits
	}
	return was.Kind == is.Kind && was.Kind != Other && was.Kind != Int && was.Kind != Text && was.Kind != Decimal && was.Kind != Float
}

// standing says where a column stands among those that stay.
type standing int

const (
	elsewhere standing = iota
	atEnd              // behind the same column, and last
	between            // behind the same column and in front of the same one
)

// samePlace compares the neighbours of two columns. A column that was added
// stands at the end, so only one between the same neighbours says much.
func (f *finder) samePlace(old, now *Table, i, k int) standing {
	name := func(t *Table, i int) string {
		if i < 0 {
			return ""
		}
		return t.Columns[i].Name
	}
	renamed := func(was, is string) bool {
		return was == is || slices.ContainsFunc(f.found, func(r Rename) bool {
			return r.Thing == RenamedColumn && r.In == now.FullName() && r.From == was && r.To == is
		})
	}
	if !renamed(name(old, i-1), name(now, k-1)) {
		return elsewhere
	}
	switch last, lastNow := i == len(old.Columns)-1, k == len(now.Columns)-1; {
	case last && lastNow:
		return atEnd
	case last || lastNow || !renamed(name(old, i+1), name(now, k+1)):
		return elsewhere
	}
	return between
}

// sibling is in how many tables a column of the one name went and one of the
// other name and the same family came.
func (f *finder) sibling(was, is string) int {
	if f.siblings == nil {
		f.siblings = map[[2]string]int{}
		moved := f.before.Renamed(f.found)
		for i := range f.after.Tables {
			now := &f.after.Tables[i]
			old, ok := moved.Table(now.Schema, now.Name)
			if !ok || now.IsView() {
				continue
			}
			for _, a := range onlyColumns(old, now) {
				for _, b := range onlyColumns(now, old) {
					if !vetoed(old, now, &old.Columns[a], &now.Columns[b]) {
						f.siblings[[2]string{old.Columns[a].Name, now.Columns[b].Name}]++
					}
				}
			}
		}
	}
	return f.siblings[[2]string{was, is}]
}

// partsOf are the keys and references that a column is a part of, without its
// own name.
func partsOf(t *Table, column string) map[string]bool {
	parts := map[string]bool{}
	without := func(list []string) string {
		return strings.Join(slices.DeleteFunc(slices.Clone(list), func(s string) bool { return s == column }), ",")
	}
	if t.PrimaryKey != nil && slices.Contains(t.PrimaryKey.Columns, column) {
		parts["key "+without(t.PrimaryKey.Columns)] = true
	}
	for _, u := range t.Uniques {
		if slices.Contains(u.Columns, column) {
			parts["unique "+without(u.Columns)] = true
		}
	}
	for _, r := range t.References {
		if slices.Contains(r.Columns, column) {
			parts["reference "+Qualify(r.Schema, r.Table)] = true
		}
	}
	return parts
}

func (f *finder) enumPairs() []pair {
	var pairs []pair
	for _, old := range f.before.Enums {
		from := Qualify(old.Schema, old.Name)
		if _, there := f.after.Enum(from); there {
			continue
		}
		for _, now := range f.after.Enums {
			to := Qualify(now.Schema, now.Name)
			if _, there := f.before.Enum(to); there {
				continue
			}
			if !f.worth(len(f.before.Enums)*len(f.after.Enums), RenamedEnum, "", from, to) {
				continue
			}
			labels := ratio(2*common(old.Labels, now.Labels), len(old.Labels)+len(now.Labels))
			score := 0.65*labels + 0.1
			if labels == 1 || labels >= 0.5 && relatedNames(old.Name, now.Name) {
				score = 0.9
			}
			pairs = append(pairs, pair{from: from, to: to, score: score, why: "the same labels"})
		}
	}
	return pairs
}

// labels takes a label for renamed only where nearly the same word stands in
// its place, or a person says so: rows would change their meaning.
func (f *finder) labels(old, now Enum) {
	in := Qualify(now.Schema, now.Name)
	var pairs []pair
	for i, was := range old.Labels {
		if slices.Contains(now.Labels, was) {
			continue
		}
		for k, is := range now.Labels {
			if slices.Contains(old.Labels, is) {
				continue
			}
			if !f.worth(len(old.Labels)*len(now.Labels), RenamedLabel, in, was, is) {
				continue
			}
			score, why := 0.2, "the same place"
			related := relatedNames(was, is) && !opposed(was, is)
			switch inPlace := i == k && len(old.Labels) == len(now.Labels); {
			case related && inPlace:
				score, why = 0.9, "nearly the same word in the same place"
			case related:
				score, why = 0.7, "nearly the same word"
			case inPlace:
				score = 0.55
			}
			pairs = append(pairs, pair{in: in, from: was, to: is, score: score, why: why})
		}
	}
	f.things(RenamedLabel, pairs)
}

// Distance is the number of insertions, deletions and replacements of characters
// that make one text of the other (Levenshtein).
func Distance(x, y string) int {
	a, b := []rune(x), []rune(y)
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range a {
		diagonal := row[0]
		row[0] = i + 1
		for j := range b {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			diagonal, row[j+1] = row[j+1], min(row[j+1]+1, row[j]+1, diagonal+cost)
		}
	}
	return row[len(b)]
}

// Settle reads what a person says of a rename: the old name of a table, of a
// table's column as in hive.title, of an enum, or of a label of an enum or of a
// column, and the new name; an empty one says that it was dropped. It is false where the old
// schema has no such thing.
func Settle(before, after *Catalog, old, now string) (Rename, bool) {
	for i := range before.Tables {
		if t := &before.Tables[i]; strings.EqualFold(t.FullName(), old) {
			return Rename{Thing: RenamedTable, From: t.FullName(), To: now, Confidence: 1}, true
		}
	}
	if e, ok := before.Enum(old); ok {
		return Rename{Thing: RenamedEnum, From: Qualify(e.Schema, e.Name), To: now, Confidence: 1}, true
	}
	at := strings.LastIndexByte(old, '.')
	if at < 0 {
		return Rename{}, false
	}
	owner, member := old[:at], old[at+1:]
	if k := strings.LastIndexByte(now, '.'); k >= 0 {
		now = now[k+1:]
	}
	for _, c := range []*Catalog{before, after} { // the table by either name
		for i := range c.Tables {
			t := &c.Tables[i]
			if strings.EqualFold(t.FullName(), owner) {
				return Rename{Thing: RenamedColumn, In: t.FullName(), From: member, To: now, Confidence: 1}, true
			}
		}
		if e, ok := c.Enum(owner); ok {
			return Rename{Thing: RenamedLabel, In: Qualify(e.Schema, e.Name), From: member, To: now, Confidence: 1}, true
		}
		if t, column, ok := c.LabelColumn(owner); ok {
			return Rename{Thing: RenamedLabel, In: t.FullName() + "." + column.Name, From: member, To: now, Confidence: 1}, true
		}
	}
	return Rename{}, false
}
