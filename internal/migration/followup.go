package migration

import (
	"regexp"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// routineHead is the head of a statement that makes a routine, a trigger or an
// event.
var routineHead = regexp.MustCompile(`(?is)^\s*CREATE\s+(?:OR\s+REPLACE\s+)?(?:/\*.*?\*/\s*)?(?:DEFINER\s*=\s*\S+\s+)?(?:FUNCTION|PROCEDURE|TRIGGER|EVENT)\b`)

// followUp says in the head of the script which texts stay as they are although
// they name something that is renamed or gone: the engine does not follow into
// the bodies of routines, and nor does the script.
func (d *Writing) followUp() {
	var changed []string
	for _, r := range d.Renames {
		_, name := catalog.Split(r.From)
		changed = append(changed, name)
	}
	for _, t := range d.Gone() {
		changed = append(changed, t.Name)
	}
	for _, p := range d.All {
		for _, c := range p.Dropped {
			if now, ok := p.Now.Column(c.Name); !ok || now == nil {
				changed = append(changed, c.Name)
			}
		}
	}
	mentioned := func(text string) []string {
		var list []string
		for _, name := range changed {
			if Mentions(text, name) {
				list = append(list, name)
			}
		}
		return list
	}
	for _, r := range d.After.Routines {
		for _, was := range d.At.Routines {
			if was.Signature() == r.Signature() && catalog.SameText(was.Definition, r.Definition) {
				if names := mentioned(body(r.Definition)); len(names) > 0 {
					d.Note("the %s %s stays as it is and may name what is renamed or gone: %s. Look at its text", r.Kind, r.Signature(), strings.Join(names, ", "))
				}
			}
		}
	}
	if d.Engine.Traits().TriggersStay {
		for _, p := range d.All {
			for _, t := range p.Now.Triggers {
				if names := mentioned(t.Definition); len(names) > 0 && p.hasTrigger(t) {
					d.Note("the trigger %s of %s stays as it is and may name what is renamed or gone: %s. Look at its text", t.Name, p.Now.FullName(), strings.Join(names, ", "))
				}
			}
		}
	}
	d.unsureTriggers()
	if !d.SQL.ToldWhole && !d.At.Complete {
		d.Note("triggers, rights, policies and storage options are not known, since both schemas were read from scripts or records; the script leaves them alone")
	}
}

// unsureTriggers names the triggers that scripts write otherwise than the server
// prints them: whether they have changed is not known.
func (d *Writing) unsureTriggers() {
	if !d.At.Complete || d.given.Complete || d.SQL.ToldWhole {
		return
	}
	plainly := func(text string) string {
		text = strings.NewReplacer(`"`, "", "`", "", "public.", "", "execute procedure", "execute function", "(", " ", ")", " ").Replace(strings.ToLower(text))
		return strings.TrimRight(OneLine(text), "; ")
	}
	for i := range d.given.Tables {
		t := &d.given.Tables[i]
		known, ok := d.At.Table(t.Schema, t.Name)
		for _, trigger := range t.Triggers {
			k := -1
			if ok {
				k = slices.IndexFunc(known.Triggers, func(x catalog.Trigger) bool { return x.Name == trigger.Name })
			}
			if k >= 0 && plainly(known.Triggers[k].Definition) != plainly(trigger.Definition) {
				d.Note("the trigger %s of %s is written otherwise in the scripts, and stays as it is; read them with --scratch to have it carried over", trigger.Name, t.FullName())
			}
		}
	}
}

// hasTrigger reports whether a trigger reads the same before and after.
func (p *Pair) hasTrigger(t catalog.Trigger) bool {
	for _, was := range p.Old.Triggers {
		if was.Name == t.Name && catalog.SameText(was.Definition, t.Definition) {
			return true
		}
	}
	return false
}

// body is the part of a routine's statement behind its head.
func body(definition string) string {
	if i := strings.Index(definition, "$"); i >= 0 {
		return definition[i:]
	}
	return definition
}
