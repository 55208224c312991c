// Package render is what the renderers share: the files that they make.
package render

// File is a rendered file in memory.
type File struct {
	Path    string // below the project's root, with slashes
	Text    []byte
	Starter bool // written once, then the developer's
}
