package tscheck

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/internal/testdb"
)

// clients are two texts of a client: the second has no frames, and one more field that
// a new hive must have.
var before = map[string][]byte{
	"index.ts":          []byte("export * from \"./resources/hive.ts\";\n"),
	"resources/hive.ts": []byte("export interface Hive { id: number; frames: number }\nexport const add = (h: { id: number }) => h;\n"),
}

var after = map[string][]byte{
	"index.ts":          before["index.ts"],
	"resources/hive.ts": []byte("export interface Hive { id: number }\nexport const add = (h: { id: number; name: string }) => h;\n"),
}

func projectWith(t *testing.T, files map[string]string) Client {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		at := filepath.Join(root, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	return Client{Root: root, Folder: "clients/ts", Package: "bees-client"}
}

var web = map[string]string{
	"web/own.ts":                "import type { Hive } from \"../clients/ts/index.ts\";\nexport const f = (h: Hive) => h.frames;\nexport const wrong: number = \"before\";\n",
	"web/built.ts":              "import { add } from \"../clients/ts/dist/index.js\";\nadd({ id: 1 });\n",
	"web/package.ts":            "import type { Hive } from \"bees-client\";\nimport { add } from \"bees-client/hive\";\nexport const g = (h: Hive) => add(h);\n",
	"web/other.ts":              "export const frames = 1;\n",
	"web/node_modules/x.ts":     "import \"bees-client\";\nframes;\n",
	".hidden/x.ts":              "import \"bees-client\";\nframes;\n",
	"clients/ts/index.ts":       "export {};\n",
	"web/notes.md":              "from \"bees-client\" frames\n",
	"web/far/away.ts":           "import type { Hive } from \"../../clients/ts/resources/hive.ts\";\nexport type F = Hive[\"frames\"];\n",
	"elsewhere/clients/ts/x.ts": "import \"./clients/ts\";\n",
}

func TestByTheCompiler(t *testing.T) {
	packages, err := filepath.Abs(filepath.Join("..", "..", "node_modules"))
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(packages, ".bin", "tsc")); err != nil {
		testdb.Missing(t, "the TypeScript compiler is not installed", "run `npm ci`")
	}
	temporary := t.TempDir()
	t.Setenv("TMPDIR", temporary)
	c := projectWith(t, web)
	require.NoError(t, os.Symlink(packages, filepath.Join(c.Root, "node_modules")))
	faults, err := c.Breaks(t.Context(), before, after, nil)
	require.NoError(t, err)
	var told []string
	for _, f := range faults {
		told = append(told, f.File)
		assert.NotContains(t, f.Message, "before", "what was wrong before is not told of")
	}
	assert.ElementsMatch(t, []string{"web/own.ts", "web/built.ts", "web/package.ts", "web/far/away.ts"}, told)
	faults, err = c.Breaks(t.Context(), before, before, nil)
	require.NoError(t, err)
	assert.Empty(t, faults)
	entries, err := filepath.Glob(filepath.Join(temporary, "widegate-typescript-*"))
	require.NoError(t, err)
	assert.Empty(t, entries, "nothing is left behind")
}

func TestByNames(t *testing.T) {
	t.Setenv("PATH", t.TempDir())
	c := projectWith(t, web)
	faults, err := c.Breaks(t.Context(), before, after, []string{"frames"})
	require.NoError(t, err)
	var places []string
	for _, f := range faults {
		places = append(places, f.File)
		assert.Equal(t, 2, f.Line)
		assert.Contains(t, f.Message, "names frames, which a resource has no more")
	}
	assert.Equal(t, []string{"web/far/away.ts", "web/own.ts"}, places)
}

// TestACompilerThatFails has names looked for where the compiler says nothing of use.
func TestACompilerThatFails(t *testing.T) {
	for _, script := range []string{"#!/bin/sh\nexit 1\n", "#!/bin/sh\necho 'tsconfig.json(1,1): error TS5023: Unknown compiler option.'\nexit 1\n", "no program"} {
		c := projectWith(t, web)
		at := filepath.Join(c.Root, "node_modules", ".bin")
		require.NoError(t, os.MkdirAll(at, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(at, "tsc"), []byte(script), 0o755))
		faults, err := c.Breaks(t.Context(), before, after, []string{"frames"})
		require.NoError(t, err)
		assert.Len(t, faults, 2, script)
	}
}

func TestWithoutUsers(t *testing.T) {
	c := projectWith(t, map[string]string{"web/other.ts": "export const frames = 1;\n"})
	faults, err := c.Breaks(t.Context(), before, after, []string{"frames"})
	assert.NoError(t, err)
	assert.Empty(t, faults)
}

// TestManyFiles says so where it did not look at all of them.
func TestManyFiles(t *testing.T) {
	root := t.TempDir()
	for i := range mostFiles + 2 {
		require.NoError(t, os.WriteFile(filepath.Join(root, fmt.Sprintf("f%05d.ts", i)), []byte("export {};\n"), 0o644))
	}
	faults, err := Client{Root: root, Folder: "client", Package: "bees-client"}.Breaks(t.Context(), nil, nil, nil)
	require.NoError(t, err)
	require.Len(t, faults, 1)
	assert.Equal(t, "f05000.ts", faults[0].File)
	assert.Contains(t, faults[0].Message, "were not looked at")
}
