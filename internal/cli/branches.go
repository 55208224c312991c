package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widegate/internal/fault"
	"widegate/internal/project"
	"widegate/internal/rooted"
)

func (a *app) branchesCommand() *cobra.Command {
	var setup bool
	cmd := &cobra.Command{
		Use:   "branches",
		Short: "Have git merge branches that both wrote",
		Long: `Tells whether git merges what is written by ` + "`widegate merge`" + `, so that two
branches that change different things come together without a conflict. With
--setup it makes git do so: a merge driver in the settings of this repository,
which each clone needs, and lines in .gitattributes, which belong into version
control.

The exit status is 0 when it is set up, and else 3.`,
		Args: usage(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error { return a.branches(cmd.Context(), setup) },
	}
	cmd.Flags().BoolVar(&setup, "setup", false, "set it up")
	return cmd
}

// The settings of the driver.
const (
	driverKey  = "merge.widegate.driver"
	driverName = "merge.widegate.name"
	attributes = ".gitattributes"
)

func (a *app) branches(ctx context.Context, setup bool) error {
	p, err := project.Load(a.config)
	if err != nil {
		return err
	}
	repository := project.OpenRepository(ctx, p.Root)
	if repository == nil {
		return fault.New("make one with `git init`, or run this in a clone", "%s is in no repository of git, or git is not installed", relative(p.Root))
	}
	if setup {
		if err := a.setUpBranches(ctx, p, repository); err != nil {
			return err
		}
	}
	missing := repository.Unmerged(ctx, driverKey, mergedFiles(p))
	if len(missing) == 0 {
		a.say("Git merges what is written by `widegate merge`.")
		return nil
	}
	for _, what := range missing {
		fmt.Fprintf(a.err, "  missing  %s\n", what)
	}
	fmt.Fprintln(a.err, "  next: `widegate branches --setup` sets it up")
	return decisionError{errors.New("git does not merge what is written by declarations")}
}

// mergedFiles are the patterns of what the driver merges, each with a file that it
// fits.
func mergedFiles(p *project.Project) []project.MergedFile {
	var list []project.MergedFile
	add := func(pattern, example string) {
		if m := (project.MergedFile{Pattern: pattern, Example: example}); !slices.Contains(list, m) {
			list = append(list, m)
		}
	}
	for _, folder := range []string{p.Code.Folder, p.API.Folder} {
		folder = path.Clean(filepath.ToSlash(folder))
		if folder == "." {
			add("*.go", "x.go")
			continue
		}
		add(folder+"/**", folder+"/x.go")
	}
	add(p.Ledger()+"/**", p.Ledger()+"/names.json")
	for _, file := range p.Database.DDL {
		if file = path.Clean(filepath.ToSlash(file)); filepath.IsLocal(file) && path.Ext(file) == ".sql" && !strings.ContainsAny(file, "*?[") {
			add(file, file)
		}
	}
	return list
}

func (a *app) setUpBranches(ctx context.Context, p *project.Project, repository *project.Repository) error {
	if err := repository.Configure(ctx, driverName, "by declarations"); err != nil {
		return err
	}
	if err := repository.Configure(ctx, driverKey, driverCommand()); err != nil {
		return err
	}
	home, err := rooted.Open(p.Root)
	if err != nil {
		return err
	}
	defer home.Close()
	text, err := home.Read(attributes)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("reading %s: %w", attributes, err)
	}
	now := string(text)
	for _, m := range mergedFiles(p) {
		if line := m.Line(); !slices.Contains(strings.Split(now, "\n"), line) {
			if now != "" && !strings.HasSuffix(now, "\n") {
				now += "\n"
			}
			now += line + "\n"
		}
	}
	if now == string(text) {
		return nil
	}
	if err := home.Write(attributes, []byte(now), 0o644); err != nil {
		return fmt.Errorf("writing %s: %w", attributes, err)
	}
	a.say("Wrote %s; keep it in version control.", attributes)
	return nil
}

// driverCommand is how git calls this program.
func driverCommand() string {
	program := "widegate"
	self, err := os.Executable()
	if found, lookErr := exec.LookPath(program); err == nil && (lookErr != nil || !sameFile(found, self)) {
		program = "'" + strings.ReplaceAll(filepath.ToSlash(self), "'", `'\''`) + "'"
	}
	return program + " merge --path %P %O %A %B"
}

func sameFile(a, b string) bool {
	x, errX := os.Stat(a)
	y, errY := os.Stat(b)
	return errX == nil && errY == nil && os.SameFile(x, y)
}
