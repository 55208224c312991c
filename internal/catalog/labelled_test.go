package catalog

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var signs = map[string]struct {
	declared string
	typ      Type
}{
	"k": {"bigint", Type{Kind: Int, Bits: 64}}, "l": {"bigint", Type{Kind: Int, Bits: 64}}, "i": {"integer", Type{Kind: Int, Bits: 32}},
	"t": {"text", Type{Kind: Text}}, "b": {"boolean", Type{Kind: Bool}}, "d": {"date", Type{Kind: Date}}, "u": {"uuid", Type{Kind: UUID}},
	"z": {"timestamp with time zone", Type{Kind: TimestampTZ}}, "n": {"numeric(10,2)", Type{Kind: Decimal, Precision: 10, Scale: 2}},
}

var tableWord = regexp.MustCompile(`^(\w+)\((.*)\)$`)

// labelled reads one side of a line of testdata/renames.txt.
func labelled(t *testing.T, text string) *Catalog {
	t.Helper()
	c := &Catalog{Engine: dialects.Of(dialects.Postgres)}
	for _, word := range strings.Split(text, ";") {
		name, columns := "hive", strings.TrimSpace(word)
		if m := tableWord.FindStringSubmatch(columns); m != nil {
			name, columns = m[1], m[2]
		}
		table := Table{Name: name, Kind: BaseTable}
		for _, column := range strings.Split(columns, ",") {
			parts := strings.Fields(column)
			require.GreaterOrEqual(t, len(parts), 2, text)
			sign := parts[1]
			if target, ok := strings.CutPrefix(sign, ">"); ok {
				table.References = append(table.References, Reference{Columns: []string{parts[0]}, Table: target, Target: []string{"id"}})
				sign = "l"
			}
			known, ok := signs[sign]
			require.True(t, ok, column)
			x := Column{Name: parts[0], Declared: known.declared, Type: known.typ, Nullable: sign != "k"}
			if len(parts) > 2 {
				x.Comment = parts[2]
			}
			if sign == "k" {
				table.PrimaryKey = &Key{Columns: []string{parts[0]}}
			}
			table.Columns = append(table.Columns, x)
		}
		c.Tables = append(c.Tables, table)
	}
	return c
}

// TestLabelledRenames measures on changes whose renames are known: what is taken
// for a rename without asking must be one, and most renames are found.
func TestLabelledRenames(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("testdata", "renames.txt"))
	require.NoError(t, err)
	lines, right, wrong, missed, asked := 0, 0, 0, 0, 0
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "#") || strings.TrimSpace(line) == "" {
			continue
		}
		lines++
		sides := strings.Split(line, "|")
		require.Len(t, sides, 3, line)
		want := map[string]bool{}
		for _, w := range strings.Fields(sides[2]) {
			want[w] = true
		}
		before, after := labelled(t, sides[0]), labelled(t, sides[1])
		for _, r := range FindRenames(before, after, nil, nil) {
			name := r.String()
			if !want[name] {
				name = strings.TrimPrefix(name, "hive.")
			}
			switch {
			case r.Confidence < Likely:
				asked++
			case want[name]:
				right++
				delete(want, name)
			default:
				wrong++
				t.Logf("taken for a rename, %s (%s): %s", r, r.Why, strings.TrimSpace(line))
			}
		}
		for w := range want {
			missed++
			t.Logf("not taken for one: %s in %s", w, strings.TrimSpace(line))
		}
	}
	precision, recall := float64(right)/float64(right+wrong), float64(right)/float64(right+missed)
	t.Logf("%d changes: %d renames found, %d taken wrongly, %d missed, %d to ask about; precision %.3f, recall %.3f", lines, right, wrong, missed, asked, precision, recall)
	assert.GreaterOrEqual(t, lines, 200)
	assert.GreaterOrEqual(t, precision, 0.99)
	assert.GreaterOrEqual(t, recall, 0.9)
}
