package drafting

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/migration"

	"widegate/internal/catalog"
)

// extraOrder is the order in which what hangs on a table comes back. Rights come
// late, and owners last, for only the owner may change the rest.
var extraOrder = []string{"exclusion constraint", "partition", "statistics", "rule", "trigger state", "policy", "row security", "view option", "view default", "storage option", "tablespace", "clustering",
	"replica identity", "column storage", "column statistics", "column compression", "column options", "comment", "right", "withheld right", "owner"}

// bound reports whether the engine refuses to change a column while something of
// this kind reads it.
func bound(kind string) bool {
	return slices.Contains([]string{"policy", "rule", "statistics", "exclusion constraint", "trigger"}, kind)
}

// undoExtras removes what the new schema lacks or defines differently, and what
// keeps the engine from changing a column. makeExtras makes again what is only
// removed for the duration of the change.
func (d *postgres) undoExtras(pairs []*migration.Pair, plan viewPlan) {
	for _, p := range pairs {
		d.undoTriggers(p, p.Old, p.Now)
		for _, e := range p.Old.Extras {
			now, stays := migration.FindExtra(p.Now.Extras, e)
			switch {
			case stays && now.Make == e.Make && !(bound(e.Kind) && (p.Disturbs(e.Make) || d.callsReplaced(e.Make))):
				continue
			case e.Kind == "partition":
				d.undoPartition(p, e, now, stays)
				continue
			case e.Undo != "" && !d.goesAlong(e, p):
				d.Step(e.Undo)
			}
			if stays {
				d.makeLater(now)
			}
		}
	}
	for i := range d.At.Tables {
		was := &d.At.Tables[i]
		now, ok := d.After.Table(was.Schema, was.Name)
		if !was.IsView() || !ok || slices.Contains(plan.drop, was) {
			continue
		}
		d.undoTriggers(&migration.Pair{Old: was, Now: now}, was, now)
		for _, e := range was.Extras {
			if now, stays := migration.FindExtra(now.Extras, e); (!stays || now.Make != e.Make) && e.Undo != "" {
				d.Step(e.Undo)
			}
		}
	}
	for _, e := range d.At.Extras {
		now, stays := migration.FindExtra(d.After.Extras, e)
		switch {
		case stays && now.Make == e.Make:
		case e.Undo != "" && !d.ofGone(e):
			d.Step(e.Undo)
		case migration.Unmade(e) && !stays:
			d.Note("the %s %s stays, since no statement for it is known", e.Kind, e.Name)
		case e.Kind == "extension" && !stays:
			d.Note("the extension %s stays; drop it by hand when nothing uses it", e.Name)
		}
	}
}

// ofGone reports whether a right is one on a routine that is dropped itself.
func (d *postgres) ofGone(e catalog.Extra) bool {
	return slices.ContainsFunc(d.At.Routines, func(r catalog.Routine) bool {
		stays := slices.ContainsFunc(d.After.Routines, func(x catalog.Routine) bool { return x.Signature() == r.Signature() })
		return !stays && migration.Mentions(e.Make, r.Name)
	})
}

// goesAlong reports whether something goes by itself with a column, constraint
// or index that is dropped.
func (d *postgres) goesAlong(e catalog.Extra, p *migration.Pair) bool {
	about := []string{"column storage", "column statistics", "column compression", "column options", "comment", "right", "trigger state"}
	if !slices.Contains(about, e.Kind) {
		return false
	}
	if e.Kind == "right" && !strings.Contains(e.Make, "(") { // one on the whole table
		return false
	}
	gone := migration.PartNames(p.DropUniques, p.DropIndexes, p.DropChecks, p.DropReferences)
	for _, c := range p.Dropped {
		gone = append(gone, c.Name)
	}
	for name := range p.Undone {
		gone = append(gone, name)
	}
	for _, x := range p.Old.Extras {
		if now, stays := migration.FindExtra(p.Now.Extras, x); bound(x.Kind) && (!stays || now.Make != x.Make || p.Disturbs(x.Make)) {
			gone = append(gone, x.Name)
		}
	}
	return slices.ContainsFunc(gone, func(name string) bool { return migration.Mentions(e.Make, name) })
}

// callsReplaced reports whether a text calls a routine that is dropped and made
// again.
func (d *postgres) callsReplaced(text string) bool {
	return slices.ContainsFunc(d.replacedRoutines, func(r catalog.Routine) bool { return migration.Mentions(text, r.Name) })
}

func (d *postgres) undoTriggers(p *migration.Pair, old, now *catalog.Table) {
	for _, t := range old.Triggers {
		i := slices.IndexFunc(now.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
		same := i >= 0 && catalog.SameText(now.Triggers[i].Definition, t.Definition)
		if same && !p.Disturbs(t.Definition) && !d.callsReplaced(t.Definition) {
			continue
		}
		if p.Undone == nil {
			p.Undone = map[string]bool{}
		}
		p.Undone[t.Name] = true
		d.Step(fmt.Sprintf("DROP TRIGGER %s ON %s", d.Name(t.Name), d.TableOf(now)))
	}
}

// undoPartition lets a part of a table go, with its rows, only after a decision.
func (d *postgres) undoPartition(p *migration.Pair, e, now catalog.Extra, stays bool) {
	if stays {
		attach := strings.Replace(now.Make, "CREATE TABLE "+e.Name+" PARTITION OF ", "ALTER TABLE ", 1)
		attach = strings.Replace(attach, "ALTER TABLE "+d.TableOf(p.Now)+" ", "ALTER TABLE "+d.TableOf(p.Now)+" ATTACH PARTITION "+e.Name+" ", 1)
		d.Step(e.Undo, attach)
		return
	}
	d.Decision(fmt.Sprintf("The partition %s of %s is gone. What becomes of its rows?", e.Name, p.Now.FullName()),
		migration.Proposal{Title: "it stays as a table of its own", SQL: []string{e.Undo}},
		migration.Proposal{Title: "drop it, its rows are not needed", SQL: []string{"DROP TABLE " + e.Name}})
}

func (d *postgres) makeLater(e catalog.Extra) {
	if !migration.Unmade(e) && !slices.Contains(d.later, e) {
		d.later = append(d.later, e)
	}
}

// makeExtras makes what is new, what has changed, and what was taken away for
// the time being.
func (d *postgres) makeExtras(pairs []*migration.Pair) {
	for _, p := range pairs {
		d.makeTriggers(p.Old, p.Now, p.Undone)
		for _, e := range p.Now.Extras {
			was, there := migration.FindExtra(p.Old.Extras, e)
			if !there || was.Make != e.Make && e.Kind != "partition" || p.Remakes(e.Make) && e.Kind != "partition" && !bound(e.Kind) {
				d.makeLater(e)
			}
		}
	}
	for _, t := range d.Fresh() {
		d.makeTriggers(&catalog.Table{}, t, nil)
		for _, e := range t.Extras {
			d.makeLater(e)
		}
	}
	for i := range d.After.Tables {
		d.makeViewExtras(&d.After.Tables[i])
	}
	for _, e := range d.After.Extras {
		was, there := migration.FindExtra(d.At.Extras, e)
		switch {
		case e.Kind == "extension":
		case migration.Unmade(e) && !there:
			d.Note("the %s %s must be made by hand", e.Kind, e.Name)
		case !there || was.Make != e.Make || d.callsReplaced(e.Make):
			d.makeLater(e)
		}
	}
	slices.SortStableFunc(d.later, func(a, b catalog.Extra) int {
		return slices.Index(extraOrder, a.Kind) - slices.Index(extraOrder, b.Kind)
	})
	for _, e := range d.later {
		d.Step(e.Make)
	}
}

// makeViewExtras brings back what belongs to a view that was made again, or whose
// options a replacement has taken away.
func (d *postgres) makeViewExtras(v *catalog.Table) {
	if !v.IsView() {
		return
	}
	was, there := d.At.Table(v.Schema, v.Name)
	if !there || d.remade[v.FullName()] {
		was = &catalog.Table{}
	}
	d.makeTriggers(was, v, nil)
	for _, e := range v.Extras {
		old, same := migration.FindExtra(was.Extras, e)
		if !same || old.Make != e.Make || slices.Contains(d.again, v.FullName()) && e.Kind == "view option" {
			d.makeLater(e)
		}
	}
}

func (d *postgres) makeTriggers(old, now *catalog.Table, undone map[string]bool) {
	for _, t := range now.Triggers {
		i := slices.IndexFunc(old.Triggers, func(x catalog.Trigger) bool { return x.Name == t.Name })
		if i < 0 || undone[t.Name] || !catalog.SameText(old.Triggers[i].Definition, t.Definition) {
			d.Step(t.Definition)
		}
	}
}

// makeExtensions comes first, for types and functions may be theirs.
func (d *postgres) makeExtensions() {
	for _, e := range d.After.Extras {
		if _, there := migration.FindExtra(d.At.Extras, e); e.Kind == "extension" && !there {
			d.Step(e.Make)
		}
	}
}
