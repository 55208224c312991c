package golang

import (
	"go/format"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/render"
)

func TestSameButLayout(t *testing.T) {
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"a  := 1 // x\n", "a := 1 // x\n", true},
		{"\t\ta := 1\n", "a := 1\n", true},
		{"a := 1 \n", "a := 1\n", true},
		{"a := 1\n\n\n\nb()\n", "a := 1\n\nb()\n", true},
		{"a := 1\n \n\t\n b()\n", "a := 1\n\nb()\n", true},
		{"a := 1\nb()\n", "a := 1\n\nb()\n", false},
		{`a := "x  y"`, `a := "x y"`, false},
		{"a := `x  y`", "a := `x y`", false},
		{"// x  y\n", "// x y\n", false},
		{"a := 1 //  x\n", "a := 1 // x\n", false},
		{`a := "\"  y"`, `a := "\" y"`, false},
		{`a := "\\"  + b`, `a := "\\" + b`, true},
		{`a := "\\"`, `a := "\""`, false},
		{`a := "\n"`, `a := "\t"`, false},
		{`a := '\''  + b`, `a := '\'' + b`, true},
		{"a := `x\n  y`", "a := `x\n y`", false},
		{"/* a\n  b */", "/* a\n b */", false},
		{"ab", "a b", false},
		{"", "", true},
		{"a", "", false},
	} {
		assert.Equal(t, c.same, sameButLayout([]byte(c.a), []byte(c.b)), "%s / %s", c.a, c.b)
		assert.Equal(t, c.same, sameButLayout([]byte(c.b), []byte(c.a)), "%s / %s", c.b, c.a)
	}
}

// FuzzSameButLayout holds that texts which are the same but for their layout have the
// same layout.
func FuzzSameButLayout(f *testing.F) {
	f.Add("var a = \"x\"  +`y`", " ")
	f.Add("type A struct {\n\tB  string // c\n}", "\t")
	f.Fuzz(func(t *testing.T, code, space string) {
		text := []byte("package p\n\n" + code + "\n")
		laidOut, err := format.Source(text)
		if err != nil || strings.Trim(space, " \t") != "" {
			return
		}
		other := []byte(strings.ReplaceAll(string(text), " ", " "+space))
		if !sameButLayout(other, laidOut) {
			return
		}
		again, err := format.Source(other)
		require.NoError(t, err)
		assert.Equal(t, string(laidOut), string(again))
	})
}

// TestRenderedAgain renders from the texts of the last time, with other layouts, and
// with other columns.
func TestRenderedAgain(t *testing.T) {
	m, err := model.Build(hostileCatalog(), project.Default(), project.NewNames())
	require.NoError(t, err)
	first, err := Render(m, target)
	require.NoError(t, err)
	last := map[string][]byte{}
	for _, f := range first {
		last[f.Path] = f.Text
	}
	again, err := renderFrom(render.Input{Model: m, Target: target, Last: last}, nil)
	require.NoError(t, err)
	taken := 0
	for i, f := range again {
		assert.Equal(t, string(first[i].Text), string(f.Text))
		if len(f.Text) > 0 && &f.Text[0] == &last[f.Path][0] {
			taken++
		}
		last[f.Path] = []byte(strings.Replace(string(f.Text), "a", "b", 1))
	}
	assert.Greater(t, taken, len(first)*3/4, "most texts are laid out already")
	again, err = renderFrom(render.Input{Model: m, Target: target, Last: last}, nil)
	require.NoError(t, err)
	for i, f := range again {
		assert.Equal(t, string(first[i].Text), string(f.Text))
	}
}

// TestTakenTemplates takes all built-in templates, changes nothing, and gets the same.
func TestTakenTemplates(t *testing.T) {
	m, err := model.Build(hostileCatalog(), project.Default(), project.NewNames())
	require.NoError(t, err)
	first, err := Render(m, target)
	require.NoError(t, err)
	list, err := BuiltIn()
	require.NoError(t, err)
	var files []render.Template
	for _, b := range list {
		files = append(files, render.Template{Name: b.Name, File: "templates/" + b.Name + ".tmpl", Text: []byte(b.Taken())})
	}
	again, err := Code{}.Files(render.Input{Model: m, Target: target, Templates: files})
	require.NoError(t, err)
	require.Len(t, again, len(first))
	for i, f := range again {
		assert.Equal(t, first[i].Path, f.Path)
		assert.Equal(t, string(first[i].Text), string(f.Text))
	}
	assert.Len(t, files, 11)

	for name, c := range map[string]struct{ old, now, says string }{
		"a wrong name":       {"{{.Plural}}", "{{.Plurals}}", "Entity has no Plurals; did you mean Plural?"},
		"an open action":     {"{{.Plural}}", "{{.Plural", "templates/entity.go.tmpl:"},
		"no Go":              {"package {{.Package}}", "packages {{.Package}}", "expected ';'"},
		"no mark":            {"is written again", "is mine", "must say that it is written again"},
		"an unknown key":     {"version:", "versoin:", "versoin"},
		"an unknown version": {"version: ", "version: [", "templates/entity.go.tmpl: "},
	} {
		t.Run(name, func(t *testing.T) {
			changed := slices.Clone(files)
			text := strings.Replace(string(changed[1].Text), c.old, c.now, 1)
			require.NotEqual(t, string(changed[1].Text), text)
			changed[1].Text = []byte(text)
			_, err := Code{}.Files(render.Input{Model: m, Target: target, Templates: changed})
			assert.ErrorContains(t, err, c.says)
		})
	}
}
