package read

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"time"

	"widegate/internal/engine"
	"widegate/internal/engine/registry"
)

// The engines' own programs, where they are installed: the client that runs a
// script as people do, and the one that prints a schema, which is read by nobody
// here and so tells what this tool does not know.

// run runs the first program of some that is installed.
func run(ctx context.Context, p engine.Program, input []byte) (output string, ran bool, err error) {
	for _, name := range p.Names {
		path, err := exec.LookPath(name)
		if err != nil {
			continue
		}
		cmd := exec.CommandContext(ctx, path, p.Args...)
		cmd.WaitDelay = time.Second
		cmd.Env = append(os.Environ(), p.Environment...)
		cmd.Stdin = bytes.NewReader(input)
		var out, faults bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &faults
		if err := cmd.Run(); err != nil {
			return out.String(), true, fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(faults.String()))
		}
		if text := strings.TrimSpace(faults.String()); strings.Contains(text, "ERROR") || strings.Contains(text, "rror near line") {
			return out.String(), true, fmt.Errorf("%s: %s", name, text)
		}
		return out.String(), true, nil
	}
	return "", false, nil
}

// Shell runs a script in the engine's own client with its default settings.
func (w workspace) Shell(ctx context.Context, text []byte) (ran bool, err error) {
	p, err := w.engine.Shell(w.address)
	if err != nil {
		return false, err
	}
	_, ran, err = run(ctx, p, text)
	return ran, err
}

// Dump gives the schema as the engine's own program prints it, one line for each
// thing, without layout and in no order.
func (w workspace) Dump(ctx context.Context) (lines []string, ran bool, err error) {
	return dump(ctx, w.engine, w.address)
}

// Dump does the same for any database.
func Dump(ctx context.Context, engine, address string) (lines []string, ran bool, err error) {
	e, err := registry.Of(engine)
	if err != nil {
		return nil, false, err
	}
	return dump(ctx, e, address)
}

func dump(ctx context.Context, e engine.Engine, address string) (lines []string, ran bool, err error) {
	if query := e.DumpQuery(); query != "" {
		names, err := namesOf(ctx, e, address, query)
		return DumpLines(strings.Join(names, ";\n") + ";"), err == nil, err
	}
	p, err := e.Dumper(address)
	if err != nil {
		return nil, false, err
	}
	text, ran, err := run(ctx, p, nil)
	if err != nil { // such as a program that is older than the server
		return nil, false, nil
	}
	return DumpLines(text), ran, nil
}

var (
	dumpNoise  = regexp.MustCompile(`(?im)^(--.*|\\.*|/\*.*\*/;?|SET .*|SELECT pg_catalog\..*|DELIMITER .*|(UN)?LOCK TABLES.*|DROP TABLE IF EXISTS.*)$`)
	madeTable  = regexp.MustCompile(`(?is)^CREATE (?:UNLOGGED |TEMPORARY )?TABLE (?:IF NOT EXISTS )?(\S+|"[^"]*") ?\(\s*(.*)\)([^()]*)$`)
	volatiles  = regexp.MustCompile(`(?i) AUTO_INCREMENT=\d+|/\*!\d+ DEFINER=\S+ ?\*/|DEFINER=\S+ `)
	storedWith = regexp.MustCompile(`WITH \([a-z_.]+='[^()]*\)`)
	quoteMarks = strings.NewReplacer(`"`, "", "`", "")
)

// DumpLines takes a dump apart. The columns and constraints of a table are lines
// of their own, for their order is layout.
func DumpLines(text string) []string {
	text = dumpNoise.ReplaceAllString(text, "")
	var lines []string
	for _, statement := range strings.Split(text, ";\n") {
		statement = strings.TrimRight(strings.Join(strings.Fields(volatiles.ReplaceAllString(statement, "")), " "), "; ")
		statement = storedWith.ReplaceAllStringFunc(statement, func(text string) string {
			parts := strings.Split(strings.TrimSuffix(text[len("WITH ("):], ")"), ", ")
			slices.Sort(parts)
			return "WITH [" + strings.Join(parts, " ") + "]"
		})
		if statement == "" {
			continue
		}
		m := madeTable.FindStringSubmatch(statement)
		if m == nil {
			lines = append(lines, quoteMarks.Replace(statement))
			continue
		}
		lines = append(lines, quoteMarks.Replace("CREATE TABLE "+m[1]+" "+strings.TrimSpace(m[3])))
		for _, part := range topLevel(m[2]) {
			lines = append(lines, quoteMarks.Replace(m[1]+": "+part))
		}
	}
	slices.Sort(lines)
	return lines
}

// topLevel cuts at the commas that stand in no parentheses and no literal.
func topLevel(text string) []string {
	var list []string
	depth, from, quoted := 0, 0, false
	for i, r := range text {
		switch {
		case r == '\'':
			quoted = !quoted
		case quoted:
		case r == '(':
			depth++
		case r == ')':
			depth--
		case r == ',' && depth == 0:
			list = append(list, strings.TrimSpace(text[from:i]))
			from = i + 1
		}
	}
	return append(list, strings.TrimSpace(text[from:]))
}
