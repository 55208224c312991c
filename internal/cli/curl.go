package cli

import (
	"fmt"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/model"
	"widegate/internal/project"
)

// showCalls prints a line of curl for each endpoint of the chosen tables, to try
// on a service that runs.
func (a *app) showCalls(c, chosen *catalog.Catalog, p *project.Project) error {
	m, err := a.modelOf(c, p)
	if err != nil {
		return err
	}
	m = m.Seen()
	for i := range chosen.Tables {
		e := m.Entity(chosen.Tables[i].FullName())
		if e == nil {
			a.say("# %s has no endpoints", chosen.Tables[i].FullName())
			continue
		}
		for _, line := range calls(e, "localhost:8080"+m.Base) {
			a.say("%s", line)
		}
	}
	return nil
}

// calls are the endpoints of an entity as lines of curl.
func calls(e *model.Entity, base string) []string {
	all := base + "/" + e.Path
	list := []string{get(all + "?limit=3"), get(all + "/summary?measure=count")}
	if e.Bulk > 0 {
		one := all + "?" + e.Key[0].Column.Name + "=0"
		list = append(list, send("PATCH", quote(one), nil), "curl -X DELETE "+quote(one))
	}
	if e.Verbs != model.ReadOnly {
		list = append(list, send("POST", all, e.Example(nil)))
	}
	if len(e.Key) == 0 {
		return list
	}
	row := all + "/" + e.ExampleKey()
	list = append(list, get(row))
	if e.Verbs == model.Full {
		whole := e.Example(nil)
		list = append(list, send("PATCH", row, changeOf(e, whole)), send("PUT", row, whole))
	}
	for _, f := range e.Contents() {
		content := row + "/" + f.Content.Path
		list = append(list, get(content)+" --output "+f.Content.Path)
		if e.Verbs == model.Full {
			list = append(list, fmt.Sprintf("curl -X PUT %s -H 'Content-Type: %s' --data-binary @%s", content, exampleMedia(f), f.Content.Path))
		}
	}
	for _, r := range e.Relations {
		under := row + "/" + r.Path
		list = append(list, get(under))
		if r.Reverse() && r.To.Verbs != model.ReadOnly {
			list = append(list, send("POST", under, r.To.Example(r.Given())))
		}
		if r.Linkable() {
			other := under + "/" + r.To.ExampleKey()
			list = append(list, "curl -X PUT "+other, "curl -X DELETE "+other)
		}
	}
	if e.Verbs == model.Full {
		list = append(list, "curl -X DELETE "+row)
	}
	return list
}

// exampleMedia is a media type that a binary column takes.
func exampleMedia(f *model.Field) string {
	switch m := f.Content.Media; {
	case m == "":
		return "application/octet-stream"
	case strings.HasSuffix(m, "/*"):
		return strings.TrimSuffix(m, "*") + "png"
	default:
		return m
	}
}

// changeOf is the first property of a row that can be changed.
func changeOf(e *model.Entity, row []model.Example) []model.Example {
	for i, v := range row {
		if f := e.Field(v.Name); f != nil && !f.InKey {
			return row[i : i+1]
		}
	}
	return nil
}

func get(url string) string {
	if strings.Contains(url, "?") {
		url = quote(url)
	}
	return "curl " + url
}

func send(method, url string, row []model.Example) string {
	var body strings.Builder
	body.WriteByte('{')
	for i, v := range row {
		if i > 0 {
			body.WriteByte(',')
		}
		fmt.Fprintf(&body, "%q:%s", v.Name, v.Value)
	}
	body.WriteByte('}')
	return fmt.Sprintf("curl -X %s %s -H 'Content-Type: application/json' -d %s", method, url, quote(body.String()))
}

// quote is a word of a shell.
func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
