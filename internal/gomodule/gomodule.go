// Package gomodule prepares the Go module that generated code goes into: it
// finds or makes the go.mod and adds what the code requires.
package gomodule

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"
	"golang.org/x/mod/semver"

	"widegate/internal/fault"
	"widegate/internal/rooted"
)

// Module is a Go module on disk.
type Module struct {
	file string // its go.mod
	path string // of the folder that was asked for, inside the module
	root string // the path of the module
}

// Find returns the module that folder lies in.
func Find(folder string) (*Module, error) {
	start, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	for at := start; ; at = filepath.Dir(at) {
		file := filepath.Join(at, "go.mod")
		_, err := os.Lstat(file)
		if errors.Is(err, fs.ErrNotExist) {
			if at == filepath.Dir(at) {
				return nil, fault.New("make one with `go mod init NAME`", "%s is in no Go module", folder)
			}
			continue
		}
		text, err := readIn(at)
		if err != nil {
			return nil, fmt.Errorf("reading go.mod: %w", err)
		}
		name := modfile.ModulePath(text)
		if name == "" {
			return nil, fault.New("give it a line `module NAME`", "%s names no module", file)
		}
		if err := module.CheckImportPath(name); err != nil {
			return nil, fault.New("name it as in `module example.com/bees`", "%s: %q cannot be the path of a module", file, name)
		}
		below, err := filepath.Rel(at, start)
		if err != nil {
			return nil, err
		}
		return &Module{file: file, path: path.Join(name, filepath.ToSlash(below)), root: name}, nil
	}
}

// readIn reads the go.mod of a folder; one that is a link is refused.
func readIn(folder string) ([]byte, error) {
	at, err := rooted.Open(folder)
	if err != nil {
		return nil, err
	}
	defer at.Close()
	return at.Read("go.mod")
}

func writeIn(folder string, text []byte) error {
	at, err := rooted.Open(folder)
	if err != nil {
		return err
	}
	defer at.Close()
	return at.Write("go.mod", text, 0o644)
}

// Named is a module that is on no disk, for code that is only looked at.
func Named(path string) *Module { return &Module{path: path, root: path} }

// Path is the import path of the folder that was asked for.
func (m *Module) Path() string { return m.path }

// Root is the path of the module itself.
func (m *Module) Root() string { return m.root }

// Place returns the folder of the module, and where in it a file is, as a slash
// path.
func (m *Module) Place(file string) (root, below string, err error) {
	root = filepath.Dir(m.file)
	full, err := filepath.Abs(file)
	if err != nil {
		return "", "", err
	}
	below, err = filepath.Rel(root, full)
	return root, filepath.ToSlash(below), err
}

// Sources reads the Go files of the module at root, by slash path, as the go command
// finds them: without vendored and hidden folders and other modules in it.
func Sources(root string) (map[string]string, error) {
	texts := map[string]string{}
	err := filepath.WalkDir(root, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		name := entry.Name()
		if entry.IsDir() {
			if at != root && (strings.HasPrefix(name, ".") || strings.HasPrefix(name, "_") || name == "testdata" || name == "vendor" || name == "node_modules") {
				return filepath.SkipDir
			}
			if _, err := os.Lstat(filepath.Join(at, "go.mod")); err == nil && at != root {
				return filepath.SkipDir // another module
			}
			return nil
		}
		if !strings.HasSuffix(name, ".go") || !entry.Type().IsRegular() {
			return nil
		}
		below, err := filepath.Rel(root, at)
		if err != nil {
			return err
		}
		text, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		texts[filepath.ToSlash(below)] = string(text)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading the module: %w", err)
	}
	return texts, nil
}

var notInPath = regexp.MustCompile(`[^a-z0-9._~-]+`)

// Make writes a go.mod into folder. An empty name stands for the folder's own.
func Make(folder, name string, own fs.FS) (*Module, error) {
	full, err := filepath.Abs(folder)
	if err != nil {
		return nil, err
	}
	if name == "" {
		name = strings.Trim(notInPath.ReplaceAllString(strings.ToLower(filepath.Base(full)), "-"), "-.")
		if name == "" || name == "widegate" {
			name = "service"
		}
	}
	if err := module.CheckImportPath(name); err != nil {
		return nil, fault.New("give a path such as example.com/bees by --module", "%q cannot be the name of a Go module", name)
	}
	mine, err := parse(own)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(full, "go.mod")
	if err := writeIn(full, fmt.Appendf(nil, "module %s\n\ngo %s\n", name, mine.Go.Version)); err != nil {
		return nil, fmt.Errorf("making go.mod: %w", err)
	}
	return &Module{file: file, path: name, root: name}, nil
}

func parse(own fs.FS) (*modfile.File, error) {
	text, err := fs.ReadFile(own, "go.mod")
	if err != nil {
		return nil, fmt.Errorf("reading the tool's own go.mod: %w", err)
	}
	return modfile.Parse("go.mod", text, nil)
}

// tokens is the module that a service needs that asks for tokens.
const (
	tokens     = "github.com/golang-jwt/jwt/v5"
	assistants = "github.com/modelcontextprotocol/go-sdk"
)

// CheckVersion refuses a module for an older version of the language than the
// generated code needs, which is that of own.
func (m *Module) CheckVersion(own fs.FS) error {
	mine, err := parse(own)
	if err != nil {
		return err
	}
	text, err := readIn(filepath.Dir(m.file))
	if err != nil {
		return fmt.Errorf("reading go.mod: %w", err)
	}
	theirs, err := modfile.ParseLax(m.file, text, nil)
	if err != nil {
		return fault.New("change the file to what `go mod edit -json` can read", "go.mod cannot be read: %w", err)
	}
	version := "1.16" // which the go command takes a file without one for
	if theirs.Go != nil {
		version = theirs.Go.Version
	}
	if semver.Compare("v"+version, "v"+mine.Go.Version) >= 0 || semver.MajorMinor("v"+version) == semver.MajorMinor("v"+mine.Go.Version) {
		return nil
	}
	return fault.New("raise it by `go mod edit -go="+mine.Go.Version+"`", "%s is for Go %s, and the generated code needs Go %s", m.file, version, mine.Go.Version)
}

// Needs are what a service needs besides the driver of its database.
type Needs struct {
	Tokens bool // it asks for tokens
	Assist bool // it offers functions to assistants
}

// Require adds a driver, and what a service needs, in the versions that own says the
// runtime is tested with, unless the module has them in these versions or later ones. It
// reports whether go.mod changed.
func (m *Module) Require(driver string, needs Needs, own fs.FS) (bool, error) {
	mine, err := parse(own)
	if err != nil {
		return false, err
	}
	text, err := readIn(filepath.Dir(m.file))
	if err != nil {
		return false, fmt.Errorf("reading go.mod: %w", err)
	}
	theirs, err := modfile.Parse(m.file, text, nil)
	if err != nil {
		return false, fault.New("mend the file", "go.mod cannot be read: %w", err)
	}
	names := []string{driver}
	if needs.Tokens {
		names = append(names, tokens)
	}
	if needs.Assist {
		names = append(names, assistants)
	}
	changed := false
	for _, name := range names {
		wanted := requirement(mine, name)
		if has := requirement(theirs, name); has != "" && semver.Compare(has, wanted) >= 0 {
			continue
		}
		if err := theirs.AddRequire(name, wanted); err != nil {
			return false, fmt.Errorf("adding a requirement to go.mod: %w", err)
		}
		changed = true
	}
	if !changed {
		return false, nil
	}
	theirs.Cleanup()
	clean, err := theirs.Format()
	if err != nil || bytes.Equal(clean, text) {
		return false, err
	}
	if err := writeIn(filepath.Dir(m.file), clean); err != nil {
		return false, fmt.Errorf("writing go.mod: %w", err)
	}
	return true, nil
}

func requirement(f *modfile.File, name string) string {
	for _, r := range f.Require {
		if r.Mod.Path == name {
			return r.Mod.Version
		}
	}
	return ""
}

// ErrNoToolchain says that there is no go command.
var ErrNoToolchain = errors.New("there is no go command on the path")

// Tidy completes go.mod and go.sum by the go command.
func (m *Module) Tidy(ctx context.Context) error {
	cmd, err := Command(ctx, filepath.Dir(m.file), "mod", "tidy")
	if err != nil {
		return err
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("go mod tidy: %w\n%s", err, bytes.TrimSpace(out))
	}
	home, err := rooted.Open(filepath.Dir(m.file))
	if err != nil {
		return err
	}
	defer home.Close()
	for _, name := range []string{"go.mod", "go.sum"} {
		if err := home.Own(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Build builds a program. It tells how many of the packages that were not built
// before are done.
func Build(ctx context.Context, folder, program, target string, progress func(done, all int)) error {
	list, err := Command(ctx, folder, "list", "-deps", "-f", "{{if .Stale}}.{{end}}", target)
	if err != nil {
		return err
	}
	stale, err := list.Output()
	if err != nil && ctx.Err() != nil {
		return ctx.Err()
	}
	all := bytes.Count(stale, []byte("."))
	build, err := Command(ctx, folder, "build", "-v", "-buildvcs=false", "-o", program, target)
	if err != nil {
		return err
	}
	build.Env = append(build.Env, "CGO_ENABLED=0") // as this program was, which shares what is the same
	out := &buildLog{tell: func(done int) { progress(min(done, all), all) }}
	build.Stdout, build.Stderr = out, out
	out.tell(0)
	if err := build.Run(); err != nil {
		return fmt.Errorf("%w\n%s", err, bytes.TrimSpace(out.rest.Bytes()))
	}
	return nil
}

// buildLog counts the packages that are named as they are built, and keeps the
// other lines.
type buildLog struct {
	tell func(done int)
	done int
	part []byte
	rest bytes.Buffer
}

var packageLine = regexp.MustCompile(`^[a-z0-9][A-Za-z0-9./~_-]*$`)

func (l *buildLog) Write(text []byte) (int, error) {
	l.part = append(l.part, text...)
	for {
		line, rest, found := bytes.Cut(l.part, []byte("\n"))
		if !found {
			return len(text), nil
		}
		if packageLine.Match(line) {
			l.done++
			l.tell(l.done)
		} else {
			l.rest.Write(append(line, '\n'))
		}
		l.part = rest
	}
}

// Command is the go command in a folder. The folder may be somebody else's: a
// line of its go.mod makes the command load and run no other toolchain, unless
// the developer's environment says so.
func Command(ctx context.Context, folder string, args ...string) (*exec.Cmd, error) {
	goCommand, err := exec.LookPath("go")
	if err != nil {
		return nil, ErrNoToolchain
	}
	cmd := exec.CommandContext(ctx, goCommand, args...)
	cmd.Dir = folder
	cmd.Env = os.Environ()
	if os.Getenv("GOTOOLCHAIN") == "" {
		cmd.Env = append(cmd.Env, "GOTOOLCHAIN=local")
	}
	cmd.WaitDelay = time.Second
	return cmd, nil
}
