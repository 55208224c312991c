package own

import (
	"reflect"

	"widegate/internal/render/typecheck"
)

// check finds what cannot be in any run, also in branches that no table takes.
func (t *Template) check() []error {
	c := &typecheck.Checker{Set: t.text, Funcs: described, Fields: t.fieldsOf, Keys: map[string]reflect.Type{}, At: t.at}
	for name, s := range t.declared {
		c.Keys[name] = settingTypes[s.Type]
	}
	var faults []error
	for _, part := range []string{whenPart, pathPart, bodyPart} {
		faults = append(faults, c.Check(part, reflect.TypeFor[*Data]())...)
	}
	return faults
}

var settingTypes = map[string]reflect.Type{"text": reflect.TypeFor[string](), "number": reflect.TypeFor[int](), "boolean": reflect.TypeFor[bool](), "list": reflect.TypeFor[[]string]()}

// fieldsOf are the fields of Data that there are for the unit; all of other views.
func (t *Template) fieldsOf(view reflect.Type) []string {
	if view == reflect.TypeFor[Data]() {
		return append([]string{"Project", "Notice", "Settings"}, present[t.Head.For]...)
	}
	return nil
}
