package cli

import (
	"fmt"
	"slices"
	"strings"

	"widegate/internal/generate"
	"widegate/internal/merge"
	"widegate/internal/printable"
)

// showPlan prints what a write would do, file by file, and then the
// differences.
func (a *app) showPlan(plan *generate.Plan) error {
	a.showNotices(plan.Notices)
	changes := plan.Count(generate.New, generate.Changed, generate.Merged, generate.Removed)
	a.showDecisions(plan, generate.New, generate.Changed, generate.Merged, generate.Removed, generate.Kept, generate.LeftOut, generate.Adopted, generate.Blocked)
	if len(plan.Conflicts) == 0 && changes == 0 {
		a.say("Nothing would be written: the code is what the schema gives.")
		return nil
	}
	if len(plan.Conflicts) == 0 {
		a.showDifferences(plan)
		a.say("\nNothing was written; %s would be.", count(changes, "file"))
	}
	return a.decisionNeeded(plan, "nothing would be written")
}

// manyFiles is from how many files with one fate on they are only counted.
const manyFiles = 30

// showDecisions prints the files with one of the actions, each with its reason.
func (a *app) showDecisions(plan *generate.Plan, actions ...generate.Action) {
	list := columns{titles: []string{"", "", ""}}
	for _, action := range actions {
		var files []generate.Decision
		for _, d := range plan.Decisions {
			if d.Action == action {
				files = append(files, d)
			}
		}
		if len(files) > manyFiles {
			list.add(string(action), fmt.Sprintf("%d files", len(files)), files[0].Reason)
			continue
		}
		for _, d := range files {
			list.add(string(d.Action), d.Path, d.Reason)
		}
	}
	if len(list.rows) > 0 {
		list.print(a)
	}
}

// The colours of differences, as ANSI sequences.
const (
	colourAdded   = "\x1b[32m"
	colourRemoved = "\x1b[31m"
	colourPlace   = "\x1b[36m"
	colourOff     = "\x1b[0m"
)

// coloured reports whether standard output may be coloured.
func (a *app) coloured() bool {
	return colours(a.out)
}

// showDifferences prints unified diffs of the files that change; new and
// removed ones are only named above.
func (a *app) showDifferences(plan *generate.Plan) {
	shown := 0
	for _, d := range plan.Decisions {
		if !slices.Contains([]generate.Action{generate.Changed, generate.Merged}, d.Action) {
			continue
		}
		if shown++; shown > manyFiles {
			continue
		}
		before, after := plan.Texts(d.Path)
		a.say("")
		for line := range strings.Lines(merge.Unified("a/"+d.Path, "b/"+d.Path, before, after)) {
			a.paint(strings.TrimRight(line, "\n"))
		}
	}
	if shown > manyFiles {
		a.say("\nand %d more files", shown-manyFiles)
	}
}

// paint prints a line of a unified diff, coloured on a terminal.
func (a *app) paint(line string) {
	if !a.coloured() || a.quiet {
		a.sayLines(line)
		return
	}
	colour := ""
	switch {
	case strings.HasPrefix(line, "@@"), strings.HasPrefix(line, "+++"), strings.HasPrefix(line, "---"):
		colour = colourPlace
	case strings.HasPrefix(line, "+"):
		colour = colourAdded
	case strings.HasPrefix(line, "-"):
		colour = colourRemoved
	default:
		a.sayLines(line)
		return
	}
	fmt.Fprintln(raw(a.out), colour+printable.Text(line)+colourOff)
}

// showNotices prints what to know that stops nothing.
func (a *app) showNotices(list []merge.Notice) {
	for _, n := range list {
		a.say("  note: %s", n)
	}
}

// showConflicts prints each place with what each side did, and then what to
// do.
func (a *app) showConflicts(list []merge.Conflict) {
	choices, breaks, others := false, false, false
	for _, c := range list {
		fmt.Fprintf(a.err, "  %s\n", c)
		switch {
		case c.Settled():
			choices = true
		case c.Breaks():
			breaks = true
		default:
			others = true
		}
		if c.Settled() || c.Breaks() {
			fmt.Fprintf(a.err, "      place %s\n", c.Place())
		}
	}
	if choices {
		fmt.Fprintln(a.err, "  next: edit each place and run again, or run again with `--keep mine PLACE` or `--keep new PLACE`")
	}
	if breaks {
		fmt.Fprintln(a.err, "  next: change the code that would not build and run again, or have it break by `--keep new PLACE` and change it then")
	}
	if others {
		fmt.Fprintln(a.err, "  next: mend each place as it says and run again")
	}
}
