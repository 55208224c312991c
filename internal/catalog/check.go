package catalog

import (
	"fmt"
	"regexp"
	"slices"
	"unicode/utf8"
)

// A snapshot is a file, and may be written by anybody. What stands for one of a
// few words, and so goes into scripts and code as it is, is held to them when it
// is read.

var (
	// actions are those of references, in lower case.
	actions = []string{"", "no action", "restrict", "cascade", "set null", "set default"}
	// columnList stands behind SET NULL and SET DEFAULT in PostgreSQL.
	columnList = regexp.MustCompile(`^set (null|default) \([^;]*\)$`)
	modes      = []string{"", "in", "out", "inout", "variadic", "table"}
	defaults   = []DefaultKind{Constant, Expression, Identity}
)

// mostName is how long a name may be, in bytes; that is more than any server
// takes.
const mostName = 10_000

// check returns an error for a value that no reader gives.
func (c *Catalog) check() error {
	for i := range c.Tables {
		if n := len(c.Tables[i].Columns); n > c.Engine.MostColumns {
			return fmt.Errorf("table %q: %d columns are more than %s takes", c.Tables[i].FullName(), n, c.Engine.Name)
		}
		if err := c.Tables[i].check(); err != nil {
			return fmt.Errorf("table %q: %w", c.Tables[i].FullName(), err)
		}
	}
	for _, r := range c.Routines {
		if r.Kind != "function" && r.Kind != "procedure" {
			return fmt.Errorf("routine %q: there is no kind %q", r.Name, r.Kind)
		}
		for _, a := range r.Arguments {
			if !slices.Contains(modes, a.Mode) {
				return fmt.Errorf("routine %q: there is no mode %q", r.Name, a.Mode)
			}
		}
	}
	return nil
}

func (t *Table) check() error {
	if !slices.Contains(Kinds, t.Kind) {
		return fmt.Errorf("there is no kind %q", t.Kind)
	}
	if t.Name == "" || len(t.Name) > mostName || !utf8.ValidString(t.Name) {
		return fmt.Errorf("%.100q cannot be its name", t.Name)
	}
	for _, col := range t.Columns {
		if col.Name == "" || len(col.Name) > mostName {
			return fmt.Errorf("%.100q cannot be the name of a column", col.Name)
		}
		if col.Default != nil && !slices.Contains(defaults, col.Default.Kind) {
			return fmt.Errorf("column %q: there is no kind of default %q", col.Name, col.Default.Kind)
		}
	}
	for _, r := range t.References {
		for _, action := range []string{r.OnUpdate, r.OnDelete} {
			if !slices.Contains(actions, action) && !columnList.MatchString(action) {
				return fmt.Errorf("reference %q: there is no action %q", r.Name, action)
			}
		}
	}
	return nil
}
