package generate

import (
	"os"
	"path/filepath"

	"widegate"
	"widegate/internal/project"
	"widegate/internal/render/golang"
)

// RuntimeVersion is the version of the runtime that a write copies.
func RuntimeVersion() (string, error) { return golang.RuntimeVersion(widegate.Sources) }

// RuntimeOf is the version of the copy that a project has; it is false for a project
// without one. A copy that says no version is an old one.
func RuntimeOf(p *project.Project) (version string, there bool) {
	text, err := os.ReadFile(filepath.Join(p.Resolve(p.Code.Folder), "gate", "doc.go"))
	if err != nil {
		return "", false
	}
	return golang.VersionOfCopy(text), true
}
