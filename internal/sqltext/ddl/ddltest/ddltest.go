// Package ddltest holds what the readers of scripts are tested with: catalogs as
// lines that are quick to compare.
package ddltest

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/catalog"
	"widegate/internal/sqltext"
)

// Read is the reader of an engine's scripts.
type Read func(t testing.TB, text string) (*catalog.Catalog, error)

// Case is a script, and the lines of the catalog that it makes.
type Case = [2]string

// Check reads scripts and compares what they make.
func Check(t *testing.T, read Read, cases []Case) {
	t.Helper()
	for _, c := range cases {
		got, err := read(t, c[0])
		require.NoError(t, err, c[0])
		assert.Equal(t, c[1], strings.Join(brief(got), "; "), c[0])
	}
}

// Files is a script as the readers take it.
func Files(text string) []*sqltext.File {
	return []*sqltext.File{{Path: "schema.sql", Text: text}}
}

// CheckNotes reads a script and compares its notes, without the name of the file.
// There must be a table t.
func CheckNotes(t *testing.T, read Read, script string, want ...string) {
	t.Helper()
	got, err := read(t, script)
	require.NoError(t, err)
	var notes []string
	for _, n := range got.Notes {
		notes = append(notes, strings.TrimPrefix(n.Text, "schema.sql:"))
	}
	assert.ElementsMatch(t, want, notes)
	_, ok := got.Table("", "t")
	assert.True(t, ok)
}

var seeds = []string{
	"", "CREATE TABLE a (b int PRIMARY KEY, c text DEFAULT 'x' CHECK (c <> ''))", "ALTER TABLE a ADD FOREIGN KEY (b) REFERENCES a",
	"CREATE VIEW v AS SELECT a.*, count(*) FROM a JOIN b USING (c) GROUP BY 1", "CREATE TYPE t AS ENUM ('a'); CREATE TABLE x (y t[])",
	"CREATE TABLE `a` (b INT UNSIGNED AUTO_INCREMENT KEY, c ENUM('x'), KEY (c))", "CREATE FUNCTION f(a INT) RETURNS INT RETURN 1",
	"CREATE TABLE a (b int); ALTER TABLE a RENAME b TO c; DROP TABLE a", "CREATE TABLE a PARTITION OF b DEFAULT", "CREATE TABLE a () INHERITS (b)",
}

// Fuzz holds any text to an answer: a catalog that can be encoded, or an error.
func Fuzz(f *testing.F, read Read) {
	for _, s := range seeds {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := read(t, text)
		if err != nil {
			return
		}
		_, err = c.Encode()
		require.NoError(t, err)
	})
}

// brief writes a catalog as lines that are quick to compare.
func brief(c *catalog.Catalog) []string {
	var list []string
	add := func(format string, args ...any) { list = append(list, strings.TrimSpace(fmt.Sprintf(format, args...))) }
	for _, t := range c.Tables {
		var columns []string
		for _, col := range t.Columns {
			columns = append(columns, briefColumn(col))
		}
		add("%s %s(%s) %s", t.Kind, t.FullName(), strings.Join(columns, ", "), strings.Join(append(t.Options, t.Partition), " "))
		if t.PrimaryKey != nil {
			add("  key %s(%s)", t.PrimaryKey.Name, strings.Join(t.PrimaryKey.Columns, ","))
		}
		for _, u := range t.Uniques {
			add("  unique %s(%s)", u.Name, strings.Join(u.Columns, ","))
		}
		for _, r := range t.References {
			add("  %s(%s) to %s(%s) %s", r.Name, strings.Join(r.Columns, ","), catalog.Qualify(r.Schema, r.Table), strings.Join(r.Target, ","), strings.TrimSpace(r.OnUpdate+" "+r.OnDelete))
		}
		for _, k := range t.Checks {
			add("  check %s %s", k.Name, k.Expr)
		}
		for _, in := range t.Indexes {
			add("  index %s(%s) %s %s", in.Name, strings.Join(in.Columns, ","), in.Method, in.Where)
		}
	}
	for _, e := range c.Enums {
		add("enum %s(%s)", catalog.Qualify(e.Schema, e.Name), strings.Join(e.Labels, ","))
	}
	for _, d := range c.Domains {
		add("domain %s %s %v %d", catalog.Qualify(d.Schema, d.Name), d.Declared, d.NotNull, len(d.Checks))
	}
	for _, t := range c.Composites {
		fields, _ := json.Marshal(t.Fields)
		add("type %s %s", t.Name, fields)
	}
	for _, s := range c.Sequences {
		add("sequence %s", catalog.Qualify(s.Schema, s.Name))
	}
	for _, r := range c.Routines {
		var arguments []string
		for _, a := range r.Arguments {
			arguments = append(arguments, strings.TrimSpace(a.Mode+" "+a.Name+" "+a.Declared))
		}
		add("%s %s(%s) %s %s", r.Kind, r.Name, strings.Join(arguments, ", "), r.Returns, r.Volatility)
	}
	return list
}

func briefColumn(c catalog.Column) string {
	text := c.Name + " " + c.Declared
	if c.Nullable {
		text += "?"
	}
	switch {
	case c.Generated != "":
		text += " := " + c.Generated
	case c.Default != nil && c.Default.Kind == catalog.Identity:
		text += " #" + c.Default.Sequence
	case c.Default != nil:
		text += " = " + c.Default.Text
	}
	return text
}
