package read

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"widegate/internal/catalog"
	"widegate/internal/engine/registry"
	"widegate/internal/sqltext"
)

// Cache keeps what scripts gave, by their content, so that parsing them is
// paid once. It is only ever a help: whatever goes wrong with it, the scripts
// are read again.
type Cache struct {
	Folder  string // empty: nothing is kept
	Version string // of the program; another one reads scripts anew
}

// most is how many catalogs are kept.
const most = 50

func (k Cache) through(engine string, files []*sqltext.File, schemas []string, do func() (*catalog.Catalog, error)) (*catalog.Catalog, error) {
	if k.Folder == "" {
		return do()
	}
	path := filepath.Join(k.Folder, k.key(engine, files, schemas)+".json")
	if text, err := os.ReadFile(path); err == nil {
		if c, err := catalog.Decode(text, registry.Dialects()); err == nil {
			return c, nil
		}
	}
	c, err := do()
	if err != nil {
		return nil, err
	}
	k.keep(path, c)
	return c, nil
}

func (k Cache) key(engine string, files []*sqltext.File, schemas []string) string {
	h := sha256.New()
	add := func(s string) { fmt.Fprintf(h, "%d:", len(s)); io.WriteString(h, s) }
	add(k.Version)
	add(engine)
	for _, s := range schemas {
		add(s)
	}
	for _, f := range files {
		add(f.Path)
		add(f.Text)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// keep writes beside the place and renames, so that no run reads half of it.
func (k Cache) keep(path string, c *catalog.Catalog) {
	text, err := c.Encode()
	if err != nil || os.MkdirAll(k.Folder, 0o755) != nil {
		return
	}
	f, err := os.CreateTemp(k.Folder, "new-*")
	if err != nil {
		return
	}
	_, err = f.Write(text)
	if closing := f.Close(); err != nil || closing != nil || os.Rename(f.Name(), path) != nil {
		os.Remove(f.Name())
		return
	}
	k.forget()
}

// forget removes the oldest entries above the limit.
func (k Cache) forget() {
	list, err := os.ReadDir(k.Folder)
	if err != nil || len(list) <= most {
		return
	}
	age := func(e os.DirEntry) int64 {
		info, err := e.Info()
		if err != nil {
			return 0
		}
		return info.ModTime().UnixNano()
	}
	slices.SortFunc(list, func(a, b os.DirEntry) int { return cmp.Compare(age(b), age(a)) })
	for _, e := range list[most:] {
		os.Remove(filepath.Join(k.Folder, e.Name()))
	}
}
