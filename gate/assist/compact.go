package assist

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// compactTools are a handful of tools, with the resource as an argument: for services
// with so many tables that an assistant could not choose among a tool for each.
func compactTools(d *document, o Options) []tool {
	list := []tool{describeTool(d, o)}
	for _, form := range []struct {
		name, title, about string
		of                 func(r *resource) (tool, bool)
		annotations        *mcp.ToolAnnotations
		more               object
	}{
		{"list", "List rows", "Lists or finds rows of a resource, page by page, chosen by columns, by a filter or by words.",
			func(r *resource) (tool, bool) { return r.listTool(o), true }, reads(),
			object{"where": object{"type": "object", "description": "Values that columns must have."}}},
		{"get", "Get a row", "Returns one row of a resource by its key, with related rows if they are asked for.",
			func(r *resource) (tool, bool) { return orNone(r.get, r.getTool) }, reads(), nil},
		{"summarize", "Summarize rows", "Counts rows of a resource: how many there are, and sums, averages, minima and maxima of columns, in groups.",
			func(r *resource) (tool, bool) { return orNone(r.summary, r.summaryTool) }, reads(),
			object{"where": object{"type": "object", "description": "Values that columns must have."}}},
		{"create", "Add a row", "Adds a new row to a resource, and returns it as it is stored. Ask describe for its columns first.",
			func(r *resource) (tool, bool) { return orNone(r.create, func() tool { return r.createTool(o) }) }, writes(false, false), nil},
		{"change", "Change a row", "Changes columns of one row of a resource, found by its key.",
			func(r *resource) (tool, bool) { return orNone(r.change, func() tool { return r.changeTool(o) }) }, writes(true, true), nil},
		{"delete", "Delete a row", "Deletes one row of a resource by its key. Whoever uses the assistant is asked first.",
			func(r *resource) (tool, bool) { return orNone(r.remove, func() tool { return r.removeTool(o) }) }, writes(true, true), nil},
	} {
		if !o.Write && !form.annotations.ReadOnlyHint {
			continue
		}
		if t, ok := compactTool(d, form.of, form.more); ok {
			t.Name, t.Title, t.Description, t.Annotations = form.name, form.title, form.about+" "+resourcesNamed(d), form.annotations
			list = append(list, t)
		}
	}
	if calls := plainCalls(d, o); len(calls) > 0 {
		list = append(list, runTool(calls))
	}
	return list
}

func orNone(op *operation, of func() tool) (tool, bool) {
	if op == nil {
		return tool{}, false
	}
	return of(), true
}

// mostNamed is how many resources a description names.
const mostNamed = 40

func resourcesNamed(d *document) string {
	var names []string
	for _, r := range d.resources {
		names = append(names, r.path)
	}
	if len(names) > mostNamed {
		return fmt.Sprintf("There are %d resources; describe lists them.", len(names))
	}
	return "Resources: " + strings.Join(names, ", ") + "."
}

// compactTool is one tool for all resources that have a plain one.
func compactTool(d *document, of func(r *resource) (tool, bool), more object) (tool, bool) {
	tools := map[string]tool{}
	var names []string
	properties := object{}
	var required []string
	for _, r := range d.resources {
		t, ok := of(r)
		if !ok {
			continue
		}
		tools[r.path] = t
		names = append(names, r.path)
		schema := t.InputSchema.(object)
		for name, property := range schema["properties"].(object) {
			if !slices.Contains(r.names(), name) || name == "key" {
				properties[name] = general(name, property.(object))
			}
		}
		required, _ = schema["required"].([]string)
	}
	if len(names) == 0 {
		return tool{}, false
	}
	maps.Copy(properties, more)
	properties["resource"] = object{"type": "string", "enum": names, "description": "Which of the resources."}
	return tool{
		Tool: mcp.Tool{InputSchema: input(properties, append([]string{"resource"}, required...)...), OutputSchema: object{"type": "object"}},
		call: func(args arguments) (*request, error) {
			name := args.text("resource")
			t, ok := tools[name]
			if !ok {
				return nil, fmt.Errorf("there is no resource %q for this; there are %s", name, strings.Join(names, ", "))
			}
			inner := args.without("resource", "where")
			if where, ok := args.values["where"].(object); ok {
				maps.Copy(inner.values, where)
			}
			if err := known(t, inner); err != nil {
				return nil, err
			}
			return t.call(inner)
		},
	}, true
}

// general is the schema of an argument that is another one for each resource.
func general(name string, property object) object {
	switch name {
	case "key":
		return object{"type": []string{"string", "integer", "array"}, "description": "The key of the row; describe tells which columns it has. A key of several columns is a list of their values."}
	case "row", "changes":
		return object{"type": "object", "description": "Values of columns, as describe tells them."}
	case "with":
		return some("Relations to embed, as describe tells them. A dot leads on.", nil)
	case "properties":
		return some("The columns to return; all when left out.", nil)
	}
	return property
}

// known refuses arguments that a tool does not have.
func known(t tool, args arguments) error {
	properties := t.InputSchema.(object)["properties"].(object)
	for name := range args.values {
		if _, ok := properties[name]; !ok {
			return fmt.Errorf("there is no argument and no column %q here; there are %s", name, strings.Join(slices.Sorted(maps.Keys(properties)), ", "))
		}
	}
	return nil
}

// describeTool tells of all resources, or of one.
func describeTool(d *document, o Options) tool {
	var names []string
	for _, r := range d.resources {
		names = append(names, r.path)
	}
	return tool{
		Tool: mcp.Tool{
			Name: "describe", Title: "Describe the data",
			Description: "Tells what there is: without a resource all of them in a line each, with one its columns, key and relations. " + resourcesNamed(d),
			InputSchema: input(object{"resource": object{"type": "string", "enum": names, "description": "The resource to tell of."}}),
			Annotations: reads(), OutputSchema: object{"type": "object"},
		},
		call: func(args arguments) (*request, error) {
			name := args.text("resource")
			if name == "" {
				return &request{answer: overview(d)}, nil
			}
			for _, r := range d.resources {
				if r.path == name {
					return &request{answer: r.description(o)}, nil
				}
			}
			return nil, fmt.Errorf("there is no resource %q; there are %s", name, strings.Join(names, ", "))
		},
	}
}

// overview is a line for each resource.
func overview(d *document) object {
	list := object{}
	for _, r := range d.resources {
		list[r.path] = strings.Trim(told(r.comment), `"`)
	}
	return object{"resources": list}
}

// description is all that is known of a resource.
func (r *resource) description(o Options) object {
	columns := object{}
	for _, c := range r.columns {
		columns[c.name] = cleaned(c.schema)
	}
	about := object{"resource": r.path, "about": strings.Trim(told(r.comment), `"`), "key": r.key, "relations": r.ends, "columns": columns}
	if o.Write && r.create != nil {
		about["new_row"] = input(r.rowArguments(), r.required...)
	}
	return about
}

// plainCalls are the named queries and routines.
func plainCalls(d *document, o Options) []tool {
	n := naming{}
	var list []tool
	for _, op := range d.calls {
		if o.Write || op.method == "GET" {
			list = append(list, n.tool(op.id, callTool(op)))
		}
	}
	return list
}

// runTool is one tool for all named queries and routines.
func runTool(calls []tool) tool {
	var names, lines []string
	reading := true
	for _, t := range calls {
		names = append(names, t.Name)
		arguments := slices.Sorted(maps.Keys(t.InputSchema.(object)["properties"].(object)))
		lines = append(lines, fmt.Sprintf("%s(%s): %s", t.Name, strings.Join(arguments, ", "), t.Description))
		reading = reading && t.Annotations.ReadOnlyHint
	}
	annotations := reads()
	if !reading {
		annotations = writes(true, false)
	}
	return tool{
		Tool: mcp.Tool{
			Name: "run", Title: "Run a named query", Annotations: annotations, OutputSchema: object{"type": "object"},
			Description: "Runs a named query or a routine. " + strings.Join(lines, " "),
			InputSchema: input(object{"name": object{"type": "string", "enum": names}, "arguments": object{"type": "object"}}, "name"),
		},
		call: func(args arguments) (*request, error) {
			for _, t := range calls {
				if t.Name == args.text("name") {
					inner, _ := args.values["arguments"].(object)
					return t.call(arguments{values: inner, fault: args.fault})
				}
			}
			return nil, fmt.Errorf("there is no query %q; there are %s", args.text("name"), strings.Join(names, ", "))
		},
	}
}
