package impact

import (
	"encoding/json"
	"strings"
	"testing"

	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"os"
	"path/filepath"

	"widegate/internal/catalog"
	"widegate/internal/merge"
	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render/openapi"
)

// modelOf makes the model of a SQLite schema.
func modelOf(t *testing.T, ddl string) (*catalog.Catalog, *model.Model) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "schema.sql")
	require.NoError(t, os.WriteFile(file, []byte(ddl), 0o644))
	c, err := read.Read(t.Context(), read.Source{Engine: dialects.SQLite, DDL: []string{file}})
	require.NoError(t, err)
	m, err := model.Build(c, project.Default(), project.NewNames())
	require.NoError(t, err)
	return c, m
}

const before = `
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, phone TEXT);
CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper_id INTEGER NOT NULL REFERENCES keeper (id), title VARCHAR(40) NOT NULL UNIQUE,
	temper TEXT NOT NULL CHECK (temper IN ('calm', 'fierce')), frames INTEGER, box TEXT);
CREATE TABLE swarm (id INTEGER PRIMARY KEY);
`

const after = `
CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL, phone TEXT NOT NULL, mail TEXT, born INTEGER NOT NULL);
CREATE TABLE colony (id INTEGER PRIMARY KEY, keeper_id INTEGER REFERENCES keeper (id), name VARCHAR(40) NOT NULL UNIQUE,
	temper TEXT NOT NULL CHECK (temper IN ('calm', 'gentle')), frames REAL);
CREATE TABLE forage (id INTEGER PRIMARY KEY);
`

var renames = []catalog.Rename{
	{Thing: catalog.RenamedTable, From: "hive", To: "colony", Confidence: 1},
	{Thing: catalog.RenamedColumn, In: "colony", From: "title", To: "name", Confidence: 1},
}

func TestCode(t *testing.T) {
	_, was := modelOf(t, before)
	_, now := modelOf(t, after)
	var texts []string
	for _, l := range Code(was, now, renames) {
		texts = append(texts, l.Text)
		assert.Equal(t, l.Kind != catalog.Added, l.Breaks, l.Text)
	}
	assert.ElementsMatch(t, []string{
		"Hive is called Colony now, and Hives Colonies",
		"Colony.KeeperID is gate.Maybe[int64] now, was int64",
		"Colony.Title is called Name now",
		"Colony.Frames is gate.Maybe[float64] now, was gate.Maybe[int64]",
		"Colony.Box is gone",
		"Colonies.FindByTitle is gone",
		"Colonies.FindByName is new",
		"Keeper.Phone is string now, was gate.Maybe[string]",
		"Keeper.Mail is new, gate.Maybe[string]",
		"Keeper.Born is new, int64",
		"the relation Keeper.Hives is gone",
		"the relation Keeper.Colonies is new, ToMany Colony",
		"Swarm is gone",
		"Forage is new, with 1 field",
		"TemperFierce is gone",
		"TemperGentle is new",
	}, texts)
}

func TestClients(t *testing.T) {
	_, was := modelOf(t, before)
	_, now := modelOf(t, after)
	lines, err := Clients(was, now, openapi.Render(was, ""), openapi.Render(now, ""), renames)
	require.NoError(t, err)
	var breaks, fine []string
	for _, l := range lines {
		assert.NotEmpty(t, l.Rule, l.Text)
		if l.Breaks {
			breaks = append(breaks, l.Text)
		} else {
			fine = append(fine, l.Text)
		}
	}
	for _, want := range []string{
		"/api/swarms is gone, with all below it",
		"/api/hives is gone, with all below it",
		"Colony.title is called name now",
		"Colony.box is gone from answers and requests",
		"Colony.frames is number (double) or string in answers now, was integer (int64)",
		"Colony.frames is number (double) or string in requests now, was integer (int64)",
		"Colony.keeper_id may be null in answers now",
		`Colony.temper can be "fierce" no more`,
		"Keeper.born is new, and must be given in requests",
		"Keeper.phone must not be null in requests any more",
		"Keeper.phone must be given in requests now",
		"Keeper.name has the maxLength 60 in requests now, was 80",
	} {
		assert.Contains(t, breaks, want)
	}
	for _, want := range []string{
		"/api/forages is new, with all below it",
		"/api/colonies is new, with all below it",
		"Keeper.mail is new",
		"Keeper.phone is never null in answers any more",
		`Colony.temper can be "gentle" now`,
		"Colony.keeper_id may be null in requests now",
	} {
		assert.Contains(t, fine, want)
	}
	same, err := Clients(was, was, openapi.Render(was, ""), openapi.Render(was, ""), nil)
	require.NoError(t, err)
	assert.Empty(t, same)
}

func TestAKeyThatChangesBreaksAddresses(t *testing.T) {
	_, was := modelOf(t, "CREATE TABLE hive (a INTEGER NOT NULL, b INTEGER NOT NULL, PRIMARY KEY (a, b))")
	_, now := modelOf(t, "CREATE TABLE hive (id INTEGER PRIMARY KEY, a INTEGER NOT NULL, b INTEGER NOT NULL)")
	lines, err := Clients(was, now, openapi.Render(was, ""), openapi.Render(now, ""), nil)
	require.NoError(t, err)
	found := false
	for _, l := range lines {
		found = found || l.Rule == RuleAddress && l.Text == "the key in the addresses of Hives is id now, was a, b"
	}
	assert.True(t, found)
}

func TestUses(t *testing.T) {
	symbols := map[string]string{"Hive": "Colony", "Hive.Title": "Name", "Keeper.Title": "Rank", "Hives": "Colonies"}
	now := func(message string) string {
		uses := Uses([]merge.Conflict{{File: "a.go", Line: 3, Message: "with the new rendering this does not build: " + message}}, symbols)
		require.Len(t, uses, 1)
		assert.Equal(t, message, uses[0].Message)
		return uses[0].Now
	}
	assert.Equal(t, "Name", now("h.Title undefined (type *store.Colony has no field or method Title)"))
	assert.Equal(t, "Rank", now("k.Title undefined (type store.Keeper has no field or method Title)"))
	assert.Equal(t, "Name", now("unknown field Title in struct literal of type store.Colony"))
	assert.Equal(t, "Colonies", now("undefined: store.Hives"))
	assert.Empty(t, now("undefined: store.Swarms"))
	assert.Empty(t, now("cannot use x (variable of type int64) as int32 value"))
}

func FuzzDocuments(f *testing.F) {
	f.Add(`{"paths": {"/a": {"get": {"parameters": [{"name": "x"}]}}}, "components": {"schemas": {"A": {"properties": {"b": {"type": ["string", "null"], "enum": ["c", null]}}}}}}`, `{}`)
	f.Add(`{"components": {"schemas": {"A": {"properties": {"b": 1}}, "A.new": {"required": ["b"], "properties": {"b": {"oneOf": [{"type": "null"}]}}}}}}`, `[]`)
	f.Fuzz(func(t *testing.T, a, b string) {
		lines, err := compareDocuments([]byte(a), []byte(b), spelling{})
		if err != nil {
			return
		}
		for _, l := range lines {
			require.NotEmpty(t, l.Text)
		}
		if json.Valid([]byte(a)) && strings.HasPrefix(a, "{") {
			same, err := compareDocuments([]byte(a), []byte(a), spelling{})
			if err == nil {
				require.Empty(t, same, "a document is the same as itself")
			}
		}
	})
}
