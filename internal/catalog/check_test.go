package catalog

import (
	"fmt"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
)

// TestDecodeHoldsToWords has values in a snapshot that no reader gives.
func TestDecodeHoldsToWords(t *testing.T) {
	good := `{"version": 1, "engine": "postgres", "tables": [{"name": "hive", "kind": "table", "columns": [{"name": "id", "declared": "integer", "type": {"kind": "int"}, "default": {"kind": "constant"}}],
		"references": [{"columns": ["id"], "table": "hive", "target": ["id"], "onDelete": "set null (id)"}]}], "routines": [{"name": "f", "kind": "function"}]}`
	_, err := Decode([]byte(good), dialects.All)
	assert.NoError(t, err)
	for from, to := range map[string]string{
		`"postgres"`: `"oracle"`, `"kind": "table"`: `"kind": "table; DROP"`, `"name": "hive"`: `"name": ""`, `"name": "id"`: `"name": ""`, `"kind": "constant"`: `"kind": "x"`,
		`"set null (id)"`: `"cascade; DROP TABLE hive"`, `"kind": "function"`: `"kind": "aggregate; x"`,
	} {
		_, err := Decode([]byte(strings.Replace(good, from, to, 1)), dialects.All)
		assert.ErrorContains(t, err, "reading the catalog", to)
	}
	var columns []string
	for i := range 2001 {
		columns = append(columns, fmt.Sprintf(`{"name": "c%d", "declared": "integer", "type": {"kind": "int"}}`, i))
	}
	_, err = Decode([]byte(`{"version": 1, "engine": "sqlite", "tables": [{"name": "hive", "kind": "table", "columns": [`+strings.Join(columns, ",")+`]}]}`), dialects.All)
	assert.ErrorContains(t, err, "more than sqlite takes")
}
