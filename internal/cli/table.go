package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/mattn/go-runewidth"

	"widegate/internal/printable"
)

// columns are rows of text that are printed aligned. A column whose title
// begins with # is aligned to the right.
type columns struct {
	titles []string
	rows   [][]string
}

func (c *columns) add(cells ...string) {
	for i, cell := range cells {
		cells[i] = printable.Line(cell)
	}
	c.rows = append(c.rows, cells)
}

// print prints the rows with two spaces before them and between the columns.
func (c *columns) print(a *app) {
	if a.quiet {
		return
	}
	widths := make([]int, len(c.titles))
	right := make([]bool, len(c.titles))
	titles := make([]string, len(c.titles))
	for i, t := range c.titles {
		right[i] = strings.HasPrefix(t, "#")
		titles[i] = strings.TrimPrefix(t, "#")
	}
	all := c.rows
	if strings.Join(titles, "") != "" {
		all = append([][]string{titles}, c.rows...)
	}
	for _, row := range all {
		for i, cell := range row {
			widths[i] = max(widths[i], runewidth.StringWidth(cell))
		}
	}
	fit(widths, right, width(a.out))
	for n, row := range all {
		var line strings.Builder
		for i, cell := range row {
			cell = shorten(cell, widths[i])
			pad := strings.Repeat(" ", widths[i]-runewidth.StringWidth(cell))
			line.WriteString("  ")
			if right[i] {
				line.WriteString(pad + cell)
			} else {
				line.WriteString(cell + pad)
			}
		}
		weight := ""
		if n == 0 && len(all) > len(c.rows) {
			weight = weightSoft
		}
		fmt.Fprintln(raw(a.out), weighted(a.out, weight, strings.TrimRight(line.String(), " ")))
	}
}

// count writes a number and its noun, in the plural but for one.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	many := noun + "s"
	if strings.HasSuffix(noun, "y") {
		many = strings.TrimSuffix(noun, "y") + "ies"
	}
	return thousands(int64(n)) + " " + many
}

// thousands writes a number with a comma every three digits.
func thousands(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
