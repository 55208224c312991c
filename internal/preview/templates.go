package preview

import (
	"bytes"
	"fmt"
	"html/template"
	"net/http"
	"regexp"
	"strconv"
	"strings"

	"widegate/internal/fault"
	"widegate/internal/model"
)

// Trials run the templates of a project for a page. Nothing is written.
type Trials interface {
	// Names are those of the templates.
	Names() ([]string, error)
	// Try runs a template for a table, or for all where none is named. With diff the
	// texts are differences to what is on disk.
	Try(r *http.Request, name, table string, diff bool) (Trial, error)
}

// Trial is what a template gives.
type Trial struct {
	File  string // of the template
	Text  string // of the template
	Files []Tried
}

// Tried is a file that a template gives.
type Tried struct{ Path, Text string }

// mostTried is how many files a page shows.
const mostTried = 20

// trialPage is what the page sees.
type trialPage struct {
	Trial
	Names   []string
	Tables  []string
	Name    string
	Table   string
	Diff    bool
	Fault   string
	Next    string
	Lines   []sourceLine
	Kept    int // files that are not shown
	Content template.HTML
}

// sourceLine is a line of a template.
type sourceLine struct {
	Number int
	Text   string
	Faulty bool
}

// addTrials adds the page on the templates, and the part of it that is fetched again.
func addTrials(mux *http.ServeMux, page func(title string, content func(r *http.Request) template.HTML) http.HandlerFunc, m *model.Model, trials Trials) {
	mux.HandleFunc("GET /templates", page("Templates", func(r *http.Request) template.HTML {
		p := tryOn(r, m, trials)
		p.Content = executed("trial", p)
		return executed("page", p)
	}))
	mux.HandleFunc("GET /templates/trial", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-store")
		fmt.Fprint(w, executed("trial", tryOn(r, m, trials)))
	})
	mux.HandleFunc("GET /templates.js", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
		fmt.Fprint(w, trialScript)
	})
	mux.HandleFunc("GET /templates.css", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/css; charset=utf-8")
		fmt.Fprint(w, trialStyle)
	})
}

// tryOn runs the template that a request names, or the last: the project's own ones
// come behind the built-in ones.
func tryOn(r *http.Request, m *model.Model, trials Trials) (p trialPage) {
	for _, e := range m.Entities {
		p.Tables = append(p.Tables, e.Table.FullName())
	}
	q := r.URL.Query()
	p.Name, p.Table, p.Diff = q.Get("template"), q.Get("table"), q.Get("diff") != ""
	if p.Table == "" && len(p.Tables) > 0 && q.Get("template") == "" {
		p.Table = p.Tables[0]
	}
	names, err := trials.Names()
	p.Names = names
	if err == nil && p.Name == "" && len(names) > 0 {
		p.Name = names[len(names)-1]
	}
	if p.Name != "" {
		var failed error
		if p.Trial, failed = trials.Try(r, p.Name, p.Table, p.Diff); err == nil {
			err = failed
		}
	}
	if err != nil {
		p.Fault = err.Error()
		p.Next = fault.Next(err)
	}
	if more := len(p.Files) - mostTried; more > 0 {
		p.Files, p.Kept = p.Files[:mostTried], more
	}
	p.number()
	return p
}

// number cuts the template into lines, and marks those that the fault names.
func (p *trialPage) number() {
	faulty := map[int]bool{}
	for _, found := range regexp.MustCompile(regexp.QuoteMeta(p.File)+`:(\d+)`).FindAllStringSubmatch(p.Fault, -1) {
		n, _ := strconv.Atoi(found[1])
		faulty[n] = true
	}
	if p.Text == "" {
		return
	}
	for i, line := range strings.Split(strings.TrimSuffix(p.Text, "\n"), "\n") {
		p.Lines = append(p.Lines, sourceLine{i + 1, line, faulty[i+1]})
	}
}

func executed(name string, data any) template.HTML {
	var b bytes.Buffer
	if err := trialTemplates.ExecuteTemplate(&b, name, data); err != nil {
		return template.HTML(template.HTMLEscapeString(err.Error()))
	}
	return template.HTML(b.String()) //nolint:gosec // made by the templates below, which escape
}

var trialTemplates = template.Must(template.New("").Parse(`
{{- define "page"}}<link rel="stylesheet" href="/templates.css">
<form class="line" method="get" action="/templates"><label>Template <select name="template" data-send>{{range .Names}}<option{{if eq . $.Name}} selected{{end}}>{{.}}</option>{{end}}</select></label>
<label>Table <select name="table" data-send><option value="">all</option>{{range .Tables}}<option{{if eq . $.Table}} selected{{end}}>{{.}}</option>{{end}}</select></label>
<label><input type="checkbox" name="diff" value="1" data-send{{if .Diff}} checked{{end}}> Difference to the disk</label><button>Show</button></form>
<p class="help">What the template gives, now. Save the template, and it is run again. Nothing is written.</p>
<div class="trial" id="trial">{{.Content}}</div>
<script src="/templates.js"></script>
{{end}}
{{- define "trial"}}<section aria-label="The template"><h2>{{or .File "No template"}}</h2><ol class="source">{{range .Lines}}<li{{if .Faulty}} class="faulty-line"{{end}}><code>{{.Text}}</code></li>{{end}}</ol></section>
<section aria-label="What it gives">{{if .Fault}}<h2>It cannot be run</h2><div class="fault" role="alert"><pre>{{.Fault}}</pre>{{with .Next}}<p>Next: {{.}}</p>{{end}}</div>{{end}}
{{- range .Files}}<h2>{{.Path}}</h2><pre class="result">{{or .Text "no difference"}}</pre>{{end}}
{{- if and (not .Fault) (not .Files)}}<h2>Nothing</h2><p>The template gives nothing here: it is for something else, or its condition does not hold.</p>{{end}}
{{- with .Kept}}<p>and {{.}} files more; choose a table to see fewer.</p>{{end}}</section>{{end}}`))

const trialScript = `// The page on templates: it shows what is chosen, and runs the template again when it
// is saved. Without it the button does so.
"use strict";
for (const input of document.querySelectorAll("[data-send]")) input.addEventListener("change", () => input.form.submit());
const trial = document.getElementById("trial");
let shown = trial.innerHTML;
setInterval(async () => {
  if (document.hidden) return;
  try {
    const answer = await fetch("/templates/trial" + location.search);
    const text = answer.ok ? await answer.text() : shown;
    if (text !== shown && !String(getSelection())) { shown = text; trial.innerHTML = text; }
  } catch { /* the preview has ended */ }
}, 1000);
`

const trialStyle = `.trial { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 20px; align-items: start; }
@media (max-width: 900px) { .trial { grid-template-columns: minmax(0, 1fr); } }
.trial h2 { font-size: 1rem; margin: 0 0 8px; overflow-wrap: anywhere; }
.source, .result { background: var(--sheet); border: 1px solid var(--rule); border-radius: 8px; margin: 0 0 18px; padding: 10px 12px; font: .84rem/1.5 ui-monospace, Menlo, Consolas, monospace; overflow: auto; max-height: 76vh; tab-size: 4; }
.result { white-space: pre; }
.source { padding-left: 52px; } .source li::marker { color: var(--soft); } .source code { font: inherit; white-space: pre; }
.faulty-line { background: var(--danger-ground); } .faulty-line code { color: var(--danger); }
.fault { background: var(--danger-ground); border: 1px solid var(--rule); border-radius: 8px; padding: 10px 12px; margin-bottom: 18px; } .fault pre { color: var(--danger); } .fault p { margin: 8px 0 0; }
`
