package model

import (
	"slices"

	"widegate/internal/fault"
)

// shareRows makes a view whose columns are those of a table have rows of the
// table's type, where the project file says so, and lets rows be changed
// through it.
func (b *builder) shareRows(e *Entity) error {
	set := b.settings(e.Table)
	name := e.Table.FullName()
	if set.As == "" {
		if set.Write {
			return fault.New("add `as`, the table whose rows it shows", "widegate.yaml: entities: %s cannot be written without the table behind it", name)
		}
		return nil
	}
	if !e.Table.IsView() {
		return fault.New("take `as` away", "widegate.yaml: entities: %s is a table and has rows of its own", name)
	}
	at := slices.IndexFunc(b.model.Entities, func(other *Entity) bool { return other.Table.FullName() == set.As })
	if at < 0 {
		return fault.New(b.nearTable(set.As), "widegate.yaml: entities: %s shows rows of %q, which is no table of the project", name, set.As)
	}
	of := b.model.Entities[at]
	for _, f := range e.Fields {
		same := of.Field(f.Column.Name)
		// In a view, what a table checks may be a plain text: enums, and JSON on MariaDB.
		if same == nil || same.Kind != f.Kind && !(f.Kind == KindText && (same.Enum != nil || same.Kind == KindJSON)) {
			return fault.New("leave `as` out", "widegate.yaml: entities: %s has a column %s that %s has not", name, f.Column.Name, set.As)
		}
		f.Name, f.Kind, f.Enum, f.Set, f.Element, f.Domain, f.Composite = same.Name, same.Kind, same.Enum, same.Set, same.Element, same.Domain, same.Composite
		f.Nullable, f.Limits = same.Nullable, same.Limits
		if set.Write {
			f.Auto, f.ByDefault, f.Constant, f.Computed = same.Auto, same.ByDefault, same.Constant, same.Computed
		}
	}
	e.Type = of.Name
	if !set.Write {
		return nil
	}
	if !e.Table.Updatable {
		return fault.New("take `write` away", "widegate.yaml: entities: rows cannot be changed through the view %s", name)
	}
	if len(set.Key) == 0 {
		return fault.New("add `key`, the columns of its key", "widegate.yaml: entities: %s cannot be written without a key", name)
	}
	return nil
}
