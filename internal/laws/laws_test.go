// Package laws holds the rules of the project's structure to its sources. It has
// nothing but tests.
package laws

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// root is the folder of the module.
const root = "../.."

// source is a file of the tool or the runtime, its tests left out.
type source struct {
	folder, name string // with slashes, below the root
	file         *ast.File
	positions    *token.FileSet
}

func sources(t *testing.T, folders ...string) []source {
	t.Helper()
	var list []source
	positions := token.NewFileSet()
	for _, folder := range folders {
		err := filepath.WalkDir(filepath.Join(root, folder), func(at string, entry fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if entry.IsDir() && entry.Name() == "testdata" {
				return filepath.SkipDir
			}
			if entry.IsDir() || !strings.HasSuffix(at, ".go") || strings.HasSuffix(at, "_test.go") {
				return nil
			}
			file, err := parser.ParseFile(positions, at, nil, parser.SkipObjectResolution)
			if err != nil {
				return err
			}
			below, err := filepath.Rel(root, at)
			below = filepath.ToSlash(below)
			list = append(list, source{path.Dir(below), path.Base(below), file, positions})
			return err
		})
		require.NoError(t, err)
	}
	require.Greater(t, len(list), 20)
	return list
}

// engineName is a word that only one engine goes by.
var engineName = regexp.MustCompile(`(?i)postgres|mysql|mariadb|sqlite|pgx|innodb`)

// rooms are the folders that know an engine, and those of tests.
var rooms = regexp.MustCompile(`^(internal/engine/(postgres|mysql|sqlite)(/.*)?|gate/(postgres|mysql|sqlite)(/.*)?|internal/engine/registry|internal/testdb(/.*)?|internal/laws)$`)

// named are the places in a file that name an engine. What commands say of
// themselves is documentation, and so are comments.
func named(s source) []string {
	var list []string
	add := func(pos token.Pos, text string) {
		list = append(list, fmt.Sprintf("%s: %s", strings.TrimPrefix(filepath.ToSlash(s.positions.Position(pos).String()), root+"/"), text))
	}
	ast.Inspect(s.file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.KeyValueExpr:
			if key, ok := n.Key.(*ast.Ident); ok && slices.Contains([]string{"Example", "Long"}, key.Name) {
				return false
			}
		case *ast.ValueSpec:
			return !strings.HasSuffix(n.Names[0].Name, "Help")
		case *ast.Ident:
			if engineName.MatchString(n.Name) {
				add(n.Pos(), n.Name)
			}
		case *ast.BasicLit:
			if n.Kind == token.STRING && engineName.MatchString(n.Value) {
				add(n.Pos(), n.Value)
			}
		}
		return true
	})
	return list
}

// TestEnginesKeepToTheirRooms finds the names of engines outside of the folders
// that are theirs.
func TestEnginesKeepToTheirRooms(t *testing.T) {
	found := []string{}
	inside := 0
	for _, s := range sources(t, "internal", "cmd", "gate") {
		if rooms.MatchString(s.folder) {
			inside += len(named(s))
			continue
		}
		found = append(found, named(s)...)
	}
	assert.Empty(t, strings.Join(found, "\n"))
	assert.Greater(t, inside, 100, "the test finds names where they belong")
}

// layers are the packages from the lowest up. A package imports none of a later line.
var layers = []string{
	"gate gate/... internal/fault internal/secret internal/printable internal/parallel internal/rooted internal/words",
	"internal/sqltext",
	"internal/catalog",
	"internal/sqltext/... internal/migration",
	"internal/engine",
	"internal/engine/postgres/... internal/engine/mysql/... internal/engine/sqlite/...",
	"internal/engine/postgres internal/engine/mysql internal/engine/sqlite",
	"internal/engine/registry",
	"internal/project internal/sqlquery",
	"internal/read internal/gomodule",
	"internal/rollout internal/model",
	"internal/render internal/render/... internal/merge internal/gocheck internal/tscheck",
	"internal/apply internal/impact",
	"internal/generate internal/preview internal/rehearse",
	"internal/cli",
	"cmd/...",
}

func layerOf(folder string) int {
	best, length := -1, -1
	for i, line := range layers {
		for _, pattern := range strings.Fields(line) {
			prefix, below := strings.CutSuffix(pattern, "/...")
			if (folder == pattern || below && strings.HasPrefix(folder, prefix+"/")) && len(pattern) > length {
				best, length = i, len(pattern)
			}
		}
	}
	return best
}

// TestImportsPointDown holds each package to the layers.
func TestImportsPointDown(t *testing.T) {
	seen := 0
	for _, s := range sources(t, "internal", "cmd", "gate") {
		if strings.HasPrefix(s.folder, "internal/testdb") {
			continue
		}
		own := layerOf(s.folder)
		if !assert.NotEqual(t, -1, own, "%s is in no layer", s.folder) {
			continue
		}
		for _, i := range s.file.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			require.NoError(t, err)
			to, ours := strings.CutPrefix(name, "widegate/")
			if !ours || strings.HasPrefix(to, "examples/") || strings.HasPrefix(to, "internal/testdb") {
				continue
			}
			seen++
			assert.LessOrEqual(t, layerOf(to), own, "%s/%s imports %s", s.folder, s.name, to)
		}
	}
	assert.Greater(t, seen, 200)
}
