package project

import (
	"embed"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path"
	"reflect"
	"strings"
)

// SchemaFile lies beside the project file, which names it in its first line.
const SchemaFile = "widegate.schema.json"

// SchemaLine is the first line of a project file, in the form that language
// servers for YAML read.
const SchemaLine = "# yaml-language-server: $schema=" + SchemaFile

// The types of the project file; what is said of their fields are the comments.
//
//go:embed project.go access.go
var sources embed.FS

// choices are the values of keys that take only some, by type and key.
var choices = map[string][]string{
	"API.access":   {Open},
	"API.document": {"anybody", "nobody"},
	"API.names":    {Camel},
	"Column.role":  {"created", "updated", "deleted", "version", "none"},
	"Column.input": {"long"},
}

// Schema is the JSON Schema of a project file, in the dialect of 2020-12. The engines
// are those that database.engine may name; settings are the schemas of the values under
// settings, by the names of templates, or nil for any.
func Schema(engines []string, settings map[string]any) ([]byte, error) {
	comments, err := fieldComments()
	if err != nil {
		return nil, err
	}
	choices := maps.Clone(choices)
	choices["Database.engine"] = engines
	root := schemaOf(reflect.TypeFor[Project](), comments, choices)
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "The project file of Wide Gate, " + FileName
	if len(settings) > 0 {
		of := root["properties"].(map[string]any)["settings"].(map[string]any)
		of["properties"], of["additionalProperties"] = settings, false
	}
	text, err := json.MarshalIndent(root, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("writing the schema of the project file: %w", err)
	}
	return append(text, '\n'), nil
}

// jsonTypes are the JSON types of Go's.
var jsonTypes = map[reflect.Kind]string{reflect.String: "string", reflect.Bool: "boolean", reflect.Int: "integer"}

func schemaOf(t reflect.Type, comments map[string]string, choices map[string][]string) map[string]any {
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem(), comments, choices)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem(), comments, choices)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem(), comments, choices)}
	case reflect.Struct:
		return structSchema(t, comments, choices)
	case reflect.Interface: // any value
		return map[string]any{}
	}
	return map[string]any{"type": jsonTypes[t.Kind()]}
}

func structSchema(t reflect.Type, comments map[string]string, choices map[string][]string) map[string]any {
	properties := map[string]any{}
	for i := range t.NumField() {
		field := t.Field(i)
		key := field.Tag.Get("yaml")
		if key == "-" || key == "" {
			continue
		}
		s := schemaOf(field.Type, comments, choices)
		said := comments[t.Name()+"."+field.Name]
		if inner := field.Type; said == "" && inner.Kind() == reflect.Struct {
			said = comments[inner.Name()]
		}
		if said != "" {
			s["description"] = said
		}
		if values := choices[t.Name()+"."+key]; values != nil {
			s["enum"] = values
		}
		properties[key] = s
	}
	return map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
}

// fieldComments are the comments of the types, by their names, and those of the
// fields, by Type.Field.
func fieldComments() (map[string]string, error) {
	comments := map[string]string{}
	entries, err := sources.ReadDir(".")
	if err != nil {
		return nil, fmt.Errorf("reading the comments of the project file: %w", err)
	}
	for _, e := range entries {
		text, err := sources.ReadFile(path.Base(e.Name()))
		if err != nil {
			return nil, fmt.Errorf("reading the comments of the project file: %w", err)
		}
		file, err := parser.ParseFile(token.NewFileSet(), e.Name(), text, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			return nil, fmt.Errorf("reading the comments of the project file: %w", err)
		}
		addComments(file, comments)
	}
	return comments, nil
}

func addComments(file *ast.File, comments map[string]string) {
	for _, d := range file.Decls {
		general, ok := d.(*ast.GenDecl)
		if !ok || general.Tok != token.TYPE {
			continue
		}
		for _, spec := range general.Specs {
			of := spec.(*ast.TypeSpec)
			fields, ok := of.Type.(*ast.StructType)
			if !ok {
				continue
			}
			comments[of.Name.Name] = sentence(strings.TrimPrefix(general.Doc.Text(), of.Name.Name+" "))
			for _, f := range fields.Fields.List {
				text := f.Doc.Text()
				if text == "" {
					text = f.Comment.Text()
				}
				for _, name := range f.Names {
					comments[of.Name.Name+"."+name.Name] = sentence(strings.TrimPrefix(text, name.Name+" is "))
				}
			}
		}
	}
}

// sentence writes a comment as a sentence of its own.
func sentence(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if text == "" {
		return ""
	}
	text = strings.ToUpper(text[:1]) + text[1:]
	if !strings.HasSuffix(text, ".") {
		text += "."
	}
	return text
}
