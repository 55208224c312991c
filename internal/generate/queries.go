package generate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/project"
	"widegate/internal/read"
	"widegate/internal/sqlquery"
)

// readQueries reads the files of named queries. There may be none.
func (plan *Plan) readQueries() error {
	folder := plan.project.Resolve(plan.project.Queries)
	entries, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("reading the named queries: %w", err)
	}
	for _, entry := range entries {
		if entry.IsDir() || !strings.EqualFold(filepath.Ext(entry.Name()), ".sql") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(folder, entry.Name()))
		if err != nil {
			return fmt.Errorf("reading the named queries: %w", err)
		}
		at := path.Join(filepath.ToSlash(plan.project.Queries), entry.Name())
		plan.queries = append(plan.queries, sqlquery.File{Path: at, Text: string(text)})
	}
	return nil
}

// addQueries finds out what the named queries take and give, and adds them to
// the model. All that the schema breaks are reported at once.
func (plan *Plan) addQueries(ctx context.Context, source read.Source) error {
	if len(plan.queries) == 0 {
		plan.ledger.Told = nil
		return nil
	}
	plan.doing("checking the named queries")
	schema, err := plan.Catalog.Encode()
	if err != nil {
		return err
	}
	files := make([][]*sqlquery.Query, len(plan.queries))
	var faults []error
	names := map[string]string{}
	for i, f := range plan.queries {
		queries, wrong := sqlquery.Parse(f, plan.Catalog.Engine)
		faults = append(faults, wrong...)
		for _, q := range queries {
			if other, twice := names[q.Name]; twice {
				faults = append(faults, q.Fault("rename one of them", "another query in %s has this name", other))
			}
			names[q.Name] = f.Path
		}
		files[i] = queries
	}
	if err := together(faults); err != nil {
		return err
	}
	err = plan.analyze(ctx, source, files, schema)
	if err != nil {
		return err
	}
	for i, queries := range files {
		if err := plan.Model.AddQueries(plan.Catalog, plan.queries[i].Path, queries); err != nil {
			return err
		}
	}
	return nil
}

// analyze asks the engine only about what it was not asked before.
func (plan *Plan) analyze(ctx context.Context, source read.Source, files [][]*sqlquery.Query, schema []byte) error {
	try := func(d read.Describer) error {
		engine := &remembering{told: plan.ledger.Told, now: map[string]project.Told{}, schema: schema, engine: d}
		var faults []error
		failed := map[*sqlquery.Query]bool{}
		for _, q := range slices.Concat(files...) {
			if err := q.Analyze(ctx, plan.Catalog, engine); err != nil {
				faults = append(faults, err)
				failed[q] = true
			}
			if engine.missed {
				return errAsk
			}
		}
		plan.ledger.Told = engine.now
		if plan.options.Tolerant {
			plan.Queries = faults
			for i := range files {
				files[i] = slices.DeleteFunc(files[i], func(q *sqlquery.Query) bool { return failed[q] })
			}
			return nil
		}
		return together(faults)
	}
	err := try(nil)
	if !errors.Is(err, errAsk) {
		return err
	}
	return read.WithDescriber(ctx, source, func(d read.Describer) error {
		if d == nil {
			d = noEngine{}
		}
		return try(d)
	})
}

// errAsk says that the engine must be asked.
var errAsk = errors.New("the engine must be asked")

// remembering asks the engine about what is not known yet.
type remembering struct {
	told   map[string]project.Told
	now    map[string]project.Told
	schema []byte
	engine read.Describer // nil where it is not there yet
	missed bool           // it would have been needed
}

func (r *remembering) Describe(ctx context.Context, text string, args int, rows bool) ([]catalog.Type, []catalog.Column, int, error) {
	hash := sha256.New()
	fmt.Fprintf(hash, "%d %d %t\n%s", len(text), args, rows, text)
	hash.Write(r.schema)
	sum := hex.EncodeToString(hash.Sum(nil)[:16])
	if known, ok := r.told[sum]; ok {
		r.now[sum] = known
		return known.Types, known.Columns, -1, nil
	}
	if r.engine == nil {
		r.missed = true
		return nil, nil, -1, errAsk
	}
	types, columns, at, err := r.engine.Describe(ctx, text, args, rows)
	if _, none := r.engine.(noEngine); err == nil && !none {
		r.now[sum] = project.Told{Types: types, Columns: columns}
	}
	return types, columns, at, err
}

// noEngine knows nothing: the schema alone must do.
type noEngine struct{}

func (noEngine) Describe(context.Context, string, int, bool) ([]catalog.Type, []catalog.Column, int, error) {
	return nil, nil, -1, nil
}
func (noEngine) Close() {}

// together makes one error of several, each with its next step.
func together(faults []error) error {
	if len(faults) < 2 {
		return errors.Join(faults...)
	}
	lines := make([]string, len(faults))
	for i, err := range faults {
		lines[i] = "  " + err.Error()
		if next := fault.Next(err); next != "" {
			lines[i] += "\n    next: " + next
		}
	}
	return fault.New("mend them, then run `widegate write` again; nothing was written", "%d named queries do not fit the schema\n%s", len(faults), strings.Join(lines, "\n"))
}
