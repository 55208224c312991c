package model

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"widegate/internal/catalog"
	"widegate/internal/project"
)

// Attention is something a developer should know or settle.
type Attention struct {
	Table  string
	Text   string // what it is, in a line
	Why    string // why it matters
	Settle string // lines for the project file that settle it; empty where it is settled elsewhere
	Alike  string // what is said of several such things, as in: columns look secret and are hidden
	Column string // that it is about, where it is about one
	rank   int    // the lower, the more it matters
}

// Fact reports whether it is only good to know, and nothing is to be decided.
func (a Attention) Fact() bool { return a.rank >= rankType }

// Subject is the table or column that it is about.
func (a Attention) Subject() string {
	if a.Column == "" {
		return a.Table
	}
	return a.Table + "." + a.Column
}

// The ranks of what needs attention. From rankType on they are facts.
const (
	rankBroken = iota // something of the schema is not in the code
	rankKey
	rankReference
	rankSecret
	rankName
	rankType
	rankFeature
)

// AttentionGroup is what needs attention and is alike, under one line.
type AttentionGroup struct {
	Text  string // with the count of what it is about, where that is several
	Items []Attention
}

// Grouped puts together what is alike, in the order of what matters most: first
// what a developer must decide, then facts.
func Grouped(list []Attention) []AttentionGroup {
	var groups []AttentionGroup
	at := map[string]int{}
	for _, a := range list {
		i, known := at[a.Alike]
		if a.Alike == "" || !known {
			at[a.Alike] = len(groups)
			groups = append(groups, AttentionGroup{Text: a.Text})
			i = len(groups) - 1
		}
		groups[i].Items = append(groups[i].Items, a)
		if n := len(groups[i].Items); n > 1 {
			groups[i].Text = fmt.Sprintf("%d %s", n, a.Alike)
		}
	}
	return groups
}

// gatherAttention lists what the developer should know, what matters most
// first.
func (b *builder) gatherAttention() {
	b.attendRoles()
	for _, n := range b.catalog.Notes {
		alike := ""
		switch {
		case strings.HasPrefix(n.Text, "the view cannot be read"):
			alike = "views cannot be read"
		case strings.Contains(n.Text, ": is not "):
			alike = "statements of the scripts are not read"
		}
		b.attend(Attention{Table: n.Table, Text: n.Text, Why: "The code is written without it.", Alike: alike, rank: rankBroken})
	}
	b.attendPrefix()
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

// shared is how many of a hundred tables have a prefix in their names that is no
// part of them.
const shared = 80

// attendPrefix finds a prefix that most tables have, unless the project says
// something of prefixes or has names already.
func (b *builder) attendPrefix() {
	if b.project.Words.Prefix != "" || len(b.before) > 0 || len(b.taken) < 5 {
		return
	}
	with := map[string]int{}
	for _, t := range b.taken {
		if prefix := tablePrefix(t.Name); prefix != "" {
			with[prefix]++
		}
	}
	for prefix, n := range with {
		if 100*n >= shared*len(b.taken) {
			b.attend(Attention{
				Text:   fmt.Sprintf("%d of %d tables begin with %s", n, len(b.taken), prefix),
				Why:    "Without it their names, paths and relations are shorter.",
				Settle: "words:\n  prefix: " + project.Quoted(prefix), rank: rankName,
			})
		}
	}
}

// tablePrefix is the first word of a name with the line behind it, or the small
// letters before the first capital.
func tablePrefix(name string) string {
	if at := strings.IndexByte(name, '_'); at > 0 && at < len(name)-1 {
		return name[:at+1]
	}
	if at := strings.IndexFunc(name, unicode.IsUpper); at > 0 {
		return name[:at]
	}
	return ""
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
		b.attend(Attention{
			Table: t.FullName(), Text: text, Why: "Without columns that tell rows apart there is no path to one row.", Settle: settle,
			Alike: "tables have no key: their rows can be read and added, not changed", rank: rankKey,
		})
	case e.Verbs == ReadOnly && len(e.Key) == 0 && settle != "":
		b.attend(Attention{
			Table: t.FullName(), Text: "view without a key: rows can be listed, not fetched one by one; perhaps " + named, Why: "A view does not say which of its columns tell rows apart.", Settle: settle,
			Alike: "views have no key: their rows can be listed, not fetched one by one", rank: rankFeature,
		})
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
			Why:   "A row without it is refused by the database.",
			Alike: "keys are numbered by nothing: who adds a row gives them", Column: f.Column.Name, rank: rankFeature,
		})
	case f.Column.Default != nil && f.Column.Default.Sequence != "":
		b.attend(Attention{
			Table: e.Table.FullName(), Text: fmt.Sprintf("the key %s is numbered by the sequence %s, which is not its own", f.Column.Name, f.Column.Default.Sequence),
			Why:   "Tables that share a sequence never have the same number, and one that is dropped may take it along.",
			Alike: "keys are numbered by sequences that are not their own", Column: f.Column.Name, rank: rankFeature,
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
	own := english.Singular(english.Split(e.Table.Name))
	for _, c := range e.Table.Columns {
		words := english.Split(c.Name)
		if slices.Equal(words, []string{"id"}) || slices.Equal(words, append(slices.Clone(own), "id")) {
			list = append(list, []string{c.Name})
		}
	}
	for _, c := range e.Table.Columns {
		words := english.Split(c.Name)
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
		b.attend(Attention{
			Table: t.FullName(), Text: fmt.Sprintf("column %s is an expression whose type is not known: carried as text", c.Name), Why: "Compare and order it as text.",
			Alike: "columns of views are expressions whose type is not known: carried as text", Column: c.Name, rank: rankType,
		})
	default:
		b.attend(Attention{
			Table: t.FullName(), Text: fmt.Sprintf("column %s of type %s is carried as text", c.Name, cmp.Or(c.Declared, "(none)")), Why: why,
			Alike: fmt.Sprintf("columns of type %s are carried as text", cmp.Or(c.Declared, "(none)")), Column: c.Name, rank: rankType,
		})
	}
	if f.Hidden && b.settings(t).Columns[c.Name].Hidden == nil {
		b.attend(Attention{
			Table: t.FullName(), Text: fmt.Sprintf("column %s looks secret and is hidden", c.Name),
			Why:    "It is not in answers, filters or the OpenAPI document; write `hidden: true` to keep it so without this line.",
			Settle: columnLines(t, c.Name, "hidden: false"),
			Alike:  "columns look secret and are hidden", Column: c.Name, rank: rankSecret,
		})
	}
	if f.Auto && !f.InKey && len(e.Key) > 0 && !t.IsView() {
		b.attend(Attention{Table: t.FullName(), Text: fmt.Sprintf("column %s is numbered by the database, but is not the key", c.Name), Why: "Rows are found by the key, not by this number.", Alike: "columns are numbered by the database, but are not the key", Column: c.Name, rank: rankFeature})
	}
	if moment, frozen := frozenDefault(c); frozen {
		b.attend(Attention{
			Table: t.FullName(), Text: fmt.Sprintf("the default of %s is one moment, %s", c.Name, moment),
			Why:   "Probably the time of each insert was meant: such a default is evaluated once, when it is declared.",
			Alike: "defaults are one moment", Column: c.Name, rank: rankFeature,
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

// remembered reports whether the ledger gave a column its name.
func (b *builder) remembered(t *catalog.Table, column string) bool {
	return b.names.Tables[t.FullName()].Columns[column] != ""
}

// numberedName reports whether an entity has a number in its name that keeps it
// from another one.
func (b *builder) numberedName(e *Entity, words []string) bool {
	inSchema := slices.Concat(b.words.Split(e.Table.Schema), words)
	for _, base := range []string{b.words.exported(words), b.words.exported(inSchema)} {
		if rest, found := strings.CutPrefix(e.Name, base); found {
			_, err := strconv.Atoi(rest)
			return err == nil
		}
	}
	return false
}

func (b *builder) attendNames(e *Entity) {
	t := e.Table
	words, _ := b.words.Noun(b.tableWords(t))
	best := b.words.exported(words)
	if set := b.settings(t); set.Name == "" && b.numberedName(e, words) {
		b.attend(Attention{
			Table: t.FullName(), Text: fmt.Sprintf("is called %s, for another table or column has the name %s", e.Name, best),
			Why: "A name of your own reads better than a number.", Settle: entityLines(t, "name: "+best+"Row"), Alike: "tables have a number in their names", rank: rankName,
		})
	}
	for _, f := range e.Fields {
		words := b.words.Split(f.Column.Name)
		set := b.settings(t).Columns[f.Column.Name].Name != ""
		if set || f.Name == b.words.Title(words) || b.remembered(t, f.Column.Name) && strings.EqualFold(f.Name, b.words.Title(words)) {
			continue
		}
		why := "Another column has the name that it would have."
		if b.words.exported(words) == f.Name {
			why = "Names in Go begin with a capital letter, and hold letters and digits only."
		}
		b.attend(Attention{
			Table: t.FullName(), Text: fmt.Sprintf("column %s is called %s in Go", quotedWhereOdd(f.Column.Name), f.Name), Why: why,
			Settle: columnLines(t, f.Column.Name, "name: "+f.Name), Alike: "columns have names in Go that do not follow from theirs", Column: f.Column.Name, rank: rankFeature,
		})
	}
	for _, r := range e.Relations {
		if r.Unclear && r.Join == nil {
			b.attend(Attention{
				Table: t.FullName(), Text: fmt.Sprintf("the relation to %s is called %s", r.To.Table.FullName(), r.Name),
				Why: "The names that follow from its columns are taken.", Settle: relationLines(e, r), Alike: "relations have a number in their names", rank: rankName,
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
			Why:   "Keys are not inherited; reading the parent gives the rows of this table too.",
			Alike: "tables have the columns of others, but not their keys and references", rank: rankFeature,
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
			b.attend(Attention{Table: t.FullName(), Text: text, Why: "The generated code treats it as any other table.", Alike: "tables of this kind: " + text, rank: rankFeature})
		}
	}
}

func (b *builder) attendReference(t *catalog.Table, ref catalog.Reference, before []catalog.Reference) {
	columns := strings.Join(ref.Columns, ", ")
	to := catalog.Qualify(ref.Schema, ref.Table)
	target, ok := b.table(ref)
	say := func(rank int, alike, text, why string) {
		b.attend(Attention{Table: t.FullName(), Text: columns + " " + text, Why: why, Alike: "references " + alike, Column: columns, rank: rank})
	}
	const noRelation = "No relation is generated for it."
	switch {
	case !ok && ref.Schema != "" && !slices.Contains(b.catalog.Schemas, ref.Schema):
		say(rankReference, "lead to schemas that are not read", fmt.Sprintf("refers to %s, in a schema that is not read", to), noRelation+" Name the schema with --schema, or under `database: schemas`.")
	case !ok:
		say(rankReference, "lead to tables that are not there", fmt.Sprintf("refers to %s, which is not there", to), noRelation)
	case len(ref.Target) != len(ref.Columns):
		say(rankReference, "lead to tables whose keys have another number of columns", fmt.Sprintf("refers to %s, which has no key of that many columns", to), noRelation)
	case !hasColumns(target, ref.Target):
		say(rankReference, "lead to columns that are not there", fmt.Sprintf("refers to columns of %s that are not there: %s", to, strings.Join(ref.Target, ", ")), noRelation)
	case slices.ContainsFunc(before, func(o catalog.Reference) bool { return sameReference(o, ref) }):
		say(rankFeature, "are declared twice", fmt.Sprintf("refers to %s twice", to), "One relation is generated for both; the database does what the stricter one says.")
	case ref.Period:
		say(rankFeature, "are for a period", fmt.Sprintf("refers to %s for a period", to), noRelation+" Rows of it that cover the period together are not found by equality.")
	default:
		b.attendTarget(t, target, ref, say)
	}
}

func (b *builder) attendTarget(t, target *catalog.Table, ref catalog.Reference, say func(rank int, alike, text, why string)) {
	to := target.FullName() + "(" + strings.Join(ref.Target, ", ") + ")"
	if ref.Unenforced {
		say(rankFeature, "are not enforced by the database", "refers to "+to+", which the database does not enforce", "Rows may refer to nothing; the relation then finds no row.")
	}
	if !isKey(target, ref.Target) {
		say(rankReference, "lead to columns that are not unique", "refers to "+to+", which is not unique", "The first row found stands for all that have the value, and the database may refuse changes.")
	}
	for i := range ref.Columns {
		own, _ := t.Column(ref.Columns[i])
		other, _ := target.Column(ref.Target[i])
		if own == nil {
			continue
		}
		switch {
		case !b.catalog.Engine.Loose && own.Type.Kind == catalog.Int && other.Type.Kind == catalog.Int && (own.Type.Bits != other.Type.Bits || own.Type.Unsigned != other.Type.Unsigned):
			say(rankFeature, "lead from one type of numbers to another", fmt.Sprintf("is %s and refers to a column that is %s", own.Declared, other.Declared), "Values that fit one do not fit the other; the relation converts them.")
		case own.Type.Kind != other.Type.Kind:
			say(rankFeature, "lead from one type to another", fmt.Sprintf("is %s and refers to a column that is %s", cmp.Or(own.Declared, "untyped"), cmp.Or(other.Declared, "untyped")), "The engine compares them by its own rules.")
		case own.Collation != "" && other.Collation != "" && own.Collation != other.Collation:
			say(rankFeature, "lead from one collation to another", fmt.Sprintf("is compared by %s, what it refers to by %s", own.Collation, other.Collation), "Mixed collations keep the engine from using indexes, or make it refuse the comparison.")
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
	says := map[Role][3]string{
		DeletedRole: {"rows are marked as deleted in %s, and stay", "Queries leave marked rows out; WithDeleted reads them too, and Purge removes them.", "tables mark their rows as deleted, and keep them"},
		VersionRole: {"updates count up %s, and fail where another came between", "The error is gate.ErrStale; read the row again then.", "tables count up a version at each update"},
	}
	for _, e := range b.model.Entities {
		for _, f := range e.Fields {
			if text, ok := says[f.Role]; ok {
				b.attend(Attention{
					Table: e.Table.FullName(), Text: fmt.Sprintf(text[0], f.Column.Name), Why: text[1], Alike: text[2], Column: f.Column.Name, rank: rankFeature,
					Settle: fmt.Sprintf("entities:\n  %s:\n    columns:\n      %s: {role: none}", project.Quoted(e.Table.FullName()), project.Quoted(f.Column.Name)),
				})
			}
		}
	}
}
