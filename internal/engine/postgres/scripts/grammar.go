package scripts

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/tetratelabs/wazero"
	"github.com/tetratelabs/wazero/api"
	"github.com/tetratelabs/wazero/experimental"
	"github.com/tetratelabs/wazero/imports/wasi_snapshot_preview1"
	"github.com/wasilibs/go-pgquery/parser"
	"github.com/wasilibs/wazero-helpers/allocator"

	_ "unsafe" // for go:linkname
)

// PostgreSQL's grammar comes as WebAssembly. Compiling it to machine code takes
// seconds and hundreds of megabytes, so that the machine code is kept in the
// user's cache folder. The package that brings the grammar has no way to say
// so; what it keeps to itself is taken from it by name. If a version of it has
// other names, the program does not link.

//go:linkname grammarModule github.com/wasilibs/go-pgquery/internal/wasm.LibPGQuery
var grammarModule []byte

//go:linkname instantiateJumps github.com/wasilibs/go-pgquery/internal/wasix32v1.MustInstantiate
func instantiateJumps(ctx context.Context, r wazero.Runtime)

//go:linkname jumpingContext github.com/wasilibs/go-pgquery/internal/wasix32v1.BackgroundContext
func jumpingContext() context.Context

// A grammar is one instance of the parser. It parses one statement at a time.
type grammar struct {
	memory                         api.Memory
	allocate, release, parse, free api.Function
}

// grammars are the instances that are not in use.
var grammars = sync.Pool{}

// compiled is the runtime with the compiled grammar, which all instances share.
var compiled = sync.OnceValues(func() (*compiledGrammar, error) {
	ctx := context.Background()
	config := wazero.NewRuntimeConfig().WithCompilationCache(machineCode()).WithCoreFeatures(api.CoreFeaturesV2 | experimental.CoreFeaturesThreads)
	r := wazero.NewRuntimeWithConfig(ctx, config)
	if _, err := wasi_snapshot_preview1.Instantiate(ctx, r); err != nil {
		return nil, fmt.Errorf("preparing PostgreSQL's grammar: %w", err)
	}
	instantiateJumps(ctx, r)
	code, err := r.CompileModule(ctx, grammarModule)
	if err != nil {
		return nil, fmt.Errorf("compiling PostgreSQL's grammar: %w", err)
	}
	return &compiledGrammar{r, code}, nil
})

type compiledGrammar struct {
	runtime wazero.Runtime
	code    wazero.CompiledModule
}

// machineCode is the cache of compiled code: a folder that only the user may
// write, else memory.
func machineCode() wazero.CompilationCache {
	if base, err := os.UserCacheDir(); err == nil {
		folder := filepath.Join(base, "widegate", "grammar")
		if os.MkdirAll(folder, 0o700) == nil && onlyOurs(folder) {
			if c, err := wazero.NewCompilationCacheWithDir(folder); err == nil {
				return c
			}
		}
	}
	return wazero.NewCompilationCache()
}

// onlyOurs reports whether nobody else can put code into a folder.
func onlyOurs(folder string) bool {
	info, err := os.Stat(folder)
	return err == nil && info.Mode().Perm()&0o022 == 0
}

// newGrammar makes an instance ready.
func newGrammar() (*grammar, error) {
	c, err := compiled()
	if err != nil {
		return nil, err
	}
	ctx := experimental.WithMemoryAllocator(context.Background(), allocator.NewNonMoving())
	config := wazero.NewModuleConfig().WithName("").WithSysNanotime().WithStartFunctions("_initialize")
	m, err := c.runtime.InstantiateModule(ctx, c.code, config)
	if err != nil {
		return nil, fmt.Errorf("starting PostgreSQL's grammar: %w", err)
	}
	g := &grammar{memory: m.Memory()}
	for name, f := range map[string]*api.Function{"malloc": &g.allocate, "free": &g.release, "pg_query_parse": &g.parse, "pg_query_free_parse_result": &g.free} {
		if *f = m.ExportedFunction(name); *f == nil {
			return nil, fmt.Errorf("starting PostgreSQL's grammar: it has no function %s", name)
		}
	}
	if _, err := m.ExportedFunction("pg_query_init").Call(ctx); err != nil {
		return nil, fmt.Errorf("starting PostgreSQL's grammar: %w", err)
	}
	return g, nil
}

// grammarJSON returns the tree of a text as JSON, or a *parser.Error. An instance
// that breaks down is not used again.
func grammarJSON(text string) (string, error) {
	g, _ := grammars.Get().(*grammar)
	if g == nil {
		var err error
		if g, err = newGrammar(); err != nil {
			return "", err
		}
	}
	tree, err := g.tree(text)
	var refused *parser.Error
	if err == nil || errors.As(err, &refused) {
		grammars.Put(g)
	}
	return tree, err
}

// resultSize is that of PgQueryParseResult: a tree, standard error and an error,
// each a pointer of 32 bits.
const resultSize = 12

func (g *grammar) tree(text string) (string, error) {
	ctx := jumpingContext()
	if strings.IndexByte(text, 0) >= 0 {
		return "", &parser.Error{Message: "the statement holds a zero byte"}
	}
	at, err := g.allocate.Call(ctx, uint64(resultSize+len(text)+1))
	if err != nil {
		return "", err
	}
	defer g.release.Call(ctx, at[0])
	result := uint32(at[0])
	if !g.memory.WriteString(result+resultSize, text+"\x00") {
		return "", errOutside
	}
	if _, err := g.parse.Call(ctx, uint64(result), uint64(result+resultSize)); err != nil {
		return "", err
	}
	defer g.free.Call(ctx, uint64(result))
	fields, ok := g.memory.Read(result, resultSize)
	if !ok {
		return "", errOutside
	}
	if fault := binary.LittleEndian.Uint32(fields[8:]); fault != 0 {
		return "", g.fault(fault)
	}
	return g.text(result)
}

var errOutside = errors.New("PostgreSQL's grammar gave a place outside its memory")

// fault reads a PgQueryError: message, function, file, line, place, context.
func (g *grammar) fault(at uint32) error {
	message, err := g.text(at)
	if err != nil {
		return err
	}
	place, ok := g.memory.ReadUint32Le(at + 16)
	if !ok {
		return errOutside
	}
	return &parser.Error{Message: message, Cursorpos: int(place)}
}

// text reads the C string that the pointer at a place leads to.
func (g *grammar) text(at uint32) (string, error) {
	from, ok := g.memory.ReadUint32Le(at)
	if !ok {
		return "", errOutside
	}
	if from == 0 {
		return "", nil
	}
	rest, ok := g.memory.Read(from, g.memory.Size()-from)
	if !ok {
		return "", errOutside
	}
	for end, b := range rest {
		if b == 0 {
			return string(rest[:end]), nil
		}
	}
	return "", errOutside
}
