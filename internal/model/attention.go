package model

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"widegate/internal/catalog"
	"widegate/internal/project"
)

// Attention is something a developer should know or settle.
type Attention struct {
	Table  string
	Text   string // what it is, in a line
	Why    string // why it matters
	Settle string // lines for the project file that settle it; empty where it is settled elsewhere
	rank   int    // the lower, the more it matters
}

// The ranks of what needs attention.
const (
	rankBroken = iota // something of the schema is not in the code
	rankKey
	rankReference
	rankType
	rankSecret
	rankName
	rankFeature
)

// gatherAttention lists what the developer should know, what matters most
// first.
func (b *builder) gatherAttention() {
	b.attendRoles()
	for _, n := range b.catalog.Notes {
		b.attend(Attention{Table: n.Table, Text: n.Text, Why: "The code is written without it.", rank: rankBroken})
	}
	for _, e := range b.model.Entities {
		b.attendKey(e)
		for _, f := range e.Fields {
			b.attendField(e, f)
		}
		b.attendNames(e)
		b.attendTable(e.Table)
	}
	for _, t := range b.taken {
		for i, ref := range t.References {
			b.attendReference(t, ref, t.References[:i])
		}
	}
	slices.SortStableFunc(b.model.Attention, func(x, y Attention) int { return cmp.Compare(x.rank, y.rank) })
}

func (b *builder) attend(a Attention) { b.model.Attention = append(b.model.Attention, a) }

// entityLines are lines of the project file about a table.
func entityLines(t *catalog.Table, lines string) string {
	return "entities:\n  " + project.Quoted(t.FullName()) + ":\n    " + lines
}

func columnLines(t *catalog.Table, column, setting string) string {
	return entityLines(t, "columns: {"+project.Quoted(column)+": {"+setting+"}}")
}

func (b *builder) attendKey(e *Entity) {
	t := e.Table
	candidates := keyCandidates(e)
	settle := ""
	if len(candidates) > 0 {
		settle = entityLines(t, "key: "+project.QuotedList(candidates[0]))
	}
	named := ""
	for i, c := range candidates {
		if i > 0 {
			named += " or "
		}
		named += strings.Join(c, " + ")
	}
	switch {
	case e.Verbs == Append && t.PrimaryKey != nil: // a column of it is named wrongly
	case e.Verbs == Append:
		text := "no key: rows can be read and added, not changed"
		if named != "" {
			text += "; perhaps " + named
		}
		b.attend(Attention{t.FullName(), text, "Without columns that tell rows apart there is no path to one row.", settle, rankKey})
	case e.Verbs == ReadOnly && len(e.Key) == 0 && settle != "":
		b.attend(Attention{t.FullName(), "view without a key: rows can be listed, not fetched one by one; perhaps " + named, "A view says not which of its columns tell rows apart.", settle, rankFeature})
	}
	if len(e.Key) == 1 && e.Verbs == Full {
		b.attendGenerator(e)
	}
}

// attendGenerator looks at a key of one whole number, which is mostly made by
// the database.
func (b *builder) attendGenerator(e *Entity) {
	f := e.Key[0]
	_, refers := b.referring(e.Table, f.Column.Name)
	switch {
	case f.Column.Type.Kind == catalog.Int && f.Column.Default == nil && !refers && f.Column.Generated == "":
		b.attend(Attention{
			Table: e.Table.FullName(), Text: fmt.Sprintf("nothing numbers the key %s: who adds a row gives it", f.Column.Name),
			Why: "A row without it is refused by the database.", rank: rankFeature,
		})
	case f.Column.Default != nil && f.Column.Default.Sequence != "":
		b.attend(Attention{
			Table: e.Table.FullName(), Text: fmt.Sprintf("the key %s is numbered by the sequence %s, which is not its own", f.Column.Name, f.Column.Default.Sequence),
			Why: "Tables that share a sequence never have the same number, and one that is dropped may take it along.", rank: rankFeature,
		})
	}
}

// referring reports whether a column is part of a reference.
func (b *builder) referring(t *catalog.Table, column string) (catalog.Reference, bool) {
	for _, ref := range b.references(t) {
		if slices.Contains(ref.Columns, column) {
			return ref, true
		}
	}
	return catalog.Reference{}, false
}

// keyNames are what a column is called that tells rows apart.
var keyNames = []string{"id", "uuid", "guid", "code", "number", "no", "nr", "key", "slug"}

// keyCandidates are columns that look like a key: unique ones that may be
// null, then those with the name of a key.
func keyCandidates(e *Entity) [][]string {
	var list [][]string
	for _, u := range e.Uniques {
		list = append(list, u.Columns)
	}
	own := singular(splitWords(e.Table.Name))
	for _, c := range e.Table.Columns {
		words := splitWords(c.Name)
		if slices.Equal(words, []string{"id"}) || slices.Equal(words, append(slices.Clone(own), "id")) {
			list = append(list, []string{c.Name})
		}
	}
	for _, c := range e.Table.Columns {
		words := splitWords(c.Name)
		if len(words) == 1 && words[0] != "id" && slices.Contains(keyNames, words[0]) {
			list = append(list, []string{c.Name})
		}
	}
	return list[:min(len(list), 2)]
}

// carried says of the families of types that are carried as text why.
var carried = map[catalog.TypeKind]string{
	catalog.Geometric: "Its text form is the engine's own, as (1,2).",
	catalog.FullText:  "It is made for searching inside the database.",
	catalog.Compound:  "Its fields stand in one text, as (1,2).",
	catalog.Money:     "Its form depends on the locale of the server.",
	catalog.Other:     "No Go type fits it; the text is what the engine prints and takes.",
	catalog.Array:     "No Go type fits its elements; the text is what the engine prints and takes.",
	catalog.Range:     "No Go type fits its bounds; the text is what the engine prints and takes.",
}

func (b *builder) attendField(e *Entity, f *Field) {
	t, c := e.Table, f.Column
	why, textual := carried[c.Type.Kind]
	switch {
	case f.Kind != KindOther || !textual:
	case t.IsView() && c.Declared == "":
		b.attend(Attention{t.FullName(), fmt.Sprintf("column %s is an expression whose type is not known: carried as text", c.Name), "Compare and order it as text.", "", rankType})
	default:
		b.attend(Attention{t.FullName(), fmt.Sprintf("column %s of type %s is carried as text", c.Name, orElse(c.Declared, "(none)")), why, "", rankType})
	}
	if f.Hidden && b.settings(t).Columns[c.Name].Hidden == nil {
		b.attend(Attention{
			t.FullName(), fmt.Sprintf("column %s looks secret and is hidden", c.Name),
			"It is not in answers, filters or the OpenAPI document; write `hidden: true` to keep it so without this line.",
			columnLines(t, c.Name, "hidden: false"), rankSecret,
		})
	}
	if f.Auto && !f.InKey && len(e.Key) > 0 && !t.IsView() {
		b.attend(Attention{Table: t.FullName(), Text: fmt.Sprintf("column %s is numbered by the database, but is not the key", c.Name), Why: "Rows are found by the key, not by this number.", rank: rankFeature})
	}
	if moment, frozen := frozenDefault(c); frozen {
		b.attend(Attention{
			Table: t.FullName(), Text: fmt.Sprintf("the default of %s is one moment, %s", c.Name, moment),
			Why: "Probably the time of each insert was meant: such a default is evaluated once, when it is declared.", rank: rankFeature,
		})
	}
}

// frozenDefault finds a moment with a time of day: nobody chooses one by hand.
func frozenDefault(c *catalog.Column) (string, bool) {
	if c.Default == nil || c.Default.Kind != catalog.Constant || c.Type.Kind != catalog.Timestamp && c.Type.Kind != catalog.TimestampTZ {
		return "", false
	}
	text := c.Default.Text
	if len(text) < len(time.DateTime) {
		return "", false
	}
	t, err := time.Parse(time.DateTime, text[:len(time.DateTime)])
	return text, err == nil && t.Second() != 0 && t.Minute() != 0 && t.Year() > 1970
}

func (b *builder) attendNames(e *Entity) {
	t := e.Table
	best := exported(singular(splitWords(t.Name)))
	if set := b.settings(t); set.Name == "" && e.Name != best && e.Name != exported(append(splitWords(t.Schema), singular(splitWords(t.Name))...)) {
		b.attend(Attention{
			t.FullName(), fmt.Sprintf("is called %s, for another table or column has the name %s", e.Name, best),
			"A name of your own reads better than a number.", entityLines(t, "name: "+best+"Row"), rankName,
		})
	}
	for _, f := range e.Fields {
		words := splitWords(f.Column.Name)
		set := b.settings(t).Columns[f.Column.Name].Name != ""
		if set || f.Name == titles(words) {
			continue
		}
		why := "Another column has the name that it would have."
		if exported(words) == f.Name {
			why = "Names in Go begin with a capital letter, and hold letters and digits only."
		}
		b.attend(Attention{
			t.FullName(), fmt.Sprintf("column %s is called %s in Go", quotedWhereOdd(f.Column.Name), f.Name), why,
			columnLines(t, f.Column.Name, "name: "+f.Name), rankName,
		})
	}
	for _, r := range e.Relations {
		if r.Unclear && r.Join == nil {
			b.attend(Attention{
				t.FullName(), fmt.Sprintf("the relation to %s is called %s", r.To.Table.FullName(), r.Name),
				"The name that follows from its columns is taken.", relationLines(e, r), rankName,
			})
		}
	}
}

func quotedWhereOdd(name string) string {
	if strings.ContainsAny(name, " \t\n") || name == "" {
		return fmt.Sprintf("%q", name)
	}
	return name
}

// relationLines name a relation in the project file, as it is.
func relationLines(e *Entity, r *Relation) string {
	holder, to, name := e, r.To, "name"
	var columns []string
	for _, p := range r.Pairs {
		if r.Owned {
			columns = append(columns, p[0])
		} else {
			columns = append(columns, p[1])
		}
	}
	if !r.Owned {
		holder, to, name = r.To, e, "reverse"
	}
	return fmt.Sprintf("relations:\n  - {table: %s, columns: %s, to: %s, %s: %s}",
		project.Quoted(holder.Table.FullName()), project.QuotedList(columns), project.Quoted(to.Table.FullName()), name, r.Name)
}

func (b *builder) attendTable(t *catalog.Table) {
	if len(t.Inherits) > 0 && t.PrimaryKey == nil && !t.IsView() {
		b.attend(Attention{
			Table: t.FullName(), Text: "has the columns of " + strings.Join(t.Inherits, ", ") + ", but not their keys and references",
			Why: "Keys are not inherited; reading the parent gives the rows of this table too.", rank: rankFeature,
		})
	}
	ignored := map[string]string{
		"virtual":          "is a virtual table: what its module hides or computes is not known",
		"foreign":          "is a foreign table: its rows are on another server, whose keys are not known here",
		"system versioned": "keeps old rows by itself: only the current ones are read",
		"myisam":           "is kept by MyISAM, which has no transactions and no references",
		"aria":             "is kept by Aria, which has no transactions across tables and no references",
		"memory":           "is kept in memory: its rows go when the server stops",
	}
	for _, o := range t.Options {
		if text := ignored[o]; text != "" {
			b.attend(Attention{Table: t.FullName(), Text: text, Why: "The generated code treats it as any other table.", rank: rankFeature})
		}
	}
}

func (b *builder) attendReference(t *catalog.Table, ref catalog.Reference, before []catalog.Reference) {
	columns := strings.Join(ref.Columns, ", ")
	to := catalog.Qualify(ref.Schema, ref.Table)
	target, ok := b.table(ref)
	say := func(text, why string) {
		b.attend(Attention{Table: t.FullName(), Text: columns + " " + text, Why: why, rank: rankReference})
	}
	const noRelation = "No relation is generated for it."
	switch {
	case !ok && ref.Schema != "" && !slices.Contains(b.catalog.Schemas, ref.Schema):
		say(fmt.Sprintf("refers to %s, in a schema that is not read", to), noRelation+" Name the schema with --schema, or under `database: schemas`.")
	case !ok:
		say(fmt.Sprintf("refers to %s, which is not there", to), noRelation)
	case len(ref.Target) != len(ref.Columns):
		say(fmt.Sprintf("refers to %s, which has no key of that many columns", to), noRelation)
	case !hasColumns(target, ref.Target):
		say(fmt.Sprintf("refers to columns of %s that are not there: %s", to, strings.Join(ref.Target, ", ")), noRelation)
	case slices.ContainsFunc(before, func(o catalog.Reference) bool { return sameReference(o, ref) }):
		say(fmt.Sprintf("refers to %s twice", to), "One relation is generated for both; the database does what the stricter one says.")
	default:
		b.attendTarget(t, target, ref, say)
	}
}

func (b *builder) attendTarget(t, target *catalog.Table, ref catalog.Reference, say func(text, why string)) {
	to := target.FullName() + "(" + strings.Join(ref.Target, ", ") + ")"
	if ref.Unenforced {
		say("refers to "+to+" behind its column, where MySQL before version 9 does not enforce it", "Rows may refer to nothing; the relation then finds no row.")
	}
	if !isKey(target, ref.Target) {
		say("refers to "+to+", which is not unique", "The first row found stands for all that have the value, and the database may refuse changes.")
	}
	for i := range ref.Columns {
		own, _ := t.Column(ref.Columns[i])
		other, _ := target.Column(ref.Target[i])
		if own == nil {
			continue
		}
		switch {
		case b.catalog.Engine != catalog.SQLite && own.Type.Kind == catalog.Int && other.Type.Kind == catalog.Int && (own.Type.Bits != other.Type.Bits || own.Type.Unsigned != other.Type.Unsigned):
			say(fmt.Sprintf("is %s and refers to a column that is %s", own.Declared, other.Declared), "Values that fit one do not fit the other; the relation converts them.")
		case own.Type.Kind != other.Type.Kind:
			say(fmt.Sprintf("is %s and refers to a column that is %s", orElse(own.Declared, "untyped"), orElse(other.Declared, "untyped")), "The engine compares them by its own rules.")
		case own.Collation != "" && other.Collation != "" && own.Collation != other.Collation:
			say(fmt.Sprintf("is compared by %s, what it refers to by %s", own.Collation, other.Collation), "Mixed collations keep the engine from using indexes, or make it refuse the comparison.")
		}
	}
}

// isKey reports whether the columns are a primary or unique key, in any order.
func isKey(t *catalog.Table, columns []string) bool {
	same := func(k []string) bool { return len(k) == len(columns) && isSubset(k, columns) }
	if t.PrimaryKey != nil && same(t.PrimaryKey.Columns) {
		return true
	}
	return slices.ContainsFunc(t.Uniques, func(k catalog.Key) bool { return same(k.Columns) })
}

// attendRoles tells what the store does with columns by itself.
func (b *builder) attendRoles() {
	says := map[Role][2]string{
		DeletedRole: {"rows are marked as deleted in %s, and stay", "Queries leave marked rows out; WithDeleted reads them too, and Purge removes them."},
		VersionRole: {"updates count up %s, and fail where another came between", "The error is gate.ErrStale; read the row again then."},
	}
	for _, e := range b.model.Entities {
		for _, f := range e.Fields {
			if text, ok := says[f.Role]; ok {
				b.attend(Attention{
					Table: e.Table.FullName(), Text: fmt.Sprintf(text[0], f.Column.Name), Why: text[1], rank: rankFeature,
					Settle: fmt.Sprintf("entities:\n  %s:\n    columns:\n      %s: {role: none}", project.Quoted(e.Table.FullName()), project.Quoted(f.Column.Name)),
				})
			}
		}
	}
}
