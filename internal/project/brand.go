package project

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"regexp"

	"widegate/internal/fault"
)

var colourForm = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

func (a *API) checkBrand(path string) error {
	if b := a.Brand; b != nil {
		if b.Colour != "" && !colourForm.MatchString(b.Colour) {
			return fault.New("write it as colour: \"#8a4b08\", between quotation marks", "%s: api.brand.colour: %q is no colour", path, b.Colour)
		}
		if b.Icon != "" && iconTypes[filepath.Ext(b.Icon)] == "" {
			return fault.New("name a file that ends in .svg or .png", "%s: api.brand.icon: %q is no icon", path, b.Icon)
		}
	}
	for key, file := range map[string]string{"brand.icon": a.icon(), "formatters": a.Formatters} {
		if file != "" && !filepath.IsLocal(file) {
			return fault.New("put the file into the folder of the project", "%s: api.%s: %q lies outside of the project", path, key, file)
		}
	}
	return nil
}

func (a *API) icon() string {
	if a.Brand == nil {
		return ""
	}
	return a.Brand.Icon
}

var iconTypes = map[string]string{".svg": "image/svg+xml", ".png": "image/png"}

// mostOfIcon is how large the file of an icon may be, which stands in each page.
const mostOfIcon = 64 << 10

// Icon is the icon of the pages as a data URL (RFC 2397); it is empty where there is
// none.
func (p *Project) Icon() (string, error) {
	name := p.API.icon()
	if name == "" {
		return "", nil
	}
	text, err := os.ReadFile(p.Resolve(name))
	if err != nil {
		return "", fault.New("check api.brand.icon", "reading the icon: %w", err)
	}
	if len(text) > mostOfIcon {
		return "", fault.New("take a smaller one", "the icon %s has %d kB; %d are the most", name, len(text)>>10, mostOfIcon>>10)
	}
	return "data:" + iconTypes[filepath.Ext(name)] + ";base64," + base64.StdEncoding.EncodeToString(text), nil
}

// Script is the project's script of formatters; it is nil where there is none.
func (p *Project) Script() ([]byte, error) {
	if p.API.Formatters == "" {
		return nil, nil
	}
	text, err := os.ReadFile(p.Resolve(p.API.Formatters))
	if err != nil {
		return nil, fault.New("check api.formatters", "reading the script of formatters: %w", err)
	}
	return text, nil
}
