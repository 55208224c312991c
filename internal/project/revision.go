package project

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"widegate/internal/catalog"
	"widegate/internal/fault"
	"widegate/internal/sqltext"
)

// Of a repository only what was committed is read. Its own settings, which may
// have come with it, run no programs: no filters, no file system monitor, no
// hooks, and no transport that would fetch what a partial clone lacks.
var (
	quietGit       = []string{"-c", "core.fsmonitor=false", "-c", "core.hooksPath=" + os.DevNull, "-c", "safe.bareRepository=explicit", "--no-pager", "--no-replace-objects"}
	gitEnvironment = []string{"GIT_ALLOW_PROTOCOL=none", "GIT_NO_LAZY_FETCH=1", "GIT_TERMINAL_PROMPT=0", "GIT_OPTIONAL_LOCKS=0"}
)

// Revision is what version control has of a project: its file, and the schema
// and the names of the last write. It knows Git.
func Revision(ctx context.Context, config, revision string, engines []*sqltext.Dialect) (*Project, *Ledger, error) {
	if revision == "" {
		return nil, nil, fault.New("name one, as in @main", "there is no revision behind the @")
	}
	root := filepath.Dir(config)
	show := func(file string) ([]byte, error) {
		cmd := exec.CommandContext(ctx, "git", append(quietGit, "-C", root, "cat-file", "blob", "--end-of-options", revision+":./"+file)...)
		cmd.Env = append(os.Environ(), gitEnvironment...)
		var refused bytes.Buffer
		cmd.Stderr = &refused
		text, err := cmd.Output()
		if errors.Is(err, exec.ErrNotFound) {
			return nil, fault.New("install git, or name a snapshot instead", "a revision can be read only with git")
		}
		if err != nil {
			said, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(refused.String()), "fatal: "), "\n")
			return nil, fault.New("name a revision in which "+file+" is kept, such as main", "reading revision %s: %s", revision, said)
		}
		return text, nil
	}
	l := &Ledger{Folder: (&Project{Root: root, File: config}).Ledger(), Names: *NewNames(), Base: map[string][]byte{}, engines: engines}
	text, err := show(l.Folder + "/" + catalogFile)
	if err != nil {
		return nil, nil, err
	}
	if _, err := catalog.Decode(text, engines); err != nil {
		return nil, nil, fmt.Errorf("revision %s: %w", revision, err)
	}
	l.Record = text
	if text, err = show(l.Folder + "/" + namesFile); err != nil {
		return nil, nil, err
	}
	if err := l.readNames(text); err != nil {
		return nil, nil, fmt.Errorf("revision %s: %s: %w", revision, namesFile, err)
	}
	if text, err = show(filepath.Base(config)); err != nil {
		return nil, nil, err
	}
	p, err := Parse(config, text)
	return p, l, err
}
