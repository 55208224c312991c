package preview

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"widegate/internal/engine/registry"
	"widegate/internal/read"
	"widegate/internal/rollout"
)

// Embed makes the tables of scripts in a database file at path, so that they can
// be looked at without a server, and returns the source of it. Scripts of SQLite
// run there, with their rows, and those that were added later run behind them. Of
// the other engines the file holds the tables alone, with the nearest types of
// SQLite; views and routines are left out, which notes say.
func Embed(ctx context.Context, source read.Source, path string) (made read.Source, notes []string, err error) {
	made = read.Source{Engine: registry.Embedded().Dialect().Name, URL: path}
	c, err := read.Read(ctx, source)
	if err != nil {
		return made, nil, err
	}
	if c.Engine.Name == made.Engine {
		source.Engine = c.Engine.Name
		return made, nil, runEmbedded(ctx, source, made)
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return made, nil, fmt.Errorf("making the database anew: %w", err)
	}
	if err := read.MakeDatabase(ctx, made); err != nil {
		return made, nil, err
	}
	db, err := read.Connect(ctx, made)
	if err != nil {
		return made, nil, err
	}
	defer db.Close()
	statements, left := registry.Embedded().Embed(c)
	for _, statement := range statements {
		if err := db.Exec(ctx, statement); err != nil {
			return made, nil, fmt.Errorf("making the tables in a file: %w: %s", err, statement)
		}
	}
	if len(left) > 0 {
		notes = []string{"views are left out: " + strings.Join(left, ", ")}
	}
	return made, notes, nil
}

// runEmbedded runs scripts on the file, from the start where they are not those
// that it was made by.
func runEmbedded(ctx context.Context, source, made read.Source) error {
	scripts, err := rollout.Load(source)
	if err != nil {
		return err
	}
	if _, err := os.Stat(made.URL); err == nil {
		if _, err := rollout.Run(ctx, withScripts(made, source), scripts, rollout.Options{}); err == nil {
			return nil
		}
		if err := os.Remove(made.URL); err != nil {
			return fmt.Errorf("making the database anew: %w", err)
		}
	}
	if err := read.MakeDatabase(ctx, made); err != nil {
		return err
	}
	_, err = rollout.Run(ctx, withScripts(made, source), scripts, rollout.Options{})
	return err
}

func withScripts(made, source read.Source) read.Source {
	made.DDL = source.DDL
	return made
}
