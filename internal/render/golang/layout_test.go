package golang

import (
	"go/format"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/model"
	"widegate/internal/project"
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
	again, err := renderFrom(m, target, last)
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
	again, err = renderFrom(m, target, last)
	require.NoError(t, err)
	for i, f := range again {
		assert.Equal(t, string(first[i].Text), string(f.Text))
	}
}
