package gocheck

import (
	"go/types"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bees is a small module: api uses store, and both have tests.
func bees() map[string]string {
	return map[string]string{
		"store/hive.go":         "package store\n\nimport \"strings\"\n\ntype Hive struct{ Name string }\n\nfunc (h Hive) Up() string { return strings.ToUpper(h.Name) }\n",
		"store/hive_test.go":    "package store\n\nfunc twice(h Hive) string { return h.Up() + h.Up() }\n",
		"store/outside_test.go": "package store_test\n\nimport \"bees/store\"\n\nvar _ = store.Hive{}.Name\n",
		"api/api.go":            "package api\n\nimport \"bees/store\"\n\nfunc Name(h store.Hive) string { return h.Name }\n",
		"other/other.go":        "package other\n\nfunc F() int { return \"no number\" }\n",
		"testdata/broken.go":    "package broken (",
	}
}

func TestWholeModule(t *testing.T) {
	p := New("bees", t.TempDir()).Check(t.Context(), bees(), nil)
	faults := p.Faults()
	require.Len(t, faults, 1)
	assert.Equal(t, "other/other.go", faults[0].File)
	assert.Equal(t, 3, faults[0].Line)
	assert.Contains(t, faults[0].Message, "cannot use")
	assert.NotNil(t, p.Packages["store"].Types.Scope().Lookup("Hive"))
}

func TestBodiesInTheConeOnly(t *testing.T) {
	files := bees()
	files["store/hive.go"] = "package store\n\ntype Hive struct{ Title string }\n"
	p := New("bees", t.TempDir()).Check(t.Context(), files, map[string]bool{"store": true})
	var places []string
	for _, f := range p.Faults() {
		places = append(places, f.File)
	}
	assert.Equal(t, []string{"api/api.go", "store/hive_test.go", "store/hive_test.go", "store/outside_test.go"}, places, "other is not looked into")
	assert.Equal(t, map[string]bool{"store": true, "api": true}, p.Checked())
}

func TestWithoutModulePathAndGoCommand(t *testing.T) {
	files := bees()
	delete(files, "other/other.go")
	files["api/far.go"] = "package api\n\nimport far \"example.com/far/v2\"\nimport \"example.com/go-near/v3\"\n\nvar X = far.Thing(1).Of(near.Y)\n"
	assert.Empty(t, New("", "").Check(t.Context(), files, nil).Faults(), "what cannot be had is taken on trust")
}

func TestFilesThatDoNotParseAndCycles(t *testing.T) {
	p := New("bees", "").Check(t.Context(), map[string]string{
		"a/a.go": "package a\n\nimport \"bees/b\"\n\nvar _ = b.X\n", "b/b.go": "package b\n\nimport \"bees/a\"\n\nvar X = 1\nvar _ a.T\n",
		"c/c.go": "package c\n\nfunc (\n",
	}, nil)
	require.NotEmpty(t, p.Faults())
	assert.Equal(t, "c/c.go", p.Packages["c"].Faults[0].File)
	assert.NotZero(t, p.Packages["c"].Faults[0].Line)
}

func TestBuildConstraints(t *testing.T) {
	p := New("bees", "").Check(t.Context(), map[string]string{
		"a/a.go":          "package a\n\nfunc F() int { return here }\n",
		"a/a_linux.go":    "package a\n\nconst here = 1\n",
		"a/a_windows.go":  "package a\n\nconst here = 2\n",
		"a/a_darwin.go":   "package a\n\nconst here = 3\n",
		"a/never.go":      "//go:build never\n\npackage a\n\nconst here = 4\n",
		"a/a_freebsd.go":  "package a\n\nconst here = 5\n",
		"_hidden/none.go": "package (",
	}, nil)
	assert.Empty(t, p.Faults())
	assert.IsType(t, &types.Const{}, p.Packages["a"].Types.Scope().Lookup("here"))
}
