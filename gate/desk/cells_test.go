package desk

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"widegate/gate"
	"widegate/gate/cql2"
	"widegate/gate/rest"
)

func TestNamesInProse(t *testing.T) {
	for name, want := range map[string]string{
		"id": "ID", "weight_kg": "Weight (kg)", "humidity_pct": "Humidity (%)", "is_active": "Active", "weightKg": "Weight (kg)", "hive-overviews": "Hive overviews", "": "", "kg": "Kg", "größe": "Größe",
	} {
		assert.Equal(t, want, columnLabel(name), name)
	}
}

func TestCells(t *testing.T) {
	now := time.Date(2026, 5, 10, 12, 0, 0, 0, time.UTC)
	long := strings.Repeat("long ", 40)
	for _, c := range []struct {
		typ    gate.Type
		format string
		value  any
		want   cell
	}{
		{gate.TypeInt64, "", json.Number("7"), cell{Text: "7", Class: "number"}},
		{gate.TypeInt64, "number", json.Number("-1234567"), cell{Text: "−1\u202f234\u202f567", Class: "number", Format: "number", Value: "-1234567"}},
		{gate.TypeNumeric, "currency CHF", json.Number("1234.5"), cell{Text: "1\u202f234.5 CHF", Class: "number", Format: "currency CHF", Value: "1234.5"}},
		{gate.TypeFloat64, "percent", json.Number("12.5"), cell{Text: "12.5 %", Class: "number"}},
		{gate.TypeBool, "", true, cell{Text: "yes", Class: "bool yes"}},
		{gate.TypeText, "", nil, cell{Text: "–", Class: "none"}},
		{gate.TypeInt64, "", nil, cell{Text: "–", Class: "none number"}},
		{gate.TypeTimestampTZ, "", "2026-05-01T08:30:12.5Z", cell{Text: "2026-05-01 08:30", Title: "2026-05-01T08:30:12.5Z", Class: "time", Format: "moment", Value: "2026-05-01T08:30:12.5Z"}},
		{gate.TypeTimestampTZ, "date", "2026-05-01T08:30:00Z", cell{Text: "2026-05-01", Title: "2026-05-01T08:30:00Z", Format: "date", Value: "2026-05-01"}},
		{gate.TypeDate, "relative", "2026-05-07", cell{Text: "3 days ago", Title: "2026-05-07"}},
		{gate.TypeTimestampTZ, "relative", "2026-05-10T13:00:00Z", cell{Text: "in 1 hour", Title: "2026-05-10T13:00:00Z"}},
		{gate.TypeText, "mail", "a b@example.org", cell{Text: "a b@example.org", Href: "mailto:a%20b@example.org"}},
		{gate.TypeText, "phone", "+41 (0)44 1", cell{Text: "+41 (0)44 1", Call: "tel:+410441"}},
		{gate.TypeText, "link", "https://bees.example/x", cell{Text: "https://bees.example/x", Href: "https://bees.example/x"}},
		{gate.TypeText, "link", "javascript:alert(1)", cell{Text: "javascript:alert(1)"}},
		{gate.TypeText, "", long, cell{Text: long[:shortText-1] + "…", Title: long, Class: "text"}},
		{gate.TypeInt64, "own stars", json.Number("3"), cell{Text: "3", Format: "own stars", Value: "3"}},
		{gate.TypeJSON, "", map[string]any{"a": json.Number("1")}, cell{Text: `{"a":1}`, Class: "code"}},
		{gate.TypeBytes, "", strings.Repeat("A", 4000), cell{Text: "3.0 kB", Class: "number"}},
	} {
		column := &column{Property: rest.Property{Column: gate.Column{Type: c.typ}}, ColumnLook: ColumnLook{Format: c.format}}
		assert.Equal(t, c.want, column.cell(c.value, "/api/hives/1", now, true))
	}
	picture := &column{Property: rest.Property{Column: gate.Column{Type: gate.TypeBytes}, Content: "photo"}}
	assert.Equal(t, "/api/hives/1/photo", picture.cell("iVBORw0KGgoAAA", "/api/hives/1", now, true).Src)
	assert.Empty(t, picture.cell("PHNjcmlwdD4=", "/api/hives/1", now, true).Src)
}

// FuzzConditions holds the filters that the form writes to the language of filters:
// whatever is entered is one value, and ends no text.
func FuzzConditions(f *testing.F) {
	for _, seed := range []string{"", "Queen's", "100%", `back\slash`, "a_b", "'; DROP", `\' OR 1 = 1 --`, `it\'s`, `\`, "\x00", "né"} {
		f.Add(seed, uint8(0), false)
	}
	f.Fuzz(func(t *testing.T, value string, operator uint8, odd bool) {
		if !utf8.ValidString(value) || len(value) > 500 {
			t.Skip()
		}
		name := "name"
		if odd {
			name = `odd "name" of it`
		}
		c := &column{Property: rest.Property{Column: gate.Column{Name: name, Type: gate.TypeText}}}
		text := c.condition(operators[int(operator)%len(operators)].Name, value)
		root, err := cql2.Parse(text, cql2.DefaultLimits)
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		properties := 0
		var count func(n *cql2.Node)
		count = func(n *cql2.Node) {
			if n.Op == cql2.Property {
				properties++
			}
			for _, a := range n.Args {
				count(a)
			}
		}
		if count(root); properties != 1 {
			t.Fatalf("%s has %d properties", text, properties)
		}
	})
}
