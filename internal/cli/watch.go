package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"widegate/internal/fault"
	"widegate/internal/generate"
	"widegate/internal/project"
	"widegate/internal/read"
)

// watchEvery is how often sources are looked at.
const watchEvery = 500 * time.Millisecond

// watch writes again whenever something changes that the code is made from, and
// says what it did. What goes wrong is said, and waits for the next change.
func (a *app) watch(ctx context.Context, flags writeFlags) error {
	if _, err := project.Load(a.config); err != nil {
		return err
	}
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	var file, seen string
	for {
		if nowFile, now := read.FileMark(a.config), a.mark(ctx); (nowFile != file || now != seen) && ctx.Err() == nil {
			seen = now
			if a.writeAgain(ctx, flags) {
				flags.renamed = nil // that is done
			}
			file = read.FileMark(a.config) // which the write itself may have changed
			a.say("Watching for changes; Ctrl-C ends it.")
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// writeAgain reports whether all went well.
func (a *app) writeAgain(ctx context.Context, flags writeFlags) bool {
	a.say("%s", time.Now().Format("15:04:05"))
	options, err := flags.options()
	if err == nil {
		err = a.writeOnce(ctx, flags, options)
	}
	if err == nil || errors.Is(err, context.Canceled) {
		return err == nil
	}
	fmt.Fprintf(a.err, "widegate: %v\n", err)
	if next := fault.Next(err); next != "" {
		fmt.Fprintf(a.err, "  next: %s\n", next)
	}
	return false
}

// mark sums up what the code is made from besides the project file. What cannot be
// looked at, such as a database that is away, counts by its error.
func (a *app) mark(ctx context.Context) string {
	p, err := project.Load(a.config)
	if err != nil {
		return ""
	}
	marks := read.FileMark(p.Resolve(p.Queries)) + templateMarks(p)
	mark, err := read.Mark(ctx, generate.Source(p))
	if err != nil {
		mark = err.Error()
	}
	return marks + mark
}

// templateMarks sums up the templates of a project.
func templateMarks(p *project.Project) string {
	marks := read.FileMark(p.Resolve(project.TemplatesFolder))
	for _, folder := range p.Templates {
		marks += read.FileMark(p.Resolve(folder))
	}
	return marks
}
