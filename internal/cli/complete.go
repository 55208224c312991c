package cli

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/generate"
	"widegate/internal/project"
	"widegate/internal/read"
)

// complete tells the shells what may stand for arguments and values of flags.
func (a *app) complete(root *cobra.Command) {
	tables := map[string]bool{"read": true, "names": true, "table": true}
	values := map[string]cobra.CompletionFunc{
		"engine": cobra.FixedCompletions(read.Engines, cobra.ShellCompDirectiveNoFileComp),
		"only":   a.tableNames, "take": a.tableNames, "around": a.tableNames,
		"keep":  cobra.FixedCompletions([]string{"mine", "new"}, cobra.ShellCompDirectiveNoFileComp),
		"begun": cobra.FixedCompletions([]string{"after", "again"}, cobra.ShellCompDirectiveNoFileComp),
		"into":  cobra.FixedCompletions(nil, cobra.ShellCompDirectiveFilterDirs), "folder": cobra.FixedCompletions(nil, cobra.ShellCompDirectiveFilterDirs),
	}
	for _, cmd := range root.Commands() {
		if tables[cmd.Name()] {
			cmd.ValidArgsFunction = a.tableNames
		}
		if cmd.Name() == "write" {
			cmd.ValidArgsFunction = a.places
		}
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if does := values[f.Name]; does != nil {
				_ = cmd.RegisterFlagCompletionFunc(f.Name, does) // which fails for a second one only
			}
		})
	}
}

// tableNames are those of the schema of the last write. Files may be meant too.
func (a *app) tableNames(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	p, err := project.Load(a.config)
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	ledger, err := project.LoadLedger(p, registry.Dialects())
	if err != nil || ledger.Schema() == nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	var list []string
	for _, t := range ledger.Schema().Tables {
		list = append(list, t.FullName())
	}
	return list, cobra.ShellCompDirectiveDefault
}

// places are those that a write would ask about, behind --keep mine and --keep new.
func (a *app) places(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	keep, _ := cmd.Flags().GetStringArray("keep")
	if len(keep) == 0 || !slices.Contains([]string{"mine", "new"}, keep[len(keep)-1]) {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	p, err := project.Load(a.config)
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	quiet := *a
	quiet.quiet = true
	plan, err := quiet.plan(cmd.Context(), p, generate.Options{})
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	places := map[string]bool{}
	for _, c := range plan.Conflicts {
		places[c.Place()] = true
	}
	return slices.Sorted(maps.Keys(places)), cobra.ShellCompDirectiveNoFileComp
}

// wrongFlag adds to an error about a flag the one that is nearest to it.
func wrongFlag(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if !errors.As(err, &unknown) || len(unknown.GetSpecifiedName()) < 2 {
		return usageError{err}
	}
	var names []string
	add := func(f *pflag.Flag) { names = append(names, f.Name) }
	cmd.Flags().VisitAll(add)
	cmd.InheritedFlags().VisitAll(add)
	word := unknown.GetSpecifiedName()
	near := catalog.Nearest(word, names)
	for _, name := range names {
		if near == "" && strings.ReplaceAll(name, "-", "") == strings.ReplaceAll(word, "-", "") {
			near = name
		}
	}
	if near != "" {
		return usageError{fmt.Errorf("unknown flag --%s; did you mean --%s?", word, near)}
	}
	return usageError{fmt.Errorf("unknown flag --%s", word)}
}

var unknownCommand = regexp.MustCompile(`^unknown command "([^"]*)" for`)

// wrongCommand adds to an error about a command the one that is nearest to it.
func wrongCommand(root *cobra.Command, err error) error {
	m := unknownCommand.FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	var names []string
	for _, cmd := range root.Commands() {
		names = append(names, cmd.Name())
	}
	if near := catalog.Nearest(m[1], names); near != "" {
		return usageError{fmt.Errorf("there is no command %q; did you mean %q?", m[1], near)}
	}
	if _, missing := os.Stat(m[1]); missing == nil {
		return usageError{fmt.Errorf("there is no command %q; to look at a file or folder, use `widegate read %s`", m[1], m[1])}
	}
	return usageError{fmt.Errorf("there is no command %q", m[1])}
}
