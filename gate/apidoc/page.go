package apidoc

import (
	"bytes"
	_ "embed" // for the page
	"fmt"
	"html/template"
)

// Policy lets a page of Page show what is in it, and nothing else.
const Policy = "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

//go:embed page.html
var pageText string

// Page makes a page of a document: the operations of a tag, or those that have
// the words of find in them. It needs no scripts.
func Page(document []byte, tag, find string) ([]byte, error) {
	view, err := NewView(document, tag, find)
	if err != nil {
		return nil, err
	}
	page, err := template.New("").Parse(pageText)
	if err != nil {
		return nil, fmt.Errorf("reading the page of the API: %w", err)
	}
	var b bytes.Buffer
	if err := page.Execute(&b, view); err != nil {
		return nil, fmt.Errorf("making the page of the API: %w", err)
	}
	return b.Bytes(), nil
}
