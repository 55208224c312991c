package read

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Mark is a text that differs when the schema of a source may have changed, and
// costs little to get.
func Mark(ctx context.Context, s Source) (string, error) {
	if err := s.complete(); err != nil {
		return "", err
	}
	switch {
	case s.Snapshot != "":
		return FileMark(s.Snapshot), nil
	case len(s.DDL) > 0:
		var marks []string
		for _, path := range s.DDL {
			marks = append(marks, FileMark(path))
		}
		return strings.Join(marks, " "), nil
	}
	e, err := s.engine()
	if err != nil {
		return "", err
	}
	db, err := e.Open(ctx, s.URL)
	if err != nil {
		return "", err
	}
	defer db.Close()
	marks, err := db.Names(ctx, e.MarkQuery())
	if err != nil {
		return "", fmt.Errorf("looking at the schema: %w", err)
	}
	return strings.Join(slices.Compact(marks), " "), nil
}

// FileMark tells when files were written: one, those of a folder and below it,
// or those of a pattern.
func FileMark(path string) string {
	var marks []string
	files, err := filepath.Glob(path)
	if err != nil || len(files) == 0 {
		files = []string{path}
	}
	for _, root := range files {
		// What cannot be looked at is not there.
		_ = filepath.WalkDir(root, func(at string, entry os.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if info, err := entry.Info(); err == nil && !entry.IsDir() {
				marks = append(marks, fmt.Sprint(at, info.ModTime().UnixNano(), info.Size()))
			}
			return nil
		})
	}
	return strings.Join(marks, " ")
}
