package cli

import (
	"context"

	"github.com/spf13/cobra"

	"widegate/internal/catalog"
	"widegate/internal/model"
)

func (a *app) namesCommand() *cobra.Command {
	var engine string
	var schemas []string
	var lines bool
	cmd := &cobra.Command{
		Use:   "names [SOURCE...] [TABLE...]",
		Short: "Show what tables, relations and columns are called in the code",
		Long: `Shows the names of the code: each table with the name of a row, of several rows
and its path; its relations to others (→), from others (←) and through others (↔);
and columns whose field is not called after them. Each name stands with its reason.

Names follow from those of the schema, by the words of English, of the trade and
of the project file. What was written once keeps its names. With --lines the lines
are printed by which the project file gives these names, to be changed there.`,
		Example: `  widegate names
  widegate names hive 'batch*'
  widegate names postgres://localhost/bees
  widegate names hive --lines`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.names(cmd.Context(), engine, schemas, lines, args)
		},
	}
	f := cmd.Flags()
	f.StringVar(&engine, "engine", "", "the `ENGINE` of scripts")
	f.StringSliceVar(&schemas, "schema", nil, "a `SCHEMA` to read; may be repeated")
	f.BoolVar(&lines, "lines", false, "print the lines of widegate.yaml that give these names")
	return cmd
}

func (a *app) names(ctx context.Context, engine string, schemas []string, lines bool, args []string) error {
	sources, tables := a.splitArgs(args)
	p, source, err := a.source(sources, engine)
	if err != nil {
		return err
	}
	if len(schemas) > 0 {
		source.Schemas = schemas
	}
	c, err := a.readSource(ctx, source)
	if err != nil {
		return err
	}
	shown := c
	if len(tables) > 0 {
		if shown, err = chooseTables(c, tables); err != nil {
			return err
		}
	}
	m, err := a.modelOf(c, p)
	if err != nil {
		return err
	}
	a.loud().showNames(m, shown, lines)
	return nil
}

func (a *app) showNames(m *model.Model, shown *catalog.Catalog, lines bool) {
	list := columns{titles: []string{"in the schema", "name", "path", "why"}}
	var all []model.Named
	for _, e := range m.Entities {
		if _, ok := shown.Table(e.Table.Schema, e.Table.Name); !ok {
			continue
		}
		for i, n := range m.Names(e) {
			all = append(all, n)
			if i > 0 {
				n.Thing = "  " + n.Thing
			}
			list.add(n.Thing, n.Name, n.Path, n.Why)
		}
	}
	if lines {
		a.sayLines(model.SettleNames(all))
		return
	}
	list.print(a)
}
