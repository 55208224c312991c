package store_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"widegate/internal/engine/registry"
	"widegate/internal/testdb/dialects"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/model"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/render"
	"widegate/internal/render/golang"
	"widegate/internal/render/openapi"
)

var update = flag.Bool("update", false, "write the generated store anew")

// TestStoreIsTheGenerated makes sure that what is measured is what is written.
func TestStoreIsTheGenerated(t *testing.T) {
	c, err := read.Read(t.Context(), read.Source{Engine: dialects.Postgres, DDL: []string{"../schema/postgres.sql"}})
	require.NoError(t, err)
	e, err := registry.Of(c.Engine.Name)
	require.NoError(t, err)
	p := project.Default()
	m, err := model.Build(c, p, project.NewNames())
	require.NoError(t, err)
	files, err := golang.Render(m, render.Target{Module: "widegate/bench", StoreFolder: "store", APIFolder: "api", Package: "store", Database: render.Database{Packages: e.Packages(), URLForm: e.URLForm()}})
	require.NoError(t, err)
	files = append(files, render.File{Path: "api/openapi.json", Text: openapi.Render(m, "bench")})
	for _, f := range files {
		if strings.HasPrefix(f.Path, "store/") || strings.HasPrefix(f.Path, "api/") {
			name := "../" + f.Path
			want := strings.ReplaceAll(string(f.Text), "widegate/bench/store/gate", "widegate/gate")
			if *update {
				require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
				require.NoError(t, os.WriteFile(name, []byte(want), 0o644))
			}
			got, err := os.ReadFile(name)
			require.NoError(t, err)
			assert.Equal(t, want, string(got), "go test ./bench/store -update writes it anew")
		}
	}
}
