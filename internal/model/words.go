package model

import (
	"go/token"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"widegate/internal/project"
	"widegate/internal/rooted"
	"widegate/internal/words"
)

// spelling makes names of words.
type spelling struct{ *words.Lexicon }

// spellings are that of what the ledger remembers, and that of all other names,
// which in a project of an earlier version stays what it was.
func spellings(p *project.Project, names *project.Names) (fresh, steady spelling) {
	fresh = spelling{words.New(p.Words.Initialisms, p.Words.Plurals)}
	if names.Spelling < project.Spelling {
		return fresh, spelling{words.Earlier(p.Words.Initialisms, p.Words.Plurals)}
	}
	return fresh, fresh
}

// exported makes a Go identifier that other packages can use.
func (s spelling) exported(words []string) string {
	name := s.Title(words)
	if first, _ := utf8.DecodeRuneInString(name); !unicode.IsUpper(first) {
		name = "X" + name
	}
	return name
}

// unexported makes an identifier for inside a package, no reserved word.
func (s spelling) unexported(words []string) string {
	if len(words) == 0 {
		return "x"
	}
	name := words[0] + s.Title(words[1:])
	if first, _ := utf8.DecodeRuneInString(name); !unicode.IsLetter(first) {
		name = "x" + name
	}
	if token.IsKeyword(name) || predeclared[name] {
		name += "Row"
	}
	return name
}

// predeclared are names that generated code uses, so that nothing hides them.
var predeclared = map[string]bool{
	"any": true, "string": true, "bool": true, "error": true, "nil": true, "true": true, "false": true, "new": true,
	"make": true, "len": true, "append": true, "int64": true, "int32": true, "int16": true, "float64": true,
	"gate": true, "rest": true, "time": true, "context": true, "http": true, "store": true, "embed": true, "init": true,
}

// kebab joins words for a path. Letters lose their marks there, so that they
// can be typed in an address bar: größe is grosse.
func kebab(words []string) string {
	path := strings.ReplaceAll(strings.Join(words, "-"), "ß", "ss")
	return norm.NFC.String(strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(path)))
}

// snake joins words for a JSON name or a file.
func snake(words []string) string { return strings.Join(words, "_") }

// buildWords are file name endings to which the go command gives a meaning.
var buildWords = []string{
	"test", "aix", "android", "darwin", "dragonfly", "freebsd", "illumos", "ios", "js", "linux", "netbsd",
	"openbsd", "plan9", "solaris", "wasip1", "windows", "unix", "zos", "386", "amd64", "arm", "arm64", "loong64", "mips", "mips64",
	"mips64le", "mipsle", "ppc64", "ppc64le", "riscv64", "s390x", "wasm",
}

// longestFile is how many bytes of a name go into that of a file; file systems
// take 255, with what is put before and behind.
const longestFile = 120

// fileName makes the name of a Go file, without its ending, that the go command
// and every file system take.
func fileName(words []string) string {
	name := snake(words)
	for len(name) > longestFile {
		_, size := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-size]
	}
	switch name = strings.TrimRight(name, "_"); {
	case name == "": // the table is called by signs alone; the go command passes over _rows.go
		return "rows"
	case slices.Contains(buildWords, name[strings.LastIndexByte(name, '_')+1:]), rooted.Check(name+".go") != nil:
		return name + "_rows"
	}
	return name
}

// A namespace hands out names, each once.
type namespace struct {
	taken map[string]bool
	fold  bool // names that differ only in case clash too, as in file names
}

func newNamespace(reserved ...string) *namespace {
	n := &namespace{taken: map[string]bool{}}
	for _, r := range reserved {
		n.taken[r] = true
	}
	return n
}

func (n *namespace) key(name string) string {
	if n.fold {
		return strings.ToLower(name)
	}
	return name
}

// free reports whether none of the names is taken.
func (n *namespace) free(names ...string) bool {
	return !slices.ContainsFunc(names, func(name string) bool { return n.taken[n.key(name)] })
}

// reserve takes names where all of them are free, and reports whether they
// were.
func (n *namespace) reserve(names ...string) bool {
	if !n.free(names...) {
		return false
	}
	for _, name := range names {
		n.taken[n.key(name)] = true
	}
	return true
}

// give returns the first of the candidates that is free, else the last one
// with the lowest number behind it that is.
func (n *namespace) give(candidates ...string) string {
	for _, c := range candidates {
		if n.reserve(c) {
			return c
		}
	}
	last := candidates[len(candidates)-1]
	for i := 2; ; i++ {
		if name := last + strconv.Itoa(i); n.reserve(name) {
			return name
		}
	}
}
