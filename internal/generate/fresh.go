package generate

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"widegate/internal/project"
	"widegate/internal/render"
	"widegate/internal/rooted"
)

// fingerprint sums up what the texts are made from: the schema, the project
// file with its defaults, the names given, and the tool itself.
func (plan *Plan) fingerprint() error {
	sum := sha256.New()
	bare := *plan.project
	bare.Templates, bare.Settings = nil, nil
	settings, err := json.Marshal(bare)
	if err != nil {
		return fmt.Errorf("summing up the project: %w", err)
	}
	names, err := json.Marshal(plan.ledger.Names)
	if err != nil {
		return fmt.Errorf("summing up the names: %w", err)
	}
	queries, err := json.Marshal(plan.queries)
	if err != nil {
		return fmt.Errorf("summing up the queries: %w", err)
	}
	add := func(parts ...[]byte) string {
		for _, part := range parts {
			fmt.Fprintf(sum, "%d\n", len(part))
			sum.Write(part)
		}
		return hex.EncodeToString(sum.Sum(nil))
	}
	target, err := plan.target() // whose icon and script are files of their own
	if err != nil {
		return err
	}
	plan.schema = add(plan.encoded, settings, names, queries, []byte(plan.module.Path()), tool(), []byte(target.Icon), target.Script)
	own, err := json.Marshal([]any{plan.own, plan.project.Templates, plan.project.Settings})
	if err != nil {
		return fmt.Errorf("summing up the templates: %w", err)
	}
	plan.inputs = add(own)
	return nil
}

// tool tells one build of the tool from another.
func tool() []byte {
	at, err := os.Executable()
	if err != nil {
		return nil
	}
	info, err := os.Stat(at)
	if err != nil {
		return nil
	}
	return fmt.Appendf(nil, "%d %s", info.Size(), info.ModTime())
}

// fresh reports whether nothing that counts has changed since the last write:
// then nothing is rendered, and the decisions are made from the records.
func (plan *Plan) fresh(ctx context.Context) (bool, error) {
	home, err := rooted.Open(plan.home)
	if err != nil {
		return false, err
	}
	defer home.Close()
	known, err := home.Read(plan.freshFile())
	if errors.Is(err, fs.ErrNotExist) || plan.options.Full || len(plan.options.Only)+len(plan.options.BringBack)+len(plan.ledger.Mixed) > 0 {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("reading the fingerprint: %w", err)
	}
	if plan.lookAll(plan.ledger.Written()) != nil {
		clear(plan.disk)
		return false, nil // what is wrong is said when the file is needed
	}
	sum, rest, _ := strings.Cut(string(known), "\n")
	if sum != plan.sum() {
		schema, took, _ := strings.Cut(rest, "\n")
		plan.same, plan.took = schema == plan.schemaSum(), strings.Fields(took)
		clear(plan.disk)
		return false, nil
	}
	if repository := project.OpenRepository(ctx, plan.project.Root); repository != nil && repository.Merging() {
		clear(plan.disk)
		return false, nil
	}
	if slices.ContainsFunc(plan.ledger.Written(), func(name string) bool { return plan.markers(name) > 0 }) {
		clear(plan.disk)
		return false, nil
	}
	for _, name := range plan.ledger.Written() {
		text := plan.ledger.Base[name]
		d := Decision{Path: name, Action: Same, Reason: "nothing changed"}
		switch mine := plan.disk[name].text; {
		case mine == nil:
			d.Action, d.Reason = LeftOut, "you removed it"
		case !bytes.Equal(mine, text) && !plan.starter(name):
			d.Action, d.Reason = Kept, "your edits; the schema does not touch it"
		}
		plan.Decisions = append(plan.Decisions, d)
	}
	return true, nil
}

// sum is the fingerprint with the records: it holds as long as they are those
// of the last write. What the developer edits does not count, since a rendering
// that did not change has nothing to bring in; that a file is gone does.
func (plan *Plan) sum() string {
	sum := sha256.New()
	fmt.Fprintln(sum, plan.inputs)
	there := map[string]bool{} // whether anything of an output is
	for _, name := range plan.ledger.Written() {
		fmt.Fprintf(sum, "%s %d\n", name, len(plan.ledger.Base[name]))
		sum.Write(plan.ledger.Base[name])
		if plan.disk[name].text == nil {
			fmt.Fprintln(sum, "left out") // whether the code builds without it has been seen
		}
		output, _, _ := strings.Cut(name, "/")
		there[output] = there[output] || plan.disk[name].text != nil
	}
	for output, any := range there {
		if !any && output != "cmd" {
			return ""
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// schemaSum is the fingerprint without the project's templates, with the records: while
// it holds, the built-in templates give what they gave.
func (plan *Plan) schemaSum() string {
	sum := sha256.New()
	fmt.Fprintln(sum, plan.schema)
	for _, name := range plan.ledger.Written() {
		if !plan.inOwnFolder(name) {
			fmt.Fprintf(sum, "%s %d\n", name, len(plan.ledger.Base[name]))
			sum.Write(plan.ledger.Base[name])
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// markFresh notes the fingerprint of what was written.
func (plan *Plan) markFresh() error {
	home, err := rooted.Open(plan.home)
	if err != nil {
		return err
	}
	defer home.Close()
	if len(plan.options.Only) > 0 {
		if err := home.Remove(plan.freshFile()); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing the fingerprint: %w", err)
		}
		return nil
	}
	if err := plan.fingerprint(); err != nil { // the names may be others now
		return err
	}
	for name, f := range plan.changed {
		plan.disk[name] = diskFile{text: f}
	}
	taken, _, err := render.TakenOf(plan.own)
	if err != nil {
		return err
	}
	known := plan.sum() + "\n" + plan.schemaSum() + "\n" + strings.Join(slices.Sorted(maps.Keys(taken)), " ")
	if err := home.Write(plan.freshFile(), []byte(known), 0o644); err != nil {
		return fmt.Errorf("noting the fingerprint: %w", err)
	}
	return nil
}

// freshFile is below the root.
func (plan *Plan) freshFile() string { return plan.ledger.Folder + "/" + project.FreshFile }
