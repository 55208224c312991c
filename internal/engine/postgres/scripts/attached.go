package scripts

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// What hangs on a table is kept as the statement that makes it. Scripts rarely
// tell all of it, so a catalog that was read from them is not complete.

func (p *pg) createTrigger(n node, text string) {
	name := n.text("trigname")
	t := p.find(n.at("relation").text("schemaname"), n.at("relation").text("relname"))
	if t == nil {
		p.notes = append(p.notes, homeless("trigger", name, n.at("relation").text("relname")))
		return
	}
	t.dropTrigger(name)
	t.Triggers = append(t.Triggers, catalog.Trigger{Name: name, Definition: replaceWord.ReplaceAllString(text, "CREATE ")})
}

// homeless is the note about something whose table is not there.
func homeless(thing, name, table string) catalog.Note {
	return catalog.Note{Text: fmt.Sprintf("the %s %s: is not read, since there is no table %q before it", thing, name, table)}
}

var replaceWord = regexp.MustCompile(`(?i)^\s*CREATE\s+OR\s+REPLACE\s+`)

func (t *pgTable) dropTrigger(name string) {
	t.Triggers = slices.DeleteFunc(t.Triggers, func(x catalog.Trigger) bool { return x.Name == name })
}

func (p *pg) createPolicy(n node, text string) {
	name := n.text("policy_name")
	t := p.find(n.at("table").text("schemaname"), n.at("table").text("relname"))
	if t == nil {
		p.notes = append(p.notes, homeless("policy", name, n.at("table").text("relname")))
		return
	}
	t.dropExtra("policy", name)
	t.Extras = append(t.Extras, catalog.Extra{Kind: "policy", Name: name, Make: text, Undo: "DROP POLICY " + quoteIdent(name) + " ON " + fullName(t)})
}

func fullName(t *pgTable) string {
	if t.Schema == "" || t.Schema == ownSchema {
		return quoteIdent(t.Name)
	}
	return quoteIdent(t.Schema) + "." + quoteIdent(t.Name)
}

func (t *pgTable) dropExtra(kind, name string) {
	t.Extras = slices.DeleteFunc(t.Extras, func(e catalog.Extra) bool { return e.Kind == kind && e.Name == name })
}

// secure notes row security that is switched on or off.
func (t *pgTable) secure(command string) {
	for _, s := range []struct{ on, off, name, words, back string }{
		{"AT_EnableRowSecurity", "AT_DisableRowSecurity", "enabled", "ENABLE", "DISABLE"}, {"AT_ForceRowSecurity", "AT_NoForceRowSecurity", "forced", "FORCE", "NO FORCE"},
	} {
		if command != s.on && command != s.off {
			continue
		}
		t.dropExtra("row security", s.name)
		if command == s.on {
			alter := "ALTER TABLE " + fullName(t) + " "
			t.Extras = append(t.Extras, catalog.Extra{Kind: "row security", Name: s.name, Make: alter + s.words + " ROW LEVEL SECURITY", Undo: alter + s.back + " ROW LEVEL SECURITY"})
		}
	}
}

// The marks of what a constraint has besides its columns, until its definition is
// written out.
const (
	matchFull = "MATCH FULL"
	deferred  = "INITIALLY DEFERRED"
	notValid  = "NOT VALID"
)

// marks are those of a constraint.
func marks(k node) string {
	var list []string
	if k.text("fk_matchtype") == "f" {
		list = append(list, matchFull)
	}
	if k.flag("initdeferred") {
		list = append(list, deferred)
	}
	if k.flag("skip_validation") {
		list = append(list, notValid)
	}
	return strings.Join(list, " ")
}

// completeDefinitions writes out the definitions of constraints as the server
// does.
func (p *pg) completeDefinitions(t *pgTable) {
	for i := range t.References {
		r := &t.References[i]
		if r.Definition == "" {
			continue
		}
		has := func(mark string) string {
			if strings.Contains(r.Definition, mark) {
				return " " + mark
			}
			return ""
		}
		text := "FOREIGN KEY (" + identList(r.Columns) + ") REFERENCES "
		if target := p.tables[catalog.Qualify(r.Schema, r.Table)]; target != nil {
			text += fullName(target)
		} else {
			text += quoteIdent(r.Table)
		}
		text += "(" + identList(r.Target) + ")" + has(matchFull)
		if r.OnUpdate != "" {
			text += " ON UPDATE " + strings.ToUpper(r.OnUpdate)
		}
		if r.OnDelete != "" {
			text += " ON DELETE " + strings.ToUpper(r.OnDelete)
		}
		if has(deferred) != "" {
			text += " DEFERRABLE" + has(deferred)
			r.Deferrable = true
		}
		r.Definition = text + has(notValid)
	}
}

func identList(names []string) string {
	quoted := make([]string, len(names))
	for i, n := range names {
		quoted[i] = quoteIdent(n)
	}
	return strings.Join(quoted, ", ")
}

// keyDefinition is that of a key that has more than columns.
func keyDefinition(k node, columns []string) string {
	special := k.flag("nulls_not_distinct") || len(k.list("including")) > 0 || k.flag("initdeferred")
	if !special {
		return ""
	}
	text := "UNIQUE"
	if k.text("contype") == "CONSTR_PRIMARY" {
		text = "PRIMARY KEY"
	}
	if k.flag("nulls_not_distinct") {
		text += " NULLS NOT DISTINCT"
	}
	text += " (" + identList(columns) + ")"
	if including := k.names("including"); len(including) > 0 {
		text += " INCLUDE (" + identList(including) + ")"
	}
	if k.flag("initdeferred") {
		text += " DEFERRABLE INITIALLY DEFERRED"
	}
	return text
}

// checkOptions is what stands behind a check.
func checkOptions(k node) string {
	var list []string
	if k.flag("is_no_inherit") {
		list = append(list, "NO INHERIT")
	}
	if k.flag("skip_validation") {
		list = append(list, notValid)
	}
	return strings.Join(list, " ")
}
