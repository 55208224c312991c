package migration

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/catalog"
)

// extraOrder is the order in which what hangs on a table comes back. Rights come
// late, and owners last, for only the owner may change the rest.
var extraOrder = []string{"exclusion constraint", "partition", "statistics", "rule", "trigger state", "policy", "row security", "view option", "view default", "storage option", "tablespace", "clustering",
	"replica identity", "column storage", "column statistics", "column compression", "column options", "comment", "right", "withheld right", "owner"}

// unmade are the kinds that no statement of a script makes.
func unmade(e catalog.Extra) bool { return e.Make == "" }

// bound reports whether the engine refuses to change a column while something of
// this kind reads it.
func bound(kind string) bool {
	return slices.Contains([]string{"policy", "rule", "statistics", "exclusion constraint", "trigger"}, kind)
}

// partNames are the names of some parts of a table.
func partNames(keys []catalog.Key, indexes []catalog.Index, checks []catalog.Check, references []catalog.Reference) []string {
	list := []string{}
	for _, k := range keys {
		list = append(list, k.Name)
	}
	for _, in := range indexes {
		list = append(list, in.Name)
	}
	for _, c := range checks {
		list = append(list, c.Name)
	}
	for _, r := range references {
		list = append(list, r.Name)
	}
	return list
}

// disturbs reports whether a text reads a column that changes under it.
func (p *pair) disturbs(text string) bool {
	for _, a := range p.altered {
		if (a.retyped() || a.computed()) && mentions(text, a.now.Name) {
			return true
		}
	}
	return slices.ContainsFunc(p.dropped, func(c *catalog.Column) bool { return mentions(text, c.Name) })
}

// remakes reports whether a text is about something of the table that is dropped
// and made again, which takes along what is said of it.
func (p *pair) remakes(text string) bool {
	list := partNames(p.addUniques, p.addIndexes, p.addChecks, p.addReferences)
	if p.keyChanged && p.now.PrimaryKey != nil {
		list = append(list, p.now.PrimaryKey.Name)
	}
	for _, c := range p.added {
		list = append(list, c.Name)
	}
	for _, a := range p.altered {
		if a.computed() && !a.freed() {
			list = append(list, a.now.Name)
		}
	}
	for name := range p.undone {
		list = append(list, name)
	}
	return slices.ContainsFunc(list, func(name string) bool { return mentions(text, name) })
}

func findExtra(list []catalog.Extra, e catalog.Extra) (catalog.Extra, bool) {
	i := slices.IndexFunc(list, func(x catalog.Extra) bool { return x.Kind == e.Kind && x.Name == e.Name })
	if i < 0 {
		return catalog.Extra{}, false
	}
	return list[i], true
}

// undoExtras removes what the new schema lacks or defines differently, and what
// keeps the engine from changing a column. makeExtras makes again what is only
// removed for the duration of the change.
func (d *postgres) undoExtras(pairs []*pair, plan viewPlan) {
	for _, p := range pairs {
		d.undoTriggers(p, p.old, p.now)
		for _, e := range p.old.Extras {
			now, stays := findExtra(p.now.Extras, e)
			switch {
			case stays && now.Make == e.Make && !(bound(e.Kind) && (p.disturbs(e.Make) || d.callsReplaced(e.Make))):
				continue
			case e.Kind == "partition":
				d.undoPartition(p, e, now, stays)
				continue
			case e.Undo != "" && !d.goesAlong(e, p):
				d.step(e.Undo)
			}
			if stays {
				d.makeLater(now)
			}
		}
	}
	for i := range d.at.Tables {
		was := &d.at.Tables[i]
		now, ok := d.after.Table(was.Schema, was.Name)
		if !was.IsView() || !ok || slices.Contains(plan.drop, was) {
			continue
		}
		d.undoTriggers(&pair{old: was, now: now}, was, now)
		for _, e := range was.Extras {
			if now, stays := findExtra(now.Extras, e); (!stays || now.Make != e.Make) && e.Undo != "" {
				d.step(e.Undo)
			}
		}
	}
	for _, e := range d.at.Extras {
		now, stays := findExtra(d.after.Extras, e)
		switch {
		case stays && now.Make == e.Make:
		case e.Undo != "" && !d.ofGone(e):
			d.step(e.Undo)
		case unmade(e) && !stays:
			d.note("the %s %s stays, since no statement for it is known", e.Kind, e.Name)
		case e.Kind == "extension" && !stays:
			d.note("the extension %s stays; drop it by hand when nothing uses it", e.Name)
		}
	}
}

// ofGone reports whether a right is one on a routine that is dropped itself.
func (d *postgres) ofGone(e catalog.Extra) bool {
	return slices.ContainsFunc(d.at.Routines, func(r catalog.Routine) bool {
		stays := slices.ContainsFunc(d.after.Routines, func(x catalog.Routine) bool { return x.Signature() == r.Signature() })
		return !stays && mentions(e.Make, r.Name)
	})
}

// goesAlong reports whether something goes by itself with a column, constraint
// or index that is dropped.
func (d *postgres) goesAlong(e catalog.Extra, p *pair) bool {
	about := []string{"column storage", "column statistics", "column compression", "column options", "comment", "right", "trigger state"}
	if !slices.Contains(about, e.Kind) {
		return false
	}
	if e.Kind == "right" && !strings.Contains(e.Make, "(") { // one on the whole table
		return false
	}
	gone := partNames(p.dropUniques, p.dropIndexes, p.dropChecks, p.dropReferences)
	for _, c := range p.dropped {
		gone = append(gone, c.Name)
	}
	for name := range p.undone {
		gone = append(gone, name)
	}
	for _, x := range p.old.Extras {
		if now, stays := findExtra(p.now.Extras, x); bound(x.Kind) && (!stays || now.Make != x.Make || p.disturbs(x.Make)) {
			gone = append(gone, x.Name)
		}
	}
	return slices.ContainsFunc(gone, func(name string) bool { return mentions(e.Make, name) })
}

// callsReplaced reports whether a text calls a routine that is dropped and made
// again.
func (d *postgres) callsReplaced(text string) bool {
	return slices.ContainsFunc(d.replacedRoutines, func(r catalog.Routine) bool { return mentions(text, r.Name) })
}

func (d *postgres) undoTriggers(p *pair, old, now *catalog.Table) {
	for _, t := range old.Triggers {
		i := slices.IndexFunc(now.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
		same := i >= 0 && catalog.SameText(now.Triggers[i].Definition, t.Definition)
		if same && !p.disturbs(t.Definition) && !d.callsReplaced(t.Definition) {
			continue
		}
		if p.undone == nil {
			p.undone = map[string]bool{}
		}
		p.undone[t.Name] = true
		d.step(fmt.Sprintf("DROP TRIGGER %s ON %s", d.name(t.Name), d.tableOf(now)))
	}
}

// undoPartition lets a part of a table go, with its rows, only after a decision.
func (d *postgres) undoPartition(p *pair, e, now catalog.Extra, stays bool) {
	if stays {
		attach := strings.Replace(now.Make, "CREATE TABLE "+e.Name+" PARTITION OF ", "ALTER TABLE ", 1)
		attach = strings.Replace(attach, "ALTER TABLE "+d.tableOf(p.now)+" ", "ALTER TABLE "+d.tableOf(p.now)+" ATTACH PARTITION "+e.Name+" ", 1)
		d.step(e.Undo, attach)
		return
	}
	d.decision(fmt.Sprintf("The partition %s of %s is gone. What becomes of its rows?", e.Name, p.now.FullName()),
		Proposal{Title: "it stays as a table of its own", SQL: []string{e.Undo}},
		Proposal{Title: "drop it, its rows are not needed", SQL: []string{"DROP TABLE " + e.Name}})
}

func (d *postgres) makeLater(e catalog.Extra) {
	if !unmade(e) && !slices.Contains(d.later, e) {
		d.later = append(d.later, e)
	}
}

// makeExtras makes what is new, what has changed, and what was taken away for
// the time being.
func (d *postgres) makeExtras(pairs []*pair) {
	for _, p := range pairs {
		d.makeTriggers(p.old, p.now, p.undone)
		for _, e := range p.now.Extras {
			was, there := findExtra(p.old.Extras, e)
			if !there || was.Make != e.Make && e.Kind != "partition" || p.remakes(e.Make) && e.Kind != "partition" && !bound(e.Kind) {
				d.makeLater(e)
			}
		}
	}
	for _, t := range d.fresh() {
		d.makeTriggers(&catalog.Table{}, t, nil)
		for _, e := range t.Extras {
			d.makeLater(e)
		}
	}
	for i := range d.after.Tables {
		d.makeViewExtras(&d.after.Tables[i])
	}
	for _, e := range d.after.Extras {
		was, there := findExtra(d.at.Extras, e)
		switch {
		case e.Kind == "extension":
		case unmade(e) && !there:
			d.note("the %s %s must be made by hand", e.Kind, e.Name)
		case !there || was.Make != e.Make || d.callsReplaced(e.Make):
			d.makeLater(e)
		}
	}
	slices.SortStableFunc(d.later, func(a, b catalog.Extra) int {
		return slices.Index(extraOrder, a.Kind) - slices.Index(extraOrder, b.Kind)
	})
	for _, e := range d.later {
		d.step(e.Make)
	}
}

// makeViewExtras brings back what belongs to a view that was made again, or whose
// options a replacement has taken away.
func (d *postgres) makeViewExtras(v *catalog.Table) {
	if !v.IsView() {
		return
	}
	was, there := d.at.Table(v.Schema, v.Name)
	if !there || d.remade[v.FullName()] {
		was = &catalog.Table{}
	}
	d.makeTriggers(was, v, nil)
	for _, e := range v.Extras {
		old, same := findExtra(was.Extras, e)
		if !same || old.Make != e.Make || slices.Contains(d.again, v.FullName()) && e.Kind == "view option" {
			d.makeLater(e)
		}
	}
}

func (d *postgres) makeTriggers(old, now *catalog.Table, undone map[string]bool) {
	for _, t := range now.Triggers {
		i := slices.IndexFunc(old.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
		if i < 0 || undone[t.Name] || !catalog.SameText(old.Triggers[i].Definition, t.Definition) {
			d.step(t.Definition)
		}
	}
}

// makeExtensions comes first, for types and functions may be theirs.
func (d *postgres) makeExtensions() {
	for _, e := range d.after.Extras {
		if _, there := findExtra(d.at.Extras, e); e.Kind == "extension" && !there {
			d.step(e.Make)
		}
	}
}
