package store_test

import (
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/bench/store"
)

// TestWhatCompletionShows lists what can be typed behind a table's variable.
func TestWhatCompletionShows(t *testing.T) {
	table := reflect.TypeOf(store.Samples)
	var names []string
	for _, f := range reflect.VisibleFields(table.Elem()) {
		if f.IsExported() {
			names = append(names, f.Name)
		}
	}
	for i := range table.NumMethod() {
		names = append(names, table.Method(i).Name)
	}
	slices.Sort(names)
	assert.Equal(t, []string{
		"All", "Count", "Delete", "Delivery", "DeliveryID", "Each", "Find", "FindAll", "ID", "Import", "Insert", "InsertAll", "InsertWithRelated",
		"Note", "On", "OnLoad", "OrderBy", "Purge", "Query", "Restore", "TakenAt", "Update", "UpdateAll", "UpdateChanged", "Upsert", "Validate", "Value", "Where", "With",
	}, names, "columns, relations and verbs, and nothing else")
}
