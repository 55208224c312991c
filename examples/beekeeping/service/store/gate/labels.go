package gate

import (
	"slices"
	"strings"
)

// SetOf writes labels as MySQL keeps a value of a SET column: between commas, in
// the order of the column. Others are left out, and so is what comes twice.
func SetOf(order []string, labels ...string) string {
	return strings.Join(slices.DeleteFunc(slices.Clone(order), func(l string) bool { return !slices.Contains(labels, l) }), ",")
}

// SetHas reports whether a value of a SET column has a label.
func SetHas(value, label string) bool {
	return value != "" && slices.Contains(strings.Split(value, ","), label)
}
