// Package tscheck finds what a new client in TypeScript breaks in the code that uses
// it: by the TypeScript compiler where a project has one, else by names.
//
// Both clients are compiled with copies of the files that use them, in a folder of
// their own; nothing of the project is changed.
package tscheck

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Fault is a place that does not compile with the new client, or may not.
type Fault struct {
	File    string // below the project, with slashes
	Line    int
	Message string
}

// Client is a client of a project.
type Client struct {
	Root    string // folder of the project
	Folder  string // of the client, below it, with slashes
	Package string // its name
}

// The bounds of what is looked at.
const (
	mostFiles = 5_000 // in TypeScript
	mostBytes = 32 << 20
	mostTime  = 2 * time.Minute
)

// Breaks compares two texts of the client, by their paths below its folder. gone are
// names that the new one has no more: they are looked for where there is no compiler.
func (c Client) Breaks(ctx context.Context, before, after map[string][]byte, gone []string) (faults []Fault, err error) {
	files, left, err := c.sources()
	if err != nil {
		return nil, err
	}
	if faults, err = c.breaksIn(ctx, files, before, after, gone); err == nil && left != "" {
		faults = append(faults, Fault{File: left, Line: 1, Message: fmt.Sprintf("this file and those behind it were not looked at: there are more than %d, or than %d MB", mostFiles, mostBytes>>20)})
	}
	return faults, err
}

// breaksIn is Breaks for the code in some files.
func (c Client) breaksIn(ctx context.Context, files, before, after map[string][]byte, gone []string) (faults []Fault, err error) {
	users := c.users(files)
	if len(users) == 0 {
		return nil, nil
	}
	compiler := c.compiler()
	if compiler == "" {
		return byNames(files, users, gone), nil
	}
	was, err := c.compile(ctx, compiler, files, users, before)
	if err != nil {
		return byNames(files, users, gone), nil // what is wrong with the compiler stops nobody's write
	}
	now, err := c.compile(ctx, compiler, files, users, after)
	if err != nil {
		return byNames(files, users, gone), nil
	}
	known := map[string]int{}
	for _, f := range was {
		known[f.File+"\x00"+f.Message]++
	}
	for _, f := range now {
		if key := f.File + "\x00" + f.Message; known[key] > 0 {
			known[key]--
			continue
		}
		faults = append(faults, f)
	}
	return faults, nil
}

// endings are those of files in TypeScript.
var endings = []string{".ts", ".tsx", ".mts", ".cts"}

// sources are the files in TypeScript of the project, but for those of the client and
// of packages.
// left is the first file for which there was no room; empty for none.
func (c Client) sources() (files map[string][]byte, left string, err error) {
	files = map[string][]byte{}
	size := 0
	err = filepath.WalkDir(c.Root, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		below, err := filepath.Rel(c.Root, at)
		if err != nil {
			return err
		}
		below = filepath.ToSlash(below)
		if entry.IsDir() {
			if below != "." && (strings.HasPrefix(entry.Name(), ".") || entry.Name() == "node_modules" || below == c.Folder) {
				return fs.SkipDir
			}
			return nil
		}
		if !entry.Type().IsRegular() || !slices.Contains(endings, path.Ext(below)) {
			return nil
		}
		text, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		if size += len(text); len(files) == mostFiles || size > mostBytes {
			left = below
			return fs.SkipAll
		}
		files[below] = text
		return nil
	})
	if err != nil {
		return nil, "", fmt.Errorf("looking for code that uses the client: %w", err)
	}
	return files, left, nil
}

var imported = regexp.MustCompile(`(?:from|import)\s*\(?\s*["']([^"'\n]+)["']`)

// users are the files that import the client.
func (c Client) users(files map[string][]byte) []string {
	var users []string
	for name, text := range files {
		for _, m := range imported.FindAllSubmatch(text, -1) {
			spec := string(m[1])
			if strings.HasPrefix(spec, ".") {
				spec = path.Join(path.Dir(name), spec)
			}
			if spec == c.Folder || strings.HasPrefix(spec, c.Folder+"/") || spec == c.Package || strings.HasPrefix(spec, c.Package+"/") {
				users = append(users, name)
				break
			}
		}
	}
	slices.Sort(users)
	return users
}

// compiler is the TypeScript compiler of the project or of its client; empty for none.
func (c Client) compiler() string {
	for _, folder := range []string{"", c.Folder} {
		at := filepath.Join(c.Root, filepath.FromSlash(folder), "node_modules", ".bin", "tsc")
		if _, err := os.Stat(at); err == nil {
			return at
		}
	}
	at, err := exec.LookPath("tsc")
	if err != nil {
		return ""
	}
	return at
}

// compile compiles the files that use a client with it.
func (c Client) compile(ctx context.Context, compiler string, files map[string][]byte, users []string, client map[string][]byte) ([]Fault, error) {
	folder, err := os.MkdirTemp("", "widegate-typescript-")
	if err != nil {
		return nil, fmt.Errorf("making a folder for the compiler: %w", err)
	}
	defer os.RemoveAll(folder)
	if err := c.lay(folder, files, users, client); err != nil {
		return nil, fmt.Errorf("copying files for the compiler: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, mostTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, compiler, "--pretty", "false", "-p", "widegate-tsconfig.json")
	cmd.Dir = folder
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	var ended *exec.ExitError
	if err != nil && (!errors.As(err, &ended) || ctx.Err() != nil) {
		return nil, fmt.Errorf("running %s: %w", compiler, err)
	}
	if err != nil && !anyPlace.MatchString(out.String()) {
		return nil, fmt.Errorf("running %s: %w: %s", compiler, err, out.String())
	}
	return faultsOf(out.String(), users), nil
}

// lay puts the files and a client into a folder, with the packages of the project.
func (c Client) lay(folder string, files map[string][]byte, users []string, client map[string][]byte) error {
	put := func(name string, text []byte) error {
		at := filepath.Join(folder, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		return os.WriteFile(at, text, 0o644)
	}
	for name, text := range files {
		if err := put(name, text); err != nil {
			return err
		}
	}
	for name, text := range client {
		if err := put(path.Join(c.Folder, name), text); err != nil {
			return err
		}
		if built, ok := strings.CutSuffix(name, ".ts"); ok { // what is imported as it was compiled
			up := strings.Repeat("../", strings.Count(name, "/")+1)
			if err := put(path.Join(c.Folder, "dist", built+".d.ts"), []byte("export * from \""+up+name+"\";\n")); err != nil {
				return err
			}
		}
	}
	options := map[string]any{
		"noEmit": true, "allowImportingTsExtensions": true, "rewriteRelativeImportExtensions": false, "skipLibCheck": true,
		"paths": map[string][]string{c.Package: {"./" + c.Folder + "/index.ts"}, c.Package + "/*": {"./" + c.Folder + "/resources/*.ts"}},
	}
	config := map[string]any{"compilerOptions": options, "files": users}
	if text, err := os.ReadFile(filepath.Join(c.Root, "tsconfig.json")); err == nil {
		if err := put("tsconfig.json", text); err != nil {
			return err
		}
		config["extends"] = "./tsconfig.json"
	} else {
		options["strict"], options["target"], options["module"], options["moduleResolution"] = true, "ES2022", "ESNext", "bundler"
		options["lib"] = []string{"ES2023", "DOM", "DOM.Iterable", "DOM.AsyncIterable"}
	}
	if packages := filepath.Join(c.Root, "node_modules"); isFolder(packages) {
		if err := os.Symlink(packages, filepath.Join(folder, "node_modules")); err != nil {
			return err
		}
	}
	text, err := json.Marshal(config)
	if err != nil {
		return err
	}
	return put("widegate-tsconfig.json", text)
}

func isFolder(at string) bool {
	info, err := os.Stat(at)
	return err == nil && info.IsDir()
}

// anyPlace is in what a compiler says that has read files.
var anyPlace = regexp.MustCompile(`(?m)^[^\s(][^(]*\.[cm]?tsx?\(\d+,\d+\): error TS`)

var place = regexp.MustCompile(`^([^\s(][^(]*)\((\d+),\d+\): error (TS\d+: .*)$`)

// faultsOf are those that the compiler names in the files that use the client, with the
// first line of each message.
func faultsOf(out string, users []string) (faults []Fault) {
	for line := range strings.Lines(out) {
		m := place.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
		if m == nil || !slices.Contains(users, filepath.ToSlash(m[1])) {
			continue
		}
		n, _ := strconv.Atoi(m[2])
		_, message, _ := strings.Cut(m[3], ": ")
		faults = append(faults, Fault{File: filepath.ToSlash(m[1]), Line: n, Message: strings.TrimSuffix(message, ".")})
	}
	return faults
}

// byNames finds the lines that have the name of something that is gone.
func byNames(files map[string][]byte, users, gone []string) (faults []Fault) {
	for _, name := range gone {
		word := regexp.MustCompile(`(^|[^\w$])` + regexp.QuoteMeta(name) + `($|[^\w$])`)
		for _, user := range users {
			n := 0
			for line := range bytes.Lines(files[user]) {
				n++
				if word.Match(bytes.TrimRight(line, "\r\n")) {
					faults = append(faults, Fault{File: user, Line: n, Message: fmt.Sprintf("names %s, which a resource has no more; no TypeScript compiler that works was found to tell for sure", name)})
				}
			}
		}
	}
	slices.SortFunc(faults, func(a, b Fault) int {
		if a.File != b.File {
			return strings.Compare(a.File, b.File)
		}
		return a.Line - b.Line
	})
	return faults
}
