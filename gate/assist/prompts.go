package assist

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// blank is a place in a prompt that is filled in: {{hive}}.
var blank = regexp.MustCompile(`\{\{\s*([a-z][a-z0-9_]*)\s*\}\}`)

// Prompts are prompts for frequent jobs, one for each file *.md of a folder: its name is
// that of the file, its title the first line behind "# ", and what stands in {{double
// braces}} is an argument. A folder that is not there has none.
func Prompts(folder fs.FS) (func(server *mcp.Server), error) {
	names, err := fs.Glob(folder, "*.md")
	if err != nil {
		return nil, fmt.Errorf("looking for prompts: %w", err)
	}
	texts := map[string]string{}
	for _, name := range names {
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return nil, fmt.Errorf("reading the prompt %s: %w", name, err)
		}
		texts[name] = string(text)
	}
	return func(server *mcp.Server) {
		for _, name := range names {
			addPrompt(server, strings.TrimSuffix(path.Base(name), ".md"), texts[name])
		}
	}, nil
}

func addPrompt(server *mcp.Server, name, text string) {
	p := &mcp.Prompt{Name: name, Title: name}
	if first, rest, _ := strings.Cut(text, "\n"); strings.HasPrefix(first, "# ") {
		p.Title, text = strings.TrimSpace(first[2:]), strings.TrimSpace(rest)
	}
	p.Description = p.Title
	for _, m := range blank.FindAllStringSubmatch(text, -1) {
		if !slices.ContainsFunc(p.Arguments, func(a *mcp.PromptArgument) bool { return a.Name == m[1] }) {
			p.Arguments = append(p.Arguments, &mcp.PromptArgument{Name: m[1], Required: true})
		}
	}
	server.AddPrompt(p, func(_ context.Context, req *mcp.GetPromptRequest) (*mcp.GetPromptResult, error) {
		for _, a := range p.Arguments {
			if req.Params.Arguments[a.Name] == "" {
				return nil, fmt.Errorf("the prompt %s wants %s", name, a.Name)
			}
		}
		filled := blank.ReplaceAllStringFunc(text, func(place string) string {
			return req.Params.Arguments[blank.FindStringSubmatch(place)[1]]
		})
		return &mcp.GetPromptResult{Description: p.Title, Messages: []*mcp.PromptMessage{{Role: "user", Content: &mcp.TextContent{Text: filled}}}}, nil
	})
}
