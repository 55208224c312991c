package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"widegate/internal/generate"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render/own"
)

func (a *app) projectSchemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "project-schema",
		Short: "Print the JSON Schema of widegate.yaml",
		Long: `Prints the JSON Schema of the project file. ` + "`widegate new`" + ` saves it beside the file as
` + project.SchemaFile + `, and names it in the file's first line, so that editors complete and
check what is typed, the settings of templates among it. ` + "`widegate write`" + ` keeps it up to date.`,
		Args: usage(cobra.NoArgs),
		RunE: func(*cobra.Command, []string) error {
			p, err := a.projectHere()
			if err != nil {
				return err
			}
			text, err := projectSchema(p)
			if err != nil {
				return err
			}
			_, err = a.out.Write(text)
			return err
		},
	}
}

// projectSchema is the schema of a project file, with the settings of the project's
// templates. p may be nil.
func projectSchema(p *project.Project) ([]byte, error) {
	if p == nil {
		return project.Schema(read.Engines, nil)
	}
	list, err := generate.ReadTemplates(p)
	if err != nil {
		return nil, err
	}
	declared, err := own.Declared(list)
	if err != nil {
		return nil, err
	}
	settings := map[string]any{}
	for name, of := range declared {
		settings[name] = own.JSONSchema(of)
	}
	return project.Schema(read.Engines, settings)
}

// saveProjectSchema writes the schema beside a project file that names it.
func saveProjectSchema(p *project.Project) error {
	text, err := projectSchema(p)
	if err != nil {
		return err
	}
	file, err := os.ReadFile(p.File)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return fmt.Errorf("reading the project file: %w", err)
	case !bytes.HasPrefix(file, []byte(project.SchemaLine)):
		return nil
	}
	if now, err := os.ReadFile(filepath.Join(p.Root, project.SchemaFile)); err == nil && bytes.Equal(now, text) {
		return nil
	}
	return writeBelow(p.Root, project.SchemaFile, text)
}
