package model

import (
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
)

// Role is what the runtime does with a column by itself.
type Role string

// The roles of columns. A version counts the updates of a row, and so tells
// that another came between.
const (
	NoRole      Role = ""
	CreatedRole Role = "created"
	UpdatedRole Role = "updated"
	DeletedRole Role = "deleted"
	VersionRole Role = "version"
)

// none is how the project file takes a role from a column.
const none = "none"

// roleNames are the names by which columns are recognised, without underscores
// and in small letters.
var roleNames = map[string]Role{
	"createdat": CreatedRole, "createdon": CreatedRole, "creationtime": CreatedRole, "insertedat": CreatedRole,
	"updatedat": UpdatedRole, "updatedon": UpdatedRole, "modifiedat": UpdatedRole, "changedat": UpdatedRole,
	"deletedat": DeletedRole, "deletedon": DeletedRole, "removedat": DeletedRole,
	"version": VersionRole, "rowversion": VersionRole, "lockversion": VersionRole, "revision": VersionRole,
}

// setRoles gives columns the roles that their names and types suggest, or the
// project file says.
func (b *builder) setRoles(e *Entity) error {
	taken := map[Role]*Field{}
	for _, f := range e.Fields {
		set := b.settings(e.Table).Columns[f.Column.Name].Role
		role := Role(set)
		switch {
		case set == none:
			continue
		case set == "":
			role = suggestedRole(f)
		case !role.fits(f):
			return fault.New("the roles are created, updated and deleted for times, deleted for one that may be null, version for a whole number, and none",
				"widegate.yaml: entities: %s.%s, which is %s, cannot have the role %s", e.Table.FullName(), f.Column.Name, f.Column.Declared, set)
		}
		if role == NoRole || e.Verbs != Full {
			continue
		}
		if other := taken[role]; other != nil {
			if set != "" {
				return fault.New("set the role of one of them to none", "widegate.yaml: entities: %s has two columns of the role %s: %s and %s",
					e.Table.FullName(), set, other.Column.Name, f.Column.Name)
			}
			continue
		}
		f.Role = role
		taken[role] = f
	}
	return nil
}

func suggestedRole(f *Field) Role {
	role := roleNames[strings.ToLower(strings.ReplaceAll(f.Column.Name, "_", ""))]
	if !role.fits(f) {
		return NoRole
	}
	return role
}

// fits reports whether a column is of a type that the role needs.
func (r Role) fits(f *Field) bool {
	if f.Computed || f.InKey || f.Column.Default != nil && f.Column.Default.Kind == catalog.Identity {
		return false
	}
	time := f.Kind == KindTimestamp || f.Kind == KindTimestampTZ
	switch r {
	case CreatedRole, UpdatedRole:
		return time
	case DeletedRole:
		return time && f.Nullable
	case VersionRole:
		return !f.Nullable && (f.Kind == KindInt16 || f.Kind == KindInt32 || f.Kind == KindInt64)
	}
	return false
}

// addFinders adds a method for each unique key besides the primary one.
func (b *builder) addFinders(e *Entity) {
	vars := newNamespace(verbNames...)
	for _, f := range e.Fields {
		vars.reserve(f.Var)
	}
	for _, r := range e.Relations {
		vars.reserve(r.Var)
	}
	for _, u := range e.Uniques {
		finder := Finder{}
		args := newNamespace("ctx", "db", "t")
		name := ""
		for _, column := range u.Columns {
			f := e.Field(column)
			finder.Fields = append(finder.Fields, f)
			finder.Args = append(finder.Args, args.give(b.steady.unexported(b.steady.Split(f.Name))))
			name += f.Name
		}
		if sameFields(finder.Fields, e.Key) || slices.ContainsFunc(finder.Fields, func(f *Field) bool { return !f.comparable() }) {
			continue
		}
		finder.Name = vars.give("FindBy" + name)
		finder.Key = vars.give("By" + name)
		e.Finders = append(e.Finders, finder)
	}
}

// comparable reports whether rows can be found by a value of the field.
func (f *Field) comparable() bool {
	switch f.Kind {
	case KindJSON, KindList, KindRange, KindRecord, KindBytes:
		return false
	}
	return true
}

func sameFields(a, b []*Field) bool {
	return len(a) == len(b) && !slices.ContainsFunc(a, func(f *Field) bool { return !slices.Contains(b, f) })
}
