// Package rehearse tries the functions that assistants are offered: as a client of the
// protocol it lists them, and calls each that only reads.
package rehearse

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/modelcontextprotocol/go-sdk/mcp"

	"widegate/gate/assist"
)

// Report is what came of it.
type Report struct {
	Functions []string // all that are offered
	Called    int      // those that were called
	Left      []string // those that read, and need arguments that nobody knows here
	Bytes     int      // of the list, as clients get it
}

// Functions lists the functions and calls each that reads. What goes wrong is an error that
// names all of it.
func Functions(ctx context.Context, a *assist.Assist) (Report, error) {
	server, err := a.Server(ctx, nil)
	if err != nil {
		return Report{}, err
	}
	near, far := mcp.NewInMemoryTransports()
	if _, err := server.Connect(ctx, far, nil); err != nil {
		return Report{}, fmt.Errorf("connecting to the functions: %w", err)
	}
	client, err := mcp.NewClient(&mcp.Implementation{Name: "widegate", Version: "1"}, nil).Connect(ctx, near, nil)
	if err != nil {
		return Report{}, fmt.Errorf("connecting to the functions: %w", err)
	}
	defer client.Close()
	r := rehearsal{client: client, keys: map[string]any{}, parts: map[string][]string{}}
	for t, err := range client.Tools(ctx, nil) {
		if err != nil {
			return r.Report, fmt.Errorf("listing the functions: %w", err)
		}
		r.tools = append(r.tools, t)
	}
	// Lists come first: they give the keys of rows to get.
	slices.SortStableFunc(r.tools, func(a, b *mcp.Tool) int { return rank(a) - rank(b) })
	if err := r.readKeys(ctx); err != nil {
		return r.Report, err
	}
	for _, t := range r.tools {
		r.Functions = append(r.Functions, t.Name)
		text, err := json.Marshal(t)
		if err != nil {
			return r.Report, fmt.Errorf("listing the functions: %w", err)
		}
		r.Bytes += len(text)
		r.try(ctx, t)
	}
	return r.Report, errors.Join(r.faults...)
}

func rank(t *mcp.Tool) int {
	if strings.HasPrefix(t.Name, "get") {
		return 1
	}
	return 0
}

type rehearsal struct {
	Report
	client *mcp.ClientSession
	tools  []*mcp.Tool
	keys   map[string]any      // of rows, by the words of a resource
	parts  map[string][]string // the columns of keys, by the same
	faults []error
}

// try calls a function, for each of its resources where it has them as an argument.
func (r *rehearsal) try(ctx context.Context, t *mcp.Tool) {
	if t.Annotations == nil || !t.Annotations.ReadOnlyHint {
		return
	}
	schema, _ := t.InputSchema.(map[string]any)
	properties, _ := schema["properties"].(map[string]any)
	required, _ := schema["required"].([]any)
	resource, _ := properties["resource"].(map[string]any)
	resources, _ := resource["enum"].([]any)
	if resources == nil || t.Name == "describe" {
		resources = []any{nil}
	}
	for _, name := range resources {
		args := map[string]any{}
		if name != nil {
			args["resource"] = name
		}
		for _, need := range required {
			switch need {
			case "resource":
			case "key":
				args["key"] = r.keys[ofKey(t, name)]
			default:
				args[fmt.Sprint(need)] = nil
			}
		}
		if slices.ContainsFunc(sorted(args), func(k string) bool { return args[k] == nil }) {
			r.Left = append(r.Left, strings.TrimSpace(fmt.Sprint(t.Name, " ", orEmpty(name))))
			continue
		}
		if _, ok := properties["limit"]; ok {
			args["limit"] = 1
		}
		r.call(ctx, t, name, args)
	}
}

func orEmpty(v any) any {
	if v == nil {
		return ""
	}
	return v
}

func sorted(m map[string]any) (names []string) {
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// ofKey is under which name the key of a row is kept: the resource, or the words of the
// title of a function.
func ofKey(t *mcp.Tool, resource any) string {
	if resource != nil {
		return fmt.Sprint(resource)
	}
	title := strings.TrimPrefix(strings.TrimPrefix(t.Title, "List "), "Get one of ")
	return title
}

func (r *rehearsal) call(ctx context.Context, t *mcp.Tool, resource any, args map[string]any) {
	result, err := r.client.CallTool(ctx, &mcp.CallToolParams{Name: t.Name, Arguments: args})
	if err != nil {
		r.faults = append(r.faults, fmt.Errorf("calling %s: %w", t.Name, err))
		return
	}
	r.Called++
	if result.IsError {
		text := ""
		if len(result.Content) > 0 {
			if c, ok := result.Content[0].(*mcp.TextContent); ok {
				text = c.Text
			}
		}
		r.faults = append(r.faults, fmt.Errorf("%s %v: %s", t.Name, orEmpty(resource), text))
		return
	}
	content, _ := result.StructuredContent.(map[string]any)
	items, _ := content["items"].([]any)
	if len(items) == 0 || rank(t) > 0 {
		return
	}
	row, _ := items[0].(map[string]any)
	of := ofKey(t, resource)
	var values []any
	for _, name := range r.parts[of] {
		v, ok := row[name]
		if !ok || v == nil {
			return
		}
		values = append(values, v)
	}
	switch len(values) {
	case 0:
	case 1:
		r.keys[of] = values[0]
	default:
		r.keys[of] = values
	}
}

// readKeys reads of which columns the keys of resources are.
func (r *rehearsal) readKeys(ctx context.Context) error {
	for about, err := range r.client.Resources(ctx, nil) {
		if err != nil {
			return fmt.Errorf("listing the resources: %w", err)
		}
		if !strings.HasPrefix(about.URI, "schema:///tables/") {
			continue
		}
		read, err := r.client.ReadResource(ctx, &mcp.ReadResourceParams{URI: about.URI})
		if err != nil {
			return fmt.Errorf("reading %s: %w", about.URI, err)
		}
		var table struct{ Key []string }
		if err := json.Unmarshal([]byte(read.Contents[0].Text), &table); err != nil {
			return fmt.Errorf("reading %s: %w", about.URI, err)
		}
		r.parts[about.Name] = table.Key
		r.parts[strings.ReplaceAll(about.Name, "-", " ")] = table.Key
	}
	return nil
}
