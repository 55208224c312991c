package typecheck

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"text/template"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type keeper struct {
	Name  string
	Hives []*hive
	By    map[string]*hive
	Any   any
	named
}

type named struct{ Nick string }

type hive struct {
	Name string
	Of   *keeper
}

// Title is the name in capitals.
func (h *hive) Title() string { return strings.ToUpper(h.Name) }

// Painted tells a colour apart.
func (h hive) Painted(colour string) bool { return colour == h.Name }

var functions = map[string]Func{
	"title": {Call: func(h *hive) string { return h.Title() }, Does: "title HIVE"},
	"value": {Call: func(h hive) string { return h.Name }, Does: "value HIVE"},
	"text":  {Call: strings.ToUpper, Does: "text TEXT"},
}

// cases are templates on a keeper; says is empty for those that are sound.
var cases = []struct{ text, says string }{
	{"{{.Name}} {{.Nick}} {{len .Hives}} {{range .Hives}}{{.Name}} {{.Title}} {{.Of.Name}} {{title .}} {{value .}}{{end}}", ""},
	{"{{range $name, $h := .By}}{{$name}} {{$h.Name}}{{else}}{{.Name}}{{end}} {{.By.any.Name}} {{.Any.Whatever}}", ""},
	{"{{with $h := index .Hives 0}}{{$h.Title}}{{else}}{{.Name}}{{end}}", ""},
	{"{{if and .Name (gt (len .Hives) 2)}}{{printf \"%d\" 1}}{{end}}{{$x := .Name}}{{$x = .Nick}}{{text $x}}", ""},
	{"{{define \"h\"}}{{.Title}}{{end}}{{range .Hives}}{{template \"h\" .}}{{end}}", ""},
	{"{{.hidden}}", "keeper has no hidden"},
	{"{{.Nam}}", "x:1:2: keeper has no Nam; did you mean Name?"},
	{"{{range .Hives}}{{.Titel}}{{end}}", "hive has no Titel"},
	{"{{.Name.Title}}", ".Name is a text, and has no Title"},
	{"{{text .Hives}}", "value 1 of text is a list of hive, and must be a text"},
	{"{{title .Name}}", "value 1 of title is a text, and must be hive"},
	{"{{range .By}}{{.Nmae}}{{end}}", "hive has no Nmae; did you mean Name?"},
	{"{{range .Name}}{{end}}", "there is nothing to range over: .Name is a text"},
	{"{{if false}}{{else if .Nope}}{{end}}", "keeper has no Nope"},
	{"{{with .Hives}}{{else}}{{.Nope}}{{end}}", "keeper has no Nope"},
	{"{{define \"h\"}}{{.Nope}}{{end}}{{range .Hives}}{{template \"h\" .}}{{end}}", "hive has no Nope"},
	{"{{template \"h\" .}}", "there is no block h"},
	{"{{.Name | .Nick}}", ".Nick is no function, and takes no values"},
	{"{{.Hives}}", ".Hives cannot be printed: it is a list of hive"},
	{"{{.}}", ". cannot be printed: it is keeper"},
	{"{{len .}}", "keeper has no length"},
	{"{{text}}", "text takes 1 values, and has 0"},
}

func check(text string) (faults []error, parsed bool) {
	set, err := template.New("x").Funcs(FuncMap(functions)).Parse(text)
	if err != nil {
		return nil, false
	}
	c := &Checker{Set: set, Funcs: functions, At: func(name, line, column string) string { return name + ":" + line + column }}
	return c.Check("x", reflect.TypeFor[*keeper]()), true
}

func TestCheck(t *testing.T) {
	for _, c := range cases {
		faults, parsed := check(c.text)
		require.True(t, parsed, c.text)
		if c.says == "" {
			assert.Empty(t, faults, c.text)
			continue
		}
		require.Len(t, faults, 1, c.text)
		assert.Contains(t, faults[0].Error(), c.says, c.text)
	}
}

// FuzzCheck holds the check to the run: a template that is sound fails only for what
// the data have not.
func FuzzCheck(f *testing.F) {
	for _, c := range cases {
		f.Add(c.text)
	}
	one := &keeper{Name: "a", Any: map[string]string{}}
	one.Hives = []*hive{{Name: "b", Of: one}}
	one.By = map[string]*hive{"c": one.Hives[0]}
	f.Fuzz(func(t *testing.T, text string) {
		for _, word := range []string{"template", "block"} { // which may take until they are stopped
			if strings.Contains(text, word) {
				return
			}
		}
		for _, word := range []string{"Any", "index", "slice", "and", "or", "call"} { // which are known only in the run
			if strings.Contains(text, word) {
				return
			}
		}
		faults, parsed := check(text)
		if !parsed || len(faults) > 0 {
			return
		}
		set := template.Must(template.New("x").Funcs(FuncMap(functions)).Parse(text))
		if err := set.Execute(&strings.Builder{}, one); err != nil {
			assert.NotContains(t, err.Error(), "can't evaluate field", text)
			assert.NotContains(t, err.Error(), "is not a field of struct type", text)
		}
	})
}

func TestGuide(t *testing.T) {
	views := Reached(reflect.TypeFor[keeper](), "widegate/internal/render/typecheck")
	assert.Equal(t, "[typecheck.keeper typecheck.hive typecheck.named]", fmt.Sprint(views))
	about, err := Comments("package typecheck\n\ntype hive struct {\n\tName string // painted on it\n}\n\n// Title is loud. It is.\nfunc (h *hive) Title() string { return \"\" }\n")
	require.NoError(t, err)
	lines := Guide{Views: views, About: about, Sample: &keeper{Name: "a", Hives: []*hive{{Name: "b"}}}, Funcs: functions}.Lines()
	said := map[string]Line{}
	for _, l := range lines {
		said[l.Of+l.Name] = l
	}
	assert.Equal(t, Line{Of: "hive", Name: ".Name", Type: "a text", About: "painted on it", Example: "b"}, said["hive.Name"])
	assert.Equal(t, Line{Of: "hive", Name: ".Title", Type: "a text", About: "Title is loud."}, said["hive.Title"])
	assert.Equal(t, "(1)", said["keeper.Hives"].Example)
	assert.NotContains(t, said, "keeper.hidden")
	assert.Equal(t, "title HIVE", said["functiontitle"].About)
}
