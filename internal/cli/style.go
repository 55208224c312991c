package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/mattn/go-runewidth"
	"golang.org/x/term"

	"widegate/internal/printable"
)

// The weights of what is printed on terminals, as ANSI sequences.
const (
	weightHeading = "\x1b[1m"
	weightBreaks  = "\x1b[1;31m"
	weightDecide  = "\x1b[1;33m"
	weightSoft    = "\x1b[2m"
)

// colours reports whether a stream may be coloured.
func colours(stream io.Writer) bool {
	return isTerminal(stream) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

// weighted is a text with a weight, where the stream may have one. What others
// chose in it has lost what acts on a terminal.
func weighted(stream io.Writer, weight, text string) string {
	text = printable.Line(text)
	if weight == "" || !colours(stream) {
		return text
	}
	return weight + text + colourOff
}

// heading prints the heading of a part, below an empty line.
func (a *app) heading(text string) {
	if !a.quiet {
		fmt.Fprintln(raw(a.out), "\n"+weighted(a.out, weightHeading, text))
	}
}

// headline prints the first line of a command's output.
func (a *app) headline(text string) {
	if !a.quiet {
		fmt.Fprintln(raw(a.out), weighted(a.out, weightHeading, text))
	}
}

// sayMarked prints a line that begins with a word of weight.
func (a *app) sayMarked(weight, word, text string) {
	if !a.quiet {
		fmt.Fprintf(raw(a.out), "  %s  %s\n", weighted(a.out, weight, word), printable.Line(text))
	}
}

// complain prints an error on standard error.
func (a *app) complain(weight, text string) {
	fmt.Fprintln(raw(a.err), weighted(a.err, weight, "widegate:")+" "+printable.Text(text))
}

// width is how many columns a stream has; 0 where that is not known.
func width(stream io.Writer) int {
	f, ok := raw(stream).(*os.File)
	if !ok || !isTerminal(stream) {
		return 0
	}
	columns, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return columns
}

// leastColumn is how far a column of text is shortened.
const leastColumn = 12

// fit takes room from the widest columns of text until a line fits into so many
// columns. Numbers stay whole, and so does the first column, which names things.
func fit(widths []int, right []bool, room int) {
	for room > 0 {
		all, widest := 0, -1
		for i, w := range widths {
			all += w + 2
			if i > 0 && !right[i] && w > leastColumn && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if all <= room || widest < 0 {
			return
		}
		widths[widest]--
	}
}

// shorten cuts a text to a width, wide characters whole.
func shorten(text string, most int) string {
	if runewidth.StringWidth(text) <= most {
		return text
	}
	return strings.TrimRight(runewidth.Truncate(text, most, "…"), " ")
}
